package site

import (
	"bytes"
	"context"
	"encoding/json"
	"hash/crc32"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// The tree digest is that of the whole listing, which is long, however little a deployment changes. So the record has marks of that of the
// current deployment, in the file marks: how far it had come before some paths. The next deployment goes on from the last one
// before what it changes. It is an object of JSON: version (1), tree, marks, each with path, state (that of SHA-256, as Go's
// crypto/sha256 marshals it, in base64) and leaves (see manifest.Mark), and sum, the CRC-32C of the text of marks.
//
// The file only saves time. It is about the deployment that has its tree digest, and about no other; where there is none, one of which
// the sum is wrong, or one that leads to another tree than the content is, all is digested. It is replaced before a deployment is published: after one that was not published it is of no use.

const (
	marksName    = "marks"
	marksVersion = 1
	mostMarks    = 64 // of a tree, or twice as many
	leastMarks   = 16 // of the smallest tree that has any
)

// marked is a tree digest and marks of it.
type marked struct {
	tree  manifest.Digest
	marks []manifest.Mark
}

type marksFile struct {
	Version int             `json:"version"`
	Tree    manifest.Digest `json:"tree"`
	Marks   json.RawMessage `json:"marks"`
	Sum     uint32          `json:"sum"`
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// marks gives the marks of a tree that is recorded; none: they are not there.
func (s *Site) marks(ctx context.Context, tree manifest.Digest) (out []manifest.Mark) {
	if !s.isNear() {
		return nil
	}
	text, err := s.read(ctx, marksName, mostHead)
	if err != nil {
		return nil
	}
	var file marksFile
	if json.Unmarshal(text, &file) != nil || file.Version != marksVersion || file.Tree != tree ||
		crc32.Checksum(file.Marks, castagnoli) != file.Sum || json.Unmarshal(file.Marks, &out) != nil {
		return nil
	}
	return out
}

// writeMarks keeps the marks of a tree that is recorded. Where they cannot be written the next deployment takes longer.
func (s *Site) writeMarks(ctx context.Context, of *marked) {
	if len(of.marks) == 0 || !s.isNear() {
		return
	}
	marks, err := json.Marshal(of.marks)
	if err != nil {
		return
	}
	text, err := json.Marshal(marksFile{marksVersion, of.tree, marks, crc32.Checksum(marks, castagnoli)})
	if err != nil || len(text) > mostHead {
		return
	}
	fresh := s.inRecord(marksName + ".fresh") // which need not be durable: there is a sum
	if _, err := s.fs.Put(ctx, fresh, bytes.NewReader(text), fsys.Attributes{Mode: s.private(0o600)}); err == nil {
		_ = s.fs.Rename(ctx, fresh, s.inRecord(marksName))
	}
}

// treeOf gives the tree digest of what is recorded, and marks of it; it goes on from the last mark of the tree before that has no edit
// before it, unless that leads to another one than it must be (zero: any). It fails where the entries cannot be a manifest: else nobody
// could read it.
func (s *Site) treeOf(r *recording, mustBe manifest.Digest) (*marked, error) {
	out, err := s.goOn(r, mustBe)
	if failed := r.failed(); failed != nil { // a walk may have ended before its end
		return nil, failed
	}
	return out, err
}

func (s *Site) goOn(r *recording, mustBe manifest.Digest) (*marked, error) {
	var (
		out  = &marked{}
		from *manifest.Mark
		walk = r.walk
		each = max(s.briefAt/leastMarks, 1) // entries between two marks
	)
	if r.by != nil {
		h, _, err := s.readHead(r.by.ctx, r.by.number, false)
		if err != nil {
			return nil, err
		}
		each = max(each, h.Count/mostMarks)
		for _, mark := range s.marks(r.by.ctx, h.Tree) {
			if len(r.by.edits) > 0 && r.by.edits[0].Path < mark.Path {
				break
			}
			from, out.marks = &mark, append(out.marks, mark)
		}
	}
	if from != nil {
		walk = func(visit func(e *manifest.Entry) bool) { r.by.walkFrom(from.Path, visit) }
	}
	since := 0
	at := func(*manifest.Entry) bool {
		since++
		return since%each == 0
	}
	tree, marks, err := manifest.CheckedMarkedTree(from, walk, at)
	if from != nil && (err != nil || !mustBe.IsZero() && tree != mustBe) { // the mark may be to blame
		out.marks = nil
		tree, marks, err = manifest.CheckedMarkedTree(nil, r.walk, at)
	}
	out.tree, out.marks = tree, append(out.marks, marks...)
	for len(out.marks) > 2*mostMarks {
		for i := range len(out.marks) / 2 {
			out.marks[i] = out.marks[2*i+1]
		}
		out.marks = out.marks[:len(out.marks)/2]
	}
	return out, err
}
