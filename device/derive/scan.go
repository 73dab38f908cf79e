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
		c, begin := text[i], i
		var kind byte // 0 is no token
		switch {
		case c <= ' ':
			i++
		case c == '#' && lineStart(text, i) && directive(text[i+1:]), bytes.HasPrefix(text[i:], []byte("//")):
			i = until(text, i, "\n")
		case bytes.HasPrefix(text[i:], []byte("/*")):
			i = min(until(text, i+len("/*"), "*/")+len("*/"), len(text))
		case c == '"':
			i = endOfQuoted(text, i+1)
			list = append(list, token{'q', string(text[begin+1 : min(i, len(text))]), line})
			i = min(i+1, len(text))
		case isWord(c):
			for i < len(text) && isWord(text[i]) {
				i++
			}
			if kind = 'w'; '0' <= c && c <= '9' {
				kind = 'n'
			}
		default:
			kind = 's'
			i += operatorLength(text[i:])
		}
		if kind != 0 {
			list = append(list, token{kind, string(text[begin:i]), line})
		}
		line += bytes.Count(text[begin:i], []byte("\n"))
	}
	return append(list, token{0, "", line})
}

// until returns where a sign begins, from an index on, or the length.
func until(text []byte, from int, sign string) int {
	if n := bytes.Index(text[from:], []byte(sign)); n >= 0 {
		return from + n
	}
	return len(text)
}

// endOfQuoted returns the index of the quote that ends a text, or of the line's end.
func endOfQuoted(text []byte, i int) int {
	for ; i < len(text) && text[i] != '"' && text[i] != '\n'; i++ {
		if text[i] == '\\' {
			i++
		}
	}
	return min(i, len(text))
}

// operatorLength returns how many characters an operator has.
func operatorLength(text []byte) int {
	if slices.Contains([]string{"<<", ">>", "&&", "||", "==", "!=", "<=", ">="}, string(text[:min(2, len(text))])) {
		return 2
	}
	return 1
}

// directive reports whether what stands behind a # is of a preprocessor.
func directive(text []byte) bool {
	if len(text) == 0 || text[0] <= ' ' {
		return true
	}
	word := text[:len(text)-len(bytes.TrimLeft(text, "abcdefghijklmnopqrstuvwxyz"))]
	return slices.Contains([]string{"include", "define", "undef", "if", "ifdef", "ifndef", "else", "elif", "endif", "pragma", "line",
		"error"}, string(word))
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
