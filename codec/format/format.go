// Package format says what a file format is to the rest of Mexalt. Each format
// has a package of its own, with a [Format] that package codec lists in its
// table.
package format

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"unicode/utf8"

	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

// Most is the largest file that is read or written, 4 GiB.
const Most = 1 << 32

// Word is a word for a format, and the settings of its writer that it stands for.
type Word struct {
	Word     string
	Settings []source.Setting
}

// Extension is the ending of file names, with its dot, and the word that it stands
// for.
type Extension struct{ Ending, Word string }

// Format is one file format: one row of the table.
type Format struct {
	Name string // as messages name it
	// Words are what keys call it; the first is the one that is printed. Words
	// may stand for settings of the writer, such as s37.
	Words []Word
	Word  string // the first of the words
	// Extensions are the endings of file names that promise the format, and the
	// word that each stands for.
	Extensions []Extension
	// Units is whether an address may count 2 or 4 bytes.
	Units bool

	// Binary is whether its files are no text.
	Binary bool
	// Unplaced is whether its files have no addresses. They begin with any bytes,
	// and only their names promise the format.
	Unplaced bool
	// Magic are the first bytes of its files, of formats that have such.
	Magic []string
	// Begins reports whether a file's beginning shows the format, of formats that
	// neither Magic nor single lines show.
	Begins func(head []byte) bool
	// MayBe reports whether a file of which the contents show nothing may be what
	// its name promises, of formats that contents alone do not always show.
	MayBe func(head []byte) bool
	// Line judges one line of a file, of formats that are text: whether it has
	// the form of the format, or only just not.
	Line func(line []byte) (is, almost bool)
	// Mark is the character with which a line begins, of formats that have one.
	Mark byte

	// Reader returns what reads the format, with its own keys at what they are unless
	// set; nil is a format that is not read.
	Reader func() Reader
	// SharesInput is whether the reader leaves what it reads where it was read to, and
	// does not change it.
	SharesInput bool
	// Writer returns what writes the format, with its own keys at what they are
	// unless set; nil is a format that is not written.
	Writer func(o WriteOptions) Writer
}

// Settings returns the settings of the writer that a word stands for; ok is false
// where it is none of the format's words.
func (f *Format) Settings(word string) (settings []source.Setting, ok bool) {
	for _, w := range f.Words {
		if w.Word == word {
			return w.Settings, true
		}
	}
	return nil, false
}

// ReadOptions set how a file is read. The zero value reads strictly.
type ReadOptions struct {
	Lenient bool  // deviations from the standard pass as warnings
	Unit    int   // bytes that an address counts as one; 0 is 1
	Cores   int   // how many processor cores may share the work; 0 is 1
	Size    int64 // of the file, in bytes; 0 or less where that is not known
}

// Reader is how a file of one format is read.
type Reader interface {
	// Keys returns the keys of the format's own.
	Keys() []*key.Key
	// Read reads a file to its end. What is wrong with the file is added to problems;
	// where that holds an error, the file yields no image. The error returned is one of
	// r's, or [source.ErrTooLarge].
	Read(r io.Reader, in *source.Input, o ReadOptions, problems *source.Problems) (*Content, error)
}

// ReadFunc is a [Reader] of a format without keys of its own.
type ReadFunc func(r io.Reader, in *source.Input, o ReadOptions, problems *source.Problems) (*Content, error)

// Keys returns nothing.
func (f ReadFunc) Keys() []*key.Key { return nil }

// Read calls the function.
func (f ReadFunc) Read(r io.Reader, in *source.Input, o ReadOptions, problems *source.Problems) (*Content, error) {
	return f(r, in, o, problems)
}

// Reader returns the function, as a [Format] has it.
func (f ReadFunc) Reader() Reader { return f }

// Content is what a reader made of a file.
type Content struct {
	Image   *memory.Image
	Records *Records // of a record file; nil for all others
	Program *Program // of a linked program; nil for all others
	Facts   []Fact   // what the format says beside
	// Unproven is what the file has nothing to prove itself by, checksums say; "" where what
	// was read shows that the file is whole.
	Unproven string
	// WrittenAs are settings of the format's own writer with which the file would be
	// written as it was.
	WrittenAs []source.Setting
}

// Fact is something that a file says of itself.
type Fact struct {
	Name string // one word
	Text string
}

// Records counts what a record file holds.
type Records struct {
	Lines     int
	Types     [10]int  // records of each type
	TypeNames []string // what the types are called
	Widths    [256]int // data records of each number of data bytes
	InOrder   bool     // data records stand in the order of their addresses
	Differ    bool     // bytes are given twice, with other values
}

// WriteOptions are what is not a format's own.
type WriteOptions struct {
	Unit int // bytes that an address counts as one; 0 is 1
	// Span is what to write, of formats without addresses; nil is the image's
	// own span.
	Span *memory.Span
	// Place names a span by the addresses of the image that the user knows, where those of
	// what is written are others, as in a lane; nil prints it as it is.
	Place func(memory.Span) string
	// Huge lets holes be written that are more than a file should have.
	Huge bool
	// WrittenAs is how the first input was written, where that was in the same format.
	WrittenAs []source.Setting
	// Name is what the image is called: its file, to be or that was read.
	Name string
	// Open reads a file that a key names.
	Open func(name string) ([]byte, error)
}

// AsRead sets a writer, which is new, to write as the first input was written, but for some
// keys.
func (o *WriteOptions) AsRead(w Writer, but ...string) Writer {
	keys := w.Keys() // others are asked for later, and find what these have set
	for _, s := range o.WrittenAs {
		if k := key.Find(keys, s.Key); k != nil && !slices.Contains(but, s.Key) {
			k.Set(s.Value) // what a reader says, its writer takes
		}
	}
	return w
}

// Writer is how an image is written in one format.
type Writer interface {
	// Keys returns the keys of the format's own.
	Keys() []*key.Key
	// Check tells what keeps the image from being written so, and what of it the
	// format cannot hold, as notes.
	Check(m *memory.Image) (notes []string, err error)
	// Write writes the image. What Check finds is an error here too.
	Write(w io.Writer, m *memory.Image) error
}

// ReadAll reads all of r, size bytes where that is known, else below 0.
func ReadAll(r io.Reader, size int64) ([]byte, error) {
	if size > Most {
		return nil, source.ErrTooLarge
	}
	var more memory.Buffer // what comes beyond the size expected
	data := make([]byte, max(size, 0))
	n, err := io.ReadFull(r, data)
	switch {
	case err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF):
		return data[:n], nil
	case err != nil:
		return nil, err
	}
	for {
		n, err := r.Read(more.Room())
		more.Took(n)
		switch {
		case int64(len(data))+int64(more.Len()) > Most:
			return nil, source.ErrTooLarge
		case err == io.EOF && len(data) == 0:
			return more.Bytes(), nil
		case err == io.EOF && more.Len() == 0:
			return data, nil
		case err == io.EOF:
			return append(data, more.Bytes()...), nil
		case err != nil:
			return nil, err
		}
	}
}

// IsText reports whether the beginning of a file looks like text, in ASCII or
// UTF-8. Damaged text may hold a few other bytes.
func IsText(head []byte) bool {
	odd := 0
	for i := 0; i < len(head); {
		c, size := utf8.DecodeRune(head[i:])
		if c < 0x20 && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1A || c == 0x7F || c == utf8.RuneError && size == 1 {
			odd++
		}
		i += size
	}
	return odd*20 <= len(head)
}

// UTF16 reports whether the beginning of a file is text in UTF-16, by its
// byte-order mark and since every other byte is 0.
func UTF16(head []byte) bool {
	if len(head) < 4 || !bytes.HasPrefix(head, []byte("\xFF\xFE")) && !bytes.HasPrefix(head, []byte("\xFE\xFF")) {
		return false
	}
	zeros := 0
	high := 1 // of each pair, the byte that is 0
	if head[0] == 0xFE {
		high = 0
	}
	for i := 2 + high; i < len(head); i += 2 {
		if head[i] == 0 {
			zeros++
		}
	}
	return zeros*20 >= (len(head)/2-1)*19
}
