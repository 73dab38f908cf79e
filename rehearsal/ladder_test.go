package rehearsal

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// tiny is a part on which every chain of cuts can be tried: LAST is the slot's last
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

// aPlan is a part, two images and a plan that are made by chance.
type aPlan struct {
	m        *device.Map
	old, new *memory.Image
	plan     *Plan
	text     string
}

func randomPlan(t testing.TB, r *rand.Rand) aPlan {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	last := []int{127, 191, 159}[r.IntN(3)] // the slot ends with a sector, or within one
	text := strings.ReplaceAll(tiny, "LAST", fmt.Sprint(last))
	data, notes := r.IntN(3) == 0, last == 159
	guard := "eeprom"
	if !data {
		guard = pick("end", "end", "begin", "first page", "sector", "eeprom")
	} else {
		guard = pick("end", "begin", "sector")
	}
	if notes {
		text += "[[region]]\nname = \"notes\"\nrole = \"data\"\nfirst = 160\nlast = 191\n"
	}
	kind := "CRC-32/ISO-HDLC"
	place := map[string][2]string{
		"end":        {"slot.first..slot.last-4", "slot.last-3"},
		"begin":      {"slot.first+4..slot.last", "slot.first"},
		"first page": {"slot.first..slot.first+27", "slot.first+28"},
		"sector":     {"slot.first..slot.last", "256"},
		"eeprom":     {"slot.first..slot.last", "0x8000"},
	}[guard]
	if data || guard == "eeprom" {
		text += "[[region]]\nname = \"levels\"\nrole = \"data\"\nfirst = \"tables.first\"\nlast = \"tables.last\"\n"
	}
	text += fmt.Sprintf("[[checksum]]\nname = \"sum\"\nkind = %q\nin = %q\nat = %q\nguards = \"slot\"\n", kind, place[0], place[1])
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
		parts := []any{64, bytes(n)}
		if data || guard == "eeprom" {
			parts = append(parts, 0x8000, bytes(16))
		}
		if notes && r.IntN(2) == 0 {
			parts = append(parts, 160, bytes(32))
		}
		out := joined(t, &source.Input{Name: "test"}, parts...)
		spec, err := m.Checksums[0].Spec(m, out)
		require.NoError(t, err)
		erased := byte(0xFF)
		spec.Feed.Hole = &erased
		_, value, err := spec.Compute(out, 1)
		require.NoError(t, err)
		out, ok := out.Write(&source.Input{Name: "seal"}, spec.Place.First, value)
		require.True(t, ok)
		return out
	}
	loader, ok := memory.FromBytes(0, []byte(strings.Repeat("\x12\x34", 32)), &source.Input{Name: "loader"})
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
		for _, s := range []string{"0x40..0x7F", "0x80..0x13F"} {
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

// plainChip is a part of which each bit is told one by one. It shares nothing with
// what sweeps and ladders go by, but the steps of a plan.
type plainChip map[uint64]maybe

// apply does a step, or tears it.
func (c plainChip) apply(s *step, torn, eeprom bool) {
	for i := range s.span.Size() {
		at := s.span.First + i
		x := c[at]
		switch {
		case s.do == Erase && torn:
			x = maybe{x.value, 0xFF}
		case s.do == Erase:
			x = maybe{0xFF, 0}
		case eeprom && torn:
			x = maybe{x.value, 0xFF}
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
		c[at] = x
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

// bad reports whether something may run that is neither as before nor as in the end,
// whatever the free bits are.
func (c plainChip) bad(p aPlan, old, end plainChip, weak bool) bool {
	d := &p.m.Checksums[0]
	place := memory.Span{First: d.At, Last: d.At + 3}
	for _, goal := range []plainChip{old, end} {
		covered := func(at uint64) bool { return d.In[0].Contains(at) || place.Contains(at) }
		holds := true
		isOld, isNew, both, split := true, true, false, 0
		for at, x := range c {
			if covered(at) && (x.value^goal[at].value)&^x.free != 0 {
				holds = false
				break
			}
			if r := p.m.RegionAt(at); r != nil && r.Name == "loader" {
				continue
			}
			counts := [2]bool{old[at].value != 0xFF, p.new.Holds(at)} // for the old, and for the new
			free := x.free
			if covered(at) {
				x = goal[at] // that is what it reads, when it is checked
				if weak && !place.Contains(at) && free != 0 {
					x.free = free
				}
			}
			isOld = isOld && (!counts[0] || (x.value^old[at].value)&^x.free == 0)
			isNew = isNew && (!counts[1] || (x.value^end[at].value)&^x.free == 0)
			for bit := byte(1); bit != 0; bit <<= 1 {
				if x.free&bit == 0 {
					continue
				}
				switch {
				case counts[0] && counts[1] && old[at].value&bit == end[at].value&bit:
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
	rounds := 1000
	if testing.Short() {
		rounds = 100
	}
	r := rand.New(rand.NewPCG(24, 3))
	plans, above, below, three := 0, 0, 0, 0
	var rungs [Weak + 1]int
	for round := 0; plans < rounds && round < 9*rounds; round++ {
		p := randomPlan(t, r)
		chip := NewChip(p.m, 1)
		chip.Program(p.old)
		l, err := layout(p.plan, chip, p.new, 0)
		require.NoError(t, err, p.text)
		end := l.expected(chip)
		j := newJudge(chip.clone(), end, l)
		if l.unfit(chip, j.judge(chip)) != nil || end.state.stopped != "" {
			continue
		}
		if !j.holds(end, p.m, &p.m.Checksums[0]) {
			continue // what the image does not reach of the old is left, and the plan ends with neither
		}
		plans++
		c := newClimber(l, j.before, j.after, j)
		found := func(how walking) bool {
			for i := range c.worlds {
				if c.walk(&c.worlds[i], how, nil) != nil {
					return true
				}
			}
			return false
		}
		said := [3]bool{found(walking{}), found(walking{chains: true}), found(walking{chains: true, weak: true})}

		plain := func(chip *Chip) plainChip {
			out := plainChip{}
			for _, b := range chip.banks {
				for i, x := range chip.peek(b, b.Span) {
					out[b.Span.First+uint64(i)] = maybe{x, 0}
				}
			}
			return out
		}
		old, final := plain(chip), plain(end)
		copied := func(c plainChip) plainChip {
			out := make(plainChip, len(c))
			for k, v := range c {
				out[k] = v
			}
			return out
		}
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
		for a := 1; a <= steps; a++ {
			one := copied(old)
			one.run(l, a)
			if one.bad(p, old, final, false) && !truth[0] {
				truth[0], truth[1], truth[2] = true, true, true
				worst[0], worst[1] = []int{a}, []int{a}
			}
			truth[2] = truth[2] || one.bad(p, old, final, true)
			for b := 1; b <= steps && !(truth[1] && truth[2]); b++ {
				two := copied(one)
				two.run(l, b)
				truth[1] = truth[1] || two.bad(p, old, final, false)
				truth[2] = truth[2] || two.bad(p, old, final, true)
				for d := 1; deep && d <= steps && !(truth[1] && truth[2]); d++ {
					last := copied(two)
					last.run(l, d)
					truth[1] = truth[1] || last.bad(p, old, final, false)
					truth[2] = truth[2] || last.bad(p, old, final, true)
				}
			}
		}
		rung := OneCut - 1
		for k, isBad := range said {
			if truth[k] && !isBad {
				above++
				assert.Fail(t, "a plan is said to bear what it does not", "rung %d, cuts %v\n%s", k+2, worst[k], p.text)
			}
			if !isBad && rung == Rung(k)+1 {
				rung++
			}
		}
		rungs[rung]++
		if said[0] && !truth[0] || deep && (said[1] && !truth[1] || said[2] && !truth[2]) {
			below++
		}
		if above > 2 {
			break
		}
	}
	t.Logf("%d plans, of which %d with chains of three; on rungs %v; above the truth %d, below it %d", plans, three, rungs, above, below)
	assert.GreaterOrEqual(t, plans, rounds*9/10)
	assert.LessOrEqual(t, below*100, plans*3)
	for rung := Unhurt; rung <= Weak; rung++ {
		assert.Positive(t, rungs[rung], "plans on rung %d", rung)
	}
}
