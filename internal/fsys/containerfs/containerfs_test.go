package containerfs

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/fsys/osfs"
)

// shelf is a folder of this machine that takes and gives archives as an engine does.
type shelf string

func (s shelf) Get(_ context.Context, name string) (io.ReadCloser, error) {
	top := filepath.Join(string(s), name)
	if _, err := os.Lstat(top); err != nil {
		return nil, err
	}
	out, in := io.Pipe()
	go func() {
		w := tar.NewWriter(in)
		err := filepath.WalkDir(top, func(file string, entry fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := entry.Info()
			if err != nil {
				return err
			}
			link, _ := os.Readlink(file)
			head, err := tar.FileInfoHeader(info, link)
			if err != nil {
				return err
			}
			below, err := filepath.Rel(filepath.Dir(top), file)
			if err != nil {
				return err
			}
			head.Name = filepath.ToSlash(below)
			if err := w.WriteHeader(head); err != nil || !info.Mode().IsRegular() {
				return err
			}
			content, err := os.Open(file)
			if err != nil {
				return err
			}
			defer content.Close()
			_, err = io.Copy(w, content)
			return err
		})
		if err == nil {
			err = w.Close()
		}
		in.CloseWithError(err)
	}()
	return out, nil
}

func (s shelf) Put(_ context.Context, folder string, archive io.Reader) error {
	in := tar.NewReader(archive)
	for {
		head, err := in.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		file := filepath.Join(string(s), folder, head.Name)
		if info, err := os.Lstat(file); err == nil && !(info.IsDir() && head.Typeflag == tar.TypeDir) {
			if err := os.RemoveAll(file); err != nil {
				return err
			}
		}
		switch head.Typeflag {
		case tar.TypeDir:
			if err := os.MkdirAll(file, head.FileInfo().Mode().Perm()); err != nil {
				return err
			}
			err = os.Chmod(file, head.FileInfo().Mode().Perm())
		case tar.TypeSymlink:
			err = os.Symlink(head.Linkname, file)
		default:
			var to *os.File
			if to, err = os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_EXCL, head.FileInfo().Mode().Perm()); err == nil {
				_, err = io.Copy(to, in)
				to.Close()
			}
		}
		if err != nil {
			return err
		}
	}
}

func TestWhatIsBroughtHereIsAFolderLikeAnyOther(t *testing.T) {
	for name, opt := range map[string]Options{"as any": {}, "as of Windows": {Windows: true}} {
		t.Run(name, func(t *testing.T) {
			fsystest.Run(t, func(t *testing.T) fsys.FS {
				f, err := Open(t.Context(), shelf(t.TempDir()), "/", nil, opt)
				require.NoError(t, err)
				return f
			})
		})
	}
}

// tree gives what stands below a folder, by name.
func tree(t require.TestingT, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(file string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		name, _ := filepath.Rel(dir, file)
		out[name] = info.Mode().String()
		if info.Mode().IsRegular() {
			text, err := os.ReadFile(file)
			out[name] += " " + string(text)
			return err
		}
		if link, err := os.Readlink(file); err == nil {
			out[name] += " " + link
		}
		return nil
	}))
	return out
}

// TestPushCarriesEverything does anything, pushes now and then, and finds the same at both places.
func TestPushCarriesEverything(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		require.NoError(rt, os.MkdirAll(filepath.Join(dir, "srv", "site", "css"), 0o755))
		require.NoError(rt, os.WriteFile(filepath.Join(dir, "srv", "site", "css", "rock.css"), []byte("h1 {}"), 0o644))
		require.NoError(rt, os.WriteFile(filepath.Join(dir, "srv", "beside"), []byte("not ours"), 0o644))
		ctx := context.Background()
		f, err := Open(ctx, shelf(dir), "/srv", []string{"site", ".site.tartine"}, Options{Owner: &osfs.Owner{User: os.Getuid(), Group: os.Getgid()}})
		require.NoError(rt, err)
		defer f.Close()
		names := rapid.SampledFrom([]string{"site/a", "site/b", "site/css", "site/css/rock.css", "site/css/deep", "site/css/deep/x", ".site.tartine", ".site.tartine/y"})
		for range rapid.IntRange(1, 25).Draw(rt, "steps") {
			// Whatever cannot be done is not done; then nothing must come of it.
			name := names.Draw(rt, "name")
			switch rapid.IntRange(0, 5).Draw(rt, "what") {
			case 0:
				_, _ = f.Put(ctx, name, strings.NewReader(fmt.Sprint(rapid.Int().Draw(rt, "text"))), fsys.Attr{Mode: rapid.SampledFrom([]fs.FileMode{0o644, 0o755}).Draw(rt, "mode")})
			case 1:
				_ = f.Mkdir(ctx, name, 0o755)
			case 2:
				_ = f.Remove(ctx, name)
			case 3:
				_ = f.Rename(ctx, name, names.Draw(rt, "to"))
			case 4:
				_ = f.Symlink(ctx, "no/where", name)
			case 5:
				err = f.Push(ctx)
			}
			if err != nil { // the top of what was brought cannot be removed
				require.ErrorContains(rt, err, "cannot be removed")
				return
			}
		}
		if err := f.Push(ctx); err != nil {
			require.ErrorContains(rt, err, "cannot be removed")
			return
		}
		want := tree(rt, f.dir)
		got := tree(rt, filepath.Join(dir, "srv"))
		require.Equal(rt, "-rw-r--r-- not ours", got["beside"])
		delete(got, "beside")
		delete(want, ".")
		delete(got, ".")
		require.Equal(rt, want, got)
	})
}

func TestWhatCannotBeCarriedKeepsItsFolder(t *testing.T) {
	dir := t.TempDir()
	f := &FS{base: "/srv", there: map[string]standing{"site/old": {}}, changed: map[string]bool{"site/old": true}, odd: []string{"site/pipe"}}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "site"), 0o755))
	var err error
	f.local, err = osfs.Open(dir)
	require.NoError(t, err)
	_, err = f.pack(t.Context())
	require.ErrorContains(t, err, "holds site/pipe")
}
