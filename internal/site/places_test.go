package site_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect"
	"tartine/internal/connect/ftpline"
	"tartine/internal/fsys"
	"tartine/internal/fsys/ftpfs"
	"tartine/internal/fsys/sftpfs"
	"tartine/internal/site"
	"tartine/internal/testservers/ftptest"
	"tartine/internal/testservers/sshdtest"
)

// TestRealPlacesFarAwayAreSurveyedInBriefAsWhole deploys to real servers, alters what is there, and deploys a change.
func TestRealPlacesFarAwayAreSurveyedInBriefAsWhole(t *testing.T) {
	type start func(t testing.TB, settings ...string) *ftptest.Server
	ftp := func(start start, settings ...string) func(t *testing.T) (fsys.FS, string) {
		return func(t *testing.T) (fsys.FS, string) {
			server := start(t, settings...)
			dialer := &ftpline.Dialer{Host: "127.0.0.1", Port: server.Port, User: ftptest.User, Password: func() (string, error) { return ftptest.Password, nil }}
			first, err := dialer.Dial(t.Context())
			require.NoError(t, err)
			return ftpfs.New(first, dialer.Dial, "", 4, 10*time.Second), server.Dir
		}
	}
	for name, start := range map[string]func(t *testing.T) (fsys.FS, string){
		"SFTP": func(t *testing.T) (fsys.FS, string) {
			server, dir := sshdtest.Start(t), t.TempDir()
			dial := connect.SSH{Host: "127.0.0.1", Port: server.Port, User: sshdtest.Users(t)[0], Identity: server.Identity, KnownHosts: server.KnownHosts}
			client, err := dial.Dial(t.Context())
			require.NoError(t, err)
			t.Cleanup(func() { client.Close() })
			transfer, line, err := connect.OpenSFTP(client, nil)
			require.NoError(t, err)
			return sftpfs.New(transfer, line, dir, nil), dir
		},
		"ProFTPD":             ftp(ftptest.Start),
		"vsftpd":              ftp(ftptest.StartVsftpd), // its listings tell the minute
		"vsftpd, no modes":    ftp(ftptest.StartVsftpd, "chmod_enable=NO"),
		"pure-ftpd":           ftp(ftptest.StartPure),
		"pure-ftpd, no modes": ftp(ftptest.StartPure, "--nochmod"),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f, dir := start(t)
			t.Cleanup(func() { f.Close() })
			w := newWorld(t)
			w.dir, w.at, w.far = dir, f, true
			c := tree{"index.html": "1", "css/a.css": "a", "css/deep/b.css": "b", "cgi/tide.sh": "!sh", "log/may.html": "may"}
			w.mustDeploy(c, func(p *site.Plan) {
				for i := range p.Want {
					p.Want[i].ModTime = p.Want[i].ModTime.Add(123456789)
				}
			})
			brief, whole, _, wasBrief := w.surveys()
			require.Equal(t, whole, brief)
			require.True(t, wasBrief)
			for _, a := range []alteration{{"index.html", "write"}, {"css/new.css", "write"}, {"log", "remove"}} {
				w.alter(a)
			}
			brief, whole, _, _ = w.surveys()
			require.Equal(t, whole, brief)
			c["css/deep/b.css"] = "changed"
			if s, plan, _ := w.planParts(t.Context(), c); plan != nil {
				out, err := s.Deploy(t.Context(), plan, &site.Watch{})
				require.NoError(t, err)
				require.Empty(t, out.Failed)
				require.Equal(t, 3, out.SentFiles)
			} else {
				w.mustDeploy(c)
			}
			c["css/new.css"] = "altered"
			require.Equal(t, c, w.stands())
		})
	}
}
