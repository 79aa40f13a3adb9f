// Package sshserver is the small SSH server that the demo starts and that tests use beside OpenSSH's.
//
// It listens on a loopback address only, lets one key in, and serves the SFTP subsystem with the rights of the
// program that runs it. It gives no shell. It is no server to put on a network.
package sshserver

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Server is a server that runs.
type Server struct {
	User        string
	Fingerprint string // of the host key, SHA256:…
	home        string
	listener    net.Listener
	config      *ssh.ServerConfig
	mu          sync.Mutex
	conns       map[net.Conn]bool
	done        sync.WaitGroup
}

// Start starts a server on a free loopback port for one user. It writes the private key with which that user logs in
// to a new file. Where home is not empty it is the folder in which the user has a shell. Close must be called.
func Start(user, identityFile, home string) (*Server, error) {
	_, hostKey, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	hostSigner, err := ssh.NewSignerFromKey(hostKey)
	if err != nil {
		return nil, err
	}
	allowed, err := writeIdentity(identityFile)
	if err != nil {
		return nil, err
	}
	s := &Server{User: user, home: home, Fingerprint: ssh.FingerprintSHA256(hostSigner.PublicKey()),
		conns: map[net.Conn]bool{}}
	s.config = &ssh.ServerConfig{PublicKeyCallback: func(conn ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if conn.User() == user && string(key.Marshal()) == string(allowed.Marshal()) {
			return nil, nil
		}
		return nil, errors.New("not the demo's user and key")
	}}
	s.config.AddHostKey(hostSigner)
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	s.done.Go(s.accept)
	return s, nil
}

func writeIdentity(file string) (ssh.PublicKey, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "demo")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, fmt.Errorf("write identity: %w", err)
	}
	return ssh.NewPublicKey(public)
}

// Port gives the port that it listens on.
func (s *Server) Port() int { return s.listener.Addr().(*net.TCPAddr).Port }

// Close stops listening, cuts every connection, and waits until nothing of the server runs.
func (s *Server) Close() error {
	err := s.listener.Close()
	s.Cut()
	s.done.Wait()
	return err
}

// Cut cuts the connections that are open. New ones are still taken.
func (s *Server) Cut() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for conn := range s.conns {
		conn.Close()
	}
}

func (s *Server) accept() {
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.conns[conn] = true
		s.mu.Unlock()
		s.done.Go(func() {
			s.serve(conn)
			s.mu.Lock()
			delete(s.conns, conn)
			s.mu.Unlock()
		})
	}
}

func (s *Server) serve(conn net.Conn) {
	defer conn.Close()
	secure, channels, requests, err := ssh.NewServerConn(conn, s.config)
	if err != nil {
		return
	}
	defer secure.Close()
	var done sync.WaitGroup
	defer done.Wait()
	done.Go(func() { ssh.DiscardRequests(requests) })
	for offered := range channels {
		if offered.ChannelType() != "session" {
			_ = offered.Reject(ssh.UnknownChannelType, "only sessions") // the connection may be gone: the loop will end
			continue
		}
		channel, requests, err := offered.Accept()
		if err != nil {
			return
		}
		done.Go(func() { s.session(channel, requests) })
	}
}

// session serves the SFTP subsystem and, where the server has a home, a shell. It refuses everything else.
func (s *Server) session(channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for request := range requests {
		var name struct{ Value string }
		if ssh.Unmarshal(request.Payload, &name) != nil {
			name.Value = ""
		}
		isSFTP := request.Type == "subsystem" && name.Value == "sftp"
		isShell := request.Type == "exec" && name.Value == "sh" && s.home != ""
		if err := request.Reply(isSFTP || isShell, nil); err != nil || !isSFTP && !isShell {
			continue
		}
		go ssh.DiscardRequests(requests) // ends with the channel
		if isShell {
			s.shell(channel)
			return
		}
		server, err := sftp.NewServer(channel)
		if err != nil {
			return
		}
		if err := server.Serve(); err != nil && !errors.Is(err, io.EOF) {
			fmt.Fprintln(channel.Stderr(), err)
		}
		return
	}
}

// shell runs a shell at home, for the user who runs this program.
func (s *Server) shell(channel ssh.Channel) {
	cmd := exec.Command("sh")
	cmd.Dir, cmd.Env = s.home, append(os.Environ(), "HOME="+s.home, "XDG_CACHE_HOME=")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = channel, channel, channel.Stderr()
	status := struct{ Status uint32 }{}
	if err := cmd.Run(); err != nil {
		status.Status = 1
	}
	_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(status)) // the client may be gone
}
