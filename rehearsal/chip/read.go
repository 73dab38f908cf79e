package chip

import (
	"bytes"
	"cmp"
	"maps"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// Peek returns what a bank holds at a span, without a link in between.
func (c *Chip) Peek(b *Bank, s memory.Span) []byte {
	out := make([]byte, 0, s.Size())
	for at := s.First; ; {
		data, n := b.Next(at, s.Last)
		if data == nil {
			for range n {
				out = append(out, b.Erased)
			}
		} else {
			out = append(out, data...)
		}
		if n > s.Last-at {
			return out
		}
		at += n
	}
}

// EraseAll erases the whole device, and opens it: what locks it is as delivered.
func (c *Chip) EraseAll() {
	for _, b := range c.Banks {
		if b.Kind == device.Flash || b.Kind == device.EEPROM {
			c.Erase(b, b.Span)
		}
	}
	if c.State.Locked == "" {
		return
	}
	for i := range c.Map.Config {
		w := &c.Map.Config[i]
		v := c.State.Values[w.Name]
		open := v
		for k := range w.Fields {
			f := &w.Fields[k]
			if is := f.Value(f.Of(v)); is != nil && is.Effect == device.Locked {
				open = open&^f.Mask() | w.Default&f.Mask()
			}
		}
		if open != v {
			c.setWord(w, open)
		}
	}
	c.latch()
}

// Silent tells why a device answers nothing at its programming port; nil is that it
// answers.
func (c *Chip) Silent() *source.Problem {
	by := cmp.Or(c.State.Closed, c.State.Stopped)
	if by == "" {
		return nil
	}
	return &source.Problem{
		What:     "the device does not answer: " + by,
		Expected: "an answer",
		Advice:   source.Advise("nothing opens it again through this port"),
	}
}

// ReadBack returns what a programmer reads out of the device: the memories that hold
// anything, whole, but where that would be more than 64 MiB, in which case only what
// was ever written. A device that is locked or closed gives nothing.
func (c *Chip) ReadBack() (*memory.Image, *source.Problem) {
	if f := c.Silent(); f != nil {
		return nil, f
	}
	if c.State.Locked != "" {
		return nil, &source.Problem{
			What:     "reading is refused: the device is locked by " + c.State.Locked,
			Expected: "an unlocked device",
			Advice:   source.Advise("only erasing the whole chip unlocks it, and that erases its contents"),
		}
	}
	c.DrawUndefined()
	in := &source.Input{Name: "read-back", Counting: source.Operation}
	var parts []*memory.Image
	for _, b := range c.Banks {
		if len(b.Stretches) == 0 {
			continue
		}
		const mostWhole = 64 << 20
		var spans []memory.Span
		if b.Span.Last-b.Span.First < mostWhole {
			spans = []memory.Span{b.Span}
		} else {
			for _, t := range b.Stretches {
				spans = append(spans, memory.Span{First: t.First, Last: t.Last()})
			}
		}
		for _, s := range spans {
			if m, ok := memory.FromBytes(s.First, c.Read(s), in); ok {
				parts = append(parts, m)
			}
		}
	}
	all, _ := memory.Merge(parts, memory.First)
	return all, nil
}

// Program lays an image down as if it had been programmed, faultlessly, and resets
// the device: what an earlier release left.
func (c *Chip) Program(image *memory.Image) {
	for _, b := range c.Banks {
		for r := range image.In(b.Span) {
			s := r.Span()
			t := b.Reserve(c, b.Widen(s, b.GranuleSize))
			copy(t.Data[s.First-t.First:], r.Data)
			if t.written != nil {
				g := b.Widen(s, b.GranuleSize)
				for i := g.First; ; i++ {
					t.written[i-t.First] = 1
					if i == g.Last {
						break
					}
				}
			}
		}
		c.force(b)
	}
	c.Reset()
}

// Words returns the values of the configuration words, as they are in effect.
func (c *Chip) Words() map[string]uint64 { return maps.Clone(c.State.Values) }

// With returns what the device would hold with an image programmed: the image, and of
// what is there the regions that it leaves alone, but those that are reserved for
// the device itself.
func (c *Chip) With(image *memory.Image) *memory.Image {
	m := c.State.Resolved
	held := []*memory.Image{image}
	for i := range m.Regions {
		r := &m.Regions[i]
		b := c.BankAt(r.Span.First)
		if b == nil || r.Role == device.Reserved || image.Count(r.Span) > 0 {
			continue
		}
		var spans []memory.Span // pages that hold anything
		b.Each(r.Span, func(t *Stretch, from, to int) {
			for at := t.First + uint64(from); ; {
				page := b.PageOf(at)
				both, _ := page.Meet(memory.Span{First: t.First + uint64(from), Last: t.First + uint64(to) - 1})
				if data := t.Data[both.First-t.First : both.Last-t.First+1]; bytes.Count(data, b.Blank[:1]) < len(data) {
					spans = append(spans, both)
				}
				if both.Last >= t.First+uint64(to)-1 {
					break
				}
				at = both.Last + 1
			}
		})
		if len(spans) > 0 {
			held = append(held, c.Image().Cut(memory.Union(spans)...))
		}
	}
	all, _ := memory.Merge(held, memory.First)
	return all
}

// Equals reports whether a bank holds just these bytes at a span.
func (b *Bank) Equals(s memory.Span, want []byte) bool {
	for at := s.First; ; {
		data, n := b.Next(at, s.Last)
		if data == nil {
			for k := uint64(0); k < n; {
				step := min(n-k, BlockSize)
				if !bytes.Equal(b.Blank[:step], want[:step]) {
					return false
				}
				want = want[step:]
				k += step
			}
		} else {
			if !bytes.Equal(data, want[:n]) {
				return false
			}
			want = want[n:]
		}
		if n > s.Last-at {
			return true
		}
		at += n
	}
}

// Next returns the bytes from an address on, up to a last one, as far as they stand
// in one piece; nil is so many erased ones.
func (b *Bank) Next(at, last uint64) (data []byte, n uint64) {
	n = last - at + 1
	for _, t := range b.Stretches {
		switch {
		case t.Last() < at:
		case t.First > at:
			if t.First <= last {
				n = t.First - at
			}
			return nil, n
		default:
			data = t.Data[at-t.First:]
			data = data[:min(uint64(len(data)), n)]
			return data, uint64(len(data))
		}
	}
	return nil, n
}

// StretchAt returns the stretch that holds an address.
func (b *Bank) StretchAt(address uint64) *Stretch {
	for _, t := range b.Stretches {
		if t.First <= address && address <= t.Last() {
			return t
		}
	}
	return nil
}
