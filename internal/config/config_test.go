package config

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const example = `# the observatory's site
name: gannet-rock
content:
  - source: public
  - source: plates
    dest: img/plates
    include: ["*.webp", "*.svg"]
    exclude: ["proof-*"]
exclude: ["*.map", .DS_Store]
guard: {allow: ["notes.bak"]}
targets:
  staging:
    url: ssh://warden@127.0.0.1:2222/srv/www/gannet
    identity: ~/.ssh/gannet
    host_key: SHA256:mF3
  rented:
    url: sftp://gannet@ftp.example/htdocs
    password: {env: GANNET_PASSWORD}
`

func TestParse(t *testing.T) {
	s, err := Parse("tartine.yaml", []byte(example))
	require.NoError(t, err)
	require.Equal(t, "gannet-rock", s.Name.Value)
	require.Equal(t, []string{"staging", "rented"}, s.TargetNames)
	require.Equal(t, "img/plates", s.Content[1].Dest.Value)
	require.Equal(t, "tartine.yaml:8:15", s.Content[1].Exclude[0].At.String())
	require.Equal(t, "GANNET_PASSWORD", s.Targets["rented"].Password.Env.Value)
	empty, err := Parse("tartine.yaml", nil)
	require.NoError(t, err)
	require.Empty(t, empty.Content)
}

func TestAnchorsAreFollowed(t *testing.T) {
	s, err := Parse("x", []byte("content:\n  - source: a\n    exclude: &no ['*.map']\n  - source: b\n    exclude: *no\n"))
	require.NoError(t, err)
	require.Equal(t, "*.map", s.Content[1].Exclude[0].Value)
}

func TestMappingsAreMerged(t *testing.T) {
	s, err := Parse("x", []byte("\ufefftargets:\n  a: &base\n    url: ssh://a/x\n    jobs: 3\n    agent: off\n  b:\n    <<: *base\n    url: ssh://b/x\n  c: {<<: [{jobs: 4}, *base], agent: auto}\n"))
	require.NoError(t, err)
	require.Equal(t, "ssh://b/x 3 off", fmt.Sprint(s.Targets["b"].URL.Value, " ", s.Targets["b"].Jobs, " ", s.Targets["b"].Agent.Value))
	require.Equal(t, "ssh://a/x 4 auto", fmt.Sprint(s.Targets["c"].URL.Value, " ", s.Targets["c"].Jobs, " ", s.Targets["c"].Agent.Value))
	_, err = Parse("x", []byte("guard: &a\n  <<: *a\n"))
	require.ErrorContains(t, err, "x:2:")
}

func TestVariables(t *testing.T) {
	t.Setenv("ROCK_HOST", "rock.example")
	t.Setenv("ROCK_JOBS", "7")
	t.Setenv("ROCK_EMPTY", "")
	s, err := Parse("x", []byte("name: ${ROCK_NAME:-gannet}-${ROCK_EMPTY:-rock}$${x}\ntargets:\n  a: {url: \"ssh://${ROCK_HOST}/x\", jobs: \"${ROCK_JOBS}\", insecure: \"${ROCK_TRUTH:-true}\"}\n"))
	require.NoError(t, err)
	require.Equal(t, "gannet-rock${x}", s.Name.Value)
	require.Equal(t, "ssh://rock.example/x", s.Targets["a"].URL.Value)
	require.Equal(t, 7, s.Targets["a"].Jobs)
	require.True(t, s.Targets["a"].Insecure)
	for text, says := range map[string]string{"name: ${ROCK_NONE}": "x:1:7: the variable ROCK_NONE is not set; set it, or write ${ROCK_NONE:-DEFAULT}", "name: ${ROCK": "does not end",
		"name: ${ROCK_EMPTY}": "is empty", "targets: {a: {url: x, jobs: \"${ROCK_HOST}\"}}": "a whole number"} {
		_, err := Parse("x", []byte(text))
		require.ErrorContains(t, err, says)
	}
}

func TestSharedSettings(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		name = filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	write("all/base.yaml", "exclude: ['*.map']\nlinks: skip\nguard: {allow: [a]}\ntargets:\n  a: {url: out, jobs: 2}\n  b: {url: other, identity: key}\n")
	write("all/more.yaml", "shared: [base.yaml]\nlinks: follow\n")
	write("tartine.yaml", "shared: [all/more.yaml]\nname: rock\nexclude: [proof]\ntargets:\n  a: {url: here}\n")
	s, err := Load(filepath.Join(dir, "tartine.yaml"))
	require.NoError(t, err)
	require.Equal(t, []string{"a", "b"}, s.TargetNames)
	require.Equal(t, "follow", s.Links.Value)
	require.Len(t, s.Exclude, 1, "what is said here wins")
	require.Equal(t, "proof", s.Exclude[0].Value)
	require.Equal(t, filepath.Join(dir, "here"), Resolve(s.Targets["a"].URL))
	require.Zero(t, s.Targets["a"].Jobs, "a target counts as a whole")
	require.Equal(t, filepath.Join(dir, "all", "key"), Resolve(s.Targets["b"].Identity.Text), "paths are relative to the file that they are written in")

	write("all/base.yaml", "shared: [more.yaml]\n")
	_, err = Load(filepath.Join(dir, "tartine.yaml"))
	require.ErrorContains(t, err, "are shared with themselves")
	write("all/base.yaml", "links: copy\n")
	_, err = Load(filepath.Join(dir, "tartine.yaml"))
	require.ErrorContains(t, err, filepath.Join("all", "base.yaml")+":1:8")
	write("tartine.yaml", "shared: [none.yaml]\n")
	_, err = Load(filepath.Join(dir, "tartine.yaml"))
	require.ErrorContains(t, err, "tartine.yaml:1:10: the settings "+filepath.Join(dir, "none.yaml")+" cannot be read")
}

func TestTheFileIsLookedForUpToTheTop(t *testing.T) {
	dir := t.TempDir()
	deep := filepath.Join(dir, "home", "project", "site", "public", "css")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	found := func(from string) string {
		name, err := Find(from, filepath.Join(dir, "home"))
		require.NoError(t, err)
		name, _ = filepath.Rel(dir, name)
		return name
	}
	at := func(parts ...string) string { return filepath.Join(append([]string{dir}, parts...)...) }
	require.NoError(t, os.WriteFile(at("tartine.yaml"), nil, 0o644))
	require.Empty(t, found(deep), "never above the home folder")
	require.Equal(t, "tartine.yaml", found(dir))
	require.NoError(t, os.WriteFile(at("home", "tartine.yml"), nil, 0o644))
	require.Equal(t, "home/tartine.yml", filepath.ToSlash(found(deep)))
	require.NoError(t, os.Mkdir(at("home", "project", ".git"), 0o755))
	require.Empty(t, found(deep), "never above the repository")
	require.NoError(t, os.WriteFile(at("home", "project", "tartine.yaml"), nil, 0o644))
	require.Equal(t, "home/project/tartine.yaml", filepath.ToSlash(found(deep)))
	require.NoError(t, os.WriteFile(at("home", "project", "tartine.yml"), nil, 0o644))
	_, err := Find(deep, "")
	require.ErrorContains(t, err, "keep one of them")
}

func TestErrorsNameThePlaceAndTheMend(t *testing.T) {
	for name, c := range map[string]struct{ text, place, says string }{
		"not yaml":              {"name: [a", "x:1:7", "not valid YAML"},
		"unknown key":           {"content:\n  - source: a\n    exlude: []\n", "x:3:5", `did you mean "exclude"?`},
		"unknown at top":        {"target:\n  a: b\n", "x:1:1", `did you mean "targets"?`},
		"far from any key":      {"zzzzzz: 1\n", "x:1:1", `the key "zzzzzz" is not known`},
		"text for a list":       {"exclude: '*.map'\n", "x:1:10", `write ["*.map"]`},
		"number for text":       {"name: 12\n", "x:1:7", "put it in quotes"},
		"list for text":         {"name: [a]\n", "x:1:7", "a text, not a list"},
		"text for map":          {"targets: staging\n", "x:1:10", "keys with values, not a text"},
		"no value":              {"name:\n", "x:1:", "no value"},
		"twice":                 {"name: a\nlinks: keep\nname: b\n", "x:3:1", `"name"`},
		"wrong word":            {"links: copy\n", "x:1:8", `keep or follow or skip, not "copy"`},
		"missing key":           {"content:\n  - dest: a\n", "x:2:5", `needs the key "source"`},
		"literal secret":        {"targets:\n  a:\n    url: x\n    password: hunter2\n", "x:4:15", "{env: NAME}"},
		"dest leads out":        {"content:\n  - source: a\n    dest: ../b\n", "x:3:11", "leads out of the site"},
		"name with slash":       {"content:\n  - source: a\n    name: b/c\n", "x:3:11", "not a file name"},
		"bad fingerprint":       {"targets:\n  a:\n    url: x\n    host_key: aa:bb\n", "x:4:15", "not a fingerprint"},
		"an unknown agent":      {"targets:\n  a:\n    url: x\n    agent: of\n", "x:4:12", "neither auto nor off"},
		"a command with a URL":  {"targets:\n  a:\n    url: ssh://x/y\n    command: [sh]\n", "x:3:10", "is not a path at the far end"},
		"a rate without a unit": {"targets:\n  a:\n    url: x\n    limit_rate: fast\n", "x:4:17", "is not a rate"},
		"jobs as text":          {"targets:\n  a:\n    url: x\n    jobs: many\n", "x:4:11", "a whole number"},
		"unknown alias":         {"name: *nope\n", "x:1:", "nope"},
		"second document":       {"name: a\n---\nname: b\n", "x:3:1", "second document"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse("x", []byte(c.text))
			var wrong *Error
			require.ErrorAs(t, err, &wrong)
			require.Contains(t, err.Error(), c.says)
			require.True(t, strings.HasPrefix(err.Error(), c.place), err.Error())
			require.NotContains(t, err.Error(), "hunter2")
		})
	}
}

func TestSchemaKnowsEveryKeyOfTheExample(t *testing.T) {
	var schema struct {
		Properties map[string]struct {
			Description string
			Enum        []string
			Items       struct{ Required []string }
		}
	}
	require.NoError(t, json.Unmarshal(Schema(), &schema))
	for _, key := range []string{"name", "content", "exclude", "guard", "targets"} {
		require.NotEmpty(t, schema.Properties[key].Description, key)
	}
	require.Equal(t, []string{"source"}, schema.Properties["content"].Items.Required)
	require.Equal(t, []string{"keep", "follow", "skip"}, schema.Properties["links"].Enum)
}

func TestNearestTarget(t *testing.T) {
	s := &Settings{TargetNames: []string{"staging", "production"}}
	require.Equal(t, "staging", s.NearestTarget("stagin"))
	require.Equal(t, "production", s.NearestTarget("prod"))
	require.Empty(t, s.NearestTarget("kiosk"))
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(example))
	f.Add([]byte("a: &x [*x]\n"))
	f.Add([]byte("content: {source: a}\ntargets: []\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := Parse("fuzz", text); err != nil {
			require.Contains(t, err.Error(), "fuzz")
		}
	})
}

func TestThePublishedSchemaIsUpToDate(t *testing.T) {
	published, err := os.ReadFile("../../docs/tartine.schema.json")
	require.NoError(t, err)
	require.Equal(t, string(Schema()), string(published), "tartine init --schema > docs/tartine.schema.json")
}
