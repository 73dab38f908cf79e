package survey

import (
	"encoding/binary"
	"regexp"
	"sync"

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

// versionLike matches what version strings have in common: a number with
// points in it, or the word itself.
var versionLike = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)(^|[^0-9a-z.])v?[0-9]{1,4}\.[0-9]{1,4}(\.[0-9]{1,5})?([^0-9.]|$)|\bversion\b|\bver\b`)
})

// Versions returns up to most readable texts that look like versions.
func Versions(m *memory.Image, most int) []Text {
	const least, longest = 5, 80
	looks := versionLike()
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
			if text := d[i:j]; len(text) <= longest && looks.Match(text) {
				found = append(found, Text{r.First + uint64(i), string(text)})
			}
			i = j + 1
		}
	}
	return found
}

func readable(c byte) bool { return c >= 0x20 && c <= 0x7E }
