package site

import (
	"errors"
	"fmt"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// OwnerError tells that files cannot be given to whom they should belong.
type OwnerError struct {
	Owner  string // USER:GROUP
	Path   string // one of them
	Reason string
}

func (e *OwnerError) Error() string {
	return fmt.Sprintf("%s cannot be given to %s: %s", e.Path, e.Owner, e.Reason)
}

// owners gives the numbers of all owners that are wanted, and of those that are recorded as far as they are known.
func (s *Site) owners(want, recorded []manifest.Entry) (map[manifest.Owner]diff.Owner, error) {
	out := map[manifest.Owner]diff.Owner{}
	for i := range want {
		if err := s.addOwner(out, &want[i]); err != nil {
			return nil, err
		}
	}
	for i := range recorded {
		_ = s.addOwner(out, &recorded[i]) // a user that is gone owns nothing
	}
	return out, nil
}

// addOwner adds the numbers of whom an entry says that it belongs to.
func (s *Site) addOwner(to map[manifest.Owner]diff.Owner, e *manifest.Entry) error {
	if e.Owner == nil {
		return nil
	}
	if _, known := to[*e.Owner]; known {
		return nil
	}
	user, group, err := s.ownerNumbers(*e.Owner)
	if err != nil {
		return &OwnerError{e.Owner.String(), e.Path, err.Error()}
	}
	to[*e.Owner] = diff.Owner{User: user, Group: group}
	return nil
}

func (s *Site) ownerNumbers(owner manifest.Owner) (user, group int, err error) {
	giver, ok := s.fs.(fsys.Giver)
	if !ok {
		return -1, -1, errors.New("in the way in which this site is reached nothing can be given to other users")
	}
	return giver.Numbers(owner)
}

// mayGive finds out whether everything may be given to whom it should belong.
func (s *Site) mayGive(result *diff.Result, rule *diff.Rule) (err error) {
	giver, ok := s.fs.(fsys.Giver)
	if !ok {
		return nil
	}
	asked := map[manifest.Owner]bool{}
	result.Each(func(c *diff.Change) bool {
		if c.Want == nil || c.Want.Owner == nil || asked[*c.Want.Owner] || c.ModeOnly && rule.Owns(c.Want, c.Found) {
			return true
		}
		asked[*c.Want.Owner] = true
		numbers := rule.Owners[*c.Want.Owner]
		if failed := giver.MayGive(numbers.User, numbers.Group); failed != nil {
			err = &OwnerError{c.Want.Owner.String(), c.Path(), failed.Error()}
		}
		return err == nil
	})
	return err
}

// belongs tells whether something belongs to an owner, who must be known there.
func (s *Site) belongs(owner manifest.Owner, info *fsys.Info) bool {
	user, group, err := s.ownerNumbers(owner)
	return err == nil && (user < 0 || uint32(user) == info.User.ID) && (group < 0 || uint32(group) == info.Group)
}

// owned tells what is wrong with whom something belongs to after a step; empty: nothing.
func (s *Site) owned(owner *manifest.Owner, info fsys.Info) string {
	if _, gives := s.fs.(fsys.Giver); owner == nil || !gives || !info.User.Known {
		return ""
	}
	if s.belongs(*owner, &info) {
		return ""
	}
	return fmt.Sprintf("it belongs to %d:%d instead of %s", info.User.ID, info.Group, owner)
}
