package content

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
)

// TestADigestIsThatOfTheNameThatIsAskedFor has files that look alike, as where neither change time nor inode can be had.
func TestADigestIsThatOfTheNameThatIsAskedFor(t *testing.T) {
	id := identity{size: 1, mtime: 1}
	f := &folderDigests{dir: "."}
	for i, name := range []string{"a", "c", "e"} {
		f.records = append(f.records, record{name, cached{id: id, digest: manifest.Digest{byte(i + 1)}}})
	}
	for _, names := range [][]string{{"a", "b", "c", "d", "e", "f"}, {"e", "a", "b", "e", "c", "c"}} {
		l := folderLookup{&digests{}, f, new(int)}
		for _, name := range names {
			known, found := l.lookup(name, id)
			require.Equal(t, map[string]manifest.Digest{"a": {1}, "c": {2}, "e": {3}}[name], known.digest, name)
			require.Equal(t, name < "f" && (name[0]-'a')%2 == 0, found, name)
		}
	}
}
