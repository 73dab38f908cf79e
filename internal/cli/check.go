package cli

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var checkCommand = &command{
	name: "check", usage: "-device MAP [flags] FILE...",
	short: "findings of an image against a device map",
	long: `
Holds an image against the map of the device that it is meant for: may this go
in? Several files are checked as the parts of one image, each in the region in
which it begins. With -region, the files are one part alone, which must lie in
that region whole.

Regions have the sizes that the image's configuration words give them, or else
the map's defaults. What is found is an error (not to be programmed), a warning
(most likely wrong) or a note. Errors and warnings end with status 1, unless they
were accepted by name: -accept RULE, or -accept RULE:NAME for one field or region.

Several -device say which of them fits, and if none does, which comes nearest.`,
	more: listRules,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		c := &checkRun{format: "text"}
		c.r.defineReading(fs)
		c.define(fs)
		return c.run
	},
}

// listRules lists the rules for help.
func listRules() string {
	var b strings.Builder
	b.WriteString("Rules:\n")
	for _, r := range check.Rules {
		fmt.Fprintf(&b, "  %-17s %s\n", r.Name, r.Finds)
	}
	return b.String()
}

// checkRun holds the flags of check.
type checkRun struct {
	r              reading
	devices        list
	region, format string
	accept         list
	to             string
	json           bool
	baud           uint64
}

func (c *checkRun) define(fs *flag.FlagSet) {
	fs.Var(&c.devices, "device", "device `MAP`: a file, or the name of a map; several to see which fits")
	fs.StringVar(&c.region, "region", "", "check one part alone, which must lie in region `NAME`")
	fs.Var(&c.accept, "accept", "accept findings of `RULE`, or RULE:NAME; may be given several times")
	fs.Var(choice{&c.format, []string{"text", "json", "sarif", "junit"}}, "format", "report as `FORMAT` text, json, sarif or junit (text)")
	fs.BoolVar(&c.json, "json", false, "the same as -format json")
	fs.StringVar(&c.to, "o", "", "write the report to `FILE`")
	fs.Func("baud", "tell the time that sending takes at `N` bits a second", func(v string) (err error) {
		c.baud, err = span.Number(v)
		if err == nil && c.baud == 0 {
			err = fmt.Errorf("0 bits a second never end")
		}
		return err
	})
}

func (c *checkRun) run(s *session, args []string) error {
	args, err := s.operands(args)
	if err != nil {
		return err
	}
	if len(c.devices) == 0 {
		return usagef("which device? -device MAP; maps that come with mexalt: %s", strings.Join(device.Shipped(), ", "))
	}
	if c.json {
		c.format = "json"
	}
	for _, a := range c.accept {
		rule, _, _ := strings.Cut(a, ":")
		if !slices.ContainsFunc(check.Rules, func(r check.Rule) bool { return r.Name == rule }) {
			var known []string
			for _, r := range check.Rules {
				known = append(known, r.Name)
			}
			return usagef("-accept: there is no rule %q; %s", rule, source.DidYouMean(rule, known))
		}
	}
	var maps []*device.Map
	for _, d := range c.devices {
		c.r.device = d
		m, err := s.loadDevice(&c.r, args)
		if err != nil {
			return err
		}
		maps = append(maps, m)
	}
	files, err := s.readAll(&c.r, args, names(maps[0]))
	if err != nil {
		return err
	}
	parts := make([]memory.Part, len(files))
	images := make([]*memory.Image, len(files))
	for i, f := range files {
		parts[i], images[i] = memory.Part{Name: f.Name, Image: f.Image}, f.Image
	}
	_, clashes := memory.Merge(images, memory.First)
	if err := s.clashes(clashes, "stop"); err != nil {
		return err
	}
	var results []*check.Result
	for _, m := range maps {
		o := check.Options{Accept: c.accept}
		if c.region != "" {
			if o.Region = m.Region(c.region); o.Region == nil {
				return usagef("-region: %s has no region %q; %s", m.Name, c.region, source.DidYouMean(c.region, m.RegionNames()))
			}
		}
		results = append(results, check.Run(m, parts, o))
	}
	best := slices.MinFunc(results, func(a, b *check.Result) int { return len(a.Counting()) - len(b.Counting()) })
	if err := c.report(s, best, results, files, parts); err != nil {
		return err
	}
	if len(best.Counting()) == 0 {
		return nil
	}
	if c.region == "" {
		c.suggest(s, args, parts, best)
	}
	return errFindings
}

// suggest tells of a known map that was not asked for and that fits: the wrong
// variant of a part is easily named.
func (c *checkRun) suggest(s *session, args []string, parts []memory.Part, best *check.Result) {
	for _, name := range device.Known(mapFolders(args)) {
		if slices.Contains([]string(c.devices), name) {
			continue
		}
		file, text, err := device.Find(name, mapFolders(args))
		if err != nil {
			continue
		}
		var problems source.Problems
		m := device.Load(file, text, &problems)
		if problems.Errors() > 0 || m.Name == best.Map.Name {
			continue
		}
		if len(check.Run(m, parts, check.Options{Accept: c.accept}).Counting()) == 0 {
			s.note("note: the image fits %s (-device %s)", m.Name, name)
		}
	}
}

// report prints the report of the best of the maps, to a file or to standard
// output.
func (c *checkRun) report(s *session, best *check.Result, all []*check.Result, files []*codec.File, parts []memory.Part) error {
	write := func(to io.Writer) error {
		switch c.format {
		case "json":
			return printJSON(to, checkJSONOf(best))
		case "sarif":
			return printSARIF(to, best)
		case "junit":
			return printJUnit(to, best)
		}
		if len(all) > 1 {
			c.printFit(to, all, best)
		}
		c.printFindings(to, best, files, parts)
		return nil
	}
	if c.to == "" || c.to == "-" {
		return write(s.out)
	}
	var text bytes.Buffer
	if c.format == "text" {
		render.Plain(true)
	}
	if err := write(&text); err != nil {
		return err
	}
	err := s.replace([]output{{c.to, func(to io.Writer) error { _, err := to.Write(text.Bytes()); return err }}})
	if err == nil {
		s.note("wrote %s: %s", c.to, verdict(best))
	}
	return err
}

// printFit says which of several maps fits.
func (c *checkRun) printFit(to io.Writer, all []*check.Result, best *check.Result) {
	for _, r := range all {
		n := r.Counting()
		if len(n) == 0 {
			fmt.Fprintf(to, "%s: %s\n", r.Map.Name, render.Good.Sprint("fits"))
			continue
		}
		fmt.Fprintf(to, "%s: does not fit, %s; the first: %s: %s\n", r.Map.Name, countFindings(n), n[0].Rule, n[0].What)
	}
	if len(best.Counting()) > 0 {
		fmt.Fprintf(to, "none fits; %s comes nearest:\n", best.Map.Name)
	}
	fmt.Fprintln(to)
}

func (c *checkRun) printFindings(to io.Writer, r *check.Result, files []*codec.File, parts []memory.Part) {
	for _, f := range r.Findings {
		colour, severity := render.Bad, f.Severity.String()
		switch {
		case f.Accepted:
			colour, severity = render.Faint, "accepted "+severity
		case f.Severity != check.Error:
			colour = render.Doubt
		}
		at := f.Origin
		if at == "" {
			at = f.Input
		}
		if at == "" {
			at = r.Map.Name
		}
		fmt.Fprintf(to, "%s: %s %s at %s: %s; %s (%s)\n", at, colour.Sprint(severity), f.Rule, f.Where, f.What, f.Expected, f.Advice)
	}
	if len(r.Findings) > 0 {
		fmt.Fprintln(to)
	}
	var rows [][]string
	bars := isTerminal(to)
	header := []string{"region", "span", "bytes used", "bytes free", "used"}
	for i := range r.Map.Regions {
		region := &r.Map.Regions[i]
		if c.region != "" && region.Name != c.region {
			continue
		}
		size, used := region.Span.Size(), r.Whole.Count(region.Span)
		row := []string{region.Name, region.Span.String(), memory.FormatCount(used), memory.FormatCount(size - used), fmt.Sprintf("%.1f %%", 100*float64(used)/float64(size))}
		if bars {
			row = append(row, render.Bar(used, size))
		}
		rows = append(rows, row)
	}
	if bars {
		header = append(header, "")
	}
	render.Table(to, header, rows, 3, 4, 5)
	fmt.Fprintln(to)
	if len(r.Map.Config) > 0 && c.region == "" {
		from := "the map's defaults"
		if r.FromImage {
			from = "the image"
		}
		fmt.Fprintf(to, "regions as configured by %s\n", from)
	}
	c.printWork(to, r, files)
	var names []string
	for _, p := range parts {
		names = append(names, p.Name)
	}
	colour := render.Good
	if len(r.Counting()) > 0 {
		colour = render.Bad
	}
	fmt.Fprintf(to, "%s: %s against %s (%s)\n", colour.Sprint(verdict(r)), strings.Join(names, " + "), r.Map.Name, r.Map.File)
}

// printWork says what programming the image takes.
func (c *checkRun) printWork(to io.Writer, r *check.Result, files []*codec.File) {
	var bytes, pages, sectors uint64
	for _, mem := range r.Map.Memories {
		if !mem.Programmable() {
			continue
		}
		bytes += r.Whole.Count(mem.Span)
		if mem.Page > 0 {
			moved, _ := r.Whole.Cut(mem.Span).Move(mem.Span.First, true)
			for _, p := range moved.UsedPages(mem.Page) {
				pages += p.Size() / mem.Page
			}
		}
		for _, s := range mem.Sectors {
			if r.Whole.Count(s) > 0 {
				sectors++
			}
		}
	}
	fmt.Fprintf(to, "to program: %s in %s, %s to erase", memory.FormatSize(bytes), countText(pages, "page"), countText(sectors, "sector"))
	if c.baud > 0 {
		const bitsPerByte = 10 // with start and stop bit
		seconds := func(bytes float64) string {
			t := bytes * bitsPerByte / float64(c.baud)
			if t < 120 {
				return fmt.Sprintf("%.1f s", t)
			}
			return fmt.Sprintf("%d min %02d s", int(t)/60, int(t)%60)
		}
		size := 0
		o := codec.WriteOptions{Format: codec.Hex}
		if len(files) > 0 && files[0].Format == codec.Srec {
			o.Format = codec.Srec
		}
		if _, err := o.Check(r.Whole); err == nil {
			w := &countingWriter{}
			codec.Write(w, r.Whole, o)
			size = w.n
		}
		fmt.Fprintf(to, "; at %s bits a second %s as raw bytes", memory.FormatCount(c.baud), seconds(float64(bytes)))
		if size > 0 {
			fmt.Fprintf(to, ", %s as %s", seconds(float64(size)), o.Format)
		}
	}
	fmt.Fprintln(to)
}

type countingWriter struct{ n int }

func (w *countingWriter) Write(b []byte) (int, error) { w.n += len(b); return len(b), nil }

// verdict says in few words what was found.
func verdict(r *check.Result) string {
	counting := r.Counting()
	accepted, notes := 0, 0
	for _, f := range r.Findings {
		switch {
		case f.Accepted:
			accepted++
		case f.Severity == check.Note:
			notes++
		}
	}
	words := "nothing found"
	if len(counting) > 0 {
		words = countFindings(counting)
	}
	if accepted > 0 {
		words += fmt.Sprintf(", %d accepted", accepted)
	}
	if notes > 0 {
		words += ", " + render.Count(notes, "note")
	}
	return words
}

// countFindings counts them by severity: "2 errors, 1 note".
func countFindings(findings []check.Finding) string {
	var counts [check.Note + 1]int
	for _, f := range findings {
		counts[f.Severity]++
	}
	var words []string
	for severity, n := range counts {
		if n > 0 {
			words = append(words, render.Count(n, check.Severity(severity).String()))
		}
	}
	return strings.Join(words, ", ")
}

type checkJSON struct {
	Schema   string        `json:"schema"`
	Device   string        `json:"device"`
	Findings []findingJSON `json:"findings"`
}

type findingJSON struct {
	Severity string   `json:"severity"`
	Rule     string   `json:"rule"`
	Name     string   `json:"name,omitempty"`
	Accepted bool     `json:"accepted"`
	Span     jsonSpan `json:"span"`
	Region   string   `json:"region,omitempty"`
	Input    string   `json:"input,omitempty"`
	Origin   string   `json:"origin,omitempty"`
	What     string   `json:"what"`
	Expected string   `json:"expected"`
	Advice   string   `json:"advice"`
}

func checkJSONOf(r *check.Result) checkJSON {
	out := checkJSON{Schema: "mexalt.check/1", Device: r.Map.Name, Findings: []findingJSON{}}
	for _, f := range r.Findings {
		out.Findings = append(out.Findings, findingJSON{
			f.Severity.String(), f.Rule, f.Name, f.Accepted, jsonSpanOf(f.Where), f.Region, f.Input, f.Origin, f.What, f.Expected, f.Advice,
		})
	}
	return out
}

func countText(n uint64, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return memory.FormatCount(n) + " " + noun + "s"
}
