package source

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Visible returns a text that came from outside as it may be printed: control
// characters, direction marks and what is no UTF-8 are made visible, so that
// they cannot move the cursor or turn a line around.
func Visible(text string) string {
	if !strings.ContainsFunc(text, hidden) && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for i, r := range text {
		switch {
		case r == utf8.RuneError && strings.HasPrefix(text[i:], "\uFFFD"):
			b.WriteRune(r)
		case r == utf8.RuneError:
			fmt.Fprintf(&b, `\x%02X`, text[i])
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\n':
			b.WriteString(`\n`)
		case hidden(r) && r < 0x100:
			fmt.Fprintf(&b, `\x%02X`, r)
		case hidden(r):
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// VisibleLines returns a text of several lines as it may be shown: as [Visible] does,
// but for the line breaks themselves.
func VisibleLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = Visible(lines[i])
	}
	return strings.Join(lines, "\n")
}

// hidden reports whether a character does something else than show itself:
// Unicode's categories Cc and Cf (controls, direction and joining marks), and
// line and paragraph separators.
func hidden(r rune) bool {
	return unicode.Is(unicode.Cc, r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029'
}
