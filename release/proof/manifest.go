// Package proof proves what a release made of what: its manifest, which is read strictly
// and signed; whether files are still what a manifest says and can be made again
// ([Confirm], and [ConfirmBatch] for the units of a table); where each byte of an output came
// from ([Explain]); and the same facts in the words of standards, SLSA provenance and a
// CycloneDX bill of materials.
//
// It makes nothing: who confirms gives it a [Maker], or a [BatchMaker].
package proof

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// Extension ends the name of every manifest.
const Extension = ".manifest.json"

// Schema names the form of a manifest.
const Schema = "mexalt.manifest/3"

// MostManifest is how large a manifest may be, 256 MiB.
const MostManifest = 256 << 20

// Header says of a run what it was. Names of files are relative to the manifest's folder,
// that of the outputs. There is no time in it, unless one was given.
type Header struct {
	Schema   string            `json:"schema"`
	Tool     string            `json:"tool"`
	Made     string            `json:"made,omitempty"` // RFC 3339
	Name     string            `json:"name"`
	Release  string            `json:"release"`            // the release file
	Set      map[string]string `json:"set,omitempty"`      // variables whose values were overridden for the run
	Salt     string            `json:"salt,omitempty"`     // of the digests that stand in the place of secrets
	Variants []string          `json:"variants,omitempty"` // that were asked for; none is all
	Read     []ReadFile        `json:"read"`               // by name
}

// Manifest says of a run what was made of what.
type Manifest struct {
	Header
	Products []Product `json:"products"`
}

// ProductFor returns the product that is meant for a file of that name: of several, the one
// whose variant is in the name, or the first; nil where the manifest has none.
func (m *Manifest) ProductFor(name string) *Product {
	if len(m.Products) == 0 {
		return nil
	}
	i := slices.IndexFunc(m.Products, func(p Product) bool { return p.Variant != "" && strings.Contains(filepath.Base(name), p.Variant) })
	return &m.Products[max(i, 0)]
}

// ReadFile is a file that was read.
type ReadFile struct {
	File   string `json:"file"`
	Role   string `json:"role"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Product says of one product how it was made.
type Product struct {
	Variant   string            `json:"variant,omitempty"`
	Device    string            `json:"device,omitempty"` // what the map calls the part
	Set       map[string]string `json:"set"`
	Inputs    []Input           `json:"inputs"`
	Steps     []Step            `json:"steps"`
	Contents  Contents          `json:"contents"`
	Regions   []Region          `json:"regions,omitempty"`
	Checksums []Checksum        `json:"checksums,omitempty"`
	Config    []Config          `json:"config,omitempty"`
	Findings  []Finding         `json:"findings,omitempty"`
	Outputs   []Output          `json:"outputs"`
	Origins   Origins           `json:"origins"`
}

// Input is an input of a product.
type Input struct {
	Name    string `json:"name"`
	File    string `json:"file"`
	Format  string `json:"format"`
	Bytes   uint64 `json:"bytes"`
	Span    *Span  `json:"span,omitempty"`
	Region  string `json:"region,omitempty"`
	Version string `json:"version,omitempty"` // that it was found to hold
}

// Where returns where the input was placed; ok is false where it holds nothing.
func (p *Input) Where() (s memory.Span, ok bool) {
	if p.Span == nil {
		return s, false
	}
	return p.Span.span()
}

// Span is a stretch of addresses, both included.
type Span struct {
	First string `json:"first"`
	Last  string `json:"last"`
}

// Step is a step that was done.
type Step struct {
	Line    int      `json:"line"` // of the release file
	Do      string   `json:"do"`
	Changes []string `json:"did,omitempty"`
	Notes   []string `json:"notes,omitempty"`
}

// Contents is the whole image.
type Contents struct {
	Bytes  uint64 `json:"bytes"`
	Runs   []Span `json:"runs"`
	Start  string `json:"start,omitempty"`
	SHA256 string `json:"sha256"`
	// Blocks tells in which part of the image something was changed since: the
	// beginning of the SHA-256 of each stretch of Block bytes of each run, 64 bits, in hex digits one
	// behind the other.
	Block  uint64 `json:"block,omitempty"`
	Blocks string `json:"blocks,omitempty"`
}

// mostBlocks is how many blocks there are at the most, but for one more a run.
const mostBlocks = 4096

// SetBlocks makes the blocks of an image.
func (c *Contents) SetBlocks(m *memory.Image) {
	const least = 64
	c.Block = least
	for c.Block*mostBlocks < m.Bytes() {
		c.Block *= 2
	}
	var list []byte
	for _, run := range m.Runs() {
		for block := range slices.Chunk(run.Data, int(c.Block)) {
			list = binary.BigEndian.AppendUint64(list, blockDigest(block))
		}
	}
	c.Blocks = strings.ToUpper(hex.EncodeToString(list))
}

// Share takes the blocks of other contents for its own where they are the same, so that they are
// kept once.
func (c *Contents) Share(other *Contents) {
	if c.Blocks == other.Blocks {
		c.Blocks = other.Blocks
	}
}

// blockDigest is the beginning of a SHA-256. A CRC would not do: blocks that end with a CRC of
// all before them have the same CRC, whatever they are.
func blockDigest(block []byte) uint64 {
	sum := sha256.Sum256(block)
	return binary.BigEndian.Uint64(sum[:])
}

// Config is a configuration word as the image gives it.
type Config struct {
	Name   string   `json:"name"`
	Span   Span     `json:"span"`
	Value  string   `json:"value"`
	Fields []string `json:"fields"` // name and meaning of each
}

// Region says how much of a region is used.
type Region struct {
	Name string `json:"name"`
	Span Span   `json:"span"`
	Used uint64 `json:"used"`
	// Parts is how many of its bytes came from the inputs, and neither from fills nor
	// other steps; nil in a manifest of a version that did not count them.
	Parts *uint64 `json:"parts,omitempty"`
	// Words is how the device counts them, where it counts words.
	Words *Words `json:"words,omitempty"`
}

// Words is how a device counts the addresses of a region: the number of its first word, and
// the bytes of each.
type Words struct {
	First string `json:"first"`
	Unit  uint64 `json:"unit"`
}

// Where returns where the region lies.
func (p *Region) Where() (memory.Span, bool) { return p.Span.span() }

// Sizes returns the sizes of the symbols of which anything is in the image; of a name
// that is there more than once, all together.
func (p *Origins) Sizes() map[string]uint64 {
	sizes := map[string]uint64{}
	for i := range p.Inputs {
		for _, s := range p.Inputs[i].Symbols {
			if s.Size > 0 {
				sizes[s.Name] += s.Size
			}
		}
	}
	return sizes
}

// Checksum is a declared checksum as the image holds it.
type Checksum struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	In   Span   `json:"in"`
	// Further are further spans that it is computed over.
	Further []Span `json:"also,omitempty"`
	At      string `json:"at"`
	Value   string `json:"value"`
}

// Finding is a finding of the check: a note, or one that was accepted.
type Finding struct {
	Severity string `json:"severity"`
	Rule     string `json:"rule"`
	Name     string `json:"name,omitempty"`
	Accepted bool   `json:"accepted"`
	Span     *Span  `json:"span,omitempty"`
	Origin   string `json:"origin,omitempty"`
	What     string `json:"what"`
	Expected string `json:"expected,omitempty"`
}

// Output is an output.
type Output struct {
	Name   string `json:"name,omitempty"`
	File   string `json:"file"`
	Format string `json:"format"` // a format's word, text, or picture
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	First  string `json:"first,omitempty"` // of raw bytes, the address of the first
}

// Origins says where every byte came from, as [memory.Origins] has it.
type Origins struct {
	Inputs []OriginInput `json:"inputs"`
	Tables []OriginTable `json:"tables"`
}

// OriginInput is a file, a section of one, or an operation.
type OriginInput struct {
	File    string `json:"file,omitempty"`
	Section string `json:"section,omitempty"`
	Counts  string `json:"counts,omitempty"` // lines or offsets, of files
	Step    string `json:"step,omitempty"`   // an operation, and where the release file has it
	// For an ELF section: the address of its first byte, its symbols (name,
	// first position, size), source files, and from which position on which symbol
	// and which line of which file hold, by number; -1 is none.
	At      string        `json:"at,omitempty"`
	Symbols []inputSymbol `json:"symbols,omitempty"`
	Sources []string      `json:"sources,omitempty"`
	Details [][4]int64    `json:"details,omitempty"`
	// LeftOut is how many entries there are, where they are too many to be kept.
	LeftOut int `json:"leftOut,omitempty"`
}

// inputSymbol is a symbol as a list of three.
type inputSymbol struct {
	Name        string
	First, Size uint64
}

// MarshalJSON writes a symbol as a list.
func (s inputSymbol) MarshalJSON() ([]byte, error) {
	return json.Marshal([]any{s.Name, s.First, s.Size})
}

// UnmarshalJSON reads a symbol from a list.
func (s *inputSymbol) UnmarshalJSON(text []byte) error {
	var list []json.RawMessage
	if err := json.Unmarshal(text, &list); err != nil {
		return err
	}
	const fields = 3
	if len(list) != fields {
		return fmt.Errorf("a symbol has %d values; expected %d", len(list), fields)
	}
	return errors.Join(json.Unmarshal(list[0], &s.Name), json.Unmarshal(list[1], &s.First), json.Unmarshal(list[2], &s.Size))
}

// mostDetails is how many entries are kept of one section; of a longer one symbols
// and lines are left out, which explanations say.
const mostDetails = 20_000

// setDetails keeps what an input knows of its positions.
func (p *OriginInput) setDetails(list []source.Detail) {
	if len(list) > mostDetails {
		p.LeftOut = len(list)
		return
	}
	symbols, files := map[inputSymbol]int64{}, map[string]int64{}
	for _, d := range list {
		entry := [4]int64{int64(d.Position), -1, -1, int64(d.Line)}
		if d.Symbol != "" {
			key := inputSymbol{d.Symbol, d.Begins, d.Size}
			n, ok := symbols[key]
			if !ok {
				n = int64(len(p.Symbols))
				symbols[key] = n
				p.Symbols = append(p.Symbols, key)
			}
			entry[1] = n
		}
		if d.File != "" {
			n, ok := files[d.File]
			if !ok {
				n = int64(len(p.Sources))
				files[d.File] = n
				p.Sources = append(p.Sources, d.File)
			}
			entry[2] = n
		}
		p.Details = append(p.Details, entry)
	}
}

// detail returns what says more of a position, as it was kept.
func (p *OriginInput) detail() func(uint64) string {
	if p.LeftOut > 0 {
		text := fmt.Sprintf("symbols and lines: %s entries, too many to be kept in the manifest; the file has them",
			memory.FormatCount(uint64(p.LeftOut)))
		return func(uint64) string { return text }
	}
	if len(p.Details) == 0 {
		return nil
	}
	return func(position uint64) string {
		i := sort.Search(len(p.Details), func(i int) bool { return uint64(p.Details[i][0]) > position }) - 1
		if i < 0 {
			return ""
		}
		entry := p.Details[i]
		d := source.Detail{Line: int(entry[3])}
		if n := entry[1]; n >= 0 && n < int64(len(p.Symbols)) {
			d.Symbol, d.Begins = p.Symbols[n].Name, p.Symbols[n].First
		}
		if n := entry[2]; n >= 0 && n < int64(len(p.Sources)) {
			d.File = p.Sources[n]
		}
		return d.Text(position)
	}
}

// OriginTable is a list of stretches: first address, size, number of the source,
// position of the first byte, bytes on each line (0 puts all at the position), and
// bytes of its line before the first one.
type OriginTable struct {
	Ranges  []tableRange   `json:"ranges"`
	Sources []OriginSource `json:"sources"`
}

// OriginSource is what bytes come from.
type OriginSource struct {
	Input int    `json:"input"`
	Over  int    `json:"over,omitempty"`
	From  []int  `json:"from,omitempty"`
	Rule  string `json:"rule,omitempty"`
	Delta string `json:"delta,omitempty"`
	Word  uint64 `json:"word,omitempty"`
	Lanes uint64 `json:"lanes,omitempty"`
	Lane  uint64 `json:"lane,omitempty"`
}

// tableRange is a range as a list of six.
type tableRange memory.OriginRange

// MarshalJSON writes a range as a list.
func (p tableRange) MarshalJSON() ([]byte, error) {
	const most = 64
	text := append(append(append(make([]byte, 0, most), `["`...), memory.PlainAddress(p.First)...), '"')
	for _, value := range [...]uint64{p.Size, uint64(p.Source), p.Position, uint64(p.Each), uint64(p.Phase)} {
		text = strconv.AppendUint(append(text, ','), value, 10)
	}
	return append(text, ']'), nil
}

// UnmarshalJSON reads a range from a list.
func (p *tableRange) UnmarshalJSON(text []byte) error {
	// By hand: a large manifest has a hundred thousand of them.
	inside := bytes.TrimSuffix(bytes.TrimPrefix(bytes.TrimSpace(text), []byte("[")), []byte("]"))
	const fields = 6
	var list [fields][]byte
	more := true
	for i := range list {
		if !more {
			return fmt.Errorf("a range has %d values; expected %d in a list", i, fields)
		}
		list[i], inside, more = bytes.Cut(inside, []byte(","))
	}
	if more || text[len(text)-1] != ']' {
		return fmt.Errorf("a range has more than %d values, or is no list", fields)
	}
	quoted := bytes.TrimSpace(list[0])
	first, opens := bytes.CutPrefix(quoted, []byte(`"`))
	first, closes := bytes.CutSuffix(first, []byte(`"`))
	if !opens || !closes {
		return fmt.Errorf("a range begins with %s; expected an address", quoted)
	}
	var err error
	if p.First, err = parseAddress(string(first)); err != nil {
		return err
	}
	var values [fields - 1]uint64
	for i := range values {
		bits := [fields - 1]int{64, 31, 64, 8, 8}[i]
		if values[i], err = strconv.ParseUint(string(bytes.TrimSpace(list[i+1])), 10, bits); err != nil {
			return fmt.Errorf("a range has the value %s; expected a number of %d bits", list[i+1], bits)
		}
	}
	p.Size, p.Source, p.Position, p.Each, p.Phase = values[0], int(values[1]), values[2], uint8(values[3]), uint8(values[4])
	return nil
}

func parseAddress(text string) (uint64, error) {
	digits, ok := strings.CutPrefix(text, "0x")
	if !ok {
		return 0, fmt.Errorf("%q is not an address", text)
	}
	return strconv.ParseUint(digits, 16, 64)
}

func SpanOf(s memory.Span) Span {
	return Span{memory.PlainAddress(s.First), memory.PlainAddress(s.Last)}
}

// RelativeName names a file from a folder, with slashes; what cannot be named so, as it is
// on another drive, by its whole path.
func RelativeName(folder, name string) string {
	if name == source.StandardInput {
		return name
	}
	if filepath.IsAbs(folder) != filepath.IsAbs(name) {
		from, errFrom := filepath.Abs(folder)
		to, errTo := filepath.Abs(name)
		if errFrom == nil && errTo == nil {
			folder, name = from, to
		}
	}
	out, err := filepath.Rel(folder, name)
	if err != nil || filepath.IsAbs(out) { // on another drive
		return filepath.ToSlash(name)
	}
	return filepath.ToSlash(out)
}

// OriginsOf returns where the bytes of an image came from, as a manifest has it; files
// are named as a function names them.
func OriginsOf(m *memory.Image, named func(string) string) Origins {
	o := m.Origins()
	out := OriginsIn("", o, nil)
	for i, in := range o.Inputs {
		if in.Counting != source.Operation {
			out.Inputs[i].File = named(in.Name)
		}
	}
	return out
}

func OriginsIn(folder string, o *memory.Origins, placed map[string]uint64) Origins {
	out := Origins{Inputs: []OriginInput{}, Tables: []OriginTable{}}
	for _, in := range o.Inputs {
		switch in.Counting {
		case source.Lines:
			out.Inputs = append(out.Inputs, OriginInput{File: RelativeName(folder, in.Name), Section: in.Section, Counts: "lines"})
		case source.Offsets:
			one := OriginInput{File: RelativeName(folder, in.Name), Section: in.Section, Counts: "offsets"}
			if in.Details != nil && in.Section != "" {
				one.setDetails(in.Details())
				if at, ok := placed[in.Name+"\x00"+in.Section]; ok {
					one.At = memory.PlainAddress(at)
				}
			}
			out.Inputs = append(out.Inputs, one)
		default:
			out.Inputs = append(out.Inputs, OriginInput{Step: in.Name})
		}
	}
	for _, t := range o.Tables {
		one := OriginTable{Ranges: []tableRange{}, Sources: []OriginSource{}}
		for _, p := range t.Ranges {
			one.Ranges = append(one.Ranges, tableRange(p))
		}
		for _, s := range t.Sources {
			src := OriginSource{Input: s.Input, Over: s.Over, From: s.From, Rule: s.Rule, Word: s.Word, Lanes: s.Lanes, Lane: s.Lane}
			if s.Delta != 0 {
				src.Delta = memory.PlainAddress(s.Delta)
			}
			one.Sources = append(one.Sources, src)
		}
		out.Tables = append(out.Tables, one)
	}
	return out
}

// Tracer returns what finds the origins of a product's bytes.
func (p *Origins) Tracer() (*memory.Tracer, error) {
	o := &memory.Origins{}
	counts := map[string]source.Counting{"lines": source.Lines, "offsets": source.Offsets, "": source.Operation}
	for _, in := range p.Inputs {
		counting, ok := counts[in.Counts]
		if !ok || (in.File == "") == (in.Step == "") || in.Step != "" && in.Counts != "" {
			return nil, fmt.Errorf("an origin is neither a file nor a step")
		}
		name := in.File
		if name == "" {
			name = in.Step
		}
		o.Inputs = append(o.Inputs, &source.Input{Name: name, Section: in.Section, Counting: counting, Detail: in.detail()})
	}
	for _, t := range p.Tables {
		one := memory.OriginTable{Ranges: make([]memory.OriginRange, len(t.Ranges))}
		for i := range t.Ranges {
			one.Ranges[i] = memory.OriginRange(t.Ranges[i])
		}
		for _, s := range t.Sources {
			src := memory.OriginSource{Input: s.Input, Over: s.Over, From: s.From, Rule: s.Rule, Word: s.Word, Lanes: s.Lanes, Lane: s.Lane}
			if s.Delta != "" {
				var err error
				if src.Delta, err = parseAddress(s.Delta); err != nil {
					return nil, err
				}
			}
			one.Sources = append(one.Sources, src)
		}
		o.Tables = append(o.Tables, one)
	}
	return o.Tracer()
}

// Write writes a manifest: always the same for the same run.
func (m *Manifest) Write(to io.Writer) error {
	var failed error
	err := m.encode(func(_ int, piece []byte) bool {
		_, failed = to.Write(piece)
		return failed == nil
	})
	return errors.Join(err, failed)
}

// Text returns what [Manifest.Write] writes.
func (m *Manifest) Text() ([]byte, error) {
	var out []byte
	err := m.encode(func(i int, piece []byte) bool {
		if i == 0 { // the first product: others are as long, or nearly
			out = slices.Grow(out, len(m.Products)*(len(piece)+len(piece)/16))
		}
		out = append(out, piece...)
		return true
	})
	return out, err
}

// isWritten reports whether a text is what the manifest is written as.
func (m *Manifest) isWritten(text []byte) (bool, error) {
	same := true
	err := m.encode(func(_ int, piece []byte) bool {
		text, same = bytes.CutPrefix(text, piece)
		return same
	})
	return same && len(text) == 0, err
}

// writtenAs reports whether a manifest is written as another is.
func (m *Manifest) writtenAs(other *Manifest) (same bool, err error) {
	next, stop := iter.Pull2(func(yield func([]byte, error) bool) {
		if err := other.encode(func(_ int, piece []byte) bool { return yield(piece, nil) }); err != nil {
			yield(nil, err)
		}
	})
	defer stop()
	same = true
	failed := m.encode(func(_ int, piece []byte) bool {
		var theirs []byte
		theirs, err, _ = next()
		same = err == nil && bytes.Equal(piece, theirs)
		return same
	})
	return same, errors.Join(err, failed)
}

// encode calls do with what a manifest is written as, piece by piece: what comes before the products,
// each product by its number, and what comes after them. All in one piece a large manifest would
// be there several times. A piece may be used until the next one.
func (m *Manifest) encode(do func(i int, piece []byte) bool) error {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	head := *m
	head.Products = head.Products[:min(len(head.Products), 0)]
	if err := e.Encode(&head); err != nil {
		return err
	}
	out := layOut(nil, bytes.TrimSpace(text.Bytes()), 0)
	if len(m.Products) == 0 {
		do(-1, append(out, '\n'))
		return nil
	}
	const list = 2 // how deep the products are
	if !do(-1, bytes.TrimSuffix(out, []byte("]\n}"))) {
		return nil
	}
	for i := range m.Products {
		text.Reset()
		if err := e.Encode(&m.Products[i]); err != nil {
			return err
		}
		if out = out[:0]; i > 0 {
			out = append(out, ',')
		}
		out = layOut(newLine(out, list), bytes.TrimSpace(text.Bytes()), list)
		if !do(i, out) {
			return nil
		}
	}
	do(len(m.Products), append(newLine(append(newLine(out[:0], list-1), ']'), 0), "}\n"...))
	return nil
}

// layOut appends JSON, in one piece as an encoder writes it and so deep within other, broken into
// lines, but for what lies deep in it: each input, step and output is a line, and so is each list
// of origins.
func layOut(out, text []byte, depth int) []byte {
	const deep = 4
	out = slices.Grow(out, len(text)+len(text)/16)
	quoted := false
	line := func() { out = newLine(out, depth) }
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quoted:
			out = append(out, c)
			if c == '\\' {
				i++
				out = append(out, text[i])
			} else if c == '"' {
				quoted = false
			}
			continue
		case c == '"':
			quoted = true
		case c == '{' || c == '[':
			out = append(out, c)
			if depth++; depth <= deep && text[i+1] != '}' && text[i+1] != ']' {
				line()
			}
			continue
		case c == '}' || c == ']':
			if depth--; depth < deep && text[i-1] != '{' && text[i-1] != '[' {
				line()
			}
		}
		out = append(out, c)
		switch {
		case c == ',' && depth <= deep:
			line()
		case c == ':' || c == ',':
			out = append(out, ' ')
		}
	}
	return out
}

// newLine begins a line of JSON, so deep.
func newLine(out []byte, depth int) []byte {
	out = append(out, '\n')
	for range depth {
		out = append(out, ' ')
	}
	return out
}

// Load reads a manifest strictly.
func Load(files *source.Files, name string) (*Manifest, error) {
	text, err := files.ReadAll(name, "manifest", MostManifest)
	if err != nil {
		return nil, err
	}
	if m := loadLifted(text); m != nil {
		return m, nil
	}
	m := &Manifest{}
	if err := loadStrictly(name, text, Schema, m); err != nil {
		return nil, err
	}
	return m, nil
}

// written is a manifest of any form, which is always written the same way.
type written interface {
	Text() ([]byte, error)
	isWritten(text []byte) (bool, error)
	form() string
}

func (h *Header) form() string { return h.Schema }

// SaltOf returns the salt of a manifest; "" is that there is none.
func SaltOf(name string) string {
	text, err := (&source.Files{}).ReadAll(name, "manifest", MostManifest)
	if err != nil {
		return ""
	}
	var h struct{ Salt string }
	json.Unmarshal(text, &h)
	return h.Salt
}

// loadStrictly decodes a manifest from its text, which must be just as it was written.
func loadStrictly(name string, text []byte, schema string, m written) error {
	bad := func(what string) error {
		return &source.Problem{
			File:     name,
			What:     what,
			Expected: "a manifest of the form " + schema,
			Advice:   source.Advise("damaged or changed; get the original file"),
		}
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(m); err != nil {
		kind, named := "a manifest", Extension
		if schema == BatchSchema {
			kind, named = "a manifest of units", BatchExtension
		}
		if what := source.WhatIs(text); what != kind && what != "JSON" && what != "" {
			return &source.Problem{File: name, What: "this is " + what, Expected: kind + ", NAME" + named}
		}
		return bad(source.JSONProblem(err))
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return bad("something follows the manifest")
	}
	if m.form() != schema {
		return bad(fmt.Sprintf("it is of the form %q", m.form()))
	}
	if is, err := m.isWritten(text); err != nil || is {
		return err
	}
	ends := bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	if is, _ := m.isWritten(ends); is && len(ends) < len(text) {
		return &source.Problem{
			File:   name,
			What:   "its line ends were changed from LF to CR LF",
			Advice: source.Advise(source.LineEndAdvice),
		}
	}
	again, err := m.Text()
	if err != nil {
		return err
	}
	was, is := bytes.Split(text, []byte("\n")), bytes.Split(again, []byte("\n"))
	for i := range max(len(was), len(is)) {
		if i >= len(was) || i >= len(is) || !bytes.Equal(was[i], is[i]) {
			return &source.Problem{
				File:     name,
				Line:     i + 1,
				What:     "the manifest was reformatted or edited",
				Expected: "the file as written by the release",
				Advice:   source.Advise("get the original file"),
			}
		}
	}
	return nil
}
