package site

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Verdict is what an examination says of one thing.
type Verdict string

// The verdicts.
const (
	Good  Verdict = "good"
	Slow  Verdict = "slow" // it works, at a price
	Wrong Verdict = "wrong"
)

// Check is one thing that was examined.
type Check struct {
	Name    string  `json:"name"`
	Verdict Verdict `json:"verdict"`
	Found   string  `json:"found"`
	Fix     string  `json:"fix,omitempty"`
}

// roomEnough is how much free space raises no eyebrows, in bytes.
const roomEnough = 100 << 20

// namesEnough is how many more files raise no eyebrows.
const namesEnough = 10_000

// clockEnough is by how much the far clock may be off without a word.
const clockEnough = 30 * time.Second

// Examine tries what a deployment needs, in a folder of its own beside the root (or inside it), and removes that again.
func (s *Site) Examine(ctx context.Context) ([]Check, error) {
	x := &examination{site: s}
	if learner, ok := s.fs.(fsys.Learner); ok {
		learner.Know(nil) // everything is tried again
	}
	x.root(ctx)
	if err := x.makeFolder(ctx); err != nil {
		return x.checks, err
	}
	if x.folder != "" {
		defer s.removeAll(context.WithoutCancel(ctx), x.folder)
		x.writing(ctx)
		x.replacing(ctx)
		x.linking(ctx)
	}
	if err := s.note(ctx); err != nil {
		x.lost = err
	}
	x.people()
	x.room(ctx)
	x.names(ctx)
	if errors.Is(x.lost, farend.ErrLost) {
		return x.checks, fmt.Errorf("after %s: %w", x.checks[len(x.checks)-1].Name, x.lost)
	}
	return x.checks, ctx.Err()
}

type examination struct {
	site   *Site
	folder string
	checks []Check
	lost   error
}

func (x *examination) add(name string, verdict Verdict, fix, found string, args ...any) {
	x.checks = append(x.checks, Check{name, verdict, fmt.Sprintf(found, args...), fix})
}

// failed notes an error as something that is wrong.
func (x *examination) failed(name string, err error, fix string) {
	if errors.Is(err, farend.ErrLost) {
		x.lost = err
	}
	x.add(name, Wrong, fix, "%s", cause(err))
}

func (x *examination) root(ctx context.Context) {
	s := x.site
	switch number, err := s.current(ctx); {
	case err != nil:
		x.failed("root", err, "look at the record beside the root")
	case !s.exists:
		x.add("root", Good, "", "%s does not exist yet; the first deployment makes it", s.label)
	case number == 0:
		x.add("root", Good, "", "%s exists; no deployment is recorded", s.label)
	default:
		x.add("root", Good, "", "%s exists; deployment %d", s.label, number)
	}
}

func (x *examination) makeFolder(ctx context.Context) error {
	s := x.site
	parent, _ := fsys.Split(s.root)
	if _, err := s.fs.Lstat(ctx, parent); parent != "." && errors.Is(err, fs.ErrNotExist) {
		x.add("record", Wrong, "check the target's path, or deploy with --make-root",
			"the folder above the root does not exist")
		return nil
	}
	for _, place := range s.recordPlaces() {
		folder := place + "-doctor"
		err := s.fs.Mkdir(ctx, folder, s.private(0o700))
		if errors.Is(err, farend.ErrLost) {
			return err
		}
		if err == nil || errors.Is(err, fs.ErrExist) {
			x.folder = folder
			beside := "beside the root"
			if strings.HasPrefix(place, s.root+"/") {
				beside = "inside the root"
			}
			if _, base := fsys.Split(place); !strings.HasPrefix(base, ".") {
				beside += ", under a name without a dot at the beginning, which the server refuses"
			}
			x.add("record", Good, "", "it may be kept %s", beside)
			return nil
		}
	}
	x.add("record", Wrong, "give the user who logs in the right to write beside the root, or in it",
		"nothing may be written beside the root or in it")
	return nil
}

func (x *examination) writing(ctx context.Context) {
	s, name := x.site, x.folder+"/probe"
	content := []byte("Gannet Rock\n")
	before := time.Now()
	if _, err := s.fs.Put(ctx, name, bytes.NewReader(content), fsys.Attributes{Mode: 0o755}); err != nil {
		x.failed("rights", err, "look at rights and quota of the user who logs in")
		return
	}
	info, err := s.fs.Lstat(ctx, name)
	switch {
	case err != nil:
		x.failed("rights", err, "")
		return
	case s.Abilities().Modes && info.Mode.Perm() != 0o755:
		x.add("modes", Wrong, "the executable bit will not survive there",
			"a file written with mode 0755 has mode %04o", info.Mode.Perm())
	default:
		x.add("rights", Good, "", "files and folders can be written")
	}
	off := info.ModTime.Sub(before).Round(time.Second)
	if s.Abilities().TimeStep >= time.Minute {
		x.add("clock", Good, "", "its time zone is not told; only its own times are compared")
	} else if off.Abs() <= clockEnough {
		x.add("clock", Good, "", "it agrees with ours")
	} else {
		x.add("clock", Slow, "set the clock of one of the two machines: what the history says is dated by both",
			"the clock there is off by %s", off)
	}
	if s.Abilities().OddNames {
		x.attributes(ctx, name)
	}
	x.digests(ctx, name, sha256.Sum256(content))
}

// attributes tries whether modes and times can be set where not every server does what it offers.
func (x *examination) attributes(ctx context.Context, name string) {
	s := x.site
	if err := s.fs.SetAttr(ctx, name, fsys.Attributes{Mode: 0o755,
		ModTime: time.Date(2001, 5, 1, 6, 30, 15, 0, time.UTC)}); err != nil {
		x.failed("modes", err, "look at the rights of the user who logs in")
		return
	}
	able := s.Abilities()
	if able.Modes {
		x.add("modes", Good, "", "can be set")
	} else {
		x.add("modes", Slow, "where scripts must be executable, set that in the host's control panel",
			"cannot be set: the server refuses, or has no command for it")
	}
	switch {
	case able.UnsetTimes:
		x.add("times", Slow, "the record says what a file was, by its size and that it is not newer",
			"cannot be set: files have the time at which they were brought")
	case able.NoTimes:
		x.add("times", Good, "", "can be set, and are told to the minute or to the day")
	default:
		x.add("times", Good, "", "can be set")
	}
}

func (x *examination) digests(ctx context.Context, name string, want manifest.Digest) {
	var got manifest.Digest
	far, err := fsys.Digests(ctx, x.site.fs, []string{name}, 1,
		func(_ int, d manifest.Digest, failed error) { got = d })
	switch {
	case err != nil:
		x.failed("checksums", err, "")
	case got != want:
		x.add("checksums", Wrong, "look for what alters files on their way",
			"what was written reads back as something else")
	case !x.site.Abilities().Links: // a place without shells, of which is known already what it can
	case far > 0:
		x.add("shell", Good, "", "it takes commands")
		x.add("checksums", Good, "", "%s runs there", x.site.Abilities().FarDigests)
	case x.site.Abilities().TimeStep == time.Nanosecond:
		x.add("checksums", Good, "", "computed where the files are")
	default:
		x.add("shell", Slow, "with ssh:// and a login shell that has sha256sum the far end computes checksums",
			"none that can be used")
		x.add("checksums", Slow, "", "every file that is checked is read back over the connection")
	}
}

func (x *examination) replacing(ctx context.Context) {
	s := x.site
	_, err := s.fs.Put(ctx, x.folder+"/fresh", strings.NewReader("fresh"), fsys.Attributes{Mode: 0o644})
	if err == nil {
		err = s.fs.Rename(ctx, x.folder+"/fresh", x.folder+"/probe")
	}
	switch {
	case err != nil:
		x.failed("replace", err, "a deployment cannot replace files there")
	case s.Abilities().AtomicReplace:
		x.add("replace", Good, "", "a file is replaced in one step")
	default:
		x.add("replace", Slow, "a server with posix-rename@openssh.com can do it",
			"a file cannot be replaced in one step: for a moment nothing is there")
	}
}

func (x *examination) linking(ctx context.Context) {
	s := x.site
	if !s.Abilities().Links {
		x.add("links", Slow, "send what they lead to with links: follow, or leave them out with links: skip",
			"there are none")
	} else if err := s.fs.Symlink(ctx, "probe", x.folder+"/link"); err != nil {
		x.failed("links", err, "leave symbolic links out with links: follow or skip")
	} else {
		x.add("links", Good, "", "symbolic links can be made")
	}
	linker, ok := s.fs.(fsys.Linker)
	if ok && linker.Link(ctx, x.folder+"/probe", x.folder+"/second") == nil {
		x.add("rollback", Good, "", "what is replaced can be kept")
		return
	}
	x.add("rollback", Slow, "", "what is replaced cannot be kept there: a rollback has only what was removed")
}

// webUsers are the users that web servers run as, by what systems call them.
var webUsers = []string{"www-data", "nginx", "apache", "http", "www", "_www"}

// people tells who reads and writes there, and whether a web server's user could read the root: without the right to
// enter one of the folders above it, visitors are answered 403.
func (x *examination) people() {
	place, ok := x.site.fs.(fsys.Onlooker)
	if !ok {
		return
	}
	x.add("user", Good, "", "files are read and written as %s, and belong to that user", place.Who())
	for _, user := range webUsers {
		shut, known := place.Shut(user, x.site.root)
		switch {
		case !known:
		case shut == "":
			x.add("web server", Good, "", "the user %s may read the root", user)
		default:
			x.add("web server", Slow, fmt.Sprintf("if the web server runs as %s: chmod o+x %s, or o+rx for the root itself; else visitors are answered 403", user, shut),
				"the user %s may not enter or read %s", user, shut)
		}
	}
}

func (x *examination) room(ctx context.Context) {
	spacer, ok := x.site.fs.(fsys.Spacer)
	if !ok {
		return
	}
	free, err := spacer.FreeSpace(ctx)
	switch {
	case errors.Is(err, farend.ErrLost):
		x.lost = err
	case err != nil:
		x.add("room", Good, "", "the far end does not tell")
	case free.Bytes < roomEnough:
		x.add("room", Slow, "make room: a deployment needs it for what is new, and for what it keeps", "%d MB are free",
			free.Bytes/1e6)
	default:
		x.add("room", Good, "", "%.1f GB are free", float64(free.Bytes)/1e9)
	}
	switch {
	case err != nil || free.Files < 0:
	case free.Files < namesEnough:
		x.add("inodes", Slow, "remove what is not needed there: each file and folder takes one, however small",
			"only %d more files can be made", free.Files)
	default:
		x.add("inodes", Good, "", "%d more files can be made", free.Files)
	}
}

func (x *examination) names(ctx context.Context) {
	folds, err := x.site.FoldsCase(ctx)
	switch {
	case err != nil:
		x.lost = err
	case folds:
		x.add("names", Slow, "names that differ only in case are refused before anything is sent",
			"upper and lower case are one there")
	default:
		x.add("names", Good, "", "upper and lower case are told apart")
	}
}
