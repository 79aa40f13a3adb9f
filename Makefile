# make demo    builds Tartine and walks through the full example
# make test    runs all tests; installs the servers that they need where it can
# make build   builds bin/tartine, one static program

GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
COMMIT  ?= $(shell git rev-parse --short HEAD 2>/dev/null || echo unknown)
LDFLAGS  = -s -w -X main.version=$(VERSION) -X main.commit=$(COMMIT)

# Tests write much and sync often: where there is a memory disk they use it.
export TMPDIR ?= $(shell test -w /dev/shm && echo /dev/shm || echo /tmp)

.PHONY: build demo test check cross race screenshots generate fuzz bench clean

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '$(LDFLAGS)' -o bin/tartine ./cmd/tartine

demo: build
	./bin/tartine demo

test: .servers
	$(GO) test ./...

# The tests run against OpenSSH's own server, several login shells and a desktop's keyring. As root on Debian they are installed; elsewhere
# those tests are skipped.
.PHONY: .servers
.servers:
	@if { [ ! -x /usr/sbin/sshd ] || [ ! -x /usr/sbin/proftpd ] || ! command -v secret-tool >/dev/null || ! command -v busybox >/dev/null || ! command -v fish >/dev/null; } && [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then \
		apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends \
			openssh-server gnome-keyring libsecret-tools dbus zsh fish busybox-static proftpd-core proftpd-mod-crypto >/dev/null; fi

check:
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo 'gofmt: the files above are not formatted'; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

# A program with the race detector in it waits for a second when it ends, unless it is told not to.
race: .servers
	GORACE=atexit_sleep_ms=20 CGO_ENABLED=1 $(GO) test -race -short ./...

cross:
	@set -e; for os in linux darwin windows; do for arch in amd64 arm64; do \
		echo "build $$os/$$arch"; \
		CGO_ENABLED=0 GOOS=$$os GOARCH=$$arch $(GO) build -trimpath -ldflags '$(LDFLAGS)' -o dist/tartine-$$os-$$arch ./cmd/tartine; \
	done; done

generate:
	$(GO) generate ./...

fuzz:
	@set -e; for target in ./internal/manifest:FuzzReadListing ./internal/manifest:FuzzReadJSON ./internal/filter:FuzzRule ./internal/config:FuzzParse ./internal/agent:FuzzServer ./internal/agent:FuzzClient; do \
		$(GO) test -run '^$$' -fuzz "^$${target#*:}\$$" -fuzztime $(or $(FUZZTIME),20s) $${target%:*}; done

# Measures the program beside the system's own tools and writes docs/benchmarks.md. Needs GNU time for the last rows.
bench: build .servers
	$(GO) run ./bench -report docs

clean:
	rm -rf bin dist

screenshots:
	scripts/screenshots.sh
