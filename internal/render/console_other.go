//go:build !windows

package render

import (
	"os"
	"strings"
)

// console reports whether a terminal takes escapes, for colours, and can show the signs of
// tables and bars: whether the environment says that text is UTF-8, in the order of POSIX.
func console(*os.File) (escapes, signs bool) {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if value := strings.ToLower(os.Getenv(name)); value != "" {
			return true, strings.Contains(value, "utf-8") || strings.Contains(value, "utf8")
		}
	}
	return true, false
}
