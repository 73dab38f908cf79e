package operation

import (
	"slices"
	"strings"

	"mexalt/checksum"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var sealKind = &Kind{
	Name: "seal", Usage: "FILE",
	Short: "stores every checksum that the device map declares, in their order",
	Long: `
Computes the checksums that the device map says a loader checks, and stores each
at its place, over whatever is there. One whose span holds another's place comes
after that. Holes count as erased. A checksum whose span holds nothing is left
out, with a note. With ` + "`only`" + `, those of these names are stored.`,
	New: func() Operation { return &Seal{} },
}

// Seal stores declared checksums.
type Seal struct {
	Only []string // names; nil is all
}

// Keys returns the operation's keys.
func (op *Seal) Keys() []*span.Key {
	return []*span.Key{span.ListKey(&op.Only, "only", "NAME", "store the checksum of this NAME only; may be given several times")}
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
	order, err := sealOrder(o.Map, list)
	if err != nil {
		return nil, err
	}
	image := in.Image
	for _, d := range order {
		spec, err := d.Spec(o.Map)
		if err != nil {
			return nil, source.Keyf("device", "%s: %w", d.Name, err)
		}
		if image.Count(d.In) == 0 {
			o.note("%s is left out: the image holds nothing in %s", d.Name, d.In)
			continue
		}
		value, stored, err := spec.Compute(image, e.Cores)
		if err != nil {
			return nil, source.Keyf("device", "%s: %w", d.Name, err)
		}
		image, _ = image.Write(e.input("seal"), d.At, stored)
		o.Checksums = append(o.Checksums, ChecksumResult{Name: d.Name, Kind: spec.Kind, Value: value, Spans: []memory.Span{d.In}, Stored: spec.Place, Order: spec.Order})
		o.did("%s: %s %s over %s, stored at %s, %s-endian", d.Name, spec.Kind.Name, value, d.In, spec.Place.Range(), spec.Order)
	}
	o.Parts = []memory.Part{{Name: in.Name, Image: image}}
	return o, nil
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

// sealOrder puts checksums into an order in which each comes after those whose
// places lie in its span. A circle is an error.
func sealOrder(m *device.Map, list []*device.Checksum) ([]*device.Checksum, error) {
	covers := func(a, b *device.Checksum) bool { // a's span holds b's place
		k, err := checksum.KindOf(b.Kind)
		if err != nil {
			return false
		}
		place, _ := memory.SpanOf(b.At, uint64(k.Size()))
		_, ok := a.In.Meet(place)
		return ok && a != b
	}
	var order []*device.Checksum
	left := slices.Clone(list)
	for len(left) > 0 {
		i := slices.IndexFunc(left, func(a *device.Checksum) bool {
			return !slices.ContainsFunc(left, func(b *device.Checksum) bool { return covers(a, b) })
		})
		if i < 0 {
			var names []string
			for _, c := range left {
				names = append(names, c.Name)
			}
			return nil, source.Keyf("device", "the checksums %s each cover the place of another, so none can come first", strings.Join(names, " and "))
		}
		order = append(order, left[i])
		left = slices.Delete(left, i, i+1)
	}
	return order, nil
}
