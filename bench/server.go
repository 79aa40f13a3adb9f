package main

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"
)

// server is an OpenSSH server on loopback.
type server struct {
	dir         string
	port        int
	fingerprint string
	user        string
	process     *exec.Cmd
}

func startServer(dir string) (*server, error) {
	s := &server{dir: dir}
	for _, key := range []string{"host", "identity"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			filepath.Join(dir, key)).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("ssh-keygen: %w: %s", err, out)
		}
	}
	out, err := exec.Command("ssh-keygen", "-lf", filepath.Join(dir, "host.pub")).Output()
	if err != nil {
		return nil, err
	}
	s.fingerprint = strings.Fields(string(out))[1]
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	s.user = me.Username
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %[2]s/host\nAuthorizedKeysFile %[2]s/identity.pub\nPidFile none\nUsePAM no\nStrictModes no\nPermitRootLogin prohibit-password\nSubsystem sftp internal-sftp\nSetEnv HOME=%[2]s/home\n", s.port, dir)
	if err := os.MkdirAll(filepath.Join(dir, "home"), 0o755); err != nil { // what a user's shell does as it begins is not measured
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o644); err != nil {
		return nil, err
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		return nil, err
	}
	s.process = exec.Command("/usr/sbin/sshd", "-D", "-f", filepath.Join(dir, "config"))
	if err := s.process.Start(); err != nil {
		return nil, err
	}
	for range 500 {
		if conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", s.port)); err == nil {
			conn.Close()
			return s, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return nil, errors.New("sshd does not answer")
}

func (s *server) stop() {
	_ = s.process.Process.Kill() // it may have ended
	_ = s.process.Wait()
}

// ssh gives the system's client, ready to run a command at a port of the server.
func (s *server) ssh(port int) string {
	return fmt.Sprintf("ssh -q -i %s/identity -p %d -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null %s@127.0.0.1", s.dir, port, s.user)
}

// delayed leads to a port as over a line with a round trip time. Bytes arrive half of it after they were sent, however
// many are on the way.
func delayed(to int, roundTrip time.Duration) (port int, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	go lead(l, fmt.Sprint("127.0.0.1:", to), roundTrip)
	return l.Addr().(*net.TCPAddr).Port, func() { l.Close() }, nil
}

// lead takes connections on to an address.
func lead(l net.Listener, to string, roundTrip time.Duration) {
	for {
		near, err := l.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", to)
		if err != nil {
			near.Close()
			continue
		}
		go carry(far, near, roundTrip/2)
		go carry(near, far, roundTrip/2)
	}
}

type piece struct {
	due  time.Time
	data []byte
}

func carry(to, from net.Conn, delay time.Duration) {
	line := make(chan piece, 1<<14)
	go func() {
		defer close(line)
		for {
			data := make([]byte, 64<<10)
			n, err := from.Read(data)
			if n > 0 {
				line <- piece{time.Now().Add(delay), data[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range line {
		time.Sleep(time.Until(p.due))
		if _, err := to.Write(p.data); err != nil {
			break
		}
	}
	_ = to.(*net.TCPConn).CloseWrite() // the other direction may still be open
	_, _ = io.Copy(io.Discard, from)
}
