package check

import (
	"fmt"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

func (c *checker) configUndefined() { c.verdicts(device.Undefined) }

func (c *checker) configConflict() {
	c.verdicts(device.Conflict)
	for i := range c.m.Config {
		w := &c.m.Config[i]
		s, wants := w.Complement()
		value, given := w.In(c.part.Image)
		there := make([]byte, w.Width)
		if !wants || !given {
			continue
		}
		want := w.Bytes(^value)
		if held := c.part.Image.ReadAt(there, s.First); !held || string(there) != string(want) {
			what := fmt.Sprintf("the complement of %s is % X", w.Name, there)
			advice := []source.Setting{{Key: "at", Value: memory.FormatAddress(s.First)}, {Key: "bytes", Value: fmt.Sprintf("%X", want)}}
			if !held {
				what = fmt.Sprintf("the complement of %s is missing", w.Name)
				advice = append(advice, source.Setting{Key: "grow"})
			}
			c.add(Finding{Name: w.Name, Where: &s, What: what,
				Expected: fmt.Sprintf("% X, because %s is %s", want, w.Name, w.Format(value)),
				Advice:   operationAdvice("the device ignores both if they disagree; to set the complement", "patch", advice...)})
		}
	}
}

func (c *checker) configHazard()  { c.verdicts(device.Hazard) }
func (c *checker) configPartial() { c.verdicts(device.Partial) }
func (c *checker) configBoard()   { c.verdicts(device.Unfit) }
func (c *checker) lastPort()      { c.verdicts(device.LastPort) }

// words returns the values of the words, as the device has them with the image.
func (c *checker) wordValues() map[string]uint64 {
	values := map[string]uint64{}
	for i := range c.m.Config {
		w := &c.m.Config[i]
		values[w.Name], _ = w.In(c.part.Image)
		if v, has := c.words[w.Name]; has && w.GivenIn(c.part.Image).Known == 0 {
			values[w.Name] = v
		}
	}
	return values
}

// configClock holds the clock that programs were built for against the one at which the
// device runs.
func (c *checker) configClock() {
	hz, ok := c.m.Clock(c.wordValues())
	if !ok {
		return
	}
	differs := func(f Finding, built device.Quantity) {
		if built == hz {
			return
		}
		f.What = fmt.Sprintf("the %s was built for a clock of %s, and the device runs at %s", f.What, device.Frequency.Format(built),
			device.Frequency.Format(hz))
		f.Expected = "one clock"
		f.Advice = source.Advice{Text: "build it for the other, or change the configuration", AnyOf: c.accepting(f.Name)}
		c.add(f)
	}
	for r := range c.m.All() {
		if r.ClockAt == nil {
			continue
		}
		if n, ok := r.ClockAt.In(c.part.Image); ok {
			s := r.ClockAt.Span()
			differs(Finding{Name: r.Name, Where: &s, What: "program in " + r.Name}, device.Quantity(n))
		}
	}
	for _, in := range c.inputs {
		if in.BuiltFor > 0 {
			f := Finding{Name: in.Name, What: "input " + in.Name}
			if s, ok := in.Image.Span(); ok {
				f.Where = &s
			}
			differs(f, in.BuiltFor)
		}
	}
}

// verdicts adds what is wrong with the configuration words that the image
// carries.
func (c *checker) verdicts(kind device.VerdictKind) {
	given := map[string]device.Given{}
	for i := range c.m.Config {
		w := &c.m.Config[i]
		g := w.GivenIn(c.part.Image)
		if v, held := c.words[w.Name]; held && g.Known == 0 {
			g = w.Whole(v)
			g.Content = true
		}
		given[w.Name] = g
	}
	for _, v := range c.m.Judge(given) {
		if v.Kind != kind {
			continue
		}
		name := v.Name
		held, _ := c.extent(v.Word.Span())
		f := Finding{Name: name, Where: &held, What: v.What, Expected: v.Expected, Advice: v.Advice}
		g := given[v.Word.Name]
		switch {
		case kind == device.Hazard || kind == device.LastPort:
			f.Advice = source.Advice{AnyOf: c.accepting(name)}
		case kind == device.Undefined && v.Field == nil:
			// The bits that no field has, as delivered.
			defined := v.Word.Defined()
			f.Advice = patchWord("set them back", v.Word, g.Value&defined|v.Word.Default&^defined, held)
		}
		c.add(f)
	}
}

// patchWord returns the patch that sets a word, as far as the image gives it.
func patchWord(text string, w *device.Word, value uint64, held memory.Span) source.Advice {
	b := w.Bytes(value)
	return operationAdvice(text, "patch", source.Setting{Key: "at", Value: memory.FormatAddress(held.First)},
		source.Setting{Key: "bytes", Value: fmt.Sprintf("%X", b[held.First-w.At:held.Last-w.At+1])})
}

// bootSection holds the size that configuration gives a region against where
// its part really begins, and looks for the setting that fits.
func (c *checker) bootSection() {
	for i := range c.m.Config {
		w := &c.m.Config[i]
		for j := range w.Fields {
			f := &w.Fields[j]
			for _, name := range f.RegionsSet() {
				if r := c.m.Region(name); r != nil && r.Role == device.Bootloader {
					c.bootRegion(w, f, r)
				}
			}
		}
	}
}

// begins reports whether a part begins at an address: bytes with none before,
// bytes of another input than those before, or the start address.
func (c *checker) begins(at uint64) bool {
	m := c.part.Image
	if !m.Holds(at) {
		return false
	}
	if at == 0 || !m.Holds(at-1) || m.Start().Kind != memory.NoStart && m.Start().Address() == at {
		return true
	}
	before, _ := m.Origin(at - 1)
	here, _ := m.Origin(at)
	return before.Input != here.Input && here.Input.Counting != source.Operation && before.Input.Counting != source.Operation
}

func (c *checker) bootRegion(w *device.Word, f *device.Field, r *device.Region) {
	if c.begins(r.Span.First) || c.proven(r) || !c.part.Image.Holds(r.Span.First) && c.part.Image.Count(r.Span) == 0 {
		return
	}
	given := w.GivenIn(c.part.Image)
	for k := range f.Values {
		v := &f.Values[k]
		other := c.m.With(f, v.Value, c.part.Image).Region(r.Name)
		if other == nil || other.Span == r.Span || !c.begins(other.Span.First) {
			continue
		}
		meaning := fmt.Sprint(f.Of(given.Value))
		if now := f.Value(f.Of(given.Value)); now != nil {
			meaning = now.Meaning
		}
		value := given.Value&^f.Mask() | v.Value<<f.Low
		text := fmt.Sprintf("set %s to %s, or link the bootloader for %s", w.Name, w.Format(value), memory.FormatAddress(r.Span.First))
		var advice source.Advice
		if held, ok := c.extent(w.Span()); ok {
			advice = patchWord(text, w, value, held)
		} else {
			advice = operationAdvice(text, "patch", source.Setting{Key: "at", Value: memory.FormatAddress(w.At)},
				source.Setting{Key: "bytes", Value: fmt.Sprintf("%X", w.Bytes(value))}, source.Setting{Key: "grow"})
		}
		c.add(Finding{
			Name:   f.Name,
			Where:  &memory.Span{First: other.Span.First, Last: other.Span.First},
			Region: r.Name,
			What: fmt.Sprintf("the bootloader begins at %s, but %s (%s) makes the boot section begin at %s",
				memory.FormatAddress(other.Span.First), f.Name, meaning, memory.FormatAddress(r.Span.First)),
			Expected: fmt.Sprintf("%s = %s", f.Name, v.Meaning),
			Advice:   advice,
		})
		return
	}
}
