// Package rehearsal programs a simulated chip, which behaves as flash does, by a
// plan: what a programmer does at the bench, or a bootloader in the field. It tells
// what each act does and how long it takes, what would start after it, and what
// each moment of a power cut would leave behind.
//
// A [Chip] is built from a device map. What is not in the map it does not know:
// voltages, wear, cells between two states.
package rehearsal

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// Chip is a simulated part. Its bits go one way when it is programmed and back when
// a sector is erased; configuration words take effect at its reset.
type Chip struct {
	Map    *device.Map // as the map says it, whatever the configuration
	Faults Faults
	// Fitted are the fields whose effect "stopped" its board keeps away: it has the
	// crystal, say, that the value asks for.
	Fitted map[string]bool

	banks  []*bank // the memories that can be programmed, by address
	seed   uint64
	random *rand.Rand // what undefined bits and noise are drawn from
	fresh  bool       // the undefined bits were just drawn
	state  *state
	states map[string]*state // by the bytes of the configuration words
	view   *memory.Image     // all that is held, made when it is asked for
	back   *undo             // nil where nothing is to be undone
	clock  uint64            // counts changes
}

// bank is a memory of a chip.
type bank struct {
	*device.Memory
	unit      uint64 // bytes that are programmed at once
	granule   uint64
	replaces  bool // what is written is erased first, byte by byte
	once      bool // a granule is written once after each erase, or ever
	stretches []*stretch
	undefined []undefined
	blank     []byte // a block of erased bytes
}

// stretch is a part of a memory that may hold something, in whole blocks. All
// outside stretches is erased.
type stretch struct {
	first   uint64
	data    []byte
	written []byte   // by byte, 1 where its granule was written; nil unless once
	saved   []uint32 // by block, in which undo it was saved last
	stamps  []uint64 // by block, when it was changed last
}

func (s *stretch) last() uint64 { return s.first + uint64(len(s.data)) - 1 }

// undefined are bits that an interrupted erase left: each time they are read, they
// may be something else.
type undefined struct {
	memory.Span
	mask []byte // which bits
	was  []byte // what stood there before the erase
}

// block is how many bytes a stretch grows by, and an undo saves at once.
const block = 4 << 10

// assumedPage is the page of a memory of which the map gives none.
const assumedPage = 256

// NewChip returns a part as it is delivered: erased, its configuration words at
// their defaults. What it draws, it draws from the seed.
func NewChip(m *device.Map, seed uint64) *Chip {
	c := &Chip{Map: m, seed: seed, states: map[string]*state{}, Fitted: map[string]bool{}}
	c.draw(0)
	for i := range m.Memories {
		mem := &m.Memories[i]
		if !mem.Programmable() {
			continue
		}
		b := &bank{Memory: mem, granule: max(mem.Granule, 1), unit: max(mem.Page, mem.Granule), replaces: mem.Kind == device.EEPROM || mem.Kind == device.Config}
		b.once = mem.WriteOnce || mem.Kind == device.OTP
		if b.unit == 0 {
			b.unit = assumedPage
		}
		if b.replaces && mem.Page == 0 {
			b.unit = b.granule
		}
		b.blank = bytes.Repeat([]byte{mem.Erased}, block)
		c.banks = append(c.banks, b)
	}
	for i := range m.Config {
		w := &m.Config[i]
		c.setWord(w, w.Default)
	}
	c.latch()
	return c
}

// Fit says that the board has what the value of a field asks for: the part does not
// stop for want of it.
func (c *Chip) Fit(field string) {
	c.Fitted[field] = true
	clear(c.states) // which were worked out without it
	c.latch()
}

// draw begins to draw anew: the same for the same seed and moment.
func (c *Chip) draw(moment uint64) { c.random = rand.New(rand.NewPCG(c.seed, moment)) }

// setWord gives a configuration word its value, and its complement, as they stand
// when the part is delivered or opened again.
func (c *Chip) setWord(w *device.Word, v uint64) {
	c.put(w.At, w.Bytes(v))
	if s, ok := w.Complement(); ok {
		c.put(s.First, w.Bytes(^v))
	}
}

// put lays bytes down, whatever was there.
func (c *Chip) put(at uint64, data []byte) {
	b := c.bankAt(at)
	s := b.reach(c, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	c.touch(s, int(at-s.first), len(data))
	copy(s.data[at-s.first:], data)
	c.force(b)
}

func (c *Chip) bankAt(address uint64) *bank {
	for _, b := range c.banks {
		if b.Span.Contains(address) {
			return b
		}
	}
	return nil
}

// widen returns the span made larger to whole pieces of a size, counted from the
// memory's first address.
func (b *bank) widen(s memory.Span, size uint64) memory.Span {
	from := b.Span.First
	first := from + (s.First-from)/size*size
	last := from + (s.Last-from)/size*size + (size - 1)
	if last < s.Last || last > b.Span.Last {
		last = b.Span.Last
	}
	return memory.Span{First: first, Last: last}
}

// sector returns what is erased along with an address: a sector, or a page where the
// map gives none.
func (b *bank) sector(address uint64) memory.Span {
	if s, ok := b.SectorAt(address); ok {
		return s
	}
	return b.page(address)
}

// grain returns the least that is written along with an address.
func (b *bank) grain(address uint64) memory.Span {
	return b.widen(memory.Span{First: address, Last: address}, b.granule)
}

// page returns what is programmed along with an address.
func (b *bank) page(address uint64) memory.Span {
	return b.widen(memory.Span{First: address, Last: address}, b.unit)
}

// erases reports whether the memory has sectors that are erased for themselves.
func (b *bank) erases() bool { return b.Kind == device.Flash }

// reach returns the stretch that holds the span, which is grown, or made, where there
// is none.
func (b *bank) reach(c *Chip, s memory.Span) *stretch {
	for _, t := range b.stretches {
		if t.first <= s.First && s.Last <= t.last() {
			return t
		}
	}
	all := b.widen(s, block)
	touches := func(t *stretch) bool {
		return t.first <= all.Last && all.First <= t.last() || t.last()+1 == all.First || all.Last+1 == t.first
	}
	var kept, merged []*stretch
	for _, t := range b.stretches {
		if touches(t) {
			merged = append(merged, t)
			all.First, all.Last = min(all.First, t.first), max(all.Last, t.last())
		} else {
			kept = append(kept, t)
		}
	}
	if len(merged) == 1 && merged[0].first == all.First { // by some more, so that one that grows and grows is copied seldom
		more := b.widen(memory.Span{First: all.First, Last: min(b.Span.Last-all.Last, uint64(len(merged[0].data))/4) + all.Last}, block)
		free := !slices.ContainsFunc(kept, func(t *stretch) bool { return t.first > all.Last && t.first <= more.Last+1 })
		if free {
			all = more
		}
	}
	grown := &stretch{first: all.First, data: make([]byte, all.Size())}
	for at := 0; at < len(grown.data); at += block {
		copy(grown.data[at:], b.blank)
	}
	if b.once {
		grown.written = make([]byte, len(grown.data))
	}
	blocks := (len(grown.data) + block - 1) / block
	grown.saved, grown.stamps = make([]uint32, blocks), make([]uint64, blocks)
	for _, t := range merged {
		copy(grown.data[t.first-grown.first:], t.data)
		copy(grown.written[min(t.first-grown.first, uint64(len(grown.written))):], t.written)
	}
	i := 0
	for i < len(kept) && kept[i].first < grown.first {
		i++
	}
	b.stretches = slices.Insert(kept, i, grown)
	c.view = nil
	return grown
}

// in goes through the stretches that meet a span, with the part of each.
func (b *bank) in(s memory.Span, do func(t *stretch, from, to int)) {
	for _, t := range b.stretches {
		if t.first <= s.Last && s.First <= t.last() {
			do(t, int(max(s.First, t.first)-t.first), int(min(s.Last, t.last())-t.first)+1)
		}
	}
}

// Image returns what the chip holds, its undefined bits as they were drawn last.
// Holes are erased. It changes with the chip.
func (c *Chip) Image() *memory.Image {
	if c.view == nil {
		var runs []memory.Run
		for _, b := range c.banks {
			for _, s := range b.stretches {
				runs = append(runs, memory.Run{First: s.first, Data: s.data})
			}
		}
		c.view = memory.View(runs, chipInput)
	}
	return c.view
}

// chipInput is where the bytes of a chip come from.
var chipInput = &source.Input{Name: "chip", Counting: source.Operation}

// erase erases a span of a memory, as far as it does: nothing is asked, and nothing
// refused.
func (c *Chip) erase(b *bank, s memory.Span) {
	for _, one := range c.erasing(b, c.wired(b, s)) {
		c.blank(b, one)
	}
	c.force(b)
}

// erasing returns what of a span is erased: without the sectors that do not erase.
func (c *Chip) erasing(b *bank, s memory.Span) []memory.Span {
	var dead []memory.Span
	for _, at := range c.Faults.NoErase {
		if s.Contains(at) {
			dead = append(dead, b.sector(at))
		}
	}
	if dead == nil {
		return []memory.Span{s}
	}
	return memory.Without([]memory.Span{s}, dead)
}

// blank erases cells.
func (c *Chip) blank(b *bank, s memory.Span) {
	b.in(s, func(t *stretch, from, to int) {
		c.touch(t, from, to-from)
		for at := from; at < to; at += block {
			copy(t.data[at:to], b.blank)
		}
		if t.written != nil {
			clear(t.written[from:to])
		}
	})
	b.undefined = slices.DeleteFunc(slices.Clone(b.undefined), func(u undefined) bool { return s.Covers(u.Span) })
}

// cutErase erases a span while the power fails: every bit of it is undefined. It
// reads as before at draw 0, as erased at draw 1, and then as anything.
func (c *Chip) cutErase(b *bank, s memory.Span, draw int) {
	for _, one := range c.erasing(b, c.wired(b, s)) {
		c.tear(b, one, draw)
	}
	c.fresh = true
	c.force(b)
}

// tear leaves all bits of cells undefined.
func (c *Chip) tear(b *bank, s memory.Span, draw int) {
	t := b.reach(c, s)
	from := int(s.First - t.first)
	data := t.data[from : from+int(s.Size())]
	u := undefined{Span: s, mask: bytes.Repeat([]byte{0xFF}, len(data)), was: slices.Clone(data)}
	c.touch(t, from, len(data))
	if t.written != nil {
		for i := range data {
			t.written[from+i] = 1
		}
	}
	b.undefined = append(slices.DeleteFunc(slices.Clone(b.undefined), func(o undefined) bool { return s.Covers(o.Span) }), u)
	c.drawn(b, &u, data, draw)
}

// drawn gives undefined bits what they read as at a draw.
func (c *Chip) drawn(b *bank, u *undefined, data []byte, draw int) {
	var word uint64
	for i := range data {
		if i%8 == 0 {
			word = c.random.Uint64()
		}
		r := byte(word >> (8 * (i % 8)))
		switch {
		case draw == 0:
			r = u.was[i]
		case draw == 1:
			r = b.Erased
		case draw%2 == 0: // each bit old or erased
			r = u.was[i]&r | b.Erased&^r
		}
		data[i] = data[i]&^u.mask[i] | r&u.mask[i]
	}
}

// redraw draws all undefined bits anew: they read differently each time.
func (c *Chip) redraw() {
	for _, b := range c.banks {
		for i := range b.undefined {
			u := &b.undefined[i]
			t := b.reach(c, u.Span)
			from := int(u.First - t.first)
			c.touch(t, from, int(u.Size()))
			c.drawn(b, u, t.data[from:from+int(u.Size())], c.random.IntN(4))
		}
		if len(b.undefined) > 0 {
			c.force(b)
		}
	}
}

// program writes bytes that lie in one page or granule, as far as the part does.
// It reports false, and writes nothing, where a granule would be written twice.
func (c *Chip) program(b *bank, at uint64, data []byte) bool { return c.write(b, at, data, -1) }

// cutProgram writes bytes while the power fails: each bit is as before, or as it
// would be.
func (c *Chip) cutProgram(b *bank, at uint64, data []byte, draw int) { c.write(b, at, data, draw) }

// write writes bytes; a draw of 0 or more is a power cut.
func (c *Chip) write(b *bank, at uint64, data []byte, draw int) bool {
	if !c.Faults.clean() {
		data = c.Faults.carried(at, data, b.Erased)
		if c.Faults.dead(b, at) {
			return true
		}
		if c.Faults.Line != nil {
			// The bytes of one write go each where its address is seen.
			for i := range data {
				to := c.wired(b, memory.Span{First: at + uint64(i), Last: at + uint64(i)})
				c.cells(b, to.First, data[i:i+1], draw)
			}
			c.force(b)
			return true
		}
	}
	ok := c.cells(b, at, data, draw)
	c.force(b)
	return ok
}

// cells changes the cells.
func (c *Chip) cells(b *bank, at uint64, data []byte, draw int) bool {
	s := memory.Span{First: at, Last: at + uint64(len(data)) - 1}
	t := b.reach(c, b.widen(s, b.granule))
	from := int(at - t.first)
	c.touch(t, from, len(data))
	cells := t.data[from : from+len(data)]
	if t.written != nil {
		g := b.widen(s, b.granule)
		written := t.written[g.First-t.first : g.Last-t.first+1]
		if bytes.IndexByte(written, 1) >= 0 {
			return b.Kind == device.OTP && bytes.Equal(cells, data)
		}
		c.touch(t, int(g.First-t.first), int(g.Size()))
		for i := range written {
			written[i] = 1
		}
	}
	c.defined(b, s, data)
	switch {
	case draw >= 0:
		for i, x := range data {
			goal := x
			if !b.replaces {
				goal = oneWay(cells[i], x, b.Erased)
			}
			cells[i] = c.torn(b, cells[i], goal, draw)
		}
	case b.replaces, bytes.Equal(cells, b.blank[:min(len(cells), block)]):
		copy(cells, data)
	default:
		for i, x := range data {
			cells[i] = oneWay(cells[i], x, b.Erased)
		}
	}
	return true
}

// oneWay returns what a byte becomes when another is programmed over it: bits only
// leave the erased value.
func oneWay(old, data, erased byte) byte { return ((old ^ erased) | (data ^ erased)) ^ erased }

// torn returns a byte of which each bit is old or new; where a byte is erased as it
// is written, it may be erased too.
func (c *Chip) torn(b *bank, old, goal byte, draw int) byte {
	n := c.random.Uint32()
	r := byte(n)
	switch draw % 4 { // most are old, most are new, or half of each
	case 1:
		r &= byte(n>>8) & byte(n>>16)
	case 2:
		r |= byte(n>>8) | byte(n>>16)
	}
	if b.replaces && draw%4 == 3 {
		old = b.Erased
	}
	return old&^r | goal&r
}

// defined takes bits out of the undefined ones: those that are programmed away from
// the erased value.
func (c *Chip) defined(b *bank, s memory.Span, data []byte) {
	for i, u := range b.undefined {
		both, ok := u.Meet(s)
		if !ok {
			continue
		}
		// Both lists may be those that an undo goes back to.
		b.undefined = slices.Clone(b.undefined)
		u.mask = slices.Clone(u.mask)
		for at := both.First; ; at++ {
			x := data[at-s.First]
			if u.mask[at-u.First] &^= x ^ b.Erased; b.replaces {
				u.mask[at-u.First] = 0
			}
			if at == both.Last {
				break
			}
		}
		b.undefined[i] = u
	}
}

// read returns what is read over a link at a span, with what is wrong about the
// link.
func (c *Chip) read(s memory.Span) []byte {
	out := make([]byte, s.Size())
	b := c.bankAt(s.First)
	for i := range out {
		out[i] = b.Erased
	}
	b.in(s, func(t *stretch, from, to int) {
		copy(out[t.first+uint64(from)-s.First:], t.data[from:to])
	})
	if c.Faults.Line != nil {
		for i := range out {
			at := c.wired(b, memory.Span{First: s.First + uint64(i), Last: s.First + uint64(i)}).First
			out[i] = b.Erased
			b.in(memory.Span{First: at, Last: at}, func(t *stretch, from, _ int) { out[i] = t.data[from] })
		}
	}
	if p := c.Faults.Noise; p > 0 {
		for i := range out {
			for bit := range 8 {
				if c.random.Float64() < p {
					out[i] ^= 1 << bit
				}
			}
		}
	}
	return out
}

// wired returns where a span is seen, by address lines that may be stuck.
func (c *Chip) wired(b *bank, s memory.Span) memory.Span {
	if c.Faults.Line == nil {
		return s
	}
	first := c.Faults.Line.seen(s.First)
	moved, ok := memory.SpanOf(first, s.Size())
	if !ok || !b.Span.Covers(moved) {
		return s // no line of this memory
	}
	return moved
}

// force gives bits that are stuck their value.
func (c *Chip) force(b *bank) {
	for _, f := range c.Faults.Stuck {
		if !b.Span.Contains(f.At) {
			continue
		}
		t := b.reach(c, memory.Span{First: f.At, Last: f.At})
		at := int(f.At - t.first)
		c.touch(t, at, 1)
		t.data[at] &^= 1 << f.Bit
		if f.One {
			t.data[at] |= 1 << f.Bit
		}
	}
}

// SetFaults gives the chip its faults.
func (c *Chip) SetFaults(f Faults) {
	c.Faults = f
	for _, b := range c.banks {
		c.force(b)
	}
}

// clone returns a chip that shares nothing that changes.
func (c *Chip) clone() *Chip {
	out := *c
	out.banks, out.view, out.back, out.states = nil, nil, nil, map[string]*state{}
	for _, b := range c.banks {
		copied := *b
		copied.stretches = nil
		for _, s := range b.stretches {
			copied.stretches = append(copied.stretches, &stretch{s.first, slices.Clone(s.data), slices.Clone(s.written), make([]uint32, len(s.saved)), make([]uint64, len(s.saved))})
		}
		out.banks = append(out.banks, &copied)
	}
	out.draw(0)
	return &out
}

// undo is what a chip was before something was tried on it.
type undo struct {
	active    bool
	round     uint32
	saves     []save
	bytes     []byte
	undefined [][]undefined
	state     *state
	fresh     bool
}

type save struct {
	t        *stretch
	from, to int
	at       int // in bytes
	stamp    uint64
}

// try remembers what the chip is from now on.
func (c *Chip) try() {
	u := c.back
	if u == nil {
		u = &undo{undefined: make([][]undefined, len(c.banks))}
		c.back = u
	}
	u.active = true
	u.round++
	u.saves, u.bytes, u.state, u.fresh = u.saves[:0], u.bytes[:0], c.state, c.fresh
	for i, b := range c.banks {
		u.undefined[i] = b.undefined
	}
}

// undo makes the chip what it was. Stretches must not have grown.
func (c *Chip) undo() {
	u := c.back
	for _, s := range u.saves {
		n := s.to - s.from
		copy(s.t.data[s.from:s.to], u.bytes[s.at:])
		s.t.stamps[s.from/block] = s.stamp
		if s.t.written != nil {
			copy(s.t.written[s.from:s.to], u.bytes[s.at+n:])
		}
	}
	for i, b := range c.banks {
		b.undefined = u.undefined[i]
	}
	c.state, c.fresh, u.active = u.state, u.fresh, false
}

// touch saves what is about to be changed.
func (c *Chip) touch(t *stretch, from, n int) {
	if n == 0 {
		return
	}
	u := c.back
	c.clock++
	for i := from / block; i <= (from+n-1)/block; i++ {
		stamp := t.stamps[i]
		t.stamps[i] = c.clock
		if u == nil || !u.active || t.saved[i] == u.round {
			continue
		}
		t.saved[i] = u.round
		s := save{t, i * block, min((i+1)*block, len(t.data)), len(u.bytes), stamp}
		u.bytes = append(u.bytes, t.data[s.from:s.to]...)
		if t.written != nil {
			u.bytes = append(u.bytes, t.written[s.from:s.to]...)
		}
		u.saves = append(u.saves, s)
	}
}

// Answers returns what the part says when it is asked for its identity; nil where
// the map gives none.
func (c *Chip) Answers() []byte {
	switch {
	case c.Faults.Identity != nil:
		return c.Faults.Identity
	case len(c.Map.Identities) > 0:
		return c.Map.Identities[0].Bytes
	}
	return nil
}

// state is what the configuration words say since the last reset.
type state struct {
	key                     string
	values                  map[string]uint64
	resolved                *device.Map
	locked, closed, stopped string // the field and what it means; "" is not so
	protects                []protection
}

type protection struct {
	memory.Span
	by string
}

// Reset starts the part anew, so that its configuration words take effect.
func (c *Chip) Reset() {
	if !c.fresh {
		c.redraw()
	}
	c.fresh = false
	c.latch()
}

func (c *Chip) latch() {
	image := c.Image()
	var key []byte
	for i := range c.Map.Config {
		w := &c.Map.Config[i]
		key = append(key, c.held(image, w.Span())...)
		if s, ok := w.Complement(); ok {
			key = append(key, c.held(image, s)...)
		}
	}
	if known, ok := c.states[string(key)]; ok {
		c.state = known
		return
	}
	s := &state{key: string(key), values: map[string]uint64{}}
	for i := range c.Map.Config {
		w := &c.Map.Config[i]
		v, _ := w.In(image)
		if at, ok := w.Complement(); ok && !bytes.Equal(c.held(image, at), w.Bytes(^v)) {
			v = w.Default
		}
		s.values[w.Name] = v
	}
	s.resolved = c.Map.Configured(s.values)
	for _, a := range c.Map.Acting(s.values) {
		by := fmt.Sprintf("%s (%s)", a.Field, a.Meaning)
		switch a.Effect {
		case device.Locked:
			s.locked = by
		case device.Closed:
			s.closed = by
		case device.Stopped:
			if !c.Fitted[a.Field] {
				s.stopped = by
			}
		}
		for _, p := range a.Protects {
			s.protects = append(s.protects, protection{p, by})
		}
	}
	c.states[s.key], c.state = s, s
}

// held returns what an image holds at a span; the map's loader has proven that
// words lie in memories.
func (c *Chip) held(image *memory.Image, s memory.Span) []byte {
	b := make([]byte, s.Size())
	image.ReadAt(b, s.First)
	return b
}
