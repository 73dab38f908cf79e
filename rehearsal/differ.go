package rehearsal

import (
	"bytes"

	"mexalt/memory"
	"mexalt/rehearsal/chip"
)

// layDiffer lays out what an update over a slow link does: it erases and programs the
// sectors that do not hold what the image has in them, one after the other, and of
// memories that erase what they write the granules. What an earlier act has changed
// counts as another.
func layDiffer(l *steps, c *chip.Chip, i int, in, skip []memory.Span) error {
	changed := make([][]memory.Span, len(c.Banks))
	for k := range l.list {
		if s := &l.list[k]; s.changes() {
			if s.all {
				for n, b := range c.Banks {
					changed[n] = append(changed[n], b.Span)
				}
			} else {
				changed[s.n] = append(changed[s.n], s.span)
			}
		}
	}
	differs := func(n int, s memory.Span) bool {
		if len(memory.Intersect(memory.Union(changed[n]), []memory.Span{s})) > 0 {
			return true
		}
		for r := range l.image.In(s) {
			if !bytes.Equal(c.Peek(c.Banks[n], r.Span()), r.Data) {
				return true
			}
		}
		return false
	}
	held, err := l.units(c, i, in, skip)
	if err != nil {
		return err
	}
	full := &steps{plan: l.plan, image: l.image, link: l.link}
	for _, u := range held {
		into := full
		if differs(u.n, u.Span) {
			into = l
		}
		b := c.Banks[u.n]
		into.list = append(into.list, step{act: i, do: Erase, n: u.n, span: u.Span, time: eraseTime(b, u.Span)})
		for _, s := range l.wanted(b, memory.Intersect([]memory.Span{u.Span}, in), skip, b.GranuleOf) {
			into.pages(i, u.n, b, s)
		}
	}
	for n, b := range c.Banks {
		if b.HasSectors() {
			continue
		}
		for _, s := range l.wanted(b, in, skip, b.GranuleOf) {
			one := &steps{plan: l.plan, image: l.image, link: l.link}
			one.pages(i, n, b, s)
			for _, s := range one.list {
				if differs(n, s.span) {
					l.list = append(l.list, s)
				} else {
					full.list = append(full.list, s)
				}
			}
		}
	}
	for k := range full.list {
		l.spared = plus(l.spared, plus(full.list[k].link, full.list[k].time.Typical))
	}
	return nil
}
