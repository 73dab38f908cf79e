package target

import (
	"bytes"
	"fmt"
	"slices"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// Programming is what would become of a device if an image were programmed: what is known of
// it before.
type Programming struct {
	Architecture string // of the core, as the server describes it; "" is not said
	Identity     Identity
	Reading      *Reading
	Outside      []memory.Span // not in the server's memory map
	Left         string        // how the device was left
	// Locked is why it cannot be read or programmed as it is configured now; nil is that
	// nothing is known against it.
	Locked *source.Problem
	Words  []WordChange // configuration words that the image changes
	Lost   []Loss       // what sectors that are erased for the image hold besides
	// Kept is what other memories hold, which is lost if all of the chip is erased.
	Kept []Loss
	// Written are one-time cells that hold something else than the image has for them.
	Written []memory.Span
	// Changes are the bytes that are not as the image has them, by region.
	Changes []Loss
	Unread  []memory.Span // of the image's bytes: where the device could not be read
	Same    bool          // the device has every byte of the image already
}

// WordChange is a configuration word that an image changes.
type WordChange struct {
	Word      *device.Word
	Now, Then uint64
	Fields    []FieldChange
}

// FieldChange is one field of it.
type FieldChange struct{ Name, Now, Then string }

// Loss is bytes that are not erased, in a region or a memory.
type Loss struct {
	Where string
	Span  memory.Span // from the first to the last
	Bytes uint64
}

// Before reads the device, and tells what programming an image would do to it.
func (t *Target) Before(image *memory.Image, m *device.Map, progress *source.Progress) (*Programming, error) {
	p := &Programming{}
	var err error
	if p.Architecture, err = t.Architecture(); err != nil {
		return p, err
	}
	if p.Identity, err = t.Identify(m); err != nil || p.Identity.Answer != nil && !p.Identity.Is {
		return p, err // of a different device nothing else counts
	}
	var spans []memory.Span
	if spans, p.Outside, err = t.Spans(nil, m); err != nil {
		return p, err
	}
	if p.Reading, err = t.Read(spans, ReadOptions{Progress: progress}); err != nil {
		return p, err
	}
	p.judge(image, m)
	return p, nil
}

// judge holds what the device holds against the image.
func (p *Programming) judge(image *memory.Image, m *device.Map) {
	now := p.Reading.Image
	p.words(image, m)
	for i := range m.Memories {
		if mem := &m.Memories[i]; mem.Programmable() {
			p.memory(mem, image, m)
		}
	}
	programmed := m.Programmable()
	p.Same = !image.Empty() && len(memory.Without(spansOf(image), memory.Union(programmed))) == 0
	for _, r := range image.Cut(programmed...).Runs() {
		held := now.Cut(r.Span())
		p.Unread = append(p.Unread, held.Holes(r.Span())...)
		for part := range held.In(r.Span()) {
			for i, b := range part.Data {
				if at := part.First + uint64(i); b != r.Data[at-r.First] {
					p.Changes = counted(p.Changes, at, m.MemoryAt(at), m)
				}
			}
		}
	}
	p.Same = p.Same && len(p.Changes) == 0 && len(p.Unread) == 0
}

// Reason is what speaks against programming.
type Reason struct {
	What   string
	Accept string // the name by which it may be accepted; "" is that it may not
}

// The names of reasons that may be accepted; that of data has the region behind a colon.
const (
	Unidentified = "unidentified"
	ErasedData   = "erased-data"
)

// Reasons returns what speaks against programming; none is that nothing does of all that was
// looked at.
func (p *Programming) Reasons(m *device.Map) (list []Reason) {
	switch {
	case p.Identity.Answer != nil && !p.Identity.Is:
		return []Reason{{What: "it is a different device: " + p.Identity.Text(m)}}
	case !p.Identity.Is:
		list = append(list, Reason{"whether it is the device that the image is for is " + p.Identity.Text(m), Unidentified})
	}
	if p.Locked != nil {
		list = append(list, Reason{What: source.Message(p.Locked.What, p.Locked.Expected, p.Locked.Advice.Text)})
	}
	for _, s := range p.Written {
		list = append(list, Reason{What: fmt.Sprintf("%s is written once only, and holds other bytes already", s)})
	}
	for _, s := range p.Unread {
		list = append(list, Reason{What: fmt.Sprintf("%s cannot be read, so that nobody knows what is there: it may be locked", s)})
	}
	for _, l := range p.Lost {
		what := fmt.Sprintf("%s of %s would be erased, and the image has nothing for them", memory.FormatBytes(l.Bytes), l.Where)
		list = append(list, Reason{what, ErasedData + ":" + l.Where})
	}
	return list
}

// NotLookedAt are the memories of the map that could not be read, and of which the image has
// nothing.
func (p *Programming) NotLookedAt() []memory.Span {
	if p.Reading == nil {
		return nil
	}
	return memory.Without(memory.Union(append(slices.Clone(p.Outside), p.Reading.Unreadable...)), p.Unread)
}

func spansOf(image *memory.Image) (list []memory.Span) {
	for _, r := range image.Runs() {
		list = append(list, r.Span())
	}
	return list
}

// words tells which configuration words the image changes, and what those that the device has
// now let a programmer do.
func (p *Programming) words(image *memory.Image, m *device.Map) {
	values, known := map[string]uint64{}, len(m.Config) > 0
	for i := range m.Config {
		w := &m.Config[i]
		now, ok := w.In(p.Reading.Image)
		if !ok {
			known = false
			continue
		}
		values[w.Name] = now
		then, ok := w.In(image)
		if !ok || then == now {
			continue
		}
		change := WordChange{Word: w, Now: now, Then: then}
		for j := range w.Fields {
			f := &w.Fields[j]
			if a, b := f.Of(now), f.Of(then); a != b {
				change.Fields = append(change.Fields, FieldChange{f.Name, meaning(f, a), meaning(f, b)})
			}
		}
		p.Words = append(p.Words, change)
	}
	if !known {
		return
	}
	ways := m.WaysIn(values)
	for _, a := range []device.Ability{device.CanRead, device.CanProgram} {
		if !device.AnyDoes(ways, a) {
			p.Locked = &source.Problem{
				What:     fmt.Sprintf("by its configuration words, no port of the device lets a programmer %s", a),
				Expected: "an unlocked device",
				Advice:   source.Advise("erasing all of the chip may unlock it, and erases all that it holds"),
			}
			return
		}
	}
}

func meaning(f *device.Field, v uint64) string {
	if known := f.Value(v); known != nil {
		return known.Meaning
	}
	return fmt.Sprintf("0x%X, not defined", v)
}

// memory tells what one memory loses.
func (p *Programming) memory(mem *device.Memory, image *memory.Image, m *device.Map) {
	now := p.Reading.Image
	switch mem.Kind {
	case device.Config:
		return
	case device.OTP:
		p.Written = append(p.Written, written(mem, now, image)...)
		return
	}
	var erased []memory.Span // for the image
	if mem.Kind == device.Flash {
		for _, sectors := range mem.Sectors {
			all := memory.Span{First: sectors.First, Last: sectors.First + sectors.Size*sectors.Count - 1}
			erased = append(erased, image.Cut(all).UsedPages(sectors.Size, sectors.First)...)
		}
		erased = memory.Union(erased)
	}
	written := spansOf(image.Cut(mem.Span))
	p.Lost = append(p.Lost, losses(now, memory.Without(erased, written), mem, m)...)
	p.Kept = append(p.Kept, losses(now, memory.Without([]memory.Span{mem.Span}, append(slices.Clone(erased), written...)), mem, m)...)
}

// written are the granules of a one-time memory that hold something, and not what the image
// has for them.
func written(mem *device.Memory, now, image *memory.Image) (list []memory.Span) {
	size := max(mem.Granule, 1)
	for _, used := range image.Cut(mem.Span).UsedPages(size, mem.Span.First) {
		for at := used.First; ; at += size {
			granule := memory.Span{First: at, Last: min(at+(size-1), mem.Span.Last)}
			held := now.Cut(granule)
			changes := false
			for r := range image.In(granule) {
				for part := range held.In(r.Span()) {
					changes = changes || !bytes.Equal(part.Data, r.Data[part.First-r.First:][:len(part.Data)])
				}
			}
			taken := slices.ContainsFunc(held.Runs(), func(r memory.Run) bool { return !blank(r.Data, mem.Erased) })
			if changes && taken {
				list = append(list, granule)
			}
			if granule.Last >= min(used.Last, mem.Span.Last) {
				break
			}
		}
	}
	return memory.Union(list)
}

// blank reports whether bytes are all erased.
func blank(data []byte, erased byte) bool { return bytes.Count(data, []byte{erased}) == len(data) }

// losses are the bytes of spans that are not erased, by region.
func losses(now *memory.Image, spans []memory.Span, mem *device.Memory, m *device.Map) (list []Loss) {
	for _, s := range memory.Union(spans) {
		for r := range now.In(s) {
			for i, b := range r.Data {
				if b != mem.Erased {
					list = counted(list, r.First+uint64(i), mem, m)
				}
			}
		}
	}
	return list
}

// counted adds a byte to a list, of which the last is of its region, or becomes so.
func counted(list []Loss, at uint64, mem *device.Memory, m *device.Map) []Loss {
	where := ""
	if region := m.RegionAt(at); region != nil {
		where = region.Name
	} else if mem != nil {
		where = mem.Name
	}
	if n := len(list); n > 0 && list[n-1].Where == where {
		list[n-1].Span.Last = at
		list[n-1].Bytes++
		return list
	}
	return append(list, Loss{where, memory.Span{First: at, Last: at}, 1})
}
