package content

import (
	"bufio"
	"encoding/binary"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"time"
)

// mostHeld is how many bytes of records are in memory before they are written, usually.
const mostHeld = 4 << 20

// spill writes the records that are in memory into the new file, which begins with them.
func (d *digests) spill() error {
	if d.fresh == nil {
		fresh, err := newFile(d.file)
		if err != nil {
			return err
		}
		d.fresh, d.end = fresh, int64(len(cacheMagic))
		if _, err := fresh.WriteString(cacheMagic); err != nil {
			return err
		}
	}
	out := bufio.NewWriterSize(io.NewOffsetWriter(d.fresh, d.end), 256<<10)
	at := d.end
	for dir, a := range d.added {
		if a.records == nil {
			continue
		}
		a.at, a.length, a.sum = at, uint32(len(a.records)), crc32.Checksum(a.records, castagnoli)
		if _, err := out.Write(a.records); err != nil {
			return err
		}
		at += int64(len(a.records))
		a.records = nil
		d.added[dir] = a
	}
	if err := out.Flush(); err != nil {
		return err
	}
	d.end, d.held = at, 0
	return nil
}

// save writes the cache when it has changed. A cache that cannot be written is no reason to fail: the next scan reads
// the files again.
func (d *digests) save() error {
	for _, f := range d.folders {
		d.putAway(f)
	}
	for _, f := range d.whole {
		d.putAway(f)
	}
	d.folders = nil
	defer d.close()
	if d.file == "" || len(d.added) == 0 {
		return nil
	}
	if d.wrong == nil {
		d.wrong = d.spill()
	}
	if d.wrong == nil {
		d.wrong = d.finish()
	}
	if d.wrong != nil {
		return d.wrong
	}
	if d.old != nil {
		d.old.Close() // which some systems ask for before another one takes its name
		d.old = nil
	}
	fresh := d.fresh
	d.fresh = nil
	return place(fresh, d.file)
}

// finish writes what is still of use of the old file, and the index, behind what has changed.
func (d *digests) finish() error {
	var index []byte
	out, at := bufio.NewWriterSize(io.NewOffsetWriter(d.fresh, d.end), 256<<10), d.end
	add := func(dir string, s stretch) {
		index = binary.LittleEndian.AppendUint16(index, uint16(len(dir)))
		index = append(index, dir...)
		index = binary.LittleEndian.AppendUint64(index, uint64(s.at))
		for _, n := range []uint32{s.length, s.sum, s.day} {
			index = binary.LittleEndian.AppendUint32(index, n)
		}
	}
	for dir, s := range d.known {
		if _, changed := d.added[dir]; changed || d.today-s.day > cacheDays || d.old == nil {
			continue
		}
		if _, err := io.CopyN(out, io.NewSectionReader(d.old, s.at, int64(s.length)), int64(s.length)); err != nil {
			return err
		}
		s.at = at
		add(dir, s)
		at += int64(s.length)
	}
	for dir, a := range d.added {
		if a.length > 0 {
			add(dir, a.stretch)
		}
	}
	index = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint64(index, uint64(at)), crc32.Checksum(index, castagnoli))
	if _, err := out.Write(index); err != nil {
		return err
	}
	return out.Flush()
}

// ReplaceFile writes a file of a cache in one step, and its folder where that is missing.
func ReplaceFile(name string, content []byte) error {
	file, err := newFile(name)
	if err != nil {
		return err
	}
	if _, err := file.Write(content); err != nil {
		file.Close()
		_ = os.Remove(file.Name()) // else a later run does it
		return err
	}
	return place(file, name)
}

// newPrefix begins the names of files that take the place of others.
const newPrefix = "new-"

// newFile makes a file that is to take the place of another one. Those go that runs have left which were killed.
func newFile(name string) (*os.File, error) {
	dir := filepath.Dir(name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	left, _ := filepath.Glob(filepath.Join(dir, newPrefix+"*")) // the pattern is well formed
	for _, old := range left {
		if info, err := os.Lstat(old); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
			_ = os.Remove(old) // it is only in the way of room
		}
	}
	return os.CreateTemp(dir, newPrefix+"*")
}

// place puts a new file into its place.
func place(file *os.File, name string) error {
	err := file.Close()
	if err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		_ = os.Remove(file.Name()) // else a later run does it
	}
	return err
}
