//go:build linux

package site_test

import (
	"context"
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"tartine/internal/fsys"
	"tartine/internal/fsys/osfs"
	"tartine/internal/manifest"
	"tartine/internal/site"
)

// deployOne brings one page to the site of a folder.
func deployOne(t *testing.T, f fsys.FS, dir, text string, change func(*site.Plan, *manifest.Entry)) *site.Outcome {
	t.Helper()
	s, err := site.Open(t.Context(), f, "www", filepath.Join(dir, "www"), site.Options{})
	require.NoError(t, err)
	want := []manifest.Entry{{Path: "index.html", Size: int64(len(text)), Digest: manifest.Digest(sha256.Sum256([]byte(text))), Attributes: manifest.Attributes{Mode: 0o644}}}
	plan := &site.Plan{Want: want, Open: func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}
	change(plan, &want[0])
	plan.Survey, err = s.Survey(t.Context(), true)
	require.NoError(t, err)
	plan.Result, err = s.Compare(t.Context(), plan.Survey, &site.Wanted{Entries: want}, nil)
	require.NoError(t, err)
	out, err := s.Deploy(t.Context(), plan, &site.Watch{})
	require.NoError(t, err)
	return out
}

// ungiving says that it gives files away, and does not.
type ungiving struct{ *osfs.FS }

func (f ungiving) Numbers(manifest.Owner) (int, int, error) { return 4711, 4711, nil }

func (f ungiving) Put(ctx context.Context, name string, content io.Reader, attr fsys.Attributes) (int64, error) {
	attr.Owner = nil
	return f.FS.Put(ctx, name, content, attr)
}

func (f ungiving) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	attr.Owner = nil
	return f.FS.SetAttr(ctx, name, attr)
}

func (f ungiving) MayGive(int, int) error { return nil }

func TestOwnersAreLookedUpAgain(t *testing.T) {
	dir := t.TempDir()
	f, err := osfs.Open(dir)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "www"), 0o755))
	out := deployOne(t, ungiving{f}, dir, "<h1>", func(_ *site.Plan, e *manifest.Entry) { e.Owner = &manifest.Owner{User: "warden"} })
	require.Len(t, out.Failed, 1)
	require.ErrorContains(t, out.Failed[0].Err, "instead of warden:")
	require.False(t, out.Verified)
}

func TestAttributesOfWhatIsReplaced(t *testing.T) {
	dir, err := os.MkdirTemp("/var/tmp", "like") // what is in memory may have none
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	f, err := osfs.Open(dir)
	require.NoError(t, err)
	defer f.Close()
	page := filepath.Join(dir, "www", "index.html")
	deployOne(t, f, dir, "<h1>", func(*site.Plan, *manifest.Entry) {})
	if err := unix.Setxattr(page, "user.label", []byte("web content"), 0); err != nil {
		t.Skip("there are no extended attributes: ", err)
	}
	// An access list: user 1 may read and write beside the owner; see acl(5).
	list := "\x02\x00\x00\x00\x01\x00\x06\x00\xff\xff\xff\xff\x02\x00\x06\x00\x01\x00\x00\x00\x04\x00\x04\x00\xff\xff\xff\xff\x10\x00\x06\x00\xff\xff\xff\xff\x20\x00\x04\x00\xff\xff\xff\xff"
	lists := unix.Setxattr(page, "system.posix_acl_access", []byte(list), 0) == nil
	out := deployOne(t, f, dir, "<h1>new", func(p *site.Plan, e *manifest.Entry) { p.Like, e.Mode = true, 0o664 })
	require.Empty(t, out.Failed)
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, "<h1>new", string(text))
	value := make([]byte, 100)
	n, err := unix.Getxattr(page, "user.label", value)
	require.NoError(t, err)
	require.Equal(t, "web content", string(value[:n]))
	if lists {
		n, err = unix.Getxattr(page, "system.posix_acl_access", value)
		require.NoError(t, err)
		require.Equal(t, list, string(value[:n]))
	}
	deployOne(t, f, dir, "<h1>last", func(*site.Plan, *manifest.Entry) {})
	_, err = unix.Getxattr(page, "user.label", value)
	require.ErrorIs(t, err, unix.ENODATA, "only where it is asked for")
}
