package config

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// decoder turns the nodes of a YAML document into the types of Settings, by their tags. It is stricter than a general
// decoder: nothing is converted, and keys that are not known or occur twice are errors.
type decoder struct {
	file    string
	anchors map[string]ast.Node
	merging map[ast.Node]bool // what is merged at present
	targets *[]string
}

// byteOrderMark may begin a file; some editors write it.
const byteOrderMark = "\ufeff"

// decode reads a file into settings. Those that the file shares come first; above are the files that it is shared by.
func decode(file string, text []byte, s *Settings, above []string) error {
	parsed, err := parser.ParseBytes(bytes.TrimPrefix(text, []byte(byteOrderMark)), 0)
	if err != nil {
		return syntaxError(file, err)
	}
	if len(parsed.Docs) > 1 && parsed.Docs[1].Body != nil {
		return &Error{Position{file, parsed.Docs[1].Body.GetToken().Position.Line, 1}, "a second document begins here",
			"keep one"}
	}
	d := &decoder{file: file, anchors: map[string]ast.Node{}, merging: map[ast.Node]bool{}, targets: &s.TargetNames}
	if len(parsed.Docs) == 0 || parsed.Docs[0].Body == nil {
		return nil
	}
	body := parsed.Docs[0].Body
	if err := d.shared(body, s, append(above, file)); err != nil {
		return err
	}
	return d.node(body, reflect.ValueOf(s).Elem(), "the settings", "")
}

// shared reads the settings that a file shares with others.
func (d *decoder) shared(body ast.Node, s *Settings, above []string) error {
	pairs, err := d.pairs(body, "the settings")
	if err != nil {
		return err
	}
	at := slices.IndexFunc(pairs, func(pair *ast.MappingValueNode) bool { return keyOf(pair) == "shared" })
	if at < 0 {
		return nil
	}
	var files []Text
	if err := d.node(pairs[at].Value, reflect.ValueOf(&files).Elem(), "shared", ""); err != nil {
		return err
	}
	for _, file := range files {
		name := Resolve(file)
		if slices.Contains(above, name) || len(above) > mostShared {
			return &Error{file.At, fmt.Sprintf("the settings %s are shared with themselves", name), ""}
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return &Error{file.At, fmt.Sprintf("the settings %s cannot be read: %v", name, reason(err)), ""}
		}
		if err := decode(name, text, s, above); err != nil {
			return err
		}
	}
	return nil
}

// mostShared is how many files may share settings in a row.
const mostShared = 8

func syntaxError(file string, err error) error {
	out := &Error{At: Position{File: file}, Reason: "this is not valid YAML: " + firstLine(err.Error())}
	var syntax *yaml.SyntaxError
	if errors.As(err, &syntax) {
		out.Reason = "this is not valid YAML: " + syntax.GetMessage()
		if token := syntax.GetToken(); token != nil {
			out.At.Line, out.At.Column = token.Position.Line, token.Position.Column
		}
	}
	return out
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

func (d *decoder) at(n ast.Node) Position {
	token := n.GetToken()
	if m, ok := n.(*ast.MappingNode); ok && !m.IsFlowStyle && len(m.Values) > 0 {
		token = m.Values[0].Key.GetToken()
	}
	if token == nil || token.Position == nil {
		return Position{File: d.file}
	}
	return Position{d.file, token.Position.Line, token.Position.Column}
}

func (d *decoder) wrong(n ast.Node, fix, reason string, args ...any) error {
	return &Error{d.at(n), fmt.Sprintf(reason, args...), fix}
}

// node decodes one node into a value. What names it in messages; enum lists what a text may say.
func (d *decoder) node(n ast.Node, into reflect.Value, what, enum string) error {
	switch x := n.(type) {
	case *ast.AnchorNode:
		d.anchors[x.Name.String()] = x.Value
		return d.node(x.Value, into, what, enum)
	case *ast.AliasNode:
		target, ok := d.anchors[x.Value.String()]
		if !ok {
			return d.wrong(n, "", "the anchor %q is not defined above", x.Value.String())
		}
		return d.node(target, into, what, enum)
	case *ast.NullNode:
		return d.wrong(n, "remove the key or give it one", "%s has no value", what)
	}
	switch target := into.Addr().Interface().(type) {
	case *Text:
		return d.text(n, target, what, enum)
	case *Setting:
		if truth, ok := n.(*ast.BoolNode); ok {
			target.Text = Text{strconv.FormatBool(truth.Value), d.at(n)}
			return nil
		}
		return d.text(n, &target.Text, what, enum)
	case *Identity:
		if _, isText := scalarText(n); isText {
			return d.text(n, &target.Text, what, enum)
		}
		return d.node(n, reflect.ValueOf(&target.Key).Elem(), what, enum)
	case *Line:
		if _, isText := scalarText(n); isText {
			return d.text(n, &target.Shell, what, enum)
		}
		if _, isList := n.(*ast.SequenceNode); !isList {
			return d.wrong(n, "write it as in [make, site]", "%s is a list of a program and its arguments, or a line for the shell, not %s", what, describe(n))
		}
		if err := d.list(n, reflect.ValueOf(&target.Words).Elem(), what); err != nil {
			return err
		}
		if len(target.Words) == 0 {
			return d.wrong(n, "", "%s is empty", what)
		}
		return nil
	case *From:
		if _, isText := scalarText(n); isText {
			return d.text(n, &target.Text, what, enum)
		}
	case *Command:
		target.At = d.at(n)
	case *Check:
		target.At = d.at(n)
	case *Secret:
		if _, isText := scalarText(n); isText {
			return d.wrong(n, `write {env: NAME}, {file: PATH}, {command: [PROGRAM, ARGUMENT]}, {keyring: NAME} or {ask: true}`, "%s is written here in the clear, where others can read it", what)
		}
		target.At = d.at(n)
	}
	switch into.Kind() {
	case reflect.Struct:
		return d.mapping(n, into, what)
	case reflect.Map:
		return d.named(n, into, what)
	case reflect.Slice:
		return d.list(n, into, what)
	case reflect.Bool:
		written, err := d.written(n)
		truth, wrong := strconv.ParseBool(written)
		if err != nil {
			return err
		}
		if wrong != nil || written != "true" && written != "false" {
			return d.wrong(n, "", "%s is true or false, not %s", what, describe(n))
		}
		into.SetBool(truth)
	case reflect.Int:
		written, err := d.written(n)
		value, wrong := strconv.Atoi(written)
		if err != nil {
			return err
		}
		if wrong != nil {
			return d.wrong(n, "", "%s is a whole number, not %s", what, describe(n))
		}
		into.SetInt(int64(value))
	}
	return nil
}

// written gives a number or a truth as it is written, or as a variable gives it; empty: it is neither.
func (d *decoder) written(n ast.Node) (string, error) {
	switch x := n.(type) {
	case *ast.BoolNode:
		return strconv.FormatBool(x.Value), nil
	case *ast.IntegerNode:
		return n.GetToken().Value, nil
	}
	if text, ok := scalarText(n); ok && strings.Contains(text, "${") {
		return d.variables(n, text)
	}
	return "", nil
}

var variable = regexp.MustCompile(`\$(\$)?\{([^}]*)(\})?`)

// variables puts in the values of ${NAME} and ${NAME:-DEFAULT}. $${ stands for ${ itself.
func (d *decoder) variables(n ast.Node, text string) (string, error) {
	var wrong error
	out := variable.ReplaceAllStringFunc(text, func(found string) string {
		parts := variable.FindStringSubmatch(found)
		if parts[1] != "" {
			return found[1:]
		}
		name, fallback, has := strings.Cut(parts[2], ":-")
		value, set := os.LookupEnv(name)
		switch {
		case parts[3] == "" || name == "":
			wrong = d.wrong(n, "write it as in ${NAME} or ${NAME:-DEFAULT}; $${ stands for ${ itself",
				"%q begins a variable that does not end", text)
		case has && value == "":
			return fallback
		case !set:
			wrong = d.wrong(n, fmt.Sprintf("set it, or write ${%s:-DEFAULT}", name), "the variable %s is not set", name)
		}
		return value
	})
	return out, wrong
}

func scalarText(n ast.Node) (string, bool) {
	switch x := n.(type) {
	case *ast.StringNode:
		return x.Value, true
	case *ast.LiteralNode:
		return x.Value.Value, true
	}
	return "", false
}

func (d *decoder) text(n ast.Node, into *Text, what, enum string) error {
	value, ok := scalarText(n)
	if !ok {
		fix := ""
		if _, scalar := n.(ast.ScalarNode); scalar {
			fix = "put it in quotes"
		}
		return d.wrong(n, fix, "%s is a text, not %s", what, describe(n))
	}
	value, err := d.variables(n, value)
	if err != nil {
		return err
	}
	if enum != "" && !slices.Contains(strings.Split(enum, ","), value) {
		return d.wrong(n, "", "%s is %s, not %q", what, strings.ReplaceAll(enum, ",", " or "), value)
	}
	if value == "" {
		return d.wrong(n, "", "%s is empty", what)
	}
	*into = Text{value, d.at(n)}
	return nil
}

// pairs gives the keys and values of a mapping, in order.
func (d *decoder) pairs(n ast.Node, what string) ([]*ast.MappingValueNode, error) {
	var out []*ast.MappingValueNode
	switch x := n.(type) {
	case *ast.MappingNode:
		out = x.Values
	case *ast.MappingValueNode:
		out = []*ast.MappingValueNode{x}
	default:
		return nil, d.wrong(n, "", "%s is a list of keys with values, not %s", what, describe(n))
	}
	seen := map[string]bool{}
	var merged []ast.Node
	for _, pair := range out {
		key := keyOf(pair)
		if _, merge := pair.Key.(*ast.MergeKeyNode); merge {
			merged = append(merged, pair.Value)
			continue
		}
		if seen[key] {
			return nil, d.wrong(pair.Key, "", "the key %q occurs twice", key)
		}
		seen[key] = true
	}
	if len(merged) == 0 {
		return out, nil
	}
	return d.merge(out, seen, merged, what)
}

// merge gives pairs with those of other mappings (<<) whose keys are not among them. Of several mappings the first
// wins.
func (d *decoder) merge(own []*ast.MappingValueNode, seen map[string]bool, others []ast.Node,
	what string) (out []*ast.MappingValueNode, err error) {
	for _, pair := range own {
		if _, merge := pair.Key.(*ast.MergeKeyNode); !merge {
			out = append(out, pair)
		}
	}
	for len(others) > 0 {
		other := others[0]
		others = others[1:]
		switch x := other.(type) {
		case *ast.SequenceNode:
			others = append(slices.Clone(x.Values), others...)
			continue
		case *ast.AliasNode:
			target, ok := d.anchors[x.Value.String()]
			if !ok {
				return nil, d.wrong(other, "", "the anchor %q is not defined above", x.Value.String())
			}
			other = target
		case *ast.AnchorNode:
			d.anchors[x.Name.String()] = x.Value
			other = x.Value
		}
		if d.merging[other] {
			return nil, d.wrong(other, "", "%s is merged with itself", what)
		}
		d.merging[other] = true
		pairs, err := d.pairs(other, what)
		delete(d.merging, other)
		if err != nil {
			return nil, err
		}
		for _, pair := range pairs {
			if key := keyOf(pair); !seen[key] {
				seen[key] = true
				out = append(out, pair)
			}
		}
	}
	return out, nil
}

func keyOf(pair *ast.MappingValueNode) string { return pair.Key.GetToken().Value }

func (d *decoder) mapping(n ast.Node, into reflect.Value, what string) error {
	pairs, err := d.pairs(n, what)
	if err != nil {
		return err
	}
	fields := fieldsOf(into.Type())
	given := map[string]bool{}
	for _, pair := range pairs {
		key := keyOf(pair)
		field, ok := fields[key]
		if !ok {
			fix := ""
			if near := Nearest(key, names(fields)); near != "" {
				fix = fmt.Sprintf("did you mean %q?", near)
			}
			return d.wrong(pair.Key, fix, "the key %q is not known in %s", key, what)
		}
		given[key] = true
		if err := d.node(pair.Value, into.FieldByIndex(field.Index), field.Tag.Get("yaml"),
			field.Tag.Get("enum")); err != nil {
			return err
		}
	}
	for _, key := range slices.Sorted(slices.Values(names(fields))) {
		if fields[key].Tag.Get("required") != "" && !given[key] {
			return d.wrong(n, "", "%s needs the key %q", what, key)
		}
	}
	return nil
}

func fieldsOf(t reflect.Type) map[string]reflect.StructField {
	out := map[string]reflect.StructField{}
	for field := range fieldSeq(t) {
		out[field.Tag.Get("yaml")] = field
	}
	return out
}

// fieldSeq gives the fields that have a key.
func fieldSeq(t reflect.Type) func(func(reflect.StructField) bool) {
	return func(yield func(reflect.StructField) bool) {
		for i := range t.NumField() {
			if key := t.Field(i).Tag.Get("yaml"); key != "" && key != "-" && !yield(t.Field(i)) {
				return
			}
		}
	}
}

func names(fields map[string]reflect.StructField) []string {
	out := make([]string, 0, len(fields))
	for key := range fields {
		out = append(out, key)
	}
	return out
}

// named decodes a mapping whose keys are names of the user's: the targets.
func (d *decoder) named(n ast.Node, into reflect.Value, what string) error {
	pairs, err := d.pairs(n, what)
	if err != nil {
		return err
	}
	if into.IsNil() {
		into.Set(reflect.MakeMap(into.Type()))
	}
	for _, pair := range pairs {
		value := reflect.New(into.Type().Elem()).Elem()
		if err := d.node(pair.Value, value, fmt.Sprintf("target %q", keyOf(pair)), ""); err != nil {
			return err
		}
		into.SetMapIndex(reflect.ValueOf(keyOf(pair)), value)
		if !slices.Contains(*d.targets, keyOf(pair)) {
			*d.targets = append(*d.targets, keyOf(pair))
		}
	}
	return nil
}

func (d *decoder) list(n ast.Node, into reflect.Value, what string) error {
	sequence, ok := n.(*ast.SequenceNode)
	if !ok {
		fix := ""
		if text, isText := scalarText(n); isText {
			fix = fmt.Sprintf("write [%q]", text)
		}
		return d.wrong(n, fix, "%s is a list, not %s", what, describe(n))
	}
	into.SetZero() // what is shared is replaced
	for _, value := range sequence.Values {
		item := reflect.New(into.Type().Elem()).Elem()
		if err := d.node(value, item, "an entry of "+what, ""); err != nil {
			return err
		}
		into.Set(reflect.Append(into, item))
	}
	return nil
}

func describe(n ast.Node) string {
	switch n.(type) {
	case *ast.StringNode, *ast.LiteralNode:
		return "a text"
	case *ast.IntegerNode, *ast.FloatNode:
		return "a number"
	case *ast.BoolNode:
		return "true or false"
	case *ast.SequenceNode:
		return "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "keys with values"
	default:
		return "a " + strings.ToLower(n.Type().String())
	}
}
