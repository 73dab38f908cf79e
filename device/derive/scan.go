package derive

import (
	"bytes"
	"slices"
	"strconv"
	"strings"
)

// token is a word, a number, a text in quotes or a sign of a description that is
// written like C.
type token struct {
	kind byte // w a word, n a number, q a text in quotes, s a sign, 0 the end
	text string
	line int
}

// scan takes a text apart. Comments are left out, and lines that a preprocessor
// left. In words are the signs that more names than C's may have.
func scan(text []byte, inWords string) (list []token) {
	line := 1
	isWord := func(c byte) bool {
		return c == '_' || '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'z' || strings.IndexByte(inWords, c) >= 0
	}
	for i := 0; i < len(text); {
		c := text[i]
		begin := i
		switch {
		case c == '\n':
			line++
			i++
		case c <= ' ':
			i++
		case c == '#' && lineStart(text, i) && directive(text[i+1:]):
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case bytes.HasPrefix(text[i:], []byte("//")):
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case bytes.HasPrefix(text[i:], []byte("/*")):
			stop := len(text)
			if end := bytes.Index(text[i+2:], []byte("*/")); end >= 0 {
				stop = i + 2 + end + 2
			}
			line += bytes.Count(text[i:stop], []byte("\n"))
			i = stop
		case c == '"':
			for i++; i < len(text) && text[i] != '"' && text[i] != '\n'; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			list = append(list, token{'q', string(text[begin+1 : min(i, len(text))]), line})
			i++
		case isWord(c):
			for i < len(text) && isWord(text[i]) {
				i++
			}
			kind := byte('w')
			if '0' <= c && c <= '9' {
				kind = 'n'
			}
			list = append(list, token{kind, string(text[begin:i]), line})
		default:
			n := 1
			if two := string(
				text[i:min(i+2, len(text))],
			); two == "<<" || two == ">>" || two == "&&" || two == "||" || two == "==" || two == "!=" || two == "<=" ||
				two == ">=" {
				n = 2
			}
			list = append(list, token{'s', string(text[i : i+n]), line})
			i += n
		}
	}
	return append(list, token{0, "", line})
}

// directive reports whether what stands behind a # is of a preprocessor.
func directive(text []byte) bool {
	if len(text) == 0 || text[0] <= ' ' {
		return true
	}
	word := text[:len(text)-len(bytes.TrimLeft(text, "abcdefghijklmnopqrstuvwxyz"))]
	return slices.Contains(
		[]string{"include", "define", "undef", "if", "ifdef", "ifndef", "else", "elif", "endif", "pragma", "line", "error"},
		string(word),
	)
}

func lineStart(text []byte, i int) bool {
	for i--; i >= 0 && text[i] != '\n'; i-- {
		if text[i] > ' ' {
			return false
		}
	}
	return true
}

// number reads a number as C and linkers write it: 0x1F, 017, 31, 16K, 2M, 0x10UL.
func number(text string) (uint64, bool) {
	lower := strings.ToLower(text)
	shift := 0
	switch {
	case strings.HasPrefix(lower, "0x"):
		lower = strings.TrimRight(lower, "ul")
	default:
		lower = strings.TrimRight(lower, "ul")
	}
	if strings.HasSuffix(lower, "k") || strings.HasSuffix(lower, "m") {
		shift = 10
		if lower[len(lower)-1] == 'm' {
			shift = 20
		}
		lower = lower[:len(lower)-1]
	}
	n, err := strconv.ParseUint(lower, 0, 64)
	if err != nil || n<<shift>>shift != n {
		return 0, false
	}
	return n << shift, true
}
