package output

import (
	"path/filepath"
	"slices"
	"strings"
)

// devices are the names that some systems take for devices, whatever their ending.
var devices = []string{"CON", "PRN", "AUX", "NUL", "COM", "LPT", "CONIN$", "CONOUT$"}

// numbers end the names of those devices of which there are several.
const numbers = "0123456789¹²³"

// NameFault says why a name cannot be a file's on every system, "" where it can: what is
// written on one is carried to others. The name NUL alone is the device that takes anything.
func NameFault(name string) string {
	base := filepath.Base(name)
	if base == "." || base == ".." || strings.EqualFold(base, "NUL") {
		return ""
	}
	stem, _, _ := strings.Cut(strings.ToUpper(base), ".")
	stem = strings.TrimRight(stem, " ")
	several, numbered := stem, false
	if i := strings.LastIndexAny(stem, numbers); i > 0 && strings.Contains(numbers, stem[i:]) {
		several, numbered = stem[:i], true
	}
	switch {
	case strings.Contains(base, ":"):
		return "names a stream within a file on Windows, which nobody sees"
	case strings.HasSuffix(base, ".") || strings.HasSuffix(base, " "):
		return "ends with a dot or a blank, which Windows leaves out"
	case slices.Contains(devices, several) && numbered == (several == "COM" || several == "LPT"):
		return "is the name of a device on Windows, where nothing would be written"
	}
	return ""
}

// folded returns a path as systems see it that do not tell upper from lower case.
func folded(path string) string { return strings.ToLower(strings.ToUpper(path)) }
