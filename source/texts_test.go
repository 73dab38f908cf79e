package source

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIs(t *testing.T) {
	for text, want := range map[string]string{
		"": "an empty file", " \n\t": "an empty file", "\xEF\xBB\xBF": "an empty file",
		"\x7FELF\x01": "an ELF file",
		":00000001FF": "Intel HEX", ":00000001": "", ":0000000\nlonger": "", ":00000001F\n": "Intel HEX",
		"S9030000FC": "an S-record file", "S9030000": "", "Sa030000FC": "", "S:030000FC": "", "S0030000F": "an S-record file", "SX": "",
		"{\"unit\": 1}\n{\"unit\": 2}": "a log of units, or other JSON lines", "{\n\"a\": 1}": "JSON", "{\"a\"\n": "JSON",
		"{\n \"schema\":\"mexalt.manifest/2\"}": "a manifest", "{\n  \"schema\": \"mexalt.manifest/3\",\n cut": "a manifest",
		"{\n\"schema\":\"other\"}": "JSON", "{\n \"schema\": \"mexalt.units.manifest/1\",": "a manifest of units",
		"a\x00b": "not text", "\x00": "not text",
		"[a]\n": "TOML", "a = 1": "TOML", "# why\n\n[[b]]\n": "TOML", "a=1\nb = 2": "", "text": "",
		"\xEF\xBB\xBFname = 1": "TOML", strings.Repeat(" ", 4095) + "[x]": "TOML", strings.Repeat(" ", 4096) + "[x]": "an empty file",
	} {
		assert.Equal(t, want, WhatIs([]byte(text)), "%.40q", text)
	}
}

func TestJSONProblems(t *testing.T) {
	type Head struct {
		Name string `json:"name"`
	}
	var of struct {
		Head
		List []int
	}
	for text, want := range map[string]string{
		`{"name": }`: "not valid JSON at byte 10", `{"name": 5}`: "name is a number, at byte 10", `[]`: "a value is an array, at byte 1",
		`{"name": "a"`: "not valid JSON: the text ends too early", ``: "not valid JSON: the text ends too early",
		`{"other": 1}`: `unknown key "other"`,
	} {
		d := json.NewDecoder(strings.NewReader(text))
		d.DisallowUnknownFields()
		assert.Equal(t, want, JSONProblem(d.Decode(&of)), text)
	}
}

// TestSystemErrorsInWords says why the system would not, and which file may have been meant.
func TestSystemErrorsInWords(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("gauge.hex"), []byte("abc"), 0o644))
	require.NoError(t, os.WriteFile(at("gauge-2.hex"), []byte("abcd"), 0o644))
	var f Files
	for name, want := range map[string]string{
		"guage.hex":     "cannot read " + at("guage.hex") + ": no such file; did you mean " + at("gauge.hex") + "?",
		"other.bin":     "cannot read " + at("other.bin") + ": no such file",
		"gaug?.hex":     "cannot read " + at("gaug?.hex") + ": no such file",
		"none/gauge.he": "cannot read " + at("none/gauge.he") + ": no folder " + at("none"),
		"":              "cannot read " + at("") + ": it is a folder, a file is needed",
	} {
		_, err := f.Open(at(name), "image")
		require.EqualError(t, err, want)
		var of *SystemError
		require.ErrorAs(t, err, &of)
		assert.Equal(t, strings.HasSuffix(want, "no such file") || of.Near != "" ||
			strings.Contains(want, "no folder"), errors.Is(err, fs.ErrNotExist))
	}
	assert.Equal(t, "cross", (&SystemError{Err: &os.LinkError{Op: "rename", Err: errors.New("cross")}}).Reason())
	assert.Equal(t, "no such file", (&SystemError{File: "x", Err: &os.PathError{Err: fs.ErrNotExist}}).Reason())
	assert.Empty(t, f.Recorded())

	text, err := f.ReadAll(at("gauge.hex"), "image", 3)
	assert.NoError(t, err)
	assert.Equal(t, "abc", string(text))
	_, err = f.ReadAll(at("gauge-2.hex"), "device map", 3)
	assert.EqualError(t, err, at("gauge-2.hex")+": error: larger than the 3 bytes that a device map may have")
	_, err = f.ReadAll(at("none"), "image", 3)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	f.Embed("inside", "device map", []byte("xyz"))
	recorded := f.Recorded()
	require.Len(t, recorded, 3)
	last := recorded[2]
	assert.Equal(t, []any{"inside", "device map", int64(3), true}, []any{last.Name, last.Role, last.Size, last.Embedded})
	assert.Equal(t, "3608bca1e44ea6c4d268eb6db02260269892c0b42b86bbf1e77a6fa16c3c9282", fmt.Sprintf("%x", last.SHA256()))
	assert.Equal(t, uint64(3+4+3), f.TotalRead())

	none, err := f.Open("-", "image")
	require.NoError(t, err)
	assert.Equal(t, int64(-1), none.Size)
	n, err := none.Read(make([]byte, 4))
	assert.Equal(t, 0, n)
	assert.Equal(t, io.EOF, err)
	_, err = f.Open("-", "image")
	assert.ErrorIs(t, err, ErrStdinTwice)
	in, err := os.Open(at("gauge-2.hex"))
	require.NoError(t, err)
	defer in.Close()
	_, err = in.Seek(1, io.SeekStart)
	require.NoError(t, err)
	piped := Files{Stdin: in}
	file, err := piped.Open("-", "image")
	require.NoError(t, err)
	assert.Equal(t, int64(3), file.Size, "what is left")
	info, _ := os.Stat(at("gauge-2.hex"))
	assert.Same(t, file.Recorded(), piped.Find(info), "it is known again")
	other, _ := os.Stat(at("gauge.hex"))
	assert.Nil(t, piped.Find(other))
}

func TestGlob(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"b.hex", "a.hex", "c.bin", "d[1].hex"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	at := func(name string) string { return filepath.Join(dir, name) }
	assert.Equal(t, []string{at("a.hex"), at("b.hex")}, Glob(at("?.hex")))
	assert.Empty(t, Glob(at("*.s19")))
	assert.Empty(t, Glob(at("none/*")))
	assert.True(t, IsPattern(at("*.hex")))
	assert.False(t, IsPattern(at("d[1].hex")), "it is there")
	assert.True(t, IsPattern(at("d[2].hex")))
	assert.False(t, IsPattern(at("plain.hex")))
	assert.True(t, Exists(at("c.bin")))
	assert.False(t, Exists(at("c.bi")))
	assert.True(t, Match("*.hex", "a.hex"))
	assert.False(t, Match("*.hex", "a.bin"))
	assert.Empty(t, LineEndsChanged(at("none"), ""))
}

func TestProblemsInWords(t *testing.T) {
	var ps Problems
	assert.False(t, ps.Doubtful())
	ps.Add(&Problem{File: "f", Line: 3, What: "third", Severity: Note, Doubt: LostLine})
	assert.True(t, ps.Doubtful())
	assert.NoError(t, ps.Err())
	assert.Equal(t, "0 errors", ps.Error())
	ps.Add(&Problem{File: "f", Line: 2, Column: 7, What: "second", Expected: "other"})
	assert.EqualError(t, ps.Err(), "f:2:7: error: second; expected other")
	ps.Add(&Problem{File: "f", Line: 2, Column: 5, What: "first", Advice: Advise("mend it")})
	assert.EqualError(t, ps.Err(), "f:2:5: error: first (mend it) (and 1 more error)")
	for range MostKept {
		ps.Add(&Problem{File: "g", What: "elsewhere"})
	}
	assert.Equal(t, []int{MostKept + 3, MostKept + 2, MostKept}, []int{ps.Count(), ps.Errors(), len(ps.Sorted())})
	assert.EqualError(t, ps.Err(), fmt.Sprintf("f:2:5: error: first (mend it) (and %d more errors)", MostKept+1))
	var none Problems
	for range MostKept {
		none.Add(&Problem{Severity: Warning, What: "w"})
	}
	none.Add(&Problem{What: "an error that is not kept"})
	assert.Equal(t, "1 errors", none.Error())
	assert.Equal(t, `a\xFFb`+"\uFFFD", Visible("a\xFFb\uFFFD"))
	var words []string
	for i := range 33 {
		words = append(words, fmt.Sprintf("word-number-%d-of-many", i))
	}
	assert.Equal(t, "known: "+strings.Join(words[:32], ", "), DidYouMean("zz", words[:32]))
	assert.Equal(t, "known: "+strings.Join(words[:32], ", ")+" and 1 more", DidYouMean("zz", words))
	assert.Equal(t, "did you mean word?", DidYouMean("wrod", []string{"word"}))
	assert.Empty(t, DidYouMean("zz", nil))
	for word, want := range map[string]string{"ab": "", "abc": "abcdef", "abcde": "abcdef", "ABCD": "abcdef"} {
		assert.Equal(t, want, NearestWithin(word, []string{"xyzxyz", "abcdef"}, 0), word)
	}
	assert.Empty(t, NearestWithin("abc", []string{"abcdef", "abcxyz"}, 1), "both could be meant")
	many := append(make([]string, 999), "close", "closer")
	assert.Equal(t, "close", NearestWithin("closx", many, 1))
	assert.Empty(t, NearestWithin("closerx", many[:999], 1))
}
