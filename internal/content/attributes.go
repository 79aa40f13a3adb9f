package content

import (
	"io/fs"
	"slices"
	"sync"

	"tartine/internal/filter"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Attribute is what is said of the files and folders of the tree that a pattern matches. Owners are of both, with all
// that lies below a folder that matches. A mode is of files; where the pattern ends in a slash, of the folders that it
// matches alone. Links have neither.
type Attribute struct {
	Rule        *filter.Rule
	Folders     bool         // the pattern ends in a slash
	Mode        *fs.FileMode // nil: not said
	User, Group string       // empty: not said
}

// attributing gives what is taken what is said of it, folder by folder. It may be used by several goroutines at once.
type attributing struct {
	list []Attribute
	sets []filter.Set // a rule of each

	mu     sync.Mutex
	owners map[manifest.Owner]*manifest.Owner
}

func newAttributing(list []Attribute) *attributing {
	out := &attributing{list: list, sets: make([]filter.Set, len(list)), owners: map[manifest.Owner]*manifest.Owner{}}
	for i := range list {
		out.sets[i].Includes = []*filter.Rule{list[i].Rule}
	}
	return out
}

// give gives so many entries what is said of them. Done again it changes nothing, but what a mode was altered to meanwhile.
func (a *attributing) give(count int, at func(i int) *manifest.Entry) {
	if len(a.list) == 0 {
		return
	}
	var (
		dir   string
		above []filter.Decision // about that folder; nil: there is none yet
		last  *manifest.Owner
	)
	for i := range count {
		e := at(i)
		if e.Kind == manifest.Link {
			continue
		}
		if in, _ := fsys.Split(e.Path); above == nil || in != dir {
			dir, above = in, a.decide(in)
		}
		owner := a.one(e, above)
		if owner == (manifest.Owner{}) {
			continue
		}
		if last == nil || *last != owner {
			last = a.shared(owner)
		}
		e.Owner = last
	}
}

// decide gives what the rules decide about a folder.
func (a *attributing) decide(dir string) []filter.Decision {
	out := make([]filter.Decision, len(a.sets))
	for i := range a.sets {
		if out[i] = a.sets[i].Root(); dir != "." {
			out[i] = a.sets[i].Decide(dir, true)
		}
	}
	return out
}

// one gives an entry its mode, and tells whose it is.
func (a *attributing) one(e *manifest.Entry, above []filter.Decision) (owner manifest.Owner) {
	isFolder := e.Kind == manifest.Dir
	for i := range a.list {
		said := &a.list[i]
		decision := a.sets[i].Step(above[i], e.Path, isFolder)
		if !decision.Taken {
			continue
		}
		if said.Mode != nil && isFolder == said.Folders && (!isFolder || decision.At == e.Path) {
			e.Mode = *said.Mode
		}
		if said.User != "" {
			owner.User = said.User
		}
		if said.Group != "" {
			owner.Group = said.Group
		}
	}
	return owner
}

func (a *attributing) shared(owner manifest.Owner) *manifest.Owner {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.owners[owner] == nil {
		a.owners[owner] = &owner
	}
	return a.owners[owner]
}

// giveMembers gives what is in a folder what is said of it.
func (a *attributing) giveMembers(members []member) {
	a.give(len(members), func(i int) *manifest.Entry { return &members[i].Entry })
}

// folders gives entries for folders above what is taken, in pieces, where something is said of them. They have no entry otherwise; where
// one has, that counts. What they become where nothing of what is below them can be read is told by isImplied.
func (a *attributing) folders(pieces []piece) (out []piece) {
	if len(a.list) == 0 {
		return nil
	}
	seen := map[string]bool{".": true}
	for i := range pieces {
		for dir := pieces[i].dir; !seen[dir]; dir, _ = fsys.Split(dir) {
			seen[dir] = true
			e := manifest.Entry{Path: dir, Kind: manifest.Dir, Size: -1, Attributes: manifest.Attributes{Mode: manifest.DirMode}}
			if a.give(1, func(int) *manifest.Entry { return &e }); !e.Plain() {
				out = append(out, pack(1, pieces[i].source, func(int) *manifest.Entry { return &e })...)
			}
		}
	}
	return out
}

// above puts entries for folders before what else the folders that they are in hold: of two entries of a folder the later one counts.
func above(folders, pieces []piece) []piece {
	if len(folders) == 0 {
		return pieces
	}
	all := slices.Concat(folders, pieces)
	slices.SortStableFunc(all, func(a, b piece) int { return compareFolders(a.dir, b.dir) })
	return all
}
