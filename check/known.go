package check

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// regionHolds holds what lies in regions against what the map says that their parts
// are known by.
func (c *checker) regionHolds() {
	for r := range c.m.All() {
		if c.part.Image.Count(r.Span) == 0 || c.blank(r.Span.First) || c.moved() || !r.Required && c.erasedBeside(r) ||
			c.region != nil && c.region != r {
			continue
		}
		for _, h := range r.Holds {
			if c.is(h) {
				continue
			}
			where, _ := memory.SpanOf(h.At, uint64(len(h.Bytes)))
			f := Finding{
				Name:   r.Name,
				Where:  &where,
				Region: r.Name,
				What: fmt.Sprintf("region %s contains other bytes than the map says: % X", r.Name,
					readErased(c.m, c.part.Image, where)),
				Expected: knownBy(h),
				Advice:   source.Advise("the wrong file, or another input that runs into the region"),
			}
			if held, ok := c.extent(where); ok {
				f.Where = &held
				c.add(f)
			} else {
				f.What = fmt.Sprintf("region %s contains nothing where the map gives bytes", r.Name)
				c.addMissing(f)
			}
			break
		}
	}
}

// is reports whether the image holds what a region's part is known by.
func (c *checker) is(h device.Content) bool {
	found := make([]byte, len(h.Bytes))
	return c.part.Image.ReadAt(found, h.At) && string(found) == string(h.Bytes)
}

// knownBy says what is expected.
func knownBy(h device.Content) string {
	if h.Text != "" {
		return fmt.Sprintf("%q", h.Bytes)
	}
	return fmt.Sprintf("% X", h.Bytes)
}

// proven reports whether something shows that the part of a region begins with it:
// what the map says it holds, vectors that lead into it, a checksum of it that holds,
// or how the file was made.
func (c *checker) proven(r *device.Region) bool {
	if len(r.Holds) > 0 {
		return !slices.ContainsFunc(r.Holds, func(h device.Content) bool { return !c.is(h) })
	}
	for i := range c.m.Starts {
		s := &c.m.Starts[i]
		if e := entryBy(c.m, s, c.part.Image); s.Kind == device.StartVectors && r.Span.Contains(s.At) && e.Fault == Starts &&
			r.Span.Contains(e.Code) {
			return true
		}
	}
	for _, d := range c.declared() {
		only := !slices.ContainsFunc(d.In, func(s memory.Span) bool { return !r.Span.Covers(s) })
		if only && d.err == nil && !d.absent && string(d.want) == string(d.stored) {
			return true
		}
	}
	return c.begins(r.Span.First) || c.part.Begins != nil && c.part.Begins(r.Span.First)
}

// crossesBorder finds bytes that run on over the border between an application and a
// bootloader, where nothing shows that the one beyond it begins there.
func (c *checker) crossesBorder() {
	for i := range c.m.Regions {
		r := &c.m.Regions[i]
		if r.Role != device.Bootloader || r.Unknown || len(r.Holds) > 0 || c.moved() {
			continue // what it holds is a rule of its own
		}
		before, behind := c.neighbour(r, r.Span.First-1, r.Span.First > 0), c.neighbour(r, r.Span.Last+1, r.Span.Last != ^uint64(0))
		for _, other := range []*device.Region{before, behind} {
			if other == nil || c.proven(r) {
				continue
			}
			border, from, into := r.Span.First, other, r
			if other == behind {
				border, from, into = other.Span.First, r, other
			}
			if c.separate(border) || c.foundEarlier("region-overrun", func(f *Finding) bool { return f.Where.Contains(border) }) {
				continue
			}
			held, _ := c.extent(r.Span)
			c.add(Finding{
				Name:   r.Name,
				Where:  &memory.Span{First: border, Last: border},
				Region: r.Name,
				What: fmt.Sprintf("bytes continue from region %s across the border to %s, and nothing shows that the bytes in %s, "+
					"%s, belong there", from.Name, into.Name, r.Name, memory.FormatBytes(c.part.Image.Count(held))),
				Expected: fmt.Sprintf("bytes that identify %s", r.Name),
				Advice: source.Advise(
					fmt.Sprintf(
						"give its contents in the map, holds = [{ at = \"%s.first\", bytes = \"...\" }], "+
							"or \"unknown\"; or check the inputs as separate files",
						r.Name,
					),
				),
			})
		}
	}
}

// neighbour returns the application that holds an address beside a bootloader, where
// the image runs on over the border between them; nil is none.
func (c *checker) neighbour(r *device.Region, at uint64, there bool) *device.Region {
	if !there {
		return nil
	}
	other := c.m.RegionAt(at)
	inside := at + 1
	if at > r.Span.Last {
		inside = at - 1
	}
	if other == nil || other.Role != device.Application || !c.part.Image.Holds(at) || !c.part.Image.Holds(inside) {
		return nil
	}
	return other
}

// separate reports whether the bytes on both sides of a border are known to be of
// different parts. What an operation has made says nothing of that: a checksum before
// the border, say.
func (c *checker) separate(border uint64) bool {
	return c.part.Begins != nil && c.part.Begins(border) || c.read(border-1, -1) != c.read(border, 1)
}

// read returns the input of the first byte from an address on, down or up within its
// region, that was read and not made; nil is none.
func (c *checker) read(at uint64, step int) *source.Input {
	r := c.m.RegionAt(at)
	for ; r.Span.Contains(at); at += uint64(step) {
		o, ok := c.part.Image.Origin(at)
		if !ok || o.Input.Counting != source.Operation {
			return o.Input
		}
		if at == r.Span.First && step < 0 || at == r.Span.Last && step > 0 {
			break
		}
	}
	return nil
}

// uncovered finds bytes of regions that are guarded, and that no checksum covers which
// guards them.
func (c *checker) uncovered() {
	covered, guarded := map[string][]memory.Span{}, map[string]bool{}
	var order []string
	for _, d := range c.declared() {
		if d.err != nil || d.partial || c.explained(&d) {
			continue
		}
		covered[""] = append(covered[""], d.place)
		for _, f := range []*device.FieldAt{d.Length, d.End, d.Place} { // a wrong one makes the value wrong
			if f != nil {
				covered[""] = append(covered[""], f.Span())
			}
		}
		if d.Guards != "" {
			if spec, err := d.Spec(c.m, c.part.Image); err == nil {
				covered[d.Guards] = append(covered[d.Guards], memory.Without(spec.Feed.Spans, spec.Feed.Skip)...)
			}
			if !guarded[d.Guards] {
				guarded[d.Guards] = true
				order = append(order, d.Guards)
			}
		}
	}
	for _, name := range order {
		r := c.m.Region(name)
		if r == nil {
			continue
		}
		where, n := c.unerased(memory.Without([]memory.Span{r.Span}, append(covered[""], covered[name]...)), c.m.ErasedAt(r.Span.First))
		if n > 0 {
			c.add(Finding{
				Name:     name,
				Where:    where,
				Region:   name,
				What:     fmt.Sprintf("%s of region %s are covered by no checksum that guards it", memory.FormatBytes(uint64(n)), name),
				Expected: "a guard over all code that runs, and its rank",
				Advice: source.Advise("widen the checksum's span, in the map and in the loader: the bytes that it leaves out may be " +
					"torn while it is valid"),
			})
		}
	}
}

// unerased counts the bytes in spans that are not as an erase leaves them, and returns from
// the first to the last of them; nil where there are none.
func (c *checker) unerased(spans []memory.Span, erased byte) (where *memory.Span, n int) {
	for _, s := range spans {
		for run := range c.part.Image.In(s) {
			for i, b := range run.Data {
				if b == erased {
					continue
				}
				at := run.First + uint64(i)
				if n++; where == nil {
					where = &memory.Span{First: at, Last: at}
				}
				where.Last = at
			}
		}
	}
	return where, n
}

// wrongMachine finds programs that are linked for another machine than the map names.
func (c *checker) wrongMachine() {
	for _, p := range c.inputs {
		for _, prog := range p.Programs {
			machine := c.m.Machine != "" && !strings.EqualFold(c.m.Machine, prog.Machine)
			bytes := c.m.ByteOrder != "" && c.m.ByteOrder != prog.Order
			if !machine && !bytes {
				continue
			}
			var expected []string
			if c.m.Machine != "" {
				expected = append(expected, c.m.Machine)
			}
			if c.m.ByteOrder != "" {
				expected = append(expected, c.m.ByteOrder.String()+" byte order")
			}
			c.found = append(
				c.found,
				Finding{
					Severity: c.rule.Severity,
					Rule:     c.rule.ID,
					Name:     p.Name,
					Input:    p.Name,
					Place:    Place{File: prog.File, Text: prog.File},
					What:     fmt.Sprintf("the program is for %s, %s byte order", prog.Machine, prog.Order),
					Expected: strings.Join(expected, ", "),
					Advice:   source.Advise("built for another device, or the wrong file"),
				},
			)
		}
	}
}
