package manifest

import (
	"fmt"
	"io/fs"
	"strconv"
	"strings"
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

// ParseOwner reads USER:GROUP, of which one may be missing.
func ParseOwner(text string) (*Owner, error) {
	user, group, _ := strings.Cut(text, ":")
	return NewOwner(user, group)
}

// NewOwner gives an owner; nil: neither is said.
func NewOwner(user, group string) (*Owner, error) {
	for _, name := range []string{user, group} {
		if len(name) > mostOwner || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r == ':' || r == '/' || !strconv.IsPrint(r) }) {
			return nil, fmt.Errorf("%q is not the name of a user or a group", name)
		}
	}
	if user == "" && group == "" {
		return nil, nil
	}
	return &Owner{user, group}, nil
}

// mostOwner is how long the name of a user or a group may be, in bytes.
const mostOwner = 255

// String gives USER:GROUP.
func (o Owner) String() string { return o.User + ":" + o.Group }

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
