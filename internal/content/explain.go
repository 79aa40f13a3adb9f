package content

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"tartine/internal/filter"
	"tartine/internal/fsys"
)

// Explanation says what becomes of one path of one source.
type Explanation struct {
	Source     int    // index into the sources
	Local      string // on this machine
	Path       string // in the tree
	Relative   string // to the source
	Folder     bool
	Decision   filter.Decision
	Taken      bool
	Reason     string // why it is not taken although no rule is against it; or what the guard says
	Guarded    bool   // the guard stops a deployment at it
	ShadowedBy int    // the later source that brings the same path; -1: none
}

// Explain says what becomes of a path, for each source that has it. The path is one of this machine, relative to the
// current folder, or one of the tree. It applies the same rules, in the same way, as Scan.
func Explain(ctx context.Context, sources []Source, opt Options, asked string) ([]Explanation, error) {
	named := make([]Source, len(sources))
	for i, s := range sources {
		if err := s.load(ctx); err != nil {
			return nil, err
		}
		if info, err := os.Stat(s.Path); err == nil && !info.IsDir() && s.Name == "" && s.listing == nil {
			s.Name = filepath.Base(s.Path)
		}
		named[i] = s
	}
	var out []Explanation
	for i := range named {
		if path, ok := named[i].treePath(asked); ok {
			if e, ok := explainIn(named, i, path, opt); ok {
				out = append(out, e)
			}
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	path := strings.Trim(filepath.ToSlash(filepath.Clean(asked)), "/")
	for i := range named {
		if named[i].covers(path) {
			if e, ok := explainIn(named, i, path, opt); ok {
				out = append(out, e)
			}
		}
	}
	return out, nil
}

// treePath turns a path of this machine into one of the tree, when the source has it.
func (s *Source) treePath(local string) (string, bool) {
	source, err := filepath.Abs(s.Path)
	if err != nil {
		return "", false
	}
	asked, err := filepath.Abs(local)
	if err != nil {
		return "", false
	}
	relative, err := filepath.Rel(source, asked)
	if err != nil || relative == ".." || strings.HasPrefix(relative, ".."+string(filepath.Separator)) {
		return "", false
	}
	if s.Name != "" {
		return fsys.Join(s.Dest, s.Name), relative == "."
	}
	return fsys.Join(s.Dest, filepath.ToSlash(relative)), relative != "."
}

// covers tells whether a path of the tree could come from the source.
func (s *Source) covers(path string) bool {
	if s.Name != "" {
		return path == fsys.Join(s.Dest, s.Name)
	}
	return s.Dest == "." || strings.HasPrefix(path, s.Dest+"/")
}

// explainIn explains a path of the tree within one source; not ok when nothing is there.
func explainIn(sources []Source, i int, path string, opt Options) (Explanation, bool) {
	s := &sources[i]
	e := Explanation{Source: i, Path: path, Local: s.local(path), ShadowedBy: -1}
	at, name := s.origin()
	if s.Name == "" {
		name = at.join(name, filepath.FromSlash(s.relative(path)))
	}
	info, err := at.lstat(name)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 && opt.Links == FollowLinks {
		info, err = at.stat(name)
	}
	if err != nil {
		return e, false
	}
	e.Folder = info.IsDir()
	relative := s.relative(path)
	e.Relative = relative
	e.Decision = s.Rules.Decide(relative, e.Folder)
	e.Taken = e.Decision.Taken
	switch mode := info.Mode(); {
	case !e.Taken:
		return e, true
	case !utf8.ValidString(path):
		e.Taken, e.Reason = false, "the name is not valid UTF-8"
	case mode&fs.ModeSymlink != 0 && opt.Links == SkipLinks:
		e.Taken, e.Reason = false, "links are skipped"
	case !mode.IsRegular() && !mode.IsDir() && mode&fs.ModeSymlink == 0:
		e.Taken, e.Reason = false, "it is a "+kindOf(mode)+", which is never sent"
	default:
		e.Reason, e.Guarded = guardReason(s, path, info, opt.Allow)
	}
	for later := i + 1; later < len(sources) && !e.Folder; later++ {
		if sources[later].covers(path) {
			if other, ok := explainIn(sources, later, path, opt); ok && other.Taken {
				e.ShadowedBy = later
			}
		}
	}
	return e, true
}

// guardReason says what the guard has against a path, its content, or a folder above it.
func guardReason(s *Source, path string, info fs.FileInfo, allow []*filter.Rule) (string, bool) {
	relative := s.relative(path)
	for end := range len(relative) {
		if relative[end] == '/' {
			if finding, found := guardName(relative[:end], true, allow); found {
				return finding.Why, true
			}
		}
	}
	if finding, found := guardName(relative, info.IsDir(), allow); found {
		return finding.Why, true
	}
	if !info.Mode().IsRegular() || allowed(relative, false, allow) {
		return "", false
	}
	file, err := s.open(path)
	if err != nil {
		return "", false
	}
	defer file.Close()
	head := make([]byte, readBuffer)
	n, _ := file.Read(head)
	v := sniff(head[:n])
	return v.why(), v != harmless
}
