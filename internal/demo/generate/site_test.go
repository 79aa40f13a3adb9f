package main

import (
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheCommittedFilesAreTheGeneratedOnes(t *testing.T) {
	all := files()
	found := 0
	require.NoError(t, filepath.WalkDir("../data", func(name string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		found++
		committed, err := os.ReadFile(name)
		require.Equal(t, string(all[strings.TrimPrefix(filepath.ToSlash(name), "../data/")]), string(committed), "make generate: %s", name)
		return err
	}))
	require.Len(t, all, found)
}

// TestEveryLinkLeadsSomewhere follows the pages' links in the tree as it is deployed.
func TestEveryLinkLeadsSomewhere(t *testing.T) {
	deployed := map[string][]byte{}
	for name, content := range files() {
		if rest, ok := strings.CutPrefix(name, "site/"); ok {
			deployed[rest] = content
		} else if rest, ok := strings.CutPrefix(name, "plates/"); ok {
			deployed["img/plates/"+rest] = content
		}
	}
	links := regexp.MustCompile(`(?:href|src)="([^"]+)"`)
	followed := 0
	for name, content := range deployed {
		if !strings.HasSuffix(name, ".html") {
			continue
		}
		for _, link := range links.FindAllSubmatch(content, -1) {
			followed++
			require.Contains(t, deployed, path.Join(path.Dir(name), string(link[1])), "%s links to %s", name, link[1])
		}
	}
	require.Greater(t, followed, 100)
}
