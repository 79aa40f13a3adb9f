package content

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"tartine/internal/fsys"
	"tartine/internal/manifest"
)

// found is a path that a walk took, with the facts by which a cached digest is believed.
type found struct {
	manifest.Entry
	id     identity
	source int32
}

// gathering puts a tree together of what folders hold, while they are read: the digests that a cache knows are looked up
// folder by folder. A file whose digest no cache knows has none until all is put together.
type gathering struct {
	*Tree
	opt    *Options
	caches []*digests
	said   *attributing

	mu       sync.Mutex
	pieces   []piece             // what was taken, in any order
	held     int                 // bytes of them in memory
	suspects map[brought]verdict // files whose content, which is known, the guard has something to say of
}

// brought is a path of the tree, and the source that brings it.
type brought struct {
	path   string
	source int32
}

// take takes what a folder of a source holds. It may be called by several goroutines at once.
func (g *gathering) take(all []found) {
	if len(all) == 0 {
		return
	}
	var (
		source   = &g.Sources[all[0].source]
		cache    folderLookup // of the folder that the files are in
		suspects map[brought]verdict
		hits     int
	)
	for i := range all {
		f := &all[i]
		if f.Kind != manifest.File {
			continue
		}
		digest, v, ok := source.known(f.Path)
		if !ok {
			dir, name := fsys.Split(source.relative(f.Path))
			if cache.digests == nil {
				cache = g.caches[f.source].beside(dir)
			}
			var hit cached
			if hit, ok = cache.lookup(name, f.id); ok {
				hits++
				digest, v = hit.digest, hit.verdict
			}
		}
		if f.Digest = digest; g.suspicious(f.Path, f.source, v) {
			if suspects == nil {
				suspects = map[brought]verdict{}
			}
			suspects[brought{f.Path, f.source}] = v
		}
	}
	cache.leave()
	g.said.give(len(all), func(i int) *manifest.Entry { return &all[i].Entry })
	pieces := packPieces(all)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.pieces = append(g.pieces, pieces...)
	for i := range pieces {
		g.held += len(pieces[i].packed)
	}
	if g.held > g.aside.most {
		g.held = g.aside.put(g.pieces, g.held)
	}
	g.CacheHits += hits
	maps.Copy(g.suspects, suspects)
}

// stretchFiles is how many files are read before what was found out is put away.
const stretchFiles = 8192

// mostWaiting is how many entries are unfolded at once while digests are found out, but for those of one folder.
const mostWaiting = 4 * stretchFiles

// settle puts what was taken into order: the later source wins where several bring a path, and digests that no cache knows are
// found out. Files that could not be read are named, and are not part of it.
func (g *gathering) settle(ctx context.Context) (*folds, error) {
	sortPieces(g.pieces)
	folders := g.said.folders(g.pieces)
	for i := range folders {
		g.held += len(folders[i].packed)
	}
	g.pieces = above(folders, g.pieces)
	var (
		out            []piece
		waiting        [][]member // folders
		unread, unfold int        // files and entries of those
		put            int        // pieces that were put aside, or could not be
		finish         = func() error {
			err := g.digest(ctx, waiting)
			for _, members := range waiting {
				before := len(out)
				g.said.giveMembers(members) // those that were read had their modes put anew
				out = appendPieces(out, members)
				for i := range out[before:] {
					g.held += len(out[before+i].packed)
				}
			}
			if g.held > g.aside.most {
				g.held = g.aside.put(out[put:], g.held)
				put = len(out)
			}
			waiting, unread, unfold = nil, 0, 0
			return err
		}
	)
	for all := g.pieces; len(all) > 0; {
		same, missing := 0, 0
		for ; same < len(all) && all[same].dir == all[0].dir; same++ {
			missing += int(all[same].unread)
		}
		if same == 1 && missing == 0 {
			out, all = append(out, all[0]), all[1:]
			continue
		}
		var members []member
		for i := range all[:same] {
			members = all[i].unpack(members, g.aside)
			g.held, all[i].packed = g.held-len(all[i].packed), nil
		}
		if same > 1 {
			slices.SortStableFunc(members, func(a, b member) int { return strings.Compare(a.Path, b.Path) })
			members = g.winners(members)
		}
		all = all[same:]
		waiting, unread, unfold = append(waiting, members), unread+missing, unfold+len(members)
		if unread >= stretchFiles || unfold >= mostWaiting {
			if err := finish(); err != nil {
				return nil, err
			}
		}
	}
	if err := finish(); err != nil {
		return nil, err
	}
	g.pieces = nil
	sortPieces(out)
	return &folds{pieces: out, aside: g.aside}, g.aside.failed()
}

func sortPieces(pieces []piece) {
	slices.SortStableFunc(pieces, func(a, b piece) int {
		if order := compareFolders(a.dir, b.dir); order != 0 {
			return order
		}
		return int(a.source - b.source)
	})
}

// appendPieces folds up what is in a folder, a piece for each source.
func appendPieces(out []piece, members []member) []piece {
	for len(members) > 0 {
		var own, others []int
		for i := range members {
			switch members[i].source {
			case failed:
			case members[0].source:
				own = append(own, i)
			default:
				others = append(others, i)
			}
		}
		if len(own) > 0 {
			out = append(out, pack(len(own), members[0].source, func(i int) *manifest.Entry { return &members[own[i]].Entry })...)
		}
		rest := make([]member, len(others))
		for i, at := range others {
			rest[i] = members[at]
		}
		members = rest
	}
	return out
}

// winners gives the members that count where several have one path: the last of them.
func (g *gathering) winners(members []member) []member {
	kept := members[:0]
	for first := 0; first < len(members); {
		end := first + 1
		for end < len(members) && members[end].Path == members[first].Path {
			end++
		}
		if end > first+1 {
			g.noteCollision(members[first:end])
		}
		kept, first = append(kept, members[end-1]), end
	}
	return kept
}

// noteCollision notes that several sources bring one path, the last of them its winner. Folders merge and do not count.
func (g *gathering) noteCollision(same []member) {
	winner := &same[len(same)-1]
	c := Collision{Path: winner.Path, Winner: int(winner.source)}
	for i := range same[:len(same)-1] {
		if same[i].Kind != manifest.Dir || winner.Kind != manifest.Dir {
			c.Shadows = append(c.Shadows, int(same[i].source))
		}
	}
	if c.Shadows != nil {
		g.Collisions = append(g.Collisions, c)
	}
}

// leave leaves what was taken folded up, where that can be, with all that Scan has to tell of it.
func (g *gathering) leave(f *folds) bool {
	if g.opt.Fold == 0 || g.opt.memory != nil {
		return false
	}
	var (
		links   = map[string]string{}
		linking = map[string]int32{} // the source of each
		lands   = make([]Landing, len(g.Landings))
		plain   = true
		guarded []brought // what is taken of those that are suspects
	)
	dirs := f.tally(g.suspects, lands)
	f.walkIn(among(dirs), func(m *member, below bool) bool {
		e := &m.Entry
		switch {
		case isImplied(e, below):
			return true
		case below && e.Kind != manifest.Dir:
			plain = false
		case e.Kind == manifest.Link:
			links[e.Path], linking[e.Path] = e.Link, m.source
		case e.Kind == manifest.File:
			lands[m.source].Files++
			lands[m.source].Bytes += e.Size
			if _, is := g.suspects[brought{e.Path, m.source}]; is {
				guarded = append(guarded, brought{e.Path, m.source})
			}
		}
		f.count++
		return plain
	})
	if !plain || f.count < g.opt.Fold {
		return false
	}
	for path, to := range links {
		if manifest.LeadsOut(path, manifest.LinksOf(links)) {
			f.leaveOut(path)
			g.refuse(path, linking[path], to)
		}
	}
	for _, b := range guarded {
		g.suspect(b.path, b.source, g.suspects[b])
	}
	for i := range lands {
		g.Landings[i].Files, g.Landings[i].Bytes = lands[i].Files, lands[i].Bytes
	}
	g.folds = f
	return true
}

// tally adds up folders of which nothing need be known but how much is in them: files alone, none of which is a suspect, with no
// folder below. It gives the other ones.
func (f *folds) tally(suspects map[brought]verdict, lands []Landing) (others map[string]bool) {
	others = map[string]bool{}
	for b := range suspects {
		dir, _ := fsys.Split(b.path)
		others[dir] = true
	}
	for i := range f.pieces {
		p := &f.pieces[i]
		isShared := i > 0 && f.pieces[i-1].dir == p.dir || i+1 < len(f.pieces) && f.pieces[i+1].dir == p.dir
		if p.others > 0 || isShared || i+1 < len(f.pieces) && (p.dir == "." || f.isBelow(i+1, p.dir)) {
			others[p.dir] = true
		}
		if !others[p.dir] {
			f.count += int(p.count)
			lands[p.source].Files += int(p.count)
			lands[p.source].Bytes += p.bytes
		}
	}
	return others
}
