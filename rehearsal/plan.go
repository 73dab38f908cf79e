package rehearsal

import (
	"bytes"
	"cmp"
	"embed"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
	"mexalt/source/settings"
	"mexalt/span"
)

// Extension ends the name of every plan.
const Extension = ".plan.toml"

// MostBytes is how large a plan may be, 4 MiB.
const MostBytes = 4 << 20

// Plan is the order of the acts by which a device is programmed.
type Plan struct {
	Name string
	File string // "" is one that is shipped, or proposed
	By   By
	Acts []Act

	settings *settings.File // nil where it was not read from a file
}

// By is who carries a plan out.
type By string

// Who carries plans out.
const (
	// Programmer is equipment at the programming port.
	Programmer By = "programmer"
	// Bootloader is what runs on the device itself.
	Bootloader By = "bootloader"
)

// Act is one act of a plan.
type Act struct {
	Do    Do
	What  string   // erase: chip, whole, touched
	In    []string // the spans that it is for; none is all that the image holds
	Skip  []string // what it leaves out of them
	Order string   // up or down
	// Set is what words are given, by their fields, in the place of what the image gives.
	Set map[string]string
}

// The file as it is written. This is the one table of its keys: the loader reads by
// it, and the documentation's tables are made of it.
type (
	planFile struct {
		Name string    `toml:"name" doc:"name"`
		By   string    `toml:"by"   doc:"who runs it: a programmer at the bench, or the bootloader on the device"`
		Acts []actFile `toml:"act"  doc:"the acts, in their order"`
	}
	actFile struct {
		Do    string            `toml:"do"    doc:"identify, blank-check, erase, void, program, differ, verify, words, lock, reset, start"`
		What  string            `toml:"what" doc:"erase: chip, the complete device; whole, all sectors of its spans; touched, the sectors in which the image has bytes (touched)"`
		In    settings.Texts    `toml:"in" doc:"spans, made larger to whole sectors, or to granules of what is written and verified (default: all bytes of the image); void needs them, and takes them as they are"`
		Skip  settings.Texts    `toml:"skip"  doc:"spans that are left out, made larger in the same way"`
		Order string            `toml:"order" doc:"erase and program: up or down, by address (up)"`
		Set   map[string]string `toml:"set" doc:"words: { FIELD = \"MEANING\" }, what is written instead of the image's words: the slot that runs, before the other is touched"`
	}
)

//go:embed plans
var shipped embed.FS

// Shipped returns the names of the plans that come with the program.
func Shipped() []string {
	entries, err := shipped.ReadDir("plans")
	if err != nil {
		panic(err) // embedded
	}
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), Extension))
	}
	return names
}

// Open returns the plan of a name: a shipped one's, or a file's.
func Open(files *source.Files, name string) (*Plan, error) {
	var problems source.Problems
	if text, err := shipped.ReadFile(path.Join("plans", name+Extension)); err == nil && !source.Exists(name) {
		p := load(name, text, &problems)
		p.File = ""
		return p, problems.Err()
	}
	if !strings.ContainsAny(name, "./") && !source.Exists(name) {
		if !source.Exists(name + Extension) {
			return nil, fmt.Errorf("unknown plan %s, and no file %s; %s", name, name+Extension, source.DidYouMean(name, Shipped()))
		}
		name += Extension
	}
	text, err := files.ReadAll(name, "plan", MostBytes)
	if err != nil {
		return nil, err
	}
	p := load(name, text, &problems)
	return p, problems.Err()
}

// load reads a plan and finds all that is wrong with it whatever the device.
func load(name string, text []byte, problems *source.Problems) *Plan {
	var f planFile
	p := &Plan{File: name, settings: settings.Decode(name, text, &f, problems)}
	if problems.Errors() > 0 {
		return p
	}
	p.Name, p.By = cmp.Or(f.Name, strings.TrimSuffix(path.Base(name), Extension)), By(f.By)
	wrong := p.settings.Problem
	switch {
	case f.By == "":
		wrong("by", "the plan does not say who runs it", "by = \"programmer\" or \"bootloader\"", "")
	case p.By != Programmer && p.By != Bootloader:
		wrong("by", fmt.Sprintf("%q does not run plans", f.By), "programmer or bootloader", "")
	}
	if len(f.Acts) == 0 {
		wrong("act", "the plan has no act", "[[act]]", "")
	}
	for i, a := range f.Acts {
		at := fmt.Sprintf("act[%d]", i)
		act := Act{Do(a.Do), a.What, a.In, a.Skip, a.Order, a.Set}
		switch {
		case a.Do == "":
			wrong(at, "the act does not say what to do", "do = \"erase\", or another act", "")
			continue
		case kindOf(act.Do) == nil:
			wrong(at+".do", fmt.Sprintf("unknown act %q", a.Do), strings.Join(actWords(nil), ", "), source.DidYouMean(a.Do, actWords(nil)))
			continue
		}
		kind := kindOf(act.Do)
		belongs := func(has func(*actKind) bool) string { return "it belongs to " + strings.Join(actWords(has), ", ") }
		switch {
		case act.What != "" && !kind.whats:
			wrong(at+".what", "what has no effect on "+a.Do, belongs(func(k *actKind) bool { return k.whats }), "")
		case act.What != "" && !slices.Contains([]string{"chip", "whole", "touched"}, act.What):
			wrong(at+".what", fmt.Sprintf("%q is not erased", act.What), "chip, whole or touched", "")
		case act.What == "whole" && len(act.In) == 0:
			wrong(at+".what", "what = \"whole\" needs spans", "in = [\"REGION\"], or what = \"chip\"", "")
		case kind.needs != "" && len(act.In) == 0:
			wrong(at, "the act does not say "+kind.needs, "in = [\"checksum.NAME\"]", "")
		}
		for key, list := range map[string][]string{"in": act.In, "skip": act.Skip} {
			if len(list) > 0 && !kind.spans {
				wrong(at+"."+key, key+" has no effect on "+a.Do, belongs(func(k *actKind) bool { return k.spans }), "")
			}
			if len(list) > 0 && act.What == "chip" {
				wrong(at+"."+key, key+" has no effect where the whole chip is erased", "what = \"touched\" or \"whole\"", "")
			}
		}
		switch {
		case act.Order != "" && !kind.ordered:
			wrong(at+".order", "order has no effect on "+a.Do, belongs(func(k *actKind) bool { return k.ordered }), "")
		case act.Order != "" && act.Order != "up" && act.Order != "down":
			wrong(at+".order", fmt.Sprintf("%q is not an order", act.Order), "up or down", "")
		}
		if len(act.Set) > 0 && !kind.sets {
			wrong(at+".set", "set has no effect on "+a.Do, belongs(func(k *actKind) bool { return k.sets }), "")
		}
		p.Acts = append(p.Acts, act)
	}
	return p
}

// Text returns the plan as a file, below a comment.
func (p *Plan) Text(comment string) string {
	var b strings.Builder
	for line := range strings.Lines(comment) {
		fmt.Fprintf(&b, "# %s\n", strings.TrimSuffix(line, "\n"))
	}
	list := func(key string, texts []string) {
		if len(texts) > 0 {
			fmt.Fprintf(&b, "%s = [", key)
			for i, t := range texts {
				if i > 0 {
					b.WriteString(", ")
				}
				fmt.Fprintf(&b, "%q", t)
			}
			b.WriteString("]\n")
		}
	}
	fmt.Fprintf(&b, "\nname = %q\nby = %q\n", p.Name, p.By)
	for _, a := range p.Acts {
		fmt.Fprintf(&b, "\n[[act]]\ndo = %q\n", a.Do)
		if a.What != "" {
			fmt.Fprintf(&b, "what = %q\n", a.What)
		}
		list("in", a.In)
		list("skip", a.Skip)
		if a.Order != "" {
			fmt.Fprintf(&b, "order = %q\n", a.Order)
		}
		if len(a.Set) > 0 {
			b.WriteString("set = {")
			for i, field := range slices.Sorted(maps.Keys(a.Set)) {
				fmt.Fprintf(&b, "%s %s = %q", map[bool]string{true: ","}[i > 0], field, a.Set[field])
			}
			b.WriteString(" }\n")
		}
	}
	return b.String()
}

// step is what an act does at once: one sector erased, one page programmed.
type step struct {
	act  int
	do   Do
	n    int // the number of the memory's bank
	span memory.Span
	data []byte // program, void, words, lock: what is written at span
	all  bool   // erase: the whole device
	time device.Times
	link time.Duration // before the device begins
}

// changes reports whether the step changes cells.
func (s *step) changes() bool { return s.do == Erase || s.writes() }

func (s *step) writes() bool {
	return s.do == Program || s.do == Void || s.do == Words || s.do == Lock
}

// abilities returns what a port must be able to do for the step.
func (s *step) abilities() []device.Ability {
	switch s.do {
	case Identify:
		return []device.Ability{device.CanIdentify}
	case BlankCheck, Verify:
		return []device.Ability{device.CanRead}
	case Differ:
		return []device.Ability{device.CanRead, device.CanProgram}
	case Words, Lock:
		return []device.Ability{device.CanWords}
	case Erase:
		if s.all {
			return []device.Ability{device.CanEraseAll}
		}
	}
	return []device.Ability{device.CanProgram}
}

// steps are a plan laid out for one image and one map.
type steps struct {
	plan   *Plan
	list   []step
	image  *memory.Image
	device *device.Map // as the image will configure the device
	link   device.Link
	words  map[string]uint64 // what the image gives the configuration words
	spared time.Duration     // what acts leave out because it is there already
}

// mostSteps bounds a rehearsal.
const mostSteps = 1 << 19

// layout lays a plan out for an image. The map is as the chip is configured.
func layout(p *Plan, c *chip.Chip, image *memory.Image, baud uint64) (*steps, error) {
	l := &steps{plan: p, image: image, link: c.Map.Link, words: map[string]uint64{}}
	if baud > 0 {
		l.link.Baud = baud
	}
	if l.link.Bits == 0 {
		l.link.Bits = 10 // a start and a stop bit
	}
	for i := range c.Map.Config {
		if v, ok := c.Map.Config[i].In(image); ok {
			l.words[c.Map.Config[i].Name] = v
		}
	}
	// Spans are named by the regions as they will be.
	values := map[string]uint64{}
	for name, v := range c.State.Values {
		values[name] = v
	}
	for name, v := range l.words {
		values[name] = v
	}
	m := c.Map.Configured(values)
	l.device = m
	names := m.Names()
	if all, ok := image.Span(); ok {
		names.Set("image", all)
	}
	for i := range m.Checksums {
		d := &m.Checksums[i]
		if s, err := d.Spec(m, image); err == nil {
			names.Set(span.ChecksumPrefix+d.Name, *s.Place)
		} else if place, ok := memory.SpanOf(d.At, d.Size); ok && d.Place == nil && d.At != 0 {
			names.Set(span.ChecksumPrefix+d.Name, place)
		}
	}
	var problems source.Problems
	for i := range p.Acts {
		if err := l.act(c, i, names, &problems); err != nil {
			return nil, err
		}
		if len(l.list) > mostSteps {
			return nil, &source.Problem{
				File:     c.Map.File,
				What:     fmt.Sprintf("the image needs more than %s steps", memory.FormatCount(mostSteps)),
				Expected: "a page or a granule for each memory, so that fewer are needed, or a smaller image",
			}
		}
	}
	return l, problems.Err()
}

// act lays one act out.
func (l *steps) act(c *chip.Chip, i int, names span.Names, problems *source.Problems) error {
	a := &l.plan.Acts[i]
	resolve := func(key string, texts []string) (list []memory.Span) {
		for j, text := range texts {
			s, err := span.Span(text, names)
			if err != nil {
				if l.plan.settings == nil {
					problems.Add(&source.Problem{What: err.Error()})
					continue
				}
				at := l.plan.settings.Item(fmt.Sprintf("act[%d].%s", i, key), j)
				problems.Add(l.plan.settings.At(at, err.Error(), "", ""))
				continue
			}
			list = append(list, s)
		}
		return list
	}
	in, skip := resolve("in", a.In), resolve("skip", a.Skip)
	if len(a.In) == 0 {
		in = memory.Complement(nil)
	}
	before := len(l.list)
	if err := kindOf(a.Do).lay(l, c, i, in, skip); err != nil {
		return err
	}
	if a.Order == "down" {
		slices.Reverse(l.list[before:])
	}
	return nil
}

// wanted returns what of a memory an act is for: its spans less what it skips, both
// made larger to the whole pieces, pages or sectors, that hold an address.
func (l *steps) wanted(b *chip.Bank, in, skip []memory.Span, piece func(uint64) memory.Span) []memory.Span {
	if b.Kind == device.Config {
		return nil // its words are acts of their own
	}
	whole := func(spans []memory.Span) (list []memory.Span) {
		for _, s := range memory.Intersect(memory.Union(spans), []memory.Span{b.Span}) {
			list = append(list, memory.Span{First: piece(s.First).First, Last: piece(s.Last).Last})
		}
		return memory.Union(list)
	}
	return memory.Without(whole(in), whole(skip))
}

// keptSector is a sector of a bank.
type keptSector struct {
	memory.Span
	n int
}

// units returns the sectors that an act is for: those in which the image has bytes,
// or all of its spans.
func (l *steps) units(c *chip.Chip, i int, in, skip []memory.Span) (list []keptSector, err error) {
	held := uint64(0)
	for n, b := range c.Banks {
		if !b.HasSectors() {
			continue
		}
		spans := l.wanted(b, in, skip, b.SectorOf)
		if l.plan.Acts[i].What != "whole" {
			var runs []memory.Span
			for _, s := range spans {
				for r := range l.image.In(s) {
					runs = append(runs, r.Span())
				}
			}
			spans = runs
		}
		for _, s := range spans {
			for at := s.First; ; {
				sector := b.SectorOf(at)
				if k := len(list); k == 0 || list[k-1].Span != sector {
					list = append(list, keptSector{sector, n})
					held += sector.Size()
				}
				if held > chip.MostHeld || len(list) > mostSteps {
					return nil, fmt.Errorf("the sectors that the image touches have more than %s", memory.FormatSize(chip.MostHeld))
				}
				if sector.Last >= s.Last {
					break
				}
				at = sector.Last + 1
			}
		}
	}
	return list, nil
}

func eraseTime(b *chip.Bank, s memory.Span) device.Times {
	for i := range b.Sectors {
		g := &b.Sectors[i]
		if s.First >= g.First && (s.First-g.First)/g.Size < g.Count && g.Erase != (device.Times{}) {
			return g.Erase
		}
	}
	return b.Erase
}

// eraseChip lays out the erase of the whole device, whose memories are erased at the
// same time, sector by sector.
func (l *steps) eraseChip(c *chip.Chip, i int) {
	var longest device.Times
	for _, b := range c.Banks {
		var t device.Times
		for j := range b.Sectors {
			g := &b.Sectors[j]
			one := eraseTime(b, memory.Span{First: g.First, Last: g.First + g.Size - 1})
			t.Typical = plus(t.Typical, times(g.Count, one.Typical))
			t.Most = plus(t.Most, times(g.Count, one.Most))
		}
		longest.Typical, longest.Most = max(longest.Typical, t.Typical), max(longest.Most, t.Most)
	}
	l.list = append(l.list, step{act: i, do: Erase, all: true, time: longest})
}

// times is so many times as long, but no longer than the longest time.
func times(n uint64, d time.Duration) time.Duration {
	return time.Duration(min(float64(n)*float64(d), float64(longest)))
}

// program lays out the pages that the image has bytes in. What it leaves out of a
// granule is given as erased.
func (l *steps) program(c *chip.Chip, i int, in, skip []memory.Span) error {
	for n, b := range c.Banks {
		for _, s := range l.wanted(b, in, skip, b.GranuleOf) {
			l.pages(i, n, b, s)
		}
	}
	return nil
}

// pages lays out the pages of a span that the image has bytes in.
func (l *steps) pages(i, n int, b *chip.Bank, s memory.Span) {
	for _, page := range l.image.Cut(s).UsedPages(b.PageSize, b.Span.First) {
		page.Last = min(page.Last, b.Span.Last)
		for at := page.First; ; at += b.PageSize {
			one := b.PageOf(at)
			l.page(i, n, b, one, s)
			if one.Last >= page.Last || len(l.list) > mostSteps {
				break
			}
		}
	}
}

// page lays out what is written to one page: whole granules.
func (l *steps) page(i, n int, b *chip.Bank, page, within memory.Span) {
	var pieces []memory.Span
	inside, _ := page.Meet(within)
	for r := range l.image.In(inside) {
		pieces = append(pieces, b.Widen(r.Span(), b.GranuleSize))
	}
	if pieces = memory.Union(pieces); len(pieces) > 1 && !b.Once && !b.Replaces {
		// A page goes at once: between its pieces it is given erased bytes, which change nothing.
		pieces = []memory.Span{{First: pieces[0].First, Last: pieces[len(pieces)-1].Last}}
	}
	for _, s := range pieces {
		both, _ := s.Meet(inside)
		var data []byte
		for r := range l.image.In(both) {
			if r.Span() == s {
				data = r.Data // whole granules, as they stand in the image
				break
			}
			if data == nil {
				data = bytes.Repeat([]byte{b.Erased}, int(s.Size()))
			}
			copy(data[r.First-s.First:], r.Data)
		}
		l.list = append(l.list, step{act: i, do: Program, n: n, span: s, data: data, time: b.Program, link: l.linkTime(s.Size())})
	}
}

// config lays out the configuration words that the image has: without what would
// lock the device, or with it.
func (l *steps) config(c *chip.Chip, i int, do Do) error {
	if set := l.plan.Acts[i].Set; len(set) > 0 {
		return l.set(c, i, set)
	}
	later := slices.ContainsFunc(l.plan.Acts[i+1:], func(a Act) bool { return a.Do == Lock })
	for j := range c.Map.Config {
		w := &c.Map.Config[j]
		final, ok := l.words[w.Name]
		if !ok {
			continue
		}
		open := final
		for k := range w.Fields {
			f := &w.Fields[k]
			if v := f.Value(f.Of(final)); v != nil && (v.Effect == device.Locked || v.Effect == device.Closed) {
				open = open&^f.Mask() | w.Default&f.Mask()
			}
		}
		v := final
		switch {
		case do == Words && later:
			v = open
		case do == Lock && open == final:
			continue
		}
		l.word(c, i, do, w.Span(), w.Bytes(v))
		if s, ok := w.Complement(); ok {
			l.word(c, i, do, s, w.Bytes(^v))
		}
	}
	return nil
}

// set lays out words with fields set to what a plan says.
func (l *steps) set(c *chip.Chip, i int, set map[string]string) error {
	values, changed := maps.Clone(c.State.Values), map[string]bool{}
	for _, field := range slices.Sorted(maps.Keys(set)) {
		words, err := c.Map.Compose(values, field, set[field])
		if err != nil {
			if l.plan.settings == nil {
				return err
			}
			return l.plan.settings.At(fmt.Sprintf("act[%d].set", i), err.Error(), "", "")
		}
		for _, w := range words {
			changed[w.Name] = true
		}
	}
	for j := range c.Map.Config {
		w := &c.Map.Config[j]
		if !changed[w.Name] {
			continue
		}
		l.word(c, i, Words, w.Span(), w.Bytes(values[w.Name]))
		if s, ok := w.Complement(); ok {
			l.word(c, i, Words, s, w.Bytes(^values[w.Name]))
		}
	}
	return nil
}

func (l *steps) word(c *chip.Chip, i int, do Do, s memory.Span, data []byte) {
	n := slices.IndexFunc(c.Banks, func(b *chip.Bank) bool { return b.Span.Contains(s.First) })
	l.list = append(l.list, step{act: i, do: do, n: n, span: s, data: data, time: c.Banks[n].Program, link: l.linkTime(s.Size())})
}

// linkTime is how long it takes to send so many bytes to the device.
func (l *steps) linkTime(n uint64) time.Duration {
	if l.link.Baud == 0 {
		return 0
	}
	if l.link.Packet > 0 {
		n += (n + l.link.Packet - 1) / l.link.Packet * l.link.Overhead
	}
	return time.Duration(min(float64(n)*float64(l.link.Bits)/float64(l.link.Baud)*float64(time.Second), float64(longest)))
}

// readTime is how long it takes to read so many bytes: a bootloader reads without
// the link.
func (l *steps) readTime(n uint64) time.Duration {
	if l.plan.By == Bootloader {
		return 0
	}
	return l.linkTime(n)
}
