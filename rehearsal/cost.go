package rehearsal

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
)

// Cost is what it takes to make of a device that holds one image a device that holds
// another, where only sectors are written in which anything changes.
type Cost struct {
	Sectors      uint64 // that are erased
	Erased       uint64 // bytes in them
	Pages        uint64 // that are written
	Written      uint64 // bytes
	Changed      uint64 // bytes that are not as they were
	Link         time.Duration
	Typical      time.Duration // of all, with the link
	Most         time.Duration
	MissingTimes []string // what the map does not say, so that no time is counted for it
	Places       []Place  // what of it is where, the most costly first
}

// Place is a stretch of sectors that are written, one behind the other.
type Place struct {
	memory.Span
	Changed memory.Span // from the first byte that changes to the last
	Bytes   uint64      // that change
	Sectors uint64
	Typical time.Duration
}

// CostOf tells what an update costs. Where the new image holds nothing, what is there
// stays.
func CostOf(m *device.Map, old, new *memory.Image, baud uint64) (*Cost, error) {
	c := chip.New(m, 0)
	c.Program(old)
	out := &Cost{}
	plan := &Plan{Name: "cost", By: Bootloader}
	var placeOf []int // by act
	for _, b := range c.Banks {
		if b.Kind == device.Config {
			continue
		}
		before := len(out.Places)
		for r := range new.In(b.Span) {
			for _, odd := range changedIn(c, b, r) {
				out.Changed += odd.bytes
				out.place(b, odd, before)
			}
		}
		for i := before; i < len(out.Places); i++ {
			p := &out.Places[i]
			in := []string{fmt.Sprintf("0x%X..0x%X", p.First, p.Last)}
			if b.HasSectors() {
				plan.Acts, placeOf = append(plan.Acts, Act{Do: Erase, What: "whole", In: in}), append(placeOf, i)
			}
			plan.Acts, placeOf = append(plan.Acts, Act{Do: Program, In: in}), append(placeOf, i)
		}
	}
	l, err := layout(plan, c, new, baud)
	if err != nil {
		return nil, err
	}
	acts, untold := l.forecast(c)
	out.MissingTimes = untold
	for i, a := range acts {
		out.Link, out.Typical, out.Most = plus(out.Link, a.Link), plus(out.Typical, a.Typical), plus(out.Most, a.Most)
		p := &out.Places[placeOf[i]]
		p.Typical = plus(p.Typical, a.Typical)
		if a.Do == Erase {
			p.Sectors += uint64(a.Steps)
			out.Sectors, out.Erased = out.Sectors+uint64(a.Steps), out.Erased+a.Bytes
		} else {
			out.Pages, out.Written = out.Pages+uint64(a.Steps), out.Written+a.Bytes
		}
	}
	slices.SortStableFunc(out.Places, func(a, b Place) int {
		return cmp.Or(cmp.Compare(b.Typical, a.Typical), cmp.Compare(b.Size(), a.Size()))
	})
	return out, nil
}

// place adds a stretch to the last place, where the sectors touch, or makes another.
// Places before a number are of another memory.
func (c *Cost) place(b *chip.Bank, odd changed, before int) {
	whole := memory.Span{First: b.PageOf(odd.First).First, Last: b.PageOf(odd.Last).Last}
	if b.HasSectors() {
		whole = memory.Span{First: b.SectorOf(odd.First).First, Last: b.SectorOf(odd.Last).Last}
	}
	if k := len(c.Places) - 1; k >= before && whole.First <= c.Places[k].Last+1 {
		p := &c.Places[k]
		p.Last, p.Changed.Last = max(p.Last, whole.Last), odd.Last
		p.Bytes += odd.bytes
		return
	}
	c.Places = append(c.Places, Place{Span: whole, Changed: odd.Span, Bytes: odd.bytes})
}

// changed is a stretch of bytes that are not as they were; a few that are may lie
// between.
type changed struct {
	memory.Span
	bytes uint64
}

// changedIn returns where a run of the new image differs from what a chip holds.
func changedIn(c *chip.Chip, b *chip.Bank, r memory.Run) (list []changed) {
	const close = 64 // equal bytes that lie between
	held := c.Peek(b, r.Span())
	for i := range held {
		if held[i] == r.Data[i] {
			continue
		}
		at := r.First + uint64(i)
		if k := len(list) - 1; k >= 0 && at-list[k].Last <= close {
			list[k].Last = at
			list[k].bytes++
			continue
		}
		list = append(list, changed{memory.Span{First: at, Last: at}, 1})
	}
	return list
}
