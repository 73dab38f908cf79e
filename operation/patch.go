package operation

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var patchKind = &Kind{
	Name: "patch", Usage: "`at` ADDRESS `bytes` B | `text` T | `number` N | `file` F FILE",
	Short: "write values: bytes, text, numbers, a file",
	Long: `
Overwrites the bytes at an address with one or more values, in the order given.
` + "`size`" + `, ` + "`order`" + ` and ` + "`pad`" + ` apply to the value before them. A text is written in
UTF-8, with backslash escapes. A number has 1 to 8 bytes; negative numbers are
written as two's complement. Bytes, a text or a file shorter than ` + "`size`" + ` are padded;
a value that does not fit is an error.

Nothing is written where the image has no byte, unless ` + "`grow`" + ` allows it; with a
device map, the address must then be in a memory. With ` + "`expect`" + `, nothing is written
unless the old bytes are the given ones.`,
	New: func() Operation { return &Patch{} },
}

// Patch writes values into an image.
type Patch struct {
	At     string
	Values []PatchValue // one behind the other
	Expect []byte       // the old bytes must be these; nil is any
	Grow   bool         // bytes may be written where the image holds none
}

// PatchValue is one value of a patch.
type PatchValue struct {
	Kind  string // bytes, text, number or file
	Text  string // as it was given
	Size  uint64 // bytes to write; 0 is as many as it has
	Order memory.Order
	Pad   byte // what it is filled up with
}

// Keys returns the operation's keys.
func (op *Patch) Keys() []*key.Key {
	value := func(kind, placeholder, doc string) *key.Key {
		k := key.New(kind, placeholder, doc, func(text string) error {
			op.Values = append(op.Values, PatchValue{Kind: kind, Text: text})
			return nil
		})
		k.Many = true
		return k
	}
	seen := map[string]int{} // the value for which size, order and pad were given last
	ofValue := func(name, placeholder, doc string, words []string, set func(v *PatchValue, text string) error) *key.Key {
		k := key.New(name, placeholder, doc, func(text string) error {
			n := len(op.Values)
			switch {
			case n == 0:
				return fmt.Errorf("must follow the value it applies to")
			case seen[name] == n:
				return fmt.Errorf("given twice for one value")
			}
			seen[name] = n
			return set(&op.Values[n-1], text)
		})
		k.Many, k.Words = true, words
		return k
	}
	return []*key.Key{
		key.Text(&op.At, "at", "ADDRESS", "write at ADDRESS"),
		value("bytes", "BYTES", "write BYTES").HexDigits(),
		value("text", "TEXT", `write TEXT, with escapes such as \n and \x00`).Escaped(),
		value("number", "N", "write the number N"),
		value("file", "FILE", "write the bytes of FILE"),
		ofValue("size", "N", "write the value before it in N bytes; a number has 1 to 8", nil, func(v *PatchValue, text string) error {
			n, err := span.Number(text)
			if err == nil && (n == 0 || n > memory.MostFilled) {
				err = fmt.Errorf("%q is not a number of bytes, 1 to %d", text, uint64(memory.MostFilled))
			}
			v.Size = n
			return err
		}),
		ofValue(
			"order",
			"ORDER",
			"write the number before it with its bytes in ORDER little or big (little)",
			[]string{"little", "big"},
			func(v *PatchValue, text string) error {
				if v.Kind != "number" {
					return fmt.Errorf("has no effect on %s; numbers have one", v.Kind)
				}
				v.Order = memory.Order(text)
				return nil
			},
		),
		ofValue("pad", "BYTE", "fill the value before it up to its size with BYTE (00)", nil, func(v *PatchValue, text string) error {
			if v.Kind == "number" {
				return fmt.Errorf("has no effect on numbers")
			}
			b, err := span.Bytes(text)
			if err == nil && len(b) != 1 {
				err = fmt.Errorf("%q is %d bytes, one is needed", text, len(b))
			}
			if err == nil {
				v.Pad = b[0]
			}
			return err
		}).HexDigits(),
		key.New("expect", "BYTES", "write only if the old bytes are BYTES", func(text string) (err error) {
			op.Expect, err = span.Bytes(text)
			return err
		}).HexDigits(),
		key.Switch(&op.Grow, "grow", "allow writing where the image contains nothing"),
	}
}

// Check tells of keys that are missing or do not go together.
func (op *Patch) Check(bool) error {
	switch {
	case op.At == "":
		return source.Keyf("at", "missing; an address is needed")
	case len(op.Values) == 0:
		return source.Keyf("", "nothing to write: `bytes`, `text`, `number` or `file`")
	}
	for i := range op.Values {
		v := &op.Values[i]
		if v.Kind == "number" && (v.Size == 0 || v.Size > 8) {
			return source.Keyf("number", "%s needs a size, 1 to 8 bytes", v.Text)
		}
	}
	return nil
}

// Apply patches an image.
func (op *Patch) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, names := e.begin(in.Image)
	at, err := o.address("at", op.At, names)
	if err != nil {
		return nil, err
	}
	total := uint64(0)
	for _, v := range op.Values {
		total += v.Size
	}
	if err := e.limit("the patch", total); err != nil {
		return nil, err
	}
	var data []byte
	var sizes []int
	for i := range op.Values {
		b, err := op.Values[i].bytes(e, names)
		if err != nil {
			return nil, err
		}
		data, sizes = append(data, b...), append(sizes, len(b))
	}
	if len(data) == 0 {
		return nil, source.Keyf("", "the value is empty; with a size it is filled up")
	}
	where, ok := memory.SpanOf(at, uint64(len(data)))
	if !ok {
		return nil, fileProblem(in.Name, "%d bytes at %s run past the last 64-bit address", len(data), memory.FormatAddress(at))
	}
	if err := e.mayGrow(o, in, where, op.Grow); err != nil {
		return nil, err
	}
	if err := op.expected(in, at); err != nil {
		return nil, err
	}
	old := make([]byte, len(data))
	in.Image.ReadAt(old, at)
	replaced := was(in.Image, where, old)
	if text, ok := cutText(in.Image, where); ok && op.Values[len(op.Values)-1].Kind == "text" {
		o.note("the patch is shorter than the old text %q; the rest of that text remains", text)
	}
	offset := 0
	for i, n := range sizes {
		if op.Values[i].Kind == "text" {
			o.noteOverrun(in.Image, at+uint64(offset), old[offset:offset+n], data[offset:offset+n])
		}
		offset += n
	}
	// From here on a draft has the new bytes, in the old image too.
	draft := e.Draft
	if draft == nil || draft.Image() != in.Image || o.Map != nil && len(o.Map.Checksums) > 0 {
		draft = memory.NewDraft(in.Image)
	}
	draft.Write(e.input("patch"), at, data)
	patched := draft.Image()
	o.changed("patched %s: was %s, is %s", e.Map.SpanText(where), replaced, contents(patched, where, data))
	o.stale(in.Image, patched)
	o.Parts = []memory.Part{{Name: in.Name, Image: patched}}
	return o, nil
}

// noteOverrun tells of a text that is longer than the one before it, and went
// over what stood behind that one's end.
func (o *Outcome) noteOverrun(m *memory.Image, at uint64, old, text []byte) {
	was, ok := textAround(m, memory.Span{First: at, Last: at + uint64(len(old)) - 1})
	n := len(was)
	if !ok || n >= len(old) || old[n] != 0 || text[n] == 0 {
		return
	}
	behind := old[n+1:]
	erased := o.Map.ErasedAt(at)
	if i := slices.IndexFunc(behind, func(b byte) bool { return b != 0 && b != erased }); i >= 0 {
		from := at + uint64(n+1+i)
		over := fmt.Sprintf("% X", shorten(behind[i:]))
		if next, ok := textAround(m, memory.Span{First: from, Last: at + uint64(len(old)) - 1}); ok {
			over = fmt.Sprintf("%q", next)
		}
		o.note("the text runs over the end of %q, into what stood at %s: was %s", was, memory.FormatAddress(from), over)
		return
	}
	var next [1]byte
	end := at + uint64(len(text))
	if text[len(text)-1] != 0 && end > at && m.ReadAt(next[:], end) && next[0] != 0 {
		o.note("the text runs over the 00 that ended %q, and none ends it now: %02X is at %s", was, next[0], memory.FormatAddress(end))
	}
}

// mayGrow refuses to write where an image holds nothing, unless that is
// allowed and, with a map, lies in a memory.
func (e *Environment) mayGrow(o *Outcome, in memory.Part, where memory.Span, grow bool) error {
	holes := in.Image.Holes(where)
	if len(holes) == 0 {
		return nil
	}
	if !grow {
		p := fileProblem(in.Name, "the image contains no bytes at %s", holes[0])
		p.Advice.AnyOf = []source.Setting{{Key: "grow", Does: "lets the image grow"}}
		return p
	}
	if o.Map != nil {
		if mem := o.Map.MemoryAt(where.First); mem == nil || !mem.Span.Covers(where) {
			return fileProblem(in.Name, "%s is not in one memory of %s, so the image does not grow there", where, o.Map.Name)
		}
	}
	return nil
}

// expected refuses where the old bytes are not those expected.
func (op *Patch) expected(in memory.Part, at uint64) error {
	if op.Expect == nil {
		return nil
	}
	found := make([]byte, len(op.Expect))
	if !in.Image.ReadAt(found, at) {
		return fileProblem(in.Name, "bytes % X are expected from %s on, but the image does not contain all of them", op.Expect,
			memory.FormatAddress(at))
	}
	s := memory.Span{First: at, Last: at + uint64(len(found)) - 1}
	if string(found) != string(op.Expect) {
		from, _ := in.Image.Origin(at)
		p := fileProblem(in.Name, "bytes at %s are % X, from %s", s, found, from)
		p.Expected = fmt.Sprintf("% X, so nothing is patched", op.Expect)
		return p
	}
	return nil
}

// bytes returns what the value writes.
func (v *PatchValue) bytes(e *Environment, names span.Names) (b []byte, err error) {
	switch v.Kind {
	case "number":
		return v.number(names)
	case "bytes":
		b, err = span.Bytes(v.Text)
	case "text":
		b, err = span.Text(v.Text)
	case "file":
		if b, err = e.Read(v.Text); err != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, &source.KeyError{Key: v.Kind, Err: err}
	}
	if n := uint64(len(b)); v.Size > 0 && n > v.Size {
		return nil, source.Keyf(v.Kind, "%d bytes are longer than a size of %d, by %d", n, v.Size, n-v.Size)
	}
	for uint64(len(b)) < v.Size {
		b = append(b, v.Pad)
	}
	return b, nil
}

func (v *PatchValue) number(names span.Names) ([]byte, error) {
	text, negative := strings.CutPrefix(v.Text, "-")
	n, err := address("number", text, names)
	if err != nil {
		return nil, err
	}
	size := int(v.Size)
	if negative {
		if n > 1<<(8*size-1) {
			return nil, source.Keyf("number", "-%s does not fit into %s as two's complement", text, memory.FormatNumber(size, "byte"))
		}
		n = -n
	} else if size < 8 && n >= 1<<(8*size) {
		return nil, source.Keyf("number", "%s does not fit into %s; the largest is 0x%X", v.Text, memory.FormatNumber(size, "byte"),
			uint64(1)<<(8*size)-1)
	}
	b := v.Order.Bytes(n, size)
	return b, nil
}

// was shows what stood in a span; where nothing was, a hyphen.
func was(m *memory.Image, s memory.Span, old []byte) string {
	switch m.Count(s) {
	case 0:
		return "nothing"
	case s.Size():
		return contents(m, s, old)
	}
	var list []string
	for i, b := range shorten(old) {
		text := "-"
		if m.Holds(s.First + uint64(i)) {
			text = fmt.Sprintf("%02X", b)
		}
		list = append(list, text)
	}
	return strings.Join(list, " ")
}

// contents shows the bytes of a span, or the text that they are.
func contents(m *memory.Image, s memory.Span, data []byte) string {
	if text, ok := textAround(m, s); ok {
		return fmt.Sprintf("%q", text)
	}
	return fmt.Sprintf("% X", shorten(data))
}

// shorten returns the first bytes of a patch for showing.
func shorten(b []byte) []byte { return b[:min(len(b), 16)] }

// leastText is how many characters make a text.
const leastText = 4

func printable(b byte) bool { return b >= 0x20 && b <= 0x7E }

// textAround returns the readable text that stands in a span, up to a 0 or the
// span's end; ok is false where there is hardly one.
func textAround(m *memory.Image, s memory.Span) (text string, ok bool) {
	const longest = 60
	for r := range m.In(s) {
		n := 0
		for n < len(r.Data) && printable(r.Data[n]) {
			n++
		}
		ends := n == len(r.Data) || r.Data[n] == 0
		return string(r.Data[:min(n, longest)]), r.First == s.First && n >= leastText && ends
	}
	return "", false
}

// cutText returns the text that begins in a span and runs on behind it.
func cutText(m *memory.Image, s memory.Span) (text string, ok bool) {
	const around = 64
	if s.Last > ^uint64(0)-around || !m.Holds(s.Last) || !m.Holds(s.Last+1) {
		return "", false
	}
	for r := range m.In(memory.Span{First: s.First - min(s.First, around), Last: s.Last + around}) {
		if !r.Span().Contains(s.Last) || !r.Span().Contains(s.Last+1) {
			continue
		}
		last := int(s.Last - r.First)
		from, to := last, last+1
		for from >= 0 && printable(r.Data[from]) {
			from--
		}
		for to < len(r.Data) && printable(r.Data[to]) {
			to++
		}
		if to-last > 1 && last-from > 0 && to-from-1 >= leastText {
			return string(r.Data[from+1 : to]), true
		}
	}
	return "", false
}
