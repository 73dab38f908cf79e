package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"runtime"
	"strings"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/codec/intel"
	"mexalt/codec/motorola"
	"mexalt/codec/raw"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var inspectCommand = &command{
	name: "inspect", usage: "[flags] FILE...",
	short: "what each file holds, and whether it is whole",
	long: `
Tells of each file its format, whether it is whole, the addresses that it
covers, its start address, records, version texts and digests; with -device,
what lies in which region. The digest of the contents is the same for the same
bytes at the same addresses in any format: SHA-256 over each run's first
address and length, as 64-bit big-endian numbers, and its bytes.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var asJSON bool
		r.define(fs)
		fs.BoolVar(&asJSON, "json", false, "print the result as JSON")
		return func(s *session, args []string) error {
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			var all []*inspected
			worst := error(nil)
			for _, a := range args {
				one, err := s.inspect(&r, a, dev)
				if err != nil {
					s.report(err)
					worst = &failure{err.(*failure).status, errShown}
					continue
				}
				if one.problems.Errors() > 0 {
					worst = errDamaged
				}
				all = append(all, one)
			}
			if asJSON {
				if err := printJSON(s.out, inspectJSONOf(all, dev)); err != nil {
					return err
				}
				return worst
			}
			for i, one := range all {
				if i > 0 {
					fmt.Fprintln(s.out)
				}
				s.printInspected(one, dev)
			}
			return worst
		}
	},
}

// errDamaged ends inspect where a file was damaged and it has said so.
var errDamaged = &failure{statusInput, errShown}

// errShown is an error of which all is said.
var errShown = errors.New("")

// inspected is what inspect knows of one file.
type inspected struct {
	*codec.File
	problems source.Problems
	size     int64
	digest   string // of the file
}

func (s *session) inspect(r *reading, operand string, dev *device.Map) (*inspected, error) {
	name, placing, err := span.Input(operand, names(dev), exists)
	if err != nil {
		return nil, &failure{statusUsage, err}
	}
	one := &inspected{}
	in, shown, size, err := s.open(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	h := sha256.New()
	count := &counter{r: io.TeeReader(in, h)}
	options := r.options
	options.Cores = runtime.GOMAXPROCS(0)
	one.File, err = codec.Read(count, shown, size, options, &one.problems)
	if errors.Is(err, raw.ErrTooLarge) {
		return nil, inputf("%s: %w", shown, err)
	} else if err == nil {
		_, err = io.Copy(io.Discard, count)
	}
	if err != nil {
		return nil, systemError("read", shown, err)
	}
	one.size, one.digest = count.n, hex.EncodeToString(h.Sum(nil))
	if one.problems.Errors() == 0 {
		if one.Image, err = placing.Apply(one.Image); err != nil {
			return nil, inputf("%s: %w", operand, err)
		}
	}
	return one, nil
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

const (
	mostRuns     = 12 // runs listed; the rest is counted
	mostVersions = 4
	leastRepeat  = 64 // bytes of a repeating pattern that are worth telling
	mostRepeats  = 4
)

func (s *session) printInspected(one *inspected, dev *device.Map) {
	row := func(name, format string, args ...any) {
		fmt.Fprintf(s.out, "  %-9s %s\n", name, fmt.Sprintf(format, args...))
	}
	if one.problems.Errors() > 0 {
		what := one.Format.String() + ", " + render.Bad.Sprint("damaged")
		if one.Format == codec.Unknown {
			what = render.Bad.Sprint("not an image that can be read")
		}
		fmt.Fprintf(s.out, "%s: %s: %s\n", render.Title.Sprint(one.Name), what, render.Count(one.problems.Count(), "problem"))
		render.Problems(s.err, &one.problems, isTerminal(s.err))
		row("file", "%s, SHA-256 %s", memory.FormatSize(uint64(one.size)), one.digest)
		return
	}
	m := one.Image
	all, ok := m.Span()
	state := render.Good.Sprint("whole")
	if one.Format == codec.Raw {
		state = "no addresses or checksums of its own"
	}
	if !ok {
		fmt.Fprintf(s.out, "%s: %s, %s, holds no bytes\n", render.Title.Sprint(one.Name), one.Format, state)
	} else {
		fmt.Fprintf(s.out, "%s: %s, %s, %s bytes at %s\n", render.Title.Sprint(one.Name), one.Format, state, memory.FormatCount(m.Bytes()), all.Range())
	}
	if one.problems.Count() > 0 {
		render.Problems(s.err, &one.problems, isTerminal(s.err))
	}
	switch runs := m.Runs(); {
	case len(runs) == 1:
		row("covers", "%s, no holes", all)
	case len(runs) > 1:
		row("covers", "%s in %d runs, %s of holes between them", all, len(runs), memory.FormatSize(all.Size()-m.Bytes()))
		for _, r := range runs[:min(len(runs), mostRuns)] {
			row("", "%s%s", r.Span(), regionsOf(dev, r.Span()))
		}
		if more := len(runs) - mostRuns; more > 0 {
			row("", "and %d more runs", more)
		}
	}
	if m.Start.Kind != memory.NoStart {
		row("start", "%s", startText(m.Start))
	}
	if m.Header != nil {
		row("header", "%q", m.Header)
	}
	if one.Statistics != nil {
		row("records", "%s", recordsText(one.File))
	}
	for _, t := range m.Versions(mostVersions) {
		row("text", "%q at %s", t.Text, memory.FormatAddress(t.Address))
	}
	for i, same := range m.Repeats(leastRepeat) {
		if i == mostRepeats {
			row("", "and more stretches that repeat")
			break
		}
		what := fmt.Sprintf("% X again and again", same.Pattern)
		if len(same.Pattern) == 1 {
			what = fmt.Sprintf("all %02X", same.Pattern)
			if same.Pattern[0] == erasedValue(dev, same.First) {
				what += ", as if erased"
			}
		}
		row("repeats", "%s: %s", same.Span, what)
	}
	if dev != nil && ok {
		for _, u := range check.Uses(dev, []memory.Part{{Name: one.Name, Image: m}}) {
			if u.Used > 0 {
				size := u.Region.Span.Size()
				row("region", "%s %s: %s of %s bytes used, %.1f %%", u.Region.Name, u.Region.Span.Range(), memory.FormatCount(u.Used), memory.FormatCount(size), 100*float64(u.Used)/float64(size))
			}
		}
	}
	row("file", "%s, SHA-256 %s", memory.FormatSize(uint64(one.size)), one.digest)
	row("contents", "SHA-256 %x", m.Digest())
}

// erasedValue returns what an erased byte reads as at an address.
func erasedValue(dev *device.Map, address uint64) byte {
	if dev != nil {
		if mem := dev.MemoryAt(address); mem != nil {
			return mem.Erased
		}
	}
	return 0xFF
}

// regionsOf names the regions that a span touches.
func regionsOf(dev *device.Map, s memory.Span) string {
	if dev == nil {
		return ""
	}
	var names []string
	for _, r := range dev.Regions {
		if _, ok := r.Span.Meet(s); ok {
			names = append(names, r.Name)
		}
	}
	if names == nil {
		return "  in no region"
	}
	return "  " + strings.Join(names, ", ")
}

func startText(start memory.Start) string {
	if start.Kind == memory.SegmentedStart {
		return fmt.Sprintf("%s (CS:IP %04X:%04X)", memory.FormatAddress(start.Address()), start.Value>>16, start.Value&0xFFFF)
	}
	return memory.FormatAddress(start.Value)
}

// recordsText counts the records of a file.
func recordsText(f *codec.File) string {
	st := f.Statistics
	var kinds []string
	for t, n := range st.Types {
		if n == 0 {
			continue
		}
		name := ""
		if f.Format == codec.Hex {
			name = intel.TypeNames[t]
		} else {
			name = fmt.Sprintf("S%d %s", t, motorola.TypeNames[t])
		}
		kinds = append(kinds, fmt.Sprintf("%s %s", memory.FormatCount(uint64(n)), name))
	}
	text := strings.Join(kinds, ", ")
	var widest, total, common, different int
	for w, n := range st.Widths {
		if n > 0 {
			different++
			widest = w
			total += n
			if n > st.Widths[common] {
				common = w
			}
		}
	}
	switch {
	case different == 1:
		text += fmt.Sprintf("; all data records of %s", render.Count(widest, "byte"))
	case different > 1:
		text += fmt.Sprintf("; data records of up to %d bytes, %s of %s with %d", widest, memory.FormatCount(uint64(st.Widths[common])), memory.FormatCount(uint64(total)), common)
	}
	if total > 1 && !st.InOrder {
		text += "; not in the order of addresses"
	}
	return text
}

type inspectJSON struct {
	Schema string            `json:"schema"`
	Files  []inspectFileJSON `json:"files"`
}

type inspectFileJSON struct {
	Name     string        `json:"name"`
	Format   string        `json:"format"`
	Size     int64         `json:"size"`
	SHA256   string        `json:"sha256"`
	Whole    bool          `json:"whole"`
	Problems []problemJSON `json:"problems"`

	Bytes    uint64       `json:"bytes"`
	Contents string       `json:"contentsSha256,omitempty"`
	Span     *jsonSpan    `json:"span,omitempty"`
	Runs     []jsonSpan   `json:"runs,omitempty"`
	Start    string       `json:"start,omitempty"`
	Header   string       `json:"header,omitempty"`
	Versions []textJSON   `json:"versions,omitempty"`
	Repeats  []repeatJSON `json:"repeats,omitempty"`
	Records  *recordsJSON `json:"records,omitempty"`
	Regions  []regionJSON `json:"regions,omitempty"`
}

type textJSON struct {
	Address string `json:"address"`
	Text    string `json:"text"`
}

type repeatJSON struct {
	Span    jsonSpan `json:"span"`
	Pattern string   `json:"pattern"`
}

type problemJSON struct {
	Severity string `json:"severity"`
	Line     int    `json:"line,omitempty"`
	Column   int    `json:"column,omitempty"`
	What     string `json:"what"`
	Expected string `json:"expected,omitempty"`
	Advice   string `json:"advice,omitempty"`
}

type recordsJSON struct {
	Lines   int         `json:"lines"`
	Types   []countJSON `json:"types"`
	Widths  []countJSON `json:"widths"`
	InOrder bool        `json:"inOrder"`
}

// countJSON counts the records of one type, or with one number of data bytes.
type countJSON struct {
	Value int `json:"value"`
	Count int `json:"count"`
}

type regionJSON struct {
	Name string   `json:"name"`
	Span jsonSpan `json:"span"`
	Used uint64   `json:"used"`
}

func inspectJSONOf(all []*inspected, dev *device.Map) inspectJSON {
	out := inspectJSON{Schema: "mexalt.inspect/1", Files: []inspectFileJSON{}}
	for _, one := range all {
		f := inspectFileJSON{
			Name: one.Name, Format: one.Format.Word(), Size: one.size, SHA256: one.digest,
			Whole: one.problems.Errors() == 0, Problems: []problemJSON{},
		}
		for _, p := range one.problems.List() {
			f.Problems = append(f.Problems, problemJSON{p.Severity.String(), p.Line, p.Column, p.What, p.Expected, p.Advice})
		}
		if st := one.Statistics; st != nil {
			f.Records = &recordsJSON{Lines: st.Lines, InOrder: st.InOrder, Types: countsOf(st.Types[:]), Widths: countsOf(st.Widths[:])}
		}
		if f.Whole {
			m := one.Image
			f.Bytes, f.Contents = m.Bytes(), fmt.Sprintf("%x", m.Digest())
			if all, ok := m.Span(); ok {
				covered := jsonSpanOf(all)
				f.Span = &covered
			}
			for _, r := range m.Runs() {
				f.Runs = append(f.Runs, jsonSpanOf(r.Span()))
			}
			if m.Start.Kind != memory.NoStart {
				f.Start = jsonAddress(m.Start.Address())
			}
			f.Header = string(m.Header)
			for _, t := range m.Versions(mostVersions) {
				f.Versions = append(f.Versions, textJSON{jsonAddress(t.Address), t.Text})
			}
			for _, same := range m.Repeats(leastRepeat) {
				f.Repeats = append(f.Repeats, repeatJSON{jsonSpanOf(same.Span), fmt.Sprintf("%X", same.Pattern)})
			}
			if dev != nil {
				for _, u := range check.Uses(dev, []memory.Part{{Image: m}}) {
					f.Regions = append(f.Regions, regionJSON{u.Region.Name, jsonSpanOf(u.Region.Span), u.Used})
				}
			}
		}
		out.Files = append(out.Files, f)
	}
	return out
}

func countsOf(counts []int) []countJSON {
	list := []countJSON{}
	for value, n := range counts {
		if n > 0 {
			list = append(list, countJSON{value, n})
		}
	}
	return list
}
