package survey

import (
	"bytes"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

// pattern is what versionLike looks for, as a regular expression.
var pattern = regexp.MustCompile(`(?i)(^|[^0-9a-z.])v?[0-9]{1,4}\.[0-9]{1,4}(\.[0-9]{1,5})?([^0-9.]|$)|\bversion\b|\bver\b`)

// FuzzVersionLike compares with the expression.
func FuzzVersionLike(f *testing.F) {
	for _, text := range []string{"", "1.2", "v1.2.3", "x1.2", "1.2.3.4", "1.2.", ".1.2", "_v1.2", "_ver", "ver", "Version 2", "versions",
		"12345.6", "1.23456", "1.2.12345", "1.2.123456", "vv1.2", "-V1.2", "ver_", "1.2x 3.4", "1..2", "v.1.2"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		plain := []byte(text)
		for i := range plain {
			plain[i] = plain[i]&0x5F + 0x20 // readable, as texts in images are
		}
		for _, text := range []string{text, string(plain)} {
			if strings.IndexFunc(text, func(r rune) bool { return r > unicode.MaxASCII }) < 0 {
				assert.Equal(t, pattern.MatchString(text), versionLike([]byte(text)), "%q", text)
			}
		}
	})
}

// TestVersionLikeIsTheExpression compares on texts of the characters that matter.
func TestVersionLikeIsTheExpression(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 300_000 {
		text := make([]byte, r.IntN(14))
		for i := range text {
			text[i] = "0123..._-vVerRSionx 9."[r.IntN(22)]
		}
		require.Equal(t, pattern.Match(text), versionLike(text), "%q", text)
	}
}

// plainVersions looks at every byte in turn.
func plainVersions(m *memory.Image) []Text {
	var found []Text
	for _, r := range m.Runs() {
		begin := 0
		for i := 0; i <= len(r.Data); i++ {
			if i < len(r.Data) && r.Data[i] >= ' ' && r.Data[i] <= '~' {
				continue
			}
			if text := string(r.Data[begin:i]); len(text) >= 5 && len(text) <= 80 && pattern.MatchString(text) {
				found = append(found, Text{r.First + uint64(begin), text})
			}
			begin = i + 1
		}
	}
	return found
}

// TestVersionsMissNothing plants texts of all lengths among random bytes, at
// the ends of runs too, and compares with the plainest search.
func TestVersionsMissNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	in := &source.Input{Name: "f"}
	texts := []string{
		"1.2.3",
		"v1.2",
		"9.9",
		"boot 2.14",
		"ver",
		"version",
		"no number",
		"10.20.30.40.50.60.70.80.90.11.12.13.14.15.16.17.18.19.20.21.22.23.24.25.26.27.28.29",
	}
	total := 0
	for range 300 {
		var parts []*memory.Image
		for run := range uint64(3) {
			data := make([]byte, 1+r.IntN(150))
			for i := range data {
				data[i] = byte(r.IntN(256))
			}
			text := texts[r.IntN(len(texts))]
			if at := r.IntN(len(data)); r.IntN(3) > 0 {
				data = append(append(append(data[:at:at], 0), text...), data[at:]...)
			} else {
				data = append(append(data, 0xFF), text...) // at the very end
			}
			m, _ := memory.FromBytes(run<<12, data, in)
			parts = append(parts, m)
		}
		m, _ := memory.Merge(parts, memory.First)
		want := plainVersions(m)
		total += len(want)
		require.Equal(t, want, Versions(m, 1000))
		require.Len(t, Versions(m, 1), min(len(want), 1))
	}
	assert.Greater(t, total, 300)
}

// TestRepeatsAreStretches holds every stretch found against its definition: the
// pattern repeats through all of it, and not one byte further.
func TestRepeatsAreStretches(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	in := &source.Input{Name: "f"}
	for range 300 {
		data := make([]byte, 400)
		for i := range data {
			data[i] = byte(r.IntN(256))
		}
		period := []int{1, 2, 4, 8}[r.IntN(4)]
		first, length := 1+r.IntN(100), 64+r.IntN(200)
		for i := first + period; i < first+length; i++ {
			data[i] = data[i-period]
		}
		m, _ := memory.FromBytes(0x1000, data, in)
		found := Repeats(m, 48)
		require.Len(t, found, 1)
		f := found[0]
		at, n := int(f.First-0x1000), len(f.Pattern)
		assert.LessOrEqual(t, at, first)
		assert.GreaterOrEqual(t, int(f.Last-0x1000), first+length-1)
		for i := range int(f.Size()) {
			require.Equal(t, f.Pattern[i%n], data[at+i])
		}
		assert.NotEqual(t, f.Pattern[n-1], data[at-1], "it begins earlier")
		assert.NotEqual(t, f.Pattern[int(f.Size())%n], data[at+int(f.Size())], "it ends later")
	}
	m, _ := memory.FromBytes(0, make([]byte, 47), in)
	assert.Empty(t, Repeats(m, 48))
	m, _ = memory.FromBytes(0, make([]byte, 48), in)
	assert.Len(t, Repeats(m, 48), 1)
	// Behind one that is too short.
	m, _ = memory.FromBytes(0, slices.Concat(make([]byte, 24), []byte("0123456789"), bytes.Repeat([]byte{7}, 48), []byte("end")), in)
	assert.Equal(t, []Repeat{{memory.Span{First: 34, Last: 81}, []byte{7}}}, Repeats(m, 48))
}
