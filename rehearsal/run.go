package rehearsal

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"mexalt/device"
	"mexalt/diagnosis"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
	"mexalt/survey"
)

// Options say how a plan is carried out.
type Options struct {
	Baud uint64 // bits a second of the link; 0 is as the map says
	Huge bool   // let a rehearsal pass that needs very much more room than its image
	// Each is told of each step before it is done: of which act, how many steps that
	// has, and how long this one takes. nil is not told.
	Each func(act, steps int, takes time.Duration)
}

// Run is what came of carrying a plan out.
type Run struct {
	Map     *device.Map // as the image will configure the device
	Plan    *Plan
	Acts    []ActResult
	Failed  *Failure // nil: all was done
	Before  Verdict  // what would have started before
	After   Verdict  // what would start now
	NoStart bool     // the map does not say how the device starts, so that both say nothing
	// Wear is what the plan costs the most-used sector of each memory of which the map
	// says how many erases it bears.
	Wear []Wear
	// Spared is how long what acts leave out would take, as it is there already.
	Spared time.Duration
	// Doubts are what the map does not say, and the plan takes for granted.
	Doubts []string
	// Expected is what would start now if all had gone as the plan says.
	Expected Outcome
	Steps    int    // of the whole plan
	Locked   string // the field by which reading is refused now; "" is none
	// Ways are the ways in for a programmer afterwards.
	Ways []device.WayIn
	// LastPort is the last of the map's ports through which the device could be changed
	// before; "" is none.
	LastPort string
	// NoReturn is the number of the act, from 1, after which no way in remains once the
	// device is reset; 0 is that one does, or that there was none before.
	NoReturn          int
	MissingTimes      []string // what the map does not say, so that no time is counted for it
	Unknown           []string // hazards of the image's words of which the map names no effect
	OverwrittenLoader string   // the bootloader that carries the plan out, and that it writes over
}

// ActResult is what came of one act.
type ActResult struct {
	Act
	State   State
	First   int // the number of its first step, from 1
	Steps   int
	Bytes   uint64
	Spans   []memory.Span // what it is for
	Cells   int           // of its steps, those in memories that erase what they write
	Written uint64        // bytes of these
	Link    time.Duration // what the link takes of it
	Typical time.Duration // what all of it takes
	Most    time.Duration
	Said    string // what it found
}

// State is how far an act got.
type State uint8

// The states of an act.
const (
	NotReached State = iota
	Done
	Failed
	CutOff // the power failed
)

var stateWords = []string{"not reached", "done", "failed", "cut"}

func (s State) String() string { return stateWords[s] }

// Failure is why an act failed.
type Failure struct {
	Act      int // of the plan
	Step     int // from 1
	Where    *memory.Span
	What     string
	Expected string
	Advice   source.Advice
	// What verifying found: the comparison, its likely causes and both images.
	Compared *survey.Comparison
	Causes   []diagnosis.Cause
	// Answer is what the device identifies itself as, where that is not as the map has it.
	Answer         []byte
	Expects, Found *memory.Image
}

// Error says what failed.
func (f *Failure) Error() string { return f.What }

// Total is how long the whole plan takes.
func (r *Run) Total() (link, typical, most time.Duration) {
	for i := range r.Acts {
		a := &r.Acts[i]
		link, typical, most = plus(link, a.Link), plus(typical, a.Typical), plus(most, a.Most)
	}
	return link, typical, most
}

// longest is the longest time that is told, some 73 years: two of it have a sum, and
// a float64 holds it exactly.
const longest = time.Duration(1 << 61)

// plus adds times, but no further than to the longest.
func plus(a, b time.Duration) time.Duration { return min(min(a, longest)+min(b, longest), longest) }

// forecast tells what each act will do, and how long it takes.
func (l *steps) forecast(c *chip.Chip) (acts []ActResult, untold []string) {
	acts = make([]ActResult, len(l.plan.Acts))
	lacking := map[string]bool{}
	lacks := func(what string) {
		if !lacking[what] {
			lacking[what] = true
			untold = append(untold, what)
		}
	}
	for i := range acts {
		acts[i].Act = l.plan.Acts[i]
	}
	for i := range l.list {
		s := &l.list[i]
		a := &acts[s.act]
		if a.Steps == 0 {
			a.First = i + 1
		}
		a.Steps++
		a.Link = plus(a.Link, s.link)
		a.Typical = plus(a.Typical, plus(s.link, s.time.Typical))
		a.Most = plus(a.Most, plus(s.link, max(s.time.Most, s.time.Typical)))
		switch {
		case s.all:
		case s.span != (memory.Span{}) || len(s.data) > 0:
			if a.Bytes += s.span.Size(); !c.Banks[s.n].HasSectors() && s.writes() {
				a.Cells, a.Written = a.Cells+1, a.Written+s.span.Size()
			}
			a.Spans = append(a.Spans, s.span)
		}
		if s.changes() && s.time == (device.Times{}) {
			what := "programming"
			if s.do == Erase {
				what = "erasing"
			}
			if s.all {
				lacks("erasing the device")
			} else {
				lacks(what + " " + c.Banks[s.n].Name)
			}
		}
	}
	for i := range acts {
		acts[i].Spans = memory.Union(acts[i].Spans)
	}
	if l.link.Baud == 0 {
		lacks("the link")
	}
	return acts, untold
}

// Rehearse carries a plan out on the chip, with an image. An error is a plan that
// cannot be laid out for the chip; what fails when it is carried out is in the
// result. Its context ends a rehearsal with an error.
func Rehearse(ctx context.Context, c *chip.Chip, p *Plan, image *memory.Image, o Options) (*Run, error) {
	l, err := layout(p, c, image, o.Baud)
	if err != nil {
		return nil, err
	}
	run := &Run{Plan: p, Map: l.device, Steps: len(l.list)}
	run.Acts, run.MissingTimes = l.forecast(c)
	j := newJudge(c.Clone(), l.expected(c), l)
	run.Before, run.NoStart = j.judge(c), len(c.Map.Starts) == 0
	run.Expected = j.judge(j.after).Outcome
	run.Unknown, run.OverwrittenLoader = l.unknown(c), l.overwrittenLoader(c)
	run.Doubts, run.Wear = l.doubts(c), l.wear(c)
	run.Spared = l.spared
	if run.Failed = l.unfit(c, run.Before); run.Failed != nil {
		run.After = run.Before
		return run, nil
	}
	if err := l.cutFits(c.Faults.Cut, image, o.Huge); err != nil {
		return nil, err
	}
	for _, w := range c.State.Ways {
		if w.Changes() {
			run.LastPort = w.Port
		}
	}
	r := &rehearsing{Run: run, steps: l, chip: c, judge: j, each: o.Each, open: device.AnyChanges(c.State.Ways)}
	for i := 0; i < len(l.list) && run.Failed == nil; i++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		r.step(i)
	}
	for i := range run.Acts {
		if a := &run.Acts[i]; a.Steps == 0 && (run.Failed == nil || i < run.Failed.Act) {
			a.State = Done
		}
	}
	c.Reset()
	run.After = j.judge(c)
	run.Locked, run.Ways = c.LockedBy(), c.State.Ways
	return run, nil
}

// cutFits tells of a power cut that the plan does not have, or for which very much of the
// part would be kept.
func (l *steps) cutFits(cut *chip.Cut, image *memory.Image, huge bool) error {
	switch {
	case cut == nil:
		return nil
	case cut.Act > len(l.list):
		return source.Keyf("fault", "the power is cut in act %d, and the plan has %d", cut.Act, len(l.list))
	case cut.When != chip.Within || huge:
		return nil
	}
	if s := &l.list[cut.Act-1]; s.do == Erase && !s.all {
		return room(s.span.Size(), image)
	}
	return nil
}

// rehearsing is a rehearsal while it is carried out.
type rehearsing struct {
	*Run
	*steps
	chip     *chip.Chip
	judge    *judge
	each     func(act, steps int, takes time.Duration)
	verified verifying
	open     bool // something of the device could be changed before
}

// step carries out a step, until the power is cut in it, or something fails.
func (r *rehearsing) step(i int) {
	s, cut := &r.list[i], r.chip.Faults.Cut
	a := &r.Acts[s.act]
	if r.each != nil {
		r.each(s.act, a.Steps, s.link+s.time.Typical)
	}
	here := cut != nil && cut.Act == i+1
	// What is refused does not begin.
	if here && (cut.When == chip.Before || cut.When == chip.Within && refuses(r.chip, r.steps, s) == nil) {
		if cut.When == chip.Within {
			cutWithin(r.chip, s, i, cut.Reading)
		}
		r.Failed, a.State = powerFailed(s, i), CutOff
		return
	}
	last := i+1 == len(r.list) || r.list[i+1].act != s.act
	failed := carryOut(r.chip, r.steps, s, &r.verified)
	if failed == nil && s.do == Verify && last {
		failed = r.verified.judged(r.chip)
		r.verified = verifying{}
	}
	if failed != nil {
		failed.Act, failed.Step = s.act, i+1
		r.Failed, a.State = failed, Failed
		return
	}
	if last {
		a.State, a.Said = Done, kindOf(a.Do).said(r.chip)
		if r.NoReturn == 0 && r.open && (s.do == Words || s.do == Lock || s.all) && !device.AnyChanges(r.chip.WaysAfterReset()) {
			r.NoReturn = s.act + 1
		}
		if s.do == StartPart && !r.NoStart {
			a.Said = r.judge.judge(r.chip).Outcome.Text()
		}
	}
	if here {
		if r.Failed = powerFailed(s, i); a.State != Done {
			a.State = CutOff
		}
	}
}

func powerFailed(s *step, i int) *Failure {
	f := &Failure{Act: s.act, Step: i + 1, What: "the power failed, " + s.text()}
	if s.changes() && !s.all {
		f.Where = &s.span
	}
	return f
}

// expected returns a chip as this one should be when the plan is done: without its
// faults.
func (l *steps) expected(c *chip.Chip) *chip.Chip {
	out := c.Clone()
	out.Faults = chip.Faults{}
	for i := range l.list {
		if s := &l.list[i]; s.changes() {
			apply(out, s)
		}
	}
	out.Reset()
	return out
}

// unknown returns the hazards of the image's configuration words whose effect the map
// does not say.
func (l *steps) unknown(c *chip.Chip) (list []string) {
	values := map[string]uint64{}
	for i := range c.Map.Config {
		w := &c.Map.Config[i]
		values[w.Name] = w.Default
	}
	maps.Copy(values, l.words)
	for field, v := range c.Map.Meant(values) {
		if v.Hazard != "" && v.Effect == "" && len(v.Protects) == 0 {
			list = append(list, fmt.Sprintf("%s (%s)", field, v.Meaning))
		}
	}
	return list
}

// Wear is how many erases a plan costs one sector.
type Wear struct {
	Memory        string
	Erases, Bears uint64
}

// wear counts the erases of sectors.
func (l *steps) wear(c *chip.Chip) (list []Wear) {
	for n, b := range c.Banks {
		if b.Bears == 0 {
			continue
		}
		erases := map[uint64]uint64{}
		w := Wear{Memory: b.Name, Bears: b.Bears}
		all := uint64(0)
		for i := range l.list {
			switch s := &l.list[i]; {
			case s.do == Erase && s.all:
				all++
			case s.do == Erase && s.n == n:
				erases[s.span.First]++
				w.Erases = max(w.Erases, erases[s.span.First])
			}
		}
		if w.Erases += all; w.Erases > 0 {
			list = append(list, w)
		}
	}
	return list
}

// Taken is what an erase of the whole chip takes that the image does not give again.
type Taken struct {
	Region string
	Bytes  uint64
}

// TakenBy returns what a plan's erase of the whole chip takes with it: what stands in
// regions of which the image has nothing.
func TakenBy(c *chip.Chip, p *Plan, image *memory.Image) (list []Taken, err error) {
	l, err := layout(p, c, image, 0)
	if err != nil || !slices.ContainsFunc(l.list, func(s step) bool { return s.all }) {
		return nil, err
	}
	for i := range l.device.Regions {
		r := &l.device.Regions[i]
		b := c.BankAt(r.Span.First)
		if b == nil || b.Kind != device.Flash && b.Kind != device.EEPROM || image.Count(r.Span) > 0 {
			continue
		}
		n := uint64(0)
		b.Each(r.Span, func(t *chip.Stretch, from, to int) {
			for _, x := range t.Data[from:to] {
				if x != b.Erased {
					n++
				}
			}
		})
		if n > 0 {
			list = append(list, Taken{r.Name, n})
		}
	}
	return list, nil
}

// doubts returns what the plan takes for granted and the map does not say.
func (l *steps) doubts(c *chip.Chip) (list []string) {
	if l.plan.By != Bootloader || c.Map.Loader.CanWrite != nil {
		return nil
	}
	for i := range l.list {
		if s := &l.list[i]; s.do == Words || s.do == Lock {
			if what := fmt.Sprintf("whether the bootloader can write %s", c.Banks[s.n].Name); !slices.Contains(list, what) {
				list = append(list, what)
			}
		}
	}
	return list
}

// overwrittenLoader returns the bootloader that carries the plan out, where the plan writes over
// it; "" is none.
func (l *steps) overwrittenLoader(c *chip.Chip) string {
	if l.plan.By != Bootloader {
		return ""
	}
	r, _, ok := entered(c.State.Resolved, c.Image())
	if !ok || r == nil || r.Role != device.Bootloader {
		return ""
	}
	for i := range l.list {
		s := &l.list[i]
		if _, met := r.Span.Meet(s.span); s.changes() && (s.all || met) {
			return r.Name
		}
	}
	return ""
}

// unfit tells what keeps a plan from being begun.
func (l *steps) unfit(c *chip.Chip, before Verdict) *Failure {
	if l.plan.By == Bootloader && before.Outcome.Bad() && len(c.Map.Starts) > 0 {
		return &Failure{What: "the plan is run by the bootloader on the device, and the device " + before.Outcome.Text() + ": " +
			before.Why(),
			Expected: "a device that was programmed before",
			Advice:   source.Advise("give its contents, or program it with the factory plan")}
	}
	return l.notBlank(c)
}

// notBlank finds the first page that would be programmed over something else without
// an erase.
func (l *steps) notBlank(c *chip.Chip) *Failure {
	erased := make([][]memory.Span, len(c.Banks))
	all := false
	for i := range l.list {
		s := &l.list[i]
		switch {
		case s.do == Erase && s.all:
			all = true
		case s.do == Erase:
			if n := len(erased[s.n]); n > 0 && erased[s.n][n-1].Last+1 == s.span.First {
				erased[s.n][n-1].Last = s.span.Last
			} else {
				erased[s.n] = append(erased[s.n], s.span)
			}
		case s.do == Program && !all:
			b := c.Banks[s.n]
			if !b.HasSectors() || covered(erased[s.n], s.span) {
				continue
			}
			held := c.Peek(b, s.span)
			for k, x := range s.data {
				if got := held[k]; got != b.Erased &&
					(b.Once || l.image.Holds(s.span.First+uint64(k)) && chip.OneWay(got, x, b.Erased) != x) {
					at := memory.Span{First: s.span.First + uint64(k), Last: s.span.First + uint64(k)}
					return &Failure{
						Act:   s.act,
						Where: &at,
						What: fmt.Sprintf("%s is not blank: it contains %02X, and no act erases it before it is programmed",
							memory.FormatAddress(at.First), got),
						Expected: fmt.Sprintf("%02X", b.Erased),
						Advice:   source.Advise("erase its sector first"),
					}
				}
			}
		}
	}
	return nil
}

func covered(spans []memory.Span, s memory.Span) bool {
	for _, t := range spans {
		if t.Covers(s) {
			return true
		}
	}
	return len(memory.Without([]memory.Span{s}, memory.Union(spans))) == 0
}

// apply changes cells as a step says, and asks nothing. It reports false where a
// granule would be written twice.
func apply(c *chip.Chip, s *step) bool {
	switch {
	case s.do == Erase && s.all:
		c.EraseAll()
	case s.do == Erase:
		c.Erase(c.Banks[s.n], s.span)
	default:
		return c.ProgramAt(c.Banks[s.n], s.span.First, s.data)
	}
	return true
}

// cutWithin does what a power cut within a step leaves: i is the step's number, from 0.
func cutWithin(c *chip.Chip, s *step, i, draw int) {
	c.SeedAt(uint64(i+1)<<16 | uint64(draw))
	switch {
	case !s.changes():
	case s.all:
		for _, b := range c.Banks {
			if b.Kind != device.Flash && b.Kind != device.EEPROM {
				continue
			}
			for _, t := range b.Stretches {
				c.CutErase(b, memory.Span{First: t.First, Last: t.Last()}, draw)
			}
		}
	case s.do == Erase:
		c.CutErase(c.Banks[s.n], s.span, draw)
	default:
		c.CutProgram(c.Banks[s.n], s.span.First, s.data, draw)
	}
}

// carryOut does one step as whoever carries the plan out would.
func carryOut(c *chip.Chip, l *steps, s *step, v *verifying) *Failure {
	if f := refuses(c, l, s); f != nil {
		return f
	}
	if carry := kindOf(s.do).carry; carry != nil {
		return carry(c, s, v)
	}
	if !apply(c, s) {
		b := c.Banks[s.n]
		what, advice := "a granule of it was written since it was erased, and is written once only", "erase its sector first"
		if b.Kind == device.OTP {
			what, advice = "it was written already, and is written once, ever", "leave it out, or use another device"
		}
		return &Failure{
			Where:    &s.span,
			What:     fmt.Sprintf("refused: %s: %s", s.span.Range(), what),
			Expected: "erased cells",
			Advice:   source.Advise(advice),
		}
	}
	return nil
}

// refuses tells what keeps a device from a step, before it begins: a port that is
// closed, a lock, a protection.
func refuses(c *chip.Chip, l *steps, s *step) *Failure {
	if l.plan.By == Programmer && s.do != ResetPart && s.do != StartPart {
		for _, a := range s.abilities() {
			if p := c.Refuses(a); p != nil {
				if !c.Silent() {
					p.What = "refused: " + p.What
				}
				return &Failure{What: p.What, Expected: p.Expected, Advice: p.Advice}
			}
		}
	}
	if !s.changes() {
		return nil
	}
	if can := c.Map.Loader.CanWrite; l.plan.By == Bootloader && (s.do == Words || s.do == Lock) && can != nil &&
		!slices.Contains(can, c.Banks[s.n].Name) {
		return &Failure{
			Where:    &s.span,
			What:     fmt.Sprintf("refused: the bootloader cannot write %s", c.Banks[s.n].Name),
			Expected: "words that a programmer writes",
			Advice:   source.Advise("leave the words out of the image, or the act out of the plan"),
		}
	}
	for i := range c.State.Protects {
		p := &c.State.Protects[i]
		_, met := p.Meet(s.span)
		if met && s.do != Words && s.do != Lock || s.all && s.do == Erase {
			return &Failure{
				Where:    &p.Span,
				What:     fmt.Sprintf("refused: %s is protected by %s", p.Range(), p.By),
				Expected: "sectors that are not protected",
				Advice:   source.Advise("take the protection away, or leave them out"),
			}
		}
	}
	return nil
}

// room says that a rehearsal would keep so many bytes of a device, which are out of
// proportion to its image; nil is that they are not.
func room(bytes uint64, image *memory.Image) error {
	if bytes > memory.Proportion(image.Bytes()) {
		return source.Keyf(
			"huge",
			"the erased sectors have %s, and the image %s; `huge` keeps them anyway",
			memory.FormatSize(bytes),
			memory.FormatSize(image.Bytes()),
		)
	}
	return nil
}

func blankCheck(c *chip.Chip, s *step) *Failure {
	b := c.Banks[s.n]
	if b.Torn() {
		c.DrawUndefined()
	}
	for at := s.span.First; ; {
		const most = 64 << 10 // a sector may be very large
		data, n := b.Next(at, s.span.Last)
		if data != nil || !c.Faults.ReadsWell() {
			n = min(n, most)
			for i, x := range c.Read(memory.Span{First: at, Last: at + n - 1}) {
				if x != b.Erased {
					odd := memory.Span{First: at + uint64(i), Last: at + uint64(i)}
					return &Failure{
						Where:    &odd,
						What:     fmt.Sprintf("%s is not blank: it contains %02X", memory.FormatAddress(odd.First), x),
						Expected: fmt.Sprintf("%02X", b.Erased),
						Advice:   source.Advise("erase its sector; if you did, find out why the erase failed"),
					}
				}
			}
		}
		if n > s.span.Last-at {
			return nil
		}
		at += n
	}
}

// verifying is what a verify act has read so far.
type verifying struct {
	expects, found []memory.Run
	differ         bool
}

// read reads a span back.
func (v *verifying) read(c *chip.Chip, s *step) {
	b := c.Banks[s.n]
	if b.Torn() {
		c.DrawUndefined()
	}
	if c.Faults.ReadsWell() {
		v.expects = append(v.expects, memory.Run{First: s.span.First, Data: s.data})
		if b.Equals(s.span, s.data) && !v.differ {
			v.found = append(v.found, memory.Run{First: s.span.First, Data: s.data})
			return
		}
		v.differ = true
		v.found = append(v.found, memory.Run{First: s.span.First, Data: c.Peek(b, s.span)})
		return
	}
	found := c.Read(s.span)
	v.expects, v.found = append(v.expects, memory.Run{First: s.span.First, Data: s.data}),
		append(v.found, memory.Run{First: s.span.First, Data: found})
	v.differ = v.differ || !bytes.Equal(found, s.data)
}

// judged tells what verifying found in the end.
func (v *verifying) judged(c *chip.Chip) *Failure {
	if !v.differ {
		return nil
	}
	f := &Failure{Expects: memory.View(v.expects, chip.Origin), Found: memory.View(v.found, chip.Origin)}
	f.Compared = survey.Compare(f.Expects, f.Found, nil)
	if f.Compared.Same() {
		return nil
	}
	first := f.Compared.Differences[0]
	erased := c.Map.ErasedAt(first.First)
	f.Causes = diagnosis.Of(f.Expects, f.Found, diagnosis.Options{Erased: erased}).Causes
	f.Where = &first.Span
	f.What = fmt.Sprintf("%s differ from the image, the first at %s", memory.FormatBytes(f.Compared.Differ),
		memory.FormatAddress(first.First))
	if f.Compared.Differ == 1 {
		f.What = fmt.Sprintf("1 byte differs from the image, at %s", memory.FormatAddress(first.First))
	}
	f.Causes = append(f.Causes, v.placed(c, f)...)
	f.Advice = source.Advise("program the device again; if it fails at the same address, replace the device, otherwise check the link")
	return f
}

// placed looks at where the differences lie: in one page that is as erased, in one
// sector.
func (v *verifying) placed(c *chip.Chip, f *Failure) (causes []diagnosis.Cause) {
	first, last := f.Compared.Differences[0].First, f.Compared.Differences[len(f.Compared.Differences)-1].Last
	b := c.BankAt(first)
	if f.Compared.Differ == 1 {
		var e, g [1]byte
		f.Expects.ReadAt(e[:], first)
		f.Found.ReadAt(g[:], first)
		if odd := e[0] ^ g[0]; odd&(odd-1) == 0 {
			return []diagnosis.Cause{
				{Text: fmt.Sprintf("found %02X, expected %02X: one bit is stuck or was misread", g[0], e[0])},
			}
		}
		return nil
	}
	sector, page := b.SectorOf(first), b.PageOf(first)
	switch {
	case b.HasSectors() && sector.Contains(last) && onlyProgrammed(f, b.Erased):
		return []diagnosis.Cause{{Text: fmt.Sprintf("all is in the sector %s: it was not erased, or is protected", sector.Range())}}
	case page.Contains(last):
		return []diagnosis.Cause{
			{
				Text: fmt.Sprintf("all differences are in page %s: the page cannot be programmed, or its data was corrupted in transfer",
					page.Range()),
			},
		}
	}
	return nil
}

// onlyProgrammed reports whether bits differ only where they were not to leave the
// erased value.
func onlyProgrammed(f *Failure, erased byte) bool {
	for _, d := range f.Compared.Differences {
		for r := range f.Found.In(d.Span) {
			expected := make([]byte, len(r.Data))
			f.Expects.ReadAt(expected, r.First)
			for i := range r.Data {
				if (expected[i]^erased)&^(r.Data[i]^erased) != 0 {
					return false
				}
			}
		}
	}
	return true
}
