package fsys

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"tartine/internal/farend"
)

// Spelling is which names a place holds as they are. Some servers refuse characters, or put others in their place.
type Spelling struct{ bad map[string]string }

// plainLetters are held everywhere.
const plainLetters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_"

// mostTried is how long a name is that tries several letters at once, in bytes.
const mostTried = 120

// TrySpelling finds out how a place spells names, in a folder where files may be made. What it makes it removes again.
func TrySpelling(ctx context.Context, f FS, dir string, names []string) (*Spelling, error) {
	s := &Spelling{bad: map[string]string{}}
	wanted := map[string]string{}
	var foreign []string
	for _, name := range names {
		for trait, probe := range traits(name) {
			if len(trait) > 1 && trait[0] >= utf8.RuneSelf {
				if wanted[trait] == "" {
					foreign = append(foreign, trait)
				}
				probe = ""
			}
			wanted[trait] = probe
		}
	}
	// What lies beyond ASCII is tried together: all of it is held, or nothing is, nearly always.
	groups := map[string][]string{}
	for begin := 0; begin < len(foreign); {
		end, together := begin, ""
		for end < len(foreign) && len(together) < mostTried {
			together += foreign[end]
			end++
		}
		groups[together] = foreign[begin:end]
		begin = end
	}
	for trait, probe := range wanted {
		if probe != "" {
			groups[probe] = []string{trait}
		}
	}
	for len(groups) > 0 {
		held, err := hold(ctx, f, dir, slices.Sorted(maps.Keys(groups)))
		if err != nil {
			return nil, err
		}
		again := map[string][]string{}
		for probe, traits := range groups {
			switch {
			case held[probe] == "":
			case len(traits) == 1:
				s.bad[traits[0]] = held[probe]
			default:
				for _, trait := range traits {
					again["x"+trait+"x"] = []string{trait}
				}
			}
		}
		groups = again
	}
	return s, nil
}

// IsPlain tells whether there is nothing unusual about a name of one element.
func IsPlain(name string) bool { return len(traits(name)) == 0 }

// traits gives what is unusual about a name of one element, each with a name that has nothing else of the kind.
func traits(name string) map[string]string {
	out := map[string]string{}
	for i, r := range name {
		letter := string(r)
		switch {
		case r == utf8.RuneError:
			letter = name[i : i+1]
			out[letter] = "x" + letter + "x"
		case !strings.ContainsRune(plainLetters, r) && r != '.':
			out[letter] = "x" + letter + "x"
		}
	}
	if first, _ := utf8.DecodeRuneInString(name); first < utf8.RuneSelf && !strings.ContainsRune(plainLetters, first) {
		out[fmt.Sprintf("%q at the beginning", first)] = string(first) + "x"
	}
	if last, _ := utf8.DecodeLastRuneInString(name); last < utf8.RuneSelf && !strings.ContainsRune(plainLetters, last) {
		out[fmt.Sprintf("%q at the end", last)] = "x" + string(last)
	}
	return out
}

// hold makes files under names and tells of each how it came out, where it did not come out as it is.
func hold(ctx context.Context, f FS, dir string, probes []string) (map[string]string, error) {
	out := map[string]string{}
	mark := rand.Text()[:6]
	var made []string
	defer func() {
		for _, name := range made {
			_ = f.Remove(context.WithoutCancel(ctx), name) // else the folder goes as a whole
		}
	}()
	spelt := func(probe string) string { // the mark is in the middle, between the letters that were asked for
		if i := strings.IndexByte(probe, 'x'); i >= 0 {
			return probe[:i] + mark + probe[i:]
		}
		return mark + probe + mark
	}
	for _, probe := range probes {
		name := Join(dir, spelt(probe))
		_, err := f.Put(ctx, name, strings.NewReader(""), Attributes{Mode: 0o600})
		switch {
		case errors.Is(err, farend.ErrLost), ctx.Err() != nil:
			return nil, errors.Join(err, ctx.Err())
		case err != nil:
			var inner *fs.PathError
			if errors.As(err, &inner) {
				err = inner.Err
			}
			out[probe] = err.Error()
			continue
		}
		made = append(made, name)
	}
	list, err := f.List(ctx, dir)
	if err != nil {
		return nil, err
	}
	there := map[string]bool{}
	for _, info := range list {
		there[info.Name] = true
	}
	for _, probe := range probes {
		if out[probe] == "" && !there[spelt(probe)] {
			out[probe] = "it comes out as another one"
		}
	}
	return out, nil
}

// Refuses tells why a name, of one element or several, cannot be there; empty: it can, as far as was tried.
func (s *Spelling) Refuses(name string) string {
	if len(s.bad) == 0 {
		return ""
	}
	for element := range strings.SplitSeq(name, "/") {
		for trait := range traits(element) {
			if why := s.bad[trait]; why != "" {
				if len(trait) <= utf8.UTFMax {
					trait = fmt.Sprintf("%q", trait)
				}
				return fmt.Sprintf("the far end does not hold %s in a name: %s", trait, why)
			}
		}
	}
	return ""
}
