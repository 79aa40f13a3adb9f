package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"tartine/internal/farend"

	"golang.org/x/crypto/ssh"
)

// Client is a connection on which somebody is logged in.
type Client struct {
	*ssh.Client
	environment []string // NAME=VALUE, of each session
}

// NewSession opens a session with the variables that client settings give it. A server takes those that its own
// settings accept, and does not say which.
func (c *Client) NewSession() (*ssh.Session, error) {
	session, err := c.Client.NewSession()
	if err != nil {
		return nil, err
	}
	for _, variable := range c.environment {
		name, value, _ := strings.Cut(variable, "=")
		if _, err := session.SendRequest("env", false, ssh.Marshal(struct{ Name, Value string }{name, value})); err != nil { // RFC 4254, section 6.4
			session.Close()
			return nil, err
		}
	}
	return session, nil
}

// Exec gives a function that runs commands over a connection, as sftpfs.Exec.
func Exec(client *Client) func(ctx context.Context, command string, stdin io.Reader, stdout io.Writer) error {
	return func(ctx context.Context, command string, stdin io.Reader, stdout io.Writer) error {
		session, err := client.NewSession()
		if err != nil {
			return why(client, err)
		}
		defer session.Close()
		stop := context.AfterFunc(ctx, func() { session.Close() })
		defer stop()
		session.Stdin, session.Stdout = stdin, stdout
		if err := session.Run(command); err != nil {
			return why(client, err)
		}
		return nil
	}
}

// why tells whether a command failed because the connection is gone, or because of the server.
func why(client *Client, err error) error {
	var (
		ended   *ssh.ExitError
		refused *ssh.OpenChannelError
	)
	if !errors.As(err, &ended) && !errors.As(err, &refused) {
		if _, _, dead := client.SendRequest("keepalive@openssh.com", true, nil); dead != nil {
			return fmt.Errorf("%w: %w", farend.ErrLost, err)
		}
	}
	return fmt.Errorf("%w: %w", farend.ErrUnsupported, err)
}
