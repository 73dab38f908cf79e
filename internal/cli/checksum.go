package cli

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"mexalt/checksum"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var checksumCommand = &command{
	name: "checksum", usage: "[flags] FILE",
	short: "computes a check value, stores it, proves it, finds its algorithm",
	long: `
Computes the check value over the spans, in the order given, and prints it.
Holes are an error, unless -holes says what they count as.

With -store the value is written into the image, which is then the result; the
value is told on standard error. Bytes that are there already are not written
over unless they are erased, hold the same value, or -replace is given. Where
the value's own place lies inside the spans, -slot says what it counts as.

With -expect or -expect-at the value is held against one that is known, or that
the image holds: status 1, with a hint, where they differ.

With -identify or -identify-at, the algorithm is searched that gives a known
value: all that -kinds lists, either byte order, the spans with their ends moved
by the usual suspects, all rules for words, holes and the value's place. Several
files, each with an -identify of its own, narrow it; with three or more of equal
length, the polynomial of a CRC in no catalogue is found too.

A kind is a name that -kinds lists, or a CRC's parameters:
'width=16 poly=0x1021 init=0xFFFF refin=false refout=false xorout=0'.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		c := &checksumRun{order: "little"}
		c.r.define(fs)
		c.w.defineBase(fs)
		c.define(fs)
		return c.run
	},
}

// checksumRun holds the flags of checksum, and what they come to.
type checksumRun struct {
	r                            reading
	w                            writing
	kinds, in, skip, identify    list
	order, slot                  string
	store, lengthAt              string
	expect, expectAt, identifyAt string
	hole                         *byte
	word, width                  int
	replace, json, listKinds     bool

	dev  *device.Map
	feed checksum.Feed
}

func (c *checksumRun) define(fs *flag.FlagSet) {
	number := func(into *int, allowed ...int) func(string) error {
		return func(v string) error {
			n, err := span.Number(v)
			if err == nil && !slices.Contains(allowed, int(n)) {
				err = fmt.Errorf("%q is none of %s", v, strings.Trim(fmt.Sprint(allowed), "[]"))
			}
			*into = int(n)
			return err
		}
	}
	fs.Var(&c.kinds, "kind", "the algorithm's `NAME` or parameters; may be given several times (CRC-32/ISO-HDLC)")
	fs.Var(&c.in, "in", "compute over `SPAN`; may be given several times (image)")
	fs.Var(&c.skip, "skip", "leave `SPAN` out; may be given several times")
	fs.Func("holes", "take holes as `BYTE`", oneByte(&c.hole))
	fs.Func("word", "feed the bytes of words of `N` bytes, 2, 4 or 8, in reverse order", number(&c.word, 1, 2, 4, 8))
	fs.Var(choice{&c.slot, checksum.SlotWords[1:]}, "slot", "take the value's own place by `RULE` skip, zero or erased")
	fs.StringVar(&c.store, "store", "", "store the value at `ADDRESS`")
	fs.Var(choice{&c.order, []string{"little", "big"}}, "order", "the stored bytes' `ORDER` little or big (little)")
	fs.Func("width", "store the value in `N` bytes (as many as it has)", number(&c.width, 1, 2, 3, 4, 5, 6, 7, 8, 16, 20, 28, 32, 48, 64))
	fs.StringVar(&c.lengthAt, "length-at", "", "store the number of bytes fed at `ADDRESS` too, in 4 bytes")
	fs.BoolVar(&c.replace, "replace", false, "store even over other bytes")
	fs.StringVar(&c.expect, "expect", "", "prove that the value is `VALUE`")
	fs.StringVar(&c.expectAt, "expect-at", "", "prove that the value is the one stored at `ADDRESS`")
	fs.Var(&c.identify, "identify", "find the algorithm that gives `VALUE`; once for each file")
	fs.StringVar(&c.identifyAt, "identify-at", "", "find the algorithm that gives the value stored at `ADDRESS`")
	fs.BoolVar(&c.listKinds, "kinds", false, "list the algorithms, or those with a text behind -kinds in their names")
	fs.BoolVar(&c.json, "json", false, "print the result as JSON")
}

func (c *checksumRun) run(s *session, args []string) error {
	if c.listKinds {
		return c.printKinds(s, args)
	}
	if len(c.identify) > 0 || c.identifyAt != "" {
		return c.find(s, args)
	}
	if c.expect != "" && c.expectAt != "" {
		return usagef("-expect and -expect-at both say what is expected; give one")
	}
	if c.store != "" && c.expect+c.expectAt != "" {
		return usagef("a value is stored or proved, not both in one run: leave out -store or -expect")
	}
	if len(c.kinds) == 0 {
		c.kinds = list{"CRC-32/ISO-HDLC"}
	}
	var kinds []*checksum.Kind
	for _, text := range c.kinds {
		k, err := checksum.KindOf(text)
		if err != nil {
			return usagef("-kind: %w", err)
		}
		kinds = append(kinds, k)
	}
	if len(kinds) > 1 && (c.store != "" || c.expect != "" || c.expectAt != "") {
		return usagef("%d kinds are given; one at a time is stored or proved", len(kinds))
	}
	dev, f, err := s.readOne(&c.r, args)
	if err != nil {
		return err
	}
	c.dev = dev
	known := withImage(names(dev), f.Image)
	if err := c.spans(known); err != nil {
		return err
	}
	for _, at := range []string{c.store, c.expectAt} {
		if at == "" {
			continue
		}
		width := c.width
		if width == 0 {
			width = kinds[0].Size()
		}
		place, err := c.placeOf(at, width, known)
		if err != nil {
			return err
		}
		c.feed.Place, c.feed.Erased = &place, erasedValue(dev, place.First)
	}
	image := f.Image
	if c.lengthAt != "" {
		if image, err = c.storeLength(s, f, known); err != nil {
			return err
		}
	}
	var results []checksumResult
	for _, k := range kinds {
		value, err := c.feed.Sum(k, image, runtime.GOMAXPROCS(0))
		if err != nil {
			return c.feedError(f, err)
		}
		results = append(results, c.result(k, value))
	}
	switch {
	case c.store != "":
		return c.storeValue(s, f, image, results[0])
	case c.lengthAt != "":
		c.print(s.err, "mexalt checksum: ", results)
		return s.write(&c.w, &c.r, image, f.Format)
	case c.expect != "" || c.expectAt != "":
		return c.prove(s, f, image, results[0])
	case c.json:
		return printJSON(s.out, checksumJSON{Schema: "mexalt.checksum/1", Results: results})
	}
	c.print(s.out, "", results)
	return nil
}

// spans resolves -in and -skip.
func (c *checksumRun) spans(known span.Names) error {
	if len(c.in) == 0 {
		c.in = list{"image"}
	}
	var err error
	if c.feed.Spans, err = spans("in", c.in, known); err != nil {
		return err
	}
	c.feed.Skip, err = spans("skip", c.skip, known)
	c.feed.Hole, c.feed.Word = c.hole, c.word
	c.feed.Slot = checksum.Slot(slices.Index(checksum.SlotWords, c.slot))
	return err
}

// placeOf returns the place of a value of width bytes.
func (c *checksumRun) placeOf(text string, width int, known span.Names) (memory.Span, error) {
	address, err := span.Address(text, known)
	if err != nil {
		return memory.Span{}, usagef("%w", err)
	}
	at, ok := memory.SpanOf(address, uint64(width))
	if !ok {
		return at, usagef("%s: %d bytes there run past the last 64-bit address", text, width)
	}
	return at, nil
}

// feedError says whose fault it is that an algorithm cannot be fed.
func (c *checksumRun) feedError(f *codec.File, err error) error {
	var holes *checksum.HolesError
	if errors.As(err, &holes) {
		return inputf("%s: %w; fill them first, say what they count as (-holes FF), or name spans without holes (-in)", f.Name, err)
	}
	return usagef("%w", err)
}

func (c *checksumRun) orderOf() checksum.Order {
	if c.order == "big" {
		return checksum.Big
	}
	return checksum.Little
}

// overwrite stores bytes, unless others than erased ones are there.
func (c *checksumRun) overwrite(f *codec.File, m *memory.Image, at memory.Span, bytes []byte) (*memory.Image, error) {
	for old := range m.In(at) {
		for i, b := range old.Data {
			a := old.First + uint64(i)
			if b != erasedValue(c.dev, a) && b != bytes[a-at.First] && !c.replace {
				from, _ := m.Origin(a)
				return nil, inputf("%s: there is a byte %02X at %s, where the value should be stored; it is neither erased nor the same (-replace writes over it)",
					from, b, memory.FormatAddress(a))
			}
		}
	}
	stored, ok := m.Write(&source.Input{Name: "checksum", Counting: source.Operation}, at.First, bytes)
	if !ok {
		return nil, inputf("%s: the value does not fit into 64-bit addresses", f.Name)
	}
	return stored, nil
}

func (c *checksumRun) storeLength(s *session, f *codec.File, known span.Names) (*memory.Image, error) {
	const width = 4
	at, err := c.placeOf(c.lengthAt, width, known)
	if err != nil {
		return nil, err
	}
	size := c.feed.Size()
	if size >= 1<<(8*width) {
		return nil, usagef("-length-at: %d bytes are fed, which do not fit into %d bytes", size, width)
	}
	length := checksum.Value{byte(size >> 24), byte(size >> 16), byte(size >> 8), byte(size)}
	bytes, err := length.Stored(c.orderOf(), width)
	if err != nil {
		return nil, usagef("%w", err)
	}
	image, err := c.overwrite(f, f.Image, at, bytes)
	if err == nil {
		s.note("length %s stored at %s, %s-endian", memory.FormatCount(size), at.Range(), c.order)
	}
	return image, err
}

func (c *checksumRun) storeValue(s *session, f *codec.File, image *memory.Image, r checksumResult) error {
	bytes, err := r.value.Stored(c.orderOf(), int(c.feed.Place.Size()))
	if err != nil {
		return usagef("-width: %w", err)
	}
	if image, err = c.overwrite(f, image, *c.feed.Place, bytes); err != nil {
		return err
	}
	stored := jsonSpanOf(*c.feed.Place)
	r.Stored, r.Order = &stored, c.order
	if c.json {
		if err := printJSON(s.err, checksumJSON{Schema: "mexalt.checksum/1", Results: []checksumResult{r}}); err != nil {
			return err
		}
	} else {
		s.note("%s, stored at %s, %s-endian", r.text(), c.feed.Place.Range(), c.order)
	}
	return s.write(&c.w, &c.r, image, f.Format)
}

// prove holds the value against the one expected.
func (c *checksumRun) prove(s *session, f *codec.File, image *memory.Image, r checksumResult) error {
	var expected checksum.Value
	if c.expectAt != "" {
		stored := make([]byte, c.feed.Place.Size())
		if !image.ReadAt(stored, c.feed.Place.First) {
			return inputf("%s: the image does not hold the bytes %s, where the value is expected", f.Name, c.feed.Place.Range())
		}
		expected, _ = checksum.Value(stored).Stored(c.orderOf(), 0) // turning bytes round is its own inverse
	} else {
		v, err := checksum.ParseValue(c.expect)
		if err != nil {
			return usagef("-expect: %w", err)
		}
		expected = v
	}
	whole, err := expected.Stored(checksum.Big, len(r.value))
	if err == nil && string(whole) == string(r.value) {
		r.Expected = expected.String()
		if c.json {
			return printJSON(s.out, checksumJSON{Schema: "mexalt.checksum/1", Results: []checksumResult{r}})
		}
		fmt.Fprintf(s.out, "%s: %s\n", render.Good.Sprint("as expected"), r.text())
		return nil
	}
	r.Expected = expected.String()
	if err == nil {
		r.Hints = c.feed.Explain(r.kind, image, r.value, whole)
	}
	if c.json {
		if err := printJSON(s.out, checksumJSON{Schema: "mexalt.checksum/1", Results: []checksumResult{r}}); err != nil {
			return err
		}
		return errFindings
	}
	fmt.Fprintf(s.out, "%s: %s; %s expected\n", render.Bad.Sprint("different"), r.text(), r.Expected)
	for _, h := range r.Hints {
		fmt.Fprintf(s.out, "  %s %s would have given it\n", render.Doubt.Sprint("hint:"), h)
	}
	return errFindings
}

// find searches for the algorithm.
func (c *checksumRun) find(s *session, args []string) error {
	args, err := s.operands(args)
	if err != nil {
		return err
	}
	if c.identifyAt != "" && len(c.identify) > 0 {
		return usagef("-identify and -identify-at both give the value; give one")
	}
	if c.identifyAt == "" && len(c.identify) != len(args) {
		return usagef("%s and %s: each file needs an -identify of its own", render.Count(len(args), "file"), render.Count(len(c.identify), "value"))
	}
	if c.dev, err = s.loadDevice(&c.r, args); err != nil {
		return err
	}
	files, err := s.readAll(&c.r, args, names(c.dev))
	if err != nil {
		return err
	}
	widths := []int{c.width}
	if c.identifyAt != "" && c.width == 0 {
		widths = []int{4, 8, 2} // one byte agrees with too much by chance, unless asked for
	}
	var out identifyJSON
	out.Schema = "mexalt.checksum/1"
	out.Results = []hitJSON{}
	for _, width := range widths {
		q := checksum.Query{Erased: erasedValue(c.dev, 0), Cores: runtime.GOMAXPROCS(0), Pages: []uint64{128, 256, 512, 1 << 10, 2 << 10, 4 << 10}}
		for i, f := range files {
			p := checksum.Pair{Image: f.Image}
			if c.identifyAt != "" {
				place, err := c.placeOf(c.identifyAt, width, withImage(names(c.dev), f.Image))
				if err != nil {
					return err
				}
				p.Place, p.Value = &place, make(checksum.Value, width)
				if !f.Image.ReadAt(p.Value, place.First) {
					if len(widths) > 1 {
						p.Value = nil
						break
					}
					return inputf("%s: the image does not hold the bytes %s", f.Name, place.Range())
				}
				if c.dev != nil {
					q.Erased = erasedValue(c.dev, place.First)
				}
			} else if p.Value, err = checksum.ParseValue(c.identify[i]); err != nil {
				return usagef("-identify: %w", err)
			}
			q.Pairs = append(q.Pairs, p)
		}
		if len(q.Pairs) < len(files) {
			continue
		}
		if q.Spans, err = c.candidates(files); err != nil {
			return err
		}
		hits, tried := checksum.Identify(q)
		c.report(s, &out, q, hits, tried)
		const certain = 0.01
		if len(hits) > 0 && hits[0].Chance < certain {
			break // what narrower values agree with by chance is no news
		}
		if len(hits) == 0 && c.identifyAt == "" && len(files) > 2 {
			if err := c.recover(s, &out, q); err != nil {
				return err
			}
		}
	}
	if c.json {
		if err := printJSON(s.out, out); err != nil {
			return err
		}
	}
	if len(out.Results) == 0 {
		return errFindings
	}
	return nil
}

// candidates lists the spans to search: those of -in, else the image, the
// regions that hold something, and the runs where they are few.
func (c *checksumRun) candidates(files []*codec.File) ([]checksum.NamedSpans, error) {
	texts := []string(c.in)
	if len(texts) == 0 {
		texts = []string{"image"}
		if c.dev != nil {
			for _, r := range c.dev.Regions {
				if files[0].Image.Count(r.Span) > 0 {
					texts = append(texts, r.Name)
				}
			}
		}
		const few = 6
		if runs := files[0].Image.Runs(); len(files) == 1 && len(runs) > 1 && len(runs) <= few {
			for _, r := range runs {
				texts = append(texts, r.Span().Range())
			}
		}
	}
	var list []checksum.NamedSpans
	for _, t := range texts {
		n := checksum.NamedSpans{Text: t}
		for _, f := range files {
			sp, err := span.Span(t, withImage(names(c.dev), f.Image))
			if err != nil {
				return nil, usagef("-in %w", err)
			}
			n.Spans = append(n.Spans, sp)
		}
		list = append(list, n)
	}
	return list, nil
}

// report prints the hits for values of one length.
func (c *checksumRun) report(s *session, out *identifyJSON, q checksum.Query, hits []checksum.Hit, tried int) {
	const most = 20
	var values []string
	for _, p := range q.Pairs {
		values = append(values, p.Value.String())
	}
	value := strings.Join(values, ", ")
	if !c.json {
		found := "nothing known gives"
		if len(hits) > 0 {
			found = render.Count(len(hits), "hit") + " for"
		}
		chance := ""
		if len(hits) > 0 {
			chance = "; by chance alone, " + chanceText(hits[0].Chance) + " would be expected"
		}
		fmt.Fprintf(s.out, "%s %s: %s ways tried%s\n", found, value, memory.FormatCount(uint64(tried)), chance)
	}
	for i, h := range hits {
		flags := h.Flags
		if c.identifyAt != "" {
			flags += " -expect-at " + c.identifyAt
			if len(q.Pairs[0].Value) > 1 {
				flags += " -order " + h.Order.String()
			}
		} else if stored, err := q.Pairs[0].Value.Stored(h.Order, 0); err == nil {
			flags += " -expect " + checksum.Value(stored).String()
		}
		reversed := ""
		if h.Order == checksum.Little && c.identifyAt == "" {
			reversed = "  (the value's bytes reversed)"
		}
		out.Results = append(out.Results, hitJSON{Kind: h.Kind.Name, Value: q.Pairs[0].Value.String(), Order: h.Order.String(), Flags: flags, Chance: h.Chance})
		if i < most && !c.json {
			fmt.Fprintf(s.out, "  %s%s\n", flags, reversed)
		} else if i == most && !c.json {
			fmt.Fprintf(s.out, "  and %d more; another image with its value narrows it\n", len(hits)-most)
		}
	}
}

func chanceText(chance float64) string {
	switch {
	case chance < 0.01:
		return "none"
	case chance < 10:
		return fmt.Sprintf("about %.1g", chance)
	}
	return fmt.Sprintf("about %.0f", chance)
}

// recover searches for a CRC that is in no catalogue.
func (c *checksumRun) recover(s *session, out *identifyJSON, q checksum.Query) error {
	for _, candidate := range q.Spans {
		var messages [][]byte
		var values []checksum.Value
		for i, p := range q.Pairs {
			f := checksum.Feed{Spans: []memory.Span{candidate.Spans[i]}, Hole: c.hole, Word: c.word}
			pieces, err := f.Bytes(p.Image)
			if err != nil {
				return inputf("%w; say what holes count as (-holes FF)", err)
			}
			messages, values = append(messages, slices.Concat(pieces...)), append(values, p.Value)
		}
		found, err := checksum.Recover(messages, values)
		if err != nil {
			s.note("note: no unknown polynomial is searched for over %s: %s", candidate.Text, err)
			continue
		}
		for _, r := range found {
			flags := fmt.Sprintf("-kind '%s' -in %s", r.CRC, candidate.Text)
			if stored, err := values[0].Stored(r.Order, 0); err == nil {
				flags += " -expect " + checksum.Value(stored).String()
			}
			out.Results = append(out.Results, hitJSON{Kind: r.CRC.String(), Value: values[0].String(), Order: r.Order.String(), Flags: flags, Open: r.Open})
			if c.json {
				continue
			}
			fmt.Fprintf(s.out, "a CRC that is in no catalogue gives all of them:\n  %s\n", flags)
			for _, open := range r.Open {
				fmt.Fprintf(s.out, "  left open: %s\n", open)
			}
		}
	}
	return nil
}

// printKinds lists the algorithms.
func (c *checksumRun) printKinds(s *session, args []string) error {
	if len(args) > 1 {
		return usagef("-kinds takes one text to look for")
	}
	text := strings.ToLower(strings.Join(args, ""))
	var rows [][]string
	var listed []kindJSON
	for _, k := range checksum.Kinds() {
		if !strings.Contains(strings.ToLower(k.Name+" "+strings.Join(k.Aliases, " ")), text) {
			continue
		}
		row := []string{k.Name, fmt.Sprint(k.Bits)}
		entry := kindJSON{Kind: k.Name, Group: k.Group, Bits: k.Bits, Aliases: append([]string{}, k.Aliases...)}
		if p := k.CRC; p != nil {
			digits := (k.Bits + 3) / 4
			number := func(v uint64) string { return fmt.Sprintf("0x%0*X", digits, v) }
			reflected := strings.TrimSpace(map[bool]string{true: "in"}[p.RefIn] + map[bool]string{true: " out"}[p.RefOut])
			row = append(row, number(p.Poly), number(p.Init), reflected, number(p.XorOut), number(p.Residue()))
			entry.Parameters, entry.Residue = p.String(), number(p.Residue())
		} else {
			row = append(row, k.Group, "", "", "", "")
		}
		rows, listed = append(rows, append(row, strings.Join(k.Aliases, " "))), append(listed, entry)
	}
	if len(rows) == 0 {
		return usagef("-kinds: no algorithm has %q in its name", args[0])
	}
	if c.json {
		return printJSON(s.out, kindsJSON{"mexalt.checksum/1", listed})
	}
	render.Table(s.out, []string{"kind", "bits", "poly", "init", "reflected", "xorout", "residue", "also known as"}, rows, 2)
	return nil
}

// result is what one algorithm gave.
func (c *checksumRun) result(k *checksum.Kind, v checksum.Value) checksumResult {
	r := checksumResult{Kind: k.Name, Value: v.String(), kind: k, value: v, fed: c.feed.Spans}
	for _, sp := range c.feed.Spans {
		r.Spans = append(r.Spans, jsonSpanOf(sp))
	}
	return r
}

func (c *checksumRun) print(to io.Writer, before string, results []checksumResult) {
	for _, r := range results {
		fmt.Fprintf(to, "%s%s\n", before, r.text())
	}
}

type checksumJSON struct {
	Schema  string           `json:"schema"`
	Results []checksumResult `json:"results"`
}

type checksumResult struct {
	Kind     string     `json:"kind"`
	Value    string     `json:"value"`
	Spans    []jsonSpan `json:"spans"`
	Stored   *jsonSpan  `json:"stored,omitempty"`
	Order    string     `json:"order,omitempty"`
	Expected string     `json:"expected,omitempty"`
	Hints    []string   `json:"hints,omitempty"`

	kind  *checksum.Kind
	value checksum.Value
	fed   []memory.Span
}

func (r *checksumResult) text() string {
	var over []string
	for _, f := range r.fed {
		over = append(over, f.String())
	}
	return fmt.Sprintf("%s %s over %s", r.Kind, r.Value, strings.Join(over, ", "))
}

type identifyJSON struct {
	Schema  string    `json:"schema"`
	Results []hitJSON `json:"results"`
}

type hitJSON struct {
	Kind   string   `json:"kind"`
	Value  string   `json:"value"`
	Order  string   `json:"order"`
	Flags  string   `json:"flags"`
	Chance float64  `json:"chance"`
	Open   []string `json:"open,omitempty"`
}

type kindsJSON struct {
	Schema  string     `json:"schema"`
	Results []kindJSON `json:"results"`
}

type kindJSON struct {
	Kind       string   `json:"kind"`
	Group      string   `json:"group"`
	Bits       int      `json:"bits"`
	Parameters string   `json:"parameters,omitempty"`
	Residue    string   `json:"residue,omitempty"`
	Aliases    []string `json:"aliases"`
}

// jsonSpan is a span in JSON: addresses are strings without _, since JSON
// numbers do not hold 64 bits everywhere.
type jsonSpan struct {
	First string `json:"first"`
	Last  string `json:"last"`
	Size  uint64 `json:"size"`
}

func jsonSpanOf(s memory.Span) jsonSpan {
	return jsonSpan{jsonAddress(s.First), jsonAddress(s.Last), s.Size()}
}

func jsonAddress(a uint64) string { return fmt.Sprintf("0x%X", a) }

func printJSON(to io.Writer, v any) error {
	e := json.NewEncoder(to)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
