package config

import (
	"encoding/json"
	"reflect"
	"strings"
)

// Schema gives the JSON Schema (draft 2020-12) of tartine.yaml, generated from Settings.
func Schema() []byte {
	root := schemaOf(reflect.TypeFor[Settings]())
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "tartine.yaml"
	out, err := json.MarshalIndent(root, "", "  ")
	if err != nil {
		panic(err) // only maps, slices and texts
	}
	return append(out, '\n')
}

func schemaOf(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[Text]():
		return map[string]any{"type": "string", "minLength": 1}
	case t == reflect.TypeFor[Setting]():
		return map[string]any{"type": []string{"string", "boolean"}}
	case t == reflect.TypeFor[Identity]():
		return map[string]any{"oneOf": []any{schemaOf(reflect.TypeFor[Text]()), schemaOf(reflect.TypeFor[Secret]())}}
	case t == reflect.TypeFor[Line]():
		return map[string]any{"oneOf": []any{schemaOf(reflect.TypeFor[Text]()), map[string]any{"type": "array", "items": schemaOf(reflect.TypeFor[Text]()), "minItems": 1}}}
	case t == reflect.TypeFor[From]():
		return map[string]any{"oneOf": []any{schemaOf(reflect.TypeFor[Text]()), mappingOf(t)}}
	case t.Kind() == reflect.Bool:
		return map[string]any{"type": "boolean"}
	case t.Kind() == reflect.Int:
		return map[string]any{"type": "integer", "minimum": 0}
	case t.Kind() == reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case t.Kind() == reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem())}
	}
	return mappingOf(t)
}

func mappingOf(t reflect.Type) map[string]any {
	properties := map[string]any{}
	required := []string{}
	for field := range fieldSeq(t) {
		key := field.Tag.Get("yaml")
		property := schemaOf(field.Type)
		if doc := field.Tag.Get("doc"); doc != "" {
			property["description"] = doc
		}
		if enum := field.Tag.Get("enum"); enum != "" {
			property["enum"] = strings.Split(enum, ",")
		}
		if field.Tag.Get("required") != "" {
			required = append(required, key)
		}
		properties[key] = property
	}
	out := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}
