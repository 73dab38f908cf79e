package cli

import (
	"flag"
	"fmt"
	"strings"

	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/span"
)

var compareCommand = &command{
	name: "compare", usage: "[flags] EXPECTED FOUND",
	short: "where two images differ",
	long: `
Compares two images byte by byte, whatever their formats: what was to be
programmed against what was read back, yesterday's release against today's.
Stretches that differ are listed with the bytes expected and found, and what
only one of the two holds; where the pattern shows it, the likely cause.

A read-back usually holds erased bytes where the image has holes: -holes FF
takes a hole as FF. Different start addresses are told, but are no difference.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var in, ignore list
		var hole *byte
		var asJSON bool
		r.define(fs)
		fs.Var(&in, "in", "compare inside `SPAN` only; may be given several times")
		fs.Var(&ignore, "ignore", "leave `SPAN` out; may be given several times")
		fs.Func("holes", "take a hole as `BYTE`", oneByte(&hole))
		fs.BoolVar(&asJSON, "json", false, "print the result as JSON")
		return func(s *session, args []string) error {
			if len(args) != 2 {
				return usagef("compare takes two files, %d are named", len(args))
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			files, err := s.readAll(&r, args, names(dev))
			if err != nil {
				return err
			}
			dev = s.configured(dev, files[0].Image)
			known := withImage(names(dev), files[0].Image)
			where, err := spans("in", in, known)
			if err != nil {
				return err
			}
			without, err := spans("ignore", ignore, known)
			if err != nil {
				return err
			}
			if len(where) == 0 {
				where = memory.Complement(nil)
			}
			where = memory.Without(where, without)
			for _, f := range files {
				f.Image = f.Image.Cut(where...)
			}
			cmp := compared{expected: files[0], found: files[1], device: dev, hole: hole, erased: 0xFF}
			cmp.Comparison = memory.Compare(files[0].Image, files[1].Image, hole)
			if len(cmp.Differences) > 0 {
				cmp.erased = erasedValue(dev, cmp.Differences[0].First)
			}
			if hole != nil {
				cmp.erased = *hole
			}
			if asJSON {
				err = printJSON(s.out, cmp.json())
			} else {
				cmp.print(s)
			}
			if err == nil && !cmp.Same() {
				return errFindings
			}
			return err
		}
	},
}

// oneByte returns a flag's function that reads one byte.
func oneByte(value **byte) func(string) error {
	return func(v string) error {
		b, err := span.Bytes(v)
		if err == nil && len(b) != 1 {
			err = fmt.Errorf("%q is %d bytes, one is needed", v, len(b))
		}
		if err != nil {
			return err
		}
		*value = &b[0]
		return nil
	}
}

// compared is the comparison of two files.
type compared struct {
	*memory.Comparison
	expected, found *codec.File
	device          *device.Map
	hole            *byte // what a hole counts as; nil is nothing
	erased          byte
}

func (c *compared) print(s *session) {
	a, b := c.expected.Name, c.found.Name
	if c.Same() {
		fmt.Fprintf(s.out, "%s: %s and %s, %s bytes\n", render.Good.Sprint("equal"), a, b, memory.FormatCount(c.Equal))
	} else {
		var counts []string
		count := func(n uint64, what string) {
			if n > 0 {
				counts = append(counts, memory.FormatCount(n)+what)
			}
		}
		count(c.Differ, " bytes differ")
		count(c.OnlyFirst, " only in "+a)
		count(c.OnlySecond, " only in "+b)
		count(c.Equal, " equal")
		fmt.Fprintf(s.out, "%s: %s and %s: %s\n", render.Bad.Sprint("different"), a, b, strings.Join(counts, ", "))
	}
	for _, cause := range memory.LikelyCauses(c.expected.Image, c.found.Image, c.Comparison, c.erased) {
		fmt.Fprintf(s.out, "  %s %s\n", render.Doubt.Sprint("likely:"), cause)
	}
	if x, y := c.expected.Image.Start, c.found.Image.Start; x != y && x.Kind != memory.NoStart && y.Kind != memory.NoStart {
		fmt.Fprintf(s.out, "  start addresses differ: %s in %s, %s in %s\n", memory.FormatAddress(x.Address()), a, memory.FormatAddress(y.Address()), b)
	}
	if c.Same() {
		return
	}
	const most = 20
	var rows [][]string
	for _, d := range c.Differences[:min(len(c.Differences), most)] {
		what := memory.FormatCount(d.Bytes) + " differ"
		switch d.Presence {
		case memory.OnlyFirst:
			what = "only in " + a
		case memory.OnlySecond:
			what = "only in " + b
		}
		rows = append(rows, []string{d.Range(), memory.FormatCount(d.Size()), what,
			excerptOf(c.expected.Image, d.Span), excerptOf(c.found.Image, d.Span), strings.TrimSpace(regionsOf(c.device, d.Span))})
	}
	header := []string{"span", "bytes", "what", "expected", "found", "region"}
	if c.device == nil {
		header = header[:5]
		for i := range rows {
			rows[i] = rows[i][:5]
		}
	}
	fmt.Fprintln(s.out)
	render.Table(s.out, header, rows, 2)
	if more := len(c.Differences) - most; more > 0 {
		fmt.Fprintf(s.out, "and %d more\n", more)
	}
	if c.device == nil {
		return
	}
	rows = nil
	for _, t := range c.totals() {
		pages := ""
		if t.Pages > 0 {
			pages = fmt.Sprintf("%d of %d", t.PagesTouched, t.Pages)
		}
		rows = append(rows, []string{t.Region, memory.FormatCount(t.Differ), memory.FormatCount(t.OnlyFirst), memory.FormatCount(t.OnlySecond), pages})
	}
	fmt.Fprintln(s.out)
	render.Table(s.out, []string{"region", "differ", "only in " + a, "only in " + b, "pages"}, rows, 2, 3, 4, 5)
}

// excerptOf shows the first few bytes of a span; places that the image does not
// hold as --.
func excerptOf(m *memory.Image, s memory.Span) string {
	const most = 8
	shown := s
	if s.Size() > most {
		shown.Last = s.First + most - 1
	}
	cells := make([]string, shown.Size())
	for i := range cells {
		cells[i] = "--"
	}
	for r := range m.In(shown) {
		for i, b := range r.Data {
			cells[r.First-shown.First+uint64(i)] = fmt.Sprintf("%02X", b)
		}
	}
	text := strings.Join(cells, " ")
	if strings.Trim(text, "- ") == "" {
		return "nothing"
	}
	if shown != s {
		text += " ..."
	}
	return text
}

// regionTotal counts the differences in one region.
type regionTotal struct {
	Region       string `json:"region"`
	Differ       uint64 `json:"differ"`
	OnlyFirst    uint64 `json:"onlyExpected"`
	OnlySecond   uint64 `json:"onlyFound"`
	PagesTouched uint64 `json:"pagesDiffering"`
	Pages        uint64 `json:"pages"`
}

// totals counts the differences of each region that has any, and of what lies
// outside all.
func (c *compared) totals() []regionTotal {
	var totals []regionTotal
	add := func(name string, within []memory.Span, mem *device.Memory) {
		part := memory.Compare(c.expected.Image, c.found.Image, c.hole, within...)
		if part.Same() {
			return
		}
		t := regionTotal{Region: name, Differ: part.Differ, OnlyFirst: part.OnlyFirst, OnlySecond: part.OnlySecond}
		if mem != nil && mem.Page > 0 {
			pageOf := func(address uint64) uint64 { return (address - mem.Span.First) / mem.Page }
			t.Pages = pageOf(within[0].Last) - pageOf(within[0].First) + 1
			next := uint64(0) // the first page not yet counted
			for _, d := range part.Differences {
				if first, last := max(pageOf(d.First), next), pageOf(d.Last); first <= last {
					t.PagesTouched += last - first + 1
					next = last + 1
				}
			}
		}
		totals = append(totals, t)
	}
	var all []memory.Span
	for _, r := range c.device.Regions {
		add(r.Name, []memory.Span{r.Span}, c.device.MemoryAt(r.Span.First))
		all = append(all, r.Span)
	}
	if outside := memory.Complement(all); len(outside) > 0 {
		add("outside all", outside, nil)
	}
	return totals
}

type compareJSON struct {
	Schema      string           `json:"schema"`
	Equal       bool             `json:"equal"`
	Expected    string           `json:"expected"`
	Found       string           `json:"found"`
	EqualBytes  uint64           `json:"equalBytes"`
	Differ      uint64           `json:"differ"`
	OnlyFirst   uint64           `json:"onlyExpected"`
	OnlySecond  uint64           `json:"onlyFound"`
	Causes      []string         `json:"likelyCauses"`
	Differences []differenceJSON `json:"differences"`
	Regions     []regionTotal    `json:"regions,omitempty"`
}

type differenceJSON struct {
	Kind     string   `json:"kind"`
	Span     jsonSpan `json:"span"`
	Bytes    uint64   `json:"bytes"`
	Expected string   `json:"expected"`
	Found    string   `json:"found"`
	Region   string   `json:"region,omitempty"`
}

func (c *compared) json() compareJSON {
	out := compareJSON{
		Schema: "mexalt.compare/1", Equal: c.Same(), Expected: c.expected.Name, Found: c.found.Name,
		EqualBytes: c.Equal, Differ: c.Differ, OnlyFirst: c.OnlyFirst, OnlySecond: c.OnlySecond,
		Causes:      append([]string{}, memory.LikelyCauses(c.expected.Image, c.found.Image, c.Comparison, c.erased)...),
		Differences: []differenceJSON{},
	}
	for _, d := range c.Differences {
		out.Differences = append(out.Differences, differenceJSON{
			[...]string{"differ", "only-expected", "only-found"}[d.Presence], jsonSpanOf(d.Span), d.Bytes,
			excerptOf(c.expected.Image, d.Span), excerptOf(c.found.Image, d.Span), strings.TrimSpace(regionsOf(c.device, d.Span)),
		})
	}
	if c.device != nil {
		out.Regions = c.totals()
	}
	return out
}
