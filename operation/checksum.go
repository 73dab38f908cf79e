package operation

import (
	"bytes"
	"errors"
	"math/bits"
	"slices"
	"strings"

	"mexalt/checksum"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var checksumKind = &Kind{
	Name: "checksum", Usage: "FILE",
	Short: "compute a checksum, store it, prove it",
	Long: `
Computes the checksum over the spans, in the order given, and prints it. Holes are
an error, unless ` + "`holes`" + ` says how to count them.

With ` + "`store`" + `, the checksum is written into the image, which is the result; the value
is printed on standard error. Existing bytes are not overwritten unless they are
erased or already equal, or you give ` + "`replace`" + `. Where the image has no bytes, ` + "`grow`" + `
allows it to grow. If the checksum is stored inside a span, ` + "`slot`" + ` says how to count
its bytes.

With ` + "`expect`" + ` or ` + "`expect-at`" + `, the checksum is compared with a known value or a
stored one. A difference is a finding (status 1), with a hint at the cause.

A kind is a name that ` + "`list`" + ` shows, or the parameters of a CRC: 'width=16
poly=0x1021 init=0xFFFF refin=false refout=false xorout=0'.`,
	New: func() Operation { return &Checksum{Order: memory.Little} },
}

// DefaultKind is the algorithm that is computed where none is named.
const DefaultKind = "CRC-32/ISO-HDLC"

// Checksum computes check values over an image, stores one or proves one.
type Checksum struct {
	Kind, In, Skip  []string
	Holes           *byte
	Swap            uint64
	Slot            string
	Store, LengthAt string
	Order           memory.Order
	Size            uint64 // bytes that the value is stored in; 0 is as many as it has
	Replace, Grow   bool
	Expect          string
	ExpectAt        string

	kinds    []*checksum.Kind
	expected checksum.Value
}

// ChecksumResult is what one algorithm gave.
type ChecksumResult struct {
	Kind     *checksum.Kind
	Value    checksum.Value
	Spans    []memory.Span // that were fed: without what was skipped
	Name     string        // of a declared checksum; "" is none
	Stored   *memory.Span  // where the value was stored; nil is nowhere
	Order    memory.Order
	Expected checksum.Value   // nil where nothing was expected
	Hints    []source.Setting // each would have given the expected value
}

// AsExpected reports whether the value is the expected one, or none was.
func (r *ChecksumResult) AsExpected() bool {
	if r.Expected == nil {
		return true
	}
	whole, err := r.Expected.Stored(memory.Big, len(r.Value))
	return err == nil && string(whole) == string(r.Value)
}

// Keys returns the operation's keys.
func (op *Checksum) Keys() []*key.Key {
	sizes := []uint64{1, 2, 3, 4, 5, 6, 7, 8, 16, 20, 28, 32, 48, 64}
	return []*key.Key{
		key.List(&op.Kind, "kind", "NAME", "the algorithm's NAME or parameters; repeatable ("+DefaultKind+")"),
		key.List(&op.In, "in", "SPAN", "compute over SPAN; repeatable (image)"),
		key.List(&op.Skip, "skip", "SPAN", "leave SPAN out; repeatable"),
		key.Byte(&op.Holes, "holes", "BYTE", "count holes as BYTE"),
		SwapKey(&op.Swap, "reverse the bytes within each word of N bytes (2, 4 or 8) before computing"),
		key.Word(&op.Slot, checksum.SlotWords[1:], "slot", "RULE",
			"if the value is stored inside the span, count its bytes as RULE: skip, zero or erased"),
		key.Text(&op.Store, "store", "ADDRESS", "store the value at ADDRESS"),
		key.Word(&op.Order, []string{"little", "big"}, "order", "ORDER", "the stored bytes' ORDER little or big (little)"),
		key.OneOf(&op.Size, sizes, "size", "N", "store the value in N bytes (as many as it has)"),
		key.Text(&op.LengthAt, "length-at", "ADDRESS", "also store the number of covered bytes at ADDRESS, in 4 bytes"),
		key.Switch(&op.Replace, "replace", "store even over other bytes"),
		key.Switch(&op.Grow, "grow", "store even where the image contains nothing"),
		key.Text(&op.Expect, "expect", "VALUE", "prove that the value is VALUE").HexDigits(),
		key.Text(&op.ExpectAt, "expect-at", "ADDRESS", "prove that the value is the one stored at ADDRESS"),
	}
}

// Stores reports whether the image is changed.
func (op *Checksum) Stores() bool { return op.Store != "" || op.LengthAt != "" }

// Check tells of keys that do not go together, and of algorithms that are not
// known.
func (op *Checksum) Check(bool) error {
	names := op.Kind
	if len(names) == 0 {
		names = []string{DefaultKind}
	}
	op.kinds = nil
	for _, text := range names {
		k, err := checksum.KindOf(text)
		if err != nil {
			return &source.KeyError{Key: "kind", Err: err}
		}
		op.kinds = append(op.kinds, k)
	}
	placed := op.Store != "" || op.ExpectAt != ""
	switch {
	case op.Expect != "" && op.ExpectAt != "":
		return source.Keyf("", "`expect` and `expect-at` both say what is expected; give one")
	case op.Stores() && op.Expect+op.ExpectAt != "":
		return source.Keyf("", "a value is stored or proved, not both in one run")
	case len(op.kinds) > 1 && (op.Stores() || op.Expect+op.ExpectAt != ""):
		return source.Keyf("kind", "%d kinds are given; one at a time is stored or proved", len(op.kinds))
	case op.Size != 0 && !placed:
		return source.Keyf("size", "has no effect without `store`")
	case op.Slot != "" && !placed:
		return source.Keyf("slot", "has no effect where the value has no place")
	case op.Order != memory.Little && !placed && op.LengthAt == "":
		return source.Keyf("order", "has no effect without `store`")
	case (op.Replace || op.Grow) && !op.Stores():
		return source.Keyf("", "`replace` and `grow` have no effect where nothing is stored")
	}
	if op.Expect != "" {
		var err error
		if op.expected, err = checksum.ParseValue(op.Expect); err != nil {
			return &source.KeyError{Key: "expect", Err: err}
		}
	}
	return nil
}

// Apply computes check values, and stores or proves one.
func (op *Checksum) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, names := e.begin(in.Image)
	feed, err := op.feed(e, o, names)
	if err != nil {
		return nil, err
	}
	if err := op.onlyHoles(o, in, feed); err != nil {
		return nil, err
	}
	image := in.Image
	if op.LengthAt != "" {
		if image, err = op.storeLength(e, o, in, feed, names); err != nil {
			return nil, err
		}
	}
	for _, k := range op.kinds {
		value, err := feed.Sum(k, image, e.Cores)
		if err != nil {
			return nil, feedError(in.Name, err)
		}
		o.Checksums = append(o.Checksums, ChecksumResult{Kind: k, Value: value, Spans: feed.Parts(), Order: memory.Order(op.Order)})
	}
	r := &o.Checksums[0]
	switch {
	case op.Store != "":
		bytes, err := r.Value.Stored(r.Order, int(feed.Place.Size()))
		if err != nil {
			return nil, &source.KeyError{Key: "size", Err: err}
		}
		if image, err = op.overwrite(e, o, memory.Part{Name: in.Name, Image: image}, *feed.Place, bytes); err != nil {
			return nil, err
		}
		r.Stored = feed.Place
	case op.Expect != "" || op.ExpectAt != "":
		if err := op.prove(in, r, feed); err != nil {
			return nil, err
		}
	}
	if op.Stores() {
		o.stale(in.Image, image)
	}
	o.Parts = []memory.Part{{Name: in.Name, Image: image}}
	return o, nil
}

// feed returns what is fed, with the value's place.
func (op *Checksum) feed(e *Environment, o *Outcome, names span.Names) (*checksum.Feed, error) {
	texts := op.In
	if len(texts) == 0 {
		texts = []string{"image"}
	}
	f := &checksum.Feed{Hole: op.Holes, Word: int(op.Swap), Slot: checksum.Slot(slices.Index(checksum.SlotWords, op.Slot))}
	var err error
	if f.Spans, err = o.spans("in", texts, names); err != nil {
		if len(op.In) == 0 {
			return nil, source.Keyf("", "the image is empty, so there is nothing to compute over")
		}
		return nil, err
	}
	if f.Skip, err = o.spans("skip", op.Skip, names); err != nil {
		return nil, err
	}
	for i, s := range f.Skip {
		if len(memory.Intersect(f.Spans, []memory.Span{s})) == 0 {
			o.note("%s is outside of what the checksum is computed over, so that skipping it has no effect", op.Skip[i])
		}
	}
	for key, at := range map[string]string{"store": op.Store, "expect-at": op.ExpectAt} {
		if at == "" {
			continue
		}
		size := int(op.Size)
		if size == 0 {
			size = op.kinds[0].Size()
		}
		place, err := placeOf(key, at, size, names)
		if err != nil {
			return nil, err
		}
		f.Place, f.Erased = &place, o.Map.ErasedAt(place.First)
	}
	if len(f.Parts()) == 0 {
		return nil, source.Keyf(map[bool]string{true: "skip", false: "slot"}[len(f.Skip) > 0], "nothing is left to compute over")
	}
	if f.Hole != nil {
		if err := e.limit("feeding the holes", f.Size()); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// onlyHoles tells of spans of which only holes would be fed: of all of them, it is an error.
func (op *Checksum) onlyHoles(o *Outcome, in memory.Part, feed *checksum.Feed) error {
	if feed.Hole == nil {
		return nil // a hole is an error
	}
	fed := feed.Parts()
	if slices.ContainsFunc(fed, func(s memory.Span) bool { return in.Image.Count(s) > 0 }) {
		for _, s := range feed.Spans {
			if in.Image.Count(s) == 0 {
				o.note("the image contains no bytes in %s: the checksum counts holes there", s)
			}
		}
		return nil
	}
	p := fileProblem(in.Name, "there is nothing to compute over: the image contains no bytes in %s", memory.FormatSpans(fed))
	if all, ok := in.Image.Span(); ok {
		p.Expected = "spans in which it has bytes; it covers " + all.String()
	}
	return p
}

// placeOf returns the place of a value of size bytes.
func placeOf(key, text string, size int, names span.Names) (memory.Span, error) {
	first, err := address(key, text, names)
	if err != nil {
		return memory.Span{}, err
	}
	at, ok := memory.SpanOf(first, uint64(size))
	if !ok {
		return at, source.Keyf(key, "%s: %d bytes there run past the last 64-bit address", text, size)
	}
	return at, nil
}

// feedError says whose fault it is that an algorithm cannot be fed.
func feedError(name string, err error) error {
	var holes *checksum.HolesError
	var slot *checksum.SlotError
	switch {
	case errors.As(err, &holes):
		p := fileProblem(name, "%s", holes)
		p.Advice = source.Advice{
			Text:  "fill them first, or name spans without holes",
			AnyOf: []source.Setting{{Key: "holes", Value: "FF", Does: "takes them as FF"}},
		}
		return p
	case errors.As(err, &slot):
		p := slot.Problem()
		p.Advice.Text += "; to append, `store` image.last+1 `grow`"
		return &source.KeyError{Err: p}
	}
	return &source.KeyError{Err: err}
}

// overwrite stores bytes, unless others than erased ones are there.
func (op *Checksum) overwrite(e *Environment, o *Outcome, in memory.Part, at memory.Span, bytes []byte) (*memory.Image, error) {
	if err := e.mayGrow(o, in, at, op.Grow); err != nil {
		return nil, err
	}
	for old := range in.Image.In(at) {
		for i, b := range old.Data {
			a := old.First + uint64(i)
			if b != o.Map.ErasedAt(a) && b != bytes[a-at.First] && !op.Replace {
				from, _ := in.Image.Origin(a)
				p := problem(from, "cannot store the value: %s already contains %02X", memory.FormatAddress(a), b)
				p.Advice.AnyOf = []source.Setting{{Key: "replace", Does: "overwrites it"}}
				return nil, p
			}
		}
	}
	stored, ok := in.Image.Write(e.input("checksum"), at.First, bytes)
	if !ok {
		return nil, fileProblem(in.Name, "the value does not fit into 64-bit addresses")
	}
	return stored, nil
}

func (op *Checksum) storeLength(e *Environment, o *Outcome, in memory.Part, f *checksum.Feed, names span.Names) (*memory.Image, error) {
	const width = 4
	at, err := placeOf("length-at", op.LengthAt, width, names)
	if err != nil {
		return nil, err
	}
	if f.Place != nil {
		if both, ok := at.Meet(*f.Place); ok {
			return nil, source.Keyf("length-at", "the length at %s and the value at %s would overlap at %s", at.Range(), f.Place.Range(),
				both.Range())
		}
	}
	size := f.Size()
	if size >= 1<<(8*width) {
		return nil, source.Keyf("length-at", "%s are fed, which do not fit into %d bytes", memory.FormatSize(size), width)
	}
	length := checksum.Value{byte(size >> 24), byte(size >> 16), byte(size >> 8), byte(size)}
	bytes, err := length.Stored(memory.Order(op.Order), width)
	if err != nil {
		return nil, err
	}
	image, err := op.overwrite(e, o, in, at, bytes)
	if err == nil {
		o.changed("length %s stored at %s, %s-endian", memory.FormatCount(size), e.Map.RangeText(at), op.Order)
	}
	return image, err
}

// longer reports whether a value, most significant byte first, has more bits than so many.
func longer(v checksum.Value, most int) bool {
	rest := bytes.TrimLeft(v, "\x00")
	return len(rest) > 0 && 8*(len(rest)-1)+bits.Len8(rest[0]) > most
}

// prove holds the value against the one expected.
func (op *Checksum) prove(in memory.Part, r *ChecksumResult, f *checksum.Feed) error {
	r.Expected = op.expected
	if op.ExpectAt != "" {
		stored := make([]byte, f.Place.Size())
		if !in.Image.ReadAt(stored, f.Place.First) {
			return fileProblem(in.Name, "the image does not contain the bytes %s, where the value is", f.Place.Range())
		}
		r.Expected, _ = checksum.Value(stored).Stored(r.Order, 0) // turning bytes round is its own inverse
	}
	if bits := r.Kind.Bits; op.ExpectAt == "" && r.Expected != nil && longer(r.Expected, bits) {
		return source.Keyf("expect", "%s has more than the %d bits of %s", r.Expected, bits, r.Kind.Name)
	}
	if !r.AsExpected() {
		if whole, err := r.Expected.Stored(memory.Big, len(r.Value)); err == nil {
			r.Hints = f.Explain(r.Kind, in.Image, r.Value, whole, r.Order)
		}
	}
	return nil
}

// Text says what was computed, over which spans.
func (r *ChecksumResult) Text() string {
	var over []string
	for _, s := range r.Spans {
		over = append(over, s.String())
	}
	return r.Kind.Name + " " + r.Value.String() + " over " + strings.Join(over, ", ")
}
