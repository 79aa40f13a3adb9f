package ftpfs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/textproto"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"tartine/internal/connect/ftpline"
	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// sets is what a server can be asked to give files, as far as is known. Some offer what they refuse then; they are not
// asked again.
type sets struct {
	seen  bool        // modes show in listings
	both  atomic.Bool // mode and time at once (MFF)
	chmod atomic.Bool // a mode (SITE CHMOD)
	mfmt  atomic.Bool // a time (MFMT)
	mdtm  atomic.Bool // a time, with a command that was for reading it
	proof atomic.Bool // a mode has been set
}

// from begins with what the server says.
func (s *sets) from(features map[string]string) {
	facts, listed := features["MLST"]
	changed, changes := features["MFF"]
	changed = strings.ToLower(changed)
	s.seen = !listed || strings.Contains(strings.ToLower(facts), "unix.mode") // listings for people begin with it
	s.both.Store(changes && s.seen && listed && strings.Contains(changed, "unix.mode") &&
		strings.Contains(changed, "modify"))
	s.chmod.Store(s.seen && listed || slices.Contains(strings.Fields(features["SITE"]), "CHMOD"))
	_, mfmt := features["MFMT"]
	_, mdtm := features["MDTM"]
	s.mfmt.Store(mfmt)
	s.mdtm.Store(mdtm)
}

func (s *sets) modes() bool { return s.both.Load() || s.chmod.Load() }
func (s *sets) times() bool { return s.both.Load() || s.mfmt.Load() || s.mdtm.Load() }

// What a server was found to refuse, beside what it does not offer.
const (
	noModes   = "modes"
	noTimes   = "times"
	noReplace = "replace"
)

// Refused implements fsys.Learner.
func (f *FS) Refused() (out []string) {
	var offers sets
	offers.from(f.features)
	if offers.modes() && !f.sets.modes() {
		out = append(out, noModes)
	}
	if offers.times() && !f.sets.times() {
		out = append(out, noTimes)
	}
	if !f.replaces.Load() {
		out = append(out, noReplace)
	}
	return out
}

// Know implements fsys.Learner.
func (f *FS) Know(refused []string) {
	f.sets.from(f.features)
	f.replaces.Store(!slices.Contains(refused, noReplace))
	if slices.Contains(refused, noModes) {
		f.sets.both.Store(false)
		f.sets.chmod.Store(false)
	}
	if slices.Contains(refused, noTimes) {
		f.sets.both.Store(false)
		f.sets.mfmt.Store(false)
		f.sets.mdtm.Store(false)
	}
}

// setAttributes gives a file its mode and its time, as far as the server does.
func (f *FS) setAttributes(line *ftpline.Conn, name string, attr fsys.Attributes) error {
	full, when := f.full(name), attr.ModTime.UTC().Format(timeFormat)
	if attr.ModTime.IsZero() && attr.Mode == 0 {
		return nil
	}
	if f.sets.both.Load() {
		refused, err := f.may(line, full, 213, changeFacts(full, attr))
		if err != nil || !refused {
			return err
		}
		f.sets.both.Store(false)
	}
	chmod := fmt.Sprintf("SITE CHMOD %o %s", attr.Mode.Perm(), full)
	if attr.Mode != 0 && !attr.ModTime.IsZero() && f.sets.chmod.Load() && f.sets.proof.Load() && f.sets.mfmt.Load() {
		err := line.Steps(ftpline.Step{Want: 2, Command: chmod}, ftpline.Step{Want: 2, Command: "MFMT " + when + " " + full})
		var reply *textproto.Error
		if err == nil || !errors.As(err, &reply) || isBroken(err) {
			return err
		}
		// One of both was refused: which, and why, is found out below.
	}
	if attr.Mode != 0 && f.sets.chmod.Load() {
		refused, err := f.may(line, full, 2, chmod)
		switch {
		case err != nil:
			return err
		case !refused:
			f.sets.proof.Store(true)
		case f.sets.proof.Load(): // this name alone: servers read the command word by word
		default:
			if info, err := f.lookOver(line, full); err != nil || info.Mode.Perm() != attr.Mode.Perm() {
				f.sets.chmod.Store(false)
			}
		}
	}
	if attr.ModTime.IsZero() {
		return nil
	}
	for _, way := range []struct {
		can     *atomic.Bool
		command string
	}{{&f.sets.mfmt, "MFMT"}, {&f.sets.mdtm, "MDTM"}} {
		if !way.can.Load() {
			continue
		}
		refused, err := f.may(line, full, 2, way.command+" "+when+" "+full)
		if err != nil || !refused {
			return err
		}
		way.can.Store(false)
	}
	return nil
}

// changeFacts gives the command that sets mode and time at once (MFF).
func changeFacts(full string, attr fsys.Attributes) string {
	facts := ""
	if !attr.ModTime.IsZero() {
		facts = "Modify=" + attr.ModTime.UTC().Format(timeFormat) + ";"
	}
	if attr.Mode != 0 {
		facts += fmt.Sprintf("UNIX.mode=%04o;", attr.Mode.Perm())
	}
	return "MFF " + facts + " " + full
}

// finish sets the attributes of a file that was written and, where the server computes digests, has it tell that of what
// it holds, in the same round trip.
func (f *FS) finish(line *ftpline.Conn, name string, attr fsys.Attributes, content io.Reader) error {
	proved, wants := content.(fsys.Proved)
	if !wants || f.hash == "" || !f.sets.both.Load() || attr.ModTime.IsZero() && attr.Mode == 0 {
		return f.setAttributes(line, name, attr)
	}
	full := f.full(name)
	steps := append(f.choose(line), ftpline.Step{Want: 213, Command: changeFacts(full, attr)}, ftpline.Step{Want: 2, Command: f.hash + " " + full})
	replies, err := line.Ask(steps...)
	if err != nil {
		return err
	}
	last := len(replies) - 1
	if digest, ok := f.digestIn(replies[last].Text); ok && replies[last].Err == nil {
		proved.Proved(digest)
	}
	if replies[last-1].Err != nil {
		return f.setAttributes(line, name, attr) // which finds out why
	}
	return nil
}

// may asks for a change of a file that the server may refuse. It fails where the file is not there.
func (f *FS) may(line *ftpline.Conn, full string, want int, command string) (refused bool, err error) {
	_, _, err = line.Command(want, "%s", command)
	var reply *textproto.Error
	if err == nil || !errors.As(err, &reply) || isBroken(err) {
		return false, err
	}
	if _, missing := f.lookOver(line, full); missing != nil {
		return false, err
	}
	return true, nil
}

// SetAttr implements fsys.FS.
func (f *FS) SetAttr(ctx context.Context, name string, attr fsys.Attributes) error {
	return f.do(ctx, "set mode of", name, nil, func(line *ftpline.Conn) error {
		return f.setAttributes(line, name,
			attr)
	})
}

// Dates implements fsys.Dater where listings are for people, and the server tells of single files.
func (f *FS) Dates(ctx context.Context, names []string, each func(i int, when time.Time)) error {
	if f.facts || !f.dates {
		return farend.ErrUnsupported
	}
	return f.lines.all(ctx, len(names), func(ctx context.Context, i int) error {
		err := f.lines.do(ctx, nil, func(line *ftpline.Conn) error {
			_, text, err := line.Command(213, "MDTM %s", f.full(names[i]))
			if err != nil {
				return err
			}
			when, err := parseTime(strings.TrimSpace(text))
			if err != nil {
				return nil // it tells nothing
			}
			each(i, when)
			return nil
		})
		var r *refusal
		if errors.As(err, &r) {
			return nil // of this one it does not tell
		}
		return err
	})
}
