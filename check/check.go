// Package check holds images against device maps and returns what it finds:
// what would go wrong if the image were programmed into the part.
//
// Each rule is a row of [Rules], with the function that looks for it.
package check

import (
	"cmp"
	"errors"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// Finding is one result of a check.
type Finding struct {
	Severity source.Severity
	Rule     string
	Name     string       // what the finding is about, where the rule may find several: a field, a region
	Where    *memory.Span // nil where no address is concerned
	Region   string       // region or memory concerned; may be empty
	Input    string       // the part concerned; "" is all of them
	Place    Place        // where in a file
	What     string
	Expected string
	Advice   source.Advice
	Accepted bool // it was accepted by name, and does not count
}

// Place is a place in a file that was read. The zero value is none.
type Place struct {
	File   string
	Line   int // from 1; 0 is none
	Column int // from 1; 0 is none
	Offset int64
	Raw    bool   // the place is an offset, not a line
	Text   string // as messages show it, with the operations since
}

// placeOf returns the place of a byte's origin.
func placeOf(o memory.Origin) Place {
	p := Place{File: o.Input.Name, Text: o.String()}
	switch o.Input.Counting {
	case source.Lines:
		p.Line = int(o.Position)
	case source.Offsets:
		p.Offset, p.Raw = int64(o.Position), true
	default:
		p.File = ""
		if o.Over != nil {
			p.File = placeOf(*o.Over).File
		}
	}
	return p
}

// Part is one of the inputs that together are the image.
type Part struct {
	Name  string
	Image *memory.Image // nil where it could not be read
	// Problems are what was found while reading it; may be nil.
	Problems *source.Problems
	// Err is why it could not be read, where that is no problem in the file.
	Err error
	// Begins reports whether it is known that a part begins at an address, by what tells
	// how the file was made; nil knows nothing.
	Begins func(at uint64) bool
	// Programs are the linked programs in it.
	Programs []Program
	BuiltFor device.Quantity // the clock that it was built for, in Hz; 0 is not said
}

// Program is what a linked program's file says of its machine.
type Program struct {
	File    string
	Machine string // as ELF files name it
	Order   memory.Order
}

// Options set what is checked.
type Options struct {
	// Region, where given, is the region in which every part must lie. The
	// parts are then no whole image, and nothing need be there but they.
	Region *device.Region
	// Accept lists findings that do not count: RULE, or RULE:NAME for those of
	// one field, region or input.
	Accept []string
	// Inputs are what the parts were made of, where they are no files themselves: what
	// readers doubted of these is found too.
	Inputs []Part
	// Words are the values of configuration words that the part holds already, where the
	// image gives none; the others may have any.
	Words map[string]uint64
}

// Result is what a check found.
type Result struct {
	Map       *device.Map // as it is for the image's configuration
	FromImage bool        // whether any configuration came from the image
	Parts     []Part
	Region    string // the one region that was asked for
	Whole     *memory.Image
	Findings  []Finding
	// Unused are the acceptances that nothing was found for.
	Unused []string
	// Ran are the IDs of the rules that looked at something, Skipped those that did not.
	Ran     []string
	Skipped []Skipped
}

// Skipped is a rule that had nothing to look at.
type Skipped struct{ Rule, Why string }

// Counting returns the findings that count: those that are neither notes nor
// accepted.
func (r *Result) Counting() []Finding {
	return slices.DeleteFunc(slices.Clone(r.Findings), func(f Finding) bool { return f.Accepted || f.Severity == source.Note })
}

// Run checks parts, together one image, against a map. The findings are
// sorted by severity, then by address.
func Run(m *device.Map, parts []Part, o Options) *Result {
	return run(m, parts, o, func(*Rule) bool { return true })
}

// Doubts finds what readers doubted of the inputs, which needs no map.
func Doubts(parts []Part, o Options) *Result {
	return run(&device.Map{}, parts, o, func(r *Rule) bool { return slices.Contains(source.Doubts, r.ID) || r.ID == doubtful })
}

// doubtful is the rule of what readers warned of beside their doubts.
const doubtful = "doubtful-input"

func run(m *device.Map, parts []Part, o Options, wanted func(*Rule) bool) *Result {
	r := &Result{Parts: parts}
	var images []*memory.Image
	for _, p := range parts {
		if p.Image != nil {
			images = append(images, p.Image)
		}
	}
	var clashes *memory.Clashes
	r.Whole, clashes = memory.Merge(images, memory.First)
	r.Map, r.FromImage = m.For(r.Whole)
	whole := &checker{
		m:       r.Map,
		parts:   parts,
		inputs:  slices.Concat(parts, o.Inputs),
		words:   o.Words,
		part:    Part{Image: r.Whole},
		gaps:    gapsOf(r.Map),
		clashes: clashes,
	}
	if o.Region != nil {
		r.Region = o.Region.Name
		whole.region = r.Map.Region(o.Region.Name)
	}
	if len(parts) == 1 {
		whole.part.Name, whole.part.Begins = parts[0].Name, parts[0].Begins
	}
	readable := len(images) == len(parts)
	for _, rule := range Rules() {
		if !wanted(rule) {
			continue
		}
		if why := rule.skipped(whole, readable); why != "" {
			r.Skipped = append(r.Skipped, Skipped{rule.ID, why})
			continue
		}
		r.Ran = append(r.Ran, rule.ID)
		if rule.each != nil {
			for _, p := range parts {
				if p.Image != nil {
					c := &checker{m: r.Map, parts: parts, part: p, region: whole.region, gaps: whole.gaps, rule: rule, earlier: r.Findings}
					rule.each(c)
					r.Findings = append(r.Findings, c.found...)
				}
			}
		} else {
			whole.rule, whole.found, whole.earlier = rule, nil, r.Findings
			rule.whole(whole)
			r.Findings = append(r.Findings, whole.found...)
		}
	}
	r.accept(o.Accept)
	slices.SortStableFunc(r.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Severity, b.Severity), cmp.Compare(a.first(), b.first()))
	})
	return r
}

// skipped says why a rule is left out; "" is that it is not.
func (r *Rule) skipped(whole *checker, readable bool) string {
	switch {
	case r.Complete && whole.region != nil:
		return "it judges complete images, not one region"
	case r.Complete && !readable:
		return "an input cannot be read, and it judges complete images"
	case r.idle == nil:
		return ""
	}
	return r.idle(whole)
}

func (f *Finding) first() uint64 {
	if f.Where == nil {
		return 0
	}
	return f.Where.First
}

// accept marks the findings that were accepted.
func (r *Result) accept(accept []string) {
	used := map[string]bool{}
	for i := range r.Findings {
		f := &r.Findings[i]
		for _, a := range accept {
			if a == f.Rule || f.Name != "" && a == f.Rule+":"+f.Name {
				f.Accepted, used[a] = true, true
			}
		}
	}
	for _, a := range accept {
		if !used[a] {
			r.Unused = append(r.Unused, a)
		}
	}
}

// CheckAccept tells of acceptances that name no rule.
func CheckAccept(accept []string) error {
	for _, a := range accept {
		rule, _, _ := strings.Cut(a, ":")
		if RuleOf(rule) == nil {
			return source.Keyf("accept", "unknown rule %q; %s", rule, source.DidYouMean(rule, RuleIDs()))
		}
		switch r := RuleOf(rule); {
		case r.Never:
			return source.Keyf("accept", "%s cannot be accepted; change the configuration, or correct the board's file", rule)
		case r.Named && !strings.Contains(a, ":"):
			return source.Keyf("accept", "%s is accepted by name only: %s:NAME", rule, rule)
		}
	}
	return nil
}

// checker looks for one rule, in one part or in the whole image.
type checker struct {
	m       *device.Map
	parts   []Part
	inputs  []Part // and what they were made of
	words   map[string]uint64
	part    Part
	region  *device.Region // the one region in which all parts must lie; may be nil
	gaps    *gaps
	clashes *memory.Clashes
	rule    *Rule
	earlier []Finding // of the rules before
	found   []Finding
}

// add completes a finding with rule, severity and place.
func (c *checker) add(f Finding) {
	f.Input = c.part.Name
	c.complete(&f)
	if f.Where != nil {
		if o, ok := c.part.Image.Origin(f.Where.First); ok {
			f.Place = placeOf(o)
		}
		if f.Region == "" {
			if r := c.m.RegionAt(f.Where.First); r != nil {
				f.Region = r.Name
			}
		}
	}
	c.found = append(c.found, f)
}

// addMissing adds a finding about bytes that are not there.
func (c *checker) addMissing(f Finding) {
	c.complete(&f)
	c.found = append(c.found, f)
}

func (c *checker) complete(f *Finding) {
	f.Rule = c.rule.ID
	if f.Severity == source.Error { // as nothing else was said
		f.Severity = c.rule.Severity
	}
}

// found reports whether a rule before found something there.
func (c *checker) foundEarlier(rule string, there func(*Finding) bool) bool {
	return slices.ContainsFunc(c.earlier, func(f Finding) bool { return f.Rule == rule && (there == nil || there(&f)) })
}

// accepting returns the setting that accepts what the rule finds of a name.
func (c *checker) accepting(name string) []source.Setting {
	value := c.rule.ID
	if name != "" {
		value += ":" + name
	}
	return []source.Setting{{Key: "accept", Value: value, Does: "if it is meant"}}
}

// operationAdvice returns advice that an operation settles it.
func operationAdvice(text, operation string, settings ...source.Setting) source.Advice {
	return source.Advice{Text: text, Action: &source.Action{Operation: operation, Settings: settings}}
}

// unreadable finds parts that could not be read.
func (c *checker) unreadable() {
	for _, p := range c.parts {
		if p.Image != nil {
			continue
		}
		c.part.Name = p.Name
		if p.Problems != nil && p.Problems.Errors() > 0 {
			for _, problem := range p.Problems.Sorted() {
				if problem.Severity == source.Error {
					c.addProblem(p, problem)
					if problem.Doubt != "" { // which is told by its own name
						c.found[len(c.found)-1].Rule = problem.Doubt
					}
				}
			}
			continue
		}
		if p.Err != nil {
			if problem := (*source.Problem)(nil); errors.As(p.Err, &problem) {
				c.addProblem(p, problem)
				continue
			}
			what := p.Err.Error()
			var system *source.SystemError
			if errors.As(p.Err, &system) {
				what = "cannot be read: " + system.Reason()
			}
			c.addProblem(p, &source.Problem{File: p.Name, What: what, Expected: "an image"})
		}
	}
}

// doubts tells of what readers doubted, by the rule that is looked for, or of all else
// that they warned of.
func (c *checker) doubts() {
	for _, p := range c.inputs {
		if p.Problems == nil || p.Image == nil {
			continue
		}
		for _, problem := range p.Problems.Sorted() {
			if cmp.Or(problem.Doubt, doubtful) == c.rule.ID {
				c.addProblem(p, problem)
			}
		}
	}
}

func (c *checker) addProblem(p Part, problem *source.Problem) {
	f := Finding{
		Severity: c.rule.Severity,
		Rule:     c.rule.ID,
		Name:     p.Name,
		Input:    p.Name,
		What:     problem.What,
		Expected: problem.Expected,
		Advice:   problem.Advice,
		Place:    Place{File: problem.File, Line: problem.Line, Column: problem.Column, Text: problem.Position()},
	}
	if f.Expected == "" {
		f.Expected = "an intact file"
	}
	if f.Advice.In(nil) == "" {
		f.Advice = source.Advise("get the file again")
	}
	if problem.Doubt != "" && problem.Severity != source.Error {
		f.Advice.AnyOf = append(slices.Clone(f.Advice.AnyOf),
			source.Setting{Key: "accept", Value: c.rule.ID, Does: "if the data is as it should be"})
	}
	c.found = append(c.found, f)
}

// Use tells how much of a region an image fills.
type Use struct {
	Region *device.Region // nil is what lies in no region
	Used   uint64         // bytes
	// Over are the bytes of a part of the region that lie behind its end.
	Over  uint64
	Depth int // in how many others the region lies
}

// Free is how many bytes the region still takes; it is negative where what is
// meant for it does not fit.
func (u Use) Free() int64 { return int64(u.Region.Span.Size()-u.Used) - int64(u.Over) }

// Uses returns the use of each region by an image, and of what lies in none
// where there is any. The map must be as it is for the image.
func Uses(m *device.Map, image *memory.Image) []Use { return usesOfAny(m.Regions, image) }

// UsesWithin returns the use of the regions that an image reaches, so that the parts of a map
// of very many regions are each told in a moment.
func UsesWithin(m *device.Map, image *memory.Image) []Use {
	all, ok := image.Span()
	if !ok {
		return nil
	}
	return usesOfAny(m.RegionsIn(all), image)
}

func usesOfAny(regions []device.Region, image *memory.Image) []Use {
	var uses []Use
	inRegions := uint64(0)
	for i := range regions {
		n := image.Count(regions[i].Span)
		inRegions += n
		uses = append(uses, Use{Region: &regions[i], Used: n})
	}
	if n := image.Bytes() - inRegions; n > 0 {
		uses = append(uses, Use{Used: n})
	}
	return uses
}

// Uses returns the use of each region by the image that was checked, with what
// runs over their ends, and behind each that of its pieces.
func (r *Result) Uses() []Use {
	uses := Uses(r.Map, r.Whole)
	over := map[string]uint64{}
	for _, f := range r.Findings {
		if f.Rule != "region-overrun" || f.Where == nil {
			continue
		}
		for _, p := range r.Parts {
			if p.Name == f.Input && p.Image != nil {
				over[f.Name] += p.Image.Count(*f.Where)
			}
		}
	}
	var all []Use
	for _, u := range uses {
		if u.Region != nil {
			u.Over = over[u.Region.Name]
		}
		if all = append(all, u); u.Region != nil {
			all = append(all, usesOf(u.Region, r.Whole, 1)...)
		}
	}
	return all
}

// usesOf returns the use of a region's pieces.
func usesOf(r *device.Region, image *memory.Image, depth int) (uses []Use) {
	for i := range r.Inner {
		inner := &r.Inner[i]
		uses = append(uses, Use{Region: inner, Used: image.Count(inner.Span), Depth: depth})
		uses = append(uses, usesOf(inner, image, depth+1)...)
	}
	return uses
}

// Work is what programming an image takes.
type Work struct {
	Bytes, Pages, Sectors uint64
}

// WorkOf returns what programming an image into a part takes.
func WorkOf(m *device.Map, image *memory.Image) Work {
	var w Work
	for i := range m.Memories {
		mem := &m.Memories[i]
		if !mem.Programmable() {
			continue
		}
		part := image.Cut(mem.Span)
		w.Bytes += part.Bytes()
		if mem.Page > 0 {
			for _, p := range part.UsedPages(mem.Page, mem.Span.First) {
				w.Pages += p.Size() / mem.Page
			}
		}
		w.Sectors += mem.CountSectors(part)
	}
	return w
}
