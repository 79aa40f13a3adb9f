package manifest

import (
	"crypto/sha256"
	"encoding"
	"fmt"
	"hash"
	"slices"
	"strings"
	"sync"
)

// The tree digest is that of one text, the listing. Where only its end has changed, it can be gone on with from a mark before that.

// Mark is how far a tree digest has come before the entry of a path.
type Mark struct {
	Path   string   `json:"path"`             // no entry before it is digested anew
	State  []byte   `json:"state"`            // of SHA-256, as crypto/sha256 marshals it
	Leaves []string `json:"leaves,omitempty"` // see checker
}

// TreeOf gives the tree digest of entries. The listing is digested while it goes on being written.
func TreeOf(each Walk) Digest {
	tree, _, _ := treeFrom(nil, each, unmarked, nil) // without a mark it cannot fail
	return tree
}

// MarkedTree is TreeOf of entries from the path of a mark on, which is of a tree that has the same ones before; nil: of all. It gives marks
// before the entries of which at tells that there is to be one. It fails where the mark is none.
func MarkedTree(from *Mark, each Walk, at func(e *Entry) bool) (Digest, []Mark, error) {
	return treeFrom(from, each, at, nil)
}

// CheckedTree gives the tree digest of entries that can be a manifest; see Check.
func CheckedTree(each Walk) (Digest, error) {
	tree, _, err := CheckedMarkedTree(nil, each, unmarked)
	return tree, err
}

// CheckedMarkedTree is MarkedTree of entries that can be a manifest: what is before the mark was checked as it was made.
func CheckedMarkedTree(from *Mark, each Walk, at func(e *Entry) bool) (Digest, []Mark, error) {
	var (
		check checker
		wrong error
	)
	if from != nil {
		check.leaves = slices.Clone(from.Leaves)
	}
	tree, marks, err := treeFrom(from, func(visit func(e *Entry) bool) {
		each(func(e *Entry) bool {
			wrong = check.next(e)
			return wrong == nil && visit(e)
		})
	}, at, &check)
	if wrong != nil {
		err = wrong
	}
	if err != nil {
		return Digest{}, nil, err
	}
	return tree, marks, nil
}

func unmarked(*Entry) bool { return false }

// written is a part of the listing, and the mark behind it, without its state; nil: there is none.
type written struct {
	text []byte
	mark *Mark
}

func treeFrom(from *Mark, each Walk, at func(e *Entry) bool, check *checker) (tree Digest, marks []Mark, err error) {
	const size, waiting = 64 << 10, 3
	sum := sha256.New()
	if from != nil {
		if err := sum.(encoding.BinaryUnmarshaler).UnmarshalBinary(from.State); err != nil {
			return Digest{}, nil, fmt.Errorf("the mark at %q cannot be read: %w", from.Path, err)
		}
	}
	parts, spare := make(chan written, waiting), make(chan []byte, waiting)
	var digesting sync.WaitGroup
	digesting.Go(func() {
		for part := range parts {
			sum.Write(part.text)
			if part.mark != nil {
				part.mark.State = stateOf(sum)
				marks = append(marks, *part.mark)
			}
			spare <- part.text[:0]
		}
		sum.Sum(tree[:0])
	})
	buf, made := make([]byte, 0, size/16), 1 // which is enough for a small tree
	write := func(mark *Mark) {
		parts <- written{buf, mark}
		if made < waiting {
			buf, made = make([]byte, 0, size), made+1
		} else {
			buf = <-spare
		}
	}
	each(func(e *Entry) bool {
		if at(e) {
			mark := &Mark{Path: strings.Clone(e.Path)}
			if check != nil {
				mark.Leaves = check.above(e.Path)
			}
			write(mark)
		}
		if buf = appendListing(buf, e); len(buf) >= size-size/16 {
			write(nil)
		}
		return true
	})
	parts <- written{text: buf}
	close(parts)
	digesting.Wait()
	return tree, marks, nil
}

// stateOf gives how far a digest has come.
func stateOf(sum hash.Hash) []byte {
	state, err := sum.(encoding.BinaryMarshaler).MarshalBinary()
	if err != nil {
		panic(err) // crypto/sha256 always can
	}
	return state
}
