package content

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tartine/internal/manifest"
)

// Cache remembers digests between runs, in one file for each source folder.
//
// A digest is believed when the file's path, size, modification time, change time and inode are what they were, and
// it is kept only when the file had been left alone for longer than a clock's step before it was read (see
// identity.settled). A cache file is written beside its place and renamed into it, so two runs at once cannot mix
// theirs: the later one's counts. It ends in the SHA-256 of all before it; one that was cut short or damaged is as if
// it were not there.
//
// Not promised: where neither change time nor inode can be had (Windows), a program that changes bytes and puts size
// and modification time back goes unnoticed. Go round the cache there.
type Cache struct {
	dir   string
	clock func() time.Time
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
	cacheMagic   = "tartine digests 1\n"
	cacheRecord  = 4*8 + 4 + 1 + sha256.Size // identity, day, verdict, digest
	cacheDays    = 30                        // how long a digest is kept that no scan asks for
	cacheMaxName = 1 << 16
)

type cached struct {
	id      identity
	day     uint32 // when it was last asked for, in days since 1970
	verdict verdict
	digest  manifest.Digest
}

// digests is the cache of one source while a scan goes on. Lookups may run at once; store may not.
type digests struct {
	file    string
	known   map[string]cached
	changed bool
	today   uint32
}

// load reads what is known of a source. A nil cache knows nothing and keeps nothing.
func (c *Cache) load(source string) *digests {
	d := &digests{known: map[string]cached{}}
	if c == nil {
		return d
	}
	d.today = uint32(c.clock().Unix() / 86400)
	absolute, err := filepath.Abs(source)
	if err != nil {
		return d
	}
	name := sha256.Sum256([]byte(absolute))
	d.file = filepath.Join(c.dir, manifest.Digest(name).Hex()[:32])
	if d.read() != nil {
		d.known = map[string]cached{} // the files are read again
	}
	return d
}

// read reads the file of the cache. Its names stay in the memory that was read.
func (d *digests) read() error {
	file, err := os.Open(d.file)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	size := info.Size() - sha256.Size
	if size < int64(len(cacheMagic)) {
		return errDamaged
	}
	var (
		text strings.Builder
		hash = sha256.New()
		sum  [sha256.Size]byte
	)
	text.Grow(int(size))
	if _, err := io.CopyN(io.MultiWriter(&text, hash), file, size); err != nil {
		return err
	}
	if _, err := io.ReadFull(file, sum[:]); err != nil {
		return err
	}
	if !bytes.Equal(hash.Sum(nil), sum[:]) {
		return errDamaged
	}
	return d.parse(text.String())
}

// loadAll reads what is known of several sources, and goes on while the caller does other work. The function that it
// returns waits for the end.
func (c *Cache) loadAll(sources []Source) func() []*digests {
	out := make([]*digests, len(sources))
	var loading sync.WaitGroup
	for i := range sources {
		loading.Go(func() {
			if sources[i].Files != nil { // nothing tells whether such a file is the one that was read
				out[i] = (*Cache)(nil).load("")
				return
			}
			out[i] = c.load(sources[i].Path)
		})
	}
	return func() []*digests {
		loading.Wait()
		return out
	}
}

var errDamaged = errors.New("the cache is damaged")

func (d *digests) parse(text string) error {
	rest, ok := strings.CutPrefix(text, cacheMagic)
	if !ok {
		return errDamaged
	}
	d.known = make(map[string]cached, len(rest)/(cacheRecord+40))
	for len(rest) > 0 {
		if len(rest) < 4 {
			return errDamaged
		}
		length := int(binary.LittleEndian.Uint32([]byte(rest[:4])))
		if length > cacheMaxName || len(rest) < 4+length+cacheRecord {
			return errDamaged
		}
		name, record := rest[4:4+length], []byte(rest[4+length:4+length+cacheRecord])
		rest = rest[4+length+cacheRecord:]
		var c cached
		c.id.size = int64(binary.LittleEndian.Uint64(record))
		c.id.mtime = int64(binary.LittleEndian.Uint64(record[8:]))
		c.id.ctime = int64(binary.LittleEndian.Uint64(record[16:]))
		c.id.inode = binary.LittleEndian.Uint64(record[24:])
		c.day = binary.LittleEndian.Uint32(record[32:])
		c.verdict = verdict(record[36])
		if c.verdict > database {
			return errDamaged
		}
		copy(c.digest[:], record[37:])
		d.known[name] = c
	}
	return nil
}

// lookup gives what is known of a file, and notes that it is still of use.
func (d *digests) lookup(path string, id identity) (cached, bool) {
	c, ok := d.known[path]
	if !ok || c.id != id {
		return c, false
	}
	if c.day != d.today {
		d.store(path, c)
	}
	return c, true
}

func (d *digests) store(path string, c cached) {
	if d.file == "" || len(path) > cacheMaxName {
		return
	}
	c.day = d.today
	d.known[path] = c
	d.changed = true
}

// forget drops what is known of a path whose digest could not be kept.
func (d *digests) forget(path string) {
	if _, ok := d.known[path]; ok {
		delete(d.known, path)
		d.changed = true
	}
}

// save writes the cache when it has changed. A cache that cannot be written is no reason to fail: the next scan reads
// the files again.
func (d *digests) save() error {
	if d.file == "" || !d.changed {
		return nil
	}
	out := make([]byte, 0, len(cacheMagic)+len(d.known)*(cacheRecord+48))
	out = append(out, cacheMagic...)
	for name, c := range d.known {
		if d.today-c.day > cacheDays {
			continue
		}
		out = binary.LittleEndian.AppendUint32(out, uint32(len(name)))
		out = append(out, name...)
		out = binary.LittleEndian.AppendUint64(out, uint64(c.id.size))
		out = binary.LittleEndian.AppendUint64(out, uint64(c.id.mtime))
		out = binary.LittleEndian.AppendUint64(out, uint64(c.id.ctime))
		out = binary.LittleEndian.AppendUint64(out, c.id.inode)
		out = binary.LittleEndian.AppendUint32(out, c.day)
		out = append(out, byte(c.verdict))
		out = append(out, c.digest[:]...)
	}
	sum := sha256.Sum256(out)
	out = append(out, sum[:]...)
	return ReplaceFile(d.file, out)
}

// ReplaceFile writes a file of a cache in one step, and its folder where that is missing.
func ReplaceFile(name string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	file, err := os.CreateTemp(filepath.Dir(name), "new-*")
	if err != nil {
		return err
	}
	_, err = file.Write(content)
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		if removing := os.Remove(file.Name()); removing != nil && !errors.Is(removing, fs.ErrNotExist) {
			return removing
		}
	}
	return err
}
