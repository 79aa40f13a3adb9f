package content

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"tartine/internal/filter"
)

// Finding is content that looks like a secret or does not belong on a server.
type Finding struct {
	Path   string // in the tree
	Folder bool
	Why    string
}

// guarded is the names that the guard stops at. Patterns are those of package filter.
var guarded = []struct {
	patterns []string
	why      string
}{
	{[]string{".git", ".hg/", ".svn/", ".bzr/", "CVS/"}, "version-control folder"},
	{[]string{".env*"}, "environment file"},
	{[]string{".htpasswd", ".netrc", ".pgpass", ".my.cnf", ".npmrc", ".aws/", ".ssh/"}, "stored passwords or logins"},
	{[]string{"*.p12", "*.pfx", "*.jks", "*.keystore", "*.kdbx"}, "key store"},
	{[]string{"*.sql", "*.sql.gz", "*.sql.bz2", "*.sql.xz", "*.sql.zst", "*.sql.zip", "*.dump"}, "database dump"},
	{[]string{"*~", "*.bak", "*.orig", "*.swp", "*.swo", "*.swn", ".#*", "#*#"}, "editor backup"},
	{[]string{"tartine.yaml", ".tartine/", ".*.tartine/"}, "Tartine's own settings or record"},
}

// guardIndex finds the rule for a name without trying them all: every name of every source is asked about.
type guardIndex struct {
	names      map[string]*filter.Rule // by the whole name
	extensions map[string]*filter.Rule // by what follows the last dot, of patterns that are no more than that
	// the others by the first byte of the names that they match, or where that may be any, by their last
	begins, ends [256][]*filter.Rule
}

var guardRules = func() (index guardIndex) {
	index.names, index.extensions = map[string]*filter.Rule{}, map[string]*filter.Rule{}
	for _, g := range guarded {
		for _, pattern := range g.patterns {
			rule, err := filter.NewRule(pattern, g.why)
			if err != nil {
				panic(err) // a slip in the table above
			}
			extension, isExtension := strings.CutPrefix(pattern, "*.")
			switch {
			case isExtension && !strings.ContainsAny(extension, ".*?[{"):
				index.extensions[extension] = rule
			case !strings.ContainsAny(pattern, "*?[{"):
				index.names[strings.TrimSuffix(pattern, "/")] = rule
			default:
				const wild = "*?[{"
				first, last := pattern[0], pattern[len(pattern)-1]
				switch {
				case strings.IndexByte(wild, first) < 0:
					index.begins[first] = append(index.begins[first], rule)
				case strings.IndexByte(wild+"]}/", last) < 0:
					index.ends[last] = append(index.ends[last], rule)
				default:
					panic("the name that " + pattern + " matches may begin and end as it likes")
				}
			}
		}
	}
	return index
}()

// rule gives the rule that a path, relative to the source, meets; or nil.
func (g *guardIndex) rule(path string, folder bool) *filter.Rule {
	name := path[strings.LastIndexByte(path, '/')+1:]
	if rule := g.names[name]; rule != nil && rule.Matches(path, folder) {
		return rule
	}
	if dot := strings.LastIndexByte(name, '.'); dot >= 0 {
		if rule := g.extensions[name[dot+1:]]; rule != nil {
			return rule
		}
	}
	for _, some := range [...][]*filter.Rule{g.begins[name[0]], g.ends[name[len(name)-1]]} {
		for _, rule := range some {
			if rule.Matches(path, folder) {
				return rule
			}
		}
	}
	return nil
}

// guardName looks at a name alone. The path is relative to the source.
func guardName(path string, folder bool, allow []*filter.Rule) (Finding, bool) {
	if rule := guardRules.rule(path, folder); rule != nil && !allowed(path, folder, allow) {
		return Finding{Folder: folder, Why: rule.Place}, true
	}
	return Finding{}, false
}

func allowed(path string, folder bool, allow []*filter.Rule) bool {
	if len(allow) == 0 {
		return false
	}
	set := filter.Set{Includes: allow}
	return set.Decide(path, folder).Taken
}

// verdict is what a file's first bytes give away. Its numbers are in the digest cache.
type verdict byte

const (
	harmless verdict = iota
	privateKey
	database
)

func (v verdict) why() string {
	return [...]string{"", "private key", "database"}[v]
}

// pemKey is the first line of a private key in PEM (RFC 7468) or in its OpenSSH and OpenPGP kin.
var pemKey = regexp.MustCompile(`(?m)^-----BEGIN [A-Z0-9 ]*PRIVATE KEY( BLOCK)?-----`)

// ppkKey is how a .ppk key file begins: with the name of the program that wrote it.
var ppkKey = regexp.MustCompile(`^\w+-User-Key-File-`)

// isPPK tells whether a file begins so.
func isPPK(head []byte) bool {
	head = head[:min(len(head), 64)]
	return bytes.Contains(head, []byte("-User-Key-File-")) && ppkKey.Match(head)
}

// ordinaryPEM is how many bytes are searched of a file that does not begin as PEM does: a key further down is a page
// about keys.
const ordinaryPEM = 1 << 10

// sniff judges a file by its beginning, of which it should be given some kilobytes: a key may follow a certificate.
func sniff(head []byte) verdict {
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	begins := func(start string) bool { return bytes.HasPrefix(head, []byte(start)) }
	switch {
	case isPPK(head), begins("SSH PRIVATE KEY FILE FORMAT"):
		return privateKey
	case slices.ContainsFunc([]string{"SQLite format 3\x00", "PGDMP", "-- MySQL dump", "-- MariaDB dump",
		"--\n-- PostgreSQL database"}, begins):
		return database
	}
	if !begins("-----BEGIN ") {
		head = head[:min(len(head), ordinaryPEM)]
	}
	if bytes.Contains(head, []byte("PRIVATE KEY")) && pemKey.Match(head) {
		return privateKey
	}
	return harmless
}
