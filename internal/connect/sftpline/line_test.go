package sftpline_test

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"

	"tartine/internal/connect/sftpline"
)

// serve gives a line to a server, and a client that speaks over it, too.
func serve(t *testing.T) (*sftpline.Line, *sftp.Client) {
	near, far := net.Pipe()
	server, err := sftp.NewServer(far)
	require.NoError(t, err)
	go server.Serve() //nolint:errcheck // it ends with its stream
	line := sftpline.New(near, near)
	client, err := sftp.NewClientPipe(line, line)
	require.NoError(t, err)
	t.Cleanup(func() { client.Close(); server.Close() })
	return line, client
}

func TestRequestsAndAClientShareALine(t *testing.T) {
	line, client := serve(t)
	dir := t.TempDir()
	big := bytes.Repeat([]byte("gannet "), 40_000)
	var working sync.WaitGroup
	for i := range 8 {
		working.Go(func() {
			name := filepath.Join(dir, string(rune('a'+i)))
			for range 20 {
				answers, err := line.Ask(sftpline.Open(name, sftpline.Writing|sftpline.Creating|sftpline.Emptying, 0o640))
				require.NoError(t, err)
				handle, err := answers[0].Handle()
				require.NoError(t, err)
				answers, err = line.Ask(sftpline.Write(handle, 0, []byte("one ")), sftpline.Close(handle), sftpline.SetAttributes(name, 0o600, true, 1, 2))
				require.NoError(t, err)
				for i := range answers {
					require.NoError(t, answers[i].Err())
				}
				line.Tell(sftpline.Lstat(name))
			}
		})
		working.Go(func() {
			name := filepath.Join(dir, string(rune('A'+i)))
			file, err := client.Create(name)
			require.NoError(t, err)
			_, err = file.ReadFrom(bytes.NewReader(big))
			require.NoError(t, err)
			require.NoError(t, file.Close())
		})
	}
	working.Wait()
	for i := range 8 {
		text, err := os.ReadFile(filepath.Join(dir, string(rune('A'+i))))
		require.NoError(t, err)
		require.Equal(t, big, text)
		info, err := os.Stat(filepath.Join(dir, string(rune('a'+i))))
		require.NoError(t, err)
		require.EqualValues(t, 4, info.Size())
		require.EqualValues(t, 2, info.ModTime().Unix())
	}
}

func TestWhoWaitsIsToldThatTheLineEnded(t *testing.T) {
	line, client := serve(t)
	require.NoError(t, client.Close())
	_, err := line.Ask(sftpline.Lstat("/"))
	require.ErrorIs(t, err, sftpline.ErrEnded)
}

// TestAnswersOfNobodysServer has answers that no server gives end the line, and not the program.
func TestAnswersOfNobodysServer(t *testing.T) {
	message := func(length uint32, kind byte, number uint32, rest string) []byte {
		out := append(binary.BigEndian.AppendUint32(nil, length), kind)
		return append(binary.BigEndian.AppendUint32(out, number), rest...)
	}
	const first = 1 << 31
	for what, answer := range map[string]struct {
		bytes []byte
		ends  bool // the line
	}{
		"nobody asked":            {message(5, 101, first+7, ""), true},
		"it is too long":          {message(1<<30, 101, first, ""), true},
		"it ends early":           {message(500, 101, first, "abc"), true},
		"a status of nothing":     {message(5, 101, first, ""), false},
		"a text that is too long": {message(9, 104, first, "\x7f\xff\xff\xff"), false},
		"another kind":            {message(5, 3, first, ""), false},
		"attributes cut short":    {message(9, 105, first, "\x00\x00\x00\x0f"), false},
		"extended for ever":       {message(13, 105, first, "\x80\x00\x00\x00\xff\xff\xff\xff"), false},
	} {
		t.Run(what, func(t *testing.T) {
			near, far := net.Pipe()
			line := sftpline.New(near, near)
			go func() {
				_, _ = far.Read(make([]byte, 1000))
				_, _ = far.Write(answer.bytes)
				far.Close()
			}()
			reading := make(chan struct{})
			go func() {
				defer close(reading)
				_, _ = io.Copy(io.Discard, line)
			}()
			answers, err := line.Ask(sftpline.Lstat("/"))
			<-reading
			if answer.ends {
				require.ErrorIs(t, err, sftpline.ErrEnded)
				return
			}
			require.NoError(t, err)
			_, err = answers[0].Names()
			require.Error(t, err)
			_, err = answers[0].Facts()
			require.Error(t, err)
			_, err = answers[0].Handle()
			require.Error(t, err)
			require.Error(t, answers[0].Err())
		})
	}
}
