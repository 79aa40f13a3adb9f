package site

import (
	"bytes"
	"context"
	"errors"
	"io"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Supplier hands over the content of many files in one stream. An engine that runs at the far end has one.
type Supplier interface {
	// Supply asks for so many pieces, each of which piece describes by its index, in this order, and calls take once for each, by its index: with its content, all of it in
	// whole where it is small; or with why there is none. Take may be called from several goroutines at once. When it
	// fails, Supply ends with its error.
	Supply(ctx context.Context, pieces int, piece func(i int) Piece, take func(ctx context.Context, i int, content io.Reader, whole *Whole, err error) error) error
}

// Whole is all of a small file, and the digest of these bytes, which whoever supplies them has computed from them.
type Whole struct {
	Bytes  []byte
	Digest manifest.Digest
}

// Piece is a file whose content is asked for.
type Piece struct {
	Path   string
	Offset int64 // bytes at its beginning that are not needed
	// Old opens the version that is at the site, of which parts may be in the new one too; nil: there is none, or
	// it is not worth a look.
	Old func() (io.ReadCloser, error)
}

// worthALook is from which size on, in bytes, it pays to look for what an old version and a new one have in common.
const worthALook = 4 << 20

// oldOf gives how to open the old version of a file that changed, where that may pay.
func (st *staging) oldOf(ctx context.Context, p *parcel) func() (io.ReadCloser, error) {
	f := p.change.Found
	if f == nil || f.Kind != manifest.File || f.Other != 0 || f.Size < worthALook || p.change.Want.Size < worthALook ||
		st.plan.SendAll {
		return nil
	}
	return func() (io.ReadCloser, error) { return st.site.fs.Open(ctx, st.site.at(f.Path)) }
}

// receive has the parcels supplied in one stream, and checks their bytes as they are written.
func (st *staging) receive(ctx context.Context, parcels []*parcel) error {
	for _, p := range parcels {
		if offset := st.resumesAt(p); offset > 0 {
			st.watch.bytes(offset)
		}
	}
	piece := func(i int) Piece {
		p := parcels[i]
		out := Piece{Path: p.change.Path(), Offset: st.resumesAt(p)}
		if out.Offset == 0 {
			out.Old = st.oldOf(ctx, p)
		}
		return out
	}
	return st.plan.Supply.Supply(ctx, len(parcels), piece, func(ctx context.Context, i int, content io.Reader, whole *Whole, err error) error {
		if err == nil {
			err = st.take(ctx, parcels[i], st.resumesAt(parcels[i]), content, whole)
		}
		return st.arrived(ctx, parcels[i], err)
	})
}

// put writes a small file.
func (st *staging) put(ctx context.Context, name string, content []byte, attr fsys.Attributes) error {
	if done, err := st.folders.put(ctx, name, content, attr); done {
		return err
	}
	_, err := st.site.fs.Put(ctx, name, bytes.NewReader(content), attr)
	return err
}

// resumesAt gives from where on a file is sent, of which an interrupted deployment left a part: from its end, less what
// may be missing before that. Its digest is computed from all of it in the end.
func (st *staging) resumesAt(p *parcel) int64 {
	if _, ok := st.site.fs.(fsys.Extender); !ok {
		return 0
	}
	return max(p.part-st.site.Abilities().Unordered, 0)
}

// take writes what was supplied. The digest is computed from the bytes that are written, except for what was there.
func (st *staging) take(ctx context.Context, p *parcel, offset int64, content io.Reader, whole *Whole) (err error) {
	var (
		want = p.change.Want
		name = st.site.inRecord(p.name())
		sent int64
		got  manifest.Digest
	)
	if whole != nil && offset > 0 { // the end of a file, of which an interrupted deployment left the beginning
		content, whole = bytes.NewReader(whole.Bytes), nil
	}
	if whole != nil {
		if got, sent = whole.Digest, int64(len(whole.Bytes)); got == want.Digest {
			err = st.put(ctx, name, whole.Bytes, want.Attributes)
			st.watch.bytes(sent)
		}
	} else {
		hash := newHashing()
		sent, _, err = st.putFrom(ctx, name, offset, io.TeeReader(content, hash), want)
		got = hash.Sum()
	}
	if err == nil && offset+sent == want.Size && p.isOpen() {
		err = st.close(ctx, p, content)
	}
	switch {
	case err != nil:
	case offset+sent != want.Size:
		err = ErrChangedSinceScan
	case offset == 0 && got != want.Digest:
		err = ErrWrongBytes
	}
	if err != nil {
		if !errors.Is(err, farend.ErrLost) && ctx.Err() == nil {
			_ = st.site.fs.Remove(ctx, st.site.inRecord(p.name())) // it would be found out by its bytes
		}
		return err
	}
	p.checked = offset == 0
	if partly, ok := content.(interface{ Copied() int64 }); ok {
		sent -= partly.Copied() // what the old version had did not cross the connection
	}
	st.sent(p, sent)
	return nil
}
