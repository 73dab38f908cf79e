package operation

import (
	"mexalt/key"
	"mexalt/memory"
)

var convertKind = &Kind{
	Name: "convert", Usage: "FILE",
	Short: "change the format",
	Long: `
Reads an image and writes it in another format. If the format cannot express
something, that is an error (an address that is too wide, holes in raw bytes) or a
note (a start address, a header).

With ` + "`swap`" + `, the bytes in each word are reversed first; runs must begin and end with
complete words.

With ` + "`in`" + `, only the spans are written; a raw file then goes from the first address
of the spans to their last.

With ` + "`lenient`" + `, the intact lines of a damaged record file are written. Each damaged
line is reported and leaves a hole, and the status is 1.`,
	New: func() Operation { return &Convert{} },
}

// Convert takes part of an image, and swaps its bytes.
type Convert struct {
	In   []string
	Swap uint64 // bytes in a word; 0 and 1 swap nothing
}

// Keys returns the operation's keys.
func (op *Convert) Keys() []*key.Key {
	return []*key.Key{
		key.List(&op.In, "in", "SPAN", "take SPAN only; repeatable (image)"),
		SwapKey(&op.Swap, "reverse the bytes in words of N bytes, 1, 2, 4 or 8 (1)"),
	}
}

// SwapKey is the key that says in words of how many bytes these are reversed.
func SwapKey(into *uint64, doc string) *key.Key {
	return key.OneOf(into, []uint64{1, 2, 4, 8}, "swap", "N", doc)
}

// Check finds nothing wrong.
func (op *Convert) Check(bool) error { return nil }

// Apply takes part of an image and swaps its bytes. The outcome's part has the
// span that was asked for as its block.
func (op *Convert) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, names := e.begin(in.Image)
	out := in.Image
	part := memory.Part{Name: in.Name}
	if len(op.In) > 0 {
		where, err := o.spans("in", op.In, names)
		if err != nil {
			return nil, err
		}
		out = out.Cut(where...)
		o.noteLostStart(in.Image, out)
		where = memory.Union(where)
		part.Block = memory.Span{First: where[0].First, Last: where[len(where)-1].Last}
	}
	if op.Swap > 1 {
		var err error
		if out, err = out.Swap(op.Swap, e.input("swap")); err != nil {
			return nil, err
		}
	}
	part.Image = out
	o.Parts = []memory.Part{part}
	return o, nil
}
