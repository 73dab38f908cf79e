package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"mexalt/codec"
	"mexalt/codec/format"
	"mexalt/codec/raw"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/output"
	"mexalt/source"
)

// writing holds the flags that say where an image goes and how it is written.
type writing struct {
	to       string
	format   codec.Choice
	dry      bool
	settings []source.Setting // of the format's own keys
}

// define adds the flags; without names those that mean something else to the
// command.
func (w *writing) define(f *flags, without ...string) {
	var keys []*key.Key
	for _, k := range w.keys() {
		if !slices.Contains(without, k.Name) {
			keys = append(keys, k)
		}
	}
	f.share("output", keys...)
}

func (w *writing) keys() []*key.Key {
	keys := []*key.Key{
		key.Text(&w.to, "o", "FILE", "write to FILE, not to standard output"),
		key.Switch(&w.dry, "dry-run", "say what would be done, and write nothing"),
		key.New(
			"to",
			"FORMAT",
			"write as FORMAT: "+strings.Join(codec.Words(true), ", ")+"; FORMAT:2 where an address counts 2 bytes, or 4",
			func(v string) (err error) {
				w.format, err = codec.ParseChoice(v, true)
				return err
			},
		),
	}
	for _, k := range codec.WriterKeys() {
		if k.Name == "data-records" {
			continue // the words s19, s28 and s37 say it
		}
		kept := key.New(k.Name, k.Value, k.Doc, func(text string) error {
			w.settings = append(w.settings, source.Setting{Key: k.Name, Value: text})
			return k.Set(text) // proves the value
		})
		kept.Words, kept.Many = k.Words, k.Many
		keys = append(keys, kept)
	}
	return keys
}

// choiceFor returns the format of an output: as -to, the name or the first
// input's format say, in this order.
func (w *writing) choiceFor(name string, first *codec.File) codec.Choice {
	if w.format.Format != nil {
		return w.format
	}
	if c := codec.ChoiceOfName(name); c.Format != nil && c.Format.Writer != nil {
		return c
	}
	c := codec.Choice{Format: codec.Formats[0]}
	if first != nil && first.Format != nil && !first.Format.Unplaced && first.Format.Writer != nil {
		c.Format = first.Format
	}
	return c
}

// fills reports whether holes are written as bytes of a file without addresses.
func (w *writing) fills() bool {
	return slices.ContainsFunc(w.settings, func(s source.Setting) bool { return s.Key == format.HolesKey }) &&
		w.choiceFor(w.to, nil).Format.Unplaced
}

// check tells of keys that have no effect on the format, where that is known
// before anything is read.
func (w *writing) check() error {
	promised := codec.ChoiceOfName(w.to).Format
	switch {
	case w.format.Format != nil && !codec.NameFits(w.to, w.format.Format):
		return source.Keyf("o",
			"%s: the name promises %s, and -to says %s; it would not be read again: name another ending, or leave out -to", w.to,
			promised.Name, w.format.Format.Name)
	case w.format.Format == nil && promised == nil:
		return nil
	case w.format.Format == nil && promised.Writer == nil:
		return source.Keyf("o", "%s: %s is read only; name another ending, such as .hex, or say -to", w.to, promised.Name)
	}
	c := w.choiceFor(w.to, nil)
	_, err := c.Writer(format.WriteOptions{}, w.meant(c))
	return err
}

// meant returns the settings for a format: all, but those of others that may
// say how an input is read.
func (w *writing) meant(c codec.Choice) []source.Setting {
	readers, own := codec.ReaderKeys(&[]source.Setting{}), c.Format.Writer(format.WriteOptions{}).Keys()
	return slices.DeleteFunc(slices.Clone(w.settings), func(s source.Setting) bool {
		return key.Find(readers, s.Key) != nil && key.Find(own, s.Key) == nil
	})
}

// prepared is an image that is ready to be written.
type prepared struct {
	name   string
	image  *memory.Image
	format *format.Format
	writer format.Writer
}

// mostTemplate is how large a template may be: 4 MiB.
const mostTemplate = 4 << 20

// prepare proves that parts can be written. A part's block, where it has one,
// is what raw bytes of it begin with.
func (s *session) prepare(w *writing, r *reading, parts []memory.Part, first *codec.File) ([]prepared, error) {
	var list []prepared
	for _, p := range parts {
		c := w.choiceFor(p.Name, first)
		o := format.WriteOptions{Huge: r.huge, Place: p.Place, Name: cmp.Or(p.Name, first.Name),
			Open: func(name string) ([]byte, error) { return s.files.ReadAll(name, "template", mostTemplate) }}
		if c.Format == first.Format {
			o.WrittenAs = first.WrittenAs
		}
		if all, ok := p.Image.Span(); p.Block != (memory.Span{}) {
			switch {
			case s.command.name == "convert":
				o.Span = &p.Block
			case ok:
				o.Span = &memory.Span{First: p.Block.First, Last: all.Last}
			}
		}
		writer, err := c.Writer(o, w.meant(c))
		if err != nil {
			return nil, err
		}
		notes, err := writer.Check(p.Image)
		if err != nil {
			if len(parts) > 1 {
				s.errorLineOf(p.Name, err)
				return nil, &failure{statusUsage, errShown}
			}
			if key := (*source.KeyError)(nil); errors.As(err, &key) || errors.As(err, new(*source.SystemError)) {
				return nil, err
			}
			return nil, &source.KeyError{Err: err}
		}
		for _, n := range notes {
			s.note(n)
		}
		list = append(list, prepared{p.Name, p.Image, c.Format, writer})
	}
	return list, nil
}

// errorLineOf prints what keeps one of several outputs from being written.
func (s *session) errorLineOf(name string, err error) {
	s.errorLine(name + ": " + s.wording.keyError(&source.KeyError{Err: err}))
}

// write writes images to files named as the parts are, all or none; "" and -
// are standard output.
func (s *session) write(w *writing, r *reading, parts []memory.Part, first *codec.File) ([]report.Output, error) {
	list, err := s.prepare(w, r, parts, first)
	if err != nil {
		return nil, err
	}
	outputs := make([]report.Output, len(list))
	for i, p := range list {
		outputs[i] = report.Output{Name: p.name, Format: p.format, Image: p.image}
	}
	if name := list[0].name; len(list) == 1 && (name == "" || name == "-") {
		return outputs, s.writeOut(w, list[0])
	}
	var files []output.File
	for _, p := range list {
		files = append(files, output.File{Name: p.name, Write: func(to io.Writer) error { return p.writer.Write(to, p.image) }})
	}
	if w.dry {
		if err := output.Check(s.files, files); err != nil {
			return nil, err
		}
		for _, p := range list {
			size, err := p.size()
			if err != nil {
				return nil, err
			}
			s.reportDone("dry run: would write %s: %s", p.name, p.text(size))
		}
		return outputs, nil
	}
	written, err := output.Write(s.files, files)
	if err != nil {
		return nil, err
	}
	s.messages.Together(func() {
		for i, p := range list {
			replaced := ""
			if outputs[i].Replaced = written[i].Replaced; written[i].Replaced {
				replaced = ", replaced"
			}
			s.reportDone("wrote %s: %s%s", p.name, p.text(written[i].Size), replaced)
		}
	})
	return outputs, nil
}

// writeOut writes an image to standard output.
func (s *session) writeOut(w *writing, p prepared) error {
	s.stopProgress()
	if w.dry {
		size, err := p.size()
		if err == nil {
			s.reportDone("dry run: would write to standard output: %s", p.text(size))
		}
		return err
	}
	if p.format.Binary && s.print.Terminal {
		return usagef("%s is not written to a terminal; name a file with -o, or pipe it on", binaryName(p.format))
	}
	return stdoutError(p.writer.Write(s.out, p.image))
}

// errReaderGone ends a command whose output nobody reads any more, without a word.
var errReaderGone = &failure{statusSystem, errors.New("")}

// stdoutError says of an error of writing that it is the system's.
func stdoutError(err error) error {
	if readerGone(err) {
		return errReaderGone
	}
	if err == nil || errors.As(err, new(*source.SystemError)) {
		return err
	}
	return &source.SystemError{File: "standard output", Doing: "write", Err: err}
}

// binaryName names what is no text for a terminal.
func binaryName(f *format.Format) string {
	if f == raw.Format {
		return "raw binary"
	}
	return f.Name
}

// size is how many bytes the file would have.
func (p *prepared) size() (int64, error) {
	n := counting(0)
	err := p.writer.Write(&n, p.image)
	return int64(n), err
}

// counting counts what is written to it.
type counting int64

func (c *counting) Write(b []byte) (int, error) {
	*c += counting(len(b))
	return len(b), nil
}

// text says what is written, in few words, in a file of so many bytes: of raw bytes,
// how many of them fill holes, and to which address the first belongs; of records,
// how much of the image they have.
func (p *prepared) text(size int64) string {
	w, ok := p.writer.(interface {
		Extent(*memory.Image) (memory.Span, bool)
	})
	of := fmt.Sprintf("%s in %s", memory.FormatBytes(p.image.Bytes()), memory.FormatNumber(len(p.image.Runs()), "run"))
	switch {
	case !ok && p.format.Mark != 0:
		return p.format.Name + ", " + of
	case !ok:
		return fmt.Sprintf("%s, %s, with %s of the image", p.format.Name, memory.FormatBytes(uint64(size)), of)
	}
	all, some := w.Extent(p.image)
	if !some {
		return p.format.Name + ", 0 bytes"
	}
	holes := ""
	if n := all.Size() - p.image.Count(all); n > 0 {
		holes = fmt.Sprintf(", including %s in filled holes", memory.FormatCount(n))
	}
	return fmt.Sprintf("%s, %s%s, the first for %s", p.format.Name, memory.FormatBytes(uint64(size)), holes,
		memory.FormatAddress(all.First))
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}
