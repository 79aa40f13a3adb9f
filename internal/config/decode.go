package config

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// decoder turns the nodes of a YAML document into the types of Settings, by their tags. It is stricter than a general
// decoder: nothing is converted, and keys that are not known or stand twice are errors.
type decoder struct {
	file    string
	anchors map[string]ast.Node
	targets *[]string
}

func decode(file string, text []byte, s *Settings) error {
	parsed, err := parser.ParseBytes(text, 0)
	if err != nil {
		return syntaxError(file, err)
	}
	if len(parsed.Docs) > 1 && parsed.Docs[1].Body != nil {
		return &Error{Position{file, parsed.Docs[1].Body.GetToken().Position.Line, 1}, "a second document begins here", "keep one"}
	}
	d := &decoder{file: file, anchors: map[string]ast.Node{}, targets: &s.TargetNames}
	if len(parsed.Docs) == 0 || parsed.Docs[0].Body == nil {
		return nil
	}
	return d.node(parsed.Docs[0].Body, reflect.ValueOf(s).Elem(), "the settings", "")
}

func syntaxError(file string, err error) error {
	out := &Error{At: Position{File: file}, Reason: "this is no valid YAML: " + firstLine(err.Error())}
	var syntax *yaml.SyntaxError
	if errors.As(err, &syntax) {
		out.Reason = "this is no valid YAML: " + syntax.GetMessage()
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

func (d *decoder) wrong(n ast.Node, mend, reason string, args ...any) error {
	return &Error{d.at(n), fmt.Sprintf(reason, args...), mend}
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
	case *Secret:
		if _, isText := scalarText(n); isText {
			return d.wrong(n, `write {env: NAME}, {file: PATH}, {command: [PROGRAM, ARGUMENT]}, {keyring: NAME} or {ask: true}`, "%s stands here as it is, where others can read it", what)
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
		b, ok := n.(*ast.BoolNode)
		if !ok {
			return d.wrong(n, "", "%s is true or false, not %s", what, describe(n))
		}
		into.SetBool(b.Value)
	case reflect.Int:
		_, ok := n.(*ast.IntegerNode)
		value, err := strconv.Atoi(n.GetToken().Value)
		if !ok || err != nil {
			return d.wrong(n, "", "%s is a whole number, not %s", what, describe(n))
		}
		into.SetInt(int64(value))
	}
	return nil
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
		mend := ""
		if _, scalar := n.(ast.ScalarNode); scalar {
			mend = "put it in quotes"
		}
		return d.wrong(n, mend, "%s is a text, not %s", what, describe(n))
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
	for _, pair := range out {
		key := keyOf(pair)
		if seen[key] {
			return nil, d.wrong(pair.Key, "", "the key %q stands twice", key)
		}
		seen[key] = true
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
			mend := ""
			if near := nearest(key, names(fields)); near != "" {
				mend = fmt.Sprintf("did you mean %q?", near)
			}
			return d.wrong(pair.Key, mend, "the key %q is not known in %s", key, what)
		}
		given[key] = true
		if err := d.node(pair.Value, into.FieldByIndex(field.Index), field.Tag.Get("yaml"), field.Tag.Get("enum")); err != nil {
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
	into.Set(reflect.MakeMap(into.Type()))
	for _, pair := range pairs {
		value := reflect.New(into.Type().Elem()).Elem()
		if err := d.node(pair.Value, value, fmt.Sprintf("target %q", keyOf(pair)), ""); err != nil {
			return err
		}
		into.SetMapIndex(reflect.ValueOf(keyOf(pair)), value)
		*d.targets = append(*d.targets, keyOf(pair))
	}
	return nil
}

func (d *decoder) list(n ast.Node, into reflect.Value, what string) error {
	sequence, ok := n.(*ast.SequenceNode)
	if !ok {
		mend := ""
		if text, isText := scalarText(n); isText {
			mend = fmt.Sprintf("write [%q]", text)
		}
		return d.wrong(n, mend, "%s is a list, not %s", what, describe(n))
	}
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
