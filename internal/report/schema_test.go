package report

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"testing"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

// models are what -json prints, by the names in their schemas.
var models = map[string]any{
	"inspect": Inspection{}, "view": ViewModel{}, "map": MapModel{}, "compare": compareModel{},
	"merge": ChangedModel{}, "split": ChangedModel{}, "place": ChangedModel{}, "cut": ChangedModel{}, "fill": ChangedModel{},
	"patch": ChangedModel{}, "convert": ChangedModel{}, "seal": ChangedModel{}, "config": ChangedModel{},
	"checksum": checksumModel{}, "kinds": kindsModel{}, "identify": identifyModel{}, "check": checkModel{},
	"device": DeviceModel{}, "devices": DevicesModel{}, "against": AgainstModel{}, "release": ReleaseModel{}, "units": UnitsModel{},
	"confirm": Confirmation{}, "explain": Explanation{}, "match": MatchModel{}, "words": WordsModel{}, "folder": FolderModel{},
	"candidates": CandidatesModel{}, "growth": GrowthModel{}, "rehearse": RehearseModel{}, "version": VersionModel{},
	"read": ReadModel{}, "on": OnPartModel{}, "served": ServedModel{},
}

// TestSchemasAreOfTheModels makes the schemas of the models and holds those in
// docs/schemas against them.
func TestSchemasAreOfTheModels(t *testing.T) {
	folder := filepath.Join("..", "..", "docs", "schemas")
	for name, model := range models {
		text := schemaOf(t, name, model)
		file := filepath.Join(folder, name+".schema.json")
		if *golden.Update {
			require.NoError(t, os.WriteFile(file, text, 0o644))
		}
		there, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, string(text), string(there), name)
	}
	there, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Len(t, there, len(models), "a schema of nothing")
}

// schemaOf makes the schema of a model: an object of it, or a failure.
func schemaOf(t *testing.T, name string, model any) []byte {
	r := &jsonschema.Reflector{}
	require.NoError(t, r.AddGoComments("mexalt/internal/report", "."))
	result, failure := r.Reflect(model), r.Reflect(Failure{})
	for key, def := range failure.Definitions {
		result.Definitions[key] = def
	}
	properties := jsonschema.NewProperties()
	properties.Set("schema", &jsonschema.Schema{Const: SchemaName(name)})
	text, err := json.MarshalIndent(&jsonschema.Schema{
		Version: jsonschema.Version, Title: "What mexalt prints with -json: " + SchemaName(name),
		Type: "object", Properties: properties, Required: []string{"schema"},
		OneOf:       []*jsonschema.Schema{{Ref: result.Ref}, {Ref: failure.Ref}},
		Definitions: result.Definitions,
	}, "", "  ")
	require.NoError(t, err)
	return append(bytes.TrimSpace(plainComments(text)), '\n')
}

// plainComments takes Go's names out of descriptions: "ImageModel is an image." is
// "An image.".
func plainComments(schema []byte) []byte {
	name := regexp.MustCompile(`("description": ")[A-Z]\w+ (?:is|are) (\w)`)
	return name.ReplaceAllFunc(schema, func(found []byte) []byte {
		part := name.FindSubmatch(found)
		return append(slices.Clone(part[1]), bytes.ToUpper(part[2])...)
	})
}
