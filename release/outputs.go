package release

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/codec"
	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/output"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/span"
)

// outputs finds what {kind:name} stands for, as the image is now.
func (m *productBuilder) outputs(kind, name string) (string, error) {
	switch kind {
	case "crc":
		return m.storedChecksum(name)
	case "size":
		known := m.known
		if m.image != nil {
			if all, ok := m.image.Span(); ok {
				known = known.With("image", all)
			}
		}
		s, err := span.Span(name, known)
		if err != nil {
			return "", fmt.Errorf("{%s:%s}: %w", kind, name, err)
		}
		for i, p := range m.parts {
			if all, ok := p.Image.Span(); name == "part."+p.Name && ok && all.Size() == m.places[i].span.Size() {
				return fmt.Sprint(p.Image.Bytes()), nil // less would be what a step has cut
			}
		}
		if m.image == nil {
			return "", fmt.Errorf("{%s:%s}: the image does not exist yet", kind, name)
		}
		return fmt.Sprint(m.image.Count(s)), nil
	}
	var known []string
	for i := range m.result.Outputs {
		o := &m.result.Outputs[i]
		if o.Name != name {
			if o.Name != "" {
				known = append(known, o.Name)
			}
			continue
		}
		if kind == "file" {
			return filepath.Base(o.File), nil
		}
		h := sha256.New()
		if err := m.result.files[i].Write(h); err != nil {
			return "", err
		}
		return hex.EncodeToString(h.Sum(nil)), nil
	}
	return "", fmt.Errorf("{%s:%s}: no output before this one is called %s; %s", kind, name, name, source.DidYouMean(name, known))
}

// storedChecksum returns the value of a declared checksum as the image holds it,
// in hex digits.
func (m *productBuilder) storedChecksum(name string) (string, error) {
	if m.dev == nil {
		return "", fmt.Errorf("{crc:%s}: the release has no device map", name)
	}
	resolved, _ := m.dev.For(m.image)
	var known []string
	for i := range resolved.Checksums {
		c := &resolved.Checksums[i]
		known = append(known, c.Name)
		if c.Name != name {
			continue
		}
		s, err := c.Spec(resolved, m.image)
		if err != nil {
			return "", err
		}
		stored := make([]byte, s.Place.Size())
		if !m.image.ReadAt(stored, s.Place.First) {
			return "", fmt.Errorf("{crc:%s}: the image contains nothing at %s; seal it before", name, s.Place)
		}
		if c.Order != memory.Big {
			for i, j := 0, len(stored)-1; i < j; i, j = i+1, j-1 {
				stored[i], stored[j] = stored[j], stored[i]
			}
		}
		return strings.ToUpper(hex.EncodeToString(stored)), nil
	}
	return "", fmt.Errorf("{crc:%s}: %s declares no checksum %s; %s", name, m.dev.Name, name, source.DidYouMean(name, known))
}

// prepare prepares the files.
func (m *productBuilder) prepare() {
	folder := m.outputFolder(m.options)
	held := make([]bool, len(m.parts))
	for i, o := range m.product.outputs {
		// What could not be known before is known now.
		fresh := &target{path: o.path}
		if m.set(o.path, m.flatten(o.path, m.table.Outputs[i]), fresh.keys(), m.names); m.result.problems.Errors() > 0 {
			return
		}
		switch base := filepath.Join(folder, fresh.file); base {
		case m.journalName(m.options), m.journalName(m.options) + output.LockExtension, m.logName(m.options):
			m.problem(o.path+".file",
				fmt.Sprintf("%s is called as Mexalt's own %s is", fresh.file,
					map[bool]string{true: "log of units", false: "journal"}[base == m.logName(m.options)]), "another name", "")
			return
		}
		if fault := output.NameFault(fresh.file); fault != "" {
			m.problem(o.path+".file", fresh.file+" "+fault, "another name", "")
			return
		}
		if !filepath.IsLocal(fresh.file) {
			m.problem(o.path+".file", fmt.Sprintf("%q leaves the folder of the outputs", fresh.file),
				"a file in it, or in a folder within it", "")
			return
		}
		if m.chooseFormat(fresh); m.result.problems.Errors() > 0 {
			return
		}
		path := filepath.Join(folder, fresh.file)
		if err := within(folder, path); err != nil {
			m.problem(o.path+".file", fmt.Sprintf("%s leaves the folder of the outputs: %s", fresh.file, err), "", "")
			return
		}
		made := Output{Name: fresh.name, File: path}
		write, ok := m.writerOf(fresh, &made, held)
		if !ok {
			return
		}
		m.result.Outputs = append(m.result.Outputs, made)
		m.result.files = append(m.result.files,
			output.File{Name: path, Write: write, Keep: true, Sum: true, Private: len(m.table.Secret) > 0})
	}
	for i, p := range m.parts {
		if !held[i] && !p.Image.Empty() {
			m.problem(m.inputs[i].path, fmt.Sprintf("no output contains anything of the input %s", p.Name), "",
				"add an output, or leave the input out")
		}
	}
}

// within tells of a path that links lead out of a folder.
func within(folder, path string) error {
	root, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return nil // writing will tell
	}
	for at := path; ; at = filepath.Dir(at) {
		real, err := filepath.EvalSymlinks(at)
		if err != nil {
			if at == folder || at == filepath.Dir(at) {
				return nil
			}
			continue
		}
		if inside, err := filepath.Rel(root, real); err != nil || !filepath.IsLocal(inside) {
			return fmt.Errorf("a link leads to %s", real)
		}
		return nil
	}
}

// writerOf returns what writes an output.
func (m *productBuilder) writerOf(o *target, made *Output, held []bool) (write func(io.Writer) error, ok bool) {
	switch {
	case o.text != "":
		text, err := span.Text(o.text)
		if err != nil {
			m.problem(o.path+".text", err.Error(), "", "")
			return nil, false
		}
		made.Format, made.What = "text", "text, "+memory.FormatBytes(uint64(len(text)))
		return func(w io.Writer) error { _, err := w.Write(text); return err }, true
	case o.picture():
		return m.pictureWriter(o, made), true
	}
	return m.imageWriter(o, made, held)
}

// pictureWriter returns what draws an output.
func (m *productBuilder) pictureWriter(o *target, made *Output) func(io.Writer) error {
	kind := strings.ToLower(filepath.Ext(o.file))
	made.Format, made.What = "picture", "picture of "+m.dev.Name
	if kind == ".html" {
		made.Format, made.What = "page", "page of "+m.dev.Name
	}
	if m.options.Picture == nil {
		return func(io.Writer) error { return nil }
	}
	return m.options.Picture(kind, m.File, m.result)
}

// imageWriter returns what writes an output in its format.
func (m *productBuilder) imageWriter(o *target, made *Output, held []bool) (write func(io.Writer) error, ok bool) {
	image, options := m.image, format.WriteOptions{Huge: m.options.Huge, Name: cmp.Or(o.name, o.file),
		Open: func(name string) ([]byte, error) {
			if !filepath.IsAbs(name) {
				name = filepath.Join(m.folder, name)
			}
			return m.files.ReadAll(name, "template", MostBytes)
		}}
	if len(o.in) > 0 {
		where, ok := m.spansOf(o)
		if !ok {
			return nil, false
		}
		image = image.Cut(where...)
		if len(where) == 1 {
			options.Span = &where[0]
		}
	}
	m.notePartsIn(image, held)
	w, err := o.choice.Writer(options, o.settings)
	if err != nil {
		m.keyProblem(o.path, err)
		return nil, false
	}
	notes, err := w.Check(image)
	if err != nil {
		m.keyProblem(o.path, err)
		return nil, false
	}
	for _, note := range notes {
		m.result.Notes = append(m.result.Notes, fmt.Sprintf("%s: %s", o.file, note))
	}
	made.Format = o.choice.Word
	if r, ok := w.(interface {
		Extent(*memory.Image) (memory.Span, bool)
	}); ok {
		if all, some := r.Extent(image); some {
			made.Raw = &all
		}
	}
	if image.Empty() && !m.image.Empty() && made.Raw == nil {
		m.problem(o.path+".in", "the output contains nothing of the image", "spans in which it has bytes", "")
		return nil, false
	}
	if made.What, err = describe(o.choice, w, image, made.Raw); err != nil {
		m.keyProblem(o.path, err)
		return nil, false
	}
	return func(to io.Writer) error { return w.Write(to, image) }, true
}

// spansOf returns the spans of which an output has the bytes.
func (m *productBuilder) spansOf(o *target) (where []memory.Span, ok bool) {
	known := m.known
	if m.result.Map != nil {
		known = known.And(m.result.Map.Names()) // as the image configures it
	}
	if all, ok := m.image.Span(); ok {
		known = known.With("image", all)
	}
	for _, text := range o.in {
		s, err := span.Span(text, known)
		if err != nil {
			m.problem(o.path+".in", err.Error(), "", "")
			return nil, false
		}
		where = append(where, s)
	}
	return where, true
}

// notePartsIn notes which parts an image has bytes of.
func (m *productBuilder) notePartsIn(image *memory.Image, held []bool) {
	for i, p := range m.parts {
		w := &m.places[i]
		held[i] = held[i] || w.mixed || slices.ContainsFunc(p.Image.Runs(), func(r memory.Run) bool {
			return image.Count(memory.Span{First: r.First + w.delta, Last: r.Last() + w.delta}) > 0
		})
	}
}

// describe says what an output is: its format, and how much of the image it has, or how
// large it is.
func describe(c codec.Choice, w format.Writer, image *memory.Image, raw *memory.Span) (string, error) {
	has := fmt.Sprintf("%s in %s", memory.FormatBytes(image.Bytes()), memory.FormatNumber(len(image.Runs()), "run"))
	switch {
	case raw != nil:
		text := fmt.Sprintf("%s, %s", c.Name, memory.FormatBytes(raw.Size()))
		if n := raw.Size() - image.Count(*raw); n > 0 {
			text += fmt.Sprintf(", including %s in filled holes", memory.FormatCount(n))
		}
		return text, nil
	case c.Mark != 0: // records say how much of the image they have, all else how large the file is
		return fmt.Sprintf("%s, %s", c.Name, has), nil
	}
	var size counter
	err := w.Write(&size, image)
	of, in, _ := strings.Cut(has, " in ")
	return fmt.Sprintf("%s, %s, with %s of the image in %s", c.Name, memory.FormatBytes(uint64(size)), of, in), err
}

// counter counts what is written to it.
type counter uint64

func (c *counter) Write(b []byte) (int, error) {
	*c += counter(len(b))
	return len(b), nil
}

// Sums returns the outputs of the product with their sizes and digests, but pages, of
// which one may ask.
func (p *Product) Sums() (list []Output, err error) {
	for i, m := range p.Outputs {
		if m.Format == "page" {
			continue
		}
		h := &counted{Hash: sha256.New()}
		if err := p.files[i].Write(h); err != nil {
			return nil, err
		}
		m.Size, m.SHA256 = h.n, [sha256.Size]byte(h.Sum(nil))
		list = append(list, m)
	}
	return list, nil
}

// counted is a digest that counts.
type counted struct {
	hash.Hash
	n uint64
}

func (c *counted) Write(b []byte) (int, error) {
	c.n += uint64(len(b))
	return c.Hash.Write(b)
}

// Sets are what is set for the product.
func (p *Product) Sets() map[string]string { return p.sets }

// Accepts returns what the release file accepts of findings, and where it says so.
func (f *File) Accepts() (texts, places []string) {
	for i, text := range f.table.Check.Accept {
		texts, places = append(texts, text), append(places, f.at(f.settings.Line(fmt.Sprintf("check.accept[%d]", i))))
	}
	return texts, places
}

// Relative names a file from the release file's folder, wherever the release is run.
func (f *File) Relative(name string) string { return proof.RelativeName(f.folder, name) }
