package render

import (
	"runtime"
	"strings"
)

// Quoted quotes a value for a shell, where it needs that: in a way that all shells read, and
// where that cannot be, for those of this system.
func Quoted(value string) string { return quotedOn(runtime.GOOS, value) }

func quotedOn(system, value string) string {
	windows := system == "windows"
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_./:,@+=%", r) ||
			windows && r == '\\'
	}
	switch {
	case value != "" && strings.IndexFunc(value, func(r rune) bool { return !plain(r) }) < 0:
		return value
	case windows:
		return `"` + strings.ReplaceAll(value, `"`, `\"`) + `"`
	case strings.ContainsAny(value, "$`\\\"!"):
		return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'"
	}
	return `"` + value + `"`
}
