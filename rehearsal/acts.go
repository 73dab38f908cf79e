package rehearsal

import (
	"bytes"
	"fmt"
	"slices"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// Do is what an act does.
type Do string

// The acts.
const (
	Identify   Do = "identify"
	BlankCheck Do = "blank-check"
	Erase      Do = "erase"
	Void       Do = "void"
	Program    Do = "program"
	Differ     Do = "differ"
	Verify     Do = "verify"
	Words      Do = "words"
	Lock       Do = "lock"
	ResetPart  Do = "reset"
	StartPart  Do = "start"
)

// actKind is a kind of act: one row of [allActs].
type actKind struct {
	do      Do
	spans   bool   // it takes spans, and what is left out of them
	needs   string // of what it needs spans; "" is that it does not
	whats   bool   // it takes what is erased
	ordered bool   // it takes an order
	sets    bool   // it takes what words are given
	noun    string // what it does one by one; "" is nothing
	// lay lays its steps out.
	lay func(l *steps, c *chip.Chip, i int, in, skip []memory.Span) error
	// carry does one of its steps; nil changes the cells as the step says.
	carry func(c *chip.Chip, s *step, v *verifying) *Failure
	// said is what it found, once it is done.
	said func(c *chip.Chip) string
}

func word(text string) func(*chip.Chip) string { return func(*chip.Chip) string { return text } }

// allActs are all acts, in the order in which they are told. It is filled once: rows and
// what lays them out name each other.
var allActs []actKind

func init() {
	allActs = []actKind{
		{do: Identify, lay: layIdentify, carry: identify, said: saysIdentity},
		{
			do:    BlankCheck,
			spans: true,
			noun:  "sector",
			lay:   layBlankCheck,
			carry: func(c *chip.Chip, s *step, _ *verifying) *Failure { return blankCheck(c, s) },
			said:  word("blank"),
		},
		{do: Erase, spans: true, whats: true, ordered: true, noun: "sector", lay: layErase, said: word("erased")},
		{do: Void, spans: true, needs: "what it makes void", noun: "write", lay: layVoid, said: word("void")},
		{do: Program, spans: true, ordered: true, noun: "page", lay: (*steps).program, said: word("programmed")},
		{do: Differ, spans: true, noun: "piece", lay: layDiffer, said: word("written where it differed")},
		{
			do:    Verify,
			spans: true,
			lay:   layVerify,
			carry: func(c *chip.Chip, s *step, v *verifying) *Failure { v.read(c, s); return nil },
			said:  word("equal"),
		},
		{do: Words, sets: true, noun: "word", lay: layWords(Words), said: word("written")},
		{do: Lock, noun: "word", lay: layWords(Lock), said: word("written")},
		{do: ResetPart, lay: layStep(ResetPart), carry: restart, said: word("configuration in effect")},
		{do: StartPart, lay: layStep(StartPart), carry: restart, said: word("")},
	}
}

// kindOf returns the kind of an act; nil is that there is none.
func kindOf(do Do) *actKind {
	for i := range allActs { // by place, as a sweep asks for millions
		if allActs[i].do == do {
			return &allActs[i]
		}
	}
	return nil
}

// actWords returns the words of the acts that have something; nil is of all.
func actWords(has func(*actKind) bool) (list []string) {
	for i := range allActs {
		if has == nil || has(&allActs[i]) {
			list = append(list, string(allActs[i].do))
		}
	}
	return list
}

// Noun is what an act does one by one: sector, page, word; "" is nothing.
func (d Do) Noun() string { return kindOf(d).noun }

func layStep(do Do) func(*steps, *chip.Chip, int, []memory.Span, []memory.Span) error {
	return func(l *steps, _ *chip.Chip, i int, _, _ []memory.Span) error {
		l.list = append(l.list, step{act: i, do: do})
		return nil
	}
}

func layIdentify(l *steps, c *chip.Chip, i int, _, _ []memory.Span) error {
	s := step{act: i, do: Identify}
	if n := len(c.Answers()); n > 0 {
		s.link = l.linkTime(uint64(n))
	}
	l.list = append(l.list, s)
	return nil
}

func layErase(l *steps, c *chip.Chip, i int, in, skip []memory.Span) error {
	if l.plan.Acts[i].What == "chip" {
		l.eraseChip(c, i)
		return nil
	}
	held, err := l.units(c, i, in, skip)
	for _, u := range held {
		l.list = append(l.list, step{act: i, do: Erase, n: u.n, span: u.Span, time: eraseTime(c.Banks[u.n], u.Span)})
	}
	return err
}

func layBlankCheck(l *steps, c *chip.Chip, i int, in, skip []memory.Span) error {
	held, err := l.units(c, i, in, skip)
	for _, u := range held {
		l.list = append(l.list, step{act: i, do: BlankCheck, n: u.n, span: u.Span, link: l.readTime(u.Size())})
	}
	return err
}

func layVerify(l *steps, c *chip.Chip, i int, in, skip []memory.Span) error {
	for n, b := range c.Banks {
		for _, s := range l.wanted(b, in, skip, b.GranuleOf) {
			for r := range l.image.In(s) {
				l.list = append(l.list, step{act: i, do: Verify, n: n, span: r.Span(), data: r.Data, link: l.readTime(uint64(len(r.Data)))})
			}
		}
	}
	return nil
}

func layWords(do Do) func(*steps, *chip.Chip, int, []memory.Span, []memory.Span) error {
	return func(l *steps, c *chip.Chip, i int, _, _ []memory.Span) error {
		return l.config(c, i, do)
	}
}

func identify(c *chip.Chip, _ *step, _ *verifying) *Failure {
	if answer := c.Answers(); answer != nil && !identityIs(c.Map, answer) {
		return &Failure{
			What:     fmt.Sprintf("the device identifies itself as % X", answer),
			Expected: c.Map.Identities[0].String(),
			Advice:   source.Advise("another device is connected, or the map is for another device"),
			Answer:   answer,
		}
	}
	return nil
}

func saysIdentity(c *chip.Chip) string {
	if answer := c.Answers(); answer != nil {
		return fmt.Sprintf("% X", answer)
	}
	return "the map gives none"
}

func restart(c *chip.Chip, _ *step, _ *verifying) *Failure {
	c.Reset()
	return nil
}

// layVoid lays out what makes stored values fail for certain: all of their bits are
// programmed, and no other bit is.
func layVoid(l *steps, c *chip.Chip, i int, in, skip []memory.Span) error {
	for n, b := range c.Banks {
		if b.Kind == device.Config {
			continue
		}
		for _, s := range memory.Without(memory.Intersect(memory.Union(in), []memory.Span{b.Span}), skip) {
			for at := s.First; ; {
				one, _ := b.PageOf(at).Meet(s)
				data := bytes.Repeat([]byte{^b.Erased}, int(one.Size()))
				l.list = append(l.list, step{act: i, do: Void, n: n, span: one, data: data, time: b.Program, link: l.linkTime(one.Size())})
				if one.Last >= s.Last || len(l.list) > mostSteps {
					break
				}
				at = one.Last + 1
			}
		}
	}
	return nil
}

// identityIs reports whether an answer is one of the map's identities.
func identityIs(m *device.Map, answer []byte) bool {
	return slices.ContainsFunc(m.Identities, func(d device.Identity) bool { return d.Is(answer) })
}
