package render

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mexalt/source"
)

func TestProgressLine(t *testing.T) {
	const mebi = 1 << 20
	for name, c := range map[string]struct {
		what, unit  string
		total, done int64
		since       time.Duration
		want        string
	}{
		"bytes": {"reading a.hex", "", 100 * mebi, 25 * mebi, time.Second,
			"reading a.hex █████░░░░░░░░░░░░░░░  25 %, 25.0 MiB a second, 3 s left"},
		"long": {"reading a.hex", "", 1000 * mebi, 5 * mebi, time.Second,
			"reading a.hex █░░░░░░░░░░░░░░░░░░░   0 %, 5.0 MiB a second, 4 min left"},
		"soon": {"reading a.hex", "", 100 * mebi, 99 * mebi, time.Second,
			"reading a.hex ███████████████████░  99 %, 99.0 MiB a second, nearly done"},
		"unknown":   {"reading standard input", "", -1, 3 * mebi, 2 * time.Second, "reading standard input 3.0 MiB, 1.5 MiB a second"},
		"ways":      {"trying", "ways", 4000, 1000, time.Second, "trying █████░░░░░░░░░░░░░░░  25 %, 1,000 ways a second, 3 s left"},
		"all of it": {"reading a.hex", "", mebi, mebi, 2 * time.Second, "reading a.hex: done; working on it for 2 s"},
		"long name": {"reading a-very-long-name-of-a-file-that-holds-a-release.hex", "", 100 * mebi, 25 * mebi, time.Second,
			"reading a-very-long… █████░░░░░░░░░░░░░░░  25 %, 25.0 MiB a second, 3 s left"},
	} {
		var p source.Progress
		p.Begin(c.what, c.unit, c.total)
		p.Add(c.done)
		got := progressLine(p.Phase(), c.since, 76)
		assert.Equal(t, c.want, got, name)
		assert.LessOrEqual(t, columnsOf(got), 80, name)
	}
	var nobody *source.Progress
	nobody.Begin("x", "", 1)
	nobody.Add(1)
}

func TestTablesFit(t *testing.T) {
	for _, wide := range []int{60, 80, 100} {
		out := &plainTerminal{}
		p := &Printer{W: out, Terminal: true, Width: wide}
		p.Table([]string{"name", "what it is", "nothing", "bytes"}, [][]string{
			{"application", "a text that is far too long for the narrow terminal that it is printed on, but not cut off", "", "12"},
			{"b", "short 表表表", "", "1,234"},
			{"c", "https://example.invalid/a/very/long/word/that/can/not/be/broken/between/words/at/all", "", "0"},
		}, 4)
		for _, line := range out.lines() {
			assert.LessOrEqual(t, columnsOf(line), wide, line)
		}
		assert.Contains(t, out.String(), "application")
		assert.NotContains(t, out.String(), "nothing", "a column that is empty")
		assert.Regexp(t, `\n *b +short 表表表 +1,234\n`, out.String())
	}
}

// plainTerminal keeps what is printed on it.
type plainTerminal struct{ strings.Builder }

func (p *plainTerminal) lines() []string {
	return strings.Split(strings.TrimSuffix(p.String(), "\n"), "\n")
}
