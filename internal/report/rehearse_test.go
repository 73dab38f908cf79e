package report

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mexalt/rehearsal"
)

// TestColumns shares columns between the windows of a sweep, more of them than windows and fewer.
func TestColumns(t *testing.T) {
	of := map[byte]rehearsal.Outcome{}
	for o, letter := range letters {
		of[letter[0]] = o
	}
	for _, c := range []struct {
		windows string // a letter for each ms
		wide    int
		want    string
	}{
		{"oooooX", 12, "ooooooooooXX"},
		{"oXn", 3, "oXn"},
		{"oXn", 4, "ooXn"},
		{"ooobbbbbbbbbb", 6, "obbbbb"},
		{"oXn", 2, "XX"},
		{"nnnnnnnnn?nnnnnnnnnb", 2, "??"},
		{"nbnbnbnbnbnXnbnbnbnb", 4, "bbXb"},
		{"obnX", 1, "X"},
		{"ooo", 1, "o"},
	} {
		s := &rehearsal.Sweep{Total: time.Duration(len(c.windows)) * time.Millisecond}
		for at := 0; at < len(c.windows); {
			to := at
			for to < len(c.windows) && c.windows[to] == c.windows[at] {
				to++
			}
			s.Windows = append(s.Windows, rehearsal.Window{Verdict: rehearsal.Verdict{Outcome: of[c.windows[at]]},
				From: time.Duration(at) * time.Millisecond, To: time.Duration(to) * time.Millisecond})
			at = to
		}
		var got strings.Builder
		for _, o := range columns(s, c.wide) {
			got.WriteString(letters[o])
		}
		assert.Equal(t, c.want, got.String(), "%s in %d", c.windows, c.wide)
	}
}
