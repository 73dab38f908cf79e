package report

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/survey"
)

// Costs is what it takes to make the second image of the first on a part.
type Costs struct {
	*rehearsal.Cost
	Guards []Guard // the declared checksums of the second image
	// Symbols are the functions and variables that are not as they were; nil where the
	// images are not both linked programs.
	Symbols  []survey.SymbolChange
	Programs bool
}

// Guard is where a declared checksum is stored.
type Guard struct {
	Name  string
	Place memory.Span
}

// Text says what an update costs, in a sentence.
func (c *Costs) Text() string {
	if c.Changed == 0 {
		return "nothing has to be written"
	}
	text := fmt.Sprintf("erase %s (%s), write %s (%s), for %s changed: %s, at most %s", memory.FormatNumber(c.Sectors, "sector"),
		memory.FormatBytes(c.Erased), memory.FormatNumber(c.Pages, "page"), memory.FormatBytes(c.Written), memory.FormatBytes(c.Changed),
		Duration(c.Typical), Duration(c.Most))
	if c.Link > 0 {
		text += fmt.Sprintf("; the link takes %s of it", Duration(c.Link))
	}
	if len(c.MissingTimes) > 0 {
		text += "; the map does not say how long it takes: " + strings.Join(c.MissingTimes, ", ")
	}
	return text
}

// Counts says how many symbols met which fate.
func (c *Costs) Counts() string {
	n := map[survey.Fate]int{}
	for _, s := range c.Symbols {
		n[s.Fate]++
	}
	var words []string
	for _, f := range []survey.Fate{survey.Grown, survey.Shrunk, survey.Fresh, survey.Gone, survey.Changed, survey.Moved} {
		if n[f] > 0 {
			words = append(words, fmt.Sprintf("%d %s", n[f], f))
		}
	}
	if len(words) == 0 {
		return "no function and no variable has changed"
	}
	return "functions and variables: " + strings.Join(words, ", ")
}

// why names what makes a place change: what grew there, and how much moved behind it.
func (c *Costs) why(p *rehearsal.Place) string {
	var causes []string
	var sizes []*survey.SymbolChange // those of another size, the greatest change first
	moved, changed := 0, 0
	for _, g := range c.Guards {
		switch _, here := g.Place.Meet(p.Changed); {
		case g.Place.Covers(p.Changed):
			causes = append(causes, "only "+g.Name+" changes here")
		case here:
			causes = append(causes, g.Name)
		}
	}
	for i := range c.Symbols {
		s := &c.Symbols[i]
		where := s.After
		if s.Fate == survey.Gone {
			where = s.Before
		}
		if _, here := where.Meet(p.Span); !here {
			continue
		}
		switch s.Fate {
		case survey.Moved:
			moved++
		case survey.Changed:
			changed++
		default:
			sizes = append(sizes, s)
		}
	}
	slices.SortStableFunc(sizes, func(a, b *survey.SymbolChange) int { return cmp.Compare(max(b.By(), -b.By()), max(a.By(), -a.By())) })
	for _, s := range sizes {
		if s.Fate == survey.Fresh || s.Fate == survey.Gone {
			causes = append(causes, fmt.Sprintf("%s is %s (%+d)", SymbolText(s.Name), s.Fate, s.By()))
		} else {
			causes = append(causes, fmt.Sprintf("%s has %s by %d", SymbolText(s.Name), s.Fate, max(s.By(), -s.By())))
		}
	}
	const few = 3
	if n := len(causes); n > few {
		causes = append(causes[:few], fmt.Sprintf("and %d more", n-few))
	}
	if moved > 0 {
		causes = append(causes, fmt.Sprintf("%d moved", moved))
	}
	if changed > 0 {
		causes = append(causes, fmt.Sprintf("%d changed in place", changed))
	}
	return strings.Join(causes, ", ")
}

const (
	mostPlaces  = 10 // that are told of
	mostSymbols = 20
)

// Rows are the places as rows of a table.
func (c *Costs) Rows(region func(memory.Span) string, most int) (rows [][]string) {
	for i := range c.Places[:min(len(c.Places), most)] {
		p := &c.Places[i]
		rows = append(
			rows,
			[]string{
				p.Range(),
				memory.FormatCount(p.Bytes),
				memory.FormatCount(p.Sectors),
				Duration(p.Typical),
				Percent(uint64(p.Typical), uint64(max(c.Typical, 1))),
				region(p.Span),
				c.why(p),
			},
		)
	}
	return rows
}

// SymbolRows are the symbols as rows of a table.
func (c *Costs) SymbolRows(most int) (rows [][]string) {
	for i := range c.Symbols[:min(len(c.Symbols), most)] {
		s := &c.Symbols[i]
		before, after := s.Before.Range(), s.After.Range()
		if s.Fate == survey.Fresh {
			before = ""
		}
		if s.Fate == survey.Gone {
			after = ""
		}
		by := ""
		if s.By() != 0 {
			by = Signed(s.By())
		}
		rows = append(rows, []string{SymbolText(s.Name), string(s.Fate), by, before, after})
	}
	return rows
}

func (c *Costs) tables(p *render.Printer, region func(memory.Span) string) {
	p.Printf("\n")
	p.Line("%s: %s", p.Title("what the update costs"), c.Text())
	if len(c.Places) > 0 {
		p.Printf("\n")
		p.Table([]string{"written", "bytes change", "sectors", "takes", "of all", "region", "because"}, c.Rows(region, mostPlaces), 2, 3,
			4, 5)
		if more := len(c.Places) - mostPlaces; more > 0 {
			p.Line("and %s more", memory.FormatCount(uint64(more)))
		}
	}
	if !c.Programs {
		return
	}
	p.Printf("\n")
	p.Line("%s", c.Counts())
	if len(c.Symbols) > 0 {
		p.Table([]string{"symbol", "fate", "by", "before", "after"}, c.SymbolRows(mostSymbols), 3)
		if more := len(c.Symbols) - mostSymbols; more > 0 {
			p.Line("and %s more", memory.FormatCount(uint64(more)))
		}
	}
}

// costModel is what an update costs, for programs. Times are in milliseconds.
type costModel struct {
	Sectors      uint64        `json:"sectors"` // to erase
	Erased       uint64        `json:"erased"`  // bytes in them
	Pages        uint64        `json:"pages"`   // to write
	Written      uint64        `json:"written"` // bytes
	Changed      uint64        `json:"changed"` // bytes that are not as they were
	Link         float64       `json:"link"`
	Typical      float64       `json:"typical"`
	Most         float64       `json:"most"`
	MissingTimes []string      `json:"untold,omitempty"` // steps for which the map gives no time
	Places       []placeModel  `json:"places"`           // the most costly first
	Symbols      []symbolModel `json:"symbols,omitempty"`
}

type placeModel struct {
	Span    Span    `json:"span"`
	Bytes   uint64  `json:"bytes"` // that change
	Sectors uint64  `json:"sectors"`
	Typical float64 `json:"typical"`
	Region  string  `json:"region,omitempty"`
	Because string  `json:"because,omitempty"`
}

type symbolModel struct {
	Name   string `json:"name"`
	Fate   string `json:"fate"` // grown, shrunk, changed, moved, new, gone
	By     int64  `json:"by"`   // bytes
	Before *Span  `json:"before,omitempty"`
	After  *Span  `json:"after,omitempty"`
}

func (c *Costs) model(region func(memory.Span) string) *costModel {
	out := &costModel{
		c.Sectors,
		c.Erased,
		c.Pages,
		c.Written,
		c.Changed,
		milliseconds(c.Link),
		milliseconds(c.Typical),
		milliseconds(c.Most),
		c.MissingTimes,
		[]placeModel{},
		nil,
	}
	for i := range c.Places {
		p := &c.Places[i]
		out.Places = append(out.Places, placeModel{spanOf(p.Span), p.Bytes, p.Sectors, milliseconds(p.Typical), region(p.Span), c.why(p)})
	}
	for i := range c.Symbols {
		s := &c.Symbols[i]
		m := symbolModel{Name: s.Name, Fate: string(s.Fate), By: s.By()}
		if s.Fate != survey.Fresh {
			before := spanOf(s.Before)
			m.Before = &before
		}
		if s.Fate != survey.Gone {
			after := spanOf(s.After)
			m.After = &after
		}
		out.Symbols = append(out.Symbols, m)
	}
	return out
}
