//go:build !linux

package osfs

import (
	"os"

	"tartine/internal/fsys"
)

func (f *FS) listQuickly(*os.File, string) (out []fsys.Info, done bool, err error) {
	return nil, false, nil
}
