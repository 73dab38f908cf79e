package source

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode"
)

// WhatIs says what a file of the program's own, or another that people mistake for one, is by
// its beginning: "a manifest", "a manifest of units", "Intel HEX", "TOML"; "" is that it is not known.
func WhatIs(text []byte) string {
	head := bytes.TrimSpace(bytes.TrimPrefix(text[:min(len(text), 4096)], []byte("\xEF\xBB\xBF")))
	line, _, _ := bytes.Cut(head, []byte("\n"))
	switch {
	case len(head) == 0:
		return "an empty file"
	case bytes.HasPrefix(head, []byte("\x7FELF")):
		return "an ELF file"
	case head[0] == ':' && len(line) > 9:
		return "Intel HEX"
	case head[0] == 'S' && len(line) > 8 && line[1] >= '0' && line[1] <= '9':
		return "an S-record file"
	case head[0] == '{' && json.Valid(bytes.TrimSpace(line)):
		return "a log of units, or other JSON lines"
	case head[0] == '{':
		var of struct{ Schema string }
		json.Unmarshal(text, &of)
		for form, what := range map[string]string{"mexalt.manifest/": "a manifest", "mexalt.units.manifest/": "a manifest of units"} {
			if strings.HasPrefix(of.Schema, form) || bytes.Contains(head, []byte(`"schema": "`+form)) {
				return what
			}
		}
		return "JSON"
	case bytes.IndexByte(head, 0) >= 0:
		return "not text"
	case bytes.HasPrefix(head, []byte("[")) || bytes.Contains(head, []byte("\n[[")) || bytes.Contains(line, []byte(" = ")):
		return "TOML"
	}
	return ""
}

// JSONProblem says what is wrong with a JSON text, in the words of its reader and not of a
// library.
func JSONProblem(err error) string {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		return fmt.Sprintf("not valid JSON at byte %d", syntax.Offset)
	case errors.As(err, &kind):
		article := "a"
		if strings.IndexByte("ao", kind.Value[0]) >= 0 { // array, object
			article = "an"
		}
		path := slices.DeleteFunc(strings.Split(kind.Field, "."), func(part string) bool {
			return part != "" && unicode.IsUpper(rune(part[0])) // of a type that is embedded, not of the text
		})
		return fmt.Sprintf("%s is %s %s, at byte %d", cmp.Or(strings.Join(path, "."), "a value"), article, kind.Value, kind.Offset)
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return "not valid JSON: the text ends too early"
	}
	return strings.Replace(strings.TrimPrefix(err.Error(), "json: "), "unknown field", "unknown key", 1)
}
