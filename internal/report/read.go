package report

import (
	"fmt"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/target"
)

// PartRead is what was read of a running device.
type PartRead struct {
	Address      string
	Map          *device.Map // nil is none
	Architecture string      // of the core, as the server describes it; "" is not said
	Identity     target.Identity
	Reading      *target.Reading
	// Compared is what it was held against; nil is nothing.
	Compared *Compared
	// Missing is what of the expected image was not compared: the device could not be asked
	// for it.
	Missing     []memory.Span
	Outside     []memory.Span // asked for, and not in the server's memory map
	Reconnected int
	Left        string // how the device was left
	Outputs     []Output
}

// Compare holds what was read against an image, where that was to be compared.
func (r *PartRead) Compare(expected memory.Part, asked []memory.Span, w source.Wording) {
	var read []memory.Span
	for _, run := range r.Reading.Image.Runs() {
		read = append(read, run.Span())
	}
	where := memory.Intersect(asked, read)
	if !r.Reading.Ended {
		for _, run := range expected.Image.Cut(memory.Without(asked, read)...).Runs() {
			r.Missing = append(r.Missing, run.Span())
		}
	}
	var hole *byte
	if r.Map != nil && len(where) > 0 {
		erased := r.Map.ErasedAt(where[0].First)
		hole = &erased
	}
	found := memory.Part{Name: r.Address, Image: r.Reading.Image.Cut(where...)}
	r.Compared = Compare(memory.Part{Name: expected.Name, Image: expected.Image.Cut(where...)}, found, r.Map, hole, where)
	r.Compared.Wording = w
}

// Same reports whether all that was expected is in the device.
func (r *PartRead) Same() bool {
	return r.Compared != nil && r.Compared.Same() && len(r.Missing) == 0
}

// Text prints it.
func (r *PartRead) Text(p *render.Printer) {
	row := func(name, format string, args ...any) { p.Hanging(fmt.Sprintf("  %-11s ", name), format, args...) }
	p.Line("%s", p.Title(r.Address))
	if r.Architecture != "" {
		row("core", "%s, as the server describes it", r.Architecture)
	}
	if r.Map != nil {
		row("identity", "%s", r.Identity.Text(r.Map))
	}
	for _, s := range memory.Without(r.Reading.Asked, r.Reading.Unreadable) {
		if n := r.Reading.Image.Count(s); n > 0 {
			where := RegionsOf(r.Map, s)
			if where != "" {
				where = ", " + where
			}
			row("read", "%s%s", s, where)
		}
	}
	for _, s := range r.Reading.Unreadable {
		row("unreadable", "%s", p.Doubt(s.String()))
	}
	for _, s := range r.Outside {
		row("not read", "%s, which is not in the server's memory map", s)
	}
	switch {
	case r.Reading.Ended:
		row("proof", "reading ended at the first difference")
	case r.Reading.CRC:
		row("proof", "the target's own CRC of these bytes agrees")
	case r.Reading.NoCRC:
		row("proof", "only that the bytes came so; the server computes no CRC of its own")
	case r.Reading.Image.Bytes() > 0:
		row("proof", "only that the bytes came so; the link was lost when the server's own CRC was asked for")
	}
	for _, d := range r.Reading.Doubts {
		row("doubt", "%s", p.Doubt(d))
	}
	if r.Reconnected > 0 {
		row("link", "lost, and connected %s more", memory.FormatNumber(r.Reconnected, "time"))
	}
	row("left", "%s", r.Left)
	if r.Compared != nil {
		p.Printf("\n")
		r.Compared.Text(p)
		for _, s := range r.Missing {
			p.Line("%s", p.Bad("not compared: "+s.String()+" could not be read"))
		}
	}
}

// ReadModel is what was read of a running device, for programs.
type ReadModel struct {
	Schema       string        `json:"schema"`
	Target       string        `json:"target"`                 // HOST:PORT
	Architecture string        `json:"architecture,omitempty"` // of the core, as the server describes it
	Identity     string        `json:"identity,omitempty"`     // the bytes that the device answered, in hex digits
	Known        bool          `json:"identified"`             // whether the device said that it is what the map says
	Asked        []Span        `json:"asked"`
	Unreadable   []Span        `json:"unreadable"`
	Outside      []Span        `json:"outside"` // asked for, and not in the server's memory map
	Bytes        uint64        `json:"bytes"`   // that were read
	Ended        bool          `json:"ended"`   // whether reading ended at the first difference
	CRC          bool          `json:"crc"`     // whether the target's own CRC of the bytes agrees
	Doubts       []string      `json:"doubts"`  // what may be no memory's contents
	Left         string        `json:"left"`    // how the device was left
	Missing      []Span        `json:"missing"` // expected, and not compared
	Outputs      []ImageModel  `json:"outputs"`
	Compared     *compareModel `json:"compared,omitempty"`
}

// Model makes the model for programs.
func (r *PartRead) Model() any {
	out := ReadModel{
		Schema: SchemaName("read"), Target: r.Address, Architecture: r.Architecture, Known: r.Identity.Is,
		Asked: spansOf(r.Reading.Asked), Unreadable: spansOf(r.Reading.Unreadable), Missing: spansOf(r.Missing),
		Outside: spansOf(r.Outside),
		Bytes:   r.Reading.Image.Bytes(), Ended: r.Reading.Ended, CRC: r.Reading.CRC,
		Doubts: append([]string{}, r.Reading.Doubts...), Left: r.Left, Outputs: outputModels(r.Outputs),
	}
	if r.Identity.Answer != nil {
		out.Identity = fmt.Sprintf("% X", r.Identity.Answer)
	}
	if r.Compared != nil {
		model := r.Compared.Model().(compareModel)
		out.Compared = &model
	}
	return out
}

func spansOf(list []memory.Span) []Span {
	out := []Span{}
	for _, s := range list {
		out = append(out, spanOf(s))
	}
	return out
}
