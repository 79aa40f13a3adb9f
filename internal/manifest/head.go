package manifest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
)

// maxHead is how many bytes the head of a written manifest can have.
const maxHead = 64 << 10

// ReadHead reads a manifest without its entries, and the tree digest that it states. Of one in the form that WriteJSON
// gives, only the first kilobytes are read.
func ReadHead(r io.Reader) (*Manifest, Digest, error) {
	start := make([]byte, maxHead)
	n, err := io.ReadFull(r, start)
	if err != nil && err != io.ErrUnexpectedEOF {
		return nil, Digest{}, fmt.Errorf("read manifest: %w", err)
	}
	start = start[:n]
	head, _, found := bytes.Cut(start, entriesStart[:len(entriesStart)-1])
	var top topJSON
	if found && json.Unmarshal(append(bytes.Clone(head), '}'), &top) == nil && top.Version == Version {
		return top.manifest(), top.Tree, nil
	}
	m, err := ReadJSON(io.MultiReader(bytes.NewReader(start), r))
	if err != nil {
		return nil, Digest{}, err
	}
	tree := m.Tree()
	m.Entries = nil
	return m, tree, nil
}
