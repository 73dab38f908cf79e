package rehearsal

import (
	"fmt"
	"slices"
	"time"

	"mexalt/diagnosis"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
	"mexalt/survey"
)

// Manual is a chip that is programmed from outside, step by step and by no plan: by a
// debugger, say. It refuses what a chip refuses a programmer, and has its power cut.
type Manual struct {
	Chip *chip.Chip
	// Each is told of each step that changes something, and how long it takes; nil is not.
	Each func(takes time.Duration)
	// Steps is how many steps changed something, or were to.
	Steps int
	// PowerFailed reports whether the power was cut. Nothing is done from then on.
	PowerFailed bool

	before *chip.Chip
	steps  *steps
}

// NewManual takes a chip as it is now.
func NewManual(c *chip.Chip) *Manual {
	return &Manual{Chip: c, before: c.Clone(), steps: &steps{plan: &Plan{By: Programmer}, device: c.State.Resolved}}
}

// PowerOn starts the chip anew, after its power was cut or whoever programmed it has left.
func (m *Manual) PowerOn() {
	m.PowerFailed = false
	m.Chip.Reset()
}

// bank returns the memory in which all of a span lies; nil is that there is none.
func (m *Manual) bank(s memory.Span) (n int, b *chip.Bank) {
	n = slices.IndexFunc(m.Chip.Banks, func(b *chip.Bank) bool { return b.Span.Covers(s) })
	if n < 0 {
		return n, nil
	}
	return n, m.Chip.Banks[n]
}

// do carries a step out; here is whether the power is to be cut in it.
func (m *Manual) do(s step) *Failure {
	s.time.Typical = min(s.time.Typical, longest)
	if f := refuses(m.Chip, m.steps, &s); f != nil {
		return f
	}
	m.Steps++
	if m.Each != nil {
		m.Each(s.time.Typical)
	}
	cut := m.Chip.Faults.Cut
	here := cut != nil && cut.Act == m.Steps
	failed := func() *Failure {
		m.PowerFailed = true
		return powerFailed(&s, m.Steps-1)
	}
	switch {
	case here && cut.When == chip.Before:
		return failed()
	case here && cut.When == chip.Within:
		cutWithin(m.Chip, &s, m.Steps-1, cut.Reading)
		return failed()
	}
	f := carryOut(m.Chip, m.steps, &s, nil)
	if f == nil && here {
		f = failed()
	}
	return f
}

// Erase erases sectors, each a step; the span is whole sectors, or pages where a memory has
// none.
func (m *Manual) Erase(s memory.Span) *Failure {
	n, b := m.bank(s)
	if b == nil || b.SectorOf(s.First).First != s.First || b.SectorOf(s.Last).Last != s.Last {
		return &Failure{Where: &s, What: fmt.Sprintf("refused: %s is not whole sectors of a memory that is erased", s.Range()),
			Expected: "whole sectors", Advice: source.Advise("see the sizes in the device map")}
	}
	for at := s.First; ; {
		one := b.SectorOf(at)
		if f := m.do(step{do: Erase, n: n, span: one, time: eraseTime(b, one)}); f != nil {
			return f
		}
		if one.Last == s.Last {
			return nil
		}
		at = one.Last + 1
	}
}

// Program programs an image, page by page, each a step. What the image leaves out of a granule
// is programmed as erased.
func (m *Manual) Program(image *memory.Image) *Failure {
	for _, r := range image.Runs() {
		if _, b := m.bank(r.Span()); b == nil {
			return &Failure{What: fmt.Sprintf("refused: %s is in no memory that is programmed", r.Span().Range()),
				Expected: "addresses of the device map"}
		}
	}
	for n, b := range m.Chip.Banks {
		for _, used := range image.Cut(b.Span).UsedPages(b.GranuleSize, b.Span.First) {
			for at := used.First; ; {
				page := b.PageOf(at)
				one := memory.Span{First: at, Last: min(page.Last, used.Last, b.Span.Last)}
				data := make([]byte, one.Size())
				for i := range data {
					data[i] = b.Erased
				}
				for r := range image.In(one) {
					copy(data[r.First-one.First:], r.Data)
				}
				if f := m.do(step{do: Program, n: n, span: one, data: data, time: b.Program}); f != nil {
					return f
				}
				if one.Last >= min(used.Last, b.Span.Last) {
					break
				}
				at = one.Last + 1
			}
		}
	}
	return nil
}

// Read reads a span of one memory, as over a link.
func (m *Manual) Read(s memory.Span) ([]byte, *Failure) {
	_, b := m.bank(s)
	if b == nil {
		return nil, &Failure{Where: &s, What: fmt.Sprintf("refused: %s is in no memory", s.Range()),
			Expected: "addresses of the device map"}
	}
	if f := refuses(m.Chip, m.steps, &step{do: Verify, span: s}); f != nil {
		return nil, f
	}
	if b.Torn() {
		m.Chip.DrawUndefined()
	}
	return m.Chip.Read(s), nil
}

// Left is what a chip is when whoever programmed it has left.
type Left struct {
	Verdict  Verdict
	NoStart  bool // the map does not say how the device starts, so the verdict says nothing
	Expected Outcome
	// Compared is what the chip holds against the image; Causes is why it differs.
	Compared       *survey.Comparison
	Causes         []diagnosis.Cause
	Expects, Found *memory.Image
}

// Good reports whether the chip holds every byte of the image, and starts it.
func (l *Left) Good() bool {
	return l.Compared.Same() && (l.NoStart || l.Verdict.Outcome == l.Expected && !l.Verdict.Outcome.Bad())
}

// Judge starts the chip, and tells what it is by an image that it should have.
func (m *Manual) Judge(image *memory.Image) *Left {
	c := m.Chip
	m.PowerOn()
	after := m.before.Clone()
	after.Faults = chip.Faults{}
	after.Program(image)
	l := &steps{plan: m.steps.plan, image: image, device: after.State.Resolved}
	left := &Left{NoStart: len(c.Map.Starts) == 0}
	var found []memory.Run
	for n, b := range c.Banks {
		for r := range image.In(b.Span) {
			l.list = append(l.list, step{do: Program, n: n, span: r.Span(), data: r.Data})
			found = append(found, memory.Run{First: r.First, Data: c.Peek(b, r.Span())})
		}
	}
	j := newJudge(m.before.Clone(), after, l)
	left.Expected = j.judge(after).Outcome
	left.Verdict = j.judge(c)
	left.Expects, left.Found = image, memory.View(found, chip.Origin)
	left.Compared = survey.Compare(image, left.Found, nil)
	if !left.Compared.Same() {
		at := left.Compared.Differences[0].First
		left.Causes = diagnosis.Of(image, left.Found, diagnosis.Options{Erased: c.Map.ErasedAt(at)}).Causes
		if c.BankAt(at) != nil {
			left.Causes = append(left.Causes,
				(&verifying{}).placed(c, &Failure{Compared: left.Compared, Expects: image, Found: left.Found})...)
		}
	}
	return left
}
