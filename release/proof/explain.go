package proof

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"mexalt/codec"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// Question is what is asked of an output.
type Question struct {
	Output   string   // the file
	Manifest string   // "" looks beside the output
	Variant  string   // of what is no output, such as what a device said when it was read; "" where there is one product
	Unit     string   // likewise, of a manifest of units
	At       []string // addresses, spans and names
	Offset   string   // of a raw output, the place in the file, or a span of places
	From     string   // FILE:LINE or FILE+OFFSET of an input: where it went
}

// Explained answers it.
type Explained struct {
	Manifest string
	Product  *Product
	Changed  bool   // the output is not what the manifest says
	Why      string // of a changed output, where it is known
	Rows     []Row
	More     bool // there are more rows than are told
	// Nothing are the spans that were asked about and in which the output has no byte.
	Nothing []memory.Span
}

// Row is a stretch of bytes that came the same way.
type Row struct {
	memory.Span
	Data   []byte // of the image: not to be changed
	Region string
	Words  string   // the addresses as the device counts them, where it counts words
	From   string   // input and line, or section and offset; or the operation that made them
	To     string   // the last line or offset, where it is another
	Steps  []string // the operations since
	Over   []string // what was written over, the last first
	Covers []string // declared checksums that cover them
	Is     string   // the declared checksum whose value they are
	Config []string // what they mean as a configuration word
	Differ []Differs
	// Within are stretches in which something was changed, where it cannot be said
	// what it should be.
	Within []memory.Span
}

// Differs is a byte that is not what was made.
type Differs struct {
	Address uint64
	Found   byte
	Want    byte
}

// mostRows is how many stretches are explained at once, and how many holes named.
const mostRows = 1000

// Explain says where bytes of an output came from: which input, line or section,
// the steps that made or changed them, the checksums that cover them.
//
// A file of a unit is explained by its manifest of units: the unit is made again.
func Explain(files *source.Files, q Question, again Maker, units BatchMaker) (*Explained, error) {
	sum := sync.OnceValues(func() (string, error) {
		if info, err := os.Stat(q.Output); err != nil || !info.Mode().IsRegular() {
			return "", nil // a pipe is read once only, and is no output
		}
		_, sum, err := FileDigest(q.Output)
		return sum, err
	})
	go sum() // beside the manifest
	name, m, err := (&q).ofUnit(files, sum, units, &again)
	if m == nil && err == nil {
		name, m, err = (&q).manifest(files, sum)
	}
	if err != nil {
		return nil, err
	}
	e := &explainer{sum: sum, Explained: &Explained{Manifest: name}, files: files, folder: filepath.Dir(name), manifest: m, question: q}
	if err := e.find(); err != nil {
		return nil, err
	}
	if err := e.read(again); err != nil {
		return nil, err
	}
	spans, err := e.spans()
	if err != nil {
		return nil, err
	}
	for _, s := range memory.Union(spans) {
		e.explain(s)
		e.Nothing = append(e.Nothing, e.image.Holes(s)...)
	}
	if len(e.Nothing) > mostRows {
		e.Nothing, e.More = e.Nothing[:mostRows], true
	}
	if len(e.Rows) == 0 {
		return nil, &source.Problem{File: q.Output, What: "it contains nothing there"}
	}
	return e.Explained, nil
}

// beside returns the manifests in the folder of a file, those of which a name is.
func beside(file string, is func(name string) bool) (names []string, err error) {
	folder := filepath.Dir(file)
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, &source.SystemError{File: file, Doing: "read", Err: err}
	}
	for _, e := range entries {
		if is(e.Name()) {
			names = append(names, filepath.Join(folder, e.Name()))
		}
	}
	return names, nil
}

// BeginsBeside returns what tells whether another part begins at an address of a file's
// image than the one before it, by a manifest beside the file that tells of just this
// image. It is looked for when it is asked.
func BeginsBeside(file string, image *memory.Image) func(at uint64) bool {
	tracer := sync.OnceValue(func() *memory.Tracer {
		names, err := beside(file, ofRelease)
		if err != nil || len(names) == 0 || file == source.StandardInput {
			return nil
		}
		digest := fmt.Sprintf("%x", image.Digest())
		for _, name := range names {
			m, err := Load(&source.Files{}, name)
			if err != nil {
				continue
			}
			for i := range m.Products {
				if p := &m.Products[i]; p.Contents.SHA256 == digest {
					if t, err := p.Origins.Tracer(); err == nil {
						return t
					}
				}
			}
		}
		return nil
	})
	return func(at uint64) bool {
		t := tracer()
		if t == nil || at == 0 {
			return false
		}
		before, ok := t.Origin(at - 1)
		here, ok2 := t.Origin(at)
		return ok && ok2 && before.Input != here.Input
	}
}

// manifest reads the manifest that is named, or the one beside the output that
// tells of it.
func (q *Question) manifest(files *source.Files, digest func() (string, error)) (string, *Manifest, error) {
	if q.Manifest != "" {
		m, err := Load(files, q.Manifest)
		return q.Manifest, m, err
	}
	names, err := beside(q.Output, ofRelease)
	if err != nil {
		return "", nil, err
	}
	// Of several that tell of it, by its name or as it was renamed since, the one of
	// which it is still the file.
	var found string
	var told *Manifest
	var unread error // of a manifest that may be it
	for _, name := range names {
		m, err := Load(&source.Files{}, name)
		if err != nil {
			unread = cmp.Or(unread, err)
			continue
		}
		sum, _ := digest()
		for i := range m.Products {
			o := m.Products[i].output(filepath.Base(q.Output))
			if o != nil && told == nil || m.Products[i].outputWith(sum) != nil {
				found, told = name, m
			}
		}
	}
	if told == nil && unread != nil {
		return "", nil, unread
	}
	if told == nil {
		return q.recognized(files, names)
	}
	return found, told, nil
}

// ofUnit finds the unit that is meant, by the manifest of units that is named or one beside
// the output that lists it, and makes it again; nil is that there is none. again becomes what
// makes the unit.
func (q *Question) ofUnit(files *source.Files, digest func() (string, error), units BatchMaker, again *Maker) (string, *Manifest, error) {
	names := []string{q.Manifest}
	if q.Manifest == "" {
		var err error
		if names, err = beside(q.Output, func(name string) bool { return strings.HasSuffix(name, BatchExtension) }); err != nil {
			return "", nil, err
		}
	} else if !strings.HasSuffix(q.Manifest, BatchExtension) {
		if q.Unit != "" {
			return "", nil,
				source.Keyf("unit", "has no effect with %s, which is of a release; units have NAME%s", q.Manifest, BatchExtension)
		}
		return "", nil, nil
	}
	for _, name := range names {
		b, err := LoadBatch(files, name)
		if err != nil && q.Manifest == "" && q.Unit == "" {
			continue // it may be of others
		}
		if err != nil {
			return "", nil, err
		}
		u, err := q.unitIn(b, filepath.Dir(name), digest)
		if err != nil {
			return "", nil, err
		}
		if u == nil {
			continue
		}
		made, err := units(b, filepath.Dir(name))
		if err != nil {
			return "", nil, err
		}
		one, err := made.Unit(u)
		if err != nil {
			return "", nil, err
		}
		is, written, err := one.written()
		if err != nil {
			return "", nil, err
		}
		m := one.Manifest(b.Tool, b.Made, written)
		if !slices.Equal(is.Outputs, u.Outputs) {
			return "", nil, &source.Problem{
				File:   name,
				What:   fmt.Sprintf("rebuilding unit %d gives other bytes, so these cannot be explained", u.Row),
				Advice: source.Advise("confirm the manifest: it says which input was modified"),
			}
		}
		*again = func(*Manifest, string) (*Remade, error) { return one.Remade, nil }
		q.Variant = cmp.Or(q.Variant, m.Products[0].Variant)
		return name, m, nil
	}
	switch {
	case q.Unit != "" && len(names) == 0:
		return "", nil, source.Keyf("unit", "there is no manifest of units next to %s; name it with `manifest`", q.Output)
	case q.Manifest != "":
		if _, err := os.Stat(q.Output); err != nil && q.Output != source.StandardInput {
			return "", nil, &source.SystemError{File: q.Output, Doing: "read", Err: err}
		}
		return "", nil, source.Keyf("unit", "missing; %s lists no such file as %s, so its unit is to be named", q.Manifest, q.Output)
	}
	return "", nil, nil
}

// unitIn returns the unit of a batch that is asked for, or whose output the file is; nil is none.
func (q *Question) unitIn(b *Batch, folder string, digest func() (string, error)) (*Unit, error) {
	if q.Unit != "" {
		return b.Unit(q.Unit)
	}
	inside, err := filepath.Rel(folder, q.Output)
	if err != nil {
		inside = filepath.Base(q.Output)
	}
	sum, err := digest()
	for i := range b.Units {
		if u := &b.Units[i]; u.output(filepath.ToSlash(inside)) != nil || err == nil && u.outputWith(sum) != nil {
			return u, nil
		}
	}
	return nil, nil
}

// recognized finds the manifest of what is no output, such as a read-back, by what it
// contains; the variant too, unless one was given.
func (q *Question) recognized(files *source.Files, names []string) (string, *Manifest, error) {
	none := source.Keyf("manifest", "missing; no manifest next to %s lists it", q.Output)
	f, err := files.Open(q.Output, "output")
	if err != nil {
		return "", nil, err
	}
	defer f.Close()
	var problems source.Problems
	read, err := codec.Read(f, f.Name, f.Size, codec.ReadOptions{Lenient: true, Cores: runtime.GOMAXPROCS(0)}, &problems)
	if err != nil || problems.Err() != nil || read.Image == nil {
		return "", nil, none
	}
	matched := Match(read.Image, "", read.Format.Unplaced, names)
	if len(matched.Candidates) == 0 {
		return "", nil, none
	}
	best := &matched.Candidates[0]
	if best.Equal < best.Differ { // it has something in common with it, and no more
		return "", nil, none
	}
	if q.Variant == "" {
		q.Variant = best.Variant
	}
	m, err := Load(files, best.Manifest)
	return best.Manifest, m, err
}

func (p *Product) output(name string) *Output {
	i := slices.IndexFunc(p.Outputs, func(o Output) bool { return o.File == name })
	if i < 0 {
		return nil
	}
	return &p.Outputs[i]
}

// outputWith returns the output that a file is by its digest, whatever it is called.
func (p *Product) outputWith(sum string) *Output {
	i := slices.IndexFunc(p.Outputs, func(o Output) bool { return o.SHA256 == sum })
	if i < 0 {
		return nil
	}
	return &p.Outputs[i]
}

type explainer struct {
	*Explained
	sum      func() (string, error) // the output's digest
	files    *source.Files
	folder   string
	manifest *Manifest
	question Question
	output   *Output
	tracer   *memory.Tracer
	image    *memory.Image // what is at hand
	expected *memory.Image // what was made; nil where that cannot be known
	changed  []memory.Span // blocks that are not what they were
	names    span.Names
}

// find finds the product of the output.
func (e *explainer) find() error {
	inside, err := filepath.Rel(e.folder, e.question.Output)
	if err != nil {
		inside = filepath.Base(e.question.Output)
	}
	for i := range e.manifest.Products {
		p := &e.manifest.Products[i]
		if o := p.output(filepath.ToSlash(inside)); o != nil {
			e.Product, e.output = p, o
		}
	}
	if e.Product == nil { // renamed, or copied elsewhere
		sum, _ := e.sum()
		for i := range e.manifest.Products {
			p := &e.manifest.Products[i]
			if o := p.outputWith(sum); o != nil && (e.Product == nil || p.Variant == e.question.Variant) {
				e.Product, e.output = p, o
			}
		}
	}
	if v := e.question.Variant; v != "" && (e.Product == nil || e.Product.Variant != v) {
		var known []string
		for i := range e.manifest.Products {
			known = append(known, e.manifest.Products[i].Variant)
		}
		switch {
		case !slices.Contains(known, v):
			return source.Keyf("variant", "%s has no variant %s; %s", e.Explained.Manifest, v, source.DidYouMean(v, known))
		case e.Product != nil:
			return source.Keyf("variant", "%s is of variant %s, and not of %s", inside, e.Product.Variant, v)
		}
	}
	if e.Product == nil { // what a device said when it was read
		var known []string
		for i := range e.manifest.Products {
			p := &e.manifest.Products[i]
			known = append(known, p.Variant)
			if p.Variant == e.question.Variant {
				e.Product = p
			}
		}
		if e.Product == nil {
			return source.Keyf("variant", "%s does not list the output %s; name its variant, one of %s", e.Explained.Manifest, inside,
				strings.Join(known, ", "))
		}
	}
	if e.output != nil && (e.output.Format == "text" || e.output.Format == "picture") {
		return &source.Problem{File: e.question.Output, What: "it is a " + e.output.Format + ", and contains no image"}
	}
	if e.tracer, err = e.Product.Origins.Tracer(); err != nil {
		return &source.Problem{File: e.Explained.Manifest, What: "its origins do not fit together: " + err.Error()}
	}
	return nil
}

// read reads the output, and finds out whether it is what was made.
func (e *explainer) read(again Maker) error {
	f, err := e.files.Open(e.question.Output, "output")
	if err != nil {
		return err
	}
	defer f.Close()
	options := codec.ReadOptions{Lenient: true, Cores: runtime.GOMAXPROCS(0)}
	if e.output != nil {
		if options.From, err = codec.ParseChoice(e.output.Format, false); err != nil {
			return &source.Problem{
				File:   e.question.Output,
				What:   "its format is not one that is read",
				Advice: source.Advise("ask of another output"),
			}
		}
	}
	var problems source.Problems
	read, err := codec.Read(f, f.Name, f.Size, options, &problems)
	if err != nil {
		return err
	}
	if err := problems.Err(); err != nil {
		return err
	}
	e.image = read.Image
	first := ""
	if e.output != nil {
		first = e.output.First
	} else if read.Format.Unplaced && len(e.Product.Contents.Runs) > 0 {
		first = e.Product.Contents.Runs[0].First // a read-back begins where the image does
	}
	if at, err := parseAddress(first); first != "" && err == nil {
		if moved, ok := e.image.Move(at, false, &source.Input{Name: "place", Counting: source.Operation}); ok {
			e.image = moved
		}
	}
	if e.Changed, err = e.other(f.Size); err != nil {
		return err
	}
	if e.Changed {
		e.changed = e.Product.Contents.changed(e.image)
		if e.output != nil {
			e.Why = source.LineEndsChanged(e.question.Output, e.output.SHA256)
		}
		e.expected = e.again(again)
	} else {
		e.expected = e.image
	}
	e.setNames()
	return nil
}

// other reports whether the file is not what was made.
func (e *explainer) other(size int64) (bool, error) {
	if e.output == nil || size != e.output.Size {
		return true, nil
	}
	sum, err := e.sum()
	return sum != e.output.SHA256, err
}

// again makes the product's image anew, where what it was made of is at hand.
func (e *explainer) again(again Maker) *memory.Image {
	r, err := again(e.manifest, e.folder)
	if err != nil {
		return nil
	}
	for _, p := range r.Products {
		if p.Variant != e.Product.Variant {
			continue
		}
		if m := p.Image(); m != nil && fmt.Sprintf("%x", m.Digest()) == e.Product.Contents.SHA256 {
			return m
		}
	}
	return nil
}

func (s *Span) span() (memory.Span, bool) {
	first, err := parseAddress(s.First)
	last, err2 := parseAddress(s.Last)
	return memory.Span{First: first, Last: last}, err == nil && err2 == nil && first <= last
}

// symbols are those that a manifest keeps, by name.
type symbols map[string][]memory.Span

// Symbol returns where a symbol went.
func (s symbols) Symbol(name string) (first, size uint64, err error) {
	switch found := s[name]; len(found) {
	case 0:
		if near := source.Nearest(name, slices.Sorted(maps.Keys(s))); near != "" {
			return 0, 0, fmt.Errorf("no symbol %s; did you mean %s?", name, near)
		}
		return 0, 0, fmt.Errorf("no symbol %s", name)
	case 1:
		return found[0].First, found[0].Size(), nil
	}
	return 0, 0, fmt.Errorf("%s is the name of several symbols", name)
}

// setNames makes the names that questions may use: regions, inputs, symbols.
func (e *explainer) setNames() {
	symbols := symbols{}
	e.names.Symbols = symbols
	for i := range e.Product.Regions {
		if s, ok := e.Product.Regions[i].Span.span(); ok {
			e.names.Set(e.Product.Regions[i].Name, s)
			if w := e.Product.Regions[i].Words; w != nil && w.Unit > 0 {
				if first, err := span.Number(w.First); err == nil {
					e.names.Words = append(e.names.Words, span.Words{First: first, In: s, Unit: w.Unit})
				}
			}
		}
	}
	for _, in := range e.Product.Inputs {
		if in.Span == nil {
			continue
		}
		s, ok := in.Span.span()
		if !ok {
			continue
		}
		e.names.Set("part."+in.Name, s)
	}
	for i := range e.Product.Origins.Inputs {
		in := &e.Product.Origins.Inputs[i]
		if at, err := parseAddress(in.At); in.At != "" && err == nil {
			for _, s := range in.Symbols {
				symbols[s.Name] = append(symbols[s.Name], memory.Span{First: at + s.First, Last: at + s.First + max(s.Size, 1) - 1})
			}
		}
	}
	if all, ok := e.image.Span(); ok {
		e.names.Set("image", all)
	}
}

// spans returns what is asked about.
func (e *explainer) spans() ([]memory.Span, error) {
	var list []memory.Span
	for _, text := range e.question.At {
		s, err := span.Span(text, e.names)
		if err != nil {
			return nil, &source.KeyError{Key: "at", Err: err}
		}
		list = append(list, s)
	}
	if e.question.Offset != "" {
		s, err := span.Span(e.question.Offset, span.Names{})
		if err != nil {
			return nil, &source.KeyError{Key: "offset", Err: err}
		}
		if e.output == nil || e.output.First == "" {
			return nil, source.Keyf("offset", "has no effect on %s, which has addresses", e.question.Output)
		}
		first, err := parseAddress(e.output.First)
		if err != nil || first+s.Last < first {
			return nil, source.Keyf("offset", "runs past the last 64-bit address")
		}
		list = append(list, memory.Span{First: first + s.First, Last: first + s.Last})
	}
	if e.question.From != "" {
		found, err := e.went()
		if err != nil {
			return nil, err
		}
		list = append(list, found...)
	}
	if len(list) == 0 {
		return nil, source.Keyf("at", "missing; give an address, a span, a name, or `from` with an input's line")
	}
	return list, nil
}

// went returns where a line, or a byte, of an input went.
func (e *explainer) went() ([]memory.Span, error) {
	text := e.question.From
	file, place, lines := text, "", true
	if i := strings.LastIndexByte(text, ':'); i > 0 {
		file, place = text[:i], text[i+1:]
	} else if i := strings.LastIndexByte(text, '+'); i > 0 {
		file, place, lines = text[:i], text[i+1:], false
	}
	position, err := strconv.ParseUint(place, 0, 64)
	if err != nil {
		return nil, source.Keyf("from", "%q is neither FILE:LINE nor FILE+OFFSET", text)
	}
	want := source.Offsets
	if lines {
		want = source.Lines
	}
	known := false
	var list []memory.Span
	for _, run := range e.image.Runs() {
		for at := run.First; ; at++ {
			if o, ok := e.tracer.Origin(at); ok && o.Input.Name == file && o.Input.Counting == want {
				known = true
				if o.Position == position {
					list = append(list, memory.Span{First: at, Last: at})
				}
			}
			if at == run.Last() {
				break
			}
		}
	}
	switch {
	case !known:
		return nil, source.Keyf("from", "%s contains nothing of %s", e.question.Output, file)
	case len(list) == 0:
		return nil, source.Keyf("from", "%s contains nothing of %s", e.question.Output, text)
	}
	return memory.Union(list), nil
}

// changed returns the blocks of an image that are not what they were. Of those
// that it does not hold whole nothing can be said.
func (c *Contents) changed(m *memory.Image) (list []memory.Span) {
	x := &matcher{image: m, sums: map[memory.Span]blockSum{}}
	c.eachBlock(func(block memory.Span, digest uint64, ok bool) {
		if s := x.sum(block, 0); s.whole && (!ok || s.digest != digest) {
			list = append(list, block)
		}
	})
	return memory.Union(list)
}

// explain adds the rows of a span.
func (e *explainer) explain(s memory.Span) {
	var row *Row
	begin := 0 // of the row, in the run
	var last memory.Origin
	add := func() {
		if row != nil {
			if row.To = last.Input.Place(last.Position); row.To == row.From || last.Input.Counting == source.Operation {
				row.To = ""
			}
			e.finish(row)
			e.Rows = append(e.Rows, *row)
			row = nil
		}
	}
	for run := range e.image.In(s) {
		add()
		for i, b := range run.Data {
			at := run.First + uint64(i)
			o, ok := e.tracer.Origin(at)
			if !ok {
				o = memory.Origin{Input: &source.Input{Name: "nothing that was made", Counting: source.Operation}}
			}
			if row != nil && (e.region(at) != row.Region || !follows(last, o)) {
				add()
			}
			if row == nil {
				if len(e.Rows) == mostRows {
					e.More = true
					return
				}
				row, begin = &Row{Span: memory.Span{First: at}, Region: e.region(at), From: o.Place()}, i
				for _, step := range o.Steps {
					row.Steps = append(row.Steps, step.Name)
				}
				for over := o.Over; over != nil; over = over.Over {
					row.Over = append(row.Over, over.String())
				}
			}
			row.Last, row.Data, last = at, run.Data[begin:i+1:i+1], o
			var want [1]byte
			if e.Changed && e.expected != nil && e.expected.ReadAt(want[:], at) && want[0] != b {
				row.Differ = append(row.Differ, Differs{at, b, want[0]})
			}
		}
	}
	add()
}

// follows reports whether a byte came as the one before it.
func follows(a, b memory.Origin) bool {
	if a.Input != b.Input || len(a.Steps) != len(b.Steps) || (a.Over == nil) != (b.Over == nil) {
		return false
	}
	for i := range a.Steps {
		if a.Steps[i] != b.Steps[i] {
			return false
		}
	}
	return a.Over == nil || a.Over.Input == b.Over.Input
}

func (e *explainer) region(at uint64) string {
	if r, _ := e.regionAt(at); r != nil {
		return r.Name
	}
	return ""
}

// regionAt returns the region at an address, and where it is; nil is none.
func (e *explainer) regionAt(at uint64) (*Region, memory.Span) {
	for i := range e.Product.Regions {
		if s, ok := e.Product.Regions[i].Span.span(); ok && s.Contains(at) {
			return &e.Product.Regions[i], s
		}
	}
	return nil, memory.Span{}
}

// words returns the addresses of a row as the device counts them; "" is that it counts bytes.
func (e *explainer) words(row memory.Span) string {
	r, in := e.regionAt(row.First)
	if r == nil || r.Words == nil || r.Words.Unit == 0 {
		return ""
	}
	number, err := span.Number(r.Words.First)
	if err != nil {
		return ""
	}
	first, last := number+(row.First-in.First)/r.Words.Unit, number+(min(row.Last, in.Last)-in.First)/r.Words.Unit
	if first == last {
		return "word " + memory.FormatAddress(first)
	}
	return "words " + memory.FormatAddress(first) + ".." + memory.FormatAddress(last)
}

// finish adds what the declared checksums have to do with a row.
func (e *explainer) finish(row *Row) {
	row.Words = e.words(row.Span)
	if e.Changed && e.expected == nil {
		for _, s := range e.changed {
			if both, ok := s.Meet(row.Span); ok {
				row.Within = append(row.Within, both)
			}
		}
	}
	for i := range e.Product.Config {
		w := &e.Product.Config[i]
		if s, ok := w.Span.span(); ok {
			if _, is := s.Meet(row.Span); is {
				row.Config = append(row.Config, fmt.Sprintf("%s %s", w.Name, w.Value))
				row.Config = append(row.Config, w.Fields...)
			}
		}
	}
	for i := range e.Product.Checksums {
		c := &e.Product.Checksums[i]
		in, ok := c.In.span()
		at, err := parseAddress(c.At)
		if !ok || err != nil {
			continue
		}
		text := fmt.Sprintf("%s, %s over %s", c.Name, c.Kind, in.Range())
		_, covers := in.Meet(row.Span)
		for _, also := range c.Further {
			if s, ok := also.span(); ok {
				text += ", " + s.Range()
				_, meets := s.Meet(row.Span)
				covers = covers || meets
			}
		}
		if covers {
			row.Covers = append(row.Covers, text)
		}
		if value, ok := memory.SpanOf(at, uint64(len(c.Value)/2)); ok {
			if _, is := value.Meet(row.Span); is {
				row.Is = text
			}
		}
	}
}
