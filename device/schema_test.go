package device

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/source/settings"
)

// TestSchemaIsOfTheFile makes the schemas of the types by which maps and boards are read, and
// holds them against those that are shipped.
func TestSchemaIsOfTheFile(t *testing.T) {
	for _, c := range []struct {
		title, file string
		of          reflect.Type
	}{{"Mexalt device map", "schema.json", reflect.TypeFor[mapFile]()},
		{"Mexalt board", "../docs/board.schema.json", reflect.TypeFor[boardFile]()}} {
		s := schemaOf(c.of)
		s.Version, s.Title = jsonschema.Version, c.title
		text, err := json.MarshalIndent(s, "", "  ")
		require.NoError(t, err)
		golden.File(t, c.file, string(text)+"\n")
	}
}

// schemaOf returns the schema of a type: what it is told by the package that reads Go, and
// by the tags of our own.
func schemaOf(t reflect.Type) *jsonschema.Schema {
	r := &jsonschema.Reflector{FieldNameTag: "toml", DoNotReference: true, Anonymous: true, RequiredFromJSONSchemaTags: true}
	r.Mapper = func(of reflect.Type) *jsonschema.Schema {
		if of == t {
			return nil
		}
		return mapped(of)
	}
	s := r.ReflectFromType(t)
	s.Version = ""
	described(s, t)
	return s
}

// mapped tells of the types that are written in several ways, or as numbers and texts.
func mapped(t reflect.Type) *jsonschema.Schema {
	several := func(one *jsonschema.Schema) *jsonschema.Schema {
		least := uint64(1)
		return &jsonschema.Schema{Type: "array", MinItems: &least, Items: one}
	}
	text := &jsonschema.Schema{Type: "string"}
	switch {
	case t == reflect.TypeFor[settings.Expression]():
		return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{{Type: "integer"}, text}}
	case t == reflect.TypeFor[settings.Texts]():
		return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{text, several(text)}}
	case t.Implements(reflect.TypeFor[settings.Listed]()):
		one := mapped(t.Elem())
		out := &jsonschema.Schema{AnyOf: []*jsonschema.Schema{one, several(one)}}
		if w, ok := reflect.New(t.Elem()).Interface().(settings.Worded); ok {
			var words []any
			for _, word := range w.Words() {
				words = append(words, word)
			}
			out.AnyOf = append([]*jsonschema.Schema{{Enum: words}}, out.AnyOf...)
		}
		return out
	case t.Kind() == reflect.Slice:
		if one := mapped(t.Elem()); one != nil {
			return several(one)
		}
		return several(schemaOf(t.Elem()))
	case t.Kind() == reflect.Struct:
		return schemaOf(t)
	}
	return nil
}

// named are the tables whose names are no names of the small language.
var named = []reflect.Type{reflect.TypeFor[mapFile](), reflect.TypeFor[boardFile](), reflect.TypeFor[wishFile](),
	reflect.TypeFor[portFile](), reflect.TypeFor[boardPortFile]()}

// described adds what the tags of a table's keys say.
func described(s *jsonschema.Schema, t reflect.Type) {
	if t.Kind() != reflect.Struct || s.Properties == nil {
		return
	}
	for i := range t.NumField() {
		f := t.Field(i)
		p, ok := s.Properties.Get(f.Tag.Get("toml"))
		if !ok {
			continue
		}
		p.Description = f.Tag.Get("doc")
		for _, word := range strings.Fields(f.Tag.Get("one")) {
			p.Enum = append(p.Enum, word)
		}
		if f.Tag.Get("toml") == "name" && !slices.Contains(named, t) {
			p.Pattern = "^[A-Za-z_][A-Za-z0-9_]*$"
		}
		if f.Tag.Get("must") != "" {
			s.Required = append(s.Required, f.Tag.Get("toml"))
		}
	}
}
