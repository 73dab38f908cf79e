package operation

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

var sealKind = &Kind{
	Name: "seal", Usage: "FILE",
	Short: "store every checksum that the device map declares",
	Long: `
Computes the checksums that the device map declares, and stores each at its address,
whatever is there. A checksum that covers another checksum is computed after it.
Holes count as erased. A checksum whose span has no bytes is left out, with a note; it is
an error if that leaves none, or leaves out one that ` + "`only`" + ` names.`,
	New: func() Operation { return &Seal{} },
}

// Seal stores declared checksums.
type Seal struct {
	Only []string // names; nil is all
}

// Keys returns the operation's keys.
func (op *Seal) Keys() []*key.Key {
	return []*key.Key{key.List(&op.Only, "only", "NAME", "store the checksum of this NAME only; repeatable")}
}

// Check tells that a device map is needed.
func (op *Seal) Check(withMap bool) error {
	if !withMap {
		return source.Keyf("device", "missing; the device map declares the checksums")
	}
	return nil
}

// Apply stores the checksums.
func (op *Seal) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, _ := e.begin(in.Image)
	list, err := op.wanted(o.Map)
	if err != nil {
		return nil, err
	}
	order, circle := device.InOrder(o.Map, in.Image, list)
	if circle != nil {
		return nil, source.Keyf("device", "the checksums %s each cover the place of another, so none can come first",
			strings.Join(circle, " and "))
	}
	draft := memory.NewDraft(in.Image)
	var without []string // the checksums for which the image has no bytes
	for _, d := range order {
		image := draft.Image()
		if !slices.ContainsFunc(d.In, func(s memory.Span) bool { return image.Count(s) > 0 }) {
			without = append(without, fmt.Sprintf("%s covers %s", d.Name, memory.FormatSpans(d.In)))
			o.note("%s is left out: the image contains nothing in %s", d.Name, d.In[0])
			continue
		}
		spec, err := d.Spec(o.Map, image)
		if err != nil {
			return nil, source.Keyf("device", "%s: %w", d.Name, err)
		}
		value, stored, err := spec.Compute(image, e.Cores)
		if err != nil {
			return nil, source.Keyf("device", "%s: %w", d.Name, err)
		}
		if !draft.Write(e.input("seal"), spec.Place.First, stored) {
			return nil, source.Keyf("device", "%s: its place runs past the last 64-bit address", d.Name)
		}
		over := spec.Feed.Parts()
		o.Checksums = append(o.Checksums,
			ChecksumResult{Name: d.Name, Kind: spec.Kind, Value: value, Spans: over, Stored: spec.Place, Order: spec.Order})
		o.changed("%s: %s %s over %s, stored at %s, %s-endian", d.Name, spec.Kind.Name, value, memory.FormatSpans(over),
			o.Map.RangeText(*spec.Place), spec.Order)
	}
	if len(o.Checksums) == 0 || len(op.Only) > 0 && len(without) > 0 {
		return nil, notSealed(in, without)
	}
	image := draft.Image()
	for _, d := range order { // all of it, now that all is stored
		if slices.ContainsFunc(o.Checksums, func(r ChecksumResult) bool { return r.Name == d.Name }) && !holds(o.Map, d, image) {
			return nil, source.Keyf("device",
				"%s is not valid after all checksums are stored: another is stored inside what it covers, or over its own place", d.Name)
		}
	}
	o.Parts = []memory.Part{{Name: in.Name, Image: image}}
	return o, nil
}

// notSealed tells that checksums that were asked for cannot be stored, as the image has no bytes
// where they are computed.
func notSealed(in memory.Part, without []string) error {
	p := fileProblem(in.Name, "nothing to seal: the image contains no bytes where %s", strings.Join(without, ", and "))
	p.Expected = "bytes there"
	if all, ok := in.Image.Span(); ok {
		p.Expected += "; this image covers " + all.String()
	}
	p.Advice = source.Advise("merge the parts first, or name the device that it is for")
	return p
}

// wanted returns the checksums to store.
func (op *Seal) wanted(m *device.Map) ([]*device.Checksum, error) {
	var list []*device.Checksum
	var known []string
	for i := range m.Checksums {
		c := &m.Checksums[i]
		known = append(known, c.Name)
		if len(op.Only) == 0 || slices.Contains(op.Only, c.Name) {
			list = append(list, c)
		}
	}
	for _, name := range op.Only {
		if !slices.Contains(known, name) {
			return nil, source.Keyf("only", "%s declares no checksum %q; %s", m.Name, name, source.DidYouMean(name, known))
		}
	}
	if len(list) == 0 {
		return nil, source.Keyf("device", "%s declares no checksum", m.Name)
	}
	return list, nil
}
