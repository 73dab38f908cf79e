package report

import (
	"fmt"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/source"
	"mexalt/target"
)

// Served is what debuggers left of a simulated chip.
type Served struct {
	Map      *device.Map
	Image    string // that it should have
	Faults   []string
	Sessions []*target.Session
	Left     *rehearsal.Left
	// NoCut is the step in which the power was to be cut, and that was not reached; 0 is none.
	NoCut, Steps int
	// Kept is where the chip is kept, ReadBack where what it holds was written.
	Kept, ReadBack string
	Unread         *source.Problem // why the chip could not be read back
}

// SessionText says what a debugger did.
func SessionText(s *target.Session) string {
	text := ""
	if n := memory.SizeOf(s.Erased); n > 0 {
		text += "erased " + memory.FormatSize(n) + ", "
	}
	if s.Programmed > 0 {
		text += "programmed " + memory.FormatBytes(s.Programmed) + ", "
	}
	if s.Read > 0 {
		text += "read " + memory.FormatBytes(s.Read) + ", "
	}
	if s.Lost > 0 {
		text += fmt.Sprintf("wrote %s that were never programmed, ", memory.FormatBytes(s.Lost))
	}
	if n := len(s.Refused) + s.More; n > 0 {
		text += fmt.Sprintf("was refused %s, ", memory.FormatNumber(n, "time"))
	}
	return text + s.Ended
}

// Text prints it.
func (r *Served) Text(p *render.Printer) {
	p.Line("%s: %s, served to %s", p.Title(r.Map.Name), r.Image, memory.FormatNumber(len(r.Sessions), "debugger"))
	for _, f := range r.Faults {
		p.Line("  with the fault %s", p.Doubt(f))
	}
	if r.NoCut > 0 {
		p.Line("%s: it was to be cut in step %d, and %s was done", p.Doubt("the power did not fail"), r.NoCut,
			memory.FormatNumber(r.Steps, "step"))
	}
	for i, s := range r.Sessions {
		p.Hanging(fmt.Sprintf("  %d  ", i+1), "%s", SessionText(s))
		for _, why := range s.Refused {
			p.Hanging("       ", "refused %s", why)
		}
		if s.More > 0 {
			p.Line("       and %d more", s.More)
		}
	}
	l := r.Left
	if l.Compared.Same() {
		p.Line("%s: the chip holds every byte of %s, %s", p.Good("equal"), r.Image, memory.FormatBytes(l.Expects.Bytes()))
	} else {
		p.Line("%s: of %s, %s as it should be, %s otherwise", p.Bad("not as the image"), r.Image,
			memory.FormatBytes(l.Compared.Equal), memory.FormatBytes(l.Compared.Differ+l.Compared.OnlyFirst))
		for i := range l.Causes {
			p.Line("  %s %s", p.Doubt("likely:"), l.Causes[i].Says())
		}
		const most = 8
		var table [][]string
		for _, d := range l.Compared.Differences[:min(most, len(l.Compared.Differences))] {
			table = append(table, []string{
				d.Range(), memory.FormatCount(d.Bytes), ExcerptOf(l.Expects, d.Span), ExcerptOf(l.Found, d.Span), RegionsOf(r.Map, d.Span),
			})
		}
		p.Table([]string{"span", "differ", "expected", "found", "region"}, table, 2)
		if more := len(l.Compared.Differences) - most; more > 0 {
			p.Line("and %d more", more)
		}
	}
	switch {
	case l.NoStart:
		p.Line("the map does not say how the device starts")
	case l.Verdict.Outcome.Bad() || l.Verdict.Outcome != l.Expected:
		p.Hanging("after:  ", "%s (%s)", p.Bad(l.Verdict.Outcome.Text()), l.Verdict.Why())
	default:
		p.Hanging("after:  ", "%s (%s)", p.Good(l.Verdict.Outcome.Text()), l.Verdict.Why())
	}
	if r.Unread != nil {
		p.Line("%s: %s", p.Bad("not read back"), source.Message(r.Unread.What, r.Unread.Expected, r.Unread.Advice.Text))
	}
}

// ServedModel is what debuggers left of a simulated chip, for programs.
type ServedModel struct {
	Schema   string         `json:"schema"`
	Device   string         `json:"device"`
	Image    string         `json:"image"`
	Faults   []string       `json:"faults"`
	Sessions []SessionModel `json:"sessions"`
	NoCut    int            `json:"cutNotReached,omitempty"` // the step in which the power was to be cut
	Steps    int            `json:"steps"`                   // that changed something: sectors erased, pages programmed
	Equal    uint64         `json:"equal"`                   // bytes of the image that the chip holds
	Differ   uint64         `json:"differ"`                  // bytes that are otherwise, or missing
	After    *OutcomeModel  `json:"after,omitempty"`         // absent if the map does not describe how the device starts
	Good     bool           `json:"good"`                    // whether the chip holds every byte, and starts the image
	Chip     string         `json:"chip,omitempty"`
	ReadBack string         `json:"readBack,omitempty"`
	Unread   string         `json:"unread,omitempty"` // why the chip could not be read back
}

// SessionModel is what one debugger did.
type SessionModel struct {
	Erased     []Span   `json:"erased"`
	Programmed uint64   `json:"programmed"` // bytes
	Read       uint64   `json:"read"`       // bytes
	Dropped    uint64   `json:"dropped"`    // bytes that were written and never programmed
	Refused    []string `json:"refused"`    // the first of what was refused, and why
	More       int      `json:"more"`       // that were refused besides
	Ended      string   `json:"ended"`      // how it left
}

// Model makes the model for programs.
func (r *Served) Model() any {
	l := r.Left
	out := ServedModel{Schema: SchemaName("served"), Device: r.Map.Name, Image: r.Image, Faults: append([]string{}, r.Faults...),
		Sessions: []SessionModel{}, NoCut: r.NoCut, Steps: r.Steps, Equal: l.Compared.Equal,
		Differ: l.Compared.Differ + l.Compared.OnlyFirst, Good: l.Good(),
		Chip: r.Kept, ReadBack: r.ReadBack}
	for _, s := range r.Sessions {
		out.Sessions = append(out.Sessions,
			SessionModel{spansOf(s.Erased), s.Programmed, s.Read, s.Lost, append([]string{}, s.Refused...), s.More, s.Ended})
	}
	if !l.NoStart {
		after := outcomeModel(&l.Verdict)
		out.After = &after
	}
	if r.Unread != nil {
		out.Unread = r.Unread.What
	}
	return out
}
