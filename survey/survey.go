package survey

import (
	"encoding/binary"
	"strings"

	"mexalt/memory"
)

// Repeat is a stretch in which a pattern of a few bytes repeats.
type Repeat struct {
	memory.Span
	Pattern []byte // 1, 2, 4 or 8 bytes, as they stand from the first address on
}

// Repeats returns the stretches of least bytes or more in which a pattern of
// 1, 2, 4 or 8 bytes repeats, in the order of their addresses; of several
// patterns the shortest. least must be above 24.
func Repeats(m *memory.Image, least int) []Repeat {
	var found []Repeat
	for _, r := range m.Runs() {
		d := r.Data
		// A stretch as long as that holds two blocks of eight bytes beside each
		// other, counted from the run's beginning, which are equal.
		for i := 0; i+16 <= len(d); {
			if binary.LittleEndian.Uint64(d[i:]) != binary.LittleEndian.Uint64(d[i+8:]) {
				i += 8
				continue
			}
			first, length, period := stretch(d, i)
			if length < least {
				i = max(i+8, (first+length)&^7)
				continue
			}
			at := r.First + uint64(first)
			found = append(found, Repeat{memory.Span{First: at, Last: at + uint64(length) - 1}, d[first : first+period]})
			i = (first + length) &^ 7
			if i < first+length {
				i += 8
			}
		}
	}
	return found
}

// stretch returns the stretch around index i in which a pattern repeats, where
// the eight bytes there are the same as the eight behind them.
func stretch(d []byte, i int) (first, length, period int) {
	for _, period = range []int{1, 2, 4, 8} {
		end := i + period
		for end < len(d) && d[end] == d[end-period] {
			end++
		}
		if end < i+16 {
			continue
		}
		for first = i; first > 0 && d[first-1] == d[first-1+period]; first-- {
		}
		return first, end - first, period
	}
	return i, 0, 8
}

// Text is a readable text in an image.
type Text struct {
	Address uint64
	Text    string
}

// versionLike reports whether a text has what version strings have in common: a
// number of two or three parts with points between them, a v before it or not, or
// the word itself.
func versionLike(text []byte) bool {
	for i, c := range text {
		lower := c | 0x20
		switch {
		case i > 0 && isWord(text[i-1]) && text[i-1] != '_':
			continue
		case isDigit(c), lower == 'v' && i+1 < len(text) && isDigit(text[i+1]):
			if (i == 0 || text[i-1] != '.') && isVersion(text[i:]) {
				return true
			}
		case lower == 'v' && (i == 0 || text[i-1] != '_'):
			for _, word := range []string{"version", "ver"} {
				if n := len(word); len(text)-i >= n && strings.EqualFold(string(text[i:i+n]), word) &&
					(i+n == len(text) || !isWord(text[i+n])) {
					return true
				}
			}
		}
	}
	return false
}

// isVersion reports whether a text begins with a version's number, and nothing
// that belongs to a longer one behind it.
func isVersion(text []byte) bool {
	if text[0]|0x20 == 'v' {
		text = text[1:]
	}
	for part := 0; ; part++ {
		digits := 0
		for digits < len(text) && isDigit(text[digits]) {
			digits++
		}
		most := 4
		if part == 2 {
			most = 5
		}
		if digits == 0 || digits > most || part > 2 {
			return false
		}
		if text = text[digits:]; len(text) == 0 || text[0] != '.' {
			return part > 0
		}
		text = text[1:]
	}
}

func isDigit(c byte) bool { return '0' <= c && c <= '9' }

// isWord reports whether a character is one of a word.
func isWord(c byte) bool { return isDigit(c) || 'a' <= c|0x20 && c|0x20 <= 'z' || c == '_' }

// Versions returns up to most readable texts that look like versions.
func Versions(m *memory.Image, most int) []Text {
	const least, longest = 5, 80
	var found []Text
	for _, r := range m.Runs() {
		d := r.Data
		for i := 0; i+least <= len(d) && len(found) < most; {
			// A text at i reaches least bytes on: looked at from there, most of
			// what is none is stepped over.
			j := i + least - 1
			for j >= i && readable(d[j]) {
				j--
			}
			if j >= i {
				i = j + 1
				continue
			}
			j = i + least
			for j < len(d) && readable(d[j]) {
				j++
			}
			if text := d[i:j]; len(text) <= longest && versionLike(text) {
				found = append(found, Text{r.First + uint64(i), string(text)})
			}
			i = j + 1
		}
	}
	return found
}

func readable(c byte) bool { return c >= 0x20 && c <= 0x7E }
