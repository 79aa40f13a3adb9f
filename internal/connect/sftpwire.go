package connect

import (
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"

	"github.com/pkg/sftp"

	"golang.org/x/crypto/ssh"
	"tartine/internal/connect/sftpline"
)

// OpenSFTP starts the file transfer of a server: a client, and the connection that it speaks over. Where log is not nil,
// it is told what messages are exchanged.
func OpenSFTP(client *Client, log *slog.Logger) (*sftp.Client, *sftpline.Line, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, nil, err
	}
	if err = session.RequestSubsystem("sftp"); err != nil {
		return nil, nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	sending := io.Writer(in)
	if log != nil {
		out, sending = io.TeeReader(out, &sftpWire{log: log, way: "received"}),
			io.MultiWriter(&sftpWire{log: log, way: "sent"}, in)
	}
	line := sftpline.New(out, &bothClose{in, sending, session})
	transfer, err := sftp.NewClientPipe(line, line, sftp.UseConcurrentWrites(true))
	return transfer, line, err
}

type bothClose struct {
	io.Closer
	io.Writer
	session *ssh.Session
}

func (b *bothClose) Close() error {
	err := b.Closer.Close()
	_ = b.session.Close() // the other way has ended by that
	return err
}

// sftpTypes are the messages of draft-ietf-secsh-filexfer-02, section 3.
var sftpTypes = map[byte]string{1: "init", 2: "version", 3: "open", 4: "close", 5: "read", 6: "write", 7: "lstat",
	8: "fstat", 9: "setstat", 10: "fsetstat", 11: "opendir",
	12: "readdir", 13: "remove", 14: "mkdir", 15: "rmdir", 16: "realpath", 17: "stat", 18: "rename", 19: "readlink",
	20: "symlink", 101: "status", 102: "handle", 103: "data",
	104: "name", 105: "attrs", 200: "extended", 201: "extended reply"}

// sftpWire tells of messages that pass.
type sftpWire struct {
	log  *slog.Logger
	way  string
	head []byte
	skip int // what is left of a message's body
}

// sftpHead is the length, type and number of a message.
const sftpHead = 9

func (s *sftpWire) Write(p []byte) (int, error) {
	length := len(p)
	for len(p) > 0 {
		if s.skip > 0 {
			n := min(s.skip, len(p))
			s.skip, p = s.skip-n, p[n:]
			continue
		}
		n := min(sftpHead-len(s.head), len(p))
		s.head, p = append(s.head, p[:n]...), p[n:]
		if len(s.head) < sftpHead {
			break
		}
		size := int(binary.BigEndian.Uint32(s.head))
		kind, ok := sftpTypes[s.head[4]]
		if !ok {
			kind = fmt.Sprintf("type %d", s.head[4])
		}
		s.log.Debug("SFTP "+s.way, "message", kind, "number", binary.BigEndian.Uint32(s.head[5:]), "bytes", size)
		s.skip, s.head = max(size-(sftpHead-4), 0), s.head[:0]
	}
	return length, nil
}
