package content

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// Cache remembers digests between runs, in one file for each source folder.
//
// A digest is believed when the file's path, size, modification time, change time and inode are what they were, and
// it is kept only when the file had been left alone for longer than a clock's step before it was read (see
// identity.settled). A cache file is written beside its place and renamed into it, so two runs at once cannot mix
// theirs: the later one's counts. One that was cut short or damaged is as if it were not there.
//
// The file goes folder by folder, as a scan does, so that a scan has the digests of a few folders in memory, however many
// there are:
//
//	tartine digests 2 <newline>   the folders' records   index   where the index begins (8 bytes)   CRC-32C of the index (4 bytes)
//
// The records of a folder follow one another in the order of their names: the length of the name (2 bytes), the name,
// size, modification time and change time in nanoseconds, and inode (8 bytes each), the day when it was asked for last
// (4 bytes, in days since 1970), verdict (a byte), digest (32 bytes). The index has for each folder: the length of its
// path (2 bytes) and the path, where its records begin (8 bytes), their length, their CRC-32C, and the latest of their
// days (4 bytes each). Numbers have their lowest byte first.
//
// Not promised: where neither change time nor inode can be had (Windows), a program that changes bytes and puts size
// and modification time back goes unnoticed. Go round the cache there.
type Cache struct {
	dir   string
	clock func() time.Time
	hold  int // bytes of records that are in memory before they are written; 0: mostHeld
	// bytes of folded entries that are in memory before they are put aside; 0: mostInMemory
	inMemory int
}

// UserCache is the cache in the user's cache folder ($XDG_CACHE_HOME/tartine/digests or what the system uses).
func UserCache() (*Cache, error) {
	dir, err := UserCacheFolder()
	if err != nil {
		return nil, err
	}
	return NewCache(dir), nil
}

// UserCacheFolder gives the folder of that cache.
func UserCacheFolder() (string, error) {
	base, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("find cache folder: %w", err)
	}
	return filepath.Join(base, "tartine", "digests"), nil
}

// NewCache is a cache in a folder, which is made when it is needed.
func NewCache(dir string) *Cache { return &Cache{dir: dir, clock: time.Now} }

const (
	cacheMagic   = "tartine digests 2\n"
	cacheFacts   = 4*8 + 4 + 1 + sha256.Size // of a record, behind its name
	cacheTail    = 8 + 4
	cacheDays    = 30 // how long a digest is kept that no scan asks for
	cacheMost    = 1 << 16
	cacheLargest = 1 << 30 // bytes of an index
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

type cached struct {
	id      identity
	day     uint32 // when it was last asked for, in days since 1970
	verdict verdict
	digest  manifest.Digest
}

// record is what is known of a file in a folder.
type record struct {
	name string
	cached
}

// stretch is where the records of a folder are in a file.
type stretch struct {
	at          int64
	length, sum uint32
	day         uint32 // the latest
}

// added is the records of a folder that have changed, as they are written.
type added struct {
	records []byte
	stretch // where they are in the new file, when records is nil
}

// digests is the cache of one source while a scan goes on. It is used by one goroutine at a time, but for beside.
type digests struct {
	file  string // empty: nothing is kept
	today uint32
	whole map[string]*folderDigests // folders, which stay in memory; nil: they do not

	old   *os.File // nil: there is none
	known map[string]stretch

	turn  sync.Mutex       // of those who look at what stays in memory
	mu    sync.Mutex       // for what follows
	added map[string]added // folders that have changed, in the place of those of old
	held  int              // bytes of their records that are in memory
	most  int              // that many of them may be
	fresh *os.File         // the new file, which takes the place of the old one in the end; nil: there is none yet
	end   int64            // of it
	wrong error            // why it cannot be written

	folders []*folderDigests // those that are in memory: a folder, and those above it
}

// folderDigests is what is known of the files in one folder.
type folderDigests struct {
	dir     string
	records []record // sorted by name
	changed bool
}

// load reads what is known of a source. A nil cache knows nothing and keeps nothing.
func (c *Cache) load(source string) *digests {
	d := &digests{known: map[string]stretch{}, added: map[string]added{}}
	if c == nil {
		return d
	}
	d.today, d.most = uint32(c.clock().Unix()/86400), cmp.Or(c.hold, mostHeld)
	absolute, err := filepath.Abs(source)
	if err != nil {
		return d
	}
	name := sha256.Sum256([]byte(absolute))
	d.file = filepath.Join(c.dir, manifest.Digest(name).Hex()[:32])
	if d.open() != nil {
		d.close()
		d.known = map[string]stretch{} // the files are read again
	}
	return d
}

// close closes the file of the cache. A new one that was not finished goes.
func (d *digests) close() {
	if d.old != nil {
		d.old.Close()
		d.old = nil
	}
	if d.fresh != nil {
		d.fresh.Close()
		_ = os.Remove(d.fresh.Name()) // else a later run does it
		d.fresh = nil
	}
}

var errDamaged = errors.New("the cache is damaged")

// open reads the index of the file of the cache.
func (d *digests) open() (err error) {
	if d.old, err = os.Open(d.file); err != nil {
		d.old = nil
		return err
	}
	info, err := d.old.Stat()
	if err != nil {
		return err
	}
	size := info.Size()
	head := make([]byte, len(cacheMagic))
	tail := make([]byte, cacheTail)
	if size < int64(len(head)+len(tail)) {
		return errDamaged
	}
	if _, err := d.old.ReadAt(head, 0); err != nil {
		return err
	}
	if _, err := d.old.ReadAt(tail, size-cacheTail); err != nil {
		return err
	}
	at := binary.LittleEndian.Uint64(tail)
	if string(head) != cacheMagic || at < uint64(len(head)) || at > uint64(size-cacheTail) || uint64(size)-at > cacheLargest {
		return errDamaged
	}
	index := make([]byte, size-cacheTail-int64(at))
	if _, err := d.old.ReadAt(index, int64(at)); err != nil {
		return err
	}
	if crc32.Checksum(index, castagnoli) != binary.LittleEndian.Uint32(tail[8:]) {
		return errDamaged
	}
	return d.parseIndex(string(index), int64(at))
}

func (d *digests) parseIndex(index string, end int64) error {
	const facts = 8 + 4 + 4 + 4
	for len(index) > 0 {
		if len(index) < 2 {
			return errDamaged
		}
		length := int(index[0]) | int(index[1])<<8
		if len(index) < 2+length+facts {
			return errDamaged
		}
		dir, rest := index[2:2+length], []byte(index[2+length:2+length+facts])
		index = index[2+length+facts:]
		s := stretch{int64(binary.LittleEndian.Uint64(rest)), binary.LittleEndian.Uint32(rest[8:]), binary.LittleEndian.Uint32(rest[12:]),
			binary.LittleEndian.Uint32(rest[16:])}
		if s.at < int64(len(cacheMagic)) || s.at > end || int64(s.length) > end-s.at {
			return errDamaged
		}
		d.known[dir] = s
	}
	return nil
}

// loadAll reads what is known of several sources.
func (c *Cache) loadAll(sources []Source) []*digests {
	out := make([]*digests, len(sources))
	for i := range sources {
		if sources[i].isListed() { // nothing tells whether such a file is the one that was read
			out[i] = (*Cache)(nil).load("")
			continue
		}
		out[i] = c.load(sources[i].Path)
	}
	return out
}

// folder gives what is known of a folder. Paths are asked for in their order, or nearly so: folders that the one that is
// asked for is not in are put away.
func (d *digests) folder(dir string) *folderDigests {
	if d.whole != nil {
		if d.whole[dir] == nil {
			d.whole[dir] = &folderDigests{dir: dir, records: d.read(dir)}
		}
		return d.whole[dir]
	}
	for i := len(d.folders) - 1; i >= 0; i-- {
		f := d.folders[i]
		switch {
		case f.dir == dir:
			return f
		case fsys.Contains(f.dir, dir):
			continue
		}
		d.putAway(f)
		d.folders = slices.Delete(d.folders, i, i+1)
	}
	f := &folderDigests{dir: strings.Clone(dir), records: d.read(dir)} // it may be part of the text of all paths in it
	d.folders = append(d.folders, f)
	return f
}

// read reads the records of a folder. What is damaged is not known.
func (d *digests) read(dir string) []record {
	d.mu.Lock()
	added, isNew := d.added[dir]
	from, s, found := d.fresh, added.stretch, isNew
	d.mu.Unlock()
	text := added.records
	if !isNew {
		from = d.old
		s, found = d.known[dir]
	}
	if text == nil {
		if !found || from == nil {
			return nil
		}
		buffer := texts.Get().(*[]byte) // its records do not keep it
		defer texts.Put(buffer)
		*buffer = slices.Grow((*buffer)[:0], int(s.length))[:s.length]
		text = *buffer
		if _, err := from.ReadAt(text, s.at); err != nil || crc32.Checksum(text, castagnoli) != s.sum {
			return nil
		}
	}
	records, err := parseRecords(text)
	if err != nil {
		return nil
	}
	return records
}

var texts = sync.Pool{New: func() any { return new([]byte) }}

// parseRecords reads the records of a folder, whose names are parts of one text.
func parseRecords(text []byte) ([]record, error) {
	all := string(text)
	out := make([]record, 0, len(text)/(cacheFacts+16))
	for at := 0; at < len(text); {
		if len(text)-at < 2 {
			return nil, errDamaged
		}
		length := int(binary.LittleEndian.Uint16(text[at:]))
		at += 2
		if len(text)-at < length+cacheFacts {
			return nil, errDamaged
		}
		r := record{name: all[at : at+length]}
		facts := text[at+length:]
		r.id.size = int64(binary.LittleEndian.Uint64(facts))
		r.id.mtime = int64(binary.LittleEndian.Uint64(facts[8:]))
		r.id.ctime = int64(binary.LittleEndian.Uint64(facts[16:]))
		r.id.inode = binary.LittleEndian.Uint64(facts[24:])
		r.day = binary.LittleEndian.Uint32(facts[32:])
		if r.verdict = verdict(facts[36]); r.verdict > database {
			return nil, errDamaged
		}
		copy(r.digest[:], facts[37:])
		out = append(out, r)
		at += length + cacheFacts
	}
	return out, nil
}

func packRecords(records []record, today uint32) (out []byte, latest uint32) {
	size := 0
	for i := range records {
		size += 2 + len(records[i].name) + cacheFacts
	}
	out = make([]byte, 0, size)
	for i := range records {
		r := &records[i]
		if today-r.day > cacheDays {
			continue
		}
		latest = max(latest, r.day)
		out = binary.LittleEndian.AppendUint16(out, uint16(len(r.name)))
		out = append(out, r.name...)
		out = binary.LittleEndian.AppendUint64(out, uint64(r.id.size))
		out = binary.LittleEndian.AppendUint64(out, uint64(r.id.mtime))
		out = binary.LittleEndian.AppendUint64(out, uint64(r.id.ctime))
		out = binary.LittleEndian.AppendUint64(out, r.id.inode)
		out = binary.LittleEndian.AppendUint32(out, r.day)
		out = append(out, byte(r.verdict))
		out = append(out, r.digest[:]...)
	}
	return out, latest
}

// putAway keeps what has changed of a folder, for save.
func (d *digests) putAway(f *folderDigests) {
	if !f.changed {
		return
	}
	f.changed = false
	d.mu.Lock()
	defer d.mu.Unlock()
	d.held -= len(d.added[f.dir].records)
	var a added
	a.records, a.day = packRecords(f.records, d.today)
	d.added[f.dir] = a
	if d.held += len(a.records); d.held > d.most && d.wrong == nil {
		d.wrong = d.spill()
	}
}

func (f *folderDigests) find(name string) (at int, found bool) {
	return slices.BinarySearchFunc(f.records, name, func(r record, name string) int { return strings.Compare(r.name, name) })
}

// folderLookup is what is known of a folder while the files in it are looked up one after the other.
type folderLookup struct {
	*digests
	folder *folderDigests
	next   *int // behind the one that was found last: most often the next one to be asked for
}

// beside begins to look up files of a folder. Several folders may be looked at at the same time, also by several
// goroutines, but for those that stay in memory: these take turns. Leave ends it.
func (d *digests) beside(dir string) folderLookup {
	if d.whole != nil {
		d.turn.Lock()
		return folderLookup{d, d.folder(dir), new(int)}
	}
	return folderLookup{d, &folderDigests{dir: dir, records: d.read(dir)}, new(int)}
}

// lookup gives what is known of a file, and notes that it is still of use.
func (l folderLookup) lookup(name string, id identity) (cached, bool) {
	at, found := *l.next, false
	if found = at < len(l.folder.records) && l.folder.records[at].name == name; !found {
		at, found = l.folder.find(name)
	}
	if *l.next = at + 1; !found || l.folder.records[at].id != id {
		return cached{}, false
	}
	r := &l.folder.records[at]
	if r.day != l.today {
		r.day, l.folder.changed = l.today, true
	}
	return r.cached, true
}

func (l folderLookup) leave() {
	switch {
	case l.digests == nil:
	case l.whole != nil:
		l.turn.Unlock()
	default:
		l.putAway(l.folder)
	}
}

// lookup gives what is known of a single file.
func (d *digests) lookup(path string, id identity) (cached, bool) {
	dir, name := fsys.Split(path)
	l := d.beside(dir)
	defer l.leave()
	return l.lookup(name, id)
}

func (d *digests) store(path string, c cached) {
	dir, name := fsys.Split(path)
	if d.file == "" || len(name) >= cacheMost || len(dir) >= cacheMost {
		return
	}
	c.day = d.today
	f := d.folder(dir)
	at, found := f.find(name)
	if !found {
		if len(f.records) == cap(f.records) {
			f.records = slices.Grow(f.records, len(f.records)+32)
		}
		f.records = slices.Insert(f.records, at, record{name: name})
	}
	f.records[at].cached, f.changed = c, true
}

// forget drops what is known of a path whose digest could not be kept.
func (d *digests) forget(path string) {
	dir, name := fsys.Split(path)
	f := d.folder(dir)
	if at, found := f.find(name); found {
		f.records, f.changed = slices.Delete(f.records, at, at+1), true
	}
}
