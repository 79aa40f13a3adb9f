package manifest_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
)

// TestOwnersAreInEachForm and in none where they are not said.
func TestOwnersAreInEachForm(t *testing.T) {
	own := func(user, group string) *manifest.Owner {
		o, err := manifest.NewOwner(user, group)
		require.NoError(t, err)
		return o
	}
	m := &manifest.Manifest{Entries: []manifest.Entry{
		{Path: "a b.html", Size: -1, Attributes: manifest.Attributes{Mode: 0o644, Owner: own("www-data", "")}},
		{Path: "log", Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: 0o755, Owner: own("", "33")}},
		{Path: "log/back\\slash", Size: -1, Attributes: manifest.Attributes{Mode: 0o755, Owner: own("warden", "wardens")}},
		{Path: "plain.html", Size: -1, Attributes: manifest.Attributes{Mode: 0o644}},
	}}
	var listing, text bytes.Buffer
	require.NoError(t, m.WriteListing(&listing))
	require.Contains(t, listing.String(), "# owner www-data: a b.html\n")
	require.Contains(t, listing.String(), "# dir log\n# owner :33 log\n")
	require.Contains(t, listing.String(), "# exec log/back\\\\slash\n# owner warden:wardens log/back\\\\slash\n")
	require.Equal(t, 3, strings.Count(listing.String(), "# owner"))
	read, err := manifest.ReadListing(&listing)
	require.NoError(t, err)
	require.Equal(t, m.Entries, read.Entries)
	require.NoError(t, m.WriteJSON(&text))
	read, err = manifest.ReadJSON(&text)
	require.NoError(t, err)
	require.Equal(t, m.Entries, read.Entries)
	unpacked, err := manifest.Pack(m.Entries).Unpack()
	require.NoError(t, err)
	require.Equal(t, m.Entries, unpacked)

	without := &manifest.Manifest{Entries: []manifest.Entry{m.Entries[3]}}
	require.NotEqual(t, m.Tree(), without.Tree())
	other := *m
	other.Entries = append([]manifest.Entry{}, m.Entries...)
	other.Entries[0].Owner = own("nobody", "")
	require.NotEqual(t, m.Tree(), other.Tree(), "whom it belongs to is part of what it is")

	for _, wrong := range []string{"# owner a:b nothing\n", "# link a -> b\n# owner a:b a\n", "# dir a\n# owner : a\n", "# dir a\n# owner x\x1b:y a\n"} {
		_, err := manifest.ReadListing(strings.NewReader(wrong))
		require.Error(t, err, wrong)
	}
	for _, wrong := range []string{"a:b", "a b", "a\nb", "a/b", strings.Repeat("x", 300)} {
		_, err := manifest.NewOwner(wrong, "")
		require.Error(t, err, wrong)
	}
}
