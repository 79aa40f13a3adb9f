package main

import "fmt"

// living measures what people do at a site between deployments, beside the system's own programs over SSH.
func (b *bench) living() (rows []row, err error) {
	url := fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", b.server.user, b.server.port, b.in("site"))
	login := []string{"--identity", b.in("identity"), "--fingerprint", b.server.fingerprint, "--ssh-config", "none"}
	if err := b.site("living", 100_000); err != nil {
		return nil, err
	}
	m, err := b.medians(b.runs,
		func() (sample, error) {
			return b.exec(b.program, append([]string{"find", url, "--name", "*99.html"}, login...)...)
		},
		func() (sample, error) {
			return b.sh("%s find %s -name '*99.html'", b.server.ssh(b.server.port), b.in("site"))
		})
	if err != nil {
		return nil, err
	}
	rows = append(rows, ratioRow("find by name among 100,000 files", "the system's find, over ssh", m[0], m[1], 1.5))

	if err := b.site("wiped", 200_000); err != nil {
		return nil, err
	}
	if _, err := b.sh("cp -a %s %s && cp -a %s %s", b.in("site"), b.in("kept"), b.in(".site.tartine"), b.in(".kept.tartine")); err != nil {
		return nil, err
	}
	again := func() error {
		_, err := b.sh("rm -rf %[1]s %[2]s && cp -a %[3]s %[1]s && cp -a %[4]s %[2]s", b.in("site"), b.in(".site.tartine"), b.in("kept"), b.in(".kept.tartine"))
		return err
	}
	m, err = b.medians(min(b.runs, 3),
		func() (sample, error) {
			if err := again(); err != nil {
				return sample{}, err
			}
			return b.exec(b.program, append([]string{"wipe", url, "--yes-remove", "site"}, login...)...)
		},
		func() (sample, error) {
			if err := again(); err != nil {
				return sample{}, err
			}
			return b.sh("%s rm -rf %s %s", b.server.ssh(b.server.port), b.in("site"), b.in(".site.tartine"))
		})
	if err != nil {
		return nil, err
	}
	return append(rows, ratioRow("wipe of 200,000 files", "rm -rf over ssh", m[0], m[1], 1.1)), nil
}

// site deploys so many pages.
func (b *bench) site(tree string, pages int) error {
	if err := writePages(b.in(tree), b.scaled(pages), 200); err != nil {
		return err
	}
	if err := b.clear(); err != nil {
		return err
	}
	_, err := b.deploy(tree, b.server.port, "ssh")
	return err
}
