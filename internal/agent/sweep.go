package agent

import (
	"os"
	"path/filepath"
	"strings"
	"time"
)

// leftFor is how long a folder must have existed to be one that a run has left which was killed.
const leftFor = 10 * time.Minute

// Sweep removes what runs that were killed left beside a temporary folder of this program: folders with names of the
// same kind, which belong to the same user and to nobody else, that hold a program and nothing more.
func Sweep(own string) {
	above, base := filepath.Dir(own), filepath.Base(own)
	prefix := base[:strings.LastIndexByte(base, '-')+1]
	list, err := os.ReadDir(above)
	if err != nil || prefix == "" {
		return
	}
	for _, entry := range list {
		if !entry.IsDir() || !strings.HasPrefix(entry.Name(), prefix) || len(entry.Name()) != len(base) {
			continue
		}
		folder := filepath.Join(above, entry.Name())
		info, err := entry.Info()
		if err != nil || info.Mode().Perm() != 0o700 || !isOurs(info) || time.Since(info.ModTime()) < leftFor {
			continue
		}
		if inside, err := os.ReadDir(folder); err != nil || len(inside) > 1 || len(inside) == 1 &&
			!inside[0].Type().IsRegular() {
			continue
		}
		_ = os.RemoveAll(folder) // the next one tries it again
	}
}
