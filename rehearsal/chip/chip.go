// Package chip is a simulated part, which behaves as flash does: bits go one way when
// they are programmed and back when a sector is erased, configuration words take effect
// at a reset, and what the power fails in is torn. It has [Faults] like those of real
// parts, boards and links.
//
// A [Chip] is built from a device map. What is not in the map it does not know:
// voltages, wear, cells between two states. It asks nothing and refuses little: who
// programs it, by which plan, and what is started then, is told by package rehearsal.
package chip

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
	Map    *device.Map // as the map says it, whatever the configuration, on its board
	Faults Faults

	Banks  []*Bank // the memories that can be programmed, by address
	seed   uint64
	random *rand.Rand // what undefined bits and noise are drawn from
	fresh  bool       // the undefined bits were just drawn
	State  *State
	states map[string]*State // by the bytes of the configuration words
	view   *memory.Image     // all that is held, made when it is asked for
	back   *undo             // nil where nothing is to be undone
	clock  uint64            // counts changes
}

// Bank is a memory of a chip.
type Bank struct {
	*device.Memory
	PageSize    uint64 // bytes programmed in one operation
	GranuleSize uint64
	Replaces    bool // what is written is erased first, byte by byte
	Once        bool // a granule is written once after each erase, or ever
	Stretches   []*Stretch
	undefined   []undefined
	Blank       []byte // a block of erased bytes
}

// Stretch is a part of a memory that may hold something, in whole blocks. All
// outside stretches is erased.
type Stretch struct {
	First   uint64
	Data    []byte
	written []byte   // by byte, 1 where its granule was written; nil unless once
	saved   []uint32 // by block, in which undo it was saved last
	Stamps  []uint64 // by block, when it was changed last
}

// Last is the last address of it.
func (s *Stretch) Last() uint64 { return s.First + uint64(len(s.Data)) - 1 }

// undefined are bits that an interrupted erase left: each time they are read, they
// may be something else.
type undefined struct {
	memory.Span
	mask []byte // which bits
	was  []byte // what stood there before the erase
}

// BlockSize is how many bytes a stretch grows by, and an undo saves at once.
const BlockSize = 4 << 10

// MostHeld is how many bytes of a device a rehearsal keeps at the most, 1 GiB.
const MostHeld = 1 << 30

// assumedPage is the page of a memory of which the map gives none.
const assumedPage = 256

// New returns a device as it is delivered: erased, its configuration words at
// their defaults. What it draws, it draws from the seed.
func New(m *device.Map, seed uint64) *Chip {
	c := &Chip{Map: m, seed: seed, states: map[string]*State{}}
	c.SeedAt(0)
	for i := range m.Memories {
		mem := &m.Memories[i]
		if !mem.Programmable() {
			continue
		}
		b := &Bank{
			Memory:      mem,
			GranuleSize: max(mem.Granule, 1),
			PageSize:    max(mem.Page, mem.Granule),
			Replaces:    mem.Kind == device.EEPROM || mem.Kind == device.Config,
		}
		b.Once = mem.WriteOnce || mem.Kind == device.OTP
		if b.PageSize == 0 {
			b.PageSize = assumedPage
		}
		if b.Replaces && mem.Page == 0 {
			b.PageSize = b.GranuleSize
		}
		b.Blank = bytes.Repeat([]byte{mem.Erased}, BlockSize)
		c.Banks = append(c.Banks, b)
	}
	for i := range m.Config {
		w := &m.Config[i]
		c.setWord(w, w.Default)
	}
	c.latch()
	return c
}

// SeedAt begins to draw anew: the same for the same seed and moment.
func (c *Chip) SeedAt(moment uint64) { c.random = rand.New(rand.NewPCG(c.seed, moment)) }

// setWord gives a configuration word its value, and its complement, as they stand
// when the device is delivered or opened again.
func (c *Chip) setWord(w *device.Word, v uint64) {
	c.put(w.At, w.Bytes(v))
	if s, ok := w.Complement(); ok {
		c.put(s.First, w.Bytes(^v))
	}
}

// put lays bytes down, whatever was there.
func (c *Chip) put(at uint64, data []byte) {
	b := c.BankAt(at)
	s := b.Reserve(c, memory.Span{First: at, Last: at + uint64(len(data)) - 1})
	c.touch(s, int(at-s.First), len(data))
	copy(s.Data[at-s.First:], data)
	c.force(b)
}

func (c *Chip) BankAt(address uint64) *Bank {
	for _, b := range c.Banks {
		if b.Span.Contains(address) {
			return b
		}
	}
	return nil
}

// Torn reports whether any bits are as a cut has left them.
func (b *Bank) Torn() bool { return len(b.undefined) > 0 }

// Widen returns the span made larger to whole pieces of a size, counted from the
// memory's first address.
func (b *Bank) Widen(s memory.Span, size uint64) memory.Span {
	from := b.Span.First
	first := from + (s.First-from)/size*size
	last := from + (s.Last-from)/size*size + (size - 1)
	if last < s.Last || last > b.Span.Last {
		last = b.Span.Last
	}
	return memory.Span{First: first, Last: last}
}

// SectorOf returns what is erased along with an address: a sector, or a page where the
// map gives none.
func (b *Bank) SectorOf(address uint64) memory.Span {
	if s, ok := b.SectorAt(address); ok {
		return s
	}
	return b.PageOf(address)
}

// GranuleOf returns the least that is written along with an address.
func (b *Bank) GranuleOf(address uint64) memory.Span {
	return b.Widen(memory.Span{First: address, Last: address}, b.GranuleSize)
}

// PageOf returns what is programmed along with an address.
func (b *Bank) PageOf(address uint64) memory.Span {
	return b.Widen(memory.Span{First: address, Last: address}, b.PageSize)
}

// HasSectors reports whether the memory has sectors that are erased for themselves.
func (b *Bank) HasSectors() bool { return b.Kind == device.Flash }

// Reserve returns the stretch that holds the span, which is grown, or made, where there
// is none.
func (b *Bank) Reserve(c *Chip, s memory.Span) *Stretch {
	for _, t := range b.Stretches {
		if t.First <= s.First && s.Last <= t.Last() {
			return t
		}
	}
	all := b.Widen(s, BlockSize)
	touches := func(t *Stretch) bool {
		return t.First <= all.Last && all.First <= t.Last() || t.Last()+1 == all.First || all.Last+1 == t.First
	}
	var kept, merged []*Stretch
	for _, t := range b.Stretches {
		if touches(t) {
			merged = append(merged, t)
			all.First, all.Last = min(all.First, t.First), max(all.Last, t.Last())
		} else {
			kept = append(kept, t)
		}
	}
	if len(merged) == 1 && merged[0].First == all.First { // by some more, so that one that grows and grows is copied seldom
		more := b.Widen(memory.Span{First: all.First, Last: min(b.Span.Last-all.Last, uint64(len(merged[0].Data))/4) + all.Last}, BlockSize)
		free := !slices.ContainsFunc(kept, func(t *Stretch) bool { return t.First > all.Last && t.First <= more.Last+1 })
		if free {
			all = more
		}
	}
	grown := &Stretch{First: all.First, Data: make([]byte, all.Size())}
	for at := 0; at < len(grown.Data); at += BlockSize {
		copy(grown.Data[at:], b.Blank)
	}
	if b.Once {
		grown.written = make([]byte, len(grown.Data))
	}
	blocks := (len(grown.Data) + BlockSize - 1) / BlockSize
	grown.saved, grown.Stamps = make([]uint32, blocks), make([]uint64, blocks)
	for _, t := range merged {
		copy(grown.Data[t.First-grown.First:], t.Data)
		copy(grown.written[min(t.First-grown.First, uint64(len(grown.written))):], t.written)
	}
	i := 0
	for i < len(kept) && kept[i].First < grown.First {
		i++
	}
	b.Stretches = slices.Insert(kept, i, grown)
	c.view = nil
	return grown
}

// Each goes through the stretches that meet a span, with the part of each.
func (b *Bank) Each(s memory.Span, do func(t *Stretch, from, to int)) {
	for _, t := range b.Stretches {
		if t.First <= s.Last && s.First <= t.Last() {
			do(t, int(max(s.First, t.First)-t.First), int(min(s.Last, t.Last())-t.First)+1)
		}
	}
}

// Image returns what the chip holds, its undefined bits as they were drawn last.
// Holes are erased. It changes with the chip.
func (c *Chip) Image() *memory.Image {
	if c.view == nil {
		var runs []memory.Run
		for _, b := range c.Banks {
			for _, s := range b.Stretches {
				runs = append(runs, memory.Run{First: s.First, Data: s.Data})
			}
		}
		c.view = memory.View(runs, Origin)
	}
	return c.view
}

// Origin is where the bytes of a chip come from.
var Origin = &source.Input{Name: "chip", Counting: source.Operation}

// Erase erases a span of a memory, as far as it does: nothing is asked, and nothing
// refused.
func (c *Chip) Erase(b *Bank, s memory.Span) {
	for _, one := range c.erasing(b, c.wired(b, s)) {
		c.blankCells(b, one)
	}
	c.force(b)
}

// erasing returns what of a span is erased: without the sectors that do not erase.
func (c *Chip) erasing(b *Bank, s memory.Span) []memory.Span {
	var dead []memory.Span
	for _, at := range c.Faults.NoErase {
		if s.Contains(at) {
			dead = append(dead, b.SectorOf(at))
		}
	}
	if dead == nil {
		return []memory.Span{s}
	}
	return memory.Without([]memory.Span{s}, dead)
}

// blankCells erases cells.
func (c *Chip) blankCells(b *Bank, s memory.Span) {
	b.Each(s, func(t *Stretch, from, to int) {
		c.touch(t, from, to-from)
		for at := from; at < to; at += BlockSize {
			copy(t.Data[at:to], b.Blank)
		}
		if t.written != nil {
			clear(t.written[from:to])
		}
	})
	b.undefined = slices.DeleteFunc(slices.Clone(b.undefined), func(u undefined) bool { return s.Covers(u.Span) })
}

// CutErase erases a span while the power fails: every bit of it is undefined. It
// reads as before at draw 0, as erased at draw 1, and then as anything.
func (c *Chip) CutErase(b *Bank, s memory.Span, draw int) {
	for _, one := range c.erasing(b, c.wired(b, s)) {
		c.tear(b, one, draw)
	}
	c.fresh = true
	c.force(b)
}

// tear leaves all bits of cells undefined.
func (c *Chip) tear(b *Bank, s memory.Span, draw int) {
	t := b.Reserve(c, s)
	from := int(s.First - t.First)
	data := t.Data[from : from+int(s.Size())]
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
func (c *Chip) drawn(b *Bank, u *undefined, data []byte, draw int) {
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

// DrawUndefined draws all undefined bits anew: they read differently each time.
func (c *Chip) DrawUndefined() {
	for _, b := range c.Banks {
		for i := range b.undefined {
			u := &b.undefined[i]
			t := b.Reserve(c, u.Span)
			from := int(u.First - t.First)
			c.touch(t, from, int(u.Size()))
			c.drawn(b, u, t.Data[from:from+int(u.Size())], c.random.IntN(4))
		}
		if len(b.undefined) > 0 {
			c.force(b)
		}
	}
}

// ProgramAt writes bytes that lie in one page or granule, as far as the device does it.
// It reports false, and writes nothing, where a granule would be written twice.
func (c *Chip) ProgramAt(b *Bank, at uint64, data []byte) bool { return c.write(b, at, data, -1) }

// CutProgram writes bytes while the power fails: each bit is as before, or as it
// would be.
func (c *Chip) CutProgram(b *Bank, at uint64, data []byte, draw int) { c.write(b, at, data, draw) }

// write writes bytes; a draw of 0 or more is a power cut.
func (c *Chip) write(b *Bank, at uint64, data []byte, draw int) bool {
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
func (c *Chip) cells(b *Bank, at uint64, data []byte, draw int) bool {
	s := memory.Span{First: at, Last: at + uint64(len(data)) - 1}
	t := b.Reserve(c, b.Widen(s, b.GranuleSize))
	from := int(at - t.First)
	c.touch(t, from, len(data))
	cells := t.Data[from : from+len(data)]
	if t.written != nil {
		g := b.Widen(s, b.GranuleSize)
		written := t.written[g.First-t.First : g.Last-t.First+1]
		if bytes.IndexByte(written, 1) >= 0 {
			return b.Kind == device.OTP && bytes.Equal(cells, data)
		}
		c.touch(t, int(g.First-t.First), int(g.Size()))
		for i := range written {
			written[i] = 1
		}
	}
	c.defined(b, s, data)
	switch {
	case draw >= 0:
		for i, x := range data {
			goal := x
			if !b.Replaces {
				goal = OneWay(cells[i], x, b.Erased)
			}
			cells[i] = c.torn(b, cells[i], goal, draw)
		}
	case b.Replaces, bytes.Equal(cells, b.Blank[:min(len(cells), BlockSize)]):
		copy(cells, data)
	default:
		for i, x := range data {
			cells[i] = OneWay(cells[i], x, b.Erased)
		}
	}
	return true
}

// OneWay returns what a byte becomes when another is programmed over it: bits only
// leave the erased value.
func OneWay(old, data, erased byte) byte { return ((old ^ erased) | (data ^ erased)) ^ erased }

// torn returns a byte of which each bit is old or new; where a byte is erased as it
// is written, it may be erased too.
func (c *Chip) torn(b *Bank, old, goal byte, draw int) byte {
	n := c.random.Uint32()
	r := byte(n)
	switch draw % 4 { // most are old, most are new, or half of each
	case 1:
		r &= byte(n>>8) & byte(n>>16)
	case 2:
		r |= byte(n>>8) | byte(n>>16)
	}
	if b.Replaces && draw%4 == 3 {
		old = b.Erased
	}
	return old&^r | goal&r
}

// defined takes bits out of the undefined ones: those that are programmed away from
// the erased value.
func (c *Chip) defined(b *Bank, s memory.Span, data []byte) {
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
			if u.mask[at-u.First] &^= x ^ b.Erased; b.Replaces {
				u.mask[at-u.First] = 0
			}
			if at == both.Last {
				break
			}
		}
		b.undefined[i] = u
	}
}

// Read returns what is read over a link at a span, with what is wrong about the
// link.
func (c *Chip) Read(s memory.Span) []byte {
	out := make([]byte, s.Size())
	b := c.BankAt(s.First)
	for i := range out {
		out[i] = b.Erased
	}
	b.Each(s, func(t *Stretch, from, to int) {
		copy(out[t.First+uint64(from)-s.First:], t.Data[from:to])
	})
	if c.Faults.Line != nil {
		for i := range out {
			at := c.wired(b, memory.Span{First: s.First + uint64(i), Last: s.First + uint64(i)}).First
			out[i] = b.Erased
			b.Each(memory.Span{First: at, Last: at}, func(t *Stretch, from, _ int) { out[i] = t.Data[from] })
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
func (c *Chip) wired(b *Bank, s memory.Span) memory.Span {
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
func (c *Chip) force(b *Bank) {
	for _, f := range c.Faults.Stuck {
		if !b.Span.Contains(f.At) {
			continue
		}
		t := b.Reserve(c, memory.Span{First: f.At, Last: f.At})
		at := int(f.At - t.First)
		c.touch(t, at, 1)
		t.Data[at] &^= 1 << f.Bit
		if f.One {
			t.Data[at] |= 1 << f.Bit
		}
	}
}

// SetFaults gives the chip its faults.
func (c *Chip) SetFaults(f Faults) {
	c.Faults = f
	for _, b := range c.Banks {
		c.force(b)
	}
}

// Clone returns a chip that shares nothing that changes.
func (c *Chip) Clone() *Chip {
	out := *c
	out.Banks, out.view, out.back, out.states = nil, nil, nil, map[string]*State{}
	for _, b := range c.Banks {
		copied := *b
		copied.Stretches = nil
		for _, s := range b.Stretches {
			copied.Stretches = append(
				copied.Stretches,
				&Stretch{s.First, slices.Clone(s.Data), slices.Clone(s.written), make([]uint32, len(s.saved)),
					make([]uint64, len(s.saved))},
			)
		}
		out.Banks = append(out.Banks, &copied)
	}
	out.SeedAt(0)
	return &out
}

// undo is what a chip was before something was tried on it.
type undo struct {
	active    bool
	round     uint32
	saves     []save
	bytes     []byte
	undefined [][]undefined
	state     *State
	fresh     bool
}

type save struct {
	t        *Stretch
	from, to int
	at       int // in bytes
	stamp    uint64
}

// Try remembers what the chip is from now on.
func (c *Chip) Try() {
	u := c.back
	if u == nil {
		u = &undo{undefined: make([][]undefined, len(c.Banks))}
		c.back = u
	}
	u.active = true
	u.round++
	u.saves, u.bytes, u.state, u.fresh = u.saves[:0], u.bytes[:0], c.State, c.fresh
	for i, b := range c.Banks {
		u.undefined[i] = b.undefined
	}
}

// Undo makes the chip what it was. Stretches must not have grown.
func (c *Chip) Undo() {
	u := c.back
	for _, s := range u.saves {
		n := s.to - s.from
		copy(s.t.Data[s.from:s.to], u.bytes[s.at:])
		s.t.Stamps[s.from/BlockSize] = s.stamp
		if s.t.written != nil {
			copy(s.t.written[s.from:s.to], u.bytes[s.at+n:])
		}
	}
	for i, b := range c.Banks {
		b.undefined = u.undefined[i]
	}
	c.State, c.fresh, u.active = u.state, u.fresh, false
}

// touch saves what is about to be changed.
func (c *Chip) touch(t *Stretch, from, n int) {
	if n == 0 {
		return
	}
	u := c.back
	c.clock++
	for i := from / BlockSize; i <= (from+n-1)/BlockSize; i++ {
		stamp := t.Stamps[i]
		t.Stamps[i] = c.clock
		if u == nil || !u.active || t.saved[i] == u.round {
			continue
		}
		t.saved[i] = u.round
		s := save{t, i * BlockSize, min((i+1)*BlockSize, len(t.Data)), len(u.bytes), stamp}
		u.bytes = append(u.bytes, t.Data[s.from:s.to]...)
		if t.written != nil {
			u.bytes = append(u.bytes, t.written[s.from:s.to]...)
		}
		u.saves = append(u.saves, s)
	}
}

// Answers returns what the device says when it is asked for its identity; nil where
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

// State is what the configuration words say since the last reset.
type State struct {
	Key      string            // the same where all words say the same
	Values   map[string]uint64 // by the word's name
	Resolved *device.Map       // with the regions as the words place them
	Ways     []device.WayIn    // for a programmer
	Stopped  string            // the field that stops it, and what it means; "" is that it runs
	Protects []Protection
}

// Open reports whether a programmer can do all through the ports together.
func (s *State) Open() bool {
	for _, a := range []device.Ability{device.CanRead, device.CanProgram, device.CanEraseAll, device.CanWords} {
		if !device.AnyDoes(s.Ways, a) {
			return false
		}
	}
	return true
}

// Protection is a span that the words keep from being changed.
type Protection struct {
	memory.Span
	By string // the field and what it means
}

// Reset starts the device anew, so that its configuration words take effect.
func (c *Chip) Reset() {
	if !c.fresh {
		c.DrawUndefined()
	}
	c.fresh = false
	c.latch()
}

func (c *Chip) latch() {
	image := c.Image()
	var key []byte
	for i := range c.Map.Config {
		w := &c.Map.Config[i]
		key = append(key, c.contents(image, w.Span())...)
		if s, ok := w.Complement(); ok {
			key = append(key, c.contents(image, s)...)
		}
	}
	if known, ok := c.states[string(key)]; ok {
		c.State = known
		return
	}
	s := &State{Key: string(key), Values: c.values(image)}
	s.Resolved, s.Ways = c.Map.Configured(s.Values), c.Map.WaysIn(s.Values)
	for _, a := range c.Map.Acting(s.Values) {
		by := fmt.Sprintf("%s (%s)", a.Field, a.Meaning)
		if a.Effect == device.Stopped {
			s.Stopped = by
		}
		for _, p := range a.Protects {
			s.Protects = append(s.Protects, Protection{p, by})
		}
	}
	c.states[s.Key], c.State = s, s
}

// values returns the configuration words as the device reads them at a reset.
func (c *Chip) values(image *memory.Image) map[string]uint64 {
	values := map[string]uint64{}
	for i := range c.Map.Config {
		w := &c.Map.Config[i]
		v, _ := w.In(image)
		if at, ok := w.Complement(); ok && !bytes.Equal(c.contents(image, at), w.Bytes(^v)) {
			v = w.Default
		}
		values[w.Name] = v
	}
	return values
}

// WaysAfterReset returns the ways in for a programmer as they would be after a reset now.
func (c *Chip) WaysAfterReset() []device.WayIn { return c.Map.WaysIn(c.values(c.Image())) }

// contents returns what an image holds at a span; the map's loader has proven that
// words lie in memories.
func (c *Chip) contents(image *memory.Image, s memory.Span) []byte {
	b := make([]byte, s.Size())
	image.ReadAt(b, s.First)
	return b
}
