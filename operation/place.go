package operation

import (
	"strings"

	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

var placeKind = &Kind{
	Name: "place", Usage: "`at` ADDRESS | `shift` ±N | `into` REGION FILE",
	Short: "move an image",
	Long: `
Moves all bytes of an image: its first byte to an address, all bytes by a distance,
or its first byte to the first address of a region, where the image must fit. A
start address inside the image moves with it.`,
	New: func() Operation { return &Place{} },
}

// Place moves an image: one of its fields says where to.
type Place struct {
	At    string // where the first byte goes
	Shift string // by how much all go, up, or down with a minus
	Into  string // the region that the first byte begins
}

// Keys returns the operation's keys.
func (op *Place) Keys() []*key.Key {
	return []*key.Key{
		key.Text(&op.At, "at", "ADDRESS", "put the first byte at ADDRESS"),
		key.Text(&op.Shift, "shift", "N", "move up by N, or down by -N"),
		key.Text(&op.Into, "into", "REGION", "put it into a REGION of the device map"),
	}
}

// Check tells of keys that are missing or do not go together.
func (op *Place) Check(withMap bool) error {
	given := 0
	for _, text := range []string{op.At, op.Shift, op.Into} {
		if text != "" {
			given++
		}
	}
	if given != 1 {
		return source.Keyf("", "no place: give one of `at`, `shift` and `into`")
	}
	if op.Into != "" && !withMap {
		return source.Keyf("into", "names a region of a device map, and none is given")
	}
	return nil
}

// Apply moves an image.
func (op *Place) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, names := e.begin(in.Image)
	before, ok := in.Image.Span()
	if !ok {
		return nil, fileProblem(in.Name, "contains no bytes, so there is nothing to move")
	}
	placing := Placing{Kind: FirstAt}
	var err error
	switch {
	case op.At != "":
		placing.Value, err = o.address("at", op.At, names)
	case op.Shift != "":
		distance, down := strings.CutPrefix(op.Shift, "-")
		placing.Kind = Up
		if down {
			placing.Kind = Down
		}
		placing.Value, err = address("shift", strings.TrimPrefix(distance, "+"), names)
	default:
		r, err := o.Map.Find(op.Into)
		if err != nil {
			return nil, &source.KeyError{Key: "into", Err: err}
		}
		if before.Size() > r.Span.Size() {
			return nil, fileProblem(in.Name, "is %s long and does not fit into region %s, %s: %s too long",
				memory.FormatSize(before.Size()), r.Name, r.Span, memory.FormatBytes(before.Size()-r.Span.Size()))
		}
		placing.Value = r.Span.First
	}
	if err != nil {
		return nil, err
	}
	moved, err := placing.Apply(in.Image, e.input("place"))
	if err != nil {
		return nil, fileProblem(in.Name, "%s", err)
	}
	after, _ := moved.Span()
	o.changed("moved from %s to %s", e.Map.RangeText(before), e.Map.RangeText(after))
	o.Parts = []memory.Part{{Name: in.Name, Image: moved}}
	return o, nil
}
