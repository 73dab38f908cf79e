package proof

import (
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/mod/semver"
	"golang.org/x/sync/errgroup"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// Matched is which release an image is, or is nearest to.
type Matched struct {
	Manifests int     // that were read
	Products  int     // of these
	Unread    []error // of what is called a manifest and is none
	// Candidates are the products that have something in common with the image, the nearest
	// first, at most mostCandidates.
	Candidates []Candidate
	More       int   // candidates that are not told
	Torn       *Torn // where the image is of two releases
}

// Candidate is a product that an image may be of.
type Candidate struct {
	Manifest string
	Release  string // the name of the release
	Version  string // the set of that name; "" where it has none
	Variant  string
	Output   string // which of its outputs the file is, byte for byte; "" is none
	Input    string // which of its inputs it is
	Device   string
	// Newer is the newest version of the same release among the manifests, where there is
	// a newer one; and where.
	Newer, NewerIn string
	// First is where the first byte of raw bytes lies, so that they are most alike; nil is
	// of images that have addresses.
	First *uint64
	// Equal is how many bytes lie in blocks that are as they were made, and Differ in those
	// that are not. Of Missing the image has nothing, of Partial not the whole block.
	Equal, Differ    uint64
	Missing, Partial []memory.Span
	// Other is what the image has beyond it that is not erased.
	Other []memory.Span
	// Differences say of stretches that are not as they were made what lies there.
	Differences []Difference

	telling uint64 // equal bytes that are not erased or all of one value
	equal   []memory.Span
	differ  []memory.Span
	product *Product
}

// Difference is a stretch of blocks that are not as they were made.
type Difference struct {
	memory.Span
	Region string
	// From is what its bytes came from: inputs, and operations.
	From []string
	// Is says what it means: a configuration word, a declared checksum.
	Is []string
	// As is another product whose bytes these are.
	As string
}

// Torn is an image of which a part is of one release and the rest of another, as an update
// leaves it that did not come to its end.
type Torn struct {
	Below, From *Candidate // whose bytes are below the boundary, and from it on
	At          uint64     // the boundary: the first block that is of From
	// Between are blocks at the boundary that are of neither.
	Between []memory.Span
}

// mostCandidates are told.
const mostCandidates = 3

// Whole reports whether an image has all of the product, byte for byte, and nothing else but
// erased memory; memories that it has nothing of do not count.
func (c *Candidate) Whole() bool {
	return c.Output != "" || c.telling > 0 && c.Part() && len(c.Partial) == 0 && c.Equal >= memory.SizeOf(c.Missing) && c.wholeRuns()
}

// Part reports whether an image has nothing that is not as it was made, but for memory that is
// erased; of blocks that it does not have whole nothing is known.
func (c *Candidate) Part() bool { return c.Differ == 0 && len(c.Other) == 0 }

// Little reports whether an image has little in common with the product, so that it hardly is of
// it.
func (c *Candidate) Little() bool { return 4*c.telling < c.Differ }

// wholeRuns reports whether what is missing are whole runs of the product.
func (c *Candidate) wholeRuns() bool {
	for _, m := range c.Missing {
		if !slices.ContainsFunc(c.product.Contents.Runs, func(r Span) bool { s, ok := r.span(); return ok && s == m }) {
			return false
		}
	}
	return true
}

// Name says which product it is.
func (c *Candidate) Name() string {
	name := c.Release
	if c.Version != "" {
		name += " " + c.Version
	}
	if c.Variant != "" {
		name += ", variant " + c.Variant
	}
	return name
}

// Exact reports whether the image is one of the candidates, byte for byte.
func (m *Matched) Exact() bool { return len(m.Candidates) > 0 && m.Candidates[0].Whole() }

// ofRelease reports whether a file is called as the manifest of a release, and not one of units.
func ofRelease(name string) bool {
	return strings.HasSuffix(name, Extension) && !strings.HasSuffix(name, BatchExtension)
}

// ManifestsIn returns the manifests of releases that arguments name: files, and all in folders.
func ManifestsIn(names []string) (list []string, err error) {
	for _, name := range names {
		info, err := os.Stat(name)
		switch {
		case err != nil:
			return nil, &source.SystemError{File: name, Doing: "read", Err: err}
		case !info.IsDir():
			if !strings.HasSuffix(name, BatchExtension) && !strings.HasSuffix(name, LogExtension) { // which are of units
				list = append(list, name)
			}
			continue
		}
		err = filepath.WalkDir(name, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return &source.SystemError{File: path, Doing: "read", Err: err}
			case !d.IsDir() && ofRelease(path):
				list = append(list, filepath.ToSlash(path)) // as manifests name files
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

// brief is what a manifest says of images. Of what is told of it, the whole manifest is read.
type brief struct {
	Schema   string     `json:"schema"`
	Name     string     `json:"name"`
	Read     []ReadFile `json:"read"`
	Products []product  `json:"products"`
}

type product struct {
	Variant  string            `json:"variant"`
	Device   string            `json:"device"`
	Set      map[string]string `json:"set"`
	Contents Contents          `json:"contents"`
	Regions  []Region          `json:"regions"`
	Inputs   []Input           `json:"inputs"`
	Outputs  []Output          `json:"outputs"`
}

// Match finds out of manifests which release an image is, or is nearest to. The image is that
// of a file with a digest; unplaced are raw bytes, which lie where they are most alike. It
// compares digests of blocks, so that neither inputs nor outputs of the releases are needed.
func Match(image *memory.Image, sum string, unplaced bool, names []string) *Matched {
	m := &Matched{}
	briefs := make([]*brief, len(names))
	errs := make([]error, len(names))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for k, name := range names {
		group.Go(func() error {
			briefs[k], errs[k] = readBrief(name)
			return nil // what cannot be read is said of each
		})
	}
	group.Wait()
	x := &matcher{image: image, sums: map[memory.Span]blockSum{}}
	var all []Candidate
	for k, b := range briefs {
		if errs[k] != nil {
			m.Unread = append(m.Unread, errs[k])
			continue
		}
		m.Manifests++
		for i := range b.Products {
			m.Products++
			c := x.candidate(&b.Products[i], sum, unplaced)
			c.Manifest, c.Release, c.Input = names[k], b.Name, b.input(&b.Products[i], sum)
			all = append(all, c)
		}
	}
	newest(all)
	all = slices.DeleteFunc(all, func(c Candidate) bool { return c.telling == 0 && c.Output == "" && c.Input == "" })
	slices.SortStableFunc(all, func(a, b Candidate) int {
		exact := func(c *Candidate) int {
			switch {
			case c.Output != "":
				return 0
			case c.Whole():
				return 1
			}
			return 2
		}
		return cmp.Or(cmp.Compare(exact(&a), exact(&b)), cmp.Compare(b.telling, a.telling), cmp.Compare(a.Differ, b.Differ),
			cmp.Compare(memory.SizeOf(a.Missing), memory.SizeOf(b.Missing)))
	})
	if len(all) == 0 {
		return m
	}
	best := &all[0]
	if !best.Whole() {
		m.Torn = torn(all)
		if !best.Little() {
			best.explain(all)
		}
	}
	shown := 1
	for shown < len(all) && shown < mostCandidates && (!best.Whole() || all[shown].Whole()) {
		shown++
	}
	if !best.Whole() {
		m.More = len(all) - shown
	}
	m.Candidates = all[:shown]
	return m
}

func readBrief(name string) (*brief, error) {
	text, err := (&source.Files{}).ReadAll(name, "manifest", MostManifest)
	if err != nil {
		return nil, err
	}
	b := &brief{}
	if json.Unmarshal(text, b) == nil && b.Schema == Schema {
		return b, nil
	}
	_, err = Load(&source.Files{}, name) // says what is wrong
	return nil, err
}

// input returns which input of a product a file is, by its digest; "" is none.
func (b *brief) input(p *product, sum string) string {
	for _, f := range b.Read {
		if f.SHA256 == sum && slices.ContainsFunc(p.Inputs, func(in Input) bool { return in.File == f.File }) {
			return f.File
		}
	}
	return ""
}

// matcher compares an image with products. What it knows of blocks is the same for all.
type matcher struct {
	image *memory.Image
	sums  map[memory.Span]blockSum
}

type blockSum struct {
	any     bool // the image has something of it
	whole   bool // the image has all of it
	digest  uint64
	telling bool // its bytes are not all of one value
}

// candidate compares with a product.
func (x *matcher) candidate(p *product, sum string, unplaced bool) Candidate {
	places := []uint64{0}
	if unplaced {
		places = p.places(x.image)
	}
	var best Candidate
	for i, first := range places {
		c := Candidate{
			Version: p.Set["version"],
			Variant: p.Variant,
			Device:  p.Device,
			product: &Product{Contents: p.Contents, Regions: p.Regions},
		}
		if unplaced {
			c.First = &first
		}
		x.compare(&c, first)
		if i == 0 || c.telling > best.telling {
			best = c
		}
	}
	for i := range p.Outputs {
		if p.Outputs[i].SHA256 == sum && sum != "" {
			best.Output = p.Outputs[i].File
		}
	}
	return best
}

// places are where raw bytes may begin: where outputs, runs and regions do.
func (p *product) places(m *memory.Image) (list []uint64) {
	add := func(text string) {
		if at, err := parseAddress(text); err == nil && at <= math.MaxUint64-m.Bytes() {
			list = append(list, at)
		}
	}
	for i := range p.Outputs {
		if f := p.Outputs[i].First; f != "" {
			add(f)
		}
	}
	for i := range p.Contents.Runs {
		add(p.Contents.Runs[i].First)
	}
	for i := range p.Regions {
		add(p.Regions[i].Span.First)
	}
	slices.Sort(list)
	if list = slices.Compact(list); len(list) == 0 {
		return []uint64{0}
	}
	return list
}

// compare compares block by block. The first byte of the image counts as at an address.
func (x *matcher) compare(c *Candidate, first uint64) {
	contents := &c.product.Contents
	covered := make([]memory.Span, 0, len(contents.Runs))
	contents.eachBlock(func(block memory.Span, digest uint64, ok bool) {
		covered = append(covered, block)
		switch s := x.sum(block, first); {
		case !s.any:
			c.Missing = append(c.Missing, block)
		case !s.whole:
			c.Partial = append(c.Partial, block)
		case !ok || s.digest != digest:
			c.differ = append(c.differ, block)
		default:
			c.equal = append(c.equal, block)
			if s.telling {
				c.telling += block.Size()
			}
		}
	})
	for _, list := range []*[]memory.Span{&c.Missing, &c.Partial, &c.differ, &c.equal} {
		*list = memory.Union(*list)
	}
	c.Equal, c.Differ = memory.SizeOf(c.equal), memory.SizeOf(c.differ)
	c.Other = x.beyond(memory.Union(covered), first)
}

// sum returns what is known of a block of the image.
func (x *matcher) sum(block memory.Span, first uint64) blockSum {
	if block.First < first {
		return blockSum{}
	}
	block = memory.Span{First: block.First - first, Last: block.Last - first}
	s, ok := x.sums[block]
	if !ok {
		switch n := x.image.Count(block); {
		case n > 0 && n < block.Size():
			s.any = true
		case n > 0: // and so it is no larger than the image
			data := make([]byte, n)
			x.image.ReadAt(data, block.First)
			s = blockSum{
				any:     true,
				whole:   true,
				digest:  blockDigest(data),
				telling: slices.ContainsFunc(data, func(b byte) bool { return b != data[0] }),
			}
		}
		x.sums[block] = s
	}
	return s
}

// beyond returns what the image has elsewhere that is not erased.
func (x *matcher) beyond(covered []memory.Span, first uint64) (list []memory.Span) {
	const erased = 0xFF
	here := make([]memory.Span, 0, len(covered))
	for _, s := range covered {
		if s.Last >= first {
			here = append(here, memory.Span{First: max(s.First, first) - first, Last: s.Last - first})
		}
	}
	for _, s := range memory.Complement(here) {
		for r := range x.image.In(s) {
			for i := 0; i < len(r.Data); i++ {
				if r.Data[i] == erased {
					continue
				}
				from := i
				for i < len(r.Data) && r.Data[i] != erased {
					i++
				}
				at := r.First + first
				list = append(list, memory.Span{First: at + uint64(from), Last: at + uint64(i-1)})
			}
		}
	}
	return list
}

// eachBlock goes through the blocks of an image's contents, with the sum of each; ok is
// whether it is one.
func (c *Contents) eachBlock(do func(block memory.Span, digest uint64, ok bool)) {
	const digits = 16
	sums := c.Blocks
	for i := range c.Runs {
		s, ok := c.Runs[i].span()
		if !ok || c.Block == 0 || c.Block > format.Most || s.Last > math.MaxUint64-format.Most {
			return
		}
		for first := s.First; len(sums) >= digits; first += c.Block {
			block := memory.Span{First: first, Last: min(first+c.Block-1, s.Last)}
			var sum [8]byte
			_, err := hex.Decode(sum[:], []byte(sums[:digits]))
			do(block, binary.BigEndian.Uint64(sum[:]), err == nil)
			if sums = sums[digits:]; block.Last == s.Last {
				break
			}
		}
	}
}

// newest notes of each candidate the newest version of its release.
func newest(all []Candidate) {
	best := map[string]*Candidate{}
	valid := func(c *Candidate) bool { return semver.IsValid("v" + c.Version) }
	newer := func(a, b *Candidate) bool { return semver.Compare("v"+a.Version, "v"+b.Version) > 0 }
	for i := range all {
		if c := &all[i]; valid(c) && (best[c.Release] == nil || newer(c, best[c.Release])) {
			best[c.Release] = c
		}
	}
	for i := range all {
		if c := &all[i]; valid(c) && newer(best[c.Release], c) {
			c.Newer, c.NewerIn = best[c.Release].Version, best[c.Release].Manifest
		}
	}
}

// torn finds two candidates of which an image has both, one below an address and the other
// from there on; at the boundary at most two blocks may be of neither.
func torn(all []Candidate) *Torn {
	a := &all[0]
	const mostBetween = 2
	for i := range all[1:] {
		b := &all[i+1]
		between := memory.Intersect(a.differ, b.differ) // of neither
		onlyA, onlyB := memory.Intersect(a.equal, b.differ), memory.Intersect(b.equal, a.differ)
		if len(onlyA) == 0 || len(onlyB) == 0 ||
			memory.SizeOf(between) > mostBetween*max(a.product.Contents.Block, b.product.Contents.Block) {
			continue
		}
		t := &Torn{Below: a, From: b, At: onlyB[0].First, Between: between}
		last := onlyA[len(onlyA)-1].Last
		if onlyB[0].First < onlyA[0].First {
			t.Below, t.From, t.At = b, a, onlyA[0].First
			last = onlyB[len(onlyB)-1].Last
		}
		if last < t.At && !slices.ContainsFunc(between, func(s memory.Span) bool { return s.First < last || s.Last > t.At }) {
			return t
		}
	}
	return nil
}

// explain says of stretches that differ what lies there.
func (c *Candidate) explain(all []Candidate) {
	if len(c.differ) == 0 {
		return
	}
	var tracer *memory.Tracer
	if m, err := Load(&source.Files{}, c.Manifest); err == nil {
		for i := range m.Products {
			if m.Products[i].Variant == c.Variant {
				c.product = &m.Products[i]
				tracer, _ = c.product.Origins.Tracer()
			}
		}
	}
	e := &explainer{Explained: &Explained{Product: c.product}}
	for _, s := range c.differ {
		d := Difference{Span: s, Region: e.region(s.First)}
		for at := s.First; tracer != nil; at++ {
			if o, ok := tracer.Origin(at); ok && !slices.Contains(d.From, o.Input.Name) {
				d.From = append(d.From, o.Input.Name)
			}
			if at == s.Last {
				break
			}
		}
		for i := range c.product.Config {
			w := &c.product.Config[i]
			if at, ok := w.Span.span(); ok {
				if _, meets := at.Meet(s); meets {
					d.Is = append(d.Is, fmt.Sprintf("configuration word %s, released as %s", w.Name, w.Value))
				}
			}
		}
		for i := range c.product.Checksums {
			sum := &c.product.Checksums[i]
			at, err := parseAddress(sum.At)
			if value, ok := memory.SpanOf(at, uint64(len(sum.Value)/2)); err == nil && ok {
				if _, meets := value.Meet(s); meets {
					d.Is = append(d.Is, "checksum "+sum.Name)
				}
			}
		}
		for i := range all {
			if o := &all[i]; o != c && memory.SizeOf(memory.Intersect([]memory.Span{s}, o.equal)) == s.Size() {
				d.As = o.Name()
				break
			}
		}
		c.Differences = append(c.Differences, d)
	}
}
