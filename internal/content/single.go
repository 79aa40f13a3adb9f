package content

import (
	"context"
	"io"
	"io/fs"
	"os"
	"time"

	"tartine/internal/manifest"
)

// Single is one file as a source that is found when it is asked for, and has a name of its own in the tree.
type Single struct {
	Name string
	// Find gives where it is on this machine, and its digest.
	Find func(ctx context.Context) (file string, digest manifest.Digest, err error)
}

// Files finds the file, for Source.Files.
func (s *Single) Files(ctx context.Context) ([]File, error) {
	name, digest, err := s.Find(ctx)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	head := make([]byte, readBuffer)
	n, err := io.ReadFull(file, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	return []File{&singleFile{s.Name, name, info.Size(), digest, sniff(head[:n])}}, nil
}

type singleFile struct {
	path, file string
	size       int64
	digest     manifest.Digest
	verdict    verdict
}

func (f *singleFile) Path() string                   { return f.path }
func (f *singleFile) Lstat() (fs.FileInfo, error)    { return f, nil }
func (f *singleFile) Open() (io.ReadCloser, error)   { return os.Open(f.file) }
func (f *singleFile) Known() (manifest.Digest, byte) { return f.digest, byte(f.verdict) }

// What fs.FileInfo says of it. It has no time of its own.
func (f *singleFile) Name() string       { return f.path }
func (f *singleFile) Size() int64        { return f.size }
func (f *singleFile) Mode() fs.FileMode  { return manifest.FileMode }
func (f *singleFile) ModTime() time.Time { return time.Time{} }
func (f *singleFile) IsDir() bool        { return false }
func (f *singleFile) Sys() any           { return nil }
