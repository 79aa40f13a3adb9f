# make demo    builds Tartine and walks through the full example
# make test    runs all tests; installs the servers that they need where it can
# make build   builds bin/tartine, one static program

GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
COMMIT  ?= $(shell git rev-parse --short HEAD 2>/dev/null || echo unknown)
LDFLAGS  = -s -w -X main.version=$(VERSION) -X main.commit=$(COMMIT)

# One set of flags for all that is compiled, so that nothing is compiled twice.
export CGO_ENABLED ?= 0
export GOFLAGS     ?= -trimpath

# Tests write much and sync often: where there is a memory disk they use it.
export TMPDIR ?= $(shell test -w /dev/shm && echo /dev/shm || echo /tmp)

.PHONY: build demo test check cross release race screenshots generate fuzz bench mutants recovery clean

build:
	$(GO) build -ldflags '$(LDFLAGS)' -o bin/tartine ./cmd/tartine

demo: build
	./bin/tartine demo

# Many tests wait for servers and clocks: so more packages than processors are tested at once.
test: .servers
	$(GO) test -p 4 -parallel 8 -timeout 12m ./...

# The tests run against OpenSSH's own server, FTP servers of three makes, web servers, several login shells, programs that pack and that raise rights, and a desktop's keyring. As root on Debian
# they are installed; elsewhere those tests are skipped. Debian installs one FTP server at a time, and a web server would start at once: these are
# unpacked into bin/servers.
SERVERS  = openssh-server gnome-keyring libsecret-tools dbus zsh fish tcsh busybox-static proftpd-core proftpd-mod-crypto bzip2 xz-utils zstd apache2-bin sudo opendoas
UNPACKED = vsftpd pure-ftpd nginx

.PHONY: .servers
.servers:
	@[ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null || exit 0; \
	missing=; for program in sshd proftpd secret-tool busybox fish tcsh bzip2 xz zstd apache2 sudo doas; do \
		PATH="$$PATH:/usr/sbin" command -v $$program >/dev/null || missing=yes; done; \
	[ -z "$$missing" ] || { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $(SERVERS) >/dev/null; }; \
	for program in $(UNPACKED); do \
		[ ! -x bin/servers/usr/sbin/$$program ] || continue; \
		mkdir -p bin/servers && (cd bin/servers && { apt-get download -qq $$program || { apt-get update -qq && apt-get download -qq $$program; }; } && \
			dpkg -x $${program}_*.deb . && rm $${program}_*.deb) 2>&1 | { grep -v unsandboxed || true; }; done

check:
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo 'gofmt: the files above are not formatted'; exit 1; }
	$(GO) vet ./...
	GOOS=windows $(GO) vet ./...
	$(GO) tool staticcheck ./...
	cd bench && $(GO) vet . && "$$(cd .. && $(GO) tool -n staticcheck)" .

# A program with the race detector in it waits for a second when it ends, unless it is told not to.
race: .servers
	GORACE=atexit_sleep_ms=20 CGO_ENABLED=1 $(GO) test -p 4 -race -short ./...

cross:
	@set -e; for os in linux darwin windows; do for arch in amd64 arm64; do \
		echo "build $$os/$$arch"; \
		GOOS=$$os GOARCH=$$arch $(GO) build -ldflags '$(LDFLAGS)' -o dist/tartine-$$os-$$arch ./cmd/tartine; \
	done; done

# Programs, packages, manual pages, checksums; SIGNING_KEY=FILE signs them.
release:
	VERSION='$(VERSION)' COMMIT='$(COMMIT)' packaging/release.sh

generate:
	$(GO) generate ./...

fuzz:
	@set -e; for target in ./internal/manifest:FuzzReadListing ./internal/manifest:FuzzReadJSON ./internal/filter:FuzzRule ./internal/config:FuzzParse ./internal/archive:FuzzList ./internal/agent:FuzzServer ./internal/agent:FuzzClient; do \
		$(GO) test -run '^$$' -fuzz "^$${target#*:}\$$" -fuzztime $(or $(FUZZTIME),20s) $${target%:*}; done

# Breaks promises on purpose and expects tests to notice. SINCE=COMMIT tries only what changed since, WITHIN=2m as many as that allows.
mutants: .servers
	$(GO) run ./mutants $(if $(SINCE),-since $(SINCE)) $(if $(WITHIN),-within $(WITHIN))

# Recovery, lost connections and kills over real servers, many more cases than make test tries.
recovery: .servers
	RECOVERY_CASES=$(or $(CASES),500) CUTS=$(or $(CASES),500) KILLS=$(or $(KILLS),100) $(GO) test -count=1 -timeout 60m -run 'TestRecoveryOfAnythingOverSSH|TestCutsAtRandom|TestKilledAnywhere' -v ./cmd/tartine

# Measures the program beside the system's own tools and writes docs/benchmarks.md. Needs GNU time for the last rows.
bench: build .servers
	cd bench && $(GO) build -o ../bin/bench .
	bin/bench -report docs

clean:
	rm -rf bin dist

screenshots:
	scripts/screenshots.sh
