package site

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tartine/internal/farend"
	"tartine/internal/fsys"
	"tartine/internal/manifest"
	"tartine/internal/manifest/blocks"
)

// A deployment is recorded in version 2 of deployments/N.json, which has everything of a manifest but its entries. Those
// are a tree of blocks (see package blocks): N.json names the block of its top, and the deployments in whose files,
// deployments/M.blocks, the blocks of the tree are. N.blocks has those that no earlier file had; so a deployment that
// changes one file adds a few blocks, and the record grows by them.
//
// Not all of an earlier file need be of use still. A deployment takes into its own file what is of use in others that are
// small beside what it writes anyway, or of which little is of use; so a tree is in a few files, however many deployments
// it took, and each block is written anew a few times at most (about as often as their number can be halved).
//
// What can end at any point: N.blocks is written before N.json names it, as all of a deployment is before the journal. An
// N.json that exists keeps its blocks: where it is written again, by a publish of which steps failed or by the next
// attempt at the same number, the new N.blocks has all that the old N.json names in the old one, and replaces it first.
// A file of blocks goes when no N.json that stays names it, and after those that named it.
//
// Version 1 of N.json is a manifest as it is written elsewhere, with its entries. It is read, and nothing writes it. A
// program that knows version 1 alone says of a version 2 that it does not know it.

const recordVersion = 2

// head is N.json.
type head struct {
	Version    int                  `json:"version"`
	Tree       manifest.Digest      `json:"tree"`
	Created    time.Time            `json:"created"`
	Generator  string               `json:"generator"`
	Origin     *manifest.Origin     `json:"origin,omitempty"`
	Deployment *manifest.Deployment `json:"deployment"`
	Top        manifest.Digest      `json:"top"`
	Count      int                  `json:"count"` // entries
	Blocks     []blockFile          `json:"blocks"`
}

// blockFile is a file that has blocks of a tree.
type blockFile struct {
	Of    int   `json:"of"`    // the deployment that wrote it
	Bytes int64 `json:"bytes"` // of the blocks of the tree
}

const (
	mostFiles = 1000 // that a tree is in
)

func blocksFile(number int) string { return "deployments/" + strconv.Itoa(number) + "." + blocksSuffix }

const blocksSuffix = "blocks"

// manifest gives what N.json says but for the entries.
func (h *head) manifest() *manifest.Manifest {
	return &manifest.Manifest{Created: h.Created, Generator: h.Generator, Origin: h.Origin, Deployment: h.Deployment}
}

// readHead reads N.json: its head, or, of version 1, what is behind the head too, if entries are asked for.
func (s *Site) readHead(ctx context.Context, number int, entries bool) (h *head, old *manifest.Manifest, err error) {
	name := deploymentFile(number)
	file, err := s.fs.Open(ctx, s.inRecord(name))
	if err != nil {
		return nil, nil, err
	}
	defer file.Close()
	in := fsys.WithContext(ctx, file)
	start, err := io.ReadAll(io.LimitReader(in, mostHead))
	if err != nil {
		return nil, nil, &RecordError{s.inRecord(name), err}
	}
	h = &head{}
	if len(start) < mostHead && json.Unmarshal(start, h) == nil && h.Version >= recordVersion {
		if err := h.check(number); err != nil {
			return nil, nil, &RecordError{s.inRecord(name), err}
		}
		return h, nil, nil
	}
	if old, err = s.readFirst(ctx, io.MultiReader(bytes.NewReader(start), in), h, entries); err == nil && old.Deployment == nil {
		err = errors.New(`the key "deployment" is missing`)
	}
	var record *RecordError
	if err != nil && !errors.As(err, &record) && !errors.Is(err, farend.ErrLost) {
		err = &RecordError{s.inRecord(name), err}
	}
	return h, old, err
}

// mostHead is how many bytes a head may have.
const mostHead = 64 << 10

// readFirst reads an N.json of version 1.
func (s *Site) readFirst(ctx context.Context, in io.Reader, h *head, entries bool) (m *manifest.Manifest, err error) {
	in = io.LimitReader(in, mostList+1)
	if !entries {
		m, h.Tree, err = manifest.ReadHead(in)
		return m, err
	}
	text, err := io.ReadAll(in)
	switch {
	case err != nil:
		return nil, err
	case len(text) > mostList:
		return nil, &UntrustedError{fmt.Sprintf("it has more than the %d bytes that such a file may have", mostList)}
	}
	if m, err = manifest.ReadJSON(strings.NewReader(string(text))); err == nil {
		h.Tree = m.Tree()
	}
	return m, err
}

// check checks what N.json names.
func (h *head) check(number int) error {
	switch {
	case h.Version > recordVersion:
		return notKnown(h.Version, recordVersion)
	case h.Deployment == nil:
		return errors.New(`the key "deployment" is missing`)
	case h.Count < 0 || h.Count > manifest.MostPacked:
		return &UntrustedError{fmt.Sprintf("it has %d entries", h.Count)}
	case len(h.Blocks) > mostFiles:
		return &UntrustedError{fmt.Sprintf("its entries are in %d files", len(h.Blocks))}
	}
	seen := map[int]bool{}
	for _, f := range h.Blocks {
		if f.Of < 1 || f.Of > number || seen[f.Of] {
			return &UntrustedError{fmt.Sprintf("its entries are in a file of deployment %d", f.Of)}
		}
		seen[f.Of] = true
	}
	return nil
}

// recordedTree reads the manifest of a deployment, and gives its tree digest; nil for number 0.
func (s *Site) recordedTree(ctx context.Context, number int) (*manifest.Manifest, manifest.Digest, error) {
	if number == 0 {
		return nil, manifest.Digest{}, nil
	}
	h, old, err := s.readHead(ctx, number, true)
	if err != nil || old != nil {
		return old, h.tree(), err
	}
	shelf, err := s.openShelf(ctx, h, true)
	defer shelf.close()
	if err != nil {
		return nil, h.Tree, err
	}
	s.shelved.add(shelf, s.isNear())
	m := h.manifest()
	m.Entries, err = blocks.Read(blocks.Ref{Name: h.Top, Entries: h.Count}, shelf.size(), shelf.block)
	return m, h.Tree, s.ofDeployment(number, err)
}

func (h *head) tree() manifest.Digest {
	if h == nil {
		return manifest.Digest{}
	}
	return h.Tree
}

// ofDeployment makes an error one about what is recorded of a deployment, unless it is about the record already.
func (s *Site) ofDeployment(number int, err error) error {
	if err == nil || isRecordError(err) {
		return err
	}
	return &RecordError{s.inRecord(deploymentFile(number)), err}
}

func isRecordError(err error) bool {
	var record *RecordError
	return errors.As(err, &record)
}

// shelf is the files in which the blocks of a tree are.
type shelf struct {
	site  *Site
	files map[int]*blocks.File // by the deployment that wrote them
	order []int
}

// openShelf opens the files that a head names. Where their blocks are not asked for, what is known already is not read. The
// shelf must be closed, also where this fails.
func (s *Site) openShelf(ctx context.Context, h *head, whole bool) (*shelf, error) {
	out := &shelf{site: s, files: map[int]*blocks.File{}}
	read := make([]*blocks.File, len(h.Blocks))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(s.jobs)
	for i, f := range h.Blocks {
		if known := s.shelved.file(f.Of); known != nil && (!whole || known.Whole()) {
			read[i] = known
			continue
		}
		group.Go(func() (err error) {
			read[i], err = s.openBlocks(ctx, f.Of)
			return err
		})
	}
	err := group.Wait()
	for i, f := range h.Blocks {
		if read[i] != nil && out.files[f.Of] == nil {
			out.files[f.Of], out.order = read[i], append(out.order, f.Of)
		}
	}
	return out, err
}

// openBlocks opens the file of blocks of a deployment. Its blocks are read when they are asked for where that costs nothing,
// and else all at once.
func (s *Site) openBlocks(ctx context.Context, number int) (*blocks.File, error) {
	if s.isNear() {
		file, err := s.fs.Open(ctx, s.inRecord(blocksFile(number)))
		at, able := file.(io.ReaderAt)
		size, known := int64(0), false
		if err == nil {
			size, known = fsys.SizeOf(file)
		}
		if able && known && size <= mostList {
			opened, err := blocks.OpenFile(at, size)
			if err != nil {
				file.Close()
				return nil, &RecordError{s.inRecord(blocksFile(number)), err}
			}
			return opened, nil
		}
		if err == nil {
			file.Close()
		}
	}
	text, err := s.read(ctx, blocksFile(number), mostList)
	if err == nil {
		var file *blocks.File
		if file, err = blocks.ReadFile(text); err == nil {
			return file, nil
		}
	}
	if !errors.Is(err, farend.ErrLost) && !isRecordError(err) && ctx.Err() == nil {
		err = &RecordError{s.inRecord(blocksFile(number)), err}
	}
	return nil, err
}

// shelved is which blocks the files have that were read, so that the next deployment need not read them again. What is in
// a file does not change once a deployment names it that is current or was. Of a file that was read whole, since the place is far
// away, all is kept: it is asked for again and again.
type shelved struct {
	mu     sync.Mutex
	files  map[int]*blocks.File
	leaves map[manifest.Digest]bool // blocks that name no other one, of the last survey
}

// mostShelved is of how many files that is remembered.
const mostShelved = 64

func (s *shelved) add(read *shelf, near bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.files == nil || len(s.files) > mostShelved {
		s.files = map[int]*blocks.File{}
	}
	for number, file := range read.files {
		if near {
			file = file.Index()
		}
		s.files[number] = file
	}
}

func (s *shelved) addLeaves(leaves map[manifest.Digest]bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.leaves = leaves
}

// isLeaf tells whether a block is known to name no other one.
func (s *shelved) isLeaf(name manifest.Digest) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.leaves[name]
}

// forget is for a file that is written once more.
func (s *shelved) forget(number int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.files, number)
}

func (s *shelved) file(number int) *blocks.File {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.files[number]
}

// close closes the files.
func (s *shelf) close() {
	for _, file := range s.files {
		file.Close()
	}
}

// size gives how many bytes the files have.
func (s *shelf) size() (bytes int64) {
	for _, file := range s.files {
		bytes += file.Size()
	}
	return bytes
}

// block gives the bytes of a block.
func (s *shelf) block(name manifest.Digest) ([]byte, error) {
	for _, number := range s.order {
		block, err := s.files[number].Block(name)
		if err != nil {
			return nil, &RecordError{s.site.inRecord(blocksFile(number)), err}
		}
		if block != nil {
			return block, nil
		}
	}
	return nil, fmt.Errorf("the block %s is in none of the files of blocks that it names", name.Hex())
}

// holder gives the deployment in whose file a block is; 0: it is in none.
func (s *shelf) holder(name manifest.Digest) (number int, bytes int64) {
	for _, number := range s.order {
		if length, there := s.files[number].Length(name); there {
			return number, length
		}
	}
	return 0, 0
}

// writeEntries writes the blocks of a deployment that are in no earlier file, and gives what N.json says of its entries.
func (s *Site) writeEntries(ctx context.Context, number int, entries *recording) (*head, error) {
	from, before, err := s.shelfBefore(ctx, number, entries.by != nil)
	if err != nil {
		return nil, err
	}
	var (
		file = &making{site: s, ctx: ctx, name: blocksFile(number)}
		own  = blocks.NewWriter(file)
		used = map[int]map[manifest.Digest]int64{}
	)
	defer before.close()
	defer file.giveUp()
	if err := s.keepOwn(ctx, number, own); err != nil {
		return nil, err
	}
	file.streams = s.isNear() && len(before.files) == 0
	uses := func(name manifest.Digest) bool {
		holder, length := before.holder(name)
		if holder == 0 {
			return false
		}
		if used[holder] == nil {
			used[holder] = map[manifest.Digest]int64{}
		}
		used[holder][name] = length
		return true
	}
	var top blocks.Ref
	if by := entries.by; by != nil && from != nil && by.number == from.Deployment.Number {
		if top, err = before.patch(from, by.edits, own.Add, uses); err != nil {
			return nil, err
		}
	} else {
		top = blocks.Build(entries.walk, func(name manifest.Digest, block []byte) {
			if !uses(name) {
				own.Add(name, block)
			}
		})
	}
	out := &head{Version: recordVersion, Top: top.Name, Count: top.Entries}
	var sizes []blockFile
	for holder, names := range used {
		f := blockFile{Of: holder}
		for _, length := range names {
			f.Bytes += length
		}
		sizes = append(sizes, f)
	}
	slices.SortFunc(sizes, func(a, b blockFile) int { return cmp.Compare(a.Bytes, b.Bytes) })
	for i, f := range sizes {
		if !absorbs(own.Len(), f.Bytes, before.files[f.Of].Size(), len(sizes)-i) {
			out.Blocks = append(out.Blocks, f)
			continue
		}
		if err := s.absorb(ctx, own, f.Of, used[f.Of]); err != nil {
			return nil, err
		}
	}
	if own.Len() > 0 {
		out.Blocks = append(out.Blocks, blockFile{number, own.Len()})
	}
	slices.SortFunc(out.Blocks, func(a, b blockFile) int { return b.Of - a.Of })
	if own.Len() == 0 {
		return out, nil
	}
	s.shelved.forget(number)
	if err := own.Close(); err != nil {
		return nil, cmp.Or(file.giveUp(), err)
	}
	return out, file.end()
}

// patch makes the blocks of a tree that follows from the one of a head, which the files are of, by edits. Each that is in none of
// the files is added, and uses is called with the names of all others.
func (s *shelf) patch(from *head, edits []blocks.Edit, add func(name manifest.Digest, block []byte), uses func(name manifest.Digest) bool) (blocks.Ref, error) {
	fresh := map[manifest.Digest][]byte{}
	top, err := blocks.Patch(blocks.Ref{Name: from.Top, Entries: from.Count}, edits, s.block, func(name manifest.Digest, block []byte) {
		if holder, _ := s.holder(name); holder == 0 {
			fresh[name] = bytes.Clone(block)
			add(name, block)
		}
	})
	if err != nil {
		return top, err
	}
	names, err := blocks.Names(top, func(name manifest.Digest) ([]byte, error) {
		if block := fresh[name]; block != nil {
			return block, nil
		}
		if holder, _ := s.holder(name); holder > 0 && s.site.shelved.isLeaf(name) { // which need not be read to know what it names
			return blocks.Nothing(), nil
		}
		return s.block(name)
	})
	for name := range names {
		uses(name)
	}
	return top, err
}

// fewFiles is how many earlier files a tree may be in before the smallest are taken up, whatever their size.
const fewFiles = 8

// absorbs tells whether what is of use in an earlier file is written anew: beside what is written anyway it is little, or
// little of its file is of use, or there are too many files.
func absorbs(written, ofUse, size int64, files int) bool {
	return ofUse <= written || 8*ofUse < size || files > fewFiles
}

// absorb adds blocks of an earlier file.
func (s *Site) absorb(ctx context.Context, own *blocks.Writer, of int, names map[manifest.Digest]int64) error {
	file, err := s.openBlocks(ctx, of)
	if err != nil {
		return err
	}
	defer file.Close()
	for name := range names {
		block, err := file.Block(name)
		if err == nil && block == nil {
			err = blocks.ErrDamaged
		}
		if err != nil {
			return &RecordError{s.inRecord(blocksFile(of)), err}
		}
		own.Add(name, block)
	}
	return nil
}

// shelfBefore gives the files of the current deployment, but for that of the number that is written, and its head. Where they
// cannot be used there are none, and all is written anew. Where their blocks are not asked for, what is known already is not read.
func (s *Site) shelfBefore(ctx context.Context, number int, whole bool) (*head, *shelf, error) {
	none := &shelf{site: s}
	current, err := s.current(ctx)
	if err != nil || current == 0 || current == number {
		return nil, none, err
	}
	h, old, err := s.readHead(ctx, current, false)
	if err != nil || old != nil {
		return nil, none, unlessDamaged(err)
	}
	h.Blocks = slices.DeleteFunc(h.Blocks, func(f blockFile) bool { return f.Of >= number })
	out, err := s.openShelf(ctx, h, whole)
	if err != nil {
		out.close()
		return nil, none, unlessDamaged(err)
	}
	return h, out, nil
}

// unlessDamaged gives nil for an error that tells that a part of the record cannot be used.
func unlessDamaged(err error) error {
	if isRecordError(err) || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// keepOwn adds the blocks that an N.json of the same number names in its own file, if there is one.
func (s *Site) keepOwn(ctx context.Context, number int, own *blocks.Writer) error {
	h, old, err := s.readHead(ctx, number, false)
	if err != nil || old != nil {
		return unlessDamaged(err)
	}
	if !slices.ContainsFunc(h.Blocks, func(f blockFile) bool { return f.Of == number }) {
		return nil
	}
	all, err := s.openShelf(ctx, h, true)
	defer all.close()
	if err != nil {
		return unlessDamaged(err)
	}
	names, err := blocks.Names(blocks.Ref{Name: h.Top, Entries: h.Count}, all.block)
	if err != nil {
		return unlessDamaged(&RecordError{s.inRecord(deploymentFile(number)), err})
	}
	for name := range names {
		if block, err := all.files[number].Block(name); err == nil && block != nil {
			own.Add(name, block)
		}
	}
	return nil
}

// unusedBlocks gives the files of blocks that none of the deployments names that stay. The current one is among them.
func (s *Site) unusedBlocks(ctx context.Context, current int, files, stay []int) ([]int, error) {
	var used []int
	left := func() []int {
		return slices.DeleteFunc(slices.Clone(files), func(number int) bool { return slices.Contains(used, number) })
	}
	slices.SortFunc(stay, func(a, b int) int { return b - a })
	for _, number := range stay {
		if len(left()) == 0 {
			return nil, nil
		}
		h, old, err := s.readHead(ctx, number, false)
		if isRecordError(err) {
			return nil, nil // what it names is not known
		}
		if err != nil {
			return nil, err
		}
		if old == nil {
			for _, f := range h.Blocks {
				used = append(used, f.Of)
			}
		}
	}
	if !slices.Contains(stay, current) {
		return nil, nil
	}
	return left(), nil
}

// recordNumber gives which deployment a file in the folder of deployments belongs to, and what ends its name.
func recordNumber(name string) (number int, suffix string, ok bool) {
	base, suffix, found := strings.Cut(name, ".")
	number, err := strconv.Atoi(base)
	return number, suffix, found && err == nil
}
