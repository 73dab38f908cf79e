package rehearsal

import (
	"math"
	"math/bits"
	"slices"

	"mexalt/checksum"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
)

// balance is how far the stored value of a checksum is from the computed one, in all that
// a plan can make of the units that it reads: 0 is that it holds. Each unit adds a share
// of its own, by its content.
type balance struct {
	spec   *device.Spec
	diff   *checksum.Difference // nil: the shares hang on each other, and nothing is told
	fields []memory.Span        // the numbers that say where it reads
	start  uint64               // before the plan
	shares map[int][]uint64     // by unit that it reads, of each content
}

// balanced returns the balance of a checksum that holds before the plan, or in the end.
func (c *climber) balanced(d *device.Checksum, spec *device.Spec, inTheEnd bool) *balance {
	b := &balance{spec: spec, diff: spec.Kind.Difference(), shares: map[int][]uint64{}}
	for _, f := range []*device.FieldAt{d.Length, d.End, d.Place} {
		if f != nil {
			b.fields = append(b.fields, f.Span())
		}
	}
	if b.diff == nil || !hasShares(spec) {
		b.diff = nil
		return b
	}
	read := append(slices.Clone(spec.Feed.Parts()), *spec.Place)
	for k := range c.units {
		u := &c.units[k]
		if u.loose || !slices.ContainsFunc(read, func(s memory.Span) bool { _, met := s.Meet(u.Span); return met }) {
			continue
		}
		shares := make([]uint64, len(u.touches)+1)
		u.each(c.before.Banks[u.n], func(at uint64, contents [][]byte) {
			for i := 1; i < len(contents); i++ {
				shares[i] = b.diff.Join(shares[i], b.share(at, contents[0], contents[i]))
			}
		})
		if b.shares[k] = shares; inTheEnd {
			b.start = b.diff.Without(b.start, shares[len(u.touches)])
		}
	}
	return b
}

// hasShares reports whether each byte that a checksum reads adds a share of its own to its
// balance. Of a sum, what is stored beside the value would have to be told too.
func hasShares(spec *device.Spec) bool {
	k := spec.Kind
	return (k.CRC != nil || k.Group == "XOR" || k.Group == "sum" && spec.Place.Size() == uint64(k.Size())) && k.Bits <= 64
}

// share returns what the balance changes by where bytes at an address do.
func (b *balance) share(at uint64, old, new []byte) (share uint64) {
	s := memory.Span{First: at, Last: at + uint64(len(new)) - 1}
	slot, size := uint64(0), b.spec.Feed.Size()
	for _, part := range b.spec.Feed.Parts() {
		both, met := part.Meet(s)
		place, inPlace := b.spec.Place.Meet(both)
		if met && !(inPlace && place == both && b.spec.Feed.Slot != checksum.SlotUnsaid) { // else what it counts as is the same always
			from := slot + both.First - part.First
			is, was := new[both.First-at:both.Last-at+1], old[both.First-at:both.Last-at+1]
			if word := uint64(b.spec.Feed.Word); word > 1 {
				for i := range is {
					offset := from + uint64(i)
					offset += word - 1 - 2*(offset%word)
					share = b.diff.Without(share, b.diff.Of(was[i:i+1], is[i:i+1], offset, size))
				}
			} else {
				share = b.diff.Without(share, b.diff.Of(was, is, from, size))
			}
		}
		slot += part.Size()
	}
	if both, met := b.spec.Place.Meet(s); met {
		for at := both.First; ; at++ {
			if bit := b.storedBit(at); bit < 64 {
				was, is := old[at-s.First], new[at-s.First]
				stored := uint64(was^is) << bit
				if b.diff.Adds() {
					stored = (uint64(is) - uint64(was)) << bit
				}
				share = b.diff.Join(share, stored)
			}
			if at == both.Last {
				break
			}
		}
	}
	return share
}

// storedBit is from which bit of the value on the byte at an address counts that is stored.
func (b *balance) storedBit(at uint64) uint64 {
	if b.spec.Order == memory.Big {
		return 8 * (b.spec.Place.Last - at)
	}
	return 8 * (at - b.spec.Place.First)
}

// tornBits goes through the bits that may read either way, with what the balance changes
// by where one is not as it stood, until it is told to stop.
func (b *balance) tornBits(u *unit, bank *chip.Bank, content, touch int, do func(share uint64) bool) {
	stop := false
	any := u.touches[touch-1].any
	u.each(bank, func(at uint64, contents [][]byte) {
		for i, stood := range contents[content] {
			mask := stood ^ contents[touch][i]
			if any {
				mask = 0xFF
			}
			for bit := byte(1); bit != 0 && !stop; bit <<= 1 {
				if mask&bit != 0 {
					stop = !do(b.share(at+uint64(i), []byte{stood}, []byte{stood ^ bit}))
				}
			}
			if stop {
				return
			}
		}
	})
}

// cases is what a plan makes of the balance, and of how whole what runs is, at the borders
// of its steps: what a run that is cut there leaves.
type cases struct {
	balances []*balance
	w        *world
	c        *climber
	groups   [][]int // of the units that are read or count, by the step of their first touch
	touching [][]int // by step, such units
	run      []sum   // by border, with all units: what a run from the first border leaves
}

// sum adds up units.
type sum struct {
	values         []uint64 // by balance
	notOld, notNew int      // units that count
	odd            int      // units of numbers that do not say what the balance was laid out by
}

func (s *sum) add(c *cases, i, content, times int) {
	for k, b := range c.balances {
		if shares := b.shares[i]; shares != nil {
			if times > 0 {
				s.values[k] = b.diff.Join(s.values[k], shares[content])
			} else {
				s.values[k] = b.diff.Without(s.values[k], shares[content])
			}
		}
		for _, f := range b.fields {
			if u := &c.c.units[i]; f.Contains(u.First) && (c.w.isNew && !u.isNew[content] || !c.w.isNew && !u.isOld[content]) {
				s.odd += times
			}
		}
	}
	more := c.c.counted(c.w, i, content)
	if more&notOld != 0 {
		s.notOld += times
	}
	if more&notNew != 0 {
		s.notNew += times
	}
}

// holds reports whether the guard holds.
func (s *sum) holds(c *cases) bool {
	for k, b := range c.balances {
		if b.diff.Join(s.values[k], b.start) != 0 {
			return false
		}
	}
	return true
}

// bad reports whether the guard holds over what is neither as before nor as in the end.
func (s *sum) bad(c *cases) bool {
	return s.notOld > 0 && s.notNew > 0 && s.odd == 0 && s.holds(c)
}

// casesOf lays out the cases of a guard; nil where nothing can be told of it.
func (c *climber) casesOf(w *world) *cases {
	out := &cases{w: w, c: c, balances: w.balances}
	if len(w.balances) == 0 || slices.ContainsFunc(w.balances, func(b *balance) bool { return b.diff == nil }) {
		return nil
	}
	n := len(c.steps.list)
	out.groups, out.touching, out.run = make([][]int, n+1), make([][]int, n+1), make([]sum, n+1)
	begin := sum{values: make([]uint64, len(out.balances))}
	for i := range c.units {
		u := &c.units[i]
		if !w.counts[i] && w.reading(i) == readsAny {
			continue
		}
		if u.loose {
			return nil
		}
		out.groups[u.first()] = append(out.groups[u.first()], i)
		for _, t := range u.touches {
			out.touching[t.at] = append(out.touching[t.at], i)
		}
		begin.add(out, i, 0, 1)
	}
	out.run[0] = begin
	for step := 1; step <= n; step++ {
		now := out.run[step-1]
		now.values = slices.Clone(now.values)
		for _, i := range out.touching[step] {
			before, _ := c.units[i].after(step)
			if c.units[i].first() == step {
				before = 0
			}
			now.add(out, i, before, -1)
			now.add(out, i, before+1, 1)
		}
		out.run[step] = now
	}
	return out
}

// oneCut notes the steps within which, or behind which, a cut leaves what the guard holds
// over without being the old or the new. Within one, its granules are done one after the
// other.
func (s *cases) oneCut(all []*world) {
	for step := 1; step < len(s.run); step++ {
		if all[step] == nil && (s.run[step].bad(s) || s.within(step)) {
			coincides := *s.w
			coincides.coincides = true
			all[step] = &coincides
		}
	}
}

// within looks at the granules of a step, as far as they are done when it is cut.
func (s *cases) within(step int) bool {
	var changes [][]uint64 // of the granules that it changes, in their order: by balance
	units := slices.Clone(s.touching[step])
	slices.SortFunc(units, func(a, b int) int {
		if s.c.units[a].First < s.c.units[b].First {
			return -1
		}
		return 1
	})
	counts := false
	for _, i := range units {
		u := &s.c.units[i]
		if s.w.reading(i) == readsAny {
			continue
		}
		bank := s.c.before.Banks[u.n]
		content, _ := u.after(step)
		if u.first() == step {
			content = 0
		}
		counts = counts || s.w.counts[i]
		u.each(bank, func(at uint64, contents [][]byte) {
			stood, became := contents[content], contents[content+1]
			for from := 0; from < len(stood); {
				grain := bank.GranuleOf(at + uint64(from))
				to := int(min(grain.Last-at, uint64(len(stood)-1))) + 1
				if !slices.Equal(stood[from:to], became[from:to]) {
					var one []uint64
					for _, b := range s.balances {
						one = append(one, b.share(at+uint64(from), stood[from:to], became[from:to]))
					}
					changes = append(changes, one)
				}
				from = to
			}
		})
	}
	now := sum{values: slices.Clone(s.run[step-1].values)}
	for k := range changes {
		for i, b := range s.balances {
			now.values[i] = b.diff.Join(now.values[i], changes[k][i])
		}
		if counts && k+1 < len(changes) && s.run[step].odd == 0 && s.run[step-1].odd == 0 && now.holds(s) {
			return true
		}
	}
	return false
}

// count is a sum of units, as one balance and small numbers.
type count struct {
	value          uint64
	notOld, notNew int32
	odd            int32
}

// twoCuts returns two cuts, in the order of time, after which the guard holds over what is
// neither the old nor the new; nil is none. The first run is cut behind one step, and the
// second behind an earlier one.
func (s *cases) twoCuts() []chip.Cut {
	n := len(s.run) - 1
	p := 0 // the balance that reads most, by which it is searched
	for k, b := range s.balances {
		if len(b.shares) > len(s.balances[p].shares) {
			p = k
		}
	}
	diff := s.balances[p].diff
	of := func(all *sum) count {
		return count{all.values[p], int32(all.notOld), int32(all.notNew), int32(all.odd)}
	}
	less := func(a, b count) count {
		return count{diff.Without(a.value, b.value), a.notOld - b.notOld, a.notNew - b.notNew, a.odd - b.odd}
	}
	first := make([]sum, n+1)   // by first step: its units, as the first run has made them
	begin := make([]count, n+1) // by border: the units behind it, as they stood
	done := make([]count, n+1)
	reached := make([]count, n+1) // by border: what a run leaves of the units that it has reached
	for step := n; step >= 0; step-- {
		first[step].values = make([]uint64, len(s.balances))
		for _, i := range s.groups[step] {
			first[step].add(s, i, 0, 1)
		}
		done[step] = of(&first[step])
		if step > 0 {
			begin[step-1] = less(begin[step], less(count{}, done[step]))
		}
	}
	for step := range reached {
		reached[step] = less(of(&s.run[step]), begin[step])
	}
	for one := 1; one <= n; one++ {
		if !s.c.steps.list[one-1].changes() {
			continue
		}
		for _, i := range s.touching[one] {
			content, _ := s.c.units[i].after(one)
			if s.c.units[i].first() == one {
				content = 0
			}
			group := s.c.units[i].first()
			first[group].add(s, i, content, -1)
			first[group].add(s, i, content+1, 1)
			done[group] = of(&first[group])
		}
		now := begin[one]
		now.value = diff.Join(now.value, s.balances[p].start)
		for two := one - 1; two >= 1; two-- {
			// What the first run has made of the units that begin between the cuts.
			more, is := &done[two+1], &reached[two]
			now.notOld, now.notNew, now.odd = now.notOld+more.notOld, now.notNew+more.notNew, now.odd+more.odd
			if now.value = diff.Join(now.value, more.value); diff.Join(now.value, is.value) != 0 {
				continue
			}
			if now.notOld+is.notOld > 0 && now.notNew+is.notNew > 0 && now.odd+is.odd == 0 && s.others(p, one, two, first) {
				return []chip.Cut{{Act: one, When: chip.After, Reading: chip.OwnDraw}, {Act: two, When: chip.After, Reading: chip.OwnDraw}}
			}
		}
	}
	return nil
}

// others reports whether the other balances of the guard hold too.
func (s *cases) others(but, one, two int, first []sum) bool {
	for k, b := range s.balances {
		if k == but {
			continue
		}
		// What the run that is cut at two has not reached is as the first run left it, or as it
		// stood, where it changes nothing.
		value := b.diff.Join(b.start, s.run[two].values[k])
		for step := two + 1; step <= one; step++ {
			value = b.diff.Join(value, first[step].values[k])
		}
		if value != 0 {
			return false
		}
	}
	return true
}

// chanceOf is how likely a checksum holds where what the units hold that a cut tears is
// torn, over readings that are neither as they stood nor as they were to be, each bit as
// likely as not; any is whether it reads any of them.
func (c *climber) chanceOf(b *balance, at *uint64, cut int, touched []int) (chance float64, any bool) {
	type part struct{ unit, content, touch int }
	var torn []part
	read := append(slices.Clone(b.spec.Feed.Parts()), *b.spec.Place)
	for _, k := range touched {
		u := &c.units[k]
		if u.loose || !slices.ContainsFunc(read, func(s memory.Span) bool { _, met := s.Meet(u.Span); return met }) {
			continue
		}
		content, t := u.after(cut)
		if t > 0 && !u.still[content][t] {
			torn = append(torn, part{k, content, t})
		}
	}
	if len(torn) == 0 {
		return 0, false
	}
	if b.diff == nil {
		steps := uint64(0)
		for _, p := range torn {
			steps += c.units[p.unit].Size()
		}
		return walked(b.spec.Kind, steps), true
	}
	done := uint64(0) // what it changes by where all bits are as they were to be
	for _, p := range torn {
		done = b.diff.Join(done, b.diff.Without(b.shares[p.unit][p.touch], b.shares[p.unit][p.content]))
	}
	var lacks *uint64 // what the torn bits must add up to; nil is not known
	if at != nil {
		is := b.diff.Without(0, b.diff.Join(b.start, *at))
		lacks = &is
	}
	each := func(do func(share uint64) bool) {
		for _, p := range torn {
			u := &c.units[p.unit]
			b.tornBits(u, c.before.Banks[u.n], p.content, p.touch, do)
		}
	}
	if !b.diff.Adds() {
		width := min(64, 8*int(b.spec.Place.Size())) // what is stored above the value must be 0
		return independent(max(width, b.spec.Kind.Bits), lacks, done, each), true
	}
	var bytes uint64
	var rises, falls [64]int // bits, by the bit of the value that they count as
	for _, p := range torn {
		u := &c.units[p.unit]
		bytes += u.Size()
		b.columns(u, c.before.Banks[u.n], p.content, p.touch, &rises, &falls)
	}
	const most = 1 << 14 // bytes: a walk of so many steps is as near as a count
	if bytes > most || lacks == nil {
		return walked(b.spec.Kind, bytes), true
	}
	return adding(b.spec.Kind.Bits, rises, falls, *lacks, done), true
}

// columns counts the bits that may read either way, by the bit of a sum that they raise
// or lower where they are not as they stood.
func (b *balance) columns(u *unit, bank *chip.Bank, content, touch int, rises, falls *[64]int) {
	any := u.touches[touch-1].any
	mask := uint64(1)<<(b.spec.Kind.Bits-1)<<1 - 1
	var first [8]int // by the address, the bit as which the lowest of a byte counts, from 1
	var lowers [8]bool
	u.each(bank, func(at uint64, contents [][]byte) {
		for i, stood := range contents[content] {
			odd := stood ^ contents[touch][i]
			if any {
				odd = 0xFF
			}
			lane := (at + uint64(i)) % 8
			if first[lane] == 0 {
				share := b.share(at+uint64(i), []byte{0}, []byte{1})
				if lowers[lane] = bits.OnesCount64(share) > 1; lowers[lane] {
					share = -share & mask
				}
				first[lane] = bits.TrailingZeros64(share) + 1
			}
			for ; odd != 0; odd &= odd - 1 {
				bit := bits.TrailingZeros8(odd)
				into := rises
				if stood>>bit&1 == 1 != lowers[lane] {
					into = falls
				}
				if column := first[lane] - 1 + bit; column < len(into) {
					into[column]++
				}
			}
		}
	})
}

// walked bounds the chance of a sum of which no more is known than over how many bytes of
// torn bits it goes: it is as a walk of so many steps.
func walked(kind *checksum.Kind, steps uint64) float64 {
	least := math.Ldexp(1, -min(kind.Bits, 64))
	if kind.Group == "digest" {
		return least
	}
	// The variance of a byte of which each bit is as likely one as the other.
	const variance = (256*256 - 1) / 12.0
	return max(least, min(1, 1/math.Sqrt(2*math.Pi*variance*float64(steps))))
}

// independent is the chance of a CRC or an XOR, of bits of which each changes some of its
// value's: 2^-r, r is how many of these changes are independent of each other, and none
// where they cannot add up to what is lacking. Where all are independent, one reading
// alone passes, which counts unless it is what stood there or was to be.
func independent(width int, lacks *uint64, done uint64, each func(do func(share uint64) bool)) float64 {
	var base [64]uint64
	rank, count := 0, 0
	reduce := func(v uint64, keep bool) uint64 {
		for v != 0 {
			top := bits.Len64(v) - 1
			if base[top] == 0 {
				if keep {
					base[top] = v
					rank++
				}
				return v
			}
			v ^= base[top]
		}
		return 0
	}
	each(func(share uint64) bool {
		count++
		reduce(share, true)
		return rank < width || count == rank
	})
	switch {
	case lacks == nil:
	case reduce(*lacks, false) != 0:
		return 0
	case rank == count && (*lacks == 0 || *lacks == done):
		return 0
	}
	return math.Ldexp(1, -rank)
}

// adding is the chance that a sum holds: so many bits rise it by each power of two, and so
// many lower it, each as likely as not, and they must add up to what is lacking. The
// columns are gone through from the lowest, with what each carries on to the next.
func adding(width int, rises, falls [64]int, lacks, done uint64) float64 {
	const tails = 9                   // standard deviations that are told
	carries, least := []float64{1}, 0 // by what is carried on, from the least on
	all := 0
	for bit := range width {
		n := rises[bit] + falls[bit]
		all += n
		mean, deviation := float64(n)/2, math.Sqrt(float64(n))/2
		low, high := max(0, int(mean-tails*deviation-2)), min(n, int(mean+tails*deviation+2))
		binomial := make([]float64, high-low+1)
		for k := range binomial {
			binomial[k] = choose(n, low+k)
		}
		want := int(lacks >> bit & 1)
		from := (least + low - falls[bit] - want) >> 1
		next := make([]float64, (least+len(carries)-1+high-falls[bit]-want)>>1-from+1)
		for carry, p := range carries {
			if p == 0 {
				continue
			}
			total := least + carry + low - falls[bit] - want
			for k := total & 1; k < len(binomial); k += 2 {
				next[(total+k)>>1-from] += p * binomial[k]
			}
		}
		carries, least = next, from
	}
	chance := 0.0
	for _, p := range carries {
		chance += p
	}
	for _, known := range []uint64{0, done} { // what stood there, and what was to be
		if known == lacks {
			chance -= math.Ldexp(1, -all)
		}
	}
	return max(chance, 0)
}

// choose is the chance that of n bits just k are one.
func choose(n, k int) float64 {
	a, _ := math.Lgamma(float64(n) + 1)
	b, _ := math.Lgamma(float64(k) + 1)
	c, _ := math.Lgamma(float64(n-k) + 1)
	return math.Exp(a - b - c - float64(n)*math.Ln2)
}
