package diff

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/manifest"
)

// parse reads trees in a short form: "path=content" is a file, "path=content!755" one with that mode, "path->target" a
// link, "path/" a folder.
func parse(text string) (out []manifest.Entry) {
	for _, word := range strings.Fields(text) {
		path, content, _ := strings.Cut(word, "=")
		e := manifest.Entry{Path: path, Attributes: manifest.Attributes{Mode: manifest.FileMode, ModTime: time.Unix(100, 0)}}
		if name, target, isLink := strings.Cut(word, "->"); isLink {
			e = manifest.Entry{Path: name, Kind: manifest.Link, Link: target}
		} else if name, isDir := strings.CutSuffix(word, "/"); isDir {
			e = manifest.Entry{Path: name, Kind: manifest.Dir, Attributes: manifest.Attributes{Mode: manifest.DirMode}}
		} else {
			if bytes, exec := strings.CutSuffix(content, "!755"); exec {
				content, e.Mode = bytes, manifest.ExecMode
			}
			copy(e.Digest[:], content)
			e.Size = int64(len(content))
		}
		out = append(out, e)
	}
	return out
}

func parseFound(text string) (out []Found) {
	for _, e := range parse(text) {
		out = append(out, Found{Entry: &e})
	}
	for i := range out {
		for j := range out {
			out[i].Filled = out[i].Filled || strings.HasPrefix(out[j].Path, out[i].Path+"/")
		}
	}
	return out
}

var byHash = Rule{Modes: true, TimeStep: time.Second}

func words(r *Result) string {
	var out []string
	for _, c := range r.Changes {
		word := c.Status.String() + ":" + c.Path()
		if c.Drifted {
			word += ":drifted"
		} else if c.Foreign {
			word += ":foreign"
		}
		if c.ModeOnly {
			word += ":mode"
		}
		out = append(out, word)
	}
	return strings.Join(out, " ")
}

func TestCompare(t *testing.T) {
	for name, c := range map[string]struct{ want, found, recorded, changes string }{
		"first into nothing":      {"a=1 d/ l->a", "", "", "new:a new:d new:l"},
		"all the same":            {"a=1 d/ l->a", "a=1 d/ l->a", "a=1 d/ l->a", ""},
		"adopting what is right":  {"a=1", "a=1", "", ""},
		"one changed":             {"a=2 b=1", "a=1 b=1", "a=1 b=1", "changed:a"},
		"one retired":             {"a=1", "a=1 b=1", "a=1 b=1", "retired:b"},
		"a stray":                 {"a=1", "a=1 s=1", "a=1", "stray:s"},
		"overwrites a stray":      {"a=1 s=2", "a=1 s=1", "a=1", "changed:s:foreign"},
		"altered at the site":     {"a=1", "a=x", "a=1", "changed:a:drifted"},
		"altered, and wanted new": {"a=2", "a=x", "a=1", "changed:a:drifted"},
		"altered to what we want": {"a=2", "a=2", "a=1", ""},
		"removed at the site":     {"a=1", "", "a=1", "new:a:drifted"},
		"retired and altered":     {"", "a=x", "a=1", "retired:a:drifted"},
		"retired and gone":        {"", "", "a=1", ""},
		"mode":                    {"a=1!755", "a=1", "a=1", "changed:a:mode"},
		"link re-pointed":         {"l->b", "l->a", "l->a", "changed:l"},
		"link where a file was":   {"a->b", "a=1", "a=1", "changed:a"},
		"file where a folder was": {"a=1", "a/ a/b=1", "a/b=1", "changed:a:foreign retired:a/b"},
		"folder where a file was": {"a/b=1", "a=1", "a=1", "retired:a new:a/b"},
		"filled folders follow":   {"d/a=1", "d/ d/a=1", "d/a=1", ""},
		"an empty folder strays":  {"a=1", "a=1 d/", "a=1", "stray:d"},
		"one that will be filled": {"d/a=1", "d/", "", "new:d/a"},
		"an empty folder retires": {"a=1", "a=1 d/", "a=1 d/", "retired:d"},
	} {
		t.Run(name, func(t *testing.T) {
			got := Compare(parse(c.want), parseFound(c.found), parse(c.recorded), byHash, nil)
			require.Equal(t, c.changes, words(got))
		})
	}
}

func TestUnresolvedIsWhatOnlyContentCanTell(t *testing.T) {
	found := parseFound("longer=22 recorded=1 same=1 stray=1 unrecorded=1")
	for i := range found {
		if found[i].Path != "recorded" {
			found[i].Digest = manifest.Digest{}
		}
	}
	want := parse("longer=1 recorded=1 same=1 unrecorded=1")
	open := func(rule Rule) (out string) {
		for _, i := range Unresolved(want, found, parse("recorded=1 same=1"), rule) {
			out += found[i].Path + " "
		}
		return out
	}
	require.Equal(t, "same unrecorded ", open(byHash))
	require.Equal(t, "same ", open(Rule{Times: true}), "drift is still told by content")
	require.Equal(t, "same ", open(Rule{Nothing: true}))
}

func TestCompareByTimeAndWithoutComparing(t *testing.T) {
	want, found := parse("a=1 b=1 l->a"), parseFound("a=x b=x l->a")
	for i := range found {
		found[i].Digest = manifest.Digest{}
	}
	found[1].ModTime = found[1].ModTime.Add(time.Minute)
	require.Equal(t, "changed:b:foreign", words(Compare(want, found, nil, Rule{Times: true, TimeStep: time.Second}, nil)))
	require.Equal(t, "changed:a:foreign changed:b:foreign", words(Compare(want, found, nil, Rule{Nothing: true, TimeStep: 1}, nil)))
}

func TestPathsThatCouldNotBeReadAreLeftAlone(t *testing.T) {
	keep := func(path string) bool { return strings.HasPrefix(path, "log") }
	got := Compare(parse("a=1"), parseFound("a=1 b=1 log/ log/may=1"), parse("a=1 b=1 log/may=1"), byHash, keep)
	require.Equal(t, "retired:b", words(got))
}

func TestStaleRecordsAreNoticed(t *testing.T) {
	same := func(recorded string) bool {
		return Compare(parse("a=1"), parseFound("a=1"), parse(recorded), byHash, nil).Stale
	}
	require.False(t, same("a=1"))
	require.True(t, same(""))
	require.True(t, same("a=2"))
}

func TestBlockers(t *testing.T) {
	for name, c := range map[string]struct {
		want, found, recorded string
		blockers              []string
	}{
		"a stray file where a folder must go":    {"a/b=1", "a=1", "", []string{"a"}},
		"a retired one goes by itself":           {"a/b=1", "a=1", "a=1", nil},
		"strays in a folder that must be a file": {"a=1", "a/ a/x=1 a/y=1", "a/x=1", []string{"a/y"}},
		"a folder of retired files goes":         {"a=1", "a/ a/x=1", "a/x=1", nil},
		"a stray link on the way":                {"a/b/c=1", "a->x", "", []string{"a"}},
		"strays elsewhere":                       {"a=1", "b=1", "", nil},
	} {
		r := Compare(parse(c.want), parseFound(c.found), parse(c.recorded), byHash, nil)
		require.Equal(t, c.blockers, Blockers(r, false), name)
		require.Empty(t, Blockers(r, true), name)
	}
}
