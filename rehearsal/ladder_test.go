package rehearsal

import (
	"context"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// tiny is a device on which every chain of cuts can be tried: LAST is the slot's last
// address, and below it come the regions and the guard.
const tiny = `name = "Tiny"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = 320
page = 32
granule = 4
sectors = [{ count = 5, size = 64 }]
[[memory]]
name = "tables"
kind = "eeprom"
first = 0x8000
size = 16
granule = 4
[[region]]
name = "loader"
role = "bootloader"
first = 0
size = 64
[[region]]
name = "slot"
role = "application"
first = 64
last = LAST
[[start]]
kind = "instruction"
at = "loader.first"
`

// aPlan is a device, two images and a plan that are made by chance.
type aPlan struct {
	m        *device.Map
	old, new *memory.Image
	plan     *Plan
	text     string
}

func randomPlan(t testing.TB, r *rand.Rand) aPlan { return randomPlanAt(t, r, 0) }

// randomPlanAt has all memories of the device so much further up.
func randomPlanAt(t testing.TB, r *rand.Rand, base int) aPlan {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	last := []int{127, 191, 159}[r.IntN(3)] // the slot ends with a sector, or within one
	text := strings.NewReplacer("LAST", fmt.Sprint(base+last), "first = 0\n", fmt.Sprintf("first = %d\n", base),
		"first = 0x8000", fmt.Sprintf("first = %d", base+0x8000), "first = 64", fmt.Sprintf("first = %d", base+64)).Replace(tiny)
	data, notes := r.IntN(3) == 0, last == 159
	guard := "eeprom"
	if !data {
		guard = pick("end", "end", "begin", "first page", "sector", "eeprom")
	} else {
		guard = pick("end", "begin", "sector")
	}
	if notes {
		text += fmt.Sprintf("[[region]]\nname = \"notes\"\nrole = \"data\"\nfirst = %d\nlast = %d\n", base+160, base+191)
	}
	kind := pick("CRC-32/ISO-HDLC", "CRC-32/ISO-HDLC", "SUM-32", "SUM-32/BIG/TWOS", "XOR-32/LITTLE", "CRC-32/ISO-HDLC", "CRC-16/MODBUS",
		"SUM-16/ONES", "XOR-8", "CRC-8/SMBUS")
	place := map[string][2]string{
		"end":        {"slot.first..slot.last-4", "slot.last-3"},
		"begin":      {"slot.first+4..slot.last", "slot.first"},
		"first page": {"slot.first..slot.first+27", "slot.first+28"},
		"sector":     {"slot.first..slot.last", fmt.Sprint(base + 256)},
		"eeprom":     {"slot.first..slot.last", fmt.Sprint(base + 0x8000)},
	}[guard]
	if data || guard == "eeprom" {
		text += "[[region]]\nname = \"levels\"\nrole = \"data\"\nfirst = \"tables.first\"\nlast = \"tables.last\"\n"
	}
	text += fmt.Sprintf("[[checksum]]\nname = \"sum\"\nkind = %q\nin = %q\nat = %q\nguards = \"slot\"\n", kind, place[0], place[1])
	if r.IntN(4) == 0 {
		text += "[loader]\nretry = \"until-new\"\n"
	}
	m := mapOf(t, text)
	image := func(seed uint64, holes bool) *memory.Image {
		random := rand.New(rand.NewPCG(seed, 1))
		bytes := func(n int) []byte {
			b := make([]byte, n)
			for i := range b {
				b[i] = byte(random.Uint32())
			}
			return b
		}
		n := last - 63
		if holes {
			n = []int{n, n - 32, n - 4, 40}[r.IntN(4)]
		}
		parts := []any{base + 64, bytes(n)}
		if data || guard == "eeprom" {
			parts = append(parts, base+0x8000, bytes(16))
		}
		if notes && r.IntN(2) == 0 {
			parts = append(parts, base+160, bytes(32))
		}
		out := joined(t, &source.Input{Name: "test"}, parts...)
		spec, err := m.Checksums[0].Spec(m, out)
		require.NoError(t, err)
		erased := byte(0xFF)
		spec.Feed.Hole = &erased
		_, value, err := spec.Compute(out, 1)
		require.NoError(t, err)
		if len(value) < 4 { // the granule's rest too is the image's
			value = append(value, "\x11\x22\x33"[:4-len(value)]...)
		}
		out, ok := out.Write(&source.Input{Name: "seal"}, spec.Place.First, value)
		require.True(t, ok)
		return out
	}
	loader, ok := memory.FromBytes(uint64(base), []byte(strings.Repeat("\x12\x34", 32)), &source.Input{Name: "loader"})
	require.True(t, ok)
	p := aPlan{m: m, new: image(r.Uint64(), true)}
	p.old, _ = memory.Merge([]*memory.Image{loader, image(r.Uint64(), true)}, memory.First)

	var list []string
	add := func(do, more string) { list = append(list, fmt.Sprintf("%q\n%s", do, more)) }
	if r.IntN(4) == 0 {
		add("void", "in = \"checksum.sum\"")
	}
	first := r.IntN(4) == 0
	if first {
		add("erase", "in = \"checksum.sum\"")
	}
	order := func() string { return pick("", "", "order = \"down\"") }
	skip := pick("", "", "skip = \"checksum.sum\"")
	switch r.IntN(3) {
	case 0:
		add("erase", order())
		add("program", order()+"\n"+skip)
	case 1: // a sector after the other
		for _, s := range []string{fmt.Sprintf("0x%X..0x%X", base+0x40, base+0x7F), fmt.Sprintf("0x%X..0x%X", base+0x80, base+0x13F)} {
			add("erase", "in = \""+s+"\"\n"+order())
			add("program", "in = \""+s+"\"\n"+order()+"\n"+skip)
		}
		add("program", "in = \"tables\"\n"+skip)
	default:
		add("program", "in = \"tables\"\n"+skip)
		add("erase", order())
		add("program", "in = \"flash\"\n"+order()+"\n"+skip)
	}
	if skip != "" {
		add("program", "in = \"checksum.sum\"")
	}
	p.text = text + acts("bootloader", list...)
	p.plan = planOf(t, acts("bootloader", list...))
	return p
}

// maybe is a byte of the plain simulator: a value, and bits that may be either.
type maybe struct{ value, free byte }

// plainChip is a part of which each bit is told one by one, and of each granule of 4
// bytes what a guard may read there, but by chance. It shares nothing with what sweeps
// and ladders go by, but the steps of a plan.
type plainChip struct {
	bytes map[uint64]maybe
	reads map[uint64]map[string]bool
}

// plainOf is a part of which nothing is torn.
func plainOf(part *chip.Chip) plainChip {
	out := plainChip{map[uint64]maybe{}, map[uint64]map[string]bool{}}
	for _, b := range part.Banks {
		held := part.Peek(b, b.Span)
		for i, x := range held {
			out.bytes[b.Span.First+uint64(i)] = maybe{x, 0}
			if i%4 == 0 {
				out.reads[b.Span.First+uint64(i)] = map[string]bool{string(held[i : i+4]): true}
			}
		}
	}
	return out
}

// clone is the part again; what a granule reads is made anew where it changes.
func (c plainChip) clone() plainChip { return plainChip{maps.Clone(c.bytes), maps.Clone(c.reads)} }

// apply does a step, or tears it.
func (c plainChip) apply(s *step, torn, eeprom bool) {
	for at := s.span.First &^ 3; at <= s.span.Last; at += 4 { // what voids a value writes some of a granule
		reads := map[string]bool{}
		for was := range c.reads[at] {
			mixed, erased := []byte(was), []byte(was)
			for i := range mixed {
				switch at := at + uint64(i); {
				case !s.span.Contains(at):
				case s.do == Erase:
					mixed[i] = 0xFF
				case eeprom:
					mixed[i], erased[i] = s.data[at-s.span.First], 0xFF
				default:
					mixed[i] &= s.data[at-s.span.First]
				}
			}
			goal := string(mixed)
			if eeprom && s.do != Erase {
				reads[string(erased)] = true
			}
			if !torn {
				clear(reads)
			} else {
				reads[was] = true
			}
			reads[goal] = true
		}
		c.reads[at] = reads
	}
	for i := range s.span.Size() {
		at := s.span.First + i
		x := c.bytes[at]
		switch {
		case s.do == Erase && torn:
			x = maybe{x.value, 0xFF}
		case s.do == Erase:
			x = maybe{0xFF, 0}
		case eeprom && torn: // but bits that were erased, and stay so
			x = maybe{x.value, x.free | ^(x.value & s.data[i])}
		case eeprom:
			x = maybe{s.data[i], 0}
		default:
			for bit := byte(1); bit != 0; bit <<= 1 {
				if s.data[i]&bit != 0 {
					continue // it is left as it is
				}
				switch {
				case !torn:
					x.value, x.free = x.value&^bit, x.free&^bit
				case x.value&bit != 0:
					x.free |= bit
				}
			}
		}
		c.bytes[at] = x
	}
}

// run carries a plan out up to a cut within a step.
func (c plainChip) run(l *steps, cut int) {
	for i := range l.list {
		s := &l.list[i]
		if !s.changes() || i+1 > cut {
			continue
		}
		c.apply(s, i+1 == cut, s.span.First >= 0x8000)
	}
}

// holdsWhole reports whether the guard holds over bytes of which none is torn, and whether
// they are as before and as in the end.
func (p *aPlan) holdsWhole(t testing.TB, bytes map[uint64]byte, old, end plainChip) (holds, isOld, isNew bool) {
	flash := make([]byte, 320)
	tables := make([]byte, 16)
	isOld, isNew = true, true
	for at, x := range bytes {
		if at < 320 {
			flash[at] = x
		} else {
			tables[at-0x8000] = x
		}
		if r := p.m.RegionAt(at); r != nil && r.Name == "loader" {
			continue
		}
		isOld = isOld && (x == old.bytes[at].value || old.bytes[at].value == 0xFF)
		isNew = isNew && (x == end.bytes[at].value || !p.new.Holds(at))
	}
	image := joined(t, &source.Input{Name: "read"}, 0, flash, 0x8000, tables)
	holds = true
	for i := range p.m.Checksums {
		spec, err := p.m.Checksums[i].Spec(p.m, image)
		require.NoError(t, err)
		_, value, err := spec.Compute(image, 1)
		require.NoError(t, err)
		stored := make([]byte, len(value))
		image.ReadAt(stored, spec.Place.First)
		holds = holds && string(stored) == string(value)
	}
	return holds, isOld, isNew
}

// values are the bytes of a part of which nothing is torn.
func (c plainChip) values() map[uint64]byte {
	out := map[uint64]byte{}
	for at, x := range c.bytes {
		out[at] = x.value
	}
	return out
}

// cuts goes through what a device may read as whose power fails within a step, or right
// behind it, where each granule is as it stood or done, one after the other.
func (c plainChip) cuts(l *steps, cut int, do func(map[uint64]byte)) {
	before := plainChip{maps.Clone(c.bytes), maps.Clone(c.reads)}
	before.whole(l, cut-1)
	s := &l.list[cut-1]
	if !s.changes() {
		return
	}
	now := before.values()
	before.apply(s, false, s.span.First >= 0x8000)
	after := before.values()
	for at := s.span.First &^ 3; at <= s.span.Last; at += 4 {
		for i := range uint64(4) {
			now[at+i] = after[at+i]
		}
		do(now)
	}
}

// startsNew reports whether a device certainly starts the new, where torn bits that a guard
// reads are as they should be in the end; of these it returns the reads.
func (c plainChip) startsNew(p *aPlan, end plainChip) (yes bool, torn map[uint64]map[string]bool) {
	d := &p.m.Checksums[0]
	place := memory.Span{First: d.At, Last: d.At + d.Size - 1}
	torn = map[uint64]map[string]bool{}
	for at, reads := range c.reads {
		covered := false
		for i := range uint64(4) {
			covered = covered || d.In[0].Contains(at+i) || place.Contains(at+i)
		}
		want := ""
		free := byte(0)
		for i := range uint64(4) {
			want += string([]byte{end.bytes[at+i].value})
			free |= c.bytes[at+i].free
		}
		switch {
		case covered && (!reads[want]):
			return false, nil
		case covered && (len(reads) > 1 || free != 0):
			torn[at] = reads
		case covered:
		default:
			for i := range uint64(4) {
				if x := c.bytes[at+i]; p.new.Holds(at+i) && (x.free != 0 || x.value != end.bytes[at+i].value) {
					return false, nil
				}
			}
		}
	}
	return true, torn
}

// unchanged reports whether granules read as they did, and were not written since.
func (c plainChip) unchanged(torn map[uint64]map[string]bool) bool {
	for at, reads := range torn {
		if reflect.ValueOf(c.reads[at]).Pointer() != reflect.ValueOf(reads).Pointer() {
			return false
		}
	}
	return true
}

// whole carries a plan out up to and with a step.
func (c plainChip) whole(l *steps, last int) {
	for i := range l.list[:last] {
		if s := &l.list[i]; s.changes() {
			c.apply(s, false, s.span.First >= 0x8000)
		}
	}
}

// agrees holds what is said of a checksum at the borders of steps against the checksum of
// a chip on which they are done.
func (c *climber) agrees(t testing.TB, l *steps, text string) {
	for i := range c.worlds {
		w := &c.worlds[i]
		if w.cases == nil {
			continue
		}
		now := c.before.Clone()
		for step := 0; step < len(w.cases.run); step++ {
			if step > 0 && l.list[step-1].changes() {
				apply(now, &l.list[step-1])
			}
			s := &w.cases.run[step]
			require.Equal(t, c.judge.fails(now, c.before.Map, w.by) == "", s.holds(w.cases), "step %d\n%s", step, text)
		}
	}
}

// bad reports whether something may run that is neither as before nor as in the end,
// whatever the free bits are.
func (c plainChip) bad(p aPlan, old, end plainChip, weak bool, ends ...map[uint64]map[string]bool) bool {
	d := &p.m.Checksums[0]
	place := memory.Span{First: d.At, Last: d.At + d.Size - 1}
	for k, goal := range []plainChip{old, end} {
		if !weak && k == 1 && slices.ContainsFunc(ends, c.unchanged) {
			continue // it started the new before this, and nobody went on
		}
		covered := func(at uint64) bool { return d.In[0].Contains(at) || place.Contains(at) }
		holds := true
		for at, reads := range c.reads {
			want, any := "", false
			for i := range uint64(4) {
				want += string([]byte{goal.bytes[at+i].value})
				any = any || covered(at+i)
			}
			holds = holds && (!any || reads[want])
		}
		isOld, isNew, both, split := true, true, false, 0
		for at, x := range c.bytes {
			if r := p.m.RegionAt(at); r != nil && r.Name == "loader" {
				continue
			}
			counts := [2]bool{old.bytes[at].value != 0xFF, p.new.Holds(at)} // for the old, and for the new
			free := x.free
			if covered(at) {
				x = goal.bytes[at] // that is what it reads, when it is checked
				if weak && !place.Contains(at) && free != 0 {
					x.free = free
				}
			}
			isOld = isOld && (!counts[0] || (x.value^old.bytes[at].value)&^x.free == 0)
			isNew = isNew && (!counts[1] || (x.value^end.bytes[at].value)&^x.free == 0)
			for bit := byte(1); bit != 0; bit <<= 1 {
				if x.free&bit == 0 {
					continue
				}
				switch {
				case counts[0] && counts[1] && old.bytes[at].value&bit == end.bytes[at].value&bit:
					both = true
				case counts[0] && counts[1]:
					split++ // it is one of the two
				case counts[0]:
					isOld = false
				case counts[1]:
					isNew = false
				}
			}
		}
		for _, whole := range []*bool{&isOld, &isNew} {
			if *whole && split > 0 {
				split--
				*whole = false
			}
		}
		if holds && (both || !isOld && !isNew) {
			return true
		}
	}
	return false
}

// TestLaddersAreHeldToTheTruth tries every chain of one cut, two and on small plans three
// with a plain simulator, and an adversary that sets each torn bit: a plan is never said
// to bear what it does not, and rarely denied what it does.
func TestLaddersAreHeldToTheTruth(t *testing.T) {
	t.Parallel()
	rounds := 1000 / golden.Every(16)
	r := rand.New(rand.NewPCG(24, 3))
	plans, above, below, three := 0, 0, 0, 0
	var rungs [Weak + 1]int
	kinds := map[string]int{}
	for round := 0; plans < rounds && round < 9*rounds; round++ {
		p := randomPlan(t, r)
		part := chip.New(p.m, 1)
		part.Program(p.old)
		l, err := layout(p.plan, part, p.new, 0)
		require.NoError(t, err, p.text)
		end := l.expected(part)
		j := newJudge(part.Clone(), end, l)
		if l.unfit(part, j.judge(part)) != nil || end.State.Stopped != "" {
			continue
		}
		if !j.holds(end, p.m, &p.m.Checksums[0]) {
			continue // what the image does not reach of the old is left, and the plan ends with neither
		}
		plans++
		c := newClimber(l, j.before, j.after, j)
		ladder := c.single()
		c.climb(ladder, "", &Sweep{Plan: p.plan})
		said := [3]bool{ladder.Rung < OneCut, ladder.Rung < AnyCuts, ladder.Rung < Weak}
		d := &p.m.Checksums[0]
		narrow := d.Kind.Bits < 32
		kinds[d.Kind.Name]++
		c.agrees(t, l, p.text)

		old, final := plainOf(part), plainOf(end)
		steps := 0
		for i := range l.list {
			if l.list[i].changes() {
				steps = i + 1
			}
		}
		truth := [3]bool{}
		var worst [3][]int
		deep := steps <= 14 && three < 160
		if deep {
			three++
		}
		coincides := func(bytes map[uint64]byte) bool {
			holds, isOld, isNew := p.holdsWhole(t, bytes, old, final)
			return holds && !isOld && !isNew
		}
		untilNew := p.m.Loader.Retry == device.RetryUntilNew
		for a := 1; a <= steps; a++ {
			old.clone().cuts(l, a, func(bytes map[uint64]byte) {
				if !truth[0] && coincides(bytes) {
					truth[0], truth[1], truth[2] = true, true, true
					worst[0], worst[1] = []int{a}, []int{a}
				}
			})
			for b := 1; b < a && !narrow && !(truth[1] && truth[2]); b++ {
				two := old.clone()
				two.whole(l, a)
				if _, _, isNew := p.holdsWhole(t, two.values(), old, final); isNew && untilNew {
					break
				}
				two.whole(l, b)
				if coincides(two.values()) {
					truth[1], truth[2] = true, true
					worst[1] = []int{a, b}
				}
			}
			one := old.clone()
			one.run(l, a)
			news := func(part plainChip, before []map[uint64]map[string]bool) (list []map[uint64]map[string]bool, certain bool) {
				yes, torn := part.startsNew(&p, final)
				if !untilNew || !yes {
					return before, false
				}
				return append(slices.Clone(before), torn), len(torn) == 0
			}
			if one.bad(p, old, final, false) && !truth[0] {
				truth[0], truth[1], truth[2] = true, true, true
				worst[0], worst[1] = []int{a}, []int{a}
			}
			truth[2] = truth[2] || one.bad(p, old, final, true)
			ends, over := news(one, nil)
			for b := 1; b <= steps && !(truth[1] && truth[2]); b++ {
				two := one.clone()
				two.run(l, b)
				truth[1] = truth[1] || !over && two.bad(p, old, final, false, ends...)
				truth[2] = truth[2] || two.bad(p, old, final, true)
				ends, overTwo := news(two, ends)
				for d := 1; deep && d <= steps && !(truth[1] && truth[2]); d++ {
					last := two.clone()
					last.run(l, d)
					truth[1] = truth[1] || !over && !overTwo && last.bad(p, old, final, false, ends...)
					truth[2] = truth[2] || last.bad(p, old, final, true)
				}
			}
		}
		for k, isBad := range said {
			if truth[k] && !isBad {
				above++
				assert.Fail(t, "a plan is said to bear what it does not", "rung %d, cuts %v\n%s", k+2, worst[k], p.text)
			}
		}
		rungs[ladder.Rung]++
		if said[0] && !truth[0] || deep && !narrow && (said[1] && !truth[1] || said[2] && !truth[2]) {
			below++
		}
		if above > 2 {
			break
		}
	}
	t.Logf("%d plans, of which %d with chains of three; on rungs %v; above the truth %d, below it %d; by %v", plans, three, rungs, above,
		below, kinds)
	assert.GreaterOrEqual(t, plans, rounds*9/10)
	assert.LessOrEqual(t, below*100, plans*3)
	for rung := Unhurt; rung <= Weak; rung++ {
		assert.Positive(t, rungs[rung], "plans on rung %d", rung)
	}
}

// TestDesignsStandOnTheirRungs goes through the designs of update that practice knows,
// each with the orders of acts in which it is carried out.
func TestDesignsStandOnTheirRungs(t *testing.T) {
	const flash = `name = "Design"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = 512
page = 32
granule = 4
sectors = [{ count = 8, size = 64 }]
[[memory]]
name = "cells"
kind = "eeprom"
first = 0x8000
size = 16
granule = 4
[[memory]]
name = "words"
kind = "config"
first = 0x9000
size = 1
[[region]]
name = "loader"
role = "bootloader"
first = 0
size = 64
[start]
kind = "instruction"
at = "loader.first"
`
	slot := func(name string, first, last int) string {
		return fmt.Sprintf("[[region]]\nname = %q\nrole = \"application\"\nfirst = %d\nlast = %d\n", name, first, last)
	}
	guard := func(name, kind, in, at, more string) string {
		return fmt.Sprintf("[[checksum]]\nname = \"sum_%s\"\nkind = %q\nin = %q\nat = %q\nguards = %q\n%s", name, kind, in, at, name, more)
	}
	const crc = "CRC-32/ISO-HDLC"
	data := "[[region]]\nname = \"notes\"\nrole = \"data\"\nfirst = 224\nlast = 255\n"
	one := slot("one", 64, 255)
	rank := func(slot string) string { return "rank-at = { at = \"" + slot + ".first\" }\n" }
	inside := slot("one", 64, 191) + slot("two", 192, 319) + guard("one", crc, "one.first..one.last-4", "one.last-3",
		rank("one")) + guard("two", crc, "two.first..two.last-4", "two.last-3", rank("two"))
	outside := slot("one", 64, 191) + slot("two", 192, 319) + guard("one", crc, "one.first+8..one.last", "one.first+4",
		rank("one")) + guard("two", crc, "two.first+8..two.last", "two.first+4", rank("two"))
	swapGuard := guard("two", crc, "two.first..two.last-4", "two.last-3", "")
	swap := slot("one", 64, 127) + slot("two", 128, 191) + "[[region]]\nname = \"log\"\nrole = \"data\"\nfirst = 192\nlast = 255\n" +
		swapGuard +
		"[loader.swap]\nfrom = \"two\"\nto = \"one\"\npending = { at = \"log.first\", bytes = \"0F F0 0F F0\" }\ndone = { at = " +
		"\"log.last - 3\", bytes = \"00 00 00 00\" }\nmarks = \"log.first+4..log.last\"\n"
	const (
		voidLog = "\"void\"\nin = \"192..195\""
		restLog = "\"program\"\nskip = \"192..195\""
		lastLog = "\"program\"\nin = \"192..195\""
	)
	const switchText = "[[config]]\nname = \"start\"\nat = \"words.first\"\nwidth = 1\ndefault = 1\nundefined = " +
		"true\n[[config.field]]\nname = \"enters\"\nbits = 0\nvalues = [{ value = 1, meaning = \"one\", sets = { start = \"one\" } }, " +
		"{ value = 0, meaning = \"two\", sets = { start = \"two\" } }]\n"

	type piece struct{ at, size int }
	images := func(m *device.Map, old, new []piece, ranks [2]byte) (was, is *memory.Image) {
		random := rand.New(rand.NewPCG(5, 7))
		make := func(pieces []piece, rank byte) *memory.Image {
			var parts []any
			for _, p := range pieces {
				b := make([]byte, p.size)
				for i := range b {
					b[i] = byte(random.Uint32())
				}
				if ranks != [2]byte{} && p.at >= 64 {
					copy(b, []byte{rank, 0, 0, 0})
				}
				parts = append(parts, p.at, b)
			}
			out := joined(t, &source.Input{Name: "test"}, parts...)
			for i := range m.Checksums {
				spec, err := m.Checksums[i].Spec(m, out)
				if err != nil || out.Count(spec.Feed.Spans[0]) == 0 {
					continue
				}
				erased := byte(0xFF)
				spec.Feed.Hole = &erased
				_, value, err := spec.Compute(out, 1)
				require.NoError(t, err)
				out, _ = out.Write(&source.Input{Name: "seal"}, spec.Place.First, value)
			}
			return out
		}
		return make(old, ranks[0]), make(new, ranks[1])
	}
	whole, update := []piece{{0, 64}, {64, 192}}, []piece{{64, 192}}
	swapOld, swapNew := []piece{{0, 64}, {64, 64}, {128, 64}}, []piece{{128, 64}}
	both, second := []piece{{0, 64}, {64, 128}}, []piece{{192, 128}}
	over := func(image *memory.Image, log []byte) *memory.Image {
		out, _ := image.Write(&source.Input{Name: "log"}, 192, log)
		return out
	}
	word := func(image *memory.Image, v byte) *memory.Image {
		out, _ := image.Write(&source.Input{Name: "word"}, 0x9000, []byte{v})
		return out
	}
	const (
		void   = "\"void\"\nin = \"checksum.sum_one\""
		void2  = "\"void\"\nin = \"checksum.sum_two\""
		last   = "\"program\"\nin = \"checksum.sum_one\""
		last2  = "\"program\"\nin = \"checksum.sum_two\""
		rest   = "\"program\"\nskip = \"checksum.sum_one\""
		rest2  = "\"program\"\nskip = \"checksum.sum_two\""
		place  = "\"erase\"\nin = \"checksum.sum_one\""
		others = "\"erase\"\nskip = \"checksum.sum_one\""

		chipErase = "\"erase\"\nwhat = \"chip\""
		erase     = `"erase"`
		write     = `"program"`
	)
	shares := one + guard("one", crc, "one.first..one.last-4", "one.last-3", "")
	own := one + guard("one", crc, "one.first..one.last", "320", "")
	uncovered := slot("one", 64, 223) + data + guard("one", crc, "one.first..one.last-4", "one.last-3", "")
	eeprom := one + guard("one", crc, "one.first..one.last", "0x8000", "")
	var proposed strings.Builder
	for _, c := range []struct {
		design, text string
		old, new     []piece
		ranks        [2]byte
		acts         []string
		want         Rung
	}{
		{"covers all, shares a sector", shares, whole, update, [2]byte{}, []string{erase, write}, AnyCuts},
		{"the loader as it was", shares, whole, whole, [2]byte{}, []string{erase, write}, Unhurt},
		{"the loader as it was, all of the chip", shares, whole, whole, [2]byte{}, []string{chipErase, write}, Unhurt},
		{"guard's sector first", shares, whole, update, [2]byte{}, []string{place, others, write}, AnyCuts},
		{"guard's granule last", shares, whole, update, [2]byte{}, []string{erase, rest, last}, AnyCuts},
		{"void, granule last", shares, whole, update, [2]byte{}, []string{void, erase, rest, last}, Weak},
		{"void, page last", shares, whole, update, [2]byte{},
			[]string{void, erase, "\"program\"\nskip = \"224..255\"", "\"program\"\nin = \"224..255\""}, AnyCuts},
		{"void after the erase of the first sector", shares, whole, update, [2]byte{},
			[]string{"\"erase\"\nin = \"64\"", void, "\"erase\"\nskip = \"64\"", rest, last}, AnyCuts},

		{"its own sector", own, whole, update, [2]byte{}, []string{erase, write}, AnyCuts},
		{"its own sector, down", own, whole, update, [2]byte{}, []string{"\"erase\"\norder = \"down\"", "\"program\"\norder = \"down\""},
			AnyCuts},
		{"its own sector first, and last", own, whole, update, [2]byte{}, []string{place, others, rest, last}, Weak},
		{"its own sector, void, and last", own, whole, update, [2]byte{}, []string{void, erase, rest, last}, Weak},

		{"shares with data", uncovered, whole, update, [2]byte{}, []string{erase, write}, Unhurt},
		{"shares with data, its sector first", uncovered, whole, update, [2]byte{}, []string{place, others, rest, last}, Unhurt},
		{"shares with data, void, granule last", uncovered, whole, update, [2]byte{}, []string{void, erase, rest, last}, Weak},
		{"shares with data, up, granule last", uncovered, whole, update, [2]byte{}, []string{erase, rest, last}, AnyCuts},

		{"in EEPROM, last", eeprom, whole, update, [2]byte{}, []string{erase, rest, last}, AnyCuts},
		{"in EEPROM, first", eeprom, whole, update, [2]byte{}, []string{last, erase, rest}, AnyCuts},
		{"in EEPROM, void first", eeprom, whole, update, [2]byte{}, []string{void, erase, rest, last}, Weak},

		{"two slots, rank inside", inside, both, second, [2]byte{1, 2}, []string{erase, rest2, last2}, AnyCuts},
		{"two slots, rank inside, void", inside, both, second, [2]byte{1, 2}, []string{void2, erase, rest2, last2}, Weak},
		{"two slots, a lower rank", inside, both, second, [2]byte{2, 1}, []string{erase, write}, NotNew},
		{"two slots, rank outside", outside, both, second, [2]byte{1, 2}, []string{erase, "\"program\"\norder = \"down\""}, Unhurt},
		{"two slots, rank outside, header last", outside, both, second, [2]byte{1, 2},
			[]string{erase, "\"program\"\nskip = \"192..199\"", "\"program\"\nin = \"192..199\""}, Unhurt},
		{"two slots, rank outside, void, granule last", outside, both, second, [2]byte{1, 2}, []string{void2, erase, rest2, last2}, Weak},

		{"over the first page alone", one + guard("one", crc, "one.first..one.first+27", "one.first+28", ""), whole, update, [2]byte{},
			[]string{erase, write}, Unhurt},
		{"eight bits", one + guard("one", "CRC-8/SMBUS", "one.first..one.last-1", "one.last", ""), whole, update, [2]byte{},
			[]string{erase, write}, OneCut},
		{"a sum of sixteen bits", one + guard("one", "SUM-16", "one.first..one.last-2", "one.last-1", ""), whole, update, [2]byte{},
			[]string{erase, rest, last}, OneCut},
		{"nothing is written", shares, whole, update, [2]byte{}, []string{`"identify"`, `"reset"`}, NotNew},
		{"the slot is left out", shares, whole, update, [2]byte{}, []string{"\"erase\"\nskip = \"one\"", "\"program\"\nskip = \"one\""},
			NotNew},
		{"started directly", one, []piece{{64, 192}}, update, [2]byte{}, []string{erase, write}, Unhurt},
		{"a switch word", slot("one", 64, 191) + slot("two", 192, 319) + switchText, []piece{{64, 128}}, second, [2]byte{},
			[]string{erase, write, `"words"`}, OneCut},
		{"a switch word first", slot("one", 64, 191) + slot("two", 192, 319) + switchText, []piece{{64, 128}}, second, [2]byte{},
			[]string{`"words"`, erase, write}, Unhurt},
		{"a switch word, until the new runs",
			slot("one", 64, 191) + slot("two", 192, 319) + switchText + "[loader]\nretry = \"until-new\"\n", []piece{{64, 128}}, second,
			[2]byte{}, []string{erase, write, `"words"`}, AnyCuts},
		{"a switch word, firmly to what runs first", slot("one", 64, 191) + slot("two", 192, 319) + switchText, []piece{{64, 128}},
			second, [2]byte{}, []string{"\"words\"\nset = { enters = \"one\" }", erase, write, `"words"`}, Weak},

		{"a swap, its log erased at once", swap, swapOld, swapNew, [2]byte{}, []string{erase, restLog, lastLog}, Unhurt},
		{"a swap, pending void first", swap, swapOld, swapNew, [2]byte{}, []string{voidLog, erase, restLog, lastLog}, AnyCuts},
		{"a swap, its marks made firm", swap + "firm = true\n", swapOld, swapNew, [2]byte{}, []string{voidLog, erase, restLog, lastLog},
			Weak},
		{"a swap without a look at what is moved", strings.Replace(swap, swapGuard, "", 1) + "firm = true\n", swapOld, swapNew, [2]byte{},
			[]string{voidLog, erase, restLog, lastLog}, Weak},
		{"a swap, wanted before it is written", swap + "firm = true\n", swapOld, swapNew, [2]byte{},
			[]string{voidLog, erase, lastLog, restLog}, AnyCuts},
		{"a swap without a look, wanted before it is written", strings.Replace(swap, swapGuard, "", 1), swapOld, swapNew, [2]byte{},
			[]string{voidLog, erase, lastLog, restLog}, Unhurt},

		{"a sum that is the same over a sector that is erased", strings.Replace(eeprom, crc, "SUM-32/LITTLE", 1), whole, update,
			[2]byte{}, []string{erase, rest, last}, OneCut},
		{"a sum of 32 bits of bytes", strings.Replace(eeprom, crc, "SUM-32", 1), whole, update, [2]byte{}, []string{erase, rest, last},
			AnyCuts},
		{"a checksum of 32 bits that cannot be told in pieces", strings.Replace(eeprom, crc, "ADLER-32", 1), whole, update, [2]byte{},
			[]string{void, erase, rest, last}, OneCut},
		{"a digest", one + guard("one", "SHA-256", "one.first..one.last-32", "one.last-31", ""), whole, update, [2]byte{},
			[]string{void, erase, rest, last}, Weak},
	} {
		text := flash + c.text
		if strings.HasPrefix(c.design, "started") {
			text = strings.Replace(text, "loader.first\"", "one.first\"", 1)
		}
		m := mapOf(t, text)
		old, new := images(m, c.old, c.new, c.ranks)
		switch {
		case strings.HasPrefix(c.design, "the loader as it was"):
			loader := make([]byte, 64)
			require.True(t, old.ReadAt(loader, 0))
			new, _ = new.Write(&source.Input{Name: "loader"}, 0, loader)
		case strings.HasPrefix(c.design, "a switch"):
			old, new = word(old, 0xFF), word(new, 0xFE)
		case strings.HasPrefix(c.design, "a swap"): // a swap was done before, and one is wanted
			old = over(old, append([]byte("\x0F\xF0\x0F\xF0"), make([]byte, 60)...))
			new = over(new, []byte("\x0F\xF0\x0F\xF0"))
		case strings.HasSuffix(c.design, "sector that is erased"):
			words := make([]byte, 64) // 16 words that add up to what erased ones do
			for i := range 14 {
				words[4*i] = byte(i + 1)
			}
			words[56], words[60], words[61], words[62], words[63] = 0, 0x87, 0xFF, 0xFF, 0xFF
			new, _ = new.Write(&source.Input{Name: "words"}, 64, words)
			new = sealed(t, m, new)
		}
		part := chip.New(m, 1)
		part.Program(old)
		s, err := SweepOf(context.Background(), part, planOf(t, acts("bootloader", c.acts...)), new, SweepOptions{})
		require.NoError(t, err, c.design)
		assert.Equal(t, c.want, s.Ladder.Rung, "%s: %v %s", c.design, s.Ladder.Cuts, s.Ladder.Why)
		proposal, err := BetterThan(context.Background(), part, s, new, SweepOptions{})
		require.NoError(t, err, c.design)
		fmt.Fprintf(&proposed, "%s: %s", c.design, s.Ladder.Rung)
		if proposal != nil {
			assert.Greater(t, proposal.Sweep.Ladder.Rung, s.Ladder.Rung, c.design)
			fmt.Fprintf(&proposed, "; %s: %s, of %d:", proposal.Sweep.Ladder.Rung, strings.Join(proposal.Changes, "; "), len(proposal.Tried))
			for _, a := range proposal.Plan.Acts {
				fmt.Fprintf(&proposed, "\n  %s", strings.TrimSuffix(fmt.Sprintf("%s %s %q but %q", a.Do, a.What, a.In, a.Skip), " but []"))
			}
			for _, one := range proposal.Tried {
				fmt.Fprintf(&proposed, "\n  %s, %d steps, %s: %s", one.Rung, one.Steps, one.Duration, strings.Join(one.Changes, "; "))
			}
		}
		proposed.WriteString("\n")
		assert.Equal(t, c.want >= AnyCuts && !strings.Contains(c.design, "bits"), s.Safe(), c.design)
		assert.Equal(t, c.want == Weak, s.Ladder.Why == "", c.design)
		if strings.Contains(c.design, "bits") {
			assert.True(t, s.ByChance(), "%s: %g", c.design, s.Ladder.Chance)
		} else {
			assert.Less(t, s.Ladder.Chance, 1e-6, c.design)
		}
	}
	golden.File(t, "testdata/better.txt", proposed.String())
}

// TestPlansThatAreTooLarge shows nothing of cuts in a plan that has too many.
func TestPlansThatAreTooLarge(t *testing.T) {
	was := mostPairs
	t.Cleanup(func() { mostPairs = was })
	u := sweeps(t)["guarded"]
	for limit, want := range map[float64]Rung{was: AnyCuts, 10: Unhurt} {
		mostPairs = limit
		c := chip.New(u.m, 1)
		c.Program(u.old)
		s, err := SweepOf(context.Background(), c, u.plan, u.new, SweepOptions{})
		require.NoError(t, err)
		assert.Equal(t, want, s.Ladder.Rung)
		assert.Equal(t, want == AnyCuts, s.Safe())
	}
	mostPairs = 10
	c := chip.New(u.m, 1)
	c.Program(u.old)
	s, err := SweepOf(context.Background(), c, u.plan, u.new, SweepOptions{})
	require.NoError(t, err)
	assert.Equal(t, "it has 21 steps, too many for more to be shown", s.Ladder.Why)
}

// TestWhatAMapSaysOfItsLoader lowers rungs where a loader does what maps can say of it:
// it stops at what it cannot read, leaves out in a retry what reads right, or looks for a
// value beside its checksum; and one that cannot write words is not made to.
func TestWhatAMapSaysOfItsLoader(t *testing.T) {
	text := strings.ReplaceAll(tiny, "LAST", "191") +
		"[[checksum]]\nname = \"sum\"\nkind = \"CRC-32/ISO-HDLC\"\nin = \"slot.first..slot.last-8\"\nat = \"slot.last-3\"\nguards " +
		"= \"slot\"\n"
	all := strings.Replace(text, "slot.last-8", "slot.last-4", 1)
	const magic = "[loader]\nchecks = [{ region = \"slot\", at = \"slot.last - 7\", bytes = \"0A F0 0B 1C\" }]\n"
	sums := text[strings.Index(text, "[[checksum]]"):]
	images := func(m *device.Map) (old, new *memory.Image) {
		random := rand.New(rand.NewPCG(3, 3))
		make := func(loader bool) *memory.Image {
			b := make([]byte, 128)
			for i := range b {
				b[i] = byte(random.Uint32())
			}
			copy(b[120:], "\x0A\xF0\x0B\x1C")
			parts := []any{64, b}
			if loader {
				parts = append(parts, 0, []byte("\x01\x02\x03\x04"))
			}
			out := joined(t, &source.Input{Name: "x"}, parts...)
			if len(m.Checksums) > 0 {
				out = sealed(t, m, out)
			}
			return out
		}
		return make(true), make(false)
	}
	plain := []string{`"erase"`, `"program"`}
	last := []string{
		"\"void\"\nin = \"slot.last-7..slot.last-4\"",
		`"erase"`,
		"\"program\"\nskip = \"slot.last-7..slot.last-4\"",
		"\"program\"\nin = \"slot.last-7..slot.last-4\"",
	}
	const ofSum, none = "-32 at cut 1 sum", "-Inf at cut 0 draw 0"
	for _, c := range []struct {
		name, text string
		acts       []string
		want       Rung
		why        string
		chance     string
	}{
		{"as it is", text + magic, plain, AnyCuts, "", ofSum},
		{"a value that nobody writes", text + strings.Replace(magic, "1C", "1D", 1), plain, NotNew,
			"it ends with a device that stays in the bootloader", none},
		{"a value alone", strings.Replace(text, sums, magic, 1), plain, Unhurt, "the value at 0x00B8 may", none},
		{"a value alone, void and last", strings.Replace(text, sums, magic, 1), last, Weak, "", "-32 at cut 3 the value at 0x00B8"},
		{"error correction stops it", strings.Replace(all, "granule = 4\nsectors", "granule = 4\necc = true\nsectors", 1), plain, Unhurt,
			"a torn granule at 0x0040 may not be readable, which stops the bootloader that reads it for sum", ofSum},
		{"error correction fails the guard", strings.Replace(all, "granule = 4\nsectors", "granule = 4\necc = true\nsectors", 1) +
			"[loader]\nread-fault = \"fails\"\n", plain, AnyCuts, "", ofSum},
		{"a retry that skips", all + "[loader]\nretry = \"skips\"\n", plain, OneCut, "a retry that skips leaves torn bits as they are",
			ofSum},
	} {
		m := mapOf(t, c.text)
		old, new := images(m)
		part := chip.New(m, 1)
		part.Program(old)
		s, err := SweepOf(context.Background(), part, planOf(t, acts("bootloader", c.acts...)), new, SweepOptions{})
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, s.Ladder.Rung, "%s: %v %s", c.name, s.Ladder.Cuts, s.Ladder.Why)
		assert.Contains(t, s.Ladder.Why, c.why, c.name)
		assert.Equal(t, c.chance,
			strings.TrimSpace(fmt.Sprint(math.Log2(s.Ladder.Chance), " at ", s.Ladder.ChanceAt, " ", s.Ladder.ChanceOf)), c.name)
	}

	// Words that a bootloader writes: refused, or doubted where the map does not say it.
	for can, want := range map[string]string{"": "", "can-write = \"none\"\n": "refused: the bootloader cannot write words",
		"can-write = \"words\"\n": ""} {
		m := mapOf(t, small+guardA+"[loader]\n"+can)
		part := chip.New(m, 1)
		part.Program(content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2}))
		run, err := Rehearse(
			context.Background(),
			part,
			planOf(t, acts("bootloader", `"words"`)),
			joined(t, &source.Input{Name: "w"}, 0x9000, []byte{3, ^byte(3)}),
			Options{},
		)
		require.NoError(t, err)
		assert.Equal(t, can == "", len(run.Doubts) == 1, can)
		if want == "" {
			assert.Nil(t, run.Failed, can)
		} else if assert.NotNil(t, run.Failed, can) {
			assert.Equal(t, want, run.Failed.What)
		}
	}

	m := mapOf(t, strings.Replace(small, "granule = 8\n", "granule = 8\nendurance = 10_000\n", 1))
	run, err := Rehearse(
		context.Background(),
		chip.New(m, 1),
		planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"", `"erase"`, "\"erase\"\nin = \"0x200\"", `"program"`)),
		content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2}),
		Options{},
	)
	require.NoError(t, err)
	assert.Equal(t, []Wear{{"flash", 3, 10_000}}, run.Wear)
}

// TestNoYesIsHidden has images that run on from one memory into the next, of which a plan
// leaves out the second, and a region with two checksums, of which the one with few bits
// alone reads what is torn.
func TestNoYesIsHidden(t *testing.T) {
	text := strings.ReplaceAll(tiny, "LAST", "191")
	guard := "[[checksum]]\nname = \"sum\"\nkind = \"CRC-32/ISO-HDLC\"\nin = \"slot.first..slot.last-4\"\nat = " +
		"\"slot.last-3\"\nguards = \"slot\"\n"
	random := func(seed uint64, n int) []byte {
		r := rand.New(rand.NewPCG(seed, 0))
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		return b
	}
	in := &source.Input{Name: "x"}
	beside := mapOf(
		t,
		strings.Replace(
			text,
			"[[memory]]\nname = \"tables\"",
			"[[memory]]\nname = \"second\"\nkind = \"flash\"\nfirst = 320\nsize = 64\npage = 32\ngranule = 4\nsectors = [{ count = 1, "+
				"size = 64 }]\n[[memory]]\nname = \"tables\"",
			1,
		)+guard,
	)
	for skip, want := range map[string]Rung{"": Unhurt, "skip = \"second\"": NotNew} {
		part := chip.New(beside, 1)
		part.Program(sealed(t, beside, joined(t, in, 0, random(1, 64), 64, random(2, 128), 192, random(3, 192))))
		s, err := SweepOf(context.Background(), part, planOf(t, acts("bootloader", "\"erase\"\n"+skip, "\"program\"\n"+skip)),
			sealed(t, beside, joined(t, in, 64, random(4, 128), 192, random(5, 192))), SweepOptions{})
		require.NoError(t, err)
		assert.Equal(t, want, s.Ladder.Rung, s.Ladder.Why)
	}

	two := mapOf(
		t,
		text+"[[checksum]]\nname = \"head\"\nkind = \"CRC-32/ISO-HDLC\"\nin = \"slot.first..slot.first+55\"\nat = "+
			"\"slot.first+60\"\nguards = \"slot\"\n"+
			"[[checksum]]\nname = \"body\"\nkind = \"CRC-8/SMBUS\"\nin = \"slot.first+64..slot.last-1\"\nat = \"slot.last\"\nguards "+
			"= \"slot\"\n",
	)
	part := chip.New(two, 1)
	part.Program(sealed(t, two, joined(t, in, 0, random(1, 64), 64, random(2, 128))))
	s, err := SweepOf(
		context.Background(),
		part,
		planOf(t, acts("bootloader", `"erase"`, `"program"`)),
		sealed(t, two, joined(t, in, 64, random(4, 128))),
		SweepOptions{},
	)
	require.NoError(t, err)
	assert.InDelta(t, 1.0/256, s.Ladder.Chance, 1e-9)
	assert.True(t, s.ByChance())
	assert.False(t, s.Safe())
}

// TestWhatThePartChecksItself starts an application directly: its checksum is looked at
// only where the map says that the device does.
func TestWhatThePartChecksItself(t *testing.T) {
	text := strings.Replace(strings.ReplaceAll(tiny, "LAST", "191"), "at = \"loader.first\"", "at = \"slot.first\"", 1) +
		"[[checksum]]\nname = \"sum\"\nkind = \"CRC-32/ISO-HDLC\"\nin = \"slot.first..slot.last-4\"\nat = \"slot.last-3\"\nguards " +
		"= \"slot\"\n"
	for by, want := range map[string]struct {
		neither bool
		starts  Outcome
		why     string
	}{
		"":                            {true, Neither, "slot is half written from 0x0040 on, and nothing guards it"},
		"checked-by = \"loader\"\n":   {true, Neither, "slot is half written from 0x0040 on, and nothing guards it"},
		"checked-by = \"hardware\"\n": {false, Nothing, "sum is not valid, so the device does not start slot"},
	} {
		m := mapOf(t, text+by)
		image := func(seed uint64) *memory.Image {
			r := rand.New(rand.NewPCG(seed, 0))
			b := make([]byte, 128)
			for i := range b {
				b[i] = byte(r.Uint32()) | 1
			}
			return sealed(t, m, joined(t, &source.Input{Name: "x"}, 64, b))
		}
		at := func() *chip.Chip {
			part := chip.New(m, 1)
			part.Program(image(1))
			return part
		}
		plan := planOf(t, acts("programmer", `"erase"`, `"program"`))
		s, err := SweepOf(context.Background(), at(), plan, image(2), SweepOptions{})
		require.NoError(t, err)
		assert.Equal(t, want.neither, s.Counts[Neither] > 0, by)
		assert.Equal(t, !want.neither, s.Safe(), by)
		// Its start comes last: half of that page is there, and nobody saw it.
		s, err = SweepOf(
			context.Background(),
			at(),
			planOf(t, acts("programmer", `"erase"`, "\"program\"\norder = \"down\"")),
			image(2),
			SweepOptions{},
		)
		require.NoError(t, err)
		assert.Equal(t, want.neither, s.Counts[Neither] > 0, by)
		assert.Equal(t, !want.neither, s.Safe(), by)
		part := at()
		part.SetFaults(chip.Faults{Cut: &chip.Cut{Act: 4, When: chip.After}})
		run, err := Rehearse(context.Background(), part, plan, image(2), Options{})
		require.NoError(t, err)
		assert.Equal(t, want.starts, run.After.Outcome, by)
		if want.starts == Nothing {
			assert.Equal(t, want.why, run.After.Why(), by)
		}
		s, err = SweepOf(context.Background(), at(), planOf(t, acts("bootloader", `"erase"`, `"program"`)), image(2), SweepOptions{})
		require.NoError(t, err)
		assert.Equal(t, Unhurt, s.Ladder.Rung, by)
	}
}

// TestTwoSumsInTwoCuts guards a slot by two sums of 32 bits, over data in which many places
// have the same value, so that sums of what is neither the old nor the new are often valid:
// what is said of two cuts, each behind a step, is what a plain simulator says.
func TestTwoSumsInTwoCuts(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(52, 7))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	plans, hits := 0, 0
	for range 2000 / golden.Every(4) {
		text := strings.ReplaceAll(tiny, "LAST", "191")
		parts := [][2]string{{"slot.first..slot.first+63", "slot.first+64..slot.last-8"},
			{"slot.first..slot.last-8", "slot.first+16..slot.first+79"}}[r.IntN(2)]
		for k, name := range []string{"sum", "more"} {
			text += fmt.Sprintf("[[checksum]]\nname = %q\nkind = %q\nin = %q\nat = \"slot.last-%d\"\nguards = \"slot\"\n",
				name, pick("XOR-32/LITTLE", "XOR-32/LITTLE", "SUM-32", "XOR-32/BIG"), parts[k], 7-4*k)
		}
		m := mapOf(t, text)
		words := []string{"\xFF\xFF\xFF\xFF"} // and all sums of it and two others, without carries
		for _, other := range []string{"\x12\x34\x56\x78", "\xA0\x0B\x0C\xD0"} {
			for _, word := range slices.Clone(words) {
				b := []byte(word)
				for i := range b {
					b[i] ^= other[i]
				}
				words = append(words, string(b))
			}
		}
		image := func() *memory.Image {
			var data strings.Builder
			for data.Len() < 128 {
				data.WriteString(words[r.IntN(len(words))])
			}
			out := joined(t, &source.Input{Name: "test"}, 64, []byte(data.String()))
			for i := range m.Checksums {
				spec, err := m.Checksums[i].Spec(m, out)
				require.NoError(t, err)
				_, value, err := spec.Compute(out, 1)
				require.NoError(t, err)
				out, _ = out.Write(&source.Input{Name: "seal"}, spec.Place.First, value)
			}
			return out
		}
		loader, _ := memory.FromBytes(0, []byte(strings.Repeat("\x12\x34", 32)), &source.Input{Name: "loader"})
		p := aPlan{m: m, new: image()}
		p.old, _ = memory.Merge([]*memory.Image{loader, image()}, memory.First)
		var list []string
		add := func(do, more string) { list = append(list, fmt.Sprintf("%q\n%s", do, more)) }
		order := func() string { return pick("", "order = \"down\"") }
		skip := pick("", "skip = \"checksum.sum\"", "skip = [\"checksum.sum\", \"checksum.more\"]")
		if r.IntN(2) == 0 {
			add("erase", order())
			add("program", order()+"\n"+skip)
		} else {
			for _, s := range []string{"0x40..0x7F", "0x80..0xBF"} {
				add("erase", "in = \""+s+"\"")
				add("program", "in = \""+s+"\"\n"+order()+"\n"+skip)
				add("verify", "in = \""+s+"\"\n"+skip) // steps that change nothing lie between those that do
			}
		}
		if skip != "" {
			add("program", "in = [\"checksum.sum\", \"checksum.more\"]")
		}
		p.plan = planOf(t, acts("bootloader", list...))
		part := chip.New(m, 1)
		part.Program(p.old)
		l, err := layout(p.plan, part, p.new, 0)
		require.NoError(t, err)
		end := l.expected(part)
		j := newJudge(part.Clone(), end, l)
		if l.unfit(part, j.judge(part)) != nil || end.State.Stopped != "" || !j.holds(end, m, &m.Checksums[0]) ||
			!j.holds(end, m, &m.Checksums[1]) {
			continue
		}
		plans++
		c := newClimber(l, j.before, j.after, j)
		ladder := c.single()
		c.climb(ladder, "", &Sweep{Plan: p.plan})
		old, final := plainOf(part), plainOf(end)
		bad := func(cuts ...int) bool {
			now := old.clone()
			for _, cut := range cuts {
				now.whole(l, cut)
			}
			holds, isOld, isNew := p.holdsWhole(t, now.values(), old, final)
			return holds && !isOld && !isNew
		}
		if ladder.Rung >= AnyCuts {
			for one := 1; one <= len(l.list); one++ {
				for two := 1; two < one; two++ {
					require.False(t, bad(one, two), "cut behind %d, then behind %d:\n%s%s", one, two, text, acts("bootloader", list...))
				}
			}
		}
		if strings.Contains(ladder.Why, "both have the same value") && len(ladder.Cuts) == 2 {
			hits++
			require.True(t, bad(ladder.Cuts[0].Act, ladder.Cuts[1].Act), "%v\n%s%s", ladder.Cuts, text, acts("bootloader", list...))
		}
	}
	t.Logf("%d plans, %d of which fail in two cuts alone", plans, hits)
	assert.Greater(t, hits, 12/golden.Every(4))
}

// TestWhatSaysHowADeviceStarts asks of fields of configuration words whether they say how the
// device starts: each reason alone is enough, and so is that of a group.
func TestWhatSaysHowADeviceStarts(t *testing.T) {
	text := strings.ReplaceAll(tiny, "LAST", "191") + "[[memory]]\nname = \"words\"\nkind = \"config\"\nfirst = 0x9000\nsize = 1\n" +
		"[[config]]\nname = \"word\"\nat = 0x9000\nwidth = 1\ndefault = 0x08\n"
	for i, meaning := range []string{`sets = { start = "slot" }`, `effect = "stopped"`, `needs = { supply = ">= 2.7 V" }`, `hazard = "h"`, "", ""} {
		if meaning != "" {
			meaning = ", " + meaning
		}
		text += fmt.Sprintf("[[config.field]]\nname = \"f%d\"\nbits = %d\nvalues = [{ value = 0, meaning = \"no\" }, "+
			"{ value = 1, meaning = \"yes\"%s }]\n", i, i, meaning)
	}
	text += "[[group]]\nname = \"g\"\nfields = [\"f4\", \"f3\"]\nvalues = [{ value = 2, meaning = \"m\", effect = \"stopped\" }]\n"
	c := &climber{before: chip.New(mapOf(t, text), 0)}
	for i, says := range []bool{true, true, true, true, true, false} {
		assert.Equal(t, says, c.says(fmt.Sprint("f", i)), "f%d", i)
	}
	assert.False(t, c.says("none"))
}

// TestWhatCannotBeRepeated sweeps plans that write a serial number where that is done once,
// ever: cut in it, nothing worse is left than before, but no run completes it any more.
func TestWhatCannotBeRepeated(t *testing.T) {
	t.Parallel()
	m := open(t, "brindle-m32-512")
	image, ok := station(t, m, 1, 1, 16<<10).Write(&source.Input{Name: "serial"}, 0x0700_0000, []byte("SN 10427"))
	require.True(t, ok)
	for _, by := range []string{"programmer", "bootloader"} {
		p := planOf(t, acts(by, "\"erase\"\nwhat = \"touched\"\nskip = [\"loader\"]", "\"program\"\nin = \"serial_number\"",
			"\"program\"\nskip = [\"serial_number\", \"loader\"]", `"verify"`))
		c := chip.New(m, 1)
		c.Program(image.Cut(m.Region("loader").Span))
		s, err := SweepOf(context.Background(), c, p, image, SweepOptions{})
		require.NoError(t, err)
		assert.Equal(t, Unhurt, s.Ladder.Rung, by)
		assert.Equal(t, "repeating the plan does not complete it: refused: 0x0700_0000..0x0700_0007: it was written already, and is "+
			"written once, ever", s.Ladder.Why, by)
		assert.Positive(t, s.Unrepeatable, by)
	}
}

// TestAWordRulesOutWorlds asks what of a configuration word's unit can be in worlds in which it
// says one thing, another, or whatever it does.
func TestAWordRulesOutWorlds(t *testing.T) {
	c := &climber{units: make([]unit, 2), wordUnit: 1}
	c.wordClass[1] = 1
	for class, can := range map[int][2]bool{-1: {true, true}, 0: {true, false}, 1: {false, true}} {
		w := &world{class: class, counts: make([]bool, 2)}
		for content, want := range can {
			_, ok := c.firm(w, 1, content)
			assert.Equal(t, want, ok, "%d %d", class, content)
			_, ok = c.firm(w, 0, content)
			assert.True(t, ok, "the other unit is no word")
		}
	}
}

// TestTheFirstThatIsErasedIsTold starts a bootloader that checks nothing and finds no
// application: it waits at the first one.
func TestTheFirstThatIsErasedIsTold(t *testing.T) {
	m := mapOf(t, strings.ReplaceAll(tiny, "LAST", "127")+
		"[[region]]\nname = \"second\"\nrole = \"application\"\nfirst = 128\nsize = 64\n")
	part := chip.New(m, 1)
	in := &source.Input{Name: "test"}
	part.Program(joined(t, in, 0, []byte("loader")))
	l := mustLayout(t, planOf(t, acts("bootloader", `"program"`)), part, joined(t, in, 128, []byte("tide")))
	j := newJudge(part.Clone(), l.expected(part), l)
	v := j.judge(part)
	assert.Equal(t, Waits, v.Outcome)
	assert.Equal(t, NoStart, v.Reason.Cause)
	assert.Equal(t, "slot", v.Reason.Region)
	assert.EqualValues(t, 64, v.At)
	assert.Equal(t, "second", j.judge(l.expected(part)).Runs)
}
