package site

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// MostGathered is how large a file may be that Gather reads, in bytes.
const MostGathered = 128 << 10

// gatherBatch is how many files one reader takes at a time, where folders are opened once for many.
const gatherBatch = 64

// Gather reads many small files whole. Each is called for every path, perhaps from several goroutines at once, and must not keep
// the content. Why there is none may be fsys.ErrTooLong.
func (s *Site) Gather(ctx context.Context, paths []string, each func(i int, content []byte, err error)) error {
	open := s.openFolders()
	defer open.close()
	batch := 1
	if _, opens := s.fs.(fsys.FolderOpener); opens {
		batch = gatherBatch
	}
	var next atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	for range min(s.jobs, len(paths)) {
		group.Go(func() error {
			var room []byte
			for {
				first := int(next.Add(int64(batch))) - batch
				for i := first; i < min(first+batch, len(paths)); i++ {
					content, err := s.readSmall(ctx, open, paths[i], room[:0])
					if errors.Is(err, farend.ErrLost) || ctx.Err() != nil {
						return errors.Join(err, ctx.Err())
					}
					each(i, content, err)
					room = content
				}
				if first >= len(paths) {
					return nil
				}
			}
		})
	}
	return group.Wait()
}

// readSmall reads a file into room, or into more.
func (s *Site) readSmall(ctx context.Context, open *folders, path string, room []byte) ([]byte, error) {
	if err := s.mayRead(path); err != nil {
		return room, err
	}
	if content, err := open.read(ctx, s.at(path), MostGathered, room); err == nil {
		return content, nil
	}
	file, err := s.ReadPath(ctx, path) // which finds out why
	if err != nil {
		return room, err
	}
	defer file.Close()
	content := bytes.NewBuffer(room)
	_, err = content.ReadFrom(io.LimitReader(file, MostGathered+1))
	if err == nil && content.Len() > MostGathered {
		err = fsys.ErrTooLong
	}
	return content.Bytes(), err
}

// mayRead fails where a path cannot be a file of the site.
func (s *Site) mayRead(path string) error {
	if err := manifest.CheckBytes(path); err != nil {
		return &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return s.apart("open", path)
}

// ReadPath opens a file of the site. Its errors name the path, and not where that is at the place.
func (s *Site) ReadPath(ctx context.Context, path string) (io.ReadCloser, error) {
	if err := s.mayRead(path); err != nil {
		return nil, err
	}
	file, err := s.fs.Open(ctx, s.at(path))
	if err != nil && !errors.Is(err, farend.ErrLost) && ctx.Err() == nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: causeOf(err)}
	}
	return file, err
}

// causeOf gives what is behind the names that an error of the place has.
func causeOf(err error) error {
	var named *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fs.ErrNotExist // each system has words of its own for it
	case errors.As(err, &named):
		return named.Err
	}
	return err
}
