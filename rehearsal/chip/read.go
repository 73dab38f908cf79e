package chip

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

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
	open := c.Map.Opened(c.State.Values)
	for i := range c.Map.Config {
		if w := &c.Map.Config[i]; open[w.Name] != c.State.Values[w.Name] {
			c.setWord(w, open[w.Name])
		}
	}
	c.latch()
}

// Refuses tells why no port of the device does something for a programmer; nil is that
// one does.
func (c *Chip) Refuses(a device.Ability) *source.Problem {
	ways := c.State.Ways
	if device.AnyDoes(ways, a) {
		return nil
	}
	var why []string
	answers := "" // why the first that answers does not do all
	for _, w := range ways {
		switch {
		case w.Port == "":
			why = append(why, w.Why)
		default:
			why = append(why, w.String())
		}
		if len(w.Can) > 0 && answers == "" {
			answers = cmp.Or(w.Why, "its ports")
		}
	}
	by := strings.Join(why, "; ")
	switch {
	case answers == "":
		return &source.Problem{
			What:     "the device does not answer: " + by,
			Expected: "an answer",
			Advice:   source.Advise("nothing opens it again through this port"),
		}
	case !device.AnyDoes(ways, device.CanEraseAll):
		return &source.Problem{
			What:     fmt.Sprintf("no port of the device can %s: %s", a, by),
			Expected: "a port that can",
			Advice:   source.Advise("nothing opens it again through these ports"),
		}
	}
	return &source.Problem{
		What:     "the device is locked by " + answers,
		Expected: "an unlocked device",
		Advice:   source.Advise("only erasing the whole chip unlocks it"),
	}
}

// Silent reports whether no port of the device answers at all.
func (c *Chip) Silent() bool {
	return !slices.ContainsFunc(c.State.Ways, func(w device.WayIn) bool { return len(w.Can) > 0 })
}

// LockedBy returns by what reading is refused, where the device answers; "" is that it
// is not.
func (c *Chip) LockedBy() string {
	if device.AnyDoes(c.State.Ways, device.CanRead) {
		return ""
	}
	for _, w := range c.State.Ways {
		if len(w.Can) > 0 {
			return w.Why
		}
	}
	return ""
}

// ReadBack returns what a programmer reads out of the device: the memories that hold
// anything, whole, but where that would be more than 64 MiB, in which case only what
// was ever written. A device that is locked or closed gives nothing.
func (c *Chip) ReadBack() (*memory.Image, *source.Problem) {
	if f := c.Refuses(device.CanRead); f != nil {
		if !c.Silent() {
			f.What = "reading is refused: " + f.What
		}
		if c.LockedBy() != "" {
			f.Advice = source.Advise("only erasing the whole chip unlocks it, and that erases its contents")
		}
		return nil, f
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
