package release

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"

	"mexalt/memory"
	"mexalt/output"
	"mexalt/source"
)

// ManifestExtension ends the name of every manifest.
const ManifestExtension = ".manifest.json"

// ManifestSchema names the form of a manifest.
const ManifestSchema = "mexalt.manifest/1"

// MostManifest is how large a manifest may be, 256 MiB.
const MostManifest = 256 << 20

// Manifest says of a run what was made of what. Names of files are relative to
// its folder, that of the outputs. There is no time in it, unless one was given.
type Manifest struct {
	Schema   string            `json:"schema"`
	Tool     string            `json:"tool"`
	Made     string            `json:"made,omitempty"` // RFC 3339
	Name     string            `json:"name"`
	Release  string            `json:"release"`            // the release file
	Set      map[string]string `json:"set,omitempty"`      // in the place of what the file sets
	Variants []string          `json:"variants,omitempty"` // that were asked for; none is all
	Read     []ReadFile        `json:"read"`               // by name
	Products []ProductProof    `json:"products"`
}

// ReadFile is a file that was read.
type ReadFile struct {
	File   string `json:"file"`
	Role   string `json:"role"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// ProductProof says of one product how it was made.
type ProductProof struct {
	Variant   string            `json:"variant,omitempty"`
	Device    string            `json:"device,omitempty"` // what the map calls the part
	Set       map[string]string `json:"set"`
	Inputs    []InputProof      `json:"inputs"`
	Steps     []StepProof       `json:"steps"`
	Contents  ContentsProof     `json:"contents"`
	Regions   []RegionProof     `json:"regions,omitempty"`
	Checksums []ChecksumProof   `json:"checksums,omitempty"`
	Config    []ConfigProof     `json:"config,omitempty"`
	Findings  []FindingProof    `json:"findings,omitempty"`
	Outputs   []OutputProof     `json:"outputs"`
	Origins   OriginsProof      `json:"origins"`
}

// InputProof is an input of a product.
type InputProof struct {
	Name    string     `json:"name"`
	File    string     `json:"file"`
	Format  string     `json:"format"`
	Bytes   uint64     `json:"bytes"`
	Span    *SpanProof `json:"span,omitempty"`
	Region  string     `json:"region,omitempty"`
	Version string     `json:"version,omitempty"` // that it was found to hold
}

// Where returns where the input was placed; ok is false where it holds nothing.
func (p *InputProof) Where() (s memory.Span, ok bool) {
	if p.Span == nil {
		return s, false
	}
	return p.Span.span()
}

// SpanProof is a stretch of addresses, both included.
type SpanProof struct {
	First string `json:"first"`
	Last  string `json:"last"`
}

// StepProof is a step that was done.
type StepProof struct {
	Line    int      `json:"line"` // of the release file
	Do      string   `json:"do"`
	Changes []string `json:"did,omitempty"`
	Notes   []string `json:"notes,omitempty"`
}

// ContentsProof is the whole image.
type ContentsProof struct {
	Bytes  uint64      `json:"bytes"`
	Runs   []SpanProof `json:"runs"`
	Start  string      `json:"start,omitempty"`
	SHA256 string      `json:"sha256"`
	// Blocks tells in which part of the image something was changed since: the
	// CRC-32/ISO-HDLC of each stretch of Block bytes of each run, in hex digits one
	// behind the other.
	Block  uint64 `json:"block,omitempty"`
	Blocks string `json:"blocks,omitempty"`
}

// mostBlocks is how many blocks there are at the most, but for one more a run.
const mostBlocks = 4096

// setBlocks makes the blocks of an image.
func (c *ContentsProof) setBlocks(m *memory.Image) {
	const least = 64
	c.Block = least
	for c.Block*mostBlocks < m.Bytes() {
		c.Block *= 2
	}
	var b strings.Builder
	for _, run := range m.Runs() {
		for block := range slices.Chunk(run.Data, int(c.Block)) {
			fmt.Fprintf(&b, "%08X", crc32.ChecksumIEEE(block))
		}
	}
	c.Blocks = b.String()
}

// ConfigProof is a configuration word as the image gives it.
type ConfigProof struct {
	Name   string    `json:"name"`
	Span   SpanProof `json:"span"`
	Value  string    `json:"value"`
	Fields []string  `json:"fields"` // name and meaning of each
}

// RegionProof says how much of a region is used.
type RegionProof struct {
	Name string    `json:"name"`
	Span SpanProof `json:"span"`
	Used uint64    `json:"used"`
}

// Where returns where the region lies.
func (p *RegionProof) Where() (memory.Span, bool) { return p.Span.span() }

// Sizes returns the sizes of the symbols of which anything is in the image; of a name
// that is there more than once, all together.
func (p *OriginsProof) Sizes() map[string]uint64 {
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

// ChecksumProof is a declared checksum as the image holds it.
type ChecksumProof struct {
	Name string    `json:"name"`
	Kind string    `json:"kind"`
	In   SpanProof `json:"in"`
	// Further are further spans that it is computed over.
	Further []SpanProof `json:"also,omitempty"`
	At      string      `json:"at"`
	Value   string      `json:"value"`
}

// FindingProof is a finding of the check: a note, or one that was accepted.
type FindingProof struct {
	Severity string     `json:"severity"`
	Rule     string     `json:"rule"`
	Name     string     `json:"name,omitempty"`
	Accepted bool       `json:"accepted"`
	Span     *SpanProof `json:"span,omitempty"`
	Origin   string     `json:"origin,omitempty"`
	What     string     `json:"what"`
	Expected string     `json:"expected,omitempty"`
}

// OutputProof is an output.
type OutputProof struct {
	Name   string `json:"name,omitempty"`
	File   string `json:"file"`
	Format string `json:"format"` // a format's word, text, or picture
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	First  string `json:"first,omitempty"` // of raw bytes, the address of the first
}

// OriginsProof says where every byte came from, as [memory.Origins] has it.
type OriginsProof struct {
	Inputs []OriginProof      `json:"inputs"`
	Tables []OriginTableProof `json:"trails"`
}

// OriginProof is a file, a section of one, or an operation.
type OriginProof struct {
	File    string `json:"file,omitempty"`
	Section string `json:"section,omitempty"`
	Counts  string `json:"counts,omitempty"` // lines or offsets, of files
	Step    string `json:"step,omitempty"`   // an operation, and where the release file has it
	// Of a program's section: where its first byte was placed, its symbols (name,
	// first position, size), source files, and from which position on which symbol
	// and which line of which file hold, by number; -1 is none.
	At      string        `json:"at,omitempty"`
	Symbols []symbolProof `json:"symbols,omitempty"`
	Sources []string      `json:"sources,omitempty"`
	Details [][4]int64    `json:"details,omitempty"`
}

// symbolProof is a symbol as a list of three.
type symbolProof struct {
	Name        string
	First, Size uint64
}

// MarshalJSON writes a symbol as a list.
func (s symbolProof) MarshalJSON() ([]byte, error) {
	return json.Marshal([]any{s.Name, s.First, s.Size})
}

// UnmarshalJSON reads a symbol from a list.
func (s *symbolProof) UnmarshalJSON(text []byte) error {
	var list []json.RawMessage
	if err := json.Unmarshal(text, &list); err != nil {
		return err
	}
	const fields = 3
	if len(list) != fields {
		return fmt.Errorf("a symbol has %d values; %d expected", len(list), fields)
	}
	return errors.Join(json.Unmarshal(list[0], &s.Name), json.Unmarshal(list[1], &s.First), json.Unmarshal(list[2], &s.Size))
}

// mostDetails is how many entries are kept of one section; of a longer one symbols
// and lines are left out, and its file knows them.
const mostDetails = 20_000

// setDetails keeps what an input knows of its positions.
func (p *OriginProof) setDetails(list []source.Detail) {
	if len(list) > mostDetails {
		return
	}
	symbols, files := map[symbolProof]int64{}, map[string]int64{}
	for _, d := range list {
		entry := [4]int64{int64(d.Position), -1, -1, int64(d.Line)}
		if d.Symbol != "" {
			key := symbolProof{d.Symbol, d.Begins, d.Size}
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
func (p *OriginProof) detail() func(uint64) string {
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

// OriginTableProof is a list of stretches: first address, size, number of the source,
// position of the first byte, bytes on each line (0 puts all at the position), and
// bytes of its line before the first one.
type OriginTableProof struct {
	Pieces  []pieceProof  `json:"pieces"`
	Sources []SourceProof `json:"springs"`
}

// SpringProof is what bytes come from.
type SourceProof struct {
	Input int    `json:"input"`
	Over  int    `json:"over,omitempty"`
	From  []int  `json:"from,omitempty"`
	Rule  string `json:"rule,omitempty"`
	Delta string `json:"delta,omitempty"`
	Word  uint64 `json:"word,omitempty"`
	Lanes uint64 `json:"lanes,omitempty"`
	Lane  uint64 `json:"lane,omitempty"`
}

// pieceProof is a piece as a list of six.
type pieceProof memory.OriginPiece

// MarshalJSON writes a piece as a list.
func (p pieceProof) MarshalJSON() ([]byte, error) {
	return fmt.Appendf(nil, `["%s",%d,%d,%d,%d,%d]`, addressText(p.First), p.Size, p.Source, p.Position, p.Each, p.Phase), nil
}

// UnmarshalJSON reads a piece from a list.
func (p *pieceProof) UnmarshalJSON(text []byte) error {
	var list []json.RawMessage
	if err := json.Unmarshal(text, &list); err != nil {
		return err
	}
	const fields = 6
	if len(list) != fields {
		return fmt.Errorf("a piece has %d values; %d expected", len(list), fields)
	}
	var first string
	if err := json.Unmarshal(list[0], &first); err != nil {
		return err
	}
	var err error
	if p.First, err = parseAddress(first); err != nil {
		return err
	}
	for i, into := range []any{&p.Size, &p.Source, &p.Position, &p.Each, &p.Phase} {
		if err := json.Unmarshal(list[i+1], into); err != nil {
			return err
		}
	}
	return nil
}

func addressText(a uint64) string { return strings.ReplaceAll(memory.FormatAddress(a), "_", "") }

func parseAddress(text string) (uint64, error) {
	digits, ok := strings.CutPrefix(text, "0x")
	if !ok {
		return 0, fmt.Errorf("%q is no address", text)
	}
	return strconv.ParseUint(digits, 16, 64)
}

func spanProof(s memory.Span) SpanProof { return SpanProof{addressText(s.First), addressText(s.Last)} }

// manifest makes the manifest of a run, written are its outputs.
func (r *Result) manifest(files *source.Files, o Options, written []output.Written) *Manifest {
	f := r.File
	folder := f.outputFolder(o)
	m := &Manifest{Schema: ManifestSchema, Tool: o.Tool, Made: o.Made, Name: f.Title, Release: relative(folder, f.Name), Set: o.Set, Variants: o.Variants, Read: []ReadFile{}, Products: []ProductProof{}}
	for _, one := range files.Recorded() {
		if sum := one.SHA256(); sum != nil {
			name := one.Name
			if !one.Embedded {
				name = relative(folder, name)
			}
			m.Read = append(m.Read, ReadFile{name, one.Role, one.Size, hex.EncodeToString(sum)})
		}
	}
	slices.SortFunc(m.Read, func(a, b ReadFile) int { return strings.Compare(a.File+"\x00"+a.Role, b.File+"\x00"+b.Role) })
	m.Read = slices.Compact(m.Read)
	for _, p := range r.Products {
		m.Products = append(m.Products, p.proof(folder, written[:len(p.Outputs)]))
		written = written[len(p.Outputs):]
	}
	return m
}

// relative names a file from a folder; what cannot be named so by its last name.
func relative(folder, name string) string {
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
		return filepath.Base(name)
	}
	return filepath.ToSlash(out)
}

func (p *Product) proof(folder string, written []output.Written) ProductProof {
	out := ProductProof{Variant: p.Variant, Set: p.sets, Inputs: []InputProof{}, Steps: []StepProof{}, Outputs: []OutputProof{}}
	if p.Map != nil {
		out.Device = p.Map.Name
	}
	for _, in := range p.Inputs {
		one := InputProof{Name: in.Name, File: relative(folder, in.File), Format: in.Format.Word, Bytes: in.Image.Bytes(), Region: in.Region, Version: in.Version}
		if in.Span != nil {
			s := spanProof(*in.Span)
			one.Span = &s
		}
		out.Inputs = append(out.Inputs, one)
	}
	for _, s := range p.Steps {
		out.Steps = append(out.Steps, StepProof(s))
	}
	digest := p.digest()
	out.Contents = ContentsProof{Bytes: p.Image.Bytes(), Runs: []SpanProof{}, SHA256: hex.EncodeToString(digest[:])}
	for _, run := range p.Image.Runs() {
		out.Contents.Runs = append(out.Contents.Runs, spanProof(run.Span()))
	}
	if s := p.Image.Start(); s.Kind != memory.NoStart {
		out.Contents.Start = addressText(s.Address())
	}
	if !p.Image.Empty() {
		out.Contents.setBlocks(p.Image)
	}
	p.checkedProof(&out, folder)
	for i, o := range p.Outputs {
		one := OutputProof{Name: o.Name, File: relative(folder, o.File), Format: o.Format, Size: written[i].Size, SHA256: hex.EncodeToString(written[i].SHA256[:])}
		if o.Raw != nil {
			one.First = addressText(o.Raw.First)
		}
		out.Outputs = append(out.Outputs, one)
	}
	placed := map[string]uint64{} // where sections of programs went
	for _, in := range p.Inputs {
		if in.Program == nil || in.Mixed {
			continue
		}
		for _, s := range in.Program.Sections {
			if s.Loads {
				placed[in.File+"\x00"+s.Name] = in.Program.Placed(s.Load)
			}
		}
	}
	out.Origins = originsProof(folder, p.Image.Origins(), placed)
	return out
}

// checkedProof says what the map and the check say.
func (p *Product) checkedProof(out *ProductProof, folder string) {
	p.findingProofs(out, folder)
	if p.Map == nil {
		return
	}
	for i := range p.Map.Regions {
		r := &p.Map.Regions[i]
		out.Regions = append(out.Regions, RegionProof{r.Name, spanProof(r.Span), p.Image.Count(r.Span)})
	}
	values := map[string]string{}
	for _, c := range p.Checksums {
		values[c.Name] = c.Value
	}
	for i := range p.Map.Checksums {
		c := &p.Map.Checksums[i]
		spec, err := c.Spec(p.Map, p.Image)
		if values[c.Name] == "" || err != nil {
			continue
		}
		proof := ChecksumProof{Name: c.Name, Kind: c.Kind.Name, In: spanProof(spec.Feed.Spans[0]), At: addressText(spec.Place.First), Value: values[c.Name]}
		for _, s := range spec.Feed.Spans[1:] {
			proof.Further = append(proof.Further, spanProof(s))
		}
		out.Checksums = append(out.Checksums, proof)
	}
	for i := range p.Map.Config {
		w := &p.Map.Config[i]
		v, ok := w.In(p.Image)
		if !ok {
			continue
		}
		one := ConfigProof{Name: w.Name, Span: spanProof(w.Span()), Value: w.Format(v), Fields: []string{}}
		for j := range w.Fields {
			f := &w.Fields[j]
			meaning := "not defined"
			if value := f.Value(f.Of(v)); value != nil {
				meaning = value.Meaning
			}
			one.Fields = append(one.Fields, f.Name+": "+meaning)
		}
		out.Config = append(out.Config, one)
	}
}

// findingProofs says what was found, and what of it was accepted.
func (p *Product) findingProofs(out *ProductProof, folder string) {
	for _, f := range p.Checked.Findings {
		origin := f.Place.Text
		if f.Place.File != "" {
			origin = strings.ReplaceAll(origin, f.Place.File, relative(folder, f.Place.File))
		}
		one := FindingProof{Severity: f.Severity.String(), Rule: f.Rule, Name: f.Name, Accepted: f.Accepted, Origin: origin, What: f.What, Expected: f.Expected}
		if f.Where != nil {
			s := spanProof(*f.Where)
			one.Span = &s
		}
		out.Findings = append(out.Findings, one)
	}
}

// OriginsOf returns where the bytes of an image came from, as a manifest has it; files
// are named as a function names them.
func OriginsOf(m *memory.Image, named func(string) string) OriginsProof {
	o := m.Origins()
	out := originsProof("", o, nil)
	for i, in := range o.Inputs {
		if in.Counting != source.Operation {
			out.Inputs[i].File = named(in.Name)
		}
	}
	return out
}

func originsProof(folder string, o *memory.Origins, placed map[string]uint64) OriginsProof {
	out := OriginsProof{Inputs: []OriginProof{}, Tables: []OriginTableProof{}}
	for _, in := range o.Inputs {
		switch in.Counting {
		case source.Lines:
			out.Inputs = append(out.Inputs, OriginProof{File: relative(folder, in.Name), Section: in.Section, Counts: "lines"})
		case source.Offsets:
			one := OriginProof{File: relative(folder, in.Name), Section: in.Section, Counts: "offsets"}
			if in.Details != nil && in.Section != "" {
				one.setDetails(in.Details())
				if at, ok := placed[in.Name+"\x00"+in.Section]; ok {
					one.At = addressText(at)
				}
			}
			out.Inputs = append(out.Inputs, one)
		default:
			out.Inputs = append(out.Inputs, OriginProof{Step: in.Name})
		}
	}
	for _, t := range o.Tables {
		one := OriginTableProof{Pieces: []pieceProof{}, Sources: []SourceProof{}}
		for _, p := range t.Pieces {
			one.Pieces = append(one.Pieces, pieceProof(p))
		}
		for _, s := range t.Sources {
			src := SourceProof{Input: s.Input, Over: s.Over, From: s.From, Rule: s.Rule, Word: s.Word, Lanes: s.Lanes, Lane: s.Lane}
			if s.Delta != 0 {
				src.Delta = addressText(s.Delta)
			}
			one.Sources = append(one.Sources, src)
		}
		out.Tables = append(out.Tables, one)
	}
	return out
}

// Tracer returns what finds the origins of a product's bytes.
func (p *OriginsProof) Tracer() (*memory.Tracer, error) {
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
		one := memory.OriginTable{}
		for _, piece := range t.Pieces {
			one.Pieces = append(one.Pieces, memory.OriginPiece(piece))
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

// write writes a manifest: always the same for the same run.
func (m *Manifest) write(to io.Writer) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(m); err != nil {
		return err
	}
	_, err := to.Write(layOut(bytes.TrimSpace(b.Bytes())))
	return err
}

// layOut breaks JSON into lines, but for what lies deep in it: each input, step and
// output is a line, and so is each list of origins.
func layOut(text []byte) []byte {
	const deep = 4
	var out []byte
	depth, quoted := 0, false
	line := func() {
		out = append(out, '\n')
		for range depth {
			out = append(out, ' ')
		}
	}
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
	return append(out, '\n')
}

// proofs returns the files that tell of the outputs: the manifest and its
// signature, and the same facts in the words of standards.
func (r *Result) proofs(files *source.Files, o Options, written []output.Written) []output.File {
	name := r.File.manifestName(o)
	stem := strings.TrimSuffix(name, ManifestExtension)
	made := map[string][]byte{}
	if written != nil {
		m := r.manifest(files, o, written)
		var text bytes.Buffer
		steps := []func() error{
			func() error { return m.write(&text) },
			func() (err error) {
				sum := sha256.Sum256(text.Bytes())
				made[stem+ProvenanceExtension], err = m.Provenance(filepath.Base(name), hex.EncodeToString(sum[:]))
				return err
			},
			func() (err error) { made[stem+BillExtension], err = m.Bill(); return err },
			func() (err error) {
				if o.Sign != nil {
					made[name+SignatureExtension], err = sign(o.Sign, text.Bytes())
				}
				return err
			},
		}
		for _, step := range steps {
			if err := step(); err != nil {
				return []output.File{{Name: name, Write: func(io.Writer) error { return err }}}
			}
		}
		made[name] = text.Bytes()
	}
	var list []output.File
	add := func(name string, wanted bool) {
		if wanted {
			list = append(list, output.File{Name: name, Keep: true, Write: func(w io.Writer) error { _, err := w.Write(made[name]); return err }})
		}
	}
	add(name, true)
	add(name+SignatureExtension, o.Sign != nil)
	add(stem+ProvenanceExtension, o.Provenance)
	add(stem+BillExtension, o.Bill)
	return list
}

// manifestName is the name of a run's manifest; a run of some of the variants has
// one of its own.
func (f *File) manifestName(o Options) string {
	name := f.stem()
	if len(o.Variants) > 0 {
		variants := slices.Clone(o.Variants)
		slices.Sort(variants)
		name += "-" + strings.Join(slices.Compact(variants), "-")
	}
	return filepath.Join(f.outputFolder(o), name+ManifestExtension)
}

// LoadManifest reads a manifest strictly.
func LoadManifest(files *source.Files, name string) (*Manifest, error) {
	text, err := files.ReadAll(name, "manifest", MostManifest)
	if err != nil {
		return nil, err
	}
	bad := func(what string) error {
		return &source.Problem{File: name, What: what, Expected: "a manifest of the form " + ManifestSchema + " expected", Advice: source.Advise("damaged, or changed? get a fresh copy")}
	}
	m := &Manifest{}
	d := json.NewDecoder(strings.NewReader(string(text)))
	d.DisallowUnknownFields()
	if err := d.Decode(m); err != nil {
		return nil, bad(strings.TrimPrefix(err.Error(), "json: "))
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, bad("something stands behind the manifest")
	}
	if m.Schema != ManifestSchema {
		return nil, bad(fmt.Sprintf("it is of the form %q", m.Schema))
	}
	// A manifest is always written the same way.
	var again bytes.Buffer
	if err := m.write(&again); err != nil {
		return nil, err
	}
	was, is := bytes.Split(text, []byte("\n")), bytes.Split(again.Bytes(), []byte("\n"))
	for i := range max(len(was), len(is)) {
		if i >= len(was) || i >= len(is) || !bytes.Equal(was[i], is[i]) {
			return nil, &source.Problem{File: name, Line: i + 1, What: "it is not written as manifests are", Expected: "a manifest as it was made expected", Advice: source.Advise("it was changed? get a fresh copy")}
		}
	}
	return m, nil
}
