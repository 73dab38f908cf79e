package operation

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// TestOutcomes applies the operations of testdata/outcomes.txt and holds all that comes of
// each against what stands below it there: the image, changes, notes, or the error. A case
// is a line: > OPERATION KEY=VALUE ... | ADDRESS:HEX ... | more images; with a map, it
// begins with ">m", or ">@NAME" with a shipped one. *SIZE is so many bytes by chance.
func TestOutcomes(t *testing.T) {
	const file = "testdata/outcomes.txt"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	var out bytes.Buffer
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSuffix(line, "\n")
		if line == "" || line[0] == '#' {
			fmt.Fprintln(&out, line)
		}
		if strings.HasPrefix(line, ">") {
			fmt.Fprintf(&out, "%s\n%s", line, outcome(t, line))
		}
	}
	if *golden.Update {
		require.NoError(t, os.WriteFile(file, out.Bytes(), 0o644))
	}
	assert.Equal(t, string(text), out.String())
}

func outcome(t *testing.T, line string) string {
	call, images, _ := strings.Cut(line[1:], "|")
	e := &Environment{Cores: 1, Limit: 1 << 16, Where: "x:7", Read: func(name string) ([]byte, error) {
		if name != "x" {
			return nil, &source.SystemError{File: name, Doing: "read", Err: fs.ErrNotExist}
		}
		return []byte("FILE"), nil
	}}
	call, withMap := strings.CutPrefix(call, "m")
	if withMap {
		e.Map = testMap(t)
	}
	words, space := strings.Fields(call), "_"
	if name, ok := strings.CutPrefix(words[0], "@"); ok {
		var err error
		e.Map, err = device.Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		words, space = words[1:], "~" // names have the other
	}
	var settings []string
	for _, w := range words[1:] {
		settings = append(settings, strings.ReplaceAll(w, space, " "))
	}
	var parts []memory.Part
	for i, one := range strings.Split(images, "|") {
		p := map[uint64]string{}
		start, header := memory.Start{}, ""
		for _, run := range strings.Fields(one) {
			at, hex, _ := strings.Cut(run, ":")
			switch at {
			case "start":
				start = memory.Start{Kind: memory.LinearStart, Value: mustHex(t, hex)}
				continue
			case "header":
				header = hex
				continue
			}
			data := hex
			if n, ok := strings.CutPrefix(hex, "*"); ok {
				r := rand.New(rand.NewPCG(mustHex(t, at), 3))
				chance := make([]byte, mustHex(t, n))
				for i := range chance {
					chance[i] = byte(r.Uint32())
				}
				data = string(chance)
			}
			if q, ok := strings.CutPrefix(hex, "'"); ok {
				var err error
				data, err = strconv.Unquote(`"` + strings.ReplaceAll(q, "_", " ") + `"`)
				require.NoError(t, err)
			}
			p[mustHex(t, at)] = data
		}
		part := image(t, p)
		part.Name = string(rune('a' + i))
		part.Image = part.Image.WithStart(start)
		if header != "" {
			part.Image = part.Image.WithHeader([]byte(header))
		}
		parts = append(parts, part)
	}
	o, err := apply(e, words[0], keys(settings...), parts...)
	var b strings.Builder
	var problem *source.Problem
	var key *source.KeyError
	switch {
	case errors.As(err, &problem):
		fmt.Fprintf(&b, "problem %s\n", problem)
		return b.String()
	case errors.As(err, &key):
		fmt.Fprintf(&b, "key %s\n", err)
		return b.String()
	case err != nil:
		fmt.Fprintf(&b, "error %s\n", err)
		return b.String()
	}
	for _, p := range o.Parts {
		fmt.Fprintf(&b, "  %s =", p.Name)
		for _, r := range p.Image.Runs() {
			const long = 64 // of which a digest is shown
			if len(r.Data) > long {
				fmt.Fprintf(&b, " %X+%X:%08x", r.First, len(r.Data), crc32.ChecksumIEEE(r.Data))
				continue
			}
			fmt.Fprintf(&b, " %X:%q", r.First, r.Data)
		}
		if s := p.Image.Start(); s.Kind != memory.NoStart {
			fmt.Fprintf(&b, " start %X", s.Value)
		}
		if p.Image.Header() != nil {
			fmt.Fprintf(&b, " header %s", p.Image.Header())
		}
		fmt.Fprintln(&b)
	}
	for _, r := range o.Checksums {
		fmt.Fprintf(&b, "  %s %s %s %s", r.Name, r.Kind.Name, r.Value, memory.FormatSpans(r.Spans))
		if r.Stored != nil {
			fmt.Fprintf(&b, " stored %s %s", r.Stored.Range(), r.Order)
		}
		if r.Expected != nil {
			fmt.Fprintf(&b, " expected %s %t %v", r.Expected, r.AsExpected(), r.Hints)
		}
		fmt.Fprintln(&b)
	}
	for _, c := range o.Changes {
		fmt.Fprintf(&b, "  %s\n", c)
	}
	for _, n := range o.Notes {
		fmt.Fprintf(&b, "  note: %s\n", n)
	}
	return b.String()
}

func mustHex(t *testing.T, text string) uint64 {
	n, err := strconv.ParseUint(text, 16, 64)
	require.NoError(t, err, text)
	return n
}
