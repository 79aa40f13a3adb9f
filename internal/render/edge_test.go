package render

import (
	"bytes"
	"encoding/json"
	"errors"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"tartine/internal/diff"
)

// planted is what a far end may have put into a name, a message or a file: it sets a title, colours, clears the screen, begins another
// line, turns the direction of writing, and is no UTF-8.
const planted = "\x1b]0;title\x07\x1b[31m\u009b2J\r\nerror     faked\x7f\u202e\xff"

// plant fills every field that there is, whatever it is in.
func plant(v reflect.Value, depth int) {
	if depth > 12 || !v.CanSet() {
		return
	}
	switch v.Type() {
	case reflect.TypeFor[error]():
		v.Set(reflect.ValueOf(errors.New(planted)))
		return
	case reflect.TypeFor[time.Time]():
		v.Set(reflect.ValueOf(time.Date(2026, 5, 1, 6, 30, 0, 0, time.UTC)))
		return
	case reflect.TypeFor[diff.Status]():
		v.Set(reflect.ValueOf(diff.Changed))
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(planted)
	case reflect.Bool:
		v.SetBool(depth%2 == 0)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(1)
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(1)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		plant(v.Elem(), depth+1)
	case reflect.Struct:
		for i := range v.NumField() {
			plant(v.Field(i), depth+1)
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 3, 3))
		for i := range v.Len() {
			plant(v.Index(i), depth+1)
		}
	case reflect.Array:
		for i := range v.Len() {
			plant(v.Index(i), depth+1)
		}
	case reflect.Interface:
		if v.NumMethod() == 0 {
			v.Set(reflect.ValueOf(planted))
		}
	}
}

var ourColours = regexp.MustCompile(`\x1b\[(?:0|35|9[0-9]|1;9[0-9])m`)

// TestNothingOfAFarEndDrivesATerminal calls everything that a Printer can do, with plants in every field of what it is given.
func TestNothingOfAFarEndDrivesATerminal(t *testing.T) {
	printer := reflect.TypeFor[*Printer]()
	for i := range printer.NumMethod() {
		name := printer.Method(i).Name
		t.Run(name, func(t *testing.T) {
			for _, color := range []bool{false, true} {
				var out, errs bytes.Buffer
				method := reflect.ValueOf(&Printer{Out: &out, Err: &errs, Color: color, Verbose: color}).Method(i)
				args := make([]reflect.Value, method.Type().NumIn())
				for j := range args {
					args[j] = reflect.New(method.Type().In(j)).Elem()
					plant(args[j], 0)
				}
				if method.Type().IsVariadic() {
					args[0].SetString("%s %s %s")
					method.CallSlice(args)
				} else {
					method.Call(args)
				}
				if strings.HasSuffix(name, "JSON") {
					require.True(t, json.Valid(out.Bytes()), out.String())
				}
				for _, text := range []string{out.String(), errs.String()} {
					if color {
						text = ourColours.ReplaceAllString(text, "")
					}
					require.True(t, utf8.ValidString(text))
					require.False(t, strings.ContainsFunc(text, func(r rune) bool {
						return r != '\n' && r != '\t' && (unicode.IsControl(r) || r == '\u202e')
					}), "%q", text)
					require.NotContains(t, text, "\nerror     faked")
				}
			}
		})
	}
}

func TestSafeLeavesWhatIsPrintable(t *testing.T) {
	for text, want := range map[string]string{
		"Gannet Rock, épée 砂 🐦":   "Gannet Rock, épée 砂 🐦",
		"tab\tstays":              "tab\tstays",
		"\x1b[31mred":             `\x1b[31mred`,
		"one\ntwo\r":              `one\ntwo\r`,
		"\u009b and \x7f":         `\u009b and \u007f`,
		"half \xc3":               `half \xc3`,
		"it's \"quoted\" and \\x": "it's \"quoted\" and \\x",
	} {
		require.Equal(t, strings.ReplaceAll(want, `\u007f`, `\x7f`), Safe(text))
	}
}

func TestEveryStatusHasItsWordAndSomeAColour(t *testing.T) {
	for _, w := range []word{"new", "changed", "retired", "stray", "drifted", "failed", "deployed", "unchanged", "match", "differs", "incomplete"} {
		plain, coloured := (&Printer{}).paint(w, 10), (&Printer{Color: true}).paint(w, 10)
		require.Len(t, string(plain), 10)
		require.Contains(t, string(coloured), string(plain), "colour only repeats the word")
		require.NotEqual(t, plain, coloured)
	}
	require.NotContains(t, string((&Printer{Color: true}).paint(word("\x1b[2J"), 4)), "\x1b[2J")
}

func TestNumbersForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.00 kB", 9_999: "10.0 kB", 123_456: "123 kB", 5_370_000_000: "5.37 GB"} {
		require.Equal(t, want, Bytes(n))
	}
	require.Equal(t, "1 path", Count(1, "path"))
	require.Equal(t, "2,000 entries", Count(2000, "entry"))
	require.Equal(t, "3 strays", Count(3, "stray"))
	require.Equal(t, "-1,234", Number(-1234))
	require.Equal(t, []string{"12 ms", "1.5 s", "2 min 05 s"}, []string{Duration(12 * time.Millisecond), Duration(1500 * time.Millisecond), Duration(125 * time.Second)})
}

func TestLongListsAreGatheredByFolder(t *testing.T) {
	var list []row
	for i := range 100 {
		list = append(list, row{word: "new", name: "img/" + strings.Repeat("x", i+1), bytes: 10}, row{word: "new", name: "css/" + strings.Repeat("y", i+1), bytes: 1})
	}
	short := (&Printer{}).shortened(len(list), slices.Values(list))
	require.Len(t, short, 2)
	require.Equal(t, "img/", short[0].name)
	require.Equal(t, int64(1000), short[0].bytes)
	require.Equal(t, "100 paths", short[0].note)
	require.Len(t, (&Printer{Verbose: true}).shortened(len(list), slices.Values(list)), 200)
}
