package content

import (
	"io/fs"
	"slices"
	"strings"

	"tartine/internal/filter"
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

// attribute gives entries what is said of them. A folder of which something is said has an entry of its own from then on.
func (t *Tree) attribute(list []Attribute) {
	if len(list) == 0 {
		return
	}
	sets := make([]filter.Set, len(list))
	for i := range list {
		sets[i].Includes = []*filter.Rule{list[i].Rule}
	}
	owners := map[manifest.Owner]*manifest.Owner{}
	give := func(e *manifest.Entry) {
		folder := e.Kind == manifest.Dir
		var owner manifest.Owner
		for i := range list {
			a := &list[i]
			decision := sets[i].Decide(e.Path, folder)
			if !decision.Taken || e.Kind == manifest.Link {
				continue
			}
			if a.Mode != nil && folder == a.Folders && (!folder || decision.At == e.Path) {
				e.Mode = *a.Mode
			}
			if a.User != "" {
				owner.User = a.User
			}
			if a.Group != "" {
				owner.Group = a.Group
			}
		}
		if owner == (manifest.Owner{}) {
			return
		}
		if owners[owner] == nil {
			owners[owner] = &owner
		}
		e.Owner = owners[owner]
	}
	seen := map[string]bool{}
	for i := range t.entries {
		give(&t.entries[i])
		if t.entries[i].Kind == manifest.Dir {
			seen[t.entries[i].Path] = true
		}
	}
	type added struct {
		manifest.Entry
		from int32
	}
	var folders []added
	for i := range t.entries {
		for end, c := range t.entries[i].Path {
			dir := t.entries[i].Path[:end]
			if c != '/' || seen[dir] {
				continue
			}
			seen[dir] = true
			e := manifest.Entry{Path: dir, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: manifest.DirMode}}
			if give(&e); !e.Plain() {
				folders = append(folders, added{e, t.from[i]})
			}
		}
	}
	if len(folders) == 0 {
		return
	}
	all := folders
	for i := range t.entries {
		all = append(all, added{t.entries[i], t.from[i]})
	}
	slices.SortFunc(all, func(a, b added) int { return strings.Compare(a.Path, b.Path) })
	t.entries, t.from = make([]manifest.Entry, len(all)), make([]int32, len(all))
	for i := range all {
		t.entries[i], t.from[i] = all[i].Entry, all[i].from
	}
}
