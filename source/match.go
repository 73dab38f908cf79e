package source

import (
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
)

// patternSigns make a name a pattern.
const patternSigns = "*?["

// IsPattern reports whether a name is a pattern, and not that of a file that is there.
func IsPattern(name string) bool {
	return strings.ContainsAny(name[len(filepath.VolumeName(name)):], patternSigns) && !Exists(name)
}

// Match reports whether a name is like a pattern. Upper and lower case are the same where
// they are in the names of files.
func Match(pattern, name string) bool { return matchOn(runtime.GOOS, pattern, name) }

func matchOn(system, pattern, name string) bool {
	if system == "windows" {
		pattern, name = strings.ToLower(pattern), strings.ToLower(name)
	}
	like, err := path.Match(pattern, name)
	return err == nil && like
}

// Glob returns the files whose names are like a pattern, sorted.
func Glob(pattern string) []string {
	folder, base := filepath.Split(pattern)
	if runtime.GOOS != "windows" || IsPattern(filepath.Dir(pattern)) {
		found, _ := filepath.Glob(pattern)
		return found
	}
	entries, err := os.ReadDir(filepath.Clean(folder))
	if err != nil {
		return nil
	}
	var found []string
	for _, e := range entries {
		if Match(base, e.Name()) {
			found = append(found, folder+e.Name())
		}
	}
	slices.Sort(found)
	return found
}
