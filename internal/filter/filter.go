// Package filter decides which paths of a source are taken, and says why.
//
// A path is taken when some include matches it (without includes: every path) and no exclude does; an exclude always
// wins. A rule that matches a folder holds for all below it. Patterns are globs over slash-separated paths relative
// to the source:
//
//   - any run of characters but a slash
//     **       any run of path elements, none included
//     ?        one character but a slash
//     [a-z]    one character of the class, [^a-z] one that is not
//     {a,b}    either of the alternatives
//     \        takes the meaning from the character after it
//
// A pattern without a slash matches a name at any depth. One that ends in a slash matches folders only. A slash at
// the beginning ties a pattern to the top of the source.
package filter

import (
	"fmt"
	"strings"
	"sync/atomic"

	"github.com/bmatcuk/doublestar/v4"
)

// Rule is one pattern and the place that it comes from.
type Rule struct {
	Pattern string
	Place   string // for messages: a file with line and column, or a flag

	glob     string // what is matched, without the outer slashes
	anchored bool   // against the whole path, else against the name
	folder   bool   // folders only
	suffix   string // of a pattern like "*.map", which needs no glob matcher
	lead     string // what every match begins with
	literal  bool   // of a pattern without any special character
	matched  atomic.Bool
}

// PatternError says which pattern cannot be understood.
type PatternError struct {
	Pattern, Place, Reason string
}

func (e *PatternError) Error() string {
	return fmt.Sprintf("%s: pattern %q: %s", e.Place, e.Pattern, e.Reason)
}

// NewRule reads a pattern. What is wrong with it comes back as a *PatternError.
func NewRule(pattern, place string) (*Rule, error) {
	r := &Rule{Pattern: pattern, Place: place, glob: strings.TrimPrefix(pattern, "./")}
	wrong := func(reason string) (*Rule, error) { return nil, &PatternError{pattern, place, reason} }
	r.glob, r.folder = strings.CutSuffix(r.glob, "/")
	if strings.HasSuffix(r.glob, `\`) && !strings.HasSuffix(r.glob, `\\`) {
		return wrong("a backslash at the end of a name has nothing to act on")
	}
	r.anchored = strings.Contains(r.glob, "/")
	r.glob = strings.TrimPrefix(r.glob, "/")
	switch {
	case r.glob == "":
		return wrong("an empty pattern matches nothing")
	case strings.Contains(r.glob, "//"):
		return wrong("an empty path element matches nothing")
	case !doublestar.ValidatePattern(r.glob):
		return wrong("a bracket, a brace or a backslash has no end")
	}
	for element := range strings.SplitSeq(r.glob, "/") {
		if element == "." || element == ".." {
			return wrong(fmt.Sprintf("patterns are relative to the source and have no %q element", element))
		}
	}
	const special = `*?[]{}\`
	r.literal = !strings.ContainsAny(r.glob, special)
	r.lead = r.glob[:max(strings.IndexAny(r.glob, special), 0)]
	if rest, ok := strings.CutPrefix(r.glob, "*"); ok && !r.anchored && rest != "" &&
		!strings.ContainsAny(rest, special) {
		r.suffix = rest
	}
	return r, nil
}

// Matches tells whether the rule matches this path itself, whatever it says of the folders above.
func (r *Rule) Matches(path string, folder bool) bool {
	if r.folder && !folder {
		return false
	}
	subject := path
	if !r.anchored {
		subject = path[strings.LastIndexByte(path, '/')+1:]
	}
	switch {
	case r.literal:
		return subject == r.glob
	case r.suffix != "":
		return strings.HasSuffix(subject, r.suffix)
	default:
		return strings.HasPrefix(subject, r.lead) && doublestar.MatchUnvalidated(r.glob, subject)
	}
}

// Used tells whether the rule has matched any path yet.
func (r *Rule) Used() bool { return r.matched.Load() }

// Set is the rules that hold for one source. Sets may share rules and may be used at the same time.
type Set struct {
	Includes, Excludes []*Rule
}

// Decision says whether a path is taken, and why.
type Decision struct {
	Taken bool
	Rule  *Rule  // the one that decided; nil where none did
	At    string // the path that the rule matched: the one asked about, or a folder above it
}

// Root is the decision that holds at the top of a source, before any path.
func (s *Set) Root() Decision { return Decision{Taken: len(s.Includes) == 0} }

// Step decides about a path, given the decision about the folder it is in. Below a folder that an exclude decided
// nothing is ever taken, so it need not be entered; below one that is merely not included something may be.
func (s *Set) Step(above Decision, path string, folder bool) Decision {
	decided := above
	for _, r := range s.Includes {
		if settled := decided.Rule != nil; settled && r.Used() {
			continue
		}
		if r.Matches(path, folder) {
			r.matched.Store(true)
			if decided.Rule == nil {
				decided = Decision{Taken: true, Rule: r, At: path}
			}
		}
	}
	excluded := false
	for _, r := range s.Excludes {
		if excluded && r.Used() {
			continue
		}
		if r.Matches(path, folder) {
			r.matched.Store(true)
			if !excluded {
				decided, excluded = Decision{Rule: r, At: path}, true
			}
		}
	}
	return decided
}

// Excluded tells whether an exclude decided.
func (d Decision) Excluded() bool { return !d.Taken && d.Rule != nil }

// Decide decides about a path from the top of the source down, as a walk would.
func (s *Set) Decide(path string, folder bool) Decision {
	decision := s.Root()
	for end := range len(path) {
		if path[end] == '/' {
			if decision = s.Step(decision, path[:end], true); decision.Excluded() {
				return decision
			}
		}
	}
	return s.Step(decision, path, folder)
}
