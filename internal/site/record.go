package site

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// DefaultHistory is how many deployments can be rolled back to, the current one included, unless told otherwise.
const DefaultHistory = 5

// RecordError tells that a file of the record cannot be used.
type RecordError struct {
	File string
	Err  error
}

func (e *RecordError) Error() string { return fmt.Sprintf("record %s: %v", e.File, e.Err) }

func (e *RecordError) Unwrap() error { return e.Err }

// ErrNewer tells that a program of a later version wrote something.
var ErrNewer = errors.New("a newer one wrote it")

// ErrOtherTree tells that what is recorded of a deployment is not the tree that it says it is.
var ErrOtherTree = errors.New("what it records is not the tree that it says it is")

// notKnown is why a file of the record is not read whose version is not known.
func notKnown(version, known int) error {
	return fmt.Errorf("version %d is not known: this program reads versions 1 to %d, and %w", version, known, ErrNewer)
}

// Recorded reads the manifest of the current deployment, or nil when none is recorded.
func (s *Site) Recorded(ctx context.Context) (*manifest.Manifest, error) {
	number, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	return s.recordedAs(ctx, number)
}

// recordedAs reads the manifest of a deployment; nil for number 0.
func (s *Site) recordedAs(ctx context.Context, number int) (*manifest.Manifest, error) {
	m, _, err := s.recordedTree(ctx, number)
	return m, err
}

func deploymentFile(number int) string { return fmt.Sprintf("deployments/%d.json", number) }

// Affirm writes the record of the current deployment once more, as it is, after its files were found to be as
// recorded by their content in the last survey. From then on files that were dated shortly before the first writing are
// believed by size and time too, and so are those that changed in other ways before that survey.
func (s *Site) Affirm(ctx context.Context, number int, user string) error {
	ctx, release, err := s.lock(ctx, user)
	if err != nil {
		return err
	}
	defer release()
	if standing, err := s.current(ctx); err != nil || standing != number {
		return err
	}
	text, err := s.read(ctx, deploymentFile(number), mostList)
	if err != nil {
		return err
	}
	if s.seen > 0 {
		if err := s.write(ctx, seenFile(number), []byte(strconv.FormatInt(s.seen, 10)+"\n")); err != nil {
			return err
		}
	}
	return s.write(ctx, deploymentFile(number), text)
}

// current gives the number of the current deployment, or 0.
func (s *Site) current(ctx context.Context) (int, error) {
	if s.record == "" {
		return 0, nil
	}
	text, err := s.read(ctx, "current", mostShort)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	number, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || number < 1 || number > mostNumber {
		return 0, &RecordError{s.inRecord("current"), fmt.Errorf("%q is not the number of a deployment", text)}
	}
	return number, nil
}

// RecordedDigest gives the tree digest that is recorded; zero: none is, or it cannot be read, of which others tell why.
func (s *Site) RecordedDigest(ctx context.Context) manifest.Digest {
	number, err := s.current(ctx)
	if err != nil || number == 0 {
		return manifest.Digest{}
	}
	h, _, err := s.readHead(ctx, number, false)
	if err != nil {
		return manifest.Digest{}
	}
	return h.tree()
}

// How large files of the record may be that are read, in bytes, and how large a deployment's number. The record is
// input: whoever can write there must not be able to take our memory.
const (
	mostShort  = 16 << 10  // a lock, or the number that is current
	mostList   = 512 << 20 // a manifest, its index, a journal
	mostNumber = 1 << 30
)

// read reads a file of the record that has so many bytes at most.
func (s *Site) read(ctx context.Context, name string, most int64) ([]byte, error) {
	file, err := s.fs.Open(ctx, s.inRecord(name))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	tooLarge := &RecordError{s.inRecord(name), &UntrustedError{fmt.Sprintf("it has more than the %d bytes that such a file may have", most)}}
	if size, known := fsys.SizeOf(file); known && size > most {
		return nil, tooLarge
	}
	var room bytes.Buffer
	if size, known := fsys.SizeOf(file); known {
		room.Grow(int(size) + bytes.MinRead)
	}
	_, err = room.ReadFrom(io.LimitReader(fsys.WithContext(ctx, file), most+1))
	text := room.Bytes()
	switch {
	case err != nil:
		return nil, &RecordError{s.inRecord(name), err}
	case int64(len(text)) > most:
		return nil, tooLarge
	}
	return text, nil
}

// write writes a file of the record in one step: it is whole and new, or as it was.
func (s *Site) write(ctx context.Context, name string, text []byte) error {
	content := &provedText{Reader: bytes.NewReader(text)}
	return s.writeAs(ctx, name, content, func() (int64, bool) { return int64(len(text)), content.proved == sha256.Sum256(text) })
}

// writeFrom is write of what is read. At a place that connections lead to it is the only try: nothing can be read again.
func (s *Site) writeFrom(ctx context.Context, name string, text io.Reader) error {
	content := &countedText{Reader: text}
	return s.writeAs(ctx, name, content, func() (int64, bool) { return content.size, false })
}

// writeAs writes content. Then written tells how many bytes that was, and whether the place has proved that they are there.
func (s *Site) writeAs(ctx context.Context, name string, content io.Reader, written func() (size int64, proved bool)) error {
	fresh := s.inRecord(name + ".fresh")
	_, err := s.fs.Put(ctx, fresh, content, fsys.Attributes{Mode: s.private(0o600)})
	if err == nil {
		err = s.sync(ctx)
	}
	if size, proved := written(); err == nil && !proved {
		err = s.checkSize(ctx, fresh, size)
	}
	if err == nil {
		err = s.fs.Rename(ctx, fresh, s.inRecord(name))
	}
	if err != nil {
		return &RecordError{s.inRecord(name), err}
	}
	return nil
}

// provedText is a text of which it may be known what a place has read back.
type provedText struct {
	*bytes.Reader
	proved manifest.Digest
}

// Proved implements fsys.Proved.
func (p *provedText) Proved(digest manifest.Digest) { p.proved = digest }

// countedText counts the bytes of a text.
type countedText struct {
	io.Reader
	size int64
}

func (c *countedText) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.size += int64(n)
	return n, err
}

// writeDurably is write, after which the file has its name for good.
func (s *Site) writeDurably(ctx context.Context, name string, text []byte) error {
	if err := s.write(ctx, name, text); err != nil {
		return err
	}
	return s.makeDurable(ctx, name)
}

// makeDurable has a file of the record, which was written, keep its name for good.
func (s *Site) makeDurable(ctx context.Context, name string) error {
	if err := s.sync(ctx); err != nil {
		return &RecordError{s.inRecord(name), err}
	}
	return nil
}

// checkSize finds out whether a far end that reported success has lost the tail of a file.
func (s *Site) checkSize(ctx context.Context, name string, size int64) error {
	info, err := s.fs.Lstat(ctx, name)
	if err == nil && info.Size != size {
		err = fmt.Errorf("%d bytes were written and %d are there", size, info.Size)
	}
	return err
}

// sync makes durable what has been written, where that is not done file by file.
func (s *Site) sync(ctx context.Context) error {
	if syncer, ok := s.fs.(fsys.Syncer); ok {
		return syncer.Sync(ctx)
	}
	return nil
}

// numbers gives the deployments that are recorded, in order, up to the current one.
func (s *Site) numbers(ctx context.Context, current int) ([]int, error) {
	list, err := s.fs.List(ctx, s.inRecord("deployments"))
	return numbersOf(list, current), err
}

func numbersOf(list []fsys.Info, current int) (out []int) {
	for _, info := range list {
		number, err := strconv.Atoi(strings.TrimSuffix(info.Name, ".json"))
		if err == nil && number > 0 && number <= current {
			out = append(out, number)
		}
	}
	slices.Sort(out)
	return out
}

// handSuffix ends the name of an empty file that says of a deployment that it was made by hand.
const handSuffix = "hand"

// outdated gives the oldest deployment that stays, 0 when all do, and those after it that go nevertheless. Of deployments
// of a content as many stay as the history is long, and of changes by hand since the first of them as many again: a few
// changes by hand must not push out what a person would go back to.
func outdated(numbers []int, byHand map[int]bool, history int) (oldest int, between map[int]bool) {
	var content, hand []int
	for _, number := range numbers {
		if byHand[number] {
			hand = append(hand, number)
		} else {
			content = append(content, number)
		}
	}
	between = map[int]bool{}
	if len(content) >= history {
		oldest = content[len(content)-history]
		hand = slices.DeleteFunc(hand, func(number int) bool { return number < oldest })
	}
	if gone := len(hand) - history; gone > 0 {
		for _, number := range hand[:gone] {
			between[number] = true
		}
		if len(content) == 0 {
			oldest = hand[gone]
		}
	}
	return oldest, between
}

// forgetOld removes the manifests of deployments that are no longer kept, and the content that only they wanted.
// One that was taken up by another, or that is one of too many made by hand, goes, too, but for what it kept.
func (s *Site) forgetOld(ctx context.Context, current, history, takenUp int) error {
	if history <= 0 {
		history = DefaultHistory
	}
	list, err := s.fs.List(ctx, s.inRecord("deployments"))
	if err != nil {
		return err
	}
	numbers := slices.DeleteFunc(numbersOf(list, current), func(number int) bool { return number == takenUp })
	byHand := map[int]bool{}
	var blocks []int
	for _, info := range list {
		switch number, suffix, ok := recordNumber(info.Name); {
		case ok && suffix == handSuffix:
			byHand[number] = true
		case ok && suffix == blocksSuffix && number <= current:
			blocks = append(blocks, number)
		}
	}
	oldest, between := outdated(numbers, byHand, history)
	between[takenUp] = true
	var gone []string
	unwanted := map[manifest.Digest]bool{}
	var later []int // those whose kept content stays
	for _, info := range list {
		number, suffix, ok := recordNumber(info.Name)
		isKept := suffix == "kept"
		if ok && isKept && number > oldest && number <= current {
			later = append(later, number)
		}
		if suffix == blocksSuffix {
			continue
		}
		if !ok || (number > oldest || !isKept && number == oldest) && (isKept || !between[number]) {
			continue
		}
		gone = append(gone, "deployments/"+info.Name)
		if !isKept {
			continue
		}
		digests, err := s.readKept(ctx, number)
		if err != nil {
			return err
		}
		for _, d := range digests {
			unwanted[d] = true
		}
	}
	if len(unwanted) > 0 {
		for _, number := range later {
			digests, err := s.readKept(ctx, number)
			if err != nil {
				return err
			}
			for _, d := range digests {
				delete(unwanted, d)
			}
		}
	}
	for d := range unwanted {
		gone = append(gone, storeName(kept, d, 1))
	}
	if err := s.discard(ctx, gone); err != nil {
		return err
	}
	stay := slices.DeleteFunc(numbers, func(number int) bool { return number < oldest || between[number] })
	unused, err := s.unusedBlocks(ctx, current, blocks, stay)
	if err != nil {
		return err
	}
	gone = gone[:0]
	for _, number := range unused {
		gone = append(gone, blocksFile(number))
	}
	return s.discard(ctx, gone)
}
