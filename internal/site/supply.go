package site

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Supplier hands over the content of many files in one stream. An engine that runs at the far end has one.
type Supplier interface {
	// Supply asks for pieces in this order and calls take once for each, by its index: with its content, all of it in
	// whole where it is small; or with why there is none. Take may be called from several goroutines at once. When it
	// fails, Supply ends with its error.
	Supply(ctx context.Context, pieces []Piece, take func(ctx context.Context, i int, content io.Reader, whole []byte, err error) error) error
}

// Piece is a file whose content is asked for.
type Piece struct {
	Path   string
	Offset int64 // bytes at its beginning that are not needed
}

// takeAll has the parcels supplied in one stream, and checks their bytes as they are written.
func (st *staging) takeAll(ctx context.Context, parcels []*parcel) error {
	pieces := make([]Piece, len(parcels))
	for i, p := range parcels {
		pieces[i] = Piece{p.change.Path, st.resumesAt(p)}
		st.watch.bytes(pieces[i].Offset)
	}
	return st.plan.Supply.Supply(ctx, pieces, func(ctx context.Context, i int, content io.Reader, whole []byte, err error) error {
		if err == nil {
			err = st.take(ctx, parcels[i], pieces[i].Offset, content, whole)
		}
		return st.arrived(ctx, parcels[i], err)
	})
}

// put writes a small file.
func (st *staging) put(ctx context.Context, name string, content []byte, attr fsys.Attr) error {
	if done, err := st.folders.put(ctx, name, content, attr); done {
		return err
	}
	_, err := st.site.fs.Put(ctx, name, bytes.NewReader(content), attr)
	return err
}

// resumesAt gives from where on a file is sent, of which an interrupted deployment left a part.
func (st *staging) resumesAt(p *parcel) int64 {
	if _, ok := st.site.fs.(fsys.Extender); ok && p.part > segment {
		return (p.part - 1) / segment * segment
	}
	return 0
}

// take writes what was supplied. The digest is computed from the bytes that are written, except for what was there.
func (st *staging) take(ctx context.Context, p *parcel, offset int64, content io.Reader, whole []byte) (err error) {
	var (
		want = p.change.Want
		name = st.site.inRecord(p.name)
		sent int64
		got  manifest.Digest
	)
	if whole != nil {
		if got, sent = sha256.Sum256(whole), int64(len(whole)); got == want.Digest {
			err = st.put(ctx, name, whole, fsys.Attr{Mode: want.Mode, ModTime: want.ModTime})
			st.watch.bytes(sent)
		}
	} else {
		hash := sha256.New()
		sent, err = st.putFrom(ctx, name, offset, io.TeeReader(content, hash), want)
		hash.Sum(got[:0])
	}
	switch {
	case err != nil:
	case offset+sent != want.Size:
		err = ErrChangedSinceScan
	case offset == 0 && got != want.Digest:
		err = ErrWrongBytes
	}
	if err != nil {
		if !errors.Is(err, fsys.ErrLost) && ctx.Err() == nil {
			_ = st.site.fs.Remove(ctx, name) // it would be found out by its bytes
		}
		return err
	}
	p.checked = offset == 0
	st.sent(p, sent)
	return nil
}
