// Package codec knows the image formats: it tells them apart by their
// contents, reads any of them into a [memory.Image], and writes one as any of
// them. Each format is a package, and a row of [Formats].
package codec

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"mexalt/codec/dfu"
	"mexalt/codec/elf"
	"mexalt/codec/format"
	"mexalt/codec/intel"
	"mexalt/codec/memtext"
	"mexalt/codec/motorola"
	"mexalt/codec/raw"
	"mexalt/codec/text"
	"mexalt/codec/uf2"
	"mexalt/key"
	"mexalt/source"
)

// Formats is the table of all formats.
var Formats = []*format.Format{
	intel.Format,
	motorola.Format,
	raw.Format,
	elf.Format,
	uf2.Format,
	dfu.Format,
	memtext.Hex,
	memtext.Binary,
	text.Format,
}

// Choice is a format as a key or a file name chooses it, with what that sets.
// The zero value is no choice.
type Choice struct {
	*format.Format
	Unit     int // bytes that an address counts as one; 0 is 1
	Settings []source.Setting
}

// Words returns the words for the formats that are read, or written.
func Words(written bool) []string {
	var words []string
	for _, f := range Formats {
		if written && f.Writer != nil || !written && f.Reader != nil {
			for _, w := range f.Words {
				words = append(words, w.Word)
			}
		}
	}
	return words
}

// Extensions returns the endings of the names of all files that can be read, with
// their dots.
func Extensions() []string {
	var list []string
	for _, f := range Formats {
		if f.Reader != nil {
			for _, e := range f.Extensions {
				list = append(list, e.Ending)
			}
		}
	}
	return list
}

// ParseChoice reads a format's word, in any case, with :UNIT behind it where
// the format's addresses may count more than one byte.
func ParseChoice(text string, written bool) (Choice, error) {
	word, unit, withUnit := strings.Cut(strings.ToLower(text), ":")
	for _, f := range Formats {
		settings, ok := f.Settings(word)
		switch {
		case !ok:
			continue
		case written && f.Writer == nil:
			return Choice{}, fmt.Errorf("%q can be read but not written; Mexalt writes: %s", word, strings.Join(Words(written), ", "))
		case !written && f.Reader == nil:
			return Choice{}, fmt.Errorf("%q is written only; known: %s", word, strings.Join(Words(written), ", "))
		}
		c := Choice{Format: f, Settings: settings}
		if withUnit {
			n, err := strconv.Atoi(unit)
			switch {
			case !f.Units:
				return c, fmt.Errorf("%q: %s has no addresses that could count words", text, f.Name)
			case err != nil || n != 1 && n != 2 && n != 4:
				return c, fmt.Errorf("%q: %q is not valid; choose 1, 2 or 4 bytes per address", text, unit)
			}
			c.Unit = n
		}
		return c, nil
	}
	words := Words(written)
	return Choice{}, fmt.Errorf("%q is not a format; %s", word, source.DidYouMean(word, words))
}

// ChoiceOfName returns the format that a file name promises.
func ChoiceOfName(name string) Choice {
	extension := strings.ToLower(filepath.Ext(name))
	for _, f := range Formats {
		for _, e := range f.Extensions {
			if e.Ending == extension {
				settings, _ := f.Settings(e.Word)
				return Choice{Format: f, Settings: settings}
			}
		}
	}
	return Choice{}
}

// Writer returns what writes the format, set by the choice and by more
// settings. One that the format does not have is a [source.KeyError].
func (c Choice) Writer(o format.WriteOptions, settings []source.Setting) (format.Writer, error) {
	o.Unit = c.Unit
	w := c.Format.Writer(o)
	keys := w.Keys()
	for _, s := range settings {
		if key.Find(keys, s.Key) == nil {
			return nil, source.Keyf(s.Key, "has no effect on %s", c.Name)
		}
	}
	pinned := slices.DeleteFunc(slices.Clone(c.Settings), func(s source.Setting) bool {
		return slices.ContainsFunc(settings, func(t source.Setting) bool { return t.Key == s.Key })
	})
	if err := key.Set(keys, append(pinned, settings...)); err != nil {
		return nil, err
	}
	return w, nil
}

// WriterKeys returns the keys of all formats' writers, each once.
func WriterKeys() []*key.Key {
	var keys []*key.Key
	for _, f := range Formats {
		if f.Writer == nil {
			continue
		}
		for _, k := range f.Writer(format.WriteOptions{}).Keys() {
			if key.Find(keys, k.Name) == nil {
				keys = append(keys, k)
			}
		}
	}
	return keys
}

// ReaderKeys returns the keys of all formats' readers, each once. What they are set to is
// proved, and added to the settings.
func ReaderKeys(into *[]source.Setting) []*key.Key {
	var keys []*key.Key
	for _, f := range Formats {
		if f.Reader == nil {
			continue
		}
		for _, k := range f.Reader().Keys() {
			if key.Find(keys, k.Name) == nil {
				keys = append(keys, k.Recorded(into))
			}
		}
	}
	return keys
}

// ReadOptions set how files are read. The zero value tells the format by the
// contents and reads strictly.
type ReadOptions struct {
	From    Choice // the format to read as; the zero value tells it by the contents
	Lenient bool   // deviations from the standards pass as warnings
	Cores   int    // how many processor cores may share the work; 0 is 1
	Placed  bool   // whoever names the file says where its first byte belongs
	// Settings are those of formats' own readers; a format takes those that it knows.
	Settings []source.Setting
}

// File is what was read from one file.
type File struct {
	Name   string
	Format *format.Format // nil where it is none that can be read
	Text   string         // the kind of text that it is, where it is one and no image
	format.Content
}

// ErrUnplaced says that raw bytes were given no place.
type ErrUnplaced struct{ File string }

func (e *ErrUnplaced) Error() string { return e.File + " is raw bytes, which have no addresses" }

// sniffed is how much of a file is looked at to tell its format.
const sniffed = 64 << 10

// Read reads one file to its end. size is the file's size, or below 0 where
// that is not known. Problems are added to the list; where that then holds an
// error, the file must not be used. The error returned is one of r's, or
// [source.ErrTooLarge].
func Read(r io.Reader, name string, size int64, o ReadOptions, problems *source.Problems) (*File, error) {
	if size > format.Most {
		return nil, source.ErrTooLarge
	}
	room := int64(sniffed)
	if size > 0 {
		room = min(room, size+1) // one of ten thousand small files needs no more
	}
	head := make([]byte, room)
	n, err := io.ReadFull(r, head)
	head = head[:n]
	if err != nil && err != io.EOF && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, err
	}
	f := &File{Name: name}
	promised := ChoiceOfName(name).Format
	if promised != nil && promised.Reader == nil {
		promised = nil
	}
	if n == 0 && (name == source.StandardInput || promised == nil) {
		problems.Add(&source.Problem{
			File:     name,
			What:     "the input is empty",
			Expected: "an image",
			Advice:   source.Advise("the command that wrote it may have failed"),
		})
		return f, nil
	}
	if f.Format = o.From.Format; f.Format == nil {
		var p *source.Problem
		if f.Format, p = formatOf(name, promised, head); p != nil {
			if promised == nil {
				f.Text = TextKind(name, head)
			}
			problems.Add(p)
			return f, nil
		}
		mayBeText := f.Format == raw.Format && promised == nil && !o.Placed &&
			!slices.Contains(rawEndings, strings.ToLower(filepath.Ext(name)))
		if mayBeText { // looking for the kind of text takes longer than reading most files
			if text := TextKind(name, head); text != "" {
				f.Format, f.Text = nil, text
				problems.Add(textProblem(name, text, head))
				return f, nil
			}
		}
	}
	if file, ok := r.(*source.File); ok {
		file.Kept = f.Format.SharesInput
	}
	in := &source.Input{Name: name, Counting: source.Lines}
	limited := &limitedReader{r: io.MultiReader(bytes.NewReader(head), r), left: format.Most}
	reader := f.Format.Reader()
	keys := reader.Keys()
	own := slices.DeleteFunc(slices.Clone(o.Settings), func(s source.Setting) bool { return key.Find(keys, s.Key) == nil })
	if err := key.Set(keys, own); err != nil {
		return f, err
	}
	content, err := reader.Read(limited, in, format.ReadOptions{Lenient: o.Lenient, Unit: o.From.Unit, Cores: o.Cores, Size: size},
		problems)
	if err != nil {
		return f, err
	}
	f.Content = *content
	if runs := f.Image.Runs(); f.Format == raw.Format && len(runs) == 1 && dfu.Ends(runs[0].Data) {
		problems.Add(
			&source.Problem{File: name, Severity: source.Warning, What: "the file ends in a DFU suffix, which is read as part of the image",
				Advice: source.Advice{AnyOf: []source.Setting{{Key: "from", Value: dfu.Format.Word, Does: "leaves it out"}}}},
		)
	}
	return f, nil
}

// formatOf tells a file's format by its contents and its name, or returns the
// problem that they do not agree or cannot be read.
func formatOf(name string, promised *format.Format, head []byte) (*format.Format, *source.Problem) {
	if container := Container(head); container != "" {
		return nil, &source.Problem{
			File:     name,
			What:     "the file is " + container,
			Expected: "an image",
			Advice: source.Advice{
				Text:  "have it unpacked, or the linker write another format",
				AnyOf: []source.Setting{{Key: "from", Value: "raw", Does: "takes its bytes as they are"}},
			},
		}
	}
	found := Detect(head)
	switch {
	case promised != nil && promised.Unplaced && found == raw.Format,
		promised != nil && promised.MayBe != nil && promised.MayBe(head) && (found == raw.Format || found.MayBe != nil):
		return promised, nil
	case promised == nil && found == raw.Format && format.UTF16(head):
		return nil, utf16Problem(name)
	case promised == nil && found == raw.Format:
		if f := hardlyBegun(head); f != nil {
			return f, nil
		}
		return found, nil
	case promised == nil || promised == found:
		return found, nil
	}
	if p := mismatch(name, promised, found, head); p != nil {
		return nil, p
	}
	return promised, nil
}

// textProblem is the problem of a file that is a text of no format.
func textProblem(name, kind string, head []byte) *source.Problem {
	what := "the file is " + kind
	if kind == "text" {
		what = fmt.Sprintf("the file is text in none of the formats, beginning %q", firstLine(bytes.TrimLeft(head, " \t\r\n")))
	}
	return &source.Problem{
		File: name, What: what, Expected: "an image",
		Advice: source.Advice{AnyOf: []source.Setting{{Key: "from", Value: "raw", Does: "takes its bytes as they are"}}},
	}
}

// NameFits reports whether a file of a name would be read again, if it held a format:
// a name that promises another is refused.
func NameFits(name string, f *format.Format) bool {
	promised := ChoiceOfName(name).Format
	return promised == nil || promised.Reader == nil || promised == f || promised.Unplaced && f.Unplaced
}

// hardlyBegun returns the format of which a file too short to tell has the
// record mark: a file of one or three characters, which was cut off.
func hardlyBegun(head []byte) *format.Format {
	text := bytes.TrimSpace(head)
	for _, f := range Formats {
		if f.Mark != 0 && len(text) > 0 && len(text) <= 3 && text[0] == f.Mark && format.IsText(head) {
			return f
		}
	}
	return nil
}

// limitedReader fails with [source.ErrTooLarge] beyond its limit.
type limitedReader struct {
	r    io.Reader
	left int64
}

func (l *limitedReader) Read(b []byte) (int, error) {
	n, err := l.r.Read(b)
	if l.left -= int64(n); l.left < 0 {
		return 0, source.ErrTooLarge
	}
	return n, err
}

// containers are the first bytes of files that hold an image in some wrapping.
// Taken as raw bytes, their wrapping would be programmed too.
var containers = []struct{ magic, name string }{
	{"\x44\x66\x75\x53\x65\x01", "a DFU file of several images"},
	{"PK\x03\x04", "a zip archive"},
	{"\x1F\x8B\x08", "a gzip archive"},
	{"BZh", "a bzip2 archive"},
	{"\xFD7zXZ\x00", "an xz archive"},
	{"\x28\xB5\x2F\xFD", "a zstd archive"},
	{"!<arch>\n", "an object library"},
	{"%PDF-", "a PDF document"},
}

// Container tells what known wrapping a file begins with, or "".
func Container(head []byte) string {
	for _, c := range containers {
		if bytes.HasPrefix(head, []byte(c.magic)) {
			return c.name
		}
	}
	return ""
}

// Detect tells the format of a file by its first bytes: one whose first bytes
// these are, else the text format of which most lines have the form, else raw.
// A short text of lines that are all but records is taken for damaged records,
// never for raw bytes.
func Detect(head []byte) *format.Format {
	for _, f := range Formats {
		if slices.ContainsFunc(f.Magic, func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }) {
			return f
		}
	}
	for _, f := range Formats {
		if f.Begins != nil && f.Begins(head) {
			return f
		}
	}
	const mostLines = 1000
	are, nearly := make([]int, len(Formats)), make([]int, len(Formats))
	lines, sum, sumNearly := 0, 0, 0
	for line := range bytes.FieldsFuncSeq(head, func(r rune) bool { return r == '\n' || r == '\r' }) {
		if lines == mostLines {
			break
		}
		lines++
		line = bytes.TrimSpace(bytes.TrimPrefix(line, []byte("\xEF\xBB\xBF")))
		for i, f := range Formats {
			if f.Line == nil {
				continue
			}
			is, almost := f.Line(line)
			if is {
				are[i]++
				sum++
				break
			}
			if almost {
				nearly[i]++
				sumNearly++
				break
			}
		}
	}
	most := func(counts []int) *format.Format {
		return Formats[slices.Index(counts, slices.Max(counts))]
	}
	switch {
	case sum == 0 && (sumNearly == 0 || !format.IsText(head) || sumNearly < lines):
		return raw.Format
	case sum == 0:
		return most(nearly)
	case !format.IsText(head) && sum*2 < lines, sum*10 < lines:
		// A line may look like a record by chance.
		return raw.Format
	}
	return most(are)
}

func utf16Problem(name string) *source.Problem {
	return &source.Problem{
		File:     name,
		What:     "the file contains text in UTF-16",
		Expected: "plain text",
		Advice: source.Advice{
			Text:  "an editor saved it so; save it as plain text",
			AnyOf: []source.Setting{{Key: "from", Value: "raw", Does: "takes its bytes as they are"}},
		},
	}
}

// mismatch returns the problem of a file whose name promises another format
// than its contents show. Where the contents show nothing, since the file is
// empty or too short to tell, the name decides and there is none.
func mismatch(name string, promised, found *format.Format, head []byte) *source.Problem {
	const least = 4 // characters that show a format
	text := bytes.TrimSpace(head)
	if len(text) == 0 || promised == raw.Format && len(text) < least {
		return nil
	}
	holds := found.Name + " records"
	if found.Binary || found.MayBe != nil {
		holds = found.Name
	}
	if found == raw.Format {
		holds = "no records but raw bytes"
		switch {
		case format.UTF16(head):
			return utf16Problem(name)
		case hardlyBegun(head) == promised:
			return nil
		case format.IsText(head):
			holds = fmt.Sprintf("text in none of the formats, beginning %q", firstLine(head))
		}
	}
	return &source.Problem{
		File:     name,
		What:     fmt.Sprintf("the name suggests %s, but the contents are %s", promised.Name, holds),
		Expected: "a name that matches the contents",
		Advice: source.Advice{Text: "rename the file, or choose", AnyOf: []source.Setting{
			{Key: "from", Value: promised.Word}, {Key: "from", Value: found.Word},
		}},
	}
}

func firstLine(head []byte) string {
	line, _, _ := bytes.Cut(head, []byte("\n"))
	return string(bytes.TrimRight(line[:min(len(line), 40)], "\r"))
}
