//go:build !linux && !darwin

package content

import (
	"errors"
	"io/fs"
	"os"
)

// readFolder lists a folder.
func readFolder(dir string) ([]item, error) {
	entries, err := os.ReadDir(dir)
	items := make([]item, 0, len(entries))
	for _, entry := range entries {
		info, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // removed since the folder was read
		}
		it := item{name: entry.Name(), err: err}
		if err == nil {
			it.facts = factsOf(info)
		}
		items = append(items, it)
	}
	return items, err
}
