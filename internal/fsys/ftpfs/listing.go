package ftpfs

import (
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"

	"tartine/internal/fsys"
)

// parseListing reads a listing for programs (RFC 3659, 7): a line for each name, facts in front of it.
func parseListing(text []byte) ([]fsys.Info, error) {
	var out []fsys.Info
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		if line == "" {
			continue
		}
		info, kind, err := parseFacts(line)
		if err != nil {
			return nil, err
		}
		if kind == "cdir" || kind == "pdir" || info.Name == "." || info.Name == ".." {
			continue
		}
		if strings.ContainsAny(info.Name, "/\x00") || info.Name == "" {
			return nil, fmt.Errorf("the server returned the name %q, which cannot be in a folder", info.Name)
		}
		out = append(out, info)
	}
	return out, nil
}

// parseEntry reads the reply to MLST: the facts of one name, in a line that begins with a space.
func parseEntry(text string) (fsys.Info, error) {
	lines := strings.Split(text, "\n")
	for _, line := range lines[1:] {
		if strings.Contains(line, "=") && strings.Contains(line, "; ") {
			info, _, err := parseFacts(strings.TrimRight(strings.TrimLeft(line, " "), "\r"))
			return info, err
		}
	}
	return fsys.Info{}, errors.New("the server describes a name without facts")
}

// parseFacts reads facts and the name behind them.
func parseFacts(line string) (info fsys.Info, kind string, err error) {
	facts, name, ok := strings.Cut(line, " ")
	if !ok {
		return info, "", fmt.Errorf("the server lists %q, which is not a name with facts", firstLine(line))
	}
	info = fsys.Info{Name: name, Attributes: fsys.Attributes{Mode: 0o644}}
	var permissions fs.FileMode
	for fact := range strings.SplitSeq(facts, ";") {
		key, value, _ := strings.Cut(fact, "=")
		switch strings.ToLower(key) {
		case "type":
			kind = strings.ToLower(value)
		case "size":
			if info.Size, err = strconv.ParseInt(value, 10, 64); err != nil || info.Size < 0 {
				return info, "", fmt.Errorf("the server lists %q with the size %q", name, value)
			}
		case "modify":
			if info.ModTime, err = parseTime(value); err != nil {
				return info, "", fmt.Errorf("the server lists %q with the time %q", name, value)
			}
		case "unix.mode":
			mode, err := strconv.ParseUint(value, 8, 32)
			if err != nil {
				return info, "", fmt.Errorf("the server lists %q with the mode %q", name, value)
			}
			permissions = fs.FileMode(mode).Perm()
			info.Mode = permissions
		}
	}
	switch {
	case kind == "dir", kind == "cdir", kind == "pdir":
		if permissions == 0 {
			permissions = 0o755
		}
		info.Mode, info.Size = fs.ModeDir|permissions, 0
	case kind == "file":
	case strings.HasPrefix(kind, "os.unix=slink"), strings.HasPrefix(kind, "os.unix=symlink"):
		_, info.Link, _ = strings.Cut(value(facts, "type"), ":")
		info.Mode, info.Size = fs.ModeSymlink, 0
	default:
		info.Mode = fs.ModeIrregular
	}
	return info, kind, nil
}

// timeFormat is how times are written (RFC 3659, 2.3), in UTC. Fractions of a second may follow.
const timeFormat = "20060102150405"

func parseTime(text string) (time.Time, error) {
	whole, _, _ := strings.Cut(text, ".")
	return time.Parse(timeFormat, whole)
}

// value gives a fact as it is written.
func value(facts, name string) string {
	for fact := range strings.SplitSeq(facts, ";") {
		if key, value, _ := strings.Cut(fact, "="); strings.EqualFold(key, name) {
			return value
		}
	}
	return ""
}

// describe gives what the library made of a listing for people. The modes, and how exactly times are told, are in the
// text itself.
func describe(entries []*ftp.Entry, text []byte, now time.Time) (out []fsys.Info) {
	lines := strings.Split(string(text), "\n")
	for _, e := range entries {
		var told string // its line: entries have the order of the lines
		for i, line := range lines {
			if line = strings.TrimRight(line, "\r"); strings.HasSuffix(line, " "+e.Name) ||
				e.Type == ftp.EntryTypeLink && strings.Contains(line, " "+e.Name+" -> ") {
				told, lines = line, lines[i+1:]
				break
			}
		}
		if e.Name == "." || e.Name == ".." || e.Name == "" || strings.ContainsAny(e.Name, "/\x00") {
			continue
		}
		info := fsys.Info{Name: e.Name, Size: int64(e.Size), Attributes: fsys.Attributes{ModTime: latest(e.Time, told,
			now), Mode: 0o644}}
		permissions, told10 := permissions(told)
		if told10 {
			info.Mode = permissions
		}
		switch e.Type {
		case ftp.EntryTypeFolder:
			if info.Size = 0; !told10 {
				permissions = 0o755
			}
			info.Mode = fs.ModeDir | permissions
		case ftp.EntryTypeLink:
			info.Mode, info.Size, info.Link = fs.ModeSymlink, 0, e.Target
		}
		out = append(out, info)
	}
	return out
}

// permissions reads the ten characters with which a line begins where files have modes.
func permissions(line string) (mode fs.FileMode, ok bool) {
	if len(line) < 10 || !strings.ContainsRune("-dlbcps", rune(line[0])) {
		return 0, false
	}
	for i, c := range line[1:10] {
		bit := fs.FileMode(1) << (8 - i)
		switch {
		case c == rune("rwxrwxrwx"[i]), (c == 's' || c == 't') && i%3 == 2:
			mode |= bit
		case c == '-', (c == 'S' || c == 'T') && i%3 == 2:
		default:
			return 0, false
		}
	}
	return mode, true
}

// latest gives the latest moment that a listing for people may mean. It has the hour of what is younger than half a
// year, without the year, and else the day.
func latest(told time.Time, line string, now time.Time) time.Time {
	switch hour := told.Hour() != 0 || told.Minute() != 0 || strings.Contains(line, " 00:00 "); {
	case told.IsZero():
		return told
	case !hour:
		return told.Add(24*time.Hour - time.Second)
	case told.Before(now.AddDate(0, -7, 0)):
		return told.AddDate(1, 0, 0) // it lies ahead: the year was guessed
	}
	return told
}
