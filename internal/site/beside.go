package site

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"strings"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Beside is a tree of the machine that the site is on, from which content may be taken instead of being sent. What is
// taken from it counts by its digest alone.
type Beside struct {
	Root string `cbor:"root"`           // as the far end knows it
	Home bool   `cbor:"home,omitempty"` // it is relative to the home folder of the user
	Dest string `cbor:"dest"`           // the folder of the content that it feeds; "." is the top
}

// takeBeside takes from a tree beside the site what that has, and gives what is still missing.
func (st *staging) takeBeside(ctx context.Context, parcels []*parcel) ([]*parcel, error) {
	beside := st.plan.Beside
	if beside == nil || st.site.beside == nil || len(parcels) == 0 || st.plan.Rollback > 0 {
		return parcels, nil
	}
	other, err := st.site.beside(*beside)
	if err != nil { // it is not there, or not for this user: the content is sent
		return parcels, nil
	}
	defer other.Close()
	taken := make([]bool, len(parcels))
	group, taking := errgroup.WithContext(ctx)
	group.SetLimit(st.site.jobs)
	for i, p := range parcels {
		from, covered := p.change.Path(), true
		if beside.Dest != "." {
			from, covered = strings.CutPrefix(from, beside.Dest+"/")
		}
		if !covered || p.part > 0 || p.isOpen() {
			continue
		}
		group.Go(func() error {
			err := st.takeOne(taking, other, from, p)
			taken[i] = err == nil
			if errors.Is(err, farend.ErrLost) || taking.Err() != nil {
				return errors.Join(err, taking.Err())
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var missing []*parcel
	for i, p := range parcels {
		if !taken[i] {
			missing = append(missing, p)
			continue
		}
		if err := st.arrived(ctx, p, nil); err != nil {
			return nil, err
		}
	}
	return missing, nil
}

// takeOne copies a file of the other tree, and checks it while it is written.
func (st *staging) takeOne(ctx context.Context, other fsys.FS, from string, p *parcel) error {
	in, err := other.Open(ctx, from)
	if err != nil {
		return err
	}
	defer in.Close()
	hash, want, name := sha256.New(), p.change.Want, st.site.inRecord(p.name())
	read := io.TeeReader(io.LimitReader(in, want.Size+1), hash)
	n, err := st.site.fs.Put(ctx, name, read, want.Attributes)
	if err == nil && (n != want.Size || manifest.Digest(hash.Sum(nil)) != want.Digest) {
		err = ErrWrongBytes
	}
	if err != nil {
		if !errors.Is(err, farend.ErrLost) && ctx.Err() == nil {
			_ = st.site.fs.Remove(ctx, name) // it is sent in its place
		}
		return err
	}
	p.checked = true
	st.mu.Lock()
	st.out.Copied++
	st.mu.Unlock()
	st.watch.file(p.change.Path(), want.Size)
	return nil
}
