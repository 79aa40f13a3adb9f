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
			return nil, fmt.Errorf("the server returned the name %q, which cannot stand in a folder", info.Name)
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
		return info, "", fmt.Errorf("the server lists %q, which is no name with facts", firstLine(line))
	}
	info = fsys.Info{Name: name, Mode: 0o644}
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
			whole, _, _ := strings.Cut(value, ".")
			if info.ModTime, err = time.Parse("20060102150405", whole); err != nil {
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

// value gives a fact as it is written.
func value(facts, name string) string {
	for fact := range strings.SplitSeq(facts, ";") {
		if key, value, _ := strings.Cut(fact, "="); strings.EqualFold(key, name) {
			return value
		}
	}
	return ""
}

// describe gives what the library made of a line of a listing for people.
func describe(e *ftp.Entry) (fsys.Info, bool) {
	if e.Name == "." || e.Name == ".." || e.Name == "" || strings.ContainsAny(e.Name, "/\x00") {
		return fsys.Info{}, false
	}
	info := fsys.Info{Name: e.Name, Size: int64(e.Size), ModTime: e.Time, Mode: 0o644}
	switch e.Type {
	case ftp.EntryTypeFolder:
		info.Mode, info.Size = fs.ModeDir|0o755, 0
	case ftp.EntryTypeLink:
		info.Mode, info.Size, info.Link = fs.ModeSymlink, 0, e.Target
	}
	return info, true
}
