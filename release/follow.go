package release

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/key"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/span"
)

// A step may move the bytes of inputs, drop them or change the regions that steps
// before it used. What names stand for follows, or means nothing any more.

// located is where an input's bytes are, after the steps so far.
type located struct {
	span  memory.Span
	delta uint64 // that was added to its addresses, modulo 2^64
	lost  string // why its name means nothing any more; "" is not so
	mixed bool   // its bytes lie between others: it is there, and has no span
}

// usedRegion is a region as a line of the release file used it.
type usedRegion struct {
	line   int
	region string
	memory.Span
}

// follow follows what a step did to the places of the inputs.
func (m *productBuilder) follow(s *step, op operation.Operation, before, after *memory.Image) {
	line := m.at(s.line)
	switch op := op.(type) {
	case *operation.Merge:
		if op.Lanes {
			why := "its bytes are interleaved with those of the other lanes since " + line
			for i := range m.places {
				m.places[i].lost, m.places[i].mixed = why, true
			}
			m.programs.Gone(why)
		}
	case *operation.Place:
		was, ok := before.Span()
		is, _ := after.Span()
		if delta := is.First - was.First; ok {
			for i := range m.places {
				w := &m.places[i]
				w.span.First, w.span.Last, w.delta = w.span.First+delta, w.span.Last+delta, w.delta+delta
			}
			m.programs.Move("", delta)
		}
	case *operation.Cut:
		m.followCut(after, line)
	case *operation.Convert:
		if len(op.In) > 0 {
			m.followCut(after, line)
		}
		if op.Swap > 1 {
			for i := range m.places {
				if w := &m.places[i]; w.span.First%op.Swap != 0 || (w.span.Last+1)%op.Swap != 0 {
					w.lost,
						w.mixed = fmt.Sprintf("its first or last bytes are mixed with others in words of %d bytes since %s", op.Swap,
						line), true
				}
			}
			m.programs.Swapped("", op.Swap, line)
		}
	}
	m.setNames()
}

// followAlone follows what a step did to the program of the one input that it works on.
func (m *productBuilder) followAlone(s *step, op operation.Operation, in *Used, after *memory.Image) {
	switch op := op.(type) {
	case *operation.Place:
		was, ok := in.Image.Span()
		is, _ := after.Span()
		if delta := is.First - was.First; ok && in.Program != nil {
			in.Program = in.Program.Moved(delta)
			m.programs.Move(s.of, delta)
		}
	case *operation.Convert:
		if op.Swap > 1 {
			m.programs.Swapped(s.of, op.Swap, m.at(s.line))
		}
	}
}

func (m *productBuilder) followCut(after *memory.Image, line string) {
	for i := range m.places {
		w := &m.places[i]
		if held, ok := after.Extent(w.span); w.lost != "" {
			continue
		} else if ok {
			w.span = held
		} else {
			w.lost = "nothing of it is left since " + line
		}
	}
}

// setNames makes the names of inputs stand for where their bytes are now.
func (m *productBuilder) setNames() {
	for i, p := range m.parts {
		switch w := &m.places[i]; {
		case w.lost != "":
			m.known.Lose("part."+p.Name, w.lost)
		case !p.Image.Empty():
			m.known.Set("part."+p.Name, w.span)
		}
	}
}

// regionsOf returns the regions that a step uses: that its keys name, in which it
// fills holes or over which it computes checksums.
func (m *productBuilder) regionsOf(s *step, op operation.Operation, o *operation.Outcome, before *memory.Image) (names []string) {
	add := func(name string) {
		if o.Map != nil && o.Map.Region(name) != nil && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, set := range s.list {
		k := key.Find(op.Keys(), set.key)
		if k == nil || !slices.Contains(placing, k.Value) {
			continue
		}
		if text, err := m.names.expand(set.value); err == nil {
			for _, name := range span.NamesIn(text) {
				add(name)
			}
		}
	}
	if o.Map == nil {
		return names
	}
	if fill, ok := op.(*operation.Fill); ok && len(fill.In) == 0 && !fill.Pages {
		for i := range o.Map.Regions {
			if r := &o.Map.Regions[i]; before.Count(r.Span) > 0 {
				add(r.Name)
			}
		}
	}
	if _, ok := op.(*operation.Seal); ok {
		for _, c := range o.Checksums {
			for _, in := range append(slices.Clone(c.Spans), *c.Stored) {
				for _, r := range o.Map.RegionsIn(in) {
					add(r.Name)
				}
			}
		}
	}
	return names
}

// placing are what stands in help for values that say where something is.
var placing = []string{"SPAN", "ADDRESS", "REGION", "N"}

// use remembers the regions that a line used, as they were.
func (m *productBuilder) use(line int, names []string) {
	if m.dev == nil {
		return
	}
	resolved, _ := m.dev.For(m.image)
	for _, name := range names {
		if r := resolved.Region(name); r != nil {
			m.uses = append(m.uses, usedRegion{line, name, r.Span})
		}
	}
}

// usedBefore tells of regions that an earlier line used and a step makes others.
func (m *productBuilder) usedBefore(s *step) {
	if m.dev == nil || len(m.uses) == 0 {
		return
	}
	resolved, _ := m.dev.For(m.image)
	told := map[string]bool{}
	for _, u := range m.uses {
		r := resolved.Region(u.region)
		if r == nil || r.Span == u.Span || told[u.region] {
			continue
		}
		told[u.region] = true
		m.problem(s.path, fmt.Sprintf("this step makes region %s %s, and line %d has used it as %s", u.region, r.Span.Range(), u.line,
			u.Span.Range()), fmt.Sprintf("this step before line %d", u.line), "")
	}
}

// namesOf returns the first words of the names in an expression: those of regions.
func namesOf(text string) (names []string) {
	for _, name := range span.NamesIn(text) {
		if !strings.Contains(name, ".") {
			names = append(names, name)
		}
	}
	return names
}
