package memory

import (
	"crypto/sha256"
	"encoding/binary"
	"regexp"
	"sync"
)

// Digest returns the SHA-256 of the image's contents: for each run, its first
// address and its length as 64-bit big-endian numbers, then its bytes. Images
// with the same bytes at the same addresses have the same digest, whatever
// format they came in; start addresses and headers do not count.
func (m *Image) Digest() [sha256.Size]byte {
	h := sha256.New()
	for _, r := range m.runs {
		var head [16]byte
		binary.BigEndian.PutUint64(head[:8], r.First)
		binary.BigEndian.PutUint64(head[8:], uint64(len(r.Data)))
		h.Write(head[:])
		h.Write(r.Data)
	}
	return [sha256.Size]byte(h.Sum(nil))
}

// Repeat is a stretch in which a pattern of a few bytes repeats.
type Repeat struct {
	Span
	Pattern []byte // 1, 2, 4 or 8 bytes, as they stand from the first address on
}

// Repeats returns the stretches of least bytes or more in which a pattern of
// 1, 2, 4 or 8 bytes repeats, in the order of their addresses; of several
// patterns the shortest. least must be above 8.
func (m *Image) Repeats(least int) []Repeat {
	var found []Repeat
	for _, r := range m.runs {
		d := r.Data
		for i := 0; i+least <= len(d); {
			length, period := 0, 0
			for _, p := range []int{1, 2, 4, 8} {
				j := i + p
				for j < len(d) && d[j] == d[j-p] {
					j++
				}
				if j-i >= least {
					length, period = j-i, p
					break
				}
			}
			if length == 0 {
				// No pattern holds from here on for long; one that begins a
				// little later is found from there.
				i++
				continue
			}
			first := r.First + uint64(i)
			found = append(found, Repeat{Span{first, first + uint64(length) - 1}, d[i : i+period]})
			i += length
		}
	}
	return found
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
func (m *Image) Versions(most int) []Text {
	const least, longest = 5, 80
	looks := versionLike()
	var found []Text
	for _, r := range m.runs {
		for i := 0; i < len(r.Data) && len(found) < most; {
			j := i
			for j < len(r.Data) && r.Data[j] >= 0x20 && r.Data[j] <= 0x7E {
				j++
			}
			if text := r.Data[i:j]; len(text) >= least && len(text) <= longest && looks.Match(text) {
				found = append(found, Text{r.First + uint64(i), string(text)})
			}
			i = j + 1
		}
	}
	return found
}
