package release

import (
	"fmt"
	"strings"

	"mexalt/source"
)

// Wording words settings as keys of a release file, and operations as steps.
var Wording source.Wording = wording{}

type wording struct{}

func (wording) Setting(s source.Setting) string {
	value := s.Value
	if value == "" {
		value = "true"
	} else if !plainNumber(value) {
		value = fmt.Sprintf("%q", value)
	}
	text := s.Key + " = " + value
	if s.Does != "" {
		text += " " + s.Does
	}
	return text
}

func (w wording) Action(a *source.Action) string {
	lines := []string{fmt.Sprintf("[[step]] do = %q", a.Operation)}
	for _, s := range a.Settings {
		lines = append(lines, w.Setting(s))
	}
	return strings.Join(lines, ", ")
}

// plainNumber reports whether a text is a number in TOML: one that begins with 0
// is none.
func plainNumber(text string) bool {
	return text == "0" || text != "" && text[0] != '0' && strings.Trim(text, "0123456789") == ""
}
