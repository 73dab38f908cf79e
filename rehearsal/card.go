package rehearsal

import (
	"context"
	"errors"

	"mexalt/diagnosis"
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
	Starts Verdict // what the device starts then
	Known  bool    // the map says how the device starts
}

// middleOf returns the page nearest to the middle in which a fault shows, and where: one
// byte there is not erased, and its neighbour another. Where no page is such, it is the one
// in the middle.
func middleOf(c *chip.Chip, pages []*step) (page *step, at uint64) {
	for k := range len(pages) {
		page := pages[len(pages)/2+(k+1)/2*(1-2*(k%2))] // the middle one, that before it, that behind it, and so on
		half := len(page.data) / 2
		for at := half; at+1 < len(page.data); at++ {
			if page.data[at] != c.Banks[page.n].Erased && page.data[at] != page.data[at+1] {
				return page, page.span.First + uint64(at)
			}
		}
	}
	page = pages[len(pages)/2]
	return page, page.span.First + page.span.Size()/2
}

// SymptomsOf carries a plan out with each of the faults in turn, at a place in the middle
// of the image, and tells what of it is seen. The chip is left as it is.
func SymptomsOf(ctx context.Context, c *chip.Chip, p *Plan, image *memory.Image, o Options) (list []Symptom, err error) {
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
	page, at := middleOf(c, pages)
	middle := 0
	for i := range l.list {
		if l.list[i].span == page.span && l.list[i].do == Program {
			middle = i + 1
		}
	}
	b := c.Banks[page.n]
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
		run, err := Rehearse(ctx, one, p, image, o)
		if err != nil {
			return nil, err
		}
		s := Symptom{Fault: k.Fault, Likely: k.Likely, Starts: run.After, Known: !run.NoStart, What: "nothing: all steps are done"}
		if f := run.Failed; f != nil {
			s.Act, s.What = p.Acts[f.Act].Do, f.What
			if f.Compared != nil { // what the bytes look like; where they lie is the fault's own
				causes := diagnosis.Of(f.Expects, f.Found, diagnosis.Options{Erased: c.Map.ErasedAt(f.Where.First)}).Causes
				for i := range causes {
					s.Causes = append(s.Causes, causes[i].Says())
				}
			}
		}
		list = append(list, s)
	}
	return list, nil
}
