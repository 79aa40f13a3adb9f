package site

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Supplier hands over the content of many files in one stream. An engine that runs at the far end has one.
type Supplier interface {
	// Supply asks for files and calls take once for each, by its position among them: with its content, all of it in whole where
	// it is small; or with why there is none. Take may be called from several goroutines at once. When it fails, Supply ends
	// with its error.
	Supply(ctx context.Context, asked Asked, take func(ctx context.Context, i int, content io.Reader, whole *Whole, err error) error) error
}

// Whole is all of a small file, and the digest of these bytes, which whoever supplies them has computed from them.
type Whole struct {
	Bytes  []byte
	Digest manifest.Digest
}

// Asked is files whose content is asked for, in this order.
type Asked struct {
	Runs    Runs          // of their indexes in what is wanted
	Offsets map[int]int64 // by position: how many bytes at the beginning are not needed; missing: none
	// Old opens versions that are at the site, by position. Parts of them may be in the new ones too.
	Old map[int]func() (io.ReadCloser, error)
}

// Run is indexes that follow one another.
type Run struct{ First, Count int }

// Runs is indexes in some order.
type Runs []Run

// Add adds one at the end.
func (r *Runs) Add(index int) {
	if last := len(*r) - 1; last >= 0 && (*r)[last].First+(*r)[last].Count == index {
		(*r)[last].Count++
		return
	}
	*r = append(*r, Run{index, 1})
}

// Add asks for one more.
func (a *Asked) Add(index int) { a.Runs.Add(index) }

// Len gives how many files there are.
func (a *Asked) Len() (n int) {
	for _, r := range a.Runs {
		n += r.Count
	}
	return n
}

// finder gives what finds the index of a file by its position. No more may be asked for from then on.
func (a *Asked) finder() func(position int) int {
	ends, end := make([]int, len(a.Runs)), 0
	for i, r := range a.Runs {
		end += r.Count
		ends[i] = end
	}
	return func(position int) int {
		i, _ := slices.BinarySearch(ends, position+1)
		return a.Runs[i].First + a.Runs[i].Count - (ends[i] - position)
	}
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
	asked := Asked{Offsets: map[int]int64{}, Old: map[int]func() (io.ReadCloser, error){}}
	for i, p := range parcels {
		at, _ := manifest.Find(st.plan.Want, p.change.Path())
		asked.Add(at)
		if offset := st.resumesAt(p); offset > 0 {
			st.watch.bytes(offset)
			asked.Offsets[i] = offset
		} else if old := st.oldOf(ctx, p); old != nil {
			asked.Old[i] = old
		}
	}
	return st.plan.Supply.Supply(ctx, asked, func(ctx context.Context, i int, content io.Reader, whole *Whole, err error) error {
		if err == nil {
			err = st.take(ctx, parcels[i], st.resumesAt(parcels[i]), content, whole)
		}
		return st.arrived(ctx, parcels[i], err)
	})
}

// put writes a small file.
func (st *staging) put(ctx context.Context, name string, content []byte, attr fsys.Attributes) error {
	if err := st.folders.put(ctx, name, content, attr); !errors.Is(err, farend.ErrUnsupported) {
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
