package render

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestQuotes quotes values for the shells of each system.
func TestQuotes(t *testing.T) {
	for value, want := range map[string][2]string{
		"plain-1.hex":    {"plain-1.hex", "plain-1.hex"},
		"merged (1).hex": {`"merged (1).hex"`, `"merged (1).hex"`},
		"":               {`""`, `""`},
		`a\b.hex`:        {`'a\b.hex'`, `a\b.hex`},
		`a "b"`:          {`'a "b"'`, `"a \"b\""`},
		"it's $5":        {`'it'\''s $5'`, `"it's $5"`},
		"~x":             {`"~x"`, `"~x"`},
	} {
		assert.Equal(t, want, [2]string{quotedOn("linux", value), quotedOn("windows", value)}, value)
	}
}
