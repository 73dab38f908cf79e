package operation

import (
	"fmt"
	"strings"

	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var mergeKind = &Kind{
	Name: "merge", Usage: "INPUT...", Several: true,
	Short: "merge several images into one",
	Long: `
Merges the inputs into one image. Two bytes for the same address clash; ` + "`clash`" + ` says
what happens then:

  stop   every clash is an error that names both origins (the default)
  agree  equal bytes are allowed; different bytes are an error
  first  keep the bytes of the input named first; a note lists what they replace
  last   keep the bytes of the input named last; a note lists what they replace

With ` + "`lanes`" + `, the inputs are interleaved, as for memory chips side by side on a wide
bus: the first input supplies the first word of each group, and so on. This reverses
a split by lanes.

One start address is kept. If the inputs have different ones, the start in the
device map decides. If there is no map, or the map's start is not one of them, give
it with ` + "`start`" + `: an input FILE, an ADDRESS, or none.`,
	New: func() Operation { return &Merge{Clash: "stop", LaneWidth: 1} },
}

// Merge lays several images together into one.
type Merge struct {
	Clash     string // stop, agree, first or last
	Start     string // an input's name, an address, or none; "" is what the inputs agree on
	Lanes     bool   // put together as the lanes of a wide bus
	LaneWidth uint64 // bytes in a word of a lane
}

// Keys returns the operation's keys.
func (op *Merge) Keys() []*key.Key {
	return []*key.Key{
		key.Word(&op.Clash, []string{"stop", "agree", "first", "last"}, "clash", "RULE",
			"where inputs clash: RULE stop, agree, first or last (stop)"),
		key.Text(&op.Start, "start", "FILE", "the start address: that of a FILE named as input, an address, or none"),
		key.Switch(&op.Lanes, "lanes", "put the inputs together as the lanes of a wide bus"),
		laneWidthKey(&op.LaneWidth),
	}
}

func laneWidthKey(into *uint64) *key.Key {
	return key.OneOf(into, []uint64{1, 2, 4}, "lane-width", "N", "lanes: words of N bytes, 1, 2 or 4 (1)")
}

// Check tells of keys that do not go together.
func (op *Merge) Check(bool) error {
	if !op.Lanes && op.LaneWidth != 1 {
		return source.Keyf("lane-width", "has no effect without `lanes`")
	}
	if op.Lanes && op.Clash != "stop" {
		return source.Keyf("clash", "has no effect on lanes, which never clash")
	}
	return nil
}

// Apply merges images.
func (op *Merge) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	list := make([]*memory.Image, len(images))
	for i, p := range images {
		list[i] = p.Image
	}
	var merged *memory.Image
	var notes []string
	if op.Lanes {
		var err error
		if merged, err = memory.JoinLanes(list, op.LaneWidth, e.input("merge")); err != nil {
			return nil, err
		}
		for i, m := range list {
			if a, b := list[0].Bytes(), m.Bytes(); a != b {
				notes = append(notes,
					fmt.Sprintf("the lanes are not equally long: %s has %s, %s has %s", images[0].Name, memory.FormatBytes(a),
						images[i].Name, memory.FormatBytes(b)))
			}
			a, b := list[0].Runs(), m.Runs()
			if len(a) > 0 && len(b) > 0 && a[0].First != b[0].First {
				notes = append(notes, fmt.Sprintf("the lanes begin at different addresses: %s at %s, %s at %s", images[0].Name,
					memory.FormatAddress(a[0].First), images[i].Name, memory.FormatAddress(b[0].First)))
			}
		}
	} else {
		policy := memory.First
		if op.Clash == "last" {
			policy = memory.Last
		}
		var clashes *memory.Clashes
		merged, clashes = memory.Merge(list, policy)
		var err error
		if notes, err = op.clashes(clashes); err != nil {
			return nil, err
		}
	}
	o, names := e.begin(merged)
	o.Notes = append(o.Notes, notes...)
	start, err := op.start(o, images, merged, names)
	if err != nil {
		return nil, err
	}
	merged = merged.WithStart(start)
	o.Parts = []memory.Part{{Name: images[0].Name, Image: merged}}
	return o, nil
}

// ClashError says where inputs give the same address a byte.
type ClashError struct {
	Problems []*source.Problem // the first of them
	More     int
}

func (e *ClashError) Error() string {
	var lines []string
	for _, p := range e.Problems {
		lines = append(lines, p.Error())
	}
	if e.More > 0 {
		lines = append(lines, fmt.Sprintf("and %d more clashes", e.More))
	}
	return strings.Join(lines, "\n")
}

// clashes tells what clashed, as an error unless the rule lets it pass.
func (op *Merge) clashes(c *memory.Clashes) (notes []string, err error) {
	const most = 20
	failed := &ClashError{}
	for _, cl := range c.List {
		early, late := cl.Earlier()
		differ := cl.Comparison()
		switch {
		case op.Clash == "first" || op.Clash == "last":
			notes = append(notes, fmt.Sprintf("%s covers %s over %s; %s", cl.Kept, cl.Other, cl.Span, differ))
		case op.Clash == "agree" && cl.Differ == 0:
		default:
			p := problem(late, "clashes with %s over %s; %s", early, cl.Span, differ)
			p.Advice = source.Advice{
				Text:  "move one, or choose",
				AnyOf: []source.Setting{{Key: "clash", Value: "first"}, {Key: "clash", Value: "last"}},
			}
			if cl.Differ == 0 {
				p.Advice.AnyOf = []source.Setting{{Key: "clash", Value: "agree"}}
			}
			failed.Problems = append(failed.Problems, p)
		}
	}
	bad := c.Count
	if op.Clash == "agree" {
		bad = c.Differing
	}
	switch {
	case op.Clash == "first" || op.Clash == "last":
		if more := c.Count - most; more > 0 {
			notes = append(notes[:most], fmt.Sprintf("and %s more stretches are covered", memory.FormatCount(uint64(more))))
		}
		return notes, nil
	case bad == 0:
		return nil, nil
	}
	if len(failed.Problems) > most {
		failed.Problems = failed.Problems[:most]
	}
	failed.More = bad - len(failed.Problems)
	return nil, failed
}

// start returns the start address of the merged image.
func (op *Merge) start(o *Outcome, images []memory.Part, merged *memory.Image, names span.Names) (memory.Start, error) {
	switch {
	case op.Start == "none" || op.Lanes && op.Start == "":
		return memory.Start{}, nil
	case op.Start != "":
		for _, p := range images {
			if p.Name == op.Start {
				if p.Image.Start().Kind == memory.NoStart {
					return memory.Start{}, source.Keyf("start", "%s has no start address", p.Name)
				}
				return p.Image.Start(), nil
			}
		}
		a, err := span.Address(op.Start, names)
		if err != nil {
			return memory.Start{}, source.Keyf("start", "the name of an input, an address or none is needed: %w", err)
		}
		return memory.Start{Kind: memory.LinearStart, Value: a}, nil
	}
	type given struct {
		start memory.Start
		name  string
	}
	var starts []given
	for _, p := range images {
		is := p.Image.Start()
		known := is.Kind == memory.NoStart
		for _, g := range starts {
			known = known || g.start == is
		}
		if !known {
			starts = append(starts, given{is, p.Name})
		}
	}
	switch len(starts) {
	case 0:
		return memory.Start{}, nil
	case 1:
		return starts[0].start, nil
	}
	if o.Map != nil {
		for _, a := range o.Map.StartAddresses(merged) {
			for _, g := range starts {
				if g.start.Address() == a {
					o.note("the start address %s of %s is kept, as the map says; the others are left out", memory.FormatAddress(a), g.name)
					return g.start, nil
				}
			}
		}
	}
	a, b := starts[0], starts[1]
	p := fileProblem(b.name, "start address %s differs from that of %s, %s", memory.FormatAddress(b.start.Address()), a.name,
		memory.FormatAddress(a.start.Address()))
	p.Expected = "one for the image"
	p.Advice.AnyOf = []source.Setting{
		{Key: "start", Value: a.name},
		{Key: "start", Value: b.name},
		{Key: "start", Value: "ADDRESS"},
		{Key: "start", Value: "none"},
	}
	return memory.Start{}, p
}
