package source

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"os"
)

// LineEndAdvice is what to do about a file whose line ends were changed.
const LineEndAdvice = "get the original file; a line such as \"*.hex -text\" in .gitattributes keeps git from changing it"

// LineEndsChanged says what became of the line ends of a file, "" where it is not the one
// with a SHA-256, in hex, but for them: tools for sources take images for texts.
func LineEndsChanged(name, sum string) string {
	const most = 64 << 20 // a text larger than that is none of a release
	if info, err := os.Stat(name); err != nil || !info.Mode().IsRegular() || info.Size() > most {
		return ""
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return ""
	}
	is := func(text []byte) bool {
		got := sha256.Sum256(text)
		return hex.EncodeToString(got[:]) == sum
	}
	lf := bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	switch {
	case len(lf) < len(text) && is(lf):
		return "its line ends were changed from LF to CR LF"
	case len(lf) == len(text) && is(bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))):
		return "its line ends were changed from CR LF to LF"
	}
	return ""
}
