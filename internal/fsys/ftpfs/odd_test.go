package ftpfs

import (
	"bufio"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect"
	"tartine/internal/connect/ftpline"
	"tartine/internal/fsys"
)

// odd is a server of the old kind with a few files in one folder. What it says may be scripted: the first reply to a
// command that is in odd is that one, and the command is not carried out.
type odd struct {
	mu    sync.Mutex
	files map[string]string
	odd   map[string]string
	heard []string
}

func startOdd(t *testing.T, replies map[string]string) (*odd, *ftpline.Dialer) {
	t.Helper()
	s := &odd{files: map[string]string{}, odd: replies}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go s.serve(conn)
		}
	}()
	return s, login(l.Addr().(*net.TCPAddr).Port, "")
}

func (s *odd) serve(conn net.Conn) {
	defer conn.Close()
	fmt.Fprint(conn, "220-Gannet Rock\r\n220-  (220 steps up)\r\n220 ready\r\n")
	in := bufio.NewReader(conn)
	var data net.Listener
	from := ""
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		command, name, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		s.mu.Lock()
		s.heard = append(s.heard, command)
		reply, scripted := s.odd[command]
		delete(s.odd, command)
		s.mu.Unlock()
		name = strings.TrimPrefix(strings.TrimPrefix(name, "-a "), "/")
		switch {
		case scripted:
			fmt.Fprint(conn, reply+"\r\n")
			if strings.HasPrefix(reply, "421") {
				return
			}
		case command == "USER":
			fmt.Fprint(conn, "331 and the password\r\n")
		case command == "PASS", command == "TYPE", command == "DELE":
			s.mu.Lock()
			delete(s.files, name)
			s.mu.Unlock()
			fmt.Fprint(conn, map[string]string{"PASS": "230 in", "TYPE": "200 binary", "DELE": "250 gone"}[command]+"\r\n")
		case command == "PASV":
			if data != nil {
				data.Close()
			}
			if data, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
				return
			}
			port := data.Addr().(*net.TCPAddr).Port
			fmt.Fprintf(conn, "227 Entering Passive Mode (10,0,0,7,%d,%d)\r\n", port>>8, port&255) // its address behind the translation
		case command == "LIST", command == "STOR", command == "RETR":
			s.transfer(conn, data, command, name)
		case command == "RNFR":
			from = name
			fmt.Fprint(conn, "350 and to\r\n")
		case command == "RNTO" && from == "":
			fmt.Fprint(conn, "503 from where?\r\n")
		case command == "RNTO":
			s.mu.Lock()
			s.files[name] = s.files[from]
			delete(s.files, from)
			s.mu.Unlock()
			from = ""
			fmt.Fprint(conn, "250 named\r\n")
		default:
			fmt.Fprint(conn, "500 what?\r\n")
		}
	}
}

func (s *odd) stands() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.files)
}

// times tells how often a command came.
func (s *odd) times(command string) (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, heard := range s.heard {
		if heard == command {
			n++
		}
	}
	return n
}

func (s *odd) transfer(conn net.Conn, data net.Listener, command, name string) {
	if data == nil {
		fmt.Fprint(conn, "425 no connection for it\r\n")
		return
	}
	fmt.Fprint(conn, "150 here it comes\r\n")
	line, err := data.Accept()
	if err != nil {
		return
	}
	s.mu.Lock()
	switch command {
	case "LIST":
		fmt.Fprint(line, "total 7\r\n")
		for file, text := range s.files {
			fmt.Fprintf(line, "-rw-r--r--   1 warden wardens %8d May 01 06:30 %s\r\n", len(text), file)
		}
	case "RETR":
		fmt.Fprint(line, s.files[name])
	case "STOR":
		text, _ := io.ReadAll(line)
		s.files[name] = string(text)
	}
	s.mu.Unlock()
	line.Close()
	fmt.Fprint(conn, "226 that was it\r\n")
}

func TestOddReplies(t *testing.T) {
	for what, replies := range map[string]map[string]string{
		"nothing odd, but old":                      {},
		"no room for a connection for transfers":    {"STOR": "425 Can't build data connection"},
		"a transfer that is cut":                    {"STOR": "426 Connection closed; transfer aborted"},
		"a server that goes":                        {"STOR": "421 Idle for too long"},
		"a server that goes while a name is looked": {"LIST": "421 Going down for a moment"},
		"a feature list that begins without spaces": {"FEAT": "211-Features\r\nMDTM\r\n211 End"},
	} {
		t.Run(what, func(t *testing.T) {
			server, dial := startOdd(t, replies)
			f := open(t, dial, "/")
			defer f.Close()
			_, err := f.Create(t.Context(), "fresh", strings.NewReader("gannet"), fsys.Attributes{Mode: 0o644, ModTime: time.Now()})
			require.NoError(t, err)
			require.NoError(t, f.Rename(t.Context(), "fresh", "page.html"))
			require.Equal(t, map[string]string{"page.html": "gannet"}, server.stands())
			file, err := f.Open(t.Context(), "page.html")
			require.NoError(t, err)
			text, err := io.ReadAll(file)
			require.NoError(t, err)
			require.NoError(t, file.Close())
			require.Equal(t, "gannet", string(text))
			_, err = f.Lstat(t.Context(), "missing")
			require.ErrorIs(t, err, fs.ErrNotExist)
		})
	}
	t.Run("one that ends while a connection is made private", func(t *testing.T) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				fmt.Fprint(conn, "220 ready\r\n")
				_, _ = bufio.NewReader(conn).ReadString('\n')
				fmt.Fprint(conn, "234 go on\r\n421 idle for too long\r\n")
				conn.Close()
			}
		}()
		_, err = login(l.Addr().(*net.TCPAddr).Port, "SHA256:"+strings.Repeat("0", 64)).Dial(t.Context())
		require.ErrorIs(t, err, connect.ErrHungUp)
		require.False(t, final(err), "it is tried again")
	})
	t.Run("a reply that does not end", func(t *testing.T) {
		server, dial := startOdd(t, map[string]string{"SITE": "214-" + strings.Repeat("and more\r\n", 1<<18)})
		_, err := dial.Dial(t.Context())
		require.ErrorContains(t, err, "does not end")
		require.LessOrEqual(t, server.times("SITE"), 1)
	})
	t.Run("the first of two commands is refused", func(t *testing.T) {
		server, dial := startOdd(t, map[string]string{"RNFR": "550 not now"})
		f := open(t, dial, "/")
		defer f.Close()
		_, err := f.Create(t.Context(), "fresh", strings.NewReader("gannet"), fsys.Attributes{Mode: 0o644})
		require.NoError(t, err)
		require.Error(t, f.Rename(t.Context(), "fresh", "page.html"))
		_, err = f.Lstat(t.Context(), "page.html") // whose answer is not mistaken for that of the second
		require.ErrorIs(t, err, fs.ErrNotExist)
		require.NoError(t, f.Rename(t.Context(), "fresh", "page.html"))
		require.Equal(t, map[string]string{"page.html": "gannet"}, server.stands())
	})
	t.Run("a quota", func(t *testing.T) {
		server, dial := startOdd(t, map[string]string{"STOR": "552 Exceeded storage allocation"})
		f := open(t, dial, "/")
		defer f.Close()
		_, err := f.Put(t.Context(), "fresh", strings.NewReader("gannet"), fsys.Attributes{Mode: 0o644})
		require.ErrorIs(t, err, ErrNoRoom)
		require.Equal(t, 1, server.times("STOR"), "that is not tried again")
	})
}
