package content

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"
)

// What is folded up of a very large content is put aside, into a file without a name beside the cache (or, where there is none, among
// temporary files), so that in memory is no more than what somebody looks at. Where there can be no such file it stays there.

// mostInMemory is how many bytes of pieces are in memory before they are put aside, usually.
const mostInMemory = 8 << 20

// aside is that file. It goes with whoever has it open.
type aside struct {
	most  int // bytes that stay in memory
	pool  sync.Pool
	mu    sync.Mutex
	dir   string   // where the file is made; empty: nothing is put aside
	file  *os.File // nil: there is none yet
	end   int64
	wrong error // the first failure of a read
}

func newAside(opt *Options) *aside {
	switch {
	case opt.Fold == 0 || opt.memory != nil, // there is a list in the end
		runtime.GOOS == "windows": // which takes no name from a file that is open
		return &aside{}
	case opt.Cache == nil:
		return &aside{dir: os.TempDir(), most: mostInMemory}
	}
	return &aside{dir: opt.Cache.dir, most: cmp.Or(opt.Cache.inMemory, mostInMemory)}
}

// put puts pieces aside that are in memory, of which so many bytes are held, and gives how many are still.
func (a *aside) put(pieces []piece, held int) int {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.dir == "" || held <= a.most {
		return held
	}
	if a.file == nil {
		file, err := newFile(filepath.Join(a.dir, "pieces"))
		if err == nil {
			if err = os.Remove(file.Name()); err != nil {
				file.Close()
			}
		}
		if err != nil {
			a.dir = ""
			return held
		}
		a.file = file
	}
	for i := range pieces {
		p := &pieces[i]
		if p.packed == nil {
			continue
		}
		if _, err := a.file.WriteAt(p.packed, a.end); err != nil {
			a.dir = "" // what was put aside stays there
			return held
		}
		p.at, p.length, p.packed = a.end, int32(len(p.packed)), nil
		a.end += int64(p.length)
		held -= int(p.length)
	}
	return held
}

// text gives the bytes of a piece. Done must be called when they are no longer looked at.
func (a *aside) text(p *piece) (text []byte, done func()) {
	if p.packed != nil || p.length == 0 {
		return p.packed, func() {}
	}
	room, _ := a.pool.Get().(*[]byte)
	if room == nil || cap(*room) < int(p.length) {
		own := make([]byte, p.length)
		room = &own
	}
	text = (*room)[:p.length]
	if _, err := a.file.ReadAt(text, p.at); err != nil {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.wrong == nil {
			a.wrong = fmt.Errorf("read what was put aside: %w", err)
		}
		text = nil
	}
	return text, func() { a.pool.Put(room) }
}

// failed gives why some of what was put aside could not be read: what was walked lacks it.
func (a *aside) failed() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.wrong
}
