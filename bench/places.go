package main

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// containers measures a container that runs, beside the engine's own client. Without an engine there are no rows.
func (b *bench) containers() (rows []row, err error) {
	if exec.Command("docker", "info").Run() != nil {
		fmt.Fprintln(os.Stderr, "no container engine answers: containers are not measured")
		return nil, nil
	}
	busybox, err := exec.LookPath("busybox")
	if err != nil {
		return nil, err
	}
	name := "bench-" + strings.ToLower(rand.Text())
	image := b.in("image")
	if _, err := b.sh("mkdir -p %[1]s/bin %[1]s/tmp %[1]s/srv && cp %[2]s %[1]s/bin/busybox && for p in tar sleep rm mkdir; do ln %[1]s/bin/busybox %[1]s/bin/$p; done && tar -C %[1]s -c . | docker import - %[3]s && docker run -d --network none --tmpfs /srv --name %[3]s %[3]s /bin/sleep 100000", image, busybox, name); err != nil {
		return nil, err
	}
	defer func() {
		_ = exec.Command("docker", "rm", "-f", name).Run()
		_ = exec.Command("docker", "rmi", "-f", name).Run()
	}()
	tree := fmt.Sprintf("pages%d", b.scaled(10_000))
	if err := writePages(b.in(tree), b.scaled(10_000), 12<<10); err != nil { // it may be already
		return nil, err
	}
	clear := func() error {
		_, err := b.sh("docker exec %s rm -rf /srv/hand /srv/site /srv/.site.tartine && docker exec %[1]s mkdir /srv/hand", name)
		return err
	}
	emptied := func(run func() (sample, error)) func() (sample, error) {
		return func() (sample, error) {
			if err := clear(); err != nil {
				return sample{}, err
			}
			return run()
		}
	}
	deploy := func(flags ...string) func() (sample, error) {
		return func() (sample, error) {
			return b.exec(b.program, append([]string{"deploy", "container://" + name + "/srv/site", "--source",
				b.in(tree), "--format", "json"}, flags...)...)
		}
	}
	m, err := b.medians(b.runs,
		emptied(func() (sample, error) {
			return b.sh("tar -C %s -cf - . | docker exec -i %s tar -C /srv/hand -xf -", b.in(tree), name)
		}),
		emptied(deploy("--no-cache")), deploy())
	if err != nil {
		return nil, err
	}
	// The engine's archives cannot be seen on a memory disk of the container: these go into its own layer.
	archive, err := b.medians(b.runs, func() (sample, error) {
		if _, err := b.sh("docker exec %s rm -rf /hand && docker exec %[1]s mkdir /hand", name); err != nil {
			return sample{}, err
		}
		return b.sh("tar -C %s -cf - . | docker cp - %s:/hand", b.in(tree), name)
	})
	if err != nil {
		return nil, err
	}
	return []row{ratioRow("first deployment of 10,000 files of 12 KB into a container", "tar through the engine's exec",
		m[1], m[0], 1.1),
		ratioRow("the same", "tar through the engine's archives, onto its disk", m[1], archive[0], 1),
		ratioRow("no-op in a container", "tar through the engine's exec", m[2], m[0], 0.15)}, nil
}

// passivePorts is how many connections for transfers the measured FTP server takes at once.
const passivePorts = 64

// rented measures a rented host over a round trip of 20 ms, with one connection and with several.
func (b *bench) rented() (rows []row, err error) {
	if _, err := os.Stat("/usr/sbin/proftpd"); err != nil || os.Getuid() != 0 {
		fmt.Fprintln(os.Stderr, "no ProFTPD, or not root: rented hosts are not measured")
		return nil, nil
	}
	stop, err := b.startFTP()
	if err != nil {
		return nil, err
	}
	defer stop()
	tree := "rented"
	if err := writePages(b.in(tree), b.scaled(200), 12<<10); err != nil {
		return nil, err
	}
	var one sample
	for _, connections := range []int{1, 4, 8} {
		m, err := b.medians(min(b.runs, 3), func() (sample, error) {
			if _, err := b.sh("rm -rf %[1]s/site %[1]s/.site.tartine", b.in("rentedhome")); err != nil {
				return sample{}, err
			}
			return b.exec(b.program, "deploy", "--config", b.in("rented.yaml"), "--no-cache", "--format", "json",
				"--jobs", fmt.Sprint(connections))
		})
		if err != nil {
			return nil, err
		}
		if connections == 1 {
			one = m[0]
			continue
		}
		rows = append(rows, ratioRow(fmt.Sprintf("200 files of 12 KB over FTP and a round trip of 20 ms, %d connections", connections), "one connection", m[0], one, map[int]float64{4: 0.5, 8: 1.0 / 3}[connections]))
	}
	return rows, nil
}

// startFTP starts ProFTPD, and in front of it delayed lines to its port and to those for transfers.
func (b *bench) startFTP() (stop func(), err error) {
	const (
		behind = "127.0.0.1"
		front  = "127.0.0.2"
		first  = 42100
	)
	home := b.in("rentedhome")
	if err := os.Mkdir(home, 0o755); err != nil {
		return nil, err
	}
	if err := os.Chown(home, 65533, 65533); err != nil {
		return nil, err
	}
	hash, err := exec.Command("perl", "-e", "print crypt('kittiwake', '$6$gannetrock')").Output()
	if err != nil {
		return nil, err
	}
	config := fmt.Sprintf(`ServerName Rock
ServerType standalone
UseIPv6 off
SocketBindTight on
DefaultAddress %s
Port %d
PassivePorts %d %d
User nobody
Group nogroup
AuthOrder mod_auth_file.c
AuthUserFile %s
RequireValidShell off
DefaultRoot ~
PidFile %s
ScoreboardFile none
SystemLog none
WtmpLog off
TransferLog none
DelayEngine off
UseReverseDNS off
AllowOverwrite on
LoadModule mod_digest.c
DigestEngine on
`, behind, first, first+1, first+passivePorts, b.in("passwd"), b.in("ftp.pid"))
	settings := fmt.Sprintf("content: [{source: rented}]\ntargets: {rock: {url: \"ftp://warden@%s:%d/site\", password: {command: [echo, kittiwake]}, insecure: true}}\n", front, first)
	for name, text := range map[string]string{"ftp.conf": config, "rented.yaml": settings,
		"passwd": fmt.Sprintf("warden:%s:65533:65533::%s:/bin/false\n", hash, home)} {
		if err := os.WriteFile(b.in(name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	if err := os.Chmod(filepath.Dir(home), 0o755); err != nil { // the user must get there
		return nil, err
	}
	server := exec.Command("/usr/sbin/proftpd", "--nodaemon", "--quiet", "--config", b.in("ftp.conf"))
	server.Stderr = os.Stderr
	if err := server.Start(); err != nil {
		return nil, err
	}
	var ends []func()
	stop = func() {
		for _, end := range ends {
			end()
		}
		_ = server.Process.Kill() // it may have ended
		_ = server.Wait()
	}
	for at := first; at <= first+passivePorts; at++ {
		l, err := net.Listen("tcp", fmt.Sprintf("%s:%d", front, at))
		if err != nil {
			stop()
			return nil, err
		}
		ends = append(ends, func() { l.Close() })
		go lead(l, fmt.Sprintf("%s:%d", behind, at), 20*time.Millisecond)
	}
	for range 300 {
		if conn, err := net.Dial("tcp", net.JoinHostPort(behind, strconv.Itoa(first))); err == nil {
			conn.Close()
			return stop, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	return nil, errors.New("proftpd does not answer")
}
