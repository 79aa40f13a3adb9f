#!/bin/sh
# Makes all that a release has, in dist/: programs for six systems, manual pages, completion, packages (deb, rpm, apk), what it is made of
# (CycloneDX), the licences of that, checksums, and, with SIGNING_KEY=FILE, a signature of them by ssh-keygen.
set -eu
cd "$(dirname "$0")/.."
: "${VERSION:?is set by make release}" "${COMMIT:?}"
NFPM=github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.43.0
export CGO_ENABLED=0 GOFLAGS=-trimpath

rm -rf dist
mkdir -p dist/completion dist/packages
for os in linux darwin windows; do
	for arch in amd64 arm64; do
		name=dist/tartine-$os-$arch
		[ $os != windows ] || name=$name.exe
		GOOS=$os GOARCH=$arch go build -ldflags "-s -w -X main.version=$VERSION -X main.commit=$COMMIT" -o "$name" ./cmd/tartine
	done
done
own=dist/tartine-$(go env GOOS)-$(go env GOARCH)
go run ./packaging/manpages "$VERSION" dist/man
gzip -9n dist/man/*.1
for shell in bash zsh fish; do "$own" completion $shell >dist/completion/tartine.$shell; done
go run ./packaging/sbom "$own" >dist/tartine.cdx.json
go run ./packaging/sbom -notices "$own" >dist/NOTICES.txt

# Packages know no versions that begin with a letter, as those of a commit may.
plain=${VERSION#v}
case $plain in [0-9]*.*) ;; *) plain=0.0.0~$plain ;; esac
for arch in amd64 arm64; do
	for kind in deb rpm apk; do
		version=$plain
		[ $kind != apk ] || version=$(echo "$plain" | sed 's/[~-].*//')
		ARCH=$arch VERSION=$version PROGRAM=dist/tartine-linux-$arch GOFLAGS= \
			go run $NFPM package --config packaging/nfpm.yaml --packager $kind --target dist/packages/
	done
done
cd dist
find . -type f ! -name SHA256SUMS -printf '%P\n' | LC_ALL=C sort | xargs -d '\n' sha256sum >SHA256SUMS
if [ -n "${SIGNING_KEY:-}" ]; then
	ssh-keygen -q -Y sign -f "$SIGNING_KEY" -n file SHA256SUMS
	echo "signed    dist/SHA256SUMS.sig"
fi
echo "released  tartine $VERSION: $(wc -l <SHA256SUMS) files in dist"
