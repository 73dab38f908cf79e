package device

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/source/settings"
	"mexalt/span"
)

// Text returns the map as one file, what it is based on put in. Loading it gives
// the same map.
func (m *Map) Text() string {
	f := m.file
	f.Base, f.Drop = "", nil
	var b strings.Builder
	writeTable(&b, "", reflect.ValueOf(f))
	return strings.TrimLeft(b.String(), "\n")
}

// writeTable writes the keys of a table, and then the tables in it.
func writeTable(b *strings.Builder, path string, v reflect.Value) {
	for i := range v.NumField() {
		if key := v.Type().Field(i).Tag.Get("toml"); !isTable(v.Field(i).Type()) && !v.Field(i).IsZero() {
			fmt.Fprintf(b, "%s = %s\n", key, valueText(key, v.Field(i)))
		}
	}
	for i := range v.NumField() {
		field, at := v.Field(i), v.Type().Field(i).Tag.Get("toml")
		if path != "" {
			at = path + "." + at
		}
		switch {
		case !isTable(field.Type()):
		case field.Kind() == reflect.Slice:
			for j := range field.Len() {
				fmt.Fprintf(b, "\n[[%s]]\n", at)
				writeTable(b, at, field.Index(j))
			}
		case !field.IsNil():
			fmt.Fprintf(b, "\n[%s]\n", at)
			writeTable(b, at, field.Elem())
		}
	}
}

// isTable reports whether a key has a heading of its own: what is short stands in a
// line.
func isTable(t reflect.Type) bool {
	switch t {
	case reflect.TypeFor[[]memoryFile](),
		reflect.TypeFor[[]regionFile](),
		reflect.TypeFor[settings.List[startFile]](),
		reflect.TypeFor[[]checksumFile](),
		reflect.TypeFor[[]wordFile](),
		reflect.TypeFor[[]fieldFile](),
		reflect.TypeFor[[]groupFile](),
		reflect.TypeFor[[]portFile](),
		reflect.TypeFor[[]wishFile](),
		reflect.TypeFor[[]speedFile](),
		reflect.TypeFor[*linkFile](),
		reflect.TypeFor[*loaderFile]():
		return true
	}
	return false
}

// valueText is the value of a key as TOML writes it in a line.
func valueText(key string, v reflect.Value) string {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		return valueText(key, v.Elem())
	case reflect.Bool:
		return fmt.Sprint(v.Bool())
	case reflect.Slice:
		var list []string
		for i := range v.Len() {
			list = append(list, valueText(key, v.Index(i)))
		}
		if len(list) == 1 && (v.Type() == reflect.TypeFor[settings.Texts]() || v.Type() == reflect.TypeFor[settings.List[holdsFile]]()) {
			return list[0]
		}
		if v.Len() > 0 && v.Index(0).Kind() == reflect.Struct && len(list) > 1 {
			return "[\n  " + strings.Join(list, ",\n  ") + ",\n]"
		}
		return "[" + strings.Join(list, ", ") + "]"
	case reflect.Map:
		var list []string
		for _, k := range slices.Sorted(maps.Keys(stringKeys(v))) {
			list = append(list, fmt.Sprintf("%s = %s", keyText(k), valueText(k, v.MapIndex(reflect.ValueOf(k)))))
		}
		return "{ " + strings.Join(list, ", ") + " }"
	case reflect.Struct:
		if h, ok := v.Interface().(holdsFile); ok && h.unknown {
			return tomlText(unknownWord)
		}
		var list []string
		for i := range v.NumField() {
			if k := v.Type().Field(i).Tag.Get("toml"); k != "" && !v.Field(i).IsZero() {
				list = append(list, fmt.Sprintf("%s = %s", k, valueText(k, v.Field(i))))
			}
		}
		return "{ " + strings.Join(list, ", ") + " }"
	}
	text := v.String()
	if v.Type() == reflect.TypeFor[settings.Expression]() && plainNumber(text) {
		n, _ := span.Number(text)
		switch key {
		case "first", "last", "image-first", "at", "identity-at", "identity-read-at", "complement-at", "aliases":
			return memory.FormatAddress(n)
		case "erased", "holes", "default":
			return fmt.Sprintf("0x%02X", n)
		}
		return text
	}
	return tomlText(text)
}

func stringKeys(v reflect.Value) map[string]bool {
	keys := map[string]bool{}
	for _, k := range v.MapKeys() {
		keys[k.String()] = true
	}
	return keys
}

// plainNumber reports whether an expression is a number that TOML has too.
func plainNumber(text string) bool {
	n, err := span.Number(text)
	return err == nil && n>>63 == 0 && strings.Trim(text, "0123456789") == "" && (text == "0" || text[0] != '0')
}

func keyText(key string) string {
	if key != "" && strings.Trim(key, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-") == "" {
		return key
	}
	return tomlText(key)
}

// tomlText is a text in quotes, as TOML 1.0 escapes it.
func tomlText(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteString("\\" + string(r))
		case r < ' ' || r == 0x7F:
			fmt.Fprintf(&b, "\\u%04X", r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
