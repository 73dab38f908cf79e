package rehearsal

import (
	"errors"

	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// Symptom is what is seen at the bench of one fault.
type Symptom struct {
	Fault  string // as a rehearsal takes it
	Likely string // what that is at a bench
	Act    Do     // in which it shows; "" is in none
	What   string // what is seen
	Causes []string
	Starts Verdict // what the part starts then
	Known  bool    // the map says how the part starts
}

// SymptomsOf carries a plan out with each of the faults in turn, at a place in the middle
// of the image, and tells what of it is seen. The chip is left as it is.
func SymptomsOf(c *chip.Chip, p *Plan, image *memory.Image, o Options) (list []Symptom, err error) {
	l, err := layout(p, c, image, o.Baud)
	if err != nil {
		return nil, err
	}
	var pages []*step // that are programmed where sectors are erased
	for i := range l.list {
		if s := &l.list[i]; s.do == Program && c.Banks[s.n].HasSectors() {
			pages = append(pages, s)
		}
	}
	if len(pages) == 0 {
		return nil, errors.New("the plan programs no flash")
	}
	page := pages[len(pages)/2]
	middle := 0
	for i := range l.list {
		if l.list[i].span == page.span && l.list[i].do == Program {
			middle = i + 1
		}
	}
	b := c.Banks[page.n]
	at := page.span.First + page.span.Size()/2
	for _, k := range chip.Examples(at, b, middle) {
		one := c.Clone()
		var f chip.Faults
		if err := f.Add(k.Fault, c.Map); err != nil {
			return nil, err
		}
		if len(f.NoErase) > 0 { // what does not erase shows where something stood
			sector := b.SectorOf(at)
			was := make([]byte, min(sector.Size(), 64<<10))
			held, ok := memory.FromBytes(sector.First, was, &source.Input{Name: "before"})
			if ok {
				one.Program(held)
			}
		}
		one.SetFaults(f)
		run, err := Rehearse(one, p, image, o)
		if err != nil {
			return nil, err
		}
		s := Symptom{Fault: k.Fault, Likely: k.Likely, Starts: run.After, Known: !run.NoStart, What: "nothing: all acts are done"}
		if f := run.Failed; f != nil {
			s.Act, s.What = p.Acts[f.Act].Do, f.What
			for _, cause := range f.Causes {
				s.Causes = append(s.Causes, cause.Text)
			}
		}
		list = append(list, s)
	}
	return list, nil
}
