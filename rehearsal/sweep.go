package rehearsal

import (
	"cmp"
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// worse reports whether one outcome is worse than another, for who carries a plan out: at
// the bench a device that starts nothing is no loss, and one that starts what is neither
// leaves the bench.
func (by By) worse(a, b Outcome) bool {
	if by == Programmer && a.Bad() && b.Bad() {
		return a < b
	}
	return a > b
}

// Sweep is what power cuts at every moment of a plan leave behind.
type Sweep struct {
	Plan    *Plan
	Steps   int
	Moments int
	// Timed is whether the map says how long anything takes; where it does not, each
	// act counts as one, and there are no times.
	Timed     bool
	Total     time.Duration // by typical times, with the link
	Windows   []Window      // in their order, without gaps
	Durations [Nothing + 1]time.Duration
	Counts    [Nothing + 1]int      // of moments
	Chances   [Nothing + 1]chip.Cut // the first moment of each

	// Unrepeatable are moments from which the plan, carried out again, does not end
	// with the new: how many, the first, and why.
	Unrepeatable int
	FirstFailing chip.Cut
	WhyFailing   string
	// Lost are those of them in which nothing is left that could carry it out.
	Lost int
	End  Verdict // without a cut
	// Ladder is what is shown of the plan, and what keeps it from more.
	Ladder *Ladder
	limit  float64
}

// Window is a time in which a power cut leaves the same behind.
type Window struct {
	Verdict
	From, To    time.Duration
	First, Last chip.Cut // the first moment of it, and the last
	Moments     int
	Acts        [2]string // what is done in the first, and in the last
	Remedy      string    // the order of acts that would close it; "" for a good one
}

// Safe reports whether the plan bears any number of power cuts, and no guard may hold by
// chance more often than is let pass. A programmer can carry its plan out again on a
// part that starts nothing.
func (s *Sweep) Safe() bool { return s.Shown(AnyCuts) }

// Shown reports whether the plan is shown to stand on a rung.
func (s *Sweep) Shown(r Rung) bool {
	if s.Plan.By == Programmer {
		return s.Ladder.Rung >= Unhurt && s.Counts[Neither] == 0 && s.Unrepeatable == 0
	}
	return s.Ladder.Rung >= r && s.Ladder.Chance <= s.limit
}

// ByChance reports whether a guard may hold by chance more often than is let pass.
func (s *Sweep) ByChance() bool { return s.Ladder.Chance > s.limit }

// Bad returns how long the device is in a state in which no device should be left.
func (s *Sweep) Bad() time.Duration { return plus(s.Durations[Neither], s.Durations[Nothing]) }

// SweepOptions say how a sweep is done.
type SweepOptions struct {
	Baud     uint64
	Chance   float64 // that a guard holds by chance, which is let pass; 0 is [UsualChance]
	Huge     bool
	Progress *source.Progress
}

// UsualChance is how likely a guard may hold over torn bits by chance for a plan to be
// called safe, where nobody says another.
const UsualChance = 1e-6

// readings are how many ways there are in which the torn bits of an act are tried: as
// they stood, as erased or nearly so, as nearly what they should be, and mixed.
const readings = 4

// found is what one moment ends in.
type found struct {
	Verdict
	repeats repeats
}

// repeats is whether the plan, carried out again, ends with the new.
type repeats uint8

const (
	repeatable repeats = iota
	unrepeatable
	lost // nothing is left to carry it out
)

// sweeper is a sweep at work.
type sweeper struct {
	ctx context.Context
	*steps
	judge   *judge
	climber *climber
	// Verdicts by step: before it, which is after the last, and the worst of its draws
	// within it. There is one more before than there are steps.
	before, within []found
	// independent are the steps that end the same whatever the sector held: it is erased
	// by the plan before anything else is done to it. rest is what all others touch.
	independent []bool
	dependent   []int // the other steps
	rest        [][]memory.Span
	sound       bool // the plan ends with the new where no power fails
	counts      [Nothing + 1]int
	repeats     [lost + 1]int
	firstUnsafe int      // the step
	unsafeCut   chip.Cut // of it
	whyUnsafe   string   // of it
	chances     [Nothing + 1]chip.Cut
	mu          sync.Mutex
}

// SweepOf cuts the power at every moment of a plan, and tells what each leaves: before
// and after each act, and within it, where bits are undefined, with several draws.
// The chip is left as it is. Its context ends a sweep with an error.
func SweepOf(ctx context.Context, c *chip.Chip, p *Plan, image *memory.Image, o SweepOptions) (*Sweep, error) {
	if len(c.Map.Starts) == 0 {
		return nil, &source.Problem{
			File:     c.Map.File,
			What:     "the map does not say how the device starts, so the effect of a power cut is unknown",
			Expected: "[start]",
		}
	}
	base := c.Clone()
	base.Faults = chip.Faults{}
	l, err := layout(p, base, image, o.Baud)
	if err != nil {
		return nil, err
	}
	held := uint64(0)
	for i := range l.list {
		if s := &l.list[i]; s.do == Erase && !s.all {
			held += s.span.Size()
		}
	}
	if err := room(held, image); err != nil && !o.Huge {
		return nil, err
	}
	for i := range l.list {
		if s := &l.list[i]; s.changes() && !s.all {
			base.Banks[s.n].Reserve(base, s.span)
		}
	}
	base.Reset()
	w := &sweeper{ctx: ctx, steps: l, judge: newJudge(base.Clone(), l.expected(base), l), firstUnsafe: len(l.list) + 1}
	if f := l.unfit(base, w.judge.judge(base)); f != nil {
		return nil, &UnfitError{f}
	}
	w.findIndependent(base)
	if f := w.repeat(base.Clone()); f != nil {
		f.What = "the plan fails without a power cut: " + f.What
		return nil, &UnfitError{f}
	}
	w.sound = w.judge.judge(w.judge.after).Outcome == StartsNew
	w.climber = newClimber(l, w.judge.before, w.judge.after, w.judge)
	ladder := w.climber.single()
	w.before, w.within = make([]found, len(l.list)+1), make([]found, len(l.list))
	if o.Progress != nil {
		o.Progress.Begin("power cuts in "+p.Name, "acts", int64(len(l.list)))
	}
	cores := min(runtime.GOMAXPROCS(0), max(len(l.list)/64, 1))
	var wait sync.WaitGroup
	for k := range cores {
		from, to := len(l.list)*k/cores, len(l.list)*(k+1)/cores
		if k == cores-1 {
			to++ // what is left when all is done
		}
		wait.Add(1)
		go func() {
			defer wait.Done()
			w.sweep(base.Clone(), from, to, o.Progress)
		}()
	}
	wait.Wait()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	out := w.result()
	out.limit = cmp.Or(o.Chance, UsualChance)
	w.climber.climb(ladder, l.amiss(w.judge.after, out.End), out)
	out.Ladder = ladder
	return out, nil
}

// amiss says why what runs in the end is not the image's own, or not whole; "" is that
// it is.
func (l *steps) amiss(after *chip.Chip, end Verdict) string {
	if end.Outcome != StartsNew {
		return "it ends with a device that " + end.Outcome.Text() + ": " + end.Why()
	}
	held := after.Image()
	for _, b := range after.Banks { // what lies elsewhere checks tell of
		for r := range l.image.In(b.Span) {
			for i, x := range after.Peek(b, r.Span()) {
				if at := r.First + uint64(i); x != r.Data[i] && !l.unlocked(after.Map, at) {
					return fmt.Sprintf("it ends with %02X at %s, and the image has %02X there", x, memory.FormatAddress(at), r.Data[i])
				}
			}
		}
	}
	own := false
	for i := range l.device.Regions {
		r := &l.device.Regions[i]
		own = own || r.Role == device.Application && l.image.Count(r.Span) > 0
	}
	if r := l.device.Region(end.Runs); own && r != nil && l.image.Count(r.Span) == 0 && held.Count(r.Span) > 0 {
		return fmt.Sprintf("%s runs in the end, of which the image has nothing", r.Name)
	}
	return ""
}

// unlocked reports whether an address is of a word that the plan has no act to lock
// with: it holds what opens the device.
func (l *steps) unlocked(m *device.Map, at uint64) bool {
	return slices.ContainsFunc(m.Config, func(w device.Word) bool { return w.Span().Contains(at) }) &&
		slices.ContainsFunc(l.plan.Acts, func(a Act) bool { return a.Do == Words || a.Do == Lock })
}

// UnfitError says why a plan cannot be begun.
type UnfitError struct{ *Failure }

func (e *UnfitError) Error() string { return e.What }

// Problem returns it with what to do.
func (e *UnfitError) Problem() *source.Problem {
	return &source.Problem{What: e.What, Expected: e.Expected, Advice: e.Advice}
}

// sweep looks at the moments of the steps from one on, up to another.
func (w *sweeper) sweep(c *chip.Chip, from, to int, progress *source.Progress) {
	j := &judge{before: w.judge.before, after: w.judge.after, touched: w.judge.touched, final: w.judge.final, finalKnown: true}
	j.forget()
	for i := range from {
		w.advance(c, i)
	}
	var t tally
	for i := from; i < to && w.ctx.Err() == nil; i++ {
		at := chip.Cut{Act: i + 1, When: chip.Before}
		if i == len(w.list) {
			at = chip.Cut{Act: i, When: chip.After}
		}
		if i > from && !w.list[i-1].changes() && w.list[i-1].do != ResetPart {
			w.before[i] = w.before[i-1] // nothing has changed
			t.counts[w.before[i].Outcome]++
			t.again[w.before[i].repeats]++
		} else {
			f, why := w.moment(c, j, i, -1)
			w.before[i] = f
			w.note(&t, f, at, why)
		}
		if i == len(w.list) {
			break
		}
		if w.list[i].changes() {
			at, why := w.torn(c, j, i)
			w.note(&t, w.within[i], at, why)
		}
		w.advance(c, i)
		if progress != nil {
			progress.Add(1)
		}
	}
	w.add(&t)
}

// tally is what the moments of some steps come to.
type tally struct {
	counts [Nothing + 1]int
	again  [lost + 1]int
	first  [Nothing + 1]chip.Cut // with each outcome
}

// note adds a moment to a tally, and keeps the first after which the plan cannot be repeated.
func (w *sweeper) note(t *tally, f found, at chip.Cut, why string) {
	if t.counts[f.Outcome]++; t.counts[f.Outcome] == 1 {
		t.first[f.Outcome] = at
	}
	t.again[f.repeats]++
	if f.repeats == repeatable {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if at.Act < w.firstUnsafe {
		w.firstUnsafe, w.unsafeCut, w.whyUnsafe = at.Act, at, why
	}
}

// torn looks at a cut within a step, with several readings of the torn bits, and keeps the
// worst; it returns the reading that shows it, and why the plan cannot be repeated then.
func (w *sweeper) torn(c *chip.Chip, j *judge, i int) (at chip.Cut, why string) {
	at = chip.Cut{Act: i + 1}
	for draw := range readings {
		f, because := w.moment(c, j, i, draw)
		is := &w.within[i]
		if draw == 0 || w.plan.By.worse(f.Outcome, is.Outcome) || f.Outcome == is.Outcome && f.repeats > is.repeats {
			w.within[i], why, at.Reading = f, because, draw
		}
	}
	if one := w.climber.within[i+1]; one != nil && w.plan.By.worse(one.verdict(&w.list[i]).Outcome, w.within[i].Outcome) {
		w.within[i].Verdict, at.Reading = one.verdict(&w.list[i]), chip.OwnDraw // which no reading that was tried has shown
		if w.plan.By == Bootloader {
			w.within[i].repeats, why = lost, "nothing is left that could carry it out"
		}
	}
	return at, why
}

// add adds a tally to those of the other steps.
func (w *sweeper) add(t *tally) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for o := range t.counts {
		if t.counts[o] > 0 && (w.counts[o] == 0 || t.first[o].Act < w.chances[o].Act) {
			w.chances[o] = t.first[o]
		}
		w.counts[o] += t.counts[o]
	}
	for r := range t.again {
		w.repeats[r] += t.again[r]
	}
}

// advance does a step for good.
func (w *sweeper) advance(c *chip.Chip, i int) {
	switch s := &w.list[i]; {
	case s.changes():
		apply(c, s)
	case s.do == ResetPart || s.do == StartPart:
		c.Reset()
	}
}

// moment cuts the power before a step, at a draw below 0, or within it, and looks
// what becomes of it. The chip is as it was, then.
func (w *sweeper) moment(c *chip.Chip, j *judge, i, draw int) (f found, why string) {
	c.Try()
	defer c.Undo()
	w.fail(c, i, draw)
	f.Verdict = j.judge(c)
	if w.plan.By == Bootloader && f.Outcome.Bad() {
		f.repeats = lost
		return f, "nothing is left that could carry it out"
	}
	if w.sound {
		if w.endsWell(c, j) {
			return f, ""
		}
		c.Undo()
		c.Try()
		w.fail(c, i, draw)
	}
	if failed := w.repeat(c); failed != nil {
		f.repeats = unrepeatable
		return f, failed.What
	}
	c.Reset()
	if end := j.judge(c); end.Outcome != StartsNew {
		f.repeats = unrepeatable
		return f, "it then " + end.Outcome.Text() + ": " + end.Why()
	}
	return f, ""
}

// fail cuts the power and starts the device.
func (w *sweeper) fail(c *chip.Chip, i, draw int) {
	if draw >= 0 {
		cutWithin(c, &w.list[i], i, draw)
	} else {
		c.SeedAt(uint64(i)<<16 | 0xFFFF)
	}
	c.Reset()
}

// findIndependent finds the steps whose outcome does not hang on what was there.
func (w *sweeper) findIndependent(c *chip.Chip) {
	w.independent = make([]bool, len(w.list))
	w.rest = make([][]memory.Span, len(c.Banks))
	defer func() {
		for i, settled := range w.independent {
			if !settled {
				w.dependent = append(w.dependent, i)
			}
		}
	}()
	erased := map[memory.Span]bool{}
	for i := range w.list {
		s := &w.list[i]
		switch {
		case s.all:
			return // it opens a device too: all is carried out
		case s.do == Erase:
			erased[s.span], w.independent[i] = true, true
			// What was written there before does not count in the end.
			if slices.ContainsFunc(w.rest[s.n], func(r memory.Span) bool { _, met := r.Meet(s.span); return met }) {
				w.rest[s.n] = memory.Without(memory.Union(w.rest[s.n]), []memory.Span{s.span})
			}
		case s.do == Program || s.do == Verify || s.do == BlankCheck:
			b := c.Banks[s.n]
			if s.do == Program && b.Kind == device.EEPROM { // what is written is erased first
				w.independent[i] = true
				break
			}
			w.independent[i] = b.HasSectors()
			for at := s.span.First; w.independent[i]; {
				sector := b.SectorOf(at)
				w.independent[i] = erased[sector]
				if sector.Last >= s.span.Last {
					break
				}
				at = sector.Last + 1
			}
		}
		if !w.independent[i] && s.changes() {
			w.rest[s.n] = append(w.rest[s.n], s.span)
		}
	}
	for n := range w.rest {
		w.rest[n] = memory.Union(w.rest[n])
	}
}

// endsWell carries out again what of the plan hangs on what is there, and reports
// whether all ends as it should. Where it reports false, that cannot be told so.
func (w *sweeper) endsWell(c *chip.Chip, j *judge) bool {
	refuses := func() bool {
		st := c.State
		return len(st.Protects) > 0 || w.plan.By == Programmer && !st.Open()
	}
	if refuses() {
		return false
	}
	for _, i := range w.dependent {
		s := &w.list[i]
		if s.do == Verify { // what differs shows in the end
			if b := c.Banks[s.n]; b.Torn() {
				c.DrawUndefined()
			}
			continue
		}
		if carryOut(c, w.steps, s, nil) != nil || refuses() {
			return false
		}
	}
	for n := range c.Banks {
		if _, differ := differs(c.Banks[n], j.after.Banks[n], w.rest[n], nil); differ {
			return false
		}
	}
	return c.State.Key == j.after.State.Key
}

// repeat carries the whole plan out again.
func (w *sweeper) repeat(c *chip.Chip) *Failure {
	for i := range w.list {
		s := &w.list[i]
		if s.do != Verify {
			if f := carryOut(c, w.steps, s, nil); f != nil {
				return f
			}
			continue
		}
		b := c.Banks[s.n]
		if b.Torn() {
			c.DrawUndefined()
		}
		if !b.Equals(s.span, s.data) {
			return &Failure{
				What:     "verifying finds differences",
				Expected: "the image's bytes",
				Advice:   source.Advise("see what a run without a power cut says"),
			}
		}
	}
	return nil
}

// result puts together what was found.
func (w *sweeper) result() *Sweep {
	out := &Sweep{
		Plan:         w.plan,
		Steps:        len(w.list),
		Counts:       w.counts,
		Chances:      w.chances,
		Unrepeatable: w.repeats[unrepeatable] + w.repeats[lost],
		Lost:         w.repeats[lost],
		FirstFailing: w.unsafeCut,
		WhyFailing:   w.whyUnsafe,
		End:          w.before[len(w.list)].Verdict,
	}
	for o := range out.Counts {
		out.Moments += out.Counts[o]
	}
	for i := range w.list {
		s := &w.list[i]
		out.Timed = out.Timed || s.changes() && s.time.Typical > 0
	}
	var now time.Duration
	add := func(f found, takes time.Duration, at chip.Cut, moments int, act string) {
		k := len(out.Windows) - 1
		if k < 0 || out.Windows[k].Outcome != f.Outcome || f.Outcome.Bad() && !alike(out.Windows[k].Reason, f.Reason) {
			out.Windows = append(out.Windows, Window{Verdict: f.Verdict, From: now, First: at, Acts: [2]string{act, act}})
			k++
			if f.Outcome.Bad() && w.plan.By == Bootloader {
				out.Windows[k].Remedy = remedy(&f.Verdict)
			}
		}
		win := &out.Windows[k]
		now = plus(now, takes)
		win.To, win.Last, win.Acts[1] = now, at, act
		win.Moments += moments
		out.Durations[f.Outcome] = plus(out.Durations[f.Outcome], takes)
	}
	for i := range w.list {
		s := &w.list[i]
		before, within := s.link, s.time.Typical
		if !s.changes() {
			before, within = plus(s.link, s.time.Typical), 0
		}
		if !out.Timed {
			before, within = 0, 1
			if !s.changes() {
				before, within = 1, 0
			}
		}
		act := s.text()
		add(w.before[i], before, chip.Cut{Act: i + 1, When: chip.Before}, 1, act)
		if s.changes() {
			add(w.within[i], within, chip.Cut{Act: i + 1, Reading: chip.OwnDraw}, 1, act)
		}
	}
	last := w.before[len(w.list)]
	add(last, 0, chip.Cut{Act: len(w.list), When: chip.After}, 1, "the end")
	out.Total = now
	return out
}

// Like reports whether two windows leave the same behind, for one reason, and what closes
// them is one.
func (w *Window) Like(other *Window) bool {
	return w.Outcome == other.Outcome && alike(w.Reason, other.Reason) && w.Remedy == other.Remedy
}

// alike reports whether two reasons are told as one: what start-up reads may be erased
// or lead nowhere.
func alike(a, b Reason) bool {
	if a.Cause == WildVectors {
		a.Cause = NoVectors
	}
	if b.Cause == WildVectors {
		b.Cause = NoVectors
	}
	return a == b
}

// text says what a step does.
func (s *step) text() string {
	switch {
	case s.all:
		return "erase the chip"
	case s.changes(), s.do == Verify, s.do == BlankCheck:
		return fmt.Sprintf("%s %s", s.do, s.span.Range())
	}
	return string(s.do)
}

// remedy says what order of acts would close a window.
func remedy(v *Verdict) string {
	switch v.Cause {
	case TornLoader:
		return fmt.Sprintf("leave %s untouched", v.Region)
	case NoVectors, WildVectors:
		if v.Runs == "" && v.Loader == "" {
			return fmt.Sprintf("do not write %s if the device starts from it", v.Region)
		}
	case Unchecked:
		if v.Loader == "" {
			return fmt.Sprintf("no order is safe; the bootloader must check %s before starting it", v.Region)
		}
		return fmt.Sprintf("erase the page that %s begins with first and write it last; better, let %s check it", v.Region, v.Loader)
	case Undetected:
		return fmt.Sprintf("make %s void first, and write it last", v.By)
	case Mixed:
		return fmt.Sprintf("make the guard of %s invalid before writing %s, and write the guard last", v.Runs, v.Region)
	case Stopped:
		return "leave the configuration as it is"
	}
	return ""
}
