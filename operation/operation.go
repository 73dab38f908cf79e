// Package operation holds every change to images as a typed value: merge,
// split, place, cut, fill, patch, convert, checksum, seal, config.
//
// A value knows its keys, what they mean and what they are unless set, once:
// the flags of commands, the steps of release files, help and documentation
// come from there. [Operation.Apply] takes images and returns new ones; it
// reads and writes no files of its own.
package operation

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// Kind is a kind of operation: one row of [Kinds].
type Kind struct {
	Name  string
	Short string // what it does, in a few words
	Long  string // what it does, with its keys in backquotes
	Usage string // what a command line needs, after the name, with keys in backquotes
	// Several is whether it takes several images.
	Several bool
	// Step is whether it stands in release files only: no command has its name.
	Step bool
	New  func() Operation
}

// Operation is a change to images.
type Operation interface {
	// Keys returns the operation's keys, which set it.
	Keys() []*key.Key
	// Check tells what is wrong with the keys, as far as that shows without
	// images. withMap is whether a device map will be given. Errors are
	// [source.KeyError].
	Check(withMap bool) error
	// Apply changes images. An error that is no [source.KeyError] is the images'
	// fault.
	Apply(e *Environment, images []memory.Part) (*Outcome, error)
}

// Kinds are all operations, in the order in which they are listed.
var Kinds = []*Kind{mergeKind, splitKind, placeKind, cutKind, fillKind, patchKind, convertKind, checksumKind, sealKind, configKind}

// KindOf returns the operation of a name, or nil.
func KindOf(name string) *Kind {
	i := slices.IndexFunc(Kinds, func(k *Kind) bool { return k.Name == name })
	if i < 0 {
		return nil
	}
	return Kinds[i]
}

// Environment is what operations work in.
type Environment struct {
	Map   *device.Map // nil where none is given
	Names span.Names  // more names than those of the map
	// Limit is how many bytes a result may have; 0 is any number.
	Limit uint64
	Cores int
	// Where is the place that asks for the operation, such as a line of a release
	// file; origins name it.
	Where string
	// Read reads a whole file that a key names.
	Read func(name string) ([]byte, error)
	// Draft is the image that an operation works on where nobody looks at its bytes again, so
	// that many small changes do not each copy all of it; nil is that somebody may.
	Draft *memory.Draft
}

// Outcome is what came of an operation.
type Outcome struct {
	Parts   []memory.Part // one, but of a split
	Changes []string      // what was done
	Notes   []string      // what is worth knowing
	// Map is the device map as it is for the result's configuration.
	Map *device.Map
	// Checksums are those that were computed.
	Checksums []ChecksumResult
	// Assumed are the regions that spans name, and whose sizes a configuration word sets
	// that the image does not have.
	Assumed []string

	// decided returns what is said of each such region of the map; it is worked out where a
	// span names any. nil is of no map.
	decided func() map[string]string
}

// Image returns the one image of the outcome.
func (o *Outcome) Image() *memory.Image { return o.Parts[0].Image }

func (o *Outcome) note(format string, args ...any) {
	o.Notes = append(o.Notes, fmt.Sprintf(format, args...))
}

func (o *Outcome) changed(format string, args ...any) {
	o.Changes = append(o.Changes, fmt.Sprintf(format, args...))
}

// NothingLeft tells of a result without a byte that was made of images with some:
// spans in which nothing lies. filled is whether what is written then is holes that
// are asked for.
func NothingLeft(in []memory.Part, o *Outcome, filled bool) error {
	var held []memory.Span
	for _, p := range in {
		if all, ok := p.Image.Span(); ok {
			held = append(held, all)
		}
	}
	if len(held) == 0 || len(o.Parts) != 1 || !o.Image().Empty() || filled && o.Parts[0].Block != (memory.Span{}) {
		return nil
	}
	p := fileProblem(in[0].Name, "nothing is left of the image")
	p.Expected = "spans in which it has bytes; it covers " + memory.FormatSpans(held)
	return p
}

// noteLostStart tells of a start address that went with the bytes cut off.
func (o *Outcome) noteLostStart(before, after *memory.Image) {
	if before.Start().Kind != memory.NoStart && after.Start().Kind == memory.NoStart {
		o.note("the start address %s is dropped with the bytes there", memory.FormatAddress(before.Start().Address()))
	}
}

// begin returns the outcome for an image, with the map as it is configured by
// it, and the names that expressions may use.
func (e *Environment) begin(m *memory.Image) (*Outcome, span.Names) {
	o := &Outcome{}
	names := e.Names
	if e.Map != nil {
		o.Map, _ = e.Map.For(m)
		for _, r := range o.Map.Regions {
			if was := e.Map.Region(r.Name); was != nil && was.Span != r.Span {
				o.note("%s", ConfiguredNote(e.Map, m, &r))
			}
		}
		names = names.And(o.Map.Names())
		o.decided = sync.OnceValue(func() map[string]string { return assumed(e.Map, m) })
	}
	if all, ok := m.Span(); ok {
		names = names.With("image", all)
	}
	return o, names
}

// assumed returns what is said of each region whose size a configuration word sets that
// the image does not have.
func assumed(m *device.Map, image *memory.Image) map[string]string {
	list := map[string]string{}
	now, _ := m.For(image)
	for name, w := range m.Assumed(image) {
		list[name] = fmt.Sprintf("region %s is %s, as in a delivered device; the image does not give %s", name, now.Region(name).Span,
			w.Name)
	}
	return list
}

// AssumedIn returns what is assumed of the regions that a text names.
func AssumedIn(m *device.Map, image *memory.Image, text string) (list []string) {
	said := assumed(m, image)
	for _, name := range span.NamesIn(text) {
		if said[name] != "" {
			list = append(list, said[name])
		}
	}
	return list
}

// ConfiguredNote says that a region is another than the map's file says, and whether
// the image configures it so, or the part as it is delivered.
func ConfiguredNote(m *device.Map, image *memory.Image, r *device.Region) string {
	if w, given := m.Decided(image, r.Name); w != nil && !given {
		return fmt.Sprintf("region %s is %s, as in a delivered device; the image does not give %s", r.Name, r.Span, w.Name)
	}
	return fmt.Sprintf("as the image is configured, region %s is %s", r.Name, r.Span)
}

// limit refuses a result of so many bytes where that is more than it may have.
func (e *Environment) limit(what string, bytes uint64) error {
	if e.Limit == 0 || bytes <= e.Limit {
		return nil
	}
	return &source.KeyError{Err: &source.Problem{
		What:     fmt.Sprintf("%s would produce %s", what, memory.FormatSize(bytes)),
		Expected: fmt.Sprintf("at most %s, given the size of the inputs", memory.FormatSize(e.Limit)),
		Advice:   source.Advice{Text: "name a smaller span", AnyOf: []source.Setting{{Key: "huge", Does: "allows it"}}},
	}}
}

// single returns the one image that an operation works on.
func single(images []memory.Part) memory.Part { return images[0] }

// address reads an address that a key gives.
func address(key, text string, names span.Names) (uint64, error) {
	a, err := span.Address(text, names)
	if err != nil {
		return 0, &source.KeyError{Key: key, Err: err}
	}
	return a, nil
}

// address reads an address that a key gives, at which something is put.
func (o *Outcome) address(key, text string, names span.Names) (uint64, error) {
	if note := names.MaybeWords(text); note != "" {
		o.Notes = append(o.Notes, note)
	}
	return address(key, text, names)
}

// spans reads the spans that a key gives.
func (o *Outcome) spans(key string, texts []string, names span.Names) ([]memory.Span, error) {
	var list []memory.Span
	for _, t := range texts {
		s, err := span.Span(t, names)
		if err != nil {
			return nil, &source.KeyError{Key: key, Err: err}
		}
		if note := span.MaybeTooLong(t); note != "" {
			o.Notes = append(o.Notes, note)
		}
		if note := names.MaybeWords(t); note != "" {
			o.Notes = append(o.Notes, note)
		}
		for _, name := range span.NamesIn(t) {
			if o.Map == nil || o.Map.Region(name) == nil {
				continue
			}
			if said := o.decided()[name]; said != "" && !slices.Contains(o.Assumed, said) && !slices.Contains(o.Notes, said) {
				o.Assumed = append(o.Assumed, said)
			}
		}
		list = append(list, s)
	}
	return list, nil
}

// problem returns what is wrong with an image, named by the place of a byte.
func problem(at memory.Origin, format string, args ...any) *source.Problem {
	return at.Problem(fmt.Sprintf(format, args...))
}

// fileProblem returns what is wrong with an image as a whole.
func fileProblem(name, format string, args ...any) *source.Problem {
	return &source.Problem{File: name, What: fmt.Sprintf(format, args...)}
}

// input is what the origins of bytes name that an operation made or moved.
func (e *Environment) input(name string) *source.Input {
	if e.Where != "" {
		name += " (" + e.Where + ")"
	}
	return &source.Input{Name: name, Counting: source.Operation}
}

// few names the first few spans.
func few(list []memory.Span) string {
	const most = 4
	var names []string
	for _, h := range list[:min(len(list), most)] {
		names = append(names, h.Range())
	}
	if len(list) > most {
		names = append(names, "...")
	}
	return strings.Join(names, ", ")
}

// stale notes the declared checksums that held before a change and do not after
// it.
func (o *Outcome) stale(before, after *memory.Image) {
	if o.Map == nil {
		return
	}
	for i := range o.Map.Checksums {
		c := &o.Map.Checksums[i]
		if holds(o.Map, c, before) && !holds(o.Map, c, after) {
			o.note("%s at %s no longer matches; run seal to recompute it", c.Name, memory.FormatAddress(storedAt(o.Map, c, before)))
		}
	}
}

// storedAt returns where a checksum stands that an image holds.
func storedAt(m *device.Map, c *device.Checksum, image *memory.Image) uint64 {
	if s, err := c.Spec(m, image); err == nil {
		return s.Place.First
	}
	return c.At
}

// holds reports whether an image holds the value of a declared checksum.
func holds(m *device.Map, c *device.Checksum, image *memory.Image) bool {
	s, err := c.Spec(m, image)
	if err != nil || image.Count(*s.Place) < s.Place.Size() {
		return false
	}
	_, want, err := s.Compute(image, 1)
	stored := make([]byte, s.Place.Size())
	image.ReadAt(stored, s.Place.First)
	return err == nil && string(want) == string(stored)
}

// Summary says what an operation did whose outcome has no changes to tell: which values it
// computed, and where one was stored; what it took of an image.
func Summary(op Operation, o *Outcome) (list []string) {
	switch op := op.(type) {
	case *Checksum:
		for i := range o.Checksums {
			r := &o.Checksums[i]
			text := fmt.Sprintf("%s %s over %s", r.Kind.Name, r.Value, memory.FormatSpans(r.Spans))
			switch {
			case r.Stored != nil:
				text += fmt.Sprintf(", stored at %s, %s-endian", o.Map.RangeText(*r.Stored), r.Order)
			case r.Expected != nil && r.AsExpected():
				text += ", as expected"
			}
			list = append(list, text)
		}
	case *Convert:
		if len(op.In) > 0 {
			list = append(list, fmt.Sprintf("kept %s in %s", memory.FormatBytes(o.Image().Bytes()), o.Map.RangeText(o.Parts[0].Block)))
		}
		if op.Swap > 1 {
			list = append(list, fmt.Sprintf("reversed the bytes in each word of %d", op.Swap))
		}
		if len(list) == 0 {
			list = append(list, "nothing: neither a part is taken nor bytes are reversed")
		}
	}
	return list
}
