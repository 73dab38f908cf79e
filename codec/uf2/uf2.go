// Package uf2 reads and writes UF2, the format of update files that are dragged
// onto a device: blocks of 512 bytes, each with the address of its payload.
package uf2

import (
	"bytes"
	"cmp"
	"crypto/md5"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"sort"
	"strings"

	"mexalt/codec/format"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// Format is UF2 in the table of formats.
var Format = &format.Format{
	Name:       "UF2",
	Word:       "uf2",
	Words:      []format.Word{{Word: "uf2"}},
	Extensions: []format.Extension{{Ending: ".uf2", Word: "uf2"}},
	Magic:      []string{"UF2\n"},
	Binary:     true,
	Reader:     func() format.Reader { return &Reader{} },
	Writer:     func(o format.WriteOptions) format.Writer { return o.AsRead(&Writer{Digests: true}) },
}

// Reader reads UF2. The zero value reads files whose blocks are all of one family.
type Reader struct {
	Family string // whose blocks are read, 0x and eight digits, or none
}

// Keys returns the reader's keys.
func (u *Reader) Keys() []*key.Key { return []*key.Key{familyKey(&u.Family)} }

const familyWord = "family"

// familyKey is the key that names a family.
func familyKey(into *string) *key.Key {
	return key.New(familyWord, "ID", "UF2: the family ID to read and to write: a 32-bit number, or none", func(text string) error {
		if text == noFamily {
			*into = text
			return nil
		}
		n, err := span.Number(text)
		if err == nil && n > math.MaxUint32 {
			err = fmt.Errorf("%q is above 32 bits", text)
		}
		if err == nil {
			*into = familyName(uint32(n))
		}
		return err
	})
}

const noFamily = "none"

func familyName(n uint32) string { return fmt.Sprintf("0x%08X", n) }

const (
	blockSize   = 512
	headSize    = 32
	mostPayload = 476
	endAt       = blockSize - 4
	digestAt    = headSize + mostPayload - 24 // address, length, MD5

	magic1, magic2, magicEnd = 0x0A324655, 0x9E5D5157, 0x0AB16F30
)

// Flags of a block.
const (
	notMainFlash  = 0x0001
	fileContainer = 0x1000
	familyPresent = 0x2000
	md5Present    = 0x4000
)

// block is the head of a block.
type block struct {
	Magic1, Magic2 uint32
	Flags          uint32
	Target         uint32
	Size           uint32
	Number, Count  uint32
	Family         uint32
}

// family returns whose the block is.
func (b *block) family() string {
	if b.Flags&familyPresent == 0 {
		return noFamily
	}
	return familyName(b.Family)
}

// group is the blocks of one family.
type group struct {
	family string
	blocks uint64
	count  uint32          // that the first block says
	next   uint32          // the number after the last block's
	low    uint32          // all numbers below it were there
	beyond map[uint32]bool // those that were there above it
	first  uint64          // the place in the file of the first block
	proven bool            // it has digests
}

// digest says what a stretch of the image must be.
type digest struct {
	memory.Span
	md5   [md5.Size]byte
	block uint64
}

type reading struct {
	family   string // that is read; "" is the one that there is
	in       *source.Input
	o        format.ReadOptions
	problems *source.Problems
	groups   []*group
	families map[string]*group
	batch    map[*group]*memory.Batch
	digests  map[*group][]digest
	skipped  uint64

	last       *group // of the block before, and what of it says so
	lastFlags  uint32
	lastFamily uint32
}

func (r *reading) problem(severity source.Severity, n uint64, format string, args ...any) {
	r.problems.Add(&source.Problem{
		File:     r.in.Name,
		Severity: severity,
		What:     fmt.Sprintf("block %d at offset 0x%X ", n, n*blockSize) + fmt.Sprintf(format, args...),
	})
}

// deviation adds what passes only where that is asked for.
func (r *reading) deviation(n uint64, format string, args ...any) {
	p := &source.Problem{File: r.in.Name, What: fmt.Sprintf("block %d at offset 0x%X ", n, n*blockSize) + fmt.Sprintf(format, args...)}
	if r.o.Lenient {
		p.Severity = source.Warning
	} else {
		p.Advice.AnyOf = []source.Setting{{Key: "lenient", Does: "allows it"}}
	}
	r.problems.Add(p)
}

// Read reads a UF2 file. Blocks are counted from 0, as they count themselves.
func (u *Reader) Read(from io.Reader, in *source.Input, o format.ReadOptions, problems *source.Problems) (*format.Content, error) {
	in.Counting = source.Offsets
	in.Detail = func(position uint64) string { return fmt.Sprintf("block %d", position/blockSize) }
	r := &reading{
		in:       in,
		o:        o,
		family:   u.Family,
		problems: problems,
		families: map[string]*group{},
		batch:    map[*group]*memory.Batch{},
		digests:  map[*group][]digest{},
	}
	before := problems.Errors()
	buffer := make([]byte, 128*blockSize)
	var n uint64
	for {
		got, err := io.ReadFull(from, buffer)
		if err != nil && err != io.EOF && !errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, err
		}
		for data := buffer[:got]; len(data) > 0; n++ {
			if len(data) < blockSize {
				r.problem(source.Error, n, "is truncated: it has %d of %d bytes; get the file again", len(data), blockSize)
				break
			}
			r.block(n, data[:blockSize])
			data = data[blockSize:]
		}
		if err != nil {
			break
		}
	}
	if r.skipped > 0 {
		problems.Add(&source.Problem{
			File:     in.Name,
			Severity: source.Warning,
			What:     fmt.Sprintf("%s for other memory than the main flash are left out", memory.FormatNumber(r.skipped, "block")),
		})
	}
	content := &format.Content{Image: &memory.Image{}}
	g := r.chosen()
	if g == nil {
		return content, nil
	}
	r.complete(g)
	if !g.proven {
		content.Unproven = "all blocks present, no checksums of its own"
	}
	if image := r.image(g); problems.Errors() == before {
		content.Image = image
	}
	content.WrittenAs = []source.Setting{{Key: familyWord, Value: g.family}}
	content.Facts = []format.Fact{{Name: "family", Text: g.family}, {Name: "blocks", Text: memory.FormatCount(g.blocks)}}
	return content, nil
}

// block takes one block.
func (r *reading) block(n uint64, data []byte) {
	le := binary.LittleEndian
	b := block{
		le.Uint32(data),
		le.Uint32(data[4:]),
		le.Uint32(data[8:]),
		le.Uint32(data[12:]),
		le.Uint32(data[16:]),
		le.Uint32(data[20:]),
		le.Uint32(data[24:]),
		le.Uint32(data[28:]),
	}
	end := le.Uint32(data[endAt:])
	switch {
	case b.Magic1 != magic1 || b.Magic2 != magic2 || end != magicEnd:
		r.problem(source.Error, n, "does not have the marks of a block: %08X %08X ... %08X; expected %08X %08X ... %08X", b.Magic1,
			b.Magic2, end, uint32(magic1), uint32(magic2), uint32(magicEnd))
		return
	case b.Flags&fileContainer != 0:
		r.problem(source.Error, n, "contains part of a file, not of an image; have it unpacked")
		return
	case b.Size == 0 || b.Size > mostPayload:
		r.problem(source.Error, n, "gives a size of %s; expected 1 to %d bytes", memory.FormatNumber(uint64(b.Size), "byte"), mostPayload)
		return
	case uint64(b.Target)+uint64(b.Size) > 1<<32:
		r.problem(source.Error, n, "runs past 0xFFFF_FFFF, the last address of the format")
		return
	}
	g := r.last
	if g == nil || b.Flags&familyPresent != r.lastFlags || b.Family != r.lastFamily {
		g = r.families[b.family()]
	}
	if g == nil {
		const mostFamilies = 1000
		if len(r.groups) == mostFamilies {
			r.problem(source.Error, n, "is of one family more than %d", mostFamilies)
			return
		}
		g = &group{family: b.family(), count: b.Count, first: n, beyond: map[uint32]bool{}}
		r.groups, r.families[g.family] = append(r.groups, g), g
		r.batch[g] = &memory.Batch{}
		if len(r.groups) == 1 && b.Size > 0 { // mostly the only one
			blocks := int(max(r.o.Size, 0)) / blockSize
			r.batch[g].Reserve(blocks*int(b.Size), blocks)
		}
	}
	r.last, r.lastFlags, r.lastFamily = g, b.Flags&familyPresent, b.Family
	r.number(g, n, &b)
	g.blocks++
	if b.Flags&notMainFlash != 0 {
		r.skipped++
		return
	}
	if b.Flags&md5Present != 0 {
		d := digest{md5: [md5.Size]byte(data[digestAt+8:]), block: n}
		first, size := uint64(le.Uint32(data[digestAt:])), uint64(le.Uint32(data[digestAt+4:]))
		if first > uint64(b.Target) || first+size < uint64(b.Target)+uint64(b.Size) {
			r.problem(source.Error, n, "has an MD5 of %s from %s, where its %d bytes at %s are not", memory.FormatBytes(size),
				memory.FormatAddress(first), b.Size, memory.FormatAddress(uint64(b.Target)))
			return
		}
		d.First, d.Last = first, first+size-1
		g.proven = true
		if payload := data[headSize : headSize+b.Size]; first == uint64(b.Target) && size == uint64(b.Size) && md5.Sum(payload) == d.md5 {
			// It proves this block alone, which is so.
		} else if list := r.digests[g]; len(list) == 0 || list[len(list)-1].Span != d.Span || list[len(list)-1].md5 != d.md5 {
			r.digests[g] = append(list, d)
		}
	}
	r.batch[g].AddAt(uint64(b.Target), data[headSize:headSize+b.Size], n*blockSize+headSize)
}

// number holds a block's number against those of its family so far.
func (r *reading) number(g *group, n uint64, b *block) {
	switch {
	case b.Count != g.count:
		r.problem(source.Error, n, "says that there are %s, block %d says %d", memory.FormatNumber(uint64(b.Count), "block"), g.first,
			g.count)
	case b.Number >= b.Count:
		r.problem(source.Error, n, "has number %d of %s; they count from 0", b.Number, memory.FormatNumber(uint64(b.Count), "block"))
		return
	case b.Number < g.low || g.beyond[b.Number]:
		r.problem(source.Error, n, "has number %d, which a block before it has", b.Number)
		return
	case b.Number != g.next && b.Number != g.low:
		r.deviation(n, "has number %d; expected %d: blocks are lost or out of order", b.Number, g.low)
	}
	g.next = b.Number + 1
	g.beyond[b.Number] = true
	for g.beyond[g.low] {
		delete(g.beyond, g.low)
		g.low++
	}
}

// chosen returns the group to be read, or adds the problem that none is.
func (r *reading) chosen() *group {
	if want := r.family; want != "" {
		if g := r.families[want]; g != nil {
			return g
		}
		r.problems.Add(&source.Problem{
			File:     r.in.Name,
			What:     "no block is of family " + want,
			Expected: r.list(),
			Advice:   source.Advise("the file may be for another device"),
		})
		return nil
	}
	switch len(r.groups) {
	case 0:
		if r.problems.Errors() == 0 {
			r.problems.Add(&source.Problem{File: r.in.Name, What: "the file has no block", Expected: "blocks of 512 bytes"})
		}
		return nil
	case 1:
		return r.groups[0]
	}
	p := &source.Problem{
		File:     r.in.Name,
		What:     fmt.Sprintf("the file has blocks of %d families", len(r.groups)),
		Expected: r.list(),
		Advice:   source.Advise("choose one"),
	}
	const few = 4
	for _, g := range r.groups[:min(few, len(r.groups))] {
		p.Advice.AnyOf = append(p.Advice.AnyOf, source.Setting{Key: "family", Value: g.family})
	}
	r.problems.Add(p)
	return nil
}

func (r *reading) list() string {
	const few = 4
	var names []string
	for _, g := range r.groups[:min(few, len(r.groups))] {
		names = append(names, fmt.Sprintf("%s (%s)", g.family, memory.FormatNumber(g.blocks, "block")))
	}
	return "one of " + strings.Join(names, ", ")
}

// complete tells of blocks that are missing.
func (r *reading) complete(g *group) {
	have := uint64(g.low) + uint64(len(g.beyond))
	if have >= uint64(g.count) {
		return
	}
	var lost []string
	const few = 4
	for n := g.low; n < g.count && len(lost) < few; n++ {
		if !g.beyond[n] {
			lost = append(lost, fmt.Sprint(n))
		}
	}
	missing := uint64(g.count) - have
	if missing > uint64(len(lost)) {
		lost = append(lost, "...")
	}
	verb := "are"
	if missing == 1 {
		verb = "is"
	}
	r.problems.Add(&source.Problem{
		File: r.in.Name,
		What: fmt.Sprintf("%s of %s %s missing: %s", memory.FormatCount(missing), memory.FormatNumber(uint64(g.count), "block"), verb,
			strings.Join(lost, ", ")),
		Advice: source.Advise("the copy may be truncated; get the file again"),
	})
}

// image makes the image of a group and holds it against its digests.
func (r *reading) image(g *group) *memory.Image {
	image, clashes := r.batch[g].Image(r.in)
	for _, c := range clashes.List {
		early, late := c.Earlier()
		n := late.Position / blockSize
		if c.Differ == 0 {
			r.deviation(n, "gives %s bytes that %s gives already, with the same values", c.Span, early)
		} else {
			r.problem(source.Error, n, "gives %s other values than %s", c.Span, early)
		}
	}
	if clashes.Differing > 0 {
		return image
	}
	// Each byte need be in one digest only; a hostile file may have many that
	// overlap.
	budget := 2*image.Bytes() + 1<<20
	for i, d := range r.digests[g] {
		if d.Size() > budget {
			r.problem(source.Warning, d.block, "and %s more have MD5s that were not checked, as they overlap",
				memory.FormatCount(uint64(len(r.digests[g])-i-1)))
			break
		}
		budget -= d.Size()
		if image.Count(d.Span) < d.Size() {
			r.problem(source.Warning, d.block, "has an MD5 of %s, which the file does not contain completely: it cannot be checked", d.Span)
			continue
		}
		h := md5.New()
		for run := range image.In(d.Span) {
			h.Write(run.Data)
		}
		if got := h.Sum(nil); !bytes.Equal(got, d.md5[:]) {
			r.problem(source.Error, d.block, "is damaged, or another block of its span is: the MD5 of %s is %x; expected %x", d.Span, got,
				d.md5)
		}
	}
	return image
}

// payload is how many bytes a block that is written holds.
const payload = 256

// Writer writes UF2: payloads of 256 bytes on multiples of 256. The zero value
// writes no family and no digests, and takes no holes within a block.
type Writer struct {
	Family  string // 0x and eight digits; "" or none is none
	Digests bool   // each block has the MD5 of its payload
	Holes   *byte  // what holes within a block are written as; nil makes them an error
	Parts   []Part // spans whose blocks are of other families
}

// Part is a span of which the blocks are of a family of their own, so that a file has the
// parts of several devices, or of several loaders of one.
type Part struct {
	Span   memory.Span
	Family string
}

// Keys returns the writer's keys.
func (w *Writer) Keys() []*key.Key {
	return []*key.Key{familyKey(&w.Family), format.KeyOfHoles(&w.Holes),
		key.Switch(&w.Digests, "md5", "UF2: each block has the MD5 of its payload (true)"),
		key.New("part", "ID=SPAN", "UF2: the blocks in SPAN, of numbers, are of family ID; repeatable", w.addPart).Repeated()}
}

// addPart adds a part, as ID=SPAN.
func (w *Writer) addPart(text string) error {
	id, in, ok := strings.Cut(text, "=")
	if !ok {
		return fmt.Errorf("%q is not ID=SPAN", text)
	}
	p := Part{}
	if err := familyKey(&p.Family).Set(id); err != nil {
		return err
	}
	var err error
	if p.Span, err = span.Span(in, span.Names{}); err != nil {
		return err
	}
	if p.Span.First%payload != 0 || p.Span.Last%payload != payload-1 {
		return fmt.Errorf("the span %s is not whole blocks of %d bytes", p.Span, payload)
	}
	for _, other := range w.Parts {
		if both, over := other.Span.Meet(p.Span); over {
			return fmt.Errorf("%s is in two parts", both)
		}
	}
	w.Parts = append(w.Parts, p)
	return nil
}

// blockGroup is the blocks of one family that are written.
type blockGroup struct {
	family string
	blocks []memory.Span
}

// groups returns the families of a file, each with the blocks that it has; those of the
// image's own family come first.
func (w *Writer) groups(m *memory.Image) (list []blockGroup) {
	own := blockGroup{family: w.Family}
	rest := make([]blockGroup, 0, len(w.Parts))
	for _, p := range w.Parts {
		rest = append(rest, blockGroup{family: p.Family})
	}
	inOrder := make([]int, len(w.Parts)) // parts by their addresses; none meets another
	for i := range inOrder {
		inOrder[i] = i
	}
	slices.SortFunc(inOrder, func(a, b int) int { return cmp.Compare(w.Parts[a].Span.First, w.Parts[b].Span.First) })
	for s := range w.blocks(m) {
		k := sort.Search(len(inOrder), func(k int) bool { return w.Parts[inOrder[k]].Span.Last >= s.Last })
		if k < len(inOrder) && w.Parts[inOrder[k]].Span.Covers(s) {
			rest[inOrder[k]].blocks = append(rest[inOrder[k]].blocks, s)
		} else {
			own.blocks = append(own.blocks, s)
		}
	}
	for _, g := range append([]blockGroup{own}, rest...) {
		i := slices.IndexFunc(list, func(o blockGroup) bool { return o.family == g.family })
		switch {
		case len(g.blocks) == 0:
		case i >= 0:
			list[i].blocks = append(list[i].blocks, g.blocks...)
		default:
			list = append(list, g)
		}
	}
	return list
}

// Check tells what keeps an image from being written, and what is left out.
func (w *Writer) Check(m *memory.Image) (notes []string, err error) {
	if m.Header() != nil {
		notes = append(notes, fmt.Sprintf("the header %q is left out; UF2 has none", m.Header()))
	}
	if m.Start().Kind != memory.NoStart {
		notes = append(notes, fmt.Sprintf("the start address %s is left out; UF2 has none", memory.FormatAddress(m.Start().Address())))
	}
	all, ok := m.Span()
	if !ok {
		return notes, errors.New("the image contains no bytes, a UF2 file at least one block")
	}
	if all.Last > math.MaxUint32 {
		return notes, fmt.Errorf("the image ends at %s, UF2 reaches up to 0xFFFF_FFFF", memory.FormatAddress(all.Last))
	}
	for _, p := range w.Parts {
		if m.Count(p.Span) == 0 {
			return notes, fmt.Errorf("the image has no byte in the part %s of family %s", p.Span, p.Family)
		}
	}
	if w.Holes != nil {
		return notes, nil
	}
	holes, first := 0, memory.Span{}
	for s := range w.blocks(m) {
		if list := m.Holes(s); len(list) > 0 {
			if holes == 0 {
				first = list[0]
			}
			holes += len(list)
		}
	}
	if holes > 0 {
		return notes, &source.Problem{
			What: fmt.Sprintf("a UF2 block has %d bytes, and the image has %s within blocks: %s", payload,
				memory.FormatNumber(uint64(holes), "hole"), few(first, holes)),
			Advice: source.Advice{Text: "fill them first",
				AnyOf: []source.Setting{{Key: format.HolesKey, Value: "FF", Does: "writes them as FF"}}},
		}
	}
	return notes, nil
}

func few(first memory.Span, count int) string {
	if count == 1 {
		return first.String()
	}
	return "the first is " + first.String()
}

// blocks returns the stretches that blocks hold, in order.
func (w *Writer) blocks(m *memory.Image) func(yield func(memory.Span) bool) {
	return func(yield func(memory.Span) bool) {
		next := uint64(0)
		for _, r := range m.Runs() {
			for first := max(r.First&^(payload-1), next); first <= r.Last(); first += payload {
				if !yield(memory.Span{First: first, Last: first + payload - 1}) {
					return
				}
				next = first + payload
			}
		}
	}
}

// Write writes an image.
func (w *Writer) Write(to io.Writer, m *memory.Image) error {
	if _, err := w.Check(m); err != nil {
		return err
	}
	out := &blockWriter{to: to, out: make([]byte, 0, together*blockSize)}
	for _, g := range w.groups(m) {
		head := block{Magic1: magic1, Magic2: magic2, Size: payload, Count: uint32(len(g.blocks))}
		if g.family != "" && g.family != noFamily {
			n, err := span.Number(g.family)
			if err != nil {
				return err
			}
			head.Family, head.Flags = uint32(n), familyPresent
		}
		if w.Digests {
			head.Flags |= md5Present
		}
		for _, s := range g.blocks {
			if err := out.block(&head, w, m, s); err != nil {
				return err
			}
			head.Number++
		}
	}
	_, err := to.Write(out.out)
	return err
}

// together is how many blocks are written at once.
const together = 128

// blockWriter writes blocks, many at once.
type blockWriter struct {
	to  io.Writer
	out []byte
}

func (b *blockWriter) block(head *block, w *Writer, m *memory.Image, s memory.Span) error {
	le := binary.LittleEndian
	begin := len(b.out)
	head.Target = uint32(s.First)
	for _, word := range []uint32{head.Magic1, head.Magic2, head.Flags, head.Target, head.Size, head.Number, head.Count, head.Family} {
		b.out = le.AppendUint32(b.out, word)
	}
	b.out = b.out[:begin+blockSize]
	clear(b.out[begin+headSize:])
	data := b.out[begin+headSize : begin+headSize+payload]
	if w.Holes != nil {
		for i := range data {
			data[i] = *w.Holes
		}
	}
	for r := range m.In(s) {
		copy(data[r.First-s.First:], r.Data)
	}
	if w.Digests {
		at := b.out[begin+digestAt:]
		le.PutUint32(at, head.Target)
		le.PutUint32(at[4:], payload)
		sum := md5.Sum(data)
		copy(at[8:], sum[:])
	}
	le.PutUint32(b.out[begin+endAt:], magicEnd)
	if len(b.out) < cap(b.out) {
		return nil
	}
	_, err := b.to.Write(b.out)
	b.out = b.out[:0]
	return err
}
