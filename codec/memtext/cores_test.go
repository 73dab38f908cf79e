package memtext

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// TestOnSeveralCores reads long texts on one core and on several: bytes, origins and problems
// are the same, whatever stands between the words.
func TestOnSeveralCores(t *testing.T) {
	for seed := range uint64(24 / golden.Every(4)) {
		r := rand.New(rand.NewPCG(seed, 5))
		width, perByte := []int{1, 2, 4}[seed%3], []int{2, 2, 2, 8}[seed%4]
		word := func() string {
			var b strings.Builder
			for range width * perByte {
				if perByte == 8 {
					b.WriteByte('0' + byte(r.IntN(2)))
				} else {
					b.WriteByte("0123456789abcdefABCDEF"[r.IntN(22)])
				}
			}
			return b.String()
		}
		var text strings.Builder
		ends := []string{"\n", "\r\n"}[r.IntN(2)]
		at, odd := uint64(0), 0
		for text.Len() < 9*windowSize {
			if seed%2 == 1 && r.IntN(6000) == 0 {
				odd++
				switch r.IntN(5) {
				case 0:
					at += uint64(r.IntN(1 << 20))
					fmt.Fprintf(&text, "@%X ", at+uint64(text.Len()))
				case 1:
					text.WriteString("// a comment" + ends)
				case 2:
					text.WriteString("/* of several" + ends + "lines */ ")
				case 3:
					text.WriteString("12345 ")
				case 4:
					text.WriteString("xx" + ends + ends)
				}
			}
			for range 1 + r.IntN(16) {
				text.WriteString(word() + " ")
			}
			text.WriteString(ends)
		}
		if seed%5 == 0 {
			text.WriteString("/* open")
		}
		of := func(cores int) (*format.Content, []*source.Problem, []string) {
			problems, in := &source.Problems{}, &source.Input{Name: "m"}
			content, err := (&Reader{PerByte: perByte}).Read(strings.NewReader(text.String()), in,
				format.ReadOptions{Cores: cores, Lenient: true, Size: int64(text.Len())}, problems)
			require.NoError(t, err)
			var origins []string
			for _, run := range content.Image.Runs() {
				for k := 0; k < len(run.Data); k += 1 + r.IntN(200) {
					o, _ := content.Image.Origin(run.First + uint64(k))
					origins = append(origins, o.String())
				}
			}
			return content, problems.Sorted(), origins
		}
		r = rand.New(rand.NewPCG(seed, 6))
		one, problems, origins := of(1)
		r = rand.New(rand.NewPCG(seed, 6))
		several, problems2, origins2 := of(3)
		require.Equal(t, problems, problems2, "seed %d", seed)
		require.True(t, one.Image.Equal(several.Image), "seed %d", seed)
		require.Equal(t, origins, origins2, "seed %d", seed)
		if seed%2 == 0 && seed%5 != 0 {
			assert.Greater(t, one.Image.Bytes(), uint64(windowSize))
		}
	}
	// Words that run past the last address are found at the same place.
	long := "@FFFFFFFFFFE00000" + strings.Repeat(" 00 11 22 33\n", 4*windowSize/12)
	for _, cores := range []int{1, 4} {
		problems := &source.Problems{}
		_, err := (&Reader{PerByte: 2, Order: memory.Big}).Read(strings.NewReader(long+strings.Repeat("44\n", 2*windowSize)),
			&source.Input{Name: "m"}, format.ReadOptions{Cores: cores}, problems)
		require.NoError(t, err)
		require.Equal(t, 0, problems.Errors())
		_, err = (&Reader{PerByte: 2, Order: memory.Big}).Read(strings.NewReader(long+strings.Repeat("44\n", 8*windowSize)),
			&source.Input{Name: "m"}, format.ReadOptions{Cores: cores}, problems)
		require.NoError(t, err)
		require.Positive(t, problems.Errors())
		assert.Contains(t, problems.Sorted()[0].Error(), "the word runs past the last 64-bit address")
		assert.Equal(t, 4*windowSize/12+1<<21-4*windowSize/12*4+1, problems.Sorted()[0].Line)
	}
}
