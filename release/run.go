package release

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/codec/format"
	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/output"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/span"

	"golang.org/x/sync/errgroup"
)

// Options say how a release file is run.
type Options struct {
	Set      map[string]string // in the place of those of the file
	Secrets  map[string]string // likewise, of those that are secret
	Variants []string          // which of them; nil is all
	Folder   string            // of the outputs; "" is that of the release file
	Dry      bool              // nothing is written
	Tool     string            // the program and its version, for the manifest
	Made     string            // the time for the manifest, RFC 3339; "" is none
	Depfile  string            // where the rule goes that says what outputs were made of; "" is nowhere
	Stamp    string            // a file that is written behind all others, so that a build tool sees when; "" is none
	Huge     bool              // results may be very much larger than what was read
	Again    bool              // units that were made before are made again
	Rows     Rows              // of a table of units, these alone
	// Sign signs the manifest, and what stands beside it in the words of standards; none leaves
	// them unsigned.
	Sign []*proof.Signer
	// ToSign is a file for just the bytes of which a signature is to be made elsewhere; "" is none.
	ToSign string
	// Provenance and Bill ask for an in-toto statement with SLSA provenance, and a
	// bill of materials, beside the manifest.
	Provenance, Bill bool
	// Progress is told how many units are made; nil is nobody.
	Progress *source.Progress
	salt     string // of digests of secrets
	// unwritten leaves out what would keep outputs from being written.
	unwritten bool
	// like is the manifest of the run that this one repeats, whose texts are not kept a second
	// time; nil is none.
	like *proof.Manifest
	// Draw draws a picture of a product, or its page, of the kind that a file's ending
	// says. It is called when the product's image is checked; what it returns is when
	// all outputs are known.
	Picture func(kind string, f *File, p *Product) func(io.Writer) error
}

// Result is what came of a run.
type Result struct {
	File     *File
	Products []*Product
	Manifest string // where it is; "" where nothing was written
}

// Product is what came of one product.
type Product struct {
	Variant string // "" is none
	Inputs  []Used
	Steps   []StepResult
	Map     *device.Map // as it is for the image; nil without one
	Checked *check.Result
	Image   *memory.Image // nil where it was let go, to be built again
	Outputs []Output
	Notes   []string
	// Checksums are the declared ones, as the image holds them.
	Checksums []Stored

	sets     map[string]string
	problems *source.Problems
	system   error // what the system did not allow; nil is nothing
	files    []output.File
	digest   func() [sha256.Size]byte // of the image
	uses     []check.Use              // of regions, by the inputs, before the steps
	let      *letGo                   // nil where the image is kept
}

// failedMaking is what is wrong, where the system had a part in it.
type failedMaking struct {
	problems error
	system   error
}

func (f *failedMaking) Error() string   { return f.problems.Error() }
func (f *failedMaking) Unwrap() []error { return []error{f.problems, f.system} }

// Used is an input that was read.
type Used struct {
	Name, File string
	Format     *format.Format
	Image      *memory.Image // as it was placed
	Span       *memory.Span  // where its bytes are after all steps; nil is nowhere in one piece
	Mixed      bool          // its bytes lie between those of others
	Region     string
	Version    string          // that it was found to hold; "" where none was asked for
	Program    *format.Program // of a linked program, as it was placed; nil for all others
	Read       *source.Read    // tells the file's digest, which may have to be waited for
}

// Stored is a declared checksum in an image.
type Stored struct{ Name, Value string }

// StepResult is a step that was done.
type StepResult struct {
	Line    int // of the release file
	Do      string
	Changes []string
	Notes   []string
}

// Output is an output.
type Output struct {
	Name     string       // what other outputs call it; "" is nothing
	File     string       // where it is
	What     string       // its format, and how much of the image it holds
	Format   string       // a format's word, text, or picture
	Raw      *memory.Span // of raw bytes, where they belong
	Size     uint64
	SHA256   [sha256.Size]byte
	Replaced bool
	Same     bool // the file that was there is the same, and was left alone
}

// reader reads each input once, whoever asks for it.
type reader struct {
	files *source.Files
	mu    sync.Mutex
	read  map[string]*readInput
	most  int // inputs that are kept; 0 is all. What units have of their own is read for them alone
}

type readInput struct {
	once     sync.Once
	file     *codec.File
	recorded *source.Read
	problems source.Problems
	err      error
}

func (r *reader) get(name string, in *input) *readInput {
	key := fmt.Sprintf("%s\x00%s\x00%v\x00%v\x00%+v", name, in.from, in.lenient, in.at != "" || in.shift != "", in.own)
	r.mu.Lock()
	one := r.read[key]
	if one == nil {
		one = &readInput{}
		if r.most == 0 || len(r.read) < r.most {
			r.read[key] = one
		}
	}
	r.mu.Unlock()
	one.once.Do(func() {
		file, err := r.files.Open(name, "image")
		if err != nil {
			one.err = err
			return
		}
		defer file.Close()
		one.recorded = file.Recorded()
		o := codec.ReadOptions{
			From:     in.choice,
			Lenient:  in.lenient,
			Cores:    runtime.GOMAXPROCS(0),
			Placed:   in.at != "" || in.shift != "",
			Settings: in.own,
		}
		one.file, one.err = codec.Read(file, file.Name, file.Size, o, &one.problems)
		if one.err == nil && one.file.Image == nil {
			_, one.err = io.Copy(io.Discard, io.LimitReader(file, format.Most))
		}
		if errors.Is(one.err, source.ErrTooLarge) {
			one.err = &source.Problem{File: name, What: "larger than " + memory.FormatSize(format.Most) + ", the most that is read"}
		}
	})
	return one
}

// chosen returns the variants that are asked for; nil stands for a release
// without any.
func (f *File) chosen(wanted []string) ([]*variantTable, error) {
	if len(f.table.Variants) == 0 {
		if len(wanted) > 0 {
			return nil, source.Keyf("variant", "%s has no variants", f.Name)
		}
		return []*variantTable{nil}, nil
	}
	var list []*variantTable
	var known []string
	for i := range f.table.Variants {
		v := &f.table.Variants[i]
		known = append(known, v.Name)
		if len(wanted) == 0 || slices.Contains(wanted, v.Name) {
			list = append(list, v)
		}
	}
	for _, name := range wanted {
		if !slices.Contains(known, name) {
			return nil, source.Keyf("variant", "%s has no variant %s; %s", f.Name, name, source.DidYouMean(name, known))
		}
	}
	return list, nil
}

// ErrFindings says that a check found something: nothing was written.
var ErrFindings = errors.New("the check found something")

// Run makes all products and writes their outputs together, or none. What is
// wrong is returned as [source.Problems]; where checks found something, the
// error is [ErrFindings] and the result says what. A context that ends leaves off,
// with its error.
func (f *File) Run(ctx context.Context, files *source.Files, o Options) (*Result, error) {
	if err := f.givenSecrets(&o); err != nil {
		return nil, err
	}
	o.salt = cmp.Or(o.salt, f.newSalt(f.manifestName(o)))
	plans, err := f.plans(files, o)
	if err != nil {
		return nil, err
	}
	files.Digest = true // for the manifest
	r := &Result{File: f, Products: buildAll(ctx, files, plans, o)}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	outputs, err := r.outputs()
	if err != nil {
		return r, err
	}
	for _, out := range append(r.proofs(files, o, nil), outputs...) {
		if err := o.stampIs(out.Name); err != nil {
			return r, err
		}
	}
	if o.Depfile != "" {
		var names []string
		for _, out := range outputs {
			names = append(names, out.Name)
		}
		rule, err := o.rule(files, names)
		if err != nil {
			return r, err
		}
		outputs = append(outputs, *rule)
	}
	switch {
	case o.unwritten:
		return r, nil
	case o.Dry:
		return r, output.Check(files, outputs)
	}
	if err := r.write(files, outputs, o); err != nil {
		return r, err
	}
	return r, o.stamped(files)
}

// plans plans the variants that are chosen.
func (f *File) plans(files *source.Files, o Options) (plans []*product, err error) {
	variants, err := f.chosen(o.Variants)
	if err != nil {
		return nil, err
	}
	for _, v := range variants {
		p, err := f.plan(files, v, o.given())
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	return plans, once(f.problems)
}

// buildAll builds the products of plans, as many at a time as there are cores.
func buildAll(ctx context.Context, files *source.Files, plans []*product, o Options) []*Product {
	products := make([]*Product, len(plans))
	shared := &reader{files: files, read: map[string]*readInput{}}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	var kept atomic.Int64 // bytes of images
	for i, p := range plans {
		group.Go(func() error {
			products[i] = p.build(ctx, shared, o)
			if m := products[i].Image; m != nil && kept.Add(int64(m.Bytes())) > mostKept {
				products[i].letGo(p.outputFolder(o), func() (*Product, error) { return p.build(ctx, shared, o), ctx.Err() })
				if products[i].let != nil && o.like != nil && i < len(o.like.Products) {
					products[i].let.proof.Contents.Share(&o.like.Products[i].Contents)
				}
			}
			return nil // a product has problems of its own
		})
	}
	group.Wait()
	return products
}

// outputs returns what is to be written; an error says what was wrong with the products, or
// that their check found something.
func (r *Result) outputs() (outputs []output.File, err error) {
	all := &source.Problems{}
	found := false
	for _, p := range r.Products {
		for _, q := range p.problems.Sorted() {
			all.Add(q)
		}
		found = found || p.Checked != nil && len(p.Checked.Counting()) > 0
		outputs = append(outputs, p.files...)
	}
	if err := once(all); err != nil {
		for _, p := range r.Products {
			if p.system != nil {
				return nil, &failedMaking{err, p.system}
			}
		}
		return nil, err
	}
	if found {
		return nil, ErrFindings
	}
	return outputs, nil
}

// write writes the outputs together, with the manifest, and keeps of each what came of it.
func (r *Result) write(files *source.Files, outputs []output.File, o Options) error {
	j, _, err := r.File.journal(o)
	if err != nil {
		return err
	}
	defer j.Close()
	for _, p := range r.Products {
		go p.digest() // beside the writing; the manifest asks for it
	}
	written, err := output.WriteThen(j, files, outputs, func(written []output.Written) []output.File { return r.proofs(files, o, written) })
	if err != nil {
		return err
	}
	r.Manifest = r.File.manifestName(o)
	for _, p := range r.Products {
		for i := range p.Outputs {
			m := &p.Outputs[i]
			w := written[0]
			written = written[1:]
			m.Replaced, m.Same, m.Size, m.SHA256 = w.Replaced, w.Same, uint64(w.Size), w.SHA256
		}
	}
	return nil
}

// journal opens the journal of the release's outputs.
func (f *File) journal(o Options) (*output.Journal, int, error) {
	return output.OpenJournal(f.journalName(o))
}

func (f *File) journalName(o Options) string { return journalName(f.Name, f.folder, o) }

func journalName(file, folder string, o Options) string {
	return filepath.Join(cmp.Or(o.Folder, folder), "."+stemOf(file)+o.Rows.suffix()+".journal")
}

// Finish puts the outputs of an earlier run of a release file in their places, which
// was killed while it did. It returns how many these were.
func Finish(file string, o Options) (int, error) {
	folder := filepath.Dir(file)
	if file == "-" {
		file, folder = source.StandardInput, "."
	}
	n, err := output.FinishJournal(journalName(file, folder, o))
	if errors.Is(err, output.ErrBusy) {
		return 0, nil // it is not killed
	}
	return n, err
}

func (f *File) outputFolder(o Options) string { return cmp.Or(o.Folder, f.folder) }

// stem is the release file's name without its extension.
func (f *File) stem() string { return stemOf(f.Name) }

func stemOf(file string) string { return strings.TrimSuffix(filepath.Base(file), Extension) }

// once returns problems as an error, each only once: several products may have
// the same ones.
func once(problems *source.Problems) error {
	seen := map[string]bool{}
	list := &source.Problems{}
	for _, p := range problems.Sorted() {
		if text := p.Error(); !seen[text] {
			seen[text] = true
			list.Add(p)
		}
	}
	return list.Err()
}

// build reads a product's inputs, makes its image, checks it, and prepares its
// outputs.
func (p *product) build(ctx context.Context, shared *reader, o Options) *Product {
	r := &Product{Variant: p.variant, sets: p.shown(p.names.values, o.salt), problems: &source.Problems{}}
	r.digest = sync.OnceValue(func() [sha256.Size]byte { return r.Image.Digest() })
	// Products run side by side: each has problems of its own.
	f := *p.File
	f.problems = r.problems
	f.settings = f.settings.Into(r.problems)
	p.File = &f
	m := &productBuilder{product: p, result: r, options: o, files: shared.files}
	for _, step := range []func(){func() { m.read(shared) }, m.applyAlone, m.merge, m.apply, m.check, m.prepare} {
		if step(); r.problems.Errors() > 0 || ctx.Err() != nil {
			break
		}
	}
	p.names.made = nil // it keeps the builder, with all images
	p.names.hider.product(r)
	return r
}

// productBuilder makes one product.
type productBuilder struct {
	*product
	result   *Product
	options  Options
	files    *source.Files
	programs format.Programs
	parts    []memory.Part
	known    span.Names // of the map, the parts and symbols
	image    *memory.Image
	merged   *memory.Image // of the inputs, before the steps
	bytes    uint64
	skip     int           // steps that are done
	doubts   []check.Part  // what readers said of the inputs
	places   []located     // of the parts
	draft    *memory.Draft // of image, for steps that change little of it
	uses     []usedRegion  // of regions, so far
}

// read reads the inputs and places them.
func (m *productBuilder) read(shared *reader) {
	m.known = span.Names{Symbols: &m.programs}
	if m.dev != nil {
		m.known = m.known.And(m.dev.Names()) // a list of its own
	}
	for _, in := range m.inputs {
		one := shared.get(m.path(in.file), in)
		for _, q := range one.problems.Sorted() {
			m.result.problems.Add(q)
		}
		if one.err != nil {
			m.inputError(in, one.err)
			continue
		}
		if one.problems.Errors() > 0 || one.file.Image == nil {
			continue
		}
		part := check.Part{Name: in.name, Image: one.file.Image, Problems: &one.problems, BuiltFor: in.builtFor}
		if p := one.file.Program; p != nil {
			part.Programs = []check.Program{{File: one.file.Name, Machine: p.Machine, Order: p.Order}}
		}
		m.doubts = append(m.doubts, part)
		m.place(in, one)
	}
}

// inputError adds why an input could not be read.
func (m *productBuilder) inputError(in *input, err error) {
	var p *source.Problem
	if errors.As(err, &p) {
		m.result.problems.Add(p)
		return
	}
	m.problem(in.path+".file", err.Error(), "", "")
	m.result.system = err
}

// place places an input that was read, and holds it against what the release
// file says of it.
func (m *productBuilder) place(in *input, one *readInput) {
	if in.sha256 != "" {
		if got := hex.EncodeToString(one.recorded.SHA256()); got != in.sha256 {
			if ends := source.LineEndsChanged(m.path(in.file), in.sha256); ends != "" {
				m.problem(in.path+".sha256", in.file+": "+ends, "the file with the SHA-256 in the release file", source.LineEndAdvice)
				return
			}
			m.problem(in.path+".sha256", fmt.Sprintf("%s has the SHA-256 %s", in.file, got), "the SHA-256 in the release file",
				"another file, or a changed one")
			return
		}
	}
	placing := operation.Placing{}
	var err error
	switch {
	case in.at != "":
		placing.Kind = operation.FirstAt
		placing.Value, err = span.Address(in.at, m.known)
		if note := m.known.MaybeWords(in.at); note != "" {
			m.result.Notes = append(m.result.Notes, note)
		}
	case in.shift != "":
		distance, down := strings.CutPrefix(in.shift, "-")
		if placing.Kind = operation.Up; down {
			placing.Kind = operation.Down
		}
		placing.Value, err = span.Address(strings.TrimPrefix(distance, "+"), m.known)
	}
	if err != nil {
		m.problem(in.path+".at", err.Error(), "", "")
		return
	}
	if placing.Kind == operation.AsIs && one.file.Format.Unplaced && !one.file.Image.Empty() && !m.mayBeUnplaced() &&
		!m.placedAlone(in.name) {
		all, _ := one.file.Image.Span()
		expected := "at = \"ADDRESS\""
		if names := check.Places(m.dev, in.file, all.Size()); len(names) > 0 {
			expected = fmt.Sprintf("at = \"%s.first\"", strings.Join(names, ".first\", or \""))
		}
		m.problem(in.path,
			fmt.Sprintf("%s contains %s bytes, which have no addresses, and no place is given", in.file, one.file.Format.Name), expected,
			"")
		return
	}
	where := fmt.Sprintf("place (%s)", m.at(m.settings.Line(in.path)))
	image, err := placing.Apply(one.file.Image, &source.Input{Name: where, Counting: source.Operation})
	if err != nil {
		m.problem(in.path, err.Error(), "", "")
		return
	}
	m.bytes += uint64(one.recorded.Size)
	used := Used{Name: in.name, File: one.file.Name, Format: one.file.Format, Image: image, Region: in.region, Read: one.recorded}
	if one.file.Program != nil {
		before, _ := one.file.Image.Span()
		after, _ := image.Span()
		used.Program = one.file.Program.Moved(after.First - before.First)
		m.programs.AddInput(in.name, one.file.Name, used.Program)
	}
	if all, ok := image.Span(); ok {
		m.known.Set("part."+in.name, all)
		if !m.changedAlone(in.name) {
			m.inRegion(in, all, image)
		}
	}
	used.Version = m.holdsVersion(in, image)
	m.result.Inputs = append(m.result.Inputs, used)
	m.parts = append(m.parts, memory.Part{Name: in.name, Image: image})
	all, _ := image.Span()
	m.places = append(m.places, located{span: all})
	if m.dev != nil {
		for _, name := range namesOf(in.at) {
			if r := m.dev.Region(name); r != nil {
				m.uses = append(m.uses, usedRegion{m.settings.Line(in.path + ".at"), name, r.Span})
			}
		}
	}
}

// changedAlone reports whether steps work on an input alone.
func (m *productBuilder) changedAlone(name string) bool {
	return slices.ContainsFunc(m.alone, func(s step) bool { return s.of == name })
}

// applyAlone does the steps that work on one input each, and holds the inputs against their
// regions then.
func (m *productBuilder) applyAlone() {
	for i := range m.alone {
		s := &m.alone[i]
		k := slices.IndexFunc(m.parts, func(p memory.Part) bool { return p.Name == s.of })
		if k < 0 || m.result.problems.Errors() > 0 {
			return // it could not be read
		}
		in := &m.result.Inputs[k]
		op := s.kind.New()
		outcome := m.outcome(s, op, m.parts[k:k+1])
		if outcome == nil {
			return
		}
		m.followAlone(s, op, in, outcome.Image())
		m.parts[k].Image, in.Image = outcome.Image(), outcome.Image()
		if all, ok := in.Image.Span(); ok {
			m.known.Set("part."+s.of, all)
			m.places[k] = located{span: all}
		}
	}
	for _, in := range m.inputs {
		k := slices.IndexFunc(m.parts, func(p memory.Part) bool { return p.Name == in.name })
		if k < 0 || !m.changedAlone(in.name) {
			continue
		}
		if all, ok := m.parts[k].Image.Span(); ok {
			m.inRegion(in, all, m.parts[k].Image)
		}
	}
}

// mayBeUnplaced reports whether inputs need no place: they are joined as lanes, or the
// only one is placed by a step.
func (m *productBuilder) mayBeUnplaced() bool {
	lanes := func(s step) bool {
		merge, ok := s.kind.New().(*operation.Merge)
		return ok && key.Set(merge.Keys(), m.switches(s)) == nil && merge.Lanes
	}
	place := func(s step) bool { return s.kind.Name == "place" }
	return len(m.steps) > 0 && m.steps[0].kind.Several && lanes(m.steps[0]) || len(m.inputs) == 1 && slices.ContainsFunc(m.steps, place)
}

// switches returns the settings of a step that are on or off.
func (m *productBuilder) switches(s step) (list []source.Setting) {
	for _, set := range s.list {
		if set.key == "lanes" {
			list = append(list, source.Setting{Key: set.key, Value: set.value})
		}
	}
	return list
}

// inRegion tells of an input that leaves the region in which it must lie.
func (m *productBuilder) inRegion(in *input, all memory.Span, image *memory.Image) {
	if in.region == "" || m.dev == nil {
		return
	}
	resolved, _ := m.dev.For(image)
	r := resolved.Region(in.region)
	if r == nil || r.Span.Covers(all) {
		return
	}
	outside := image.Drop(r.Span)
	first, _ := outside.Span()
	o, _ := outside.Origin(first.First)
	p := o.Problem(fmt.Sprintf("%s does not fit region %s: %s outside, first at %s", in.name, r.Name, memory.FormatBytes(outside.Bytes()),
		memory.FormatAddress(first.First)))
	p.Expected = fmt.Sprintf("all bytes inside %s", r.Span)
	m.result.problems.Add(p)
}

// holdsVersion returns the version that an input must hold, and tells of one that
// holds another.
func (m *productBuilder) holdsVersion(in *input, image *memory.Image) string {
	if in.versionAt == "" {
		return ""
	}
	version := in.version
	if version == "" {
		if version = m.names.values["version"]; version == "" {
			m.problem(in.path+".version-at", "no version to compare with", "version = \"TEXT\", or a variable of that name", "")
			return ""
		}
	}
	known := m.known
	if all, ok := image.Span(); ok {
		known = known.With("image", all)
	}
	at, err := span.Address(in.versionAt, known)
	if err != nil {
		m.problem(in.path+".version-at", err.Error(), "", "")
		return ""
	}
	text := textAt(image, at)
	if !holdsWord(text, version) {
		o, ok := image.Origin(at)
		if !ok {
			m.problem(in.path+".version-at", fmt.Sprintf("%s contains nothing at %s", in.name, memory.FormatAddress(at)),
				"the version "+version+" there", "")
			return ""
		}
		p := o.Problem(fmt.Sprintf("%s contains %q at %s", in.name, text, memory.FormatAddress(at)))
		p.Expected, p.Advice = "version "+version+"", source.Advise("the file may be of another version")
		m.result.problems.Add(p)
	}
	return version
}

// textAt returns the readable text at an address.
func textAt(image *memory.Image, at uint64) string {
	const longest = 80
	var text []byte
	for len(text) < longest {
		var b [1]byte
		if !image.ReadAt(b[:], at) || b[0] < 0x20 || b[0] > 0x7E {
			break
		}
		text = append(text, b[0])
		if at++; at == 0 {
			break
		}
	}
	return string(text)
}

// holdsWord reports whether a text holds a word that ends where the text or the
// word's kind of characters does: 2.4.1 is not in 12.4.1 nor in 2.4.10.
func holdsWord(text, word string) bool {
	part := func(c byte) bool {
		return c == '.' || c == '_' || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
	}
	for from := 0; word != ""; {
		i := strings.Index(text[from:], word)
		if i < 0 {
			return false
		}
		begin, end := from+i, from+i+len(word)
		if (begin == 0 || !part(text[begin-1])) && (end == len(text) || !part(text[end])) {
			return true
		}
		from = begin + 1
	}
	return false
}

// at names a line of the release file, as origins do: without its folder, which may
// be another one next time.
func (f *File) at(line int) string { return fmt.Sprintf("%s:%d", filepath.Base(f.Name), line) }

// environment returns what an operation at a step works in.
func (m *productBuilder) environment(s *step) *operation.Environment {
	e := &operation.Environment{Map: m.dev, Names: m.known, Cores: 1, Where: m.at(s.line), Draft: m.draft}
	if !m.options.Huge {
		e.Limit = memory.Proportion(m.bytes)
	}
	e.Read = func(name string) ([]byte, error) {
		if !filepath.IsAbs(name) {
			name = filepath.Join(m.folder, name)
		}
		return m.files.ReadAll(name, "value", format.Most)
	}
	return e
}

// merge lays the inputs together, as the first step says or by the rule.
func (m *productBuilder) merge() {
	s := step{kind: operation.KindOf("merge"), path: "input", line: m.settings.Line("input[0]")}
	if len(m.steps) > 0 && m.steps[0].kind.Several {
		s = m.steps[0]
		m.skip = 1
	}
	m.step(&s, m.parts)
}

// step does one step.
func (m *productBuilder) step(s *step, parts []memory.Part) {
	if m.image != nil && (m.draft == nil || m.draft.Image() != m.image) {
		m.draft = memory.NewDraft(m.image)
	}
	op := s.kind.New()
	outcome := m.outcome(s, op, parts)
	if outcome == nil {
		return
	}
	before := m.image // its runs; steps may have written to its bytes
	m.image = outcome.Image()
	if before == nil {
		before = m.image
	}
	if m.merged == nil {
		m.merged = m.image
	}
	m.usedBefore(s)
	m.use(s.line, m.regionsOf(s, op, outcome, before))
	m.follow(s, op, before, m.image)
}

// outcome does an operation, and keeps what it did for the report; nil is that it failed, and
// why is told.
func (m *productBuilder) outcome(s *step, op operation.Operation, parts []memory.Part) *operation.Outcome {
	m.names.made = m.outputs
	m.set(s.path, s.list, op.Keys(), m.names)
	if m.result.problems.Errors() > 0 {
		return nil
	}
	if err := op.Check(m.dev != nil); err != nil {
		m.keyProblem(s.path, err)
		return nil
	}
	outcome, err := op.Apply(m.environment(s), parts)
	if err == nil {
		err = operation.NothingLeft(parts, outcome, false)
	}
	if err != nil {
		m.stepError(s, err)
		return nil
	}
	for i := range outcome.Checksums {
		if r := &outcome.Checksums[i]; !r.AsExpected() {
			what := fmt.Sprintf("the value of %s over %s is %s", r.Kind.Name, memory.FormatSpans(r.Spans), r.Value)
			m.problem(s.path, what, r.Expected.String(), "")
			return nil
		}
	}
	done := StepResult{Line: s.line, Do: s.kind.Name, Changes: outcome.Changes, Notes: outcome.Notes}
	if s.of != "" {
		done.Do += " of " + s.of
	}
	done.Changes = append(done.Changes, operation.Summary(op, outcome)...)
	if s.secret {
		done.Changes = []string{"done; what it was given is secret"}
	}
	if s.path != "input" || len(done.Changes)+len(done.Notes) > 0 {
		m.result.Steps = append(m.result.Steps, done)
	}
	return outcome
}

// stepError adds why a step failed.
func (m *productBuilder) stepError(s *step, err error) {
	var clash *operation.ClashError
	var p *source.Problem
	var key *source.KeyError
	switch {
	case errors.As(err, &clash):
		for _, q := range clash.Problems {
			m.result.problems.Add(q)
		}
	case errors.As(err, &key):
		m.keyProblem(s.path, err)
	case errors.As(err, &p) && p.File != "":
		q := *p
		q.What = fmt.Sprintf("%s (%s:%d)", q.What, m.Name, s.line)
		m.result.problems.Add(&q)
	default:
		m.keyProblem(s.path, err)
	}
}

func (m *productBuilder) apply() {
	for i := m.skip; i < len(m.steps) && m.result.problems.Errors() == 0; i++ {
		m.step(&m.steps[i], []memory.Part{{Name: m.Title, Image: m.image}})
	}
}

// placed says of each input where its bytes are, now that all steps are done.
func (m *productBuilder) placed() {
	for i := range m.places {
		in, w := &m.result.Inputs[i], &m.places[i]
		if w.lost == "" && !in.Image.Empty() {
			in.Span = &w.span
		}
		if in.Program != nil {
			in.Program = in.Program.Moved(w.delta)
		}
		in.Mixed = w.mixed
	}
}

// check holds the image against the map; without one, what readers doubted is left.
func (m *productBuilder) check() {
	m.result.Image = m.image
	m.placed()
	parts, o := []check.Part{{Name: m.Title, Image: m.image}}, check.Options{Accept: m.table.Check.Accept, Inputs: m.doubts}
	defer func() {
		for _, a := range m.result.Checked.Unused {
			m.result.Notes = append(m.result.Notes, fmt.Sprintf("nothing was found for %s, which [check] accepts", a))
		}
	}()
	if m.dev == nil {
		m.result.Checked = check.Doubts(parts, o)
		return
	}
	m.result.Map, _ = m.dev.For(m.image)
	m.result.uses = check.Uses(m.result.Map, m.merged)
	for _, c := range m.result.Map.Checksums {
		if value, err := m.storedChecksum(c.Name); err == nil {
			m.result.Checksums = append(m.result.Checksums, Stored{c.Name, value})
		}
	}
	m.result.Checked = check.Run(m.dev, parts, o)
	for _, w := range m.dev.Warnings {
		m.result.Notes = append(m.result.Notes, w.Error())
	}
}
