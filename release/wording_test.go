package release

import (
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"

	"mexalt/source"
)

// TestAdviceIsTOML words settings as keys that a release file takes.
func TestAdviceIsTOML(t *testing.T) {
	for value, want := range map[string]any{"01000000": "01000000", "0": int64(0), "128": int64(128), "0x0700_0000": "0x0700_0000",
		"": true, `a"b`: `a"b`} {
		text := Wording.Setting(source.Setting{Key: "bytes", Value: value})
		var table map[string]any
		if assert.NoError(t, toml.Unmarshal([]byte(text), &table), text) {
			assert.Equal(t, want, table["bytes"], text)
		}
	}
}
