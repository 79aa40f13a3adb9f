package site

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"
	"slices"

	"tartine/internal/diff"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// The digest of a large file may be open until it was sent: whoever sends it digests it meanwhile, and says in the end what
// it is. Until then it is staged under a name that is made of its path, size and time, so that an interrupted deployment
// goes on with it; then it gets the name that its digest gives it, as all that is staged has. A digest is open only where
// the site has no file of that size: else the digest tells whether it need be sent at all.

// LaterFrom is from which size on, in bytes, it pays to leave a digest open.
const LaterFrom = 32 << 20

// Sized tells which of some sizes, in bytes, files have that the site or its record holds.
func (s *Site) Sized(ctx context.Context, survey *Survey, sizes []int64) (held []int64, err error) {
	there := map[int64]bool{}
	if err := s.eachFound(ctx, survey, func(f *diff.Found) { there[f.Size] = true }); err != nil {
		return nil, err
	}
	if s.record != "" {
		for _, store := range []string{kept, incoming} {
			names, err := s.storeSizes(ctx, store, nil)
			if err != nil {
				return nil, err
			}
			for _, size := range names {
				there[size] = true
			}
		}
	}
	for _, size := range sizes {
		if there[size] || s.trees != "" {
			held = append(held, size)
		}
	}
	return held, nil
}

// laterName gives the name under which a file is staged whose digest is open.
func laterName(e *manifest.Entry) string {
	facts := binary.BigEndian.AppendUint64([]byte("a file whose digest is open\n"), uint64(e.Size))
	facts = binary.BigEndian.AppendUint64(facts, uint64(e.ModTime.UnixNano()))
	return storeName(incoming, sha256.Sum256(append(facts, e.Path...)), 1) + laterSuffix
}

const laterSuffix = ".later"

// isOpen tells whether a parcel's digest is open.
func (p *parcel) isOpen() bool { return p.change.Want.Digest.IsZero() }

// isOpen tells whether any digest of what is wanted is open.
func (plan *Plan) isOpen() bool {
	if plan.Unlisted != nil {
		return plan.Unlisted.Open()
	}
	return slices.ContainsFunc(plan.Result.Changes, func(c diff.Change) bool { return c.Sends() && c.Want.Digest.IsZero() })
}

// close gives a parcel whose digest was open the digest that its sender found out, and the name that goes with it.
func (st *staging) close(ctx context.Context, p *parcel, content io.Reader) error {
	known, ok := content.(fsys.Digested)
	if !ok {
		return errors.New("its digest is not known")
	}
	digest, ok := known.Digest()
	if !ok {
		return ErrChangedSinceScan
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	p.change.Want.Digest = digest
	if st.plan.Unlisted != nil {
		st.plan.Unlisted.Know(int(p.at), digest)
	}
	if st.fresh {
		return nil
	}
	st.sameContent[digest]++
	p.copy = st.sameContent[digest]
	name := storeName(incoming, digest, int(p.copy))
	if err := st.site.makeShelves(ctx, slices.Values([]string{name})); err != nil {
		return err
	}
	if err := st.site.fs.Rename(ctx, st.site.inRecord(p.name()), st.site.inRecord(name)); err != nil {
		return err
	}
	p.lies = inIncoming
	return nil
}

// shelf gives the folder of a store in which a name is.
func shelfOf(name string) string {
	dir, _ := fsys.Split(name)
	_, shelf := fsys.Split(dir)
	return shelf
}

// takeLater takes what an interrupted deployment sent of a file whose digest was open then.
func (st *staging) takeLater(ctx context.Context, p *parcel, there map[string]int64) error {
	name := laterName(p.change.Want)
	size, found := there[name]
	if _, staged := there[p.name()]; !found || staged {
		return nil
	}
	if !p.isOpen() {
		if err := st.site.fs.Rename(ctx, st.site.inRecord(name), st.site.inRecord(p.name())); err != nil {
			return ignoreMissing(err)
		}
	}
	there[p.name()] = size
	return nil
}

// splitOpen parts the parcels whose digests are open from the others.
func splitOpen(parcels []*parcel) (open, known []*parcel) {
	for _, p := range parcels {
		if p.isOpen() {
			open = append(open, p)
		} else {
			known = append(known, p)
		}
	}
	return open, known
}

// hashing digests what is written to it beside the writing. Sum must be called in the end.
type hashing struct {
	blocks chan []byte
	free   chan []byte
	sum    chan manifest.Digest
}

// hashBlock is how much is digested at a time, in bytes, and hashBlocks how many of them may wait.
const (
	hashBlock  = 256 << 10
	hashBlocks = 4
)

func newHashing() *hashing {
	h := &hashing{make(chan []byte, hashBlocks), make(chan []byte, hashBlocks+2), make(chan manifest.Digest, 1)}
	go func() {
		hash := sha256.New()
		for block := range h.blocks {
			hash.Write(block)
			h.free <- block[:0]
		}
		h.sum <- manifest.Digest(hash.Sum(nil))
	}()
	return h
}

// Write implements io.Writer.
func (h *hashing) Write(p []byte) (int, error) {
	done := 0
	for done < len(p) {
		var block []byte
		select {
		case block = <-h.free:
		default:
			block = make([]byte, 0, hashBlock)
		}
		n := min(len(p)-done, hashBlock)
		h.blocks <- append(block, p[done:done+n]...)
		done += n
	}
	return done, nil
}

// Sum gives the digest of all that was written.
func (h *hashing) Sum() manifest.Digest {
	close(h.blocks)
	return <-h.sum
}
