package filter

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func set(t *testing.T, includes, excludes []string) *Set {
	t.Helper()
	s := &Set{}
	for _, p := range includes {
		r, err := NewRule(p, "include")
		require.NoError(t, err)
		s.Includes = append(s.Includes, r)
	}
	for _, p := range excludes {
		r, err := NewRule(p, "exclude")
		require.NoError(t, err)
		s.Excludes = append(s.Excludes, r)
	}
	return s
}

func TestDecide(t *testing.T) {
	type list = []string
	for _, c := range []struct {
		name               string
		includes, excludes list
		taken, left        list
	}{
		{"no rules take everything", nil, nil, list{"a", "a/b/c"}, nil},
		{"a name matches at any depth", nil, list{"*.map"}, list{"a.js", "map"}, list{"a.map", "js/deep/a.js.map"}},
		{"a name of a folder leaves all below it", nil, list{"cache"}, list{"caches/a"}, list{"cache/a", "x/cache/y/z"}},
		{"a slash at the end means folders only", nil, list{"tmp/"}, list{"x/tmp"}, list{"tmp/a", "x/tmp/a"}},
		{"a slash inside ties to the top", nil, list{"img/raw"}, list{"x/img/raw/a"}, list{"img/raw", "img/raw/a"}},
		{"a slash in front ties to the top", nil, list{"/notes.txt"}, list{"x/notes.txt"}, list{"notes.txt"}},
		{"two stars span folders", nil, list{"a/**/z.txt"}, list{"b/a/z.txt"}, list{"a/z.txt", "a/b/c/z.txt"}},
		{"includes take only what they match", list{"*.webp", "*.svg"}, nil, list{"a.webp", "deep/b.svg"}, list{"a.png", "svg"}},
		{"an included folder brings what is below", list{"docs/"}, nil, list{"docs/a", "x/docs/y/z"}, list{"docs", "other"}},
		{"an exclude wins over an include", list{"*.webp"}, list{"proof-*"}, list{"a.webp"}, list{"proof-1.webp", "proof-x/a.webp"}},
		{"an exclude wins below an included folder", list{"docs/"}, list{"*.tmp"}, list{"docs/a"}, list{"docs/a.tmp"}},
		{"alternatives and classes", nil, list{"*.{bak,orig}", "[0-9]?"}, list{"a.txt", "a1"}, list{"a.bak", "x/b.orig", "7z"}},
		{"an escaped star is a star", nil, list{`\*`}, list{"a"}, list{"*"}},
		{"a star takes dots and stays in its element", nil, list{"a/*"}, list{"a"}, list{"a/.hidden", "a/b/c"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := set(t, c.includes, c.excludes)
			for _, p := range c.taken {
				require.True(t, s.Decide(p, false).Taken, p)
			}
			for _, p := range c.left {
				require.False(t, s.Decide(p, false).Taken, p)
			}
		})
	}
}

func TestDecisionNamesTheRuleAndTheFolderItMatched(t *testing.T) {
	s := set(t, nil, []string{"*.map", "cache/"})
	d := s.Decide("x/cache/y/a.txt", false)
	require.Equal(t, "cache/", d.Rule.Pattern)
	require.Equal(t, "x/cache", d.At)
	require.Nil(t, s.Decide("x/a.txt", false).Rule)
}

func TestUsedFindsRulesThatMatchNothingAndNoOthers(t *testing.T) {
	s := set(t, []string{"*.svg", "*.wepb", "plates/"}, []string{"proof-*", "*-1.svg", "never"})
	s.Decide("plates/proof-1.svg", false) // matched by four rules, of which one decides
	var unused []string
	for _, r := range append(s.Includes, s.Excludes...) {
		if !r.Used() {
			unused = append(unused, r.Pattern)
		}
	}
	require.Equal(t, []string{"*.wepb", "never"}, unused)
}

func TestNewRuleRefuses(t *testing.T) {
	for pattern, reason := range map[string]string{
		"": "empty", "/": "empty", "a//b": "empty path element", "[a": "no end", "{a,b": "no end", "../x": `".."`, "a/./b": `"."`, `x\/`: "backslash",
	} {
		_, err := NewRule(pattern, "tartine.yaml:3:5")
		var wrong *PatternError
		require.ErrorAs(t, err, &wrong, pattern)
		require.Contains(t, wrong.Reason, reason)
		require.Contains(t, err.Error(), "tartine.yaml:3:5")
	}
}

func FuzzRule(f *testing.F) {
	f.Add("a/**/*.{svg,webp}", "a/b/c.svg")
	f.Add(`[^\]]*/`, "x/y")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		r, err := NewRule(pattern, "fuzz")
		if err != nil {
			return
		}
		s := &Set{Excludes: []*Rule{r}}
		if s.Decide(path, true).Excluded() {
			require.True(t, s.Decide(path+"/below", false).Excluded(), "what holds for a folder holds below it")
		}
	})
}
