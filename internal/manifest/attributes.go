package manifest

import (
	"io/fs"
	"time"
)

// Attributes are what a file or folder has beside its path and its content. They are one type from the manifest to the
// file systems.
type Attributes struct {
	Mode    fs.FileMode // permission bits (0 to 0777) of a file or folder; 0 for a link
	ModTime time.Time   // zero when not known; no part of equality
	Owner   *Owner      // nil: whoever brings it owns it
}

// Owner is whom a path belongs to. Entries of one owner share it.
type Owner struct {
	User, Group string // names, or numbers in decimal; empty: not said
}

// Same tells whether two paths have the same attributes, whatever their times.
func (a Attributes) Same(b Attributes) bool {
	return a.Mode == b.Mode && a.owner() == b.owner()
}

func (a Attributes) owner() Owner {
	if a.Owner == nil {
		return Owner{}
	}
	return *a.Owner
}
