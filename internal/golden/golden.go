// Package golden holds tests to what was made before: of inputs as they are, and of many
// that differ from them in a few places.
package golden

import (
	"bytes"
	"flag"
	"fmt"
	"hash/crc32"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Update is whether the files are to be written anew, with what is made now.
var Update = flag.Bool("update", false, "write the golden files anew")

// Tests, and the programs that they run, make much and keep little of it: a seventh of their
// time went into looking for what they had left. Benchmarks measure what the program does,
// which collects as usual.
func init() {
	bench := func(flag string) bool { return strings.HasPrefix(flag, "-test.bench") }
	if os.Getenv("GOGC") == "" && !slices.ContainsFunc(os.Args, bench) {
		debug.SetGCPercent(800)
		debug.SetMemoryLimit(1 << 30)
		if os.Getenv("MEXALT_LONG") == "" {
			os.Setenv("GOGC", "400")
			os.Setenv("GOMEMLIMIT", "1GiB")
		}
	}
}

// File holds text against the file's.
func File(t *testing.T, file, text string) {
	t.Helper()
	if *Update {
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, strings.Split(string(want), "\n"), strings.Split(text, "\n"))
}

// Edited makes n other inputs of each, by one to three random edits, the same each time, and
// holds digests of what is made of them against the file's: a line for each input. Of the
// first that differ, the edited input and what is made of it are shown.
func Edited(t *testing.T, file string, n int, inputs map[string]string, outcome func(name, input string) string) {
	t.Helper()
	var names []string
	for name := range inputs {
		names = append(names, name)
	}
	slices.Sort(names)
	known := map[string][]string{}
	if text, err := os.ReadFile(file); err == nil && !*Update {
		for line := range strings.Lines(string(text)) {
			name, digests, _ := strings.Cut(strings.TrimSpace(line), ": ")
			known[name] = strings.Fields(digests)
		}
	}
	var all strings.Builder
	for _, name := range names {
		fmt.Fprintf(&all, "%s:", name)
		differ := 0
		for i, input := range edits(name, inputs[name], n) {
			made := outcome(name, input)
			digest := fmt.Sprintf("%04x", crc32.ChecksumIEEE([]byte(made))&0xFFFF)
			fmt.Fprintf(&all, " %s", digest)
			if want := known[name]; !*Update && (i >= len(want) || want[i] != digest) {
				if differ++; differ <= 2 {
					t.Errorf("%s, edit %d, makes something else than before\n%s\nnow:\n%s", name, i, input, made)
				}
			}
		}
		all.WriteString("\n")
	}
	if *Update {
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(all.String()), 0o644))
	}
}

// edits returns n edits of an input.
func edits(name, input string, n int) []string {
	h := fnv.New64()
	h.Write([]byte(name))
	random := rand.New(rand.NewPCG(h.Sum64(), 0))
	edit := editBytes
	if !strings.ContainsRune(input, 0) {
		edit = editText
	}
	list := make([]string, n)
	for i := range list {
		b := []byte(input)
		for range 1 + random.IntN(3) {
			b = edit(random, b)
		}
		list[i] = string(b)
	}
	return list
}

// editText changes lines, words, digits and characters.
func editText(random *rand.Rand, b []byte) []byte {
	if len(b) == 0 {
		return b
	}
	at := random.IntN(len(b))
	words := bytes.FieldsFunc(b, func(r rune) bool { return strings.ContainsRune(" \t\r\n,;:=()[]{}", r) })
	lines := bytes.SplitAfter(b, []byte("\n"))
	l := random.IntN(len(lines))
	switch random.IntN(8) {
	case 0:
		lines = slices.Delete(lines, l, l+1)
	case 1:
		lines = slices.Insert(lines, random.IntN(len(lines)), lines[l])
	case 2:
		o := random.IntN(len(lines))
		lines[l], lines[o] = lines[o], lines[l]
	case 3, 4: // a word becomes another of the text
		if len(words) > 0 {
			return bytes.Replace(b, words[random.IntN(len(words))], words[random.IntN(len(words))], 1+random.IntN(2))
		}
	case 5, 6: // a digit becomes another
		for i := range b {
			if c := &b[(at+i)%len(b)]; '0' <= *c && *c <= '9' {
				*c = '0' + byte(random.IntN(10))
				return b
			}
		}
	default:
		const odd = "0x1fF9KM\"'[]{}()<>=,:;.-+#/\\ \n\t\x80_*"
		return slices.Replace(b, at, at+random.IntN(2), odd[random.IntN(len(odd))])
	}
	return bytes.Join(lines, nil)
}

// editBytes changes bytes, and lengths.
func editBytes(random *rand.Rand, b []byte) []byte {
	if len(b) == 0 {
		return b
	}
	at := random.IntN(len(b))
	if random.IntN(3) > 0 { // headers come first
		at = random.IntN(min(len(b), 256))
	}
	switch random.IntN(10) {
	case 0:
		return b[:at]
	case 1:
		return slices.Delete(b, at, at+1)
	case 2:
		return slices.Insert(b, at, byte(random.IntN(256)))
	case 3, 4, 5:
		b[at] += byte(random.IntN(3)) - 1
	default:
		b[at] = []byte{0, 1, 2, 0x7F, 0x80, 0xFE, 0xFF, byte(random.IntN(256))}[random.IntN(8)]
	}
	return b
}

// Waiting runs the tests of a package, twice as many at a time as there are cores, where
// nobody says another number: they wait for programs and servers more than they work.
func Waiting(m *testing.M) (status int) {
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f.Value.String() == f.DefValue {
		if err := f.Value.Set(strconv.Itoa(2 * runtime.GOMAXPROCS(0))); err != nil {
			panic(err)
		}
	}
	return m.Run()
}

// Every is by how much a loop over very many cases goes on: by n, and by 1 where
// MEXALT_LONG is set, as it is in CI, but for a short run.
func Every(n int) int {
	if os.Getenv("MEXALT_LONG") != "" && !testing.Short() {
		return 1
	}
	return n
}
