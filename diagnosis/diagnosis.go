package diagnosis

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math/bits"
	"runtime"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/source"

	"golang.org/x/sync/errgroup"
)

// Other is an image that what was found may be, or may have been programmed over: of another
// release, variant or unit.
type Other struct {
	Name  string
	Image *memory.Image
}

// Place is where the bytes of a device are its own.
type Place struct {
	Name string // as it is said: "serial_number, which is reserved"
	memory.Span
}

// Options say what is known of the images.
type Options struct {
	Erased byte          // what an erased byte reads as
	In     []memory.Span // where they are compared; none is everywhere
	Others []Other
	// Places are where devices of a kind differ, such as that of a serial number: they are no
	// damage.
	Places []Place
	// Holes is whether what an image does not hold was said to count as erased.
	Holes bool
}

// Cause is a damage that reproduces a part of what was found.
type Cause struct {
	Text     string
	Or       []string // others that leave the same bytes
	Kind     string
	Where    []memory.Span
	Explains int // bytes that are as found with it, and were not without
	Spoils   int // bytes that it would have changed, and that are as expected
	Advice   source.Advice
}

// Says returns the cause with what leaves the same bytes.
func (c *Cause) Says() string { return strings.Join(append([]string{c.Text}, c.Or...), ", or ") }

// Diagnosis is what was found out.
type Diagnosis struct {
	Differ    int // bytes; what one image does not hold counts as erased
	Explained int
	Causes    []Cause
	// Rest says of the bytes that no cause explains what they are like; "" is that there are
	// none.
	Rest string
}

const (
	mostSteps    = 8
	leastLater   = 32        // bytes that a further cause explains, at least
	mostUndone   = 256 << 10 // addresses up to which damages are looked for below another
	overUnerased = "over an image not known"
)

// Counts says how much of the difference a cause explains; "" is of an observation.
func (d *Diagnosis) Counts(c *Cause) string {
	var text string
	switch {
	case c.Explains == 0:
		return ""
	case c.Explains == d.Differ:
		text = "explains all " + memory.FormatNumber(d.Differ, "differing byte")
	default:
		text = fmt.Sprintf("explains %s of %s", memory.FormatCount(uint64(c.Explains)), memory.FormatNumber(d.Differ, "differing byte"))
	}
	if c.Spoils > 0 {
		text += fmt.Sprintf(", though %s that it would have changed are as expected", memory.FormatBytes(uint64(c.Spoils)))
	}
	return text
}

// Of finds what happened to an expected image, so that another was found. It takes a time
// that grows with the addresses that either has.
func Of(expected, found *memory.Image, o Options) *Diagnosis {
	p := newPair(expected, found, o)
	if p == nil {
		return &Diagnosis{Rest: fmt.Sprintf("not examined: there are more than %s of addresses", memory.FormatSize(MostExamined))}
	}
	if found.Empty() || expected.Empty() {
		return &Diagnosis{}
	}
	d := &Diagnosis{}
	if !o.Holes {
		defer func() { d.Causes = append(d.Causes, p.erasedSpace()...) }()
	}
	s := p.begin()
	differ, runs := s.differing()
	if d.Differ = differ; differ == 0 {
		return d
	}
	plain := p.restCost(differ, runs)
	var best *story
	consider := func(one *story) {
		if one != nil && len(one.steps) > 0 && one.cost < plain && (best == nil || one.cost < best.cost) {
			best = one
		}
	}
	for _, first := range s.firsts(3) {
		if best != nil && p.openOf(best, s) == 0 && first.cost >= best.cost {
			continue // it cannot say all with less
		}
		consider(s.follow(first, mostSteps))
	}
	if sign := s.constantBit(); sign != nil {
		consider(s.follow(sign, mostSteps))
	}
	if open := p.openOf(best, s); open*10 > differ*3 && differ*5 > len(s.now) && len(s.now) <= mostUndone {
		consider(p.undone())
	}
	if best != nil {
		best.cleaned(differ)
	}
	rest := s
	if best != nil && len(best.steps) > 0 {
		best.tell(d)
		rest = best.last()
	}
	rest = rest.placed(o.Places, d)
	if open, _ := rest.differing(); open > 0 {
		d.Rest = rest.scattered()
	}
	return d
}

// placed notes how many bytes differ in places where devices differ, and returns what is
// foretold with these as they were found.
func (s *foretold) placed(places []Place, d *Diagnosis) *foretold {
	if len(places) == 0 {
		return s
	}
	next := &foretold{pair: s.pair, now: clone(s.now)}
	for _, place := range places {
		n := 0
		s.eachDiffering(func(i int) {
			if place.Contains(s.address(i)) {
				next.now[i] = s.found[i]
				n++
			}
		})
		if n > 0 {
			d.Causes = append(d.Causes, Cause{Kind: "place", Where: []memory.Span{place.Span},
				Text: fmt.Sprintf("%s in %s, where devices may differ", memory.FormatBytes(uint64(n)), place.Name)})
		}
	}
	return next
}

// erasedSpace says that all that the found image has beyond the expected one is erased: an
// observation, for it is no difference.
func (p *pair) erasedSpace() []Cause {
	n := 0
	if p.inExpected == nil {
		return nil
	}
	for i := range p.found {
		if p.inFound.has(i) && !p.inExpected.has(i) {
			if p.found[i] != p.erased {
				return nil
			}
			n++
		}
	}
	if n == 0 {
		return nil
	}
	hole := fmt.Sprintf("%02X", p.erased)
	return []Cause{{
		Kind: "erased memory", Text: "all bytes that only the second has are " + hole + ": erased memory in a read-back",
		Advice: source.Advice{AnyOf: []source.Setting{{Key: "holes", Value: hole, Does: "takes it as equal"}}},
	}}
}

// openOf returns how many bytes a story leaves open.
func (p *pair) openOf(best *story, s *foretold) int {
	if best != nil {
		s = best.last()
	}
	n, _ := s.differing()
	return n
}

// step is a damage, what was foretold before it, and what is with it.
type step struct {
	*fitted
	before, after *foretold
}

// story is damages one after the other.
type story struct {
	begin *foretold
	steps []step
	outer *act // a change of all bytes that came last
	cost  float64
}

func (t *story) last() *foretold {
	if len(t.steps) == 0 {
		return t.begin
	}
	return t.steps[len(t.steps)-1].after
}

// fits returns where each kind of damage fits, the best of each act, sorted.
func (s *foretold) fits() []*fitted {
	if !s.tried {
		s.fitting, s.tried = s.findFits(), true
	}
	return s.fitting
}

func (s *foretold) findFits() (list []*fitted) {
	places := s.sampled(400)
	addresses := make([]uint64, len(places))
	for k, i := range places {
		addresses[k] = s.address(i)
	}
	odd, runs := s.differing()
	before := s.restCost(odd, runs)
	s.odd = odd
	s.from, s.to, s.local = s.reach()
	var likely []*act
	for _, r := range rows {
		if s.local && r.everywhere {
			continue
		}
		for _, a := range r.acts(s, r) {
			if s.local && (a.whole || a.stretches && len(s.stretches) == 1) || !a.likely(s, places, addresses) {
				continue
			}
			likely = append(likely, a)
		}
	}
	list = s.fitAll(likely, before)
	list = append(list, s.pairs(list, before)...)
	if f := s.overUnknown(before); f != nil {
		list = append(list, f)
	}
	list = slices.DeleteFunc(list, func(f *fitted) bool { return f.score < leastScore })
	slices.SortStableFunc(list, func(a, b *fitted) int { return cmp.Compare(b.score, a.score) })
	return list
}

// fitAll fits damages, on all cores.
func (s *foretold) fitAll(acts []*act, before float64) []*fitted {
	list := make([]*fitted, len(acts))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for k, a := range acts {
		group.Go(func() error {
			list[k] = s.fit(a, before)
			return nil
		})
	}
	group.Wait()
	return slices.DeleteFunc(list, func(f *fitted) bool { return f == nil })
}

// pairs puts moves together that belong together: two pages that are swapped, and a part that
// is missing where it was and stands elsewhere.
func (s *foretold) pairs(list []*fitted, before float64) (more []*fitted) {
	add := func(f *fitted) {
		f.cost = 6 + f.parameters + f.bits
		f.score = before - s.costWith(f) - f.cost
		more = append(more, f)
	}
	for _, f := range list {
		if f.row.name != "moved" || f.all {
			continue
		}
		there := s.spanOf(f.domain)
		i, j := s.place(there.First-f.distance), s.place(there.Last-f.distance)
		if i < 0 || j < 0 || j-i != f.to-f.from-1 || i < f.to && f.from < j+1 {
			continue
		}
		origin := domain{from: f.from, to: f.to, bits: f.bits, also: [2]int{i, j + 1}}
		from, to, d, count := f.from, f.to, f.distance, 0
		for k := i; k <= j; k++ {
			if s.inFound.has(k) {
				count++
			}
		}
		span := memory.Span{First: there.First - d, Last: there.Last - d}
		if count == 0 { // it is not where it was
			record := ""
			if d%0x1_0000 == 0 {
				record = ": a record with the upper address was lost or changed"
			}
			a := &act{row: f.row, parameters: f.parameters, distance: d,
				at: func(k int, addr uint64) (byte, bool) {
					if k < from || k >= to {
						return s.erased, true
					}
					return f.at(k, addr)
				},
				words: func(*foretold, domain) string {
					return fmt.Sprintf("%s is found at %s, moved by %s%s", span.Range(), there.Range(), signed(d), record)
				}}
			one := &fitted{act: a, domain: origin}
			add(one)
			continue
		}
		if there.First < span.First {
			continue // told from the other side
		}
		a := &act{row: f.row, parameters: f.parameters, distance: d,
			at: func(k int, addr uint64) (byte, bool) {
				if k >= from && k < to {
					return f.at(k, addr)
				}
				if j := s.place(addr + d); j >= 0 && s.inExpected.has(j) {
					return s.now[j], true
				}
				return 0, false
			},
			words: func(*foretold, domain) string {
				return fmt.Sprintf("%s and %s are swapped", span.Range(), there.Range())
			}}
		add(&fitted{act: a, domain: origin})
	}
	for _, f := range more {
		next := s.with(f)
		for i := range next.now {
			was, is := s.now[i] == s.found[i], next.now[i] == s.found[i]
			switch {
			case is && !was:
				f.explains++
			case was && !is:
				f.spoils++
			}
		}
	}
	return more
}

// overUnknown finds a range in which bits only went the way that programming takes them, and
// densely: programmed over something that was not erased. What was there before is not known.
func (s *foretold) overUnknown(before float64) *fitted {
	oneWay := func(is, was byte) bool {
		if s.erased == 0 {
			return was&^is == 0
		}
		return is&^was == 0
	}
	sum, from, top, l, r := 0, 0, 0, 0, 0
	add := func(i, w int) {
		if sum <= 0 {
			sum, from = 0, i
		}
		if sum += w; sum > top {
			top, l, r = sum, from, i+1
		}
	}
	s.eachBlock(func(at, end int, equal bool) {
		for i := at; i < end; i++ {
			if equal && sum <= 0 {
				return // what is equal only takes off
			}
			switch b, f := s.now[i], s.found[i]; {
			case !s.inFound.has(i) || !s.inExpected.has(i) || !oneWay(f, b):
				add(i, -64)
			case f != b:
				add(i, bits.OnesCount8(f^b))
			case b != s.erased:
				add(i, -2)
			default:
				add(i, 0)
			}
		}
	})
	could, changed, flipped, free := 0, 0, 0, 0
	for i := l; i < r; i++ {
		left := s.now[i]
		if s.erased == 0 {
			left = ^left
		}
		if left == 0 {
			continue
		}
		could++
		free += bits.OnesCount8(left)
		if n := bits.OnesCount8(s.now[i] ^ s.found[i]); n > 0 {
			changed++
			flipped += n
		}
	}
	if changed < 16 || 2*changed < could || float64(flipped) < 1.5*float64(changed) {
		return nil
	}
	a := &act{row: &row{name: overUnerased}, parameters: float64(free),
		at: func(i int, _ uint64) (byte, bool) { return s.found[i], true },
		words: func(s *foretold, d domain) string {
			return "programmed without an erase over something else, " + s.spoken(d) + ": bits only changed as programming changes them"
		}}
	f := &fitted{act: a, domain: domain{from: l, to: r, bits: 2 * s.log}, explains: changed}
	f.cost = 6 + f.parameters + f.bits
	f.score = before - s.costWith(f) - f.cost
	return f
}

// firsts returns the best of so many different kinds.
func (s *foretold) firsts(most int) (list []*fitted) {
	seen := map[string]bool{}
	for _, f := range s.fits() {
		if !seen[f.row.name] && len(list) < most {
			seen[f.row.name] = true
			list = append(list, f)
		}
	}
	return list
}

// constantBit returns a data line that is stuck by the sign that a bit never changes in what
// was found, though it does in what was expected, even where that alone saves nothing.
func (s *foretold) constantBit() *fitted {
	const strays = 8 // bytes that were put in afterwards
	var ones [8]int
	var count [256]int
	for i, b := range s.found {
		if s.inFound.has(i) {
			count[b]++
		}
	}
	n := 0
	for value, times := range count {
		for v := byte(value); v != 0; v &= v - 1 {
			ones[bits.TrailingZeros8(v)] += times
		}
		n += times
	}
	if n < 256 {
		return nil
	}
	var constant byte
	for bit, count := range ones {
		if min(count, n-count) <= strays {
			constant |= 1 << bit
		}
	}
	if constant == 0 {
		return nil
	}
	var wasOne, wasZero byte
	for i, b := range s.now {
		if s.inExpected.has(i) {
			wasOne, wasZero = wasOne|b, wasZero|^b
		}
	}
	constant &= wasOne & wasZero
	if constant == 0 || bits.OnesCount8(constant) > 2 {
		return nil
	}
	bit, value := bits.TrailingZeros8(constant), 0
	if ones[bit] > strays {
		value = 1
	}
	r := rows[slices.IndexFunc(rows, func(r *row) bool { return r.name == "data line" })]
	a := r.acts(s, r)[2*bit+value] // those of all lanes come first
	f := &fitted{act: a, domain: domain{to: len(s.now), all: true, bits: 1}}
	f.cost = 6 + a.parameters + f.bits
	next := s.with(f)
	for i := range next.now {
		if s.now[i] != s.found[i] && next.now[i] == s.found[i] {
			f.explains++
		}
	}
	return f
}

// follow tells a story that begins with a damage: on and on the one that explains most.
func (s *foretold) follow(first *fitted, most int) *story {
	t := &story{begin: s}
	for f := first; f != nil && len(t.steps) < most; {
		before := t.last()
		t.steps = append(t.steps, step{fitted: f, before: before, after: before.with(f)})
		t.cost += f.cost
		f = nil
		if n, _ := t.last().differing(); n == 0 {
			break
		}
		for _, next := range t.last().fits() {
			if next.explains-next.spoils >= leastLater {
				f = next
				break
			}
		}
	}
	t.cost += s.restCost(t.last().differing())
	return t
}

// undone looks for a damage below a change of all bytes that came after it: each change is
// undone on what was found.
func (p *pair) undone() (best *story) {
	s := p.begin()
	places, windows := s.sampled(400), s.windows()
	for _, r := range rows {
		if r.name != "order" && r.name != "changed" && r.name != "crossed data lines" {
			continue
		}
		for _, outer := range r.acts(s, r) {
			if !s.uncovers(outer, places, windows) {
				continue
			}
			inner := *p
			inner.found = clone(p.found)
			was := s.now
			s.now = p.found // each of these changes is undone by itself
			for i, a := range p.places(0, len(p.found)) {
				if b, ok := outer.at(i, a); ok {
					inner.found[i] = b
				}
			}
			s.now = was
			begin := inner.begin()
			differ, runs := begin.differing()
			if inner.restCost(differ, runs) > 1.5*p.restCost(s.differing()) {
				continue
			}
			for _, first := range begin.firsts(1) {
				t := begin.follow(first, 2)
				t.outer = outer
				t.cost += 6 + outer.parameters + 1
				if best == nil || t.cost < best.cost {
					best = t
				}
			}
		}
	}
	return best
}

// windows are all windows of four bytes that the expected image has, but for those of one
// value.
func (p *pair) windows() map[uint32]bool {
	list := make(map[uint32]bool, len(p.expected))
	for k := range p.stretches {
		data := p.expected[p.stretches[k].at:][:p.stretches[k].size]
		for i := 0; i+4 <= len(data); i++ {
			if w := data[i : i+4]; distinct(w) > 1 {
				list[binary.LittleEndian.Uint32(w)] = true
			}
		}
	}
	return list
}

// uncovers reports whether a change, undone on what was found, leaves bytes at their places
// that were expected there, or some that were expected anywhere.
func (s *foretold) uncovers(outer *act, places []int, windows map[uint32]bool) bool {
	const share = 10 // of the places that differ: random bytes are found in fewer
	was := s.now
	s.now = s.found
	defer func() { s.now = was }()
	same, anywhere := 0, 0
	for _, i := range places {
		a := s.address(i)
		if b, ok := outer.at(i, a); ok && b == was[i] {
			same++
		}
		var w [4]byte
		whole := true
		for k := range w {
			j, ok := s.place(a+uint64(k)), false
			if j >= 0 {
				w[k], ok = outer.at(j, a+uint64(k))
			}
			whole = whole && ok
		}
		if whole && windows[binary.LittleEndian.Uint32(w[:])] {
			anywhere++
		}
	}
	return (same+anywhere)*share > len(places)
}

// cleaned takes causes away that are fragments, and all where they explain too little: it is
// another program then.
func (t *story) cleaned(differ int) {
	open, _ := t.last().differing()
	for len(t.steps) > 0 && open*20 > differ {
		last := &t.steps[len(t.steps)-1]
		if last.explains*5 >= differ {
			break
		}
		t.steps = t.steps[:len(t.steps)-1]
		open, _ = t.last().differing()
	}
	both, left := t.last().common()
	if 2*open > differ || 4*left > both {
		t.steps = nil
	}
}

// tell says what was found out.
func (t *story) tell(d *Diagnosis) {
	for i := range t.steps {
		st := &t.steps[i]
		c := Cause{Kind: st.row.name, Explains: st.explains, Spoils: st.spoiled(t.last()), Text: st.words(st.before, st.domain)}
		c.Where = append(c.Where, st.before.spanOf(st.domain))
		if st.also[1] > st.also[0] {
			c.Where = append(c.Where, st.before.spanOf(domain{from: st.also[0], to: st.also[1]}))
		}
		if st.advice != nil && st.all {
			operation, key, value := st.advice()
			c.Advice = source.Advice{Action: &source.Action{Operation: operation, Settings: []source.Setting{{Key: key, Value: value}}}}
		}
		c.Or = st.alternatives()
		if st.row.name == "filled" && t.changes(st.erased) {
			c.Or = append(c.Or, st.before.filledWords(st.domain, st.before.erased)+", before the bytes were changed")
		}
		if t.outer != nil {
			c.Explains, c.Spoils = 0, 0 // of these bytes something else was found
		}
		d.Causes = append(d.Causes, c)
	}
	open, _ := t.last().differing()
	d.Explained = max(d.Differ-open, 0)
	if t.outer != nil {
		d.Causes = append(d.Causes, Cause{
			Kind: t.outer.row.name, Text: t.outer.words(t.begin, domain{to: len(t.begin.now), all: true}) + ", after that",
			Where: []memory.Span{t.begin.spanOf(domain{to: len(t.begin.now)})}, Explains: d.Explained, // both together
		})
	}
}

// changes reports whether a change of all bytes makes such of erased ones.
func (t *story) changes(erased byte) bool {
	return erased != t.begin.erased && slices.ContainsFunc(t.steps, func(st step) bool {
		return st.row.name == "changed" && st.act.erased == erased
	})
}

// spoiled returns how many bytes a damage would have changed that are as expected, but for
// those that a later one explains.
func (st *step) spoiled(last *foretold) (n int) {
	for i, b := range st.after.now {
		if f := last.found[i]; b != f && st.before.now[i] == f && last.now[i] != f {
			n++
		}
	}
	return n
}

// alternatives are damages of other kinds that leave the same image, and are about as likely.
func (st *step) alternatives() (list []string) {
	const near, most = 12, 2
	for _, f := range st.before.fits() {
		if f.row.name == st.row.name || st.score-f.score > near || len(list) == most {
			continue
		}
		if after := st.before.with(f); slices.Equal(after.now, st.after.now) {
			list = append(list, f.words(st.before, f.domain))
		}
	}
	return list
}

// scattered says what differences are like that no cause explains.
func (s *foretold) scattered() string {
	n, runs := s.differing()
	first, single := -1, 0
	both, differ := s.common()
	s.eachDiffering(func(i int) {
		if first < 0 {
			first = i
		}
		if bits.OnesCount8(s.now[i]^s.found[i]) == 1 {
			single++
		}
	})
	where := "the first at " + memory.FormatAddress(s.address(first))
	switch {
	case n == 1:
		return "1 byte, at " + memory.FormatAddress(s.address(first))
	case single == n:
		return fmt.Sprintf("%s, each in a single bit, %s", memory.FormatBytes(uint64(n)), where)
	case both > 0 && float64(differ) > 0.6*float64(both):
		return fmt.Sprintf("%s, more likely another program, %s", memory.FormatBytes(uint64(n)), where)
	case runs > 1:
		return fmt.Sprintf("%s in %s, %s", memory.FormatBytes(uint64(n)), memory.FormatNumber(runs, "place"), where)
	}
	return fmt.Sprintf("%s, %s", memory.FormatBytes(uint64(n)), where)
}
