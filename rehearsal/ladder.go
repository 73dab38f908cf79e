package rehearsal

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
)

// Rung is how much power cuts a plan is shown to bear. Each rung is all that the ones
// below it are.
type Rung int

// The rungs.
const (
	NotNew  Rung = iota // what runs in the end is not the image's own, or not whole
	Unhurt              // it starts the new when nothing fails
	OneCut              // one cut, anywhere: never nothing, never neither; repeated, it ends with the new
	AnyCuts             // any number of cuts, each followed by the whole plan again
	Weak                // any number of cuts, where torn bits may read otherwise each time
)

// String says what is shown, in a few words.
func (r Rung) String() string {
	return [...]string{
		"does not end with the new", "only if the power never fails", "one power cut", "any number of power cuts",
		"any number of power cuts, and torn bits that read otherwise each time",
	}[r]
}

// Ladder is what is shown of a plan, and what keeps it from more.
type Ladder struct {
	Rung Rung
	// Cuts are those after which something else is started, in the order of time, and Why
	// says what; empty on the highest rung.
	Cuts []chip.Cut
	Why  string
	// Chance is how likely a guard holds over torn bits that are neither the old nor the
	// new, in the worst single case, with bits that are as likely one as the other.
	Chance   float64
	ChanceAt chip.Cut
	ChanceOf string // the guard
}

// world is a way in which something is started: what must be read for that.
type world struct {
	runs    *device.Region // what runs then
	nothing string         // why nothing does; "" is that something runs
	stops   string         // the field that stops the device then; "" is none
	by      *guarded       // nil is that nothing checks it
	isNew   bool           // the guard holds as in the end, not as before
	reads   []reading      // by unit: what must be read there
	stored  []bool         // of it, where the value itself stands
	frail   []bool         // of it, where it must be read again when it runs
	counts  []bool         // by unit: it is of what runs
	exact   bool           // all of what counts does, what is erased or not given too
	half    bool           // what runs goes on with a swap that nothing began
	class   int            // what the configuration words say; -1 is whatever they do
	narrow  bool           // the guard has fewer than 32 bits
	never   int            // what it can never be: as before, where that did not run, or as in the end
	// How the values of the guard stand to what is stored, and what that is at each cut;
	// nil where it cannot be told.
	balances     []*balance
	unsummedKind string // the kind of a checksum of which shares are not told; "" is none
	cases        *cases
	coincides    bool // the guard holds though what it reads is neither the old nor the new
}

// reading is what must be read of a unit in a world.
type reading uint8

const (
	readsAny reading = iota
	readsOld
	readsNew
)

// guardReading returns what must be read of what a guard reads.
func (w *world) guardReading() reading {
	if w.isNew {
		return readsNew
	}
	return readsOld
}

// reading returns what must be read of a unit.
func (w *world) reading(i int) reading {
	if w.reads == nil {
		return readsAny
	}
	return w.reads[i]
}

// flags are pairs of whether something is not as before, and not as in the end, a bit
// for each of the four.
type flags uint8

const (
	notOld = 1
	notNew = 2
	bad    = flags(1) << (notOld | notNew)
)

// with returns the pairs with more in each.
func (f flags) with(more int) flags {
	switch more {
	case 0:
		return f
	case notOld:
		return f&0b1010 | (f&0b0101)<<1
	case notNew:
		return f&0b1100 | (f&0b0011)<<2
	}
	if f == 0 {
		return 0
	}
	return bad
}

// climber shows how high a plan stands.
type climber struct {
	steps  *steps
	before *chip.Chip
	after  *chip.Chip
	judge  *judge
	units  []unit
	groups []group
	inGap  []int // by step: the last group that begins with it or before, -1 is none
	worlds []world
	rough  bool     // without a look at the values of checksums, nor at chance
	within []*world // by step: in which one cut within it starts what is neither; nil is none
	// What the one configuration word that matters says, by its unit and content.
	wordUnit   int // -1 is none
	wordClass  [mostTouches + 1]int
	wordFirm   [mostTouches + 1][mostTouches + 1]bool // of a touch that is cut, over a content: it says the same all the same
	obstacle   string                                 // that keeps the plan from any cut, whatever else it does
	obstacleAt int
}

// single looks for the steps within which one cut starts what is neither.
func (c *climber) single() *Ladder {
	l := &Ladder{}
	c.within = make([]*world, len(c.steps.list)+1)
	if c.tooLarge() {
		return l
	}
	for i := range c.worlds {
		c.walk(&c.worlds[i], walking{}, c.within)
		if cases := c.worlds[i].cases; cases != nil {
			cases.oneCut(c.within)
		}
	}
	if !c.rough {
		c.chance(l)
	}
	return l
}

// climb tells on which rung a plan stands. amiss is why what runs in the end is not the
// image's own, and whole; s is what single cuts have shown.
func (c *climber) climb(l *Ladder, amiss string, s *Sweep) {
	if amiss != "" {
		l.Why = amiss
		return
	}
	l.Rung = Unhurt
	one := func(at chip.Cut, why string) { l.Cuts, l.Why = []chip.Cut{at}, why }
	if c.obstacle != "" {
		one(chip.Cut{Act: c.obstacleAt, Reading: chip.OwnDraw}, c.obstacle)
		return
	}
	if c.tooLarge() {
		l.Why = fmt.Sprintf("it has %s steps, too many for more to be shown", memory.FormatCount(uint64(len(c.steps.list))))
		return
	}
	if k := slices.IndexFunc(c.within, func(w *world) bool { return w != nil }); k >= 0 {
		at := chip.Cut{Act: k, Reading: chip.OwnDraw}
		one(at, c.why(c.within[k], []chip.Cut{at}, false))
		return
	}
	for _, o := range []Outcome{Neither, Nothing} {
		if k := slices.IndexFunc(s.Windows, func(w Window) bool { return w.Outcome == o }); k >= 0 &&
			(o == Neither || s.Plan.By == Bootloader) {
			one(s.Chances[o], s.Windows[k].Why())
			return
		}
	}
	if s.Unrepeatable > 0 {
		one(s.FirstFailing, "repeating the plan does not complete it: "+s.WhyFailing)
		return
	}
	l.Rung = OneCut
	if retry := c.before.Map.Loader.Retry; retry == device.RetrySkips || retry == device.RetryResumes {
		l.Why = fmt.Sprintf("a retry that %s leaves torn bits as they are, and is another plan", retry)
		return
	}
	if slices.ContainsFunc(s.Plan.Acts, func(a Act) bool { return a.Do == Differ }) {
		l.Why = "a retry leaves out what reads right already, torn bits too, and is another plan"
		return
	}
	for _, weak := range []bool{false, true} {
		for i := range c.worlds {
			w := &c.worlds[i]
			if why := w.unsummed(); why != "" {
				l.Why = why
				return
			}
			how := walking{chains: true, weak: weak, untilNew: !weak && c.before.Map.Loader.Retry == device.RetryUntilNew}
			if cuts := c.walk(w, how, nil); cuts != nil {
				l.Cuts, l.Why = cuts, c.why(w, cuts, weak)
				return
			}
		}
		for i := range c.worlds {
			w := &c.worlds[i]
			if w.cases == nil || weak {
				continue
			}
			if cuts := w.cases.twoCuts(); cuts != nil {
				l.Cuts, l.Why = cuts,
					fmt.Sprintf("%s is valid then, although %s is neither the old nor the new: both have the same value", w.by.name(),
						w.runs.Name)
				return
			}
		}
		l.Rung++
	}
}

// unsummed says why it is not shown what a guard may hold over after two cuts; "" is that it
// is, or that the plan touches nothing that it reads.
func (w *world) unsummed() string {
	if !slices.ContainsFunc(w.reads, func(r reading) bool { return r != readsAny }) {
		return ""
	}
	if w.narrow {
		return fmt.Sprintf("%s has fewer than 32 bits, so it is not shown what it may be valid over after two cuts", w.by.name())
	}
	if w.unsummedKind != "" {
		return fmt.Sprintf("it is not shown what %s, a %s, may be valid over after two cuts", w.by.name(), w.unsummedKind)
	}
	return ""
}

// mostPairs bounds how many pairs of cuts and groups are looked at for one world: some
// minutes' worth.
var mostPairs = 8e9

// tooLarge reports whether a plan has more than that, so that nothing of cuts is shown.
func (c *climber) tooLarge() bool {
	return float64(len(c.groups))*float64(len(c.steps.list)) > mostPairs
}

// verdict says what a cut within a step starts.
func (w *world) verdict(s *step) Verdict {
	v := Verdict{Neither, Reason{Cause: Unchecked}, s.span.First}
	switch {
	case w.half:
		return Verdict{Neither, Reason{Cause: HalfMoved, Runs: "the bootloader", Region: w.runs.Name}, s.span.First}
	case w.stops != "":
		return Verdict{Nothing, Reason{Cause: Stopped, By: w.stops}, s.span.First}
	case w.nothing != "":
		return Verdict{Nothing, Reason{Cause: WildVectors, Region: "the configuration words"}, s.span.First}
	case w.by != nil:
		v.Cause, v.By = Undetected, w.by.name()
	case w.runs.Role == device.Bootloader:
		v.Cause = TornLoader
	}
	v.Runs, v.Region = w.runs.Name, w.runs.Name
	return v
}

// walking says which chains are looked for.
type walking struct {
	chains bool // of any number of cuts, and not of one
	weak   bool // torn bits may read otherwise when they run than when they were checked
	// untilNew is that nobody tries again what certainly starts the new.
	untilNew bool
}

// group is the units whose first touch is the same step.
type group struct {
	step   int
	lo, hi int   // of the units
	at     []int // the steps that touch any of them, each once
}

// moment numbers the moments of a group that differ: at a step that touches it, and
// between two of these.
func (g *group) moment(cut int) int {
	if last := len(g.at) - 1; cut > g.at[last] { // as for most
		return 2*last + 2
	}
	k, at := slices.BinarySearch(g.at, cut)
	if at {
		return 2*k + 1
	}
	return 2 * k
}

// known is what was found of groups in one walk, by their moments.
type known [][]added

// added is what a group adds; told is whether it was found yet.
type added struct {
	more      int
	ok, known bool
	torn      bool // it may read otherwise
}

func (c *climber) known() known {
	k := make(known, len(c.groups))
	for i := range c.groups {
		k[i] = make([]added, 2*len(c.groups[i].at)+1)
	}
	return k
}

func (k known) get(number, moment int, find func() added) *added {
	f := &k[number][moment]
	if !f.known {
		*f = find()
		f.known = true
	}
	return f
}

// from is how a cut with a pair was come to.
type from struct {
	cut  int
	pair uint8
}

// walk looks for a chain of cuts after which something runs that is neither as before
// nor as in the end. It goes by the cuts from the last step on: of a chain, those later
// in time that still show cut the plan earlier. all, where given, is told each single
// cut that is one.
func (c *climber) walk(w *world, how walking, all []*world) []chip.Cut {
	if len(c.units) == 0 {
		return nil
	}
	s := c.newSearch(w, how)
	for cut := len(c.steps.list); cut >= 1; cut-- {
		if !c.steps.list[cut-1].changes() || !s.reach(cut) {
			continue
		}
		trace, alive := s.again(cut)
		if !alive || s.reached[cut].with(trace)&bad == 0 {
			continue
		}
		if all == nil {
			return c.chain(s.parents, cut, s.reached[cut], trace)
		}
		all[cut] = w
	}
	return nil
}

// search is one walk: which cuts can be come to, with which pairs, and from where.
type search struct {
	*climber
	world *world
	how   walking
	// rest is what the units that no run has reached are, from each on: pairs, 0 is that the
	// world cannot be.
	rest    []flags
	reached []flags   // by cut
	parents [][4]from // by cut and pair
	// What all steps behind the first of a group, up to the next group's, are come to by.
	waiting []flags
	sources [][4]from
	done    known // what a run that is cut has made of a group
	over    known // what a run that is cut within a group makes of it, over an earlier cut
}

func (c *climber) newSearch(w *world, how walking) *search {
	steps, n := len(c.steps.list), len(c.units)
	rest := make([]flags, n+1)
	if rest[n] = flags(1) << w.never; w.nothing != "" {
		rest[n] = bad // in itself
	}
	for i := n - 1; i >= 0 && rest[i+1] != 0; i-- {
		if more, ok := c.firm(w, i, 0); ok {
			rest[i] = rest[i+1].with(more)
		}
	}
	return &search{
		climber: c,
		world:   w,
		how:     how,
		rest:    rest,
		reached: make([]flags, steps+2),
		parents: make([][4]from, steps+2),
		waiting: make([]flags, len(c.groups)+1),
		sources: make([][4]from, len(c.groups)+1),
		done:    c.known(),
		over:    c.known(),
	}
}

// join adds to what is come to the pairs of a parent, with what was added to each.
func join(into *flags, by *[4]from, parent int, pairs flags, more int) {
	if pairs.with(more)&^*into == 0 {
		return // most add nothing
	}
	for p := range uint8(4) {
		if q := p | uint8(more); pairs>>p&1 == 1 && *into>>q&1 == 0 {
			*into |= 1 << q
			by[q] = from{parent, p}
		}
	}
}

// at returns the group that begins with a cut's step, or the last before it, and whether it
// begins there.
func (s *search) at(cut int) (here int, begins bool) {
	here = s.inGap[cut]
	return here, here >= 0 && s.groups[here].step == cut
}

// reach finds the pairs with which a cut is come to, by the first run or by later ones, and
// reports whether there are any.
func (s *search) reach(cut int) bool {
	here, begins := s.at(cut)
	next, rested := here+1, len(s.units)
	if next < len(s.groups) {
		rested = s.groups[next].lo
	}
	if begins {
		g := &s.groups[here]
		if more, ok := s.tornGroup(s.world, s.how, g.lo, g.hi, 0); ok {
			join(&s.reached[cut], &s.parents[cut], 0, s.rest[rested], more)
		}
		return s.reached[cut] != 0
	}
	join(&s.reached[cut], &s.parents[cut], 0, s.rest[rested], 0)
	for q := range uint8(4) {
		if s.waiting[next]>>q&1 == 1 && s.reached[cut]>>q&1 == 0 {
			s.reached[cut] |= 1 << q
			s.parents[cut][q] = s.sources[next][q]
		}
	}
	return s.reached[cut] != 0
}

// again tries the plan again after a cut: from there back to the first step, it adds to the
// earlier cuts what is come to with a run that got so far, and returns what the run has made
// of all units that no later one reaches; not alive is that the world cannot be then.
func (s *search) again(cut int) (trace int, alive bool) {
	here, begins := s.at(cut)
	pairs := s.reached[cut]
	if s.how.untilNew {
		pairs = s.notYet(pairs, cut)
	}
	if begins { // its units were joined, torn
		here--
	}
	if s.how.chains {
		join(&s.waiting[here+1], &s.sources[here+1], cut, pairs, 0)
	}
	for k := here; k >= 0; k-- {
		g := &s.groups[k]
		moment := g.moment(cut)
		if s.how.chains {
			torn := s.over.get(k, moment, func() added {
				more, ok := s.tornGroup(s.world, s.how, g.lo, g.hi, cut)
				return added{more: more, ok: ok}
			})
			if torn.ok {
				join(&s.reached[g.step], &s.parents[g.step], cut, pairs, trace|torn.more)
			}
		}
		one := s.ran(k, moment, cut)
		if !one.ok {
			return trace, false
		}
		if trace |= one.more; s.how.chains {
			join(&s.waiting[k], &s.sources[k], cut, pairs, trace)
		}
	}
	return trace, true
}

// ran tells what a run that is cut later has made of a group, and keeps it.
func (s *search) ran(k, moment, cut int) *added {
	return s.done.get(k, moment, func() added { return s.ranGroup(s.world, s.how, &s.groups[k], cut) })
}

// notYet returns those pairs of a cut from which it is not certain that the new starts.
func (s *search) notYet(pairs flags, cut int) flags {
	here, begins := s.at(cut)
	if begins {
		here--
	}
	trace := 0
	for k := here; k >= 0; k-- {
		one := s.ran(k, s.groups[k].moment(cut), cut)
		if !one.ok || one.torn {
			return pairs
		}
		trace |= one.more
	}
	for p := range uint8(4) {
		if (int(p)|trace)&notNew == 0 {
			pairs &^= 1 << p
		}
	}
	return pairs
}

// ranGroup tells what a run that is cut later has made of a group.
func (c *climber) ranGroup(w *world, how walking, g *group, cut int) (all added) {
	for i := g.lo; i < g.hi; i++ {
		more, ok := c.run(w, how, i, cut)
		if !ok {
			return added{}
		}
		_, torn := c.units[i].after(cut)
		all.more |= more
		all.torn = all.torn || torn > 0
	}
	all.ok = true
	return all
}

// chain returns the cuts that lead to a pair that is bad with what was joined since, in
// the order of time.
func (c *climber) chain(parents [][4]from, cut int, reached flags, trace int) []chip.Cut {
	pair := uint8(0)
	for p := range uint8(4) {
		if reached>>p&1 == 1 && int(p)|trace == notOld|notNew {
			pair = p
			break
		}
	}
	var cuts []chip.Cut
	for cut > 0 && len(cuts) < len(parents) {
		cuts = append(cuts, chip.Cut{Act: cut, Reading: chip.OwnDraw})
		f := parents[cut][pair]
		cut, pair = f.cut, f.pair
	}
	slices.Reverse(cuts)
	return cuts
}

// firm returns what a unit adds to a world when nothing of it is torn; ok is false where
// the world cannot be then.
func (c *climber) firm(w *world, i, content int) (more int, ok bool) {
	u := &c.units[i]
	if u.loose && content > 0 {
		return c.unknown(w, i), true
	}
	if i == c.wordUnit && w.class >= 0 && c.wordClass[content] != w.class {
		return 0, false
	}
	switch r := w.reading(i); {
	case r == readsNew && !u.isNew[content], r == readsOld && !u.isOld[content]:
		return 0, false
	}
	return c.counted(w, i, content), true
}

// counted returns what of a unit is not as it was, and not as it should be.
func (c *climber) counted(w *world, i, content int) (more int) {
	if !w.counts[i] {
		return 0
	}
	u := &c.units[i]
	wholeOld, wholeNew := u.wholeOld[content], u.wholeNew[content]
	if w.exact {
		wholeOld, wholeNew = u.isOld[content], u.isNew[content]
	}
	if !wholeOld {
		more |= notOld
	}
	if !wholeNew {
		more |= notNew
	}
	return more
}

// unknown is a unit that may be anything.
func (c *climber) unknown(w *world, i int) (more int) {
	if !w.counts[i] {
		return 0
	}
	if u := &c.units[i]; u.stood || w.exact {
		more = notOld
	}
	if c.units[i].given || w.exact {
		more |= notNew
	}
	return more
}

// torn returns what a unit adds that was torn at a touch, over a content; again is the
// touch that had torn it before, where it is the first touch that tears it, over that; 0
// is none.
func (c *climber) torn(w *world, how walking, i, content, touch, again int) (more int, ok bool) {
	u := &c.units[i]
	if !u.loose && again == 0 && (u.still[content][touch] || i == c.wordUnit && c.wordFirm[content][touch]) {
		return c.firm(w, i, content)
	}
	r := w.reading(i)
	if u.loose || r == readsAny {
		return c.unknown(w, i), true
	}
	old, end := u.mayOld[content][touch], u.mayNew[content][touch]
	if again > 0 {
		old, end = u.againOld[again], u.againNew[again]
	}
	if r == readsNew && !end || r == readsOld && !old {
		return 0, false
	}
	if how.weak && w.frail != nil && w.frail[i] {
		return notOld | notNew, true
	}
	if how.weak && !w.stored[i] {
		return c.unknown(w, i), true
	}
	if r == readsNew { // it reads as it should in the end
		return c.counted(w, i, len(u.touches)), true
	}
	return c.counted(w, i, 0), true
}

// tornGroup returns what the units add whose first touch is cut, over what an earlier
// run left that was cut at a later step; 0 is over what stood there.
func (c *climber) tornGroup(w *world, how walking, lo, hi, over int) (more int, ok bool) {
	for i := lo; i < hi; i++ {
		content, torn := 0, 0
		if over > 0 {
			content, torn = c.units[i].after(over)
		}
		one, ok := c.torn(w, how, i, content, 1, torn)
		if !ok {
			return 0, false
		}
		more |= one
	}
	return more, true
}

// run returns what a unit adds that a run has reached, which was cut at a later step.
func (c *climber) run(w *world, how walking, i, cut int) (more int, ok bool) {
	content, torn := c.units[i].after(cut)
	if torn > 0 {
		return c.torn(w, how, i, content, torn, 0)
	}
	return c.firm(w, i, content)
}

// why says what runs after a chain of cuts, and what of it is not whole.
func (c *climber) why(w *world, cuts []chip.Cut, weak bool) string {
	var parts []string
	name := func(u *unit) string {
		if u.region != nil {
			return u.region.Name
		}
		return "what is in no region"
	}
	asNew := w.isNew || w.never&notOld != 0 // what is not the new is what is amiss
	seen := map[string]bool{}
	last := 0
	note := func(i int, text string) {
		if key := name(&c.units[i]); w.counts[i] && !seen[key+text] {
			seen[key+text] = true
			parts = append(parts, fmt.Sprintf("%s is %s from %s on", key, text, memory.FormatAddress(c.units[i].First)))
		}
	}
	for k := len(cuts) - 1; k >= 0; k-- { // the later in time, the earlier in the plan
		cut := cuts[k].Act
		for i := range c.units {
			u := &c.units[i]
			if u.first() <= last || u.first() > cut {
				continue
			}
			content, torn := u.after(cut)
			switch {
			case torn > 0 && (w.reading(i) == readsAny || weak && (!w.stored[i] || w.frail != nil && w.frail[i])):
				note(i, "torn")
			case torn == 0 && w.counts[i] && !u.wholeOld[content] && !u.wholeNew[content]:
				note(i, "neither the old nor the new")
			case torn == 0 && w.counts[i] && !u.wholeOld[content]:
				note(i, "the new already")
			case torn == 0 && !u.wholeNew[content] && asNew:
				note(i, "not the new yet")
			}
		}
		last = cut
	}
	for i := range c.units { // that no run has reached
		if u := &c.units[i]; u.first() > last && !u.wholeNew[0] && asNew {
			note(i, "not the new yet")
		}
	}
	const most = 3
	if len(parts) > most {
		parts = append(parts[:most], fmt.Sprintf("and %d more", len(parts)-most))
	}
	what := strings.Join(parts, ", ")
	switch {
	case w.nothing != "":
		return w.nothing
	case w.coincides:
		return fmt.Sprintf("%s is valid within it, although %s is neither the old nor the new: both have the same value", w.by.name(),
			w.runs.Name)
	case w.half:
		return fmt.Sprintf("the bootloader continues a swap that nothing started, and %s is lost", w.runs.Name)
	case w.by == nil:
		return fmt.Sprintf("%s runs, which nothing checks: %s", w.runs.Name, what)
	}
	as := "with its old value"
	if w.isNew {
		as = "with its new value"
	}
	return fmt.Sprintf("%s may be valid %s, so that %s runs: %s", w.by.name(), as, w.runs.Name, what)
}

// newClimber prepares what is needed to climb.
func newClimber(l *steps, before, after *chip.Chip, j *judge) *climber {
	return climberOf(l, before, after, j, false)
}

// climberOf prepares what is needed to climb; roughly is without a look at the values of
// checksums.
func climberOf(l *steps, before, after *chip.Chip, j *judge, rough bool) *climber {
	c := &climber{steps: l, before: before, after: after, judge: j, wordUnit: -1, rough: rough}
	m := before.State.Resolved
	guards := j.guarded(m)
	specs := map[*device.Checksum][2]*device.Spec{}
	var borders []memory.Span
	looked := slices.Clone(guards) // at, by the loader or by the device
	for i := range m.Checksums {
		if d := &m.Checksums[i]; d.Hardware {
			looked = append(looked, guarded{region: m.Region(d.Guards), by: []*device.Checksum{d}})
		}
	}
	for _, g := range looked {
		for _, h := range g.magic {
			borders = append(borders, h.Span())
		}
		for _, d := range g.by {
			var both [2]*device.Spec
			for i, part := range []*chip.Chip{before, after} {
				if spec, err := d.Spec(m, part.Image()); err == nil {
					both[i] = spec
					borders = append(append(borders, spec.Feed.Spans...), spec.Feed.Skip...)
					borders = append(borders, *spec.Place)
				}
			}
			specs[d] = both
			for _, f := range []*device.FieldAt{d.Length, d.End, d.Place, d.Rank} {
				if f != nil {
					borders = append(borders, f.Span())
				}
			}
		}
	}
	if s := m.Loader.Swap; s != nil {
		borders = append(borders, s.Log()...)
	}
	e := check.EntryOf(m, before.Image())
	borders = append(borders, e.Where)
	c.units = unitsOf(l, before, after, m, borders)
	c.inGap = make([]int, len(l.list)+2)
	for i := range c.units {
		u := &c.units[i]
		if k := len(c.groups) - 1; k < 0 || c.groups[k].step != u.first() {
			c.groups = append(c.groups, group{step: u.first(), lo: i})
		}
		g := &c.groups[len(c.groups)-1]
		g.hi = i + 1
		for _, t := range u.touches {
			g.at = append(g.at, t.at)
		}
	}
	last := -1
	for step := range c.inGap {
		if last+1 < len(c.groups) && c.groups[last+1].step == step {
			last++
		}
		c.inGap[step] = last
	}
	for i := range c.groups {
		slices.Sort(c.groups[i].at)
		c.groups[i].at = slices.Compact(c.groups[i].at)
	}
	c.unreadable(looked, specs)
	classes := c.classes(m)
	for k, one := range classes {
		class := k
		if len(classes) == 1 {
			class = -1
		}
		c.enter(m, one, class, guards, specs)
	}
	return c
}

// unreadable finds what stops a loader that reads it: a granule that was torn, where error
// correction cannot mend it.
func (c *climber) unreadable(guards []guarded, specs map[*device.Checksum][2]*device.Spec) {
	if c.before.Map.Loader.ReadFault == device.FaultFails || c.steps.plan.By != Bootloader {
		return
	}
	for k := range c.units {
		u := &c.units[k]
		if !c.before.Banks[u.n].Corrects {
			continue
		}
		for _, g := range guards {
			for _, d := range g.by {
				for _, spec := range specs[d] {
					if spec == nil ||
						!slices.ContainsFunc(append(slices.Clone(spec.Feed.Spans), *spec.Place),
							func(s memory.Span) bool { return s.Contains(u.First) }) {
						continue
					}
					if c.obstacle == "" || u.first() < c.obstacleAt {
						what := fmt.Sprintf("a torn granule at %s may not be readable, which stops the bootloader that reads it for %s",
							memory.FormatAddress(u.First), d.Name)
						c.obstacle, c.obstacleAt = what, u.first()
					}
				}
			}
		}
	}
}

// class is what configuration words make of the device's start.
type class struct {
	entry          *device.Region
	nothing, stops string // why nothing starts, and the field that stops the device
}

// classes returns what the values that the plan's words may have make of the start, and
// notes what each content of the one that matters makes of it.
func (c *climber) classes(m *device.Map) []class {
	values := maps.Clone(c.before.State.Values)
	var words []*device.Word
	for i := range c.before.Map.Config {
		w := &c.before.Map.Config[i]
		touched := slices.ContainsFunc(c.units, func(u unit) bool { _, met := u.Meet(w.Span()); return met })
		if touched && c.matters(w) {
			words = append(words, w)
		}
	}
	now := c.class(values)
	if len(words) == 0 {
		return []class{now.class}
	}
	w := words[0]
	u := slices.IndexFunc(c.units, func(u unit) bool { _, met := u.Meet(w.Span()); return met })
	obstacle := func(what string) []class {
		c.obstacle, c.obstacleAt = fmt.Sprintf("%s may be torn, and %s", w.Name, what), c.units[u].first()
		return []class{now.class}
	}
	if len(words) > 1 {
		return obstacle("with it other words that say how the device starts")
	}
	var list []layoutClass
	index := func(one layoutClass) int {
		k := slices.IndexFunc(list, func(o layoutClass) bool { return o.class == one.class && o.layout == one.layout })
		if k < 0 {
			list = append(list, one)
			k = len(list) - 1
		}
		return k
	}
	at := func(v uint64) int {
		changed := maps.Clone(values)
		changed[w.Name] = v
		return index(c.class(changed))
	}
	if c.units[u].Span != w.Span() && !c.units[u].Covers(w.Span()) || c.units[u].loose {
		return obstacle("then says anything")
	}
	old, _ := w.In(c.before.Image())
	end, _ := w.In(c.after.Image())
	held := []uint64{old} // by content
	c.wordUnit = u
	for k := range c.wordClass {
		c.wordClass[k] = at(old)
	}
	for k, t := range c.units[u].touches {
		v := end
		if t.data != nil {
			view := memory.View([]memory.Run{{First: c.units[u].First, Data: t.data}}, chip.Origin)
			v, _ = w.In(view)
		}
		c.wordClass[k+1] = at(v)
		held = append(held, v)
	}
	matters := uint64(0)
	for k := range w.Fields {
		if c.says(w.Fields[k].Name) {
			matters |= w.Fields[k].Mask()
		}
	}
	erased := uint64(0)
	for range w.Width {
		erased = erased<<8 | uint64(c.before.Banks[c.units[u].n].Erased)
	}
	for content, stood := range held {
		for touch := 1; touch < len(held); touch++ {
			c.wordFirm[content][touch] = ((stood^held[touch])|(stood^erased))&matters == 0
		}
	}
	for k := range w.Fields { // torn, it may say whatever its fields can
		f := &w.Fields[k]
		const most = 8 // bits
		if f.Bits <= most {
			for v := range uint64(1) << f.Bits {
				at(old&^f.Mask() | v<<f.Low)
			}
		}
	}
	out := make([]class, len(list))
	for k, one := range list {
		if out[k] = one.class; one.layout != list[0].layout {
			return obstacle("then gives the regions other places")
		}
	}
	return out
}

// layoutClass is a class, with the places of the regions.
type layoutClass struct {
	class
	layout string
}

// matters reports whether a word says anything of how the device starts.
func (c *climber) matters(w *device.Word) bool {
	return slices.ContainsFunc(w.Fields, func(f device.Field) bool { return c.says(f.Name) })
}

// says reports whether a field, or a group that it is of, says how the device starts.
func (c *climber) says(field string) bool {
	says := func(list []device.FieldValue) bool {
		return slices.ContainsFunc(list,
			func(v device.FieldValue) bool { return len(v.Sets) > 0 || v.Effect == device.Stopped || v.Needs != nil })
	}
	if _, f := c.before.Map.Field(field); f != nil && says(f.Values) {
		return true
	}
	return slices.ContainsFunc(c.before.Map.Groups, func(g device.Group) bool { return slices.Contains(g.Fields, field) && says(g.Values) })
}

// class tells what values of the words make of the start.
func (c *climber) class(values map[string]uint64) (one layoutClass) {
	m := c.before.Map.Configured(values)
	for i := range m.Regions {
		one.layout += m.Regions[i].Span.Range() + " "
	}
	for _, a := range c.before.Map.Acting(values) {
		if a.Effect == device.Stopped {
			one.nothing = fmt.Sprintf("%s (%s) may be read, which stops the device", a.Field, a.Meaning)
			one.stops = fmt.Sprintf("%s, which may be read as %s,", a.Field, a.Meaning)
			return one
		}
	}
	e := check.EntryOf(m, c.before.Image())
	if e.Region != nil {
		one.entry = c.before.State.Resolved.Region(e.Region.Name)
	}
	if touched := e.Region != nil && c.touches(e.Region); e.Fault != check.Starts && !touched {
		one.nothing = "start-up may go where nothing is"
		if e.Region != nil {
			one.nothing = fmt.Sprintf("start-up may go to %s, where nothing is", e.Region.Name)
		}
	}
	return one
}

// touches reports whether the plan changes anything of a region.
func (c *climber) touches(r *device.Region) bool {
	return slices.ContainsFunc(c.units, func(u unit) bool { _, met := u.Meet(r.Span); return met })
}

// enter adds the worlds in which start-up goes somewhere.
func (c *climber) enter(m *device.Map, one class, number int, guards []guarded, specs map[*device.Checksum][2]*device.Spec) {
	own := slices.ContainsFunc(m.Regions, func(r device.Region) bool {
		return r.Role == device.Application && c.steps.image.Count(r.Span) > 0
	})
	never := func(r *device.Region, ran bool) (n int) {
		if !ran {
			n |= notOld
		}
		if own && r.Role == device.Application && c.steps.image.Count(r.Span) == 0 {
			n |= notNew
		}
		return n
	}
	plain := func(r *device.Region) {
		ran := !erasedAt(m, c.before.Image(), ownStart(m, r))
		c.worlds = append(c.worlds, world{runs: r, class: number, counts: c.counting(r), never: never(r, ran)})
	}
	runs := func(r *device.Region, g *guarded, rivals []guarded) { // directly, or by a loader: by what guards it, if anything does
		if g == nil {
			plain(r)
			return
		}
		for _, isNew := range []bool{false, true} {
			if w, ok := c.guardWorld(m, g, isNew, number, specs); ok {
				w.never = never(g.region, c.judge.fails(c.before, m, g) == "")
				if !c.outranked(m, &w, rivals) {
					w.cases = c.casesOf(&w)
					c.worlds = append(c.worlds, w)
				}
			}
		}
	}
	switch {
	case one.nothing != "":
		if c.steps.plan.By == Bootloader {
			c.worlds = append(c.worlds, world{nothing: one.nothing, stops: one.stops, class: number, counts: make([]bool, len(c.units))})
		}
		return
	case one.entry == nil:
		return
	case one.entry.Role != device.Bootloader:
		runs(one.entry, byHardware(m, one.entry), nil)
		return
	case c.touches(one.entry):
		w := world{runs: one.entry, class: number, counts: make([]bool, len(c.units))} // nothing checks it
		for i := range c.units {
			w.counts[i] = c.units[i].region == one.entry
		}
		c.worlds = append(c.worlds, w)
	}
	if s := m.Loader.Swap; s != nil {
		c.swapWorlds(m, s, number, guards, specs, never)
		guards = slices.DeleteFunc(slices.Clone(guards), func(g guarded) bool { return g.region.Name == s.From })
	}
	if len(guards) == 0 {
		for i := range m.Regions {
			if r := &m.Regions[i]; r.Role == device.Application && (m.Loader.Swap == nil || r.Name != m.Loader.Swap.From) {
				plain(r)
			}
		}
		return
	}
	for k := range guards {
		runs(guards[k].region, &guards[k], guards)
	}
}

// guardWorld returns the world in which a guard holds as before, or as in the end; ok is
// false where it does not hold then.
func (c *climber) guardWorld(
	m *device.Map,
	g *guarded,
	isNew bool,
	number int,
	specs map[*device.Checksum][2]*device.Spec,
) (w world, ok bool) {
	when := c.before
	of := 0
	if isNew {
		when, of = c.after, 1
	}
	if slices.ContainsFunc(g.by, func(d *device.Checksum) bool { return specs[d][of] == nil }) || c.judge.fails(when, m, g) != "" {
		return w, false
	}
	w = world{
		runs:   g.region,
		by:     g,
		isNew:  isNew,
		class:  number,
		counts: c.counting(g.region),
		reads:  make([]reading, len(c.units)),
		stored: make([]bool, len(c.units)),
	}
	for _, d := range g.by {
		spec := specs[d][of]
		read := memory.Without(spec.Feed.Spans, spec.Feed.Skip)
		for _, f := range []*device.FieldAt{d.Length, d.End, d.Place} {
			if f != nil {
				read = append(read, f.Span())
			}
		}
		for k := range c.units {
			u := &c.units[k]
			_, place := u.Meet(*spec.Place)
			fed := slices.ContainsFunc(read, func(s memory.Span) bool { return s.Contains(u.First) })
			if place && !slices.ContainsFunc(spec.Feed.Skip, u.Covers) {
				w.stored[k] = true
			}
			if place || fed {
				w.reads[k] = w.guardReading()
			}
		}
		w.narrow = w.narrow || spec.Kind.Bits < 32 || spec.Place.Size() < 4
		if spec.Kind.Group != "digest" && !hasShares(spec) {
			w.unsummedKind = spec.Kind.Name
		}
		if !c.rough {
			w.balances = append(w.balances, c.balanced(d, spec, isNew))
		}
	}
	for k := range c.units {
		if slices.ContainsFunc(g.magic, func(h device.Content) bool { _, met := c.units[k].Meet(h.Span()); return met }) {
			w.reads[k], w.stored[k] = w.guardReading(), true
		}
	}
	w.narrow = w.narrow || len(g.by) == 0 && !slices.ContainsFunc(g.magic, func(h device.Content) bool { return len(h.Bytes) >= 4 })
	return w, true
}

// swapWorlds adds the worlds in which a loader begins to swap its slots, and those in
// which it goes on with what nothing has begun.
func (c *climber) swapWorlds(
	m *device.Map,
	s *device.Swap,
	number int,
	guards []guarded,
	specs map[*device.Checksum][2]*device.Spec,
	never func(*device.Region, bool) int,
) {
	lay := func(w *world, span memory.Span, as reading, frail bool) {
		for k := range c.units {
			if _, met := c.units[k].Meet(span); met {
				w.reads[k], w.stored[k], w.frail[k] = as, true, frail
			}
		}
	}
	from := m.Region(s.From)
	g := slices.IndexFunc(guards, func(g guarded) bool { return g.region == from })
	for _, pending := range []struct {
		at *chip.Chip
		as reading
	}{{c.before, readsOld}, {c.after, readsNew}} {
		if !stands(pending.at, &s.Pending) {
			continue
		}
		half := world{
			runs:   m.Region(s.To),
			half:   true,
			class:  number,
			exact:  true,
			counts: make([]bool, len(c.units)),
			reads:  make([]reading, len(c.units)),
			stored: make([]bool, len(c.units)),
			frail:  make([]bool, len(c.units)),
		}
		for k := range c.units {
			u := &c.units[k]
			half.counts[k] = slices.ContainsFunc(s.Log(), func(s memory.Span) bool { _, met := s.Meet(u.Span); return met })
			if _, met := u.Meet(s.Pending.Span()); met {
				half.counts[k] = false
			}
		}
		lay(&half, s.Pending.Span(), pending.as, false)
		c.worlds = append(c.worlds, half)
		for _, marks := range []struct {
			at *chip.Chip
			as reading
		}{{c.before, readsOld}, {c.after, readsNew}} {
			if !isErased(marks.at, s.Marks) {
				continue
			}
			for _, isNew := range []bool{false, true} {
				w, ok := world{
					runs:   from,
					class:  number,
					isNew:  isNew,
					counts: c.counting(from),
					reads:  make([]reading, len(c.units)),
					stored: make([]bool, len(c.units)),
				}, isNew
				if g >= 0 {
					w, ok = c.guardWorld(m, &guards[g], isNew, number, specs)
				}
				if !ok {
					continue
				}
				w.never = never(from, c.judge.decide(c.before).Runs == from.Name)
				w.frail = make([]bool, len(c.units))
				lay(&w, s.Marks, marks.as, !s.Firm)
				lay(&w, s.Pending.Span(), pending.as, !s.Firm)
				w.cases = c.casesOf(&w)
				c.worlds = append(c.worlds, w)
			}
		}
	}
}

// counting returns the units that count where a region runs: its own, and all data.
func (c *climber) counting(r *device.Region) []bool {
	list := make([]bool, len(c.units))
	for i := range c.units {
		u := &c.units[i]
		if c.before.Banks[u.n].Kind == device.Config {
			continue // what its words do counts, and not their bytes
		}
		if s := c.before.State.Resolved.Loader.Swap; s != nil &&
			slices.ContainsFunc(s.Log(), func(s memory.Span) bool { return s.Contains(u.First) }) {
			continue // nor those of a swap's log
		}
		list[i] = u.region == nil || u.region == r || u.region.Role == device.Data || u.region.Span.Covers(r.Span)
	}
	return list
}

// outranked reports whether another region, which the plan leaves alone, is started in
// the place of a world's.
func (c *climber) outranked(m *device.Map, w *world, guards []guarded) bool {
	part := c.before
	if w.isNew {
		part = c.after
	}
	var rank uint64
	for _, d := range w.by.by {
		if d.Rank == nil {
			continue
		}
		// A rank that the plan touches and the guard does not read may be anything.
		for k := range c.units {
			if _, met := c.units[k].Meet(d.Rank.Span()); met && w.reading(k) == readsAny {
				return false
			}
		}
		rank = max(rank, d.RankIn(part.Image()))
	}
	mine := slices.IndexFunc(guards, func(g guarded) bool { return g.region == w.runs })
	for k, g := range guards {
		if k == mine || c.touches(g.region) || slices.ContainsFunc(g.magic, func(h device.Content) bool {
			return slices.ContainsFunc(c.units, func(u unit) bool { _, met := u.Meet(h.Span()); return met })
		}) || c.judge.fails(c.before, m, &g) != "" {
			continue
		}
		var other uint64
		holds := true
		for _, d := range g.by {
			spec, err := d.Spec(m, c.before.Image())
			if err != nil || c.reads(d, spec) {
				holds = false
				break
			}
			other = max(other, d.RankIn(c.before.Image()))
		}
		if holds && (other > rank || other == rank && k < mine) {
			return true
		}
	}
	return false
}

// reads reports whether a checksum reads anything that the plan touches.
func (c *climber) reads(d *device.Checksum, spec *device.Spec) bool {
	read := append(slices.Clone(spec.Feed.Spans), *spec.Place)
	for _, f := range []*device.FieldAt{d.Length, d.End, d.Place, d.Rank} {
		if f != nil {
			read = append(read, f.Span())
		}
	}
	return slices.ContainsFunc(c.units, func(u unit) bool {
		return slices.ContainsFunc(read, func(s memory.Span) bool { _, met := s.Meet(u.Span); return met })
	})
}

// chance finds how likely, in the worst single cut, a guard holds over torn bits that
// are neither as before nor as in the end.
func (c *climber) chance(l *Ladder) {
	touched := make([][]int, len(c.steps.list)+1) // by step, the units
	for k := range c.units {
		for _, t := range c.units[k].touches {
			touched[t.at] = append(touched[t.at], k)
		}
	}
	for i := range c.worlds {
		w := &c.worlds[i]
		if w.by == nil {
			continue
		}
		for cut := 1; cut <= len(c.steps.list); cut++ {
			one, any := 1.0, false
			for k, b := range w.balances { // one that reads nothing torn may hold for certain
				var at *uint64
				if w.cases != nil {
					at = &w.cases.run[cut-1].values[k]
				}
				if chance, torn := c.chanceOf(b, at, cut, touched[cut]); torn {
					one, any = min(one, chance), true
				}
			}
			if !any {
				one = 0
			}
			if len(w.balances) == 0 { // a value alone, which stands there or does not
				one = c.chanceOfValue(w, cut, touched[cut])
			}
			if one > l.Chance {
				l.Chance, l.ChanceAt, l.ChanceOf = one, chip.Cut{Act: cut, Reading: chip.OwnDraw}, w.by.name()
			}
		}
	}
}

// chanceOfValue is how likely a value that must stand somewhere does, where its bits are
// torn and what was to stand there is another.
func (c *climber) chanceOfValue(w *world, cut int, touched []int) float64 {
	count := 0
	for _, k := range touched {
		u := &c.units[k]
		content, t := u.after(cut)
		r := w.reading(k)
		if r == readsAny || u.loose || t == 0 || u.still[content][t] {
			continue
		}
		if r == readsNew && u.mayNew[content][t] || r == readsOld && u.mayOld[content][t] {
			return 0 // told for certain
		}
		count += 8 * int(min(u.Size(), 8))
	}
	if count == 0 {
		return 0
	}
	return math.Ldexp(1, -count)
}
