#!/bin/sh
# Installs the packages of dist/packages in containers that hold nothing but what installs packages, and uses what came. It also checks the
# manual pages, the checksums, and that the program is the same wherever it is built. Needs Docker, busybox-static, man-db, rpm.
set -eu
cd "$(dirname "$0")/.."
work=$(mktemp -d)
image=tartine-packages-$$
trap 'docker rmi -f $image >/dev/null 2>&1; rm -rf "$work"' EXIT

# with PROGRAM... copies programs and the libraries that they need into the image.
with() {
	for program; do
		path=$(command -v "$program")
		mkdir -p "$work/root$(dirname "$path")"
		cp -L "$path" "$work/root$path"
		ldd "$path" 2>/dev/null | grep -o '/[^ ]*' | while read -r library; do
			mkdir -p "$work/root$(dirname "$library")"
			[ -e "$work/root$library" ] || cp -L "$library" "$work/root$library"
		done
	done
}
mkdir -p "$work/root/bin" "$work/root/tmp" "$work/root/var/lib/dpkg/info" "$work/root/var/lib/dpkg/updates"
cp "$(command -v busybox)" "$work/root/bin/busybox"
for name in sh rm cat ls gunzip zcat find true mkdir ldconfig start-stop-daemon; do ln -s /bin/busybox "$work/root/bin/$name"; done
: >"$work/root/var/lib/dpkg/status"
with dpkg dpkg-deb dpkg-split dpkg-query tar rpm
mkdir -p "$work/root/usr/lib"
cp -r /usr/lib/rpm "$work/root/usr/lib/rpm"
tar -C "$work/root" -c . | docker import - "$image" >/dev/null

uses='tartine version && zcat /usr/share/man/man1/tartine-deploy.1.gz | busybox grep -q "SH EXAMPLES" &&
	busybox test -s /usr/share/bash-completion/completions/tartine -a -s /usr/share/doc/tartine/NOTICES.txt &&
	mkdir -p /tmp/site && echo rock >/tmp/site/index.html && tartine deploy --source /tmp/site /tmp/www && tartine verify /tmp/www'
installed() {
	docker run --rm --network none --volume "$PWD/dist/packages:/packages:ro" "$image" /bin/sh -euc "export PATH=/usr/bin:/bin:/usr/sbin:/sbin; $2 >/dev/null; $uses" >"$work/said" 2>&1 ||
		{ cat "$work/said"; echo "the $1 package does not install"; exit 1; }
	echo "installed the $1 package: $(grep -a ^tartine "$work/said" | head -n 1)"
}
arch=$(dpkg --print-architecture)
installed deb "/usr/bin/dpkg --force-bad-path --install /packages/*_$arch.deb"
case $arch in amd64) machine=x86_64 ;; arm64) machine=aarch64 ;; esac
installed rpm "/usr/bin/rpm --install --nodeps --dbpath /tmp/rpm /packages/*.$machine.rpm"
# There is no installer of apk packages in Debian: they are archives of the same files, with their data behind two other archives.
installed apk "cd / && zcat /packages/*_$machine.apk | /usr/bin/tar -x --ignore-zeros -f -"

for page in dist/man/*.gz; do
	said=$(MANROFFSEQ='' MANWIDTH=80 man --warnings -l "$page" 2>&1 >/dev/null)
	[ -z "$said" ] || { echo "$page: $said"; exit 1; }
done
(cd dist && sha256sum --quiet -c SHA256SUMS)
[ "$(grep -c '"purl"' dist/tartine.cdx.json)" -ge 20 ] || { echo "the bill of materials is short"; exit 1; }

# The same program comes from any folder.
git clone -q . "$work/elsewhere"
for folder in "$PWD" "$work/elsewhere"; do
	(cd "$folder" && CGO_ENABLED=0 go build -trimpath -buildvcs=false -o "$work/program" ./cmd/tartine && sha256sum <"$work/program")
done >"$work/sums"
[ "$(sort -u "$work/sums" | wc -l)" = 1 ] || { echo "the program is another one when it is built elsewhere"; exit 1; }
(cd "$work/elsewhere" && GOBIN="$work/gobin" CGO_ENABLED=0 GOFLAGS=-trimpath go install ./cmd/tartine)
"$work/gobin/tartine" version --format json | grep -q "\"commit\": \"$(git rev-parse --short=7 HEAD)" || { "$work/gobin/tartine" version; echo "go install stamps no commit"; exit 1; }
echo "checked   packages, manual pages, checksums, the bill of materials, and that builds are the same anywhere"
