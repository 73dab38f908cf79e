package operation

import (
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

var cutKind = &Kind{
	Name: "cut", Usage: "`keep` SPAN | `drop` SPAN FILE",
	Short: "keep or drop spans",
	Long: `
Keeps only the bytes in the spans given with ` + "`keep`" + `, without those in the spans
given with ` + "`drop`" + `. Both are repeatable.`,
	New: func() Operation { return &Cut{} },
}

// Cut keeps or drops spans of an image.
type Cut struct {
	Keep []string // nil is everything
	Drop []string
}

// Keys returns the operation's keys.
func (op *Cut) Keys() []*key.Key {
	return []*key.Key{
		key.List(&op.Keep, "keep", "SPAN", "keep what is in SPAN; repeatable"),
		key.List(&op.Drop, "drop", "SPAN", "drop what is in SPAN; repeatable"),
	}
}

// Check tells where nothing is to be cut.
func (op *Cut) Check(bool) error {
	if len(op.Keep)+len(op.Drop) == 0 {
		return source.Keyf("", "nothing to cut: `keep` or `drop` a SPAN")
	}
	return nil
}

// Apply cuts an image.
func (op *Cut) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, names := e.begin(in.Image)
	kept, err := o.spans("keep", op.Keep, names)
	if err != nil {
		return nil, err
	}
	dropped, err := o.spans("drop", op.Drop, names)
	if err != nil {
		return nil, err
	}
	for i, s := range kept {
		if in.Image.Count(s) == 0 {
			o.note("the image contains no bytes in %s, which is to be kept", op.Keep[i])
		}
	}
	for i, s := range dropped {
		if in.Image.Count(s) == 0 {
			o.note("the image contains no bytes in %s, so that dropping it has no effect", op.Drop[i])
		}
	}
	if len(op.Keep) == 0 {
		kept = memory.Complement(nil)
	}
	where := memory.Without(kept, dropped)
	image := in.Image.Cut(where...)
	o.changed("dropped %s of %s", memory.FormatCount(in.Image.Bytes()-image.Bytes()), memory.FormatBytes(in.Image.Bytes()))
	o.noteLostStart(in.Image, image)
	part := memory.Part{Name: in.Name, Image: image}
	if n := len(where); len(op.Keep) > 0 && n > 0 {
		part.Block = memory.Span{First: where[0].First, Last: where[n-1].Last} // raw bytes begin with it
	}
	o.Parts = []memory.Part{part}
	return o, nil
}
