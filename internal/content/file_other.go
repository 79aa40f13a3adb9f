//go:build !linux && !darwin

package content

import "os"

// file is a file that is read once, from its beginning to its end.
type file struct{ *os.File }

func openFile(name string) (*file, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	return &file{f}, nil
}

func (f *file) facts() (facts, error) {
	info, err := f.Stat()
	if err != nil {
		return facts{}, err
	}
	return factsOf(info), nil
}
