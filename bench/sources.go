package main

import (
	"fmt"
	"os"
)

// sources measures what comes from elsewhere than a folder, and what goes into one file.
func (b *bench) sources() (rows []row, err error) {
	if err := writePages(b.in("promoted"), b.scaled(10_000), 5000); err != nil {
		return nil, err
	}
	if err := b.clear(); err != nil {
		return nil, err
	}
	if _, err := b.sh("find %s -exec touch -d '1 hour ago' {} +", b.in("promoted")); err != nil { // nobody promotes what was written a second ago
		return nil, err
	}
	if _, err := b.deploy("promoted", b.server.port, "ssh"); err != nil {
		return nil, err
	}
	second := b.in("second")
	if err := os.MkdirAll(second, 0o755); err != nil {
		return nil, err
	}
	other, err := startServer(second)
	if err != nil {
		return nil, err
	}
	defer other.stop()
	settings := fmt.Sprintf(`content: [{source: promoted}]
targets:
  from: {url: "ssh://%[1]s@127.0.0.1:%[2]d%[3]s/site", identity: %[3]s/identity, host_key: %[4]q}
  beside: {url: "ssh://%[1]s@127.0.0.1:%[2]d%[3]s/to", identity: %[3]s/identity, host_key: %[4]q}
  to: {url: "ssh://%[1]s@127.0.0.1:%[5]d%[3]s/to", identity: %[3]s/second/identity, host_key: %[6]q}
  pack: {url: "archive:%[3]s/site.tar.zst"}
`, b.server.user, b.server.port, b.dir, b.server.fingerprint, other.port, other.fingerprint)
	if err := os.WriteFile(b.in("sources.yaml"), []byte(settings), 0o644); err != nil {
		return nil, err
	}
	fresh := func() error {
		_, err := b.sh("rm -rf %[1]s %[2]s", b.in("to"), b.in(".to.tartine"))
		return err
	}
	promote := func(to string) func() (sample, error) {
		return func() (sample, error) {
			if err := fresh(); err != nil {
				return sample{}, err
			}
			return b.exec(b.program, "promote", "from", to, "--config", b.in("sources.yaml"), "--ssh-config", "none", "--yes", "--quiet")
		}
	}
	m, err := b.medians(b.runs, promote("to"), promote("beside"),
		func() (sample, error) {
			if _, err := b.sh("rm -rf %[1]s && mkdir %[1]s", b.in("piped")); err != nil {
				return sample{}, err
			}
			return b.sh("%s tar -C %s -c . | %s tar -C %s -x", b.server.ssh(b.server.port), b.in("site"), other.ssh(other.port), b.in("piped"))
		},
		func() (sample, error) {
			return b.exec(b.program, "promote", "from", "to", "--config", b.in("sources.yaml"), "--ssh-config", "none", "--yes", "--quiet")
		})
	if err != nil {
		return nil, err
	}
	pipe := "ssh A tar -c | ssh B tar -x"
	rows = append(rows, ratioRow("promote 10,000 files from one server to another", pipe, m[0], m[2], 1.3),
		ratioRow("promote 10,000 files between two folders of a server", pipe, m[1], m[2], 1.3),
		ratioRow("promote 10,000 files, nothing to do", pipe, m[3], m[2], 1.3))
	return b.archives(rows)
}

// archives measures archives as sources and as what is packed.
func (b *bench) archives(rows []row) ([]row, error) {
	if _, err := b.sh("rm -rf %[1]s %[2]s && head -c %[3]d /dev/urandom | split -b 1M -a 4 - %[4]s", b.in("to"), b.in(".to.tartine"), b.scaled(1<<30), b.in("promoted/part-")); err != nil {
		return nil, err
	}
	pack := func() (sample, error) {
		return b.exec(b.program, "pack", "--source", b.in("promoted"), "--output", b.in("site.tar.zst"), "--quiet")
	}
	anew := func() error {
		_, err := b.sh("rm -rf %s %s %s/tartine", b.in("to"), b.in(".to.tartine"), b.in("cache"))
		return err
	}
	deploy := func() (sample, error) {
		return b.exec(b.program, "deploy", "--source", b.in("site.tar.zst"), "--unpack", b.in("to"), "--yes", "--quiet")
	}
	m, err := b.medians(1, pack, func() (sample, error) {
		return b.sh("tar -C %s -c . | zstd -q -f -o %s", b.in("promoted"), b.in("theirs.tar.zst"))
	}, func() (sample, error) {
		if err := anew(); err != nil {
			return sample{}, err
		}
		return deploy()
	}, func() (sample, error) {
		return b.sh("rm -rf %[1]s && mkdir -p %[1]s && zstd -qdc %[2]s | tar -C %[1]s -x && find %[1]s -type f -print0 | xargs -0 sha256sum >/dev/null", b.in("piped"), b.in("theirs.tar.zst"))
	}, deploy, func() (sample, error) { return b.sh("zstd -qdc %s >/dev/null", b.in("theirs.tar.zst")) })
	if err != nil {
		return nil, err
	}
	return append(rows, ratioRow("pack 1 GiB into tar.zst, and read it again", "tar | zstd", m[0], m[1], 0),
		ratioRow("deploy 1 GiB from tar.zst", "zstd | tar, then sha256sum", m[2], m[3], 0),
		ratioRow("deploy 1 GiB from tar.zst, nothing to do", "zstd alone", m[4], m[5], 0)), nil
}
