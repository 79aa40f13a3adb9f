package engineserver

import (
	"archive/tar"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	containers "github.com/moby/moby/api/types/container"
)

// onDrive begins a path of a Windows container that names its drive.
var onDrive = regexp.MustCompile(`^[a-zA-Z]:`)

// reach runs something on the files of a container, under the name of a path of it.
func (c *container) reach(r *http.Request, do func(root *os.Root, name string) error) error {
	at := r.URL.Query().Get("path")
	c.mu.Lock()
	running := c.running
	c.mu.Unlock()
	if c.server.opt.Isolated && running {
		return fail(http.StatusInternalServerError, "filesystem operations against a running container are not supported with this isolation")
	}
	if c.server.windows() {
		at = strings.ReplaceAll(at, `\`, "/")
		if drive := onDrive.FindString(at); drive != "" {
			if !strings.EqualFold(drive, "C:") {
				return fail(http.StatusBadRequest, "the specified path is not on the system drive (C:)")
			}
			at = at[len(drive):]
		}
	}
	inside, err := c.enter(false)
	if err != nil {
		return err
	}
	defer inside.leave()
	return inside.do(func(root *os.Root) error {
		name := inRoot(at)
		if c.server.windows() {
			name = fold(root, name)
		}
		if err := do(root, name); errors.Is(err, fs.ErrNotExist) {
			return fail(http.StatusNotFound, "Could not find the file %s in container %s", at, c.name)
		} else if err != nil {
			return err
		}
		return nil
	})
}

// fold gives a name the letters under which it is known, where capital and small ones are the same.
func fold(root *os.Root, name string) string {
	at := "."
	for element := range strings.SplitSeq(name, "/") {
		if _, err := root.Lstat(path.Join(at, element)); err != nil {
			list, _ := fs.ReadDir(root.FS(), at) // nothing is there: then it is as asked
			for _, entry := range list {
				if strings.EqualFold(entry.Name(), element) {
					element = entry.Name()
				}
			}
		}
		at = path.Join(at, element)
	}
	return at
}

// stat sets the head of an answer that describes what is at a name.
func (c *container) stat(w http.ResponseWriter, root *os.Root, name string) error {
	info, err := root.Lstat(name)
	if err != nil {
		return err
	}
	link := ""
	if info.Mode()&fs.ModeSymlink != 0 {
		link, _ = root.Readlink(name)
	}
	text, err := json.Marshal(containers.PathStat{Name: info.Name(), Size: info.Size(), Mode: info.Mode(),
		Mtime: info.ModTime(), LinkTarget: link})
	w.Header().Set("X-Docker-Container-Path-Stat", base64.StdEncoding.EncodeToString(text))
	return err
}

func (s *Server) statPath(c *container, w http.ResponseWriter, r *http.Request) error {
	return c.reach(r, func(root *os.Root, name string) error { return c.stat(w, root, name) })
}

func (s *Server) getArchive(c *container, w http.ResponseWriter, r *http.Request) error {
	return c.reach(r, func(root *os.Root, name string) error {
		if err := c.stat(w, root, name); err != nil {
			return err
		}
		w.Header().Set("Content-Type", "application/x-tar")
		p := &packing{root: root, out: tar.NewWriter(w), top: name, plain: s.windows(), users: s.opt.Users,
			links: map[fileID]string{}}
		if err := p.all(); err != nil {
			panic(http.ErrAbortHandler) // the answer has begun
		}
		return nil
	})
}

// Pack writes an archive of what is at a name, with all below it, as engines do.
func Pack(root *os.Root, name string, to io.Writer) error {
	return (&packing{root: root, out: tar.NewWriter(to), top: name, links: map[fileID]string{}}).all()
}

// packing writes an archive whose names begin with the last element of the top's.
type packing struct {
	root  *os.Root
	out   *tar.Writer
	top   string
	plain bool // the system knows no modes
	users int  // see Options
	links map[fileID]string
}

// nameless is a file whose user and group are told as numbers alone. Their names would be looked up where the
// container's files are seen, and the system's library would remember for good what it does not find there.
type nameless struct{ fs.FileInfo }

func (nameless) Uname() (string, error) { return "", nil }

func (nameless) Gname() (string, error) { return "", nil }

func (p *packing) all() error {
	if err := p.tree(p.top); err != nil {
		return err
	}
	return p.out.Close()
}

func (p *packing) tree(name string) error {
	info, err := p.root.Lstat(name)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSocket != 0 {
		return nil // as engines do
	}
	link := ""
	if info.Mode()&fs.ModeSymlink != 0 {
		if link, err = p.root.Readlink(name); err != nil {
			return err
		}
	}
	head, err := tar.FileInfoHeader(nameless{info}, link)
	if err != nil {
		return err
	}
	head.Name = path.Join(path.Base(p.top), strings.TrimPrefix(strings.TrimPrefix(name, p.top), "/"))
	head.ModTime, head.Format = head.ModTime.Truncate(time.Second), tar.FormatPAX
	head.Uid, head.Gid = head.Uid+p.users, head.Gid+p.users
	if p.plain {
		head.Mode, head.Uid, head.Gid = head.Mode&0o644|0o111, 0, 0
	}
	if id, several := identify(info); several && info.Mode().IsRegular() {
		if first, ok := p.links[id]; ok {
			head.Typeflag, head.Linkname, head.Size = tar.TypeLink, first, 0
		} else {
			p.links[id] = head.Name
		}
	}
	if info.IsDir() {
		head.Name += "/"
	}
	if err := p.out.WriteHeader(head); err != nil {
		return err
	}
	switch {
	case info.IsDir():
		list, err := fs.ReadDir(p.root.FS(), name)
		if err != nil {
			return err
		}
		for _, entry := range list {
			if err := p.tree(path.Join(name, entry.Name())); err != nil {
				return err
			}
		}
	case head.Typeflag == tar.TypeReg:
		f, err := p.root.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(p.out, f)
		return err
	}
	return nil
}

func (s *Server) putArchive(c *container, w http.ResponseWriter, r *http.Request) error {
	return c.reach(r, func(root *os.Root, name string) error {
		info, err := root.Stat(name)
		if err != nil {
			return err
		}
		if !info.IsDir() {
			return fail(http.StatusBadRequest, "extraction point is not a directory")
		}
		if c.host.ReadonlyRootfs && !c.inVolume(name) {
			return fail(http.StatusForbidden, "container rootfs is marked read-only")
		}
		return (&unpacking{root: root, at: name, windows: s.windows(), users: s.opt.Users}).all(r.Body)
	})
}

func (c *container) inVolume(name string) bool {
	return slices.ContainsFunc(c.mounts, func(m mounted) bool {
		at := inRoot(m.path)
		return m.folder != "" && (name == at || strings.HasPrefix(name, at+"/"))
	})
}

// Unpack writes what is in an archive into a folder, as engines do: what is in the way of something goes first,
// unless both are folders. When it fails, what came before stays.
func Unpack(root *os.Root, at string, archive io.Reader) error {
	return (&unpacking{root: root, at: at}).all(archive)
}

// unpacking is Unpack for one archive.
type unpacking struct {
	root    *os.Root
	at      string
	windows bool
	users   int // see Options
}

// mostUsers is how many there are in a container whose users are others outside.
const mostUsers = 1 << 16

// notOnWindows is what names may not hold there.
const notOnWindows = `<>:"|?*\`

func (u *unpacking) all(archive io.Reader) error {
	in := tar.NewReader(archive)
	var folders []*tar.Header // their times are set once all is in them
	for {
		head, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		name := path.Join(u.at, inRoot(head.Name))
		if u.users > 0 && max(head.Uid, head.Gid) >= mostUsers {
			return fail(http.StatusInternalServerError, "Container ID %d cannot be mapped to a host ID",
				max(head.Uid, head.Gid))
		}
		if u.windows {
			if strings.ContainsAny(head.Name, notOnWindows) {
				return fail(http.StatusInternalServerError, "open %s: The filename, directory name, or volume label syntax is incorrect.", head.Name)
			}
			name = fold(u.root, name)
		}
		if err := u.one(head, name, in); err != nil {
			return err
		}
		if head.Typeflag == tar.TypeDir {
			head.Name = name
			folders = append(folders, head)
		}
	}
	for _, head := range slices.Backward(folders) {
		if err := u.root.Chtimes(head.Name+"/.", head.ModTime, head.ModTime); err != nil {
			return fail(http.StatusInternalServerError, "Error processing tar file(exit status 1): %v", err)
		}
	}
	return nil
}

func (u *unpacking) one(head *tar.Header, name string, content io.Reader) error {
	if err := u.root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	if info, err := u.root.Lstat(name); err == nil && (!info.IsDir() || head.Typeflag != tar.TypeDir) {
		if name == "." {
			return nil
		}
		if err := u.root.RemoveAll(name); err != nil {
			return err
		}
	}
	switch head.Typeflag {
	case tar.TypeDir:
		if err := u.root.Mkdir(name, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	case tar.TypeReg:
		f, err := u.root.Create(name)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, content)
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
	case tar.TypeSymlink:
		return errors.Join(u.root.Symlink(head.Linkname, name), own(u.root, name, head))
	case tar.TypeLink:
		if err := u.root.Link(path.Join(u.at, inRoot(head.Linkname)), name); err != nil {
			return err
		}
		if _, err := u.root.Lstat(inRoot(head.Linkname)); err != nil { // engines look there, not below the folder
			return own(u.root, name, head)
		}
	default:
		return nil
	}
	return errors.Join(own(u.root, name, head), u.root.Chmod(name, head.FileInfo().Mode().Perm()|head.FileInfo().Mode()&fs.ModeSticky), u.root.Chtimes(name, head.ModTime, head.ModTime))
}

// own gives something to whom the archive says, where this program may.
func own(root *os.Root, name string, head *tar.Header) error {
	if os.Geteuid() != 0 {
		return nil
	}
	return root.Lchown(name, head.Uid, head.Gid)
}
