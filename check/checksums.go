package check

import (
	"fmt"
	"slices"

	"mexalt/checksum"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// declared is a checksum that the map declares, and its state in the image.
type declared struct {
	*device.Checksum
	place   memory.Span
	over    string // the spans
	stored  []byte
	absent  bool // not there, or erased
	partial bool // its span holds nothing, as the part is missing, which is told
	want    []byte
	value   checksum.Value
	err     error // why it cannot be computed
}

// declared returns the checksums that the map declares.
func (c *checker) declared() []declared {
	var list []declared
	for i := range c.m.Checksums {
		d := declared{Checksum: &c.m.Checksums[i]}
		for _, in := range d.In {
			d.partial = d.partial || c.part.Image.Count(in) > 0
		}
		d.partial = !d.partial
		spec, err := d.Spec(c.m, c.part.Image)
		if err != nil {
			d.err, d.place, d.over = err, memory.Span{First: d.At, Last: d.At}, memory.FormatSpans(d.In)
			list = append(list, d)
			continue
		}
		d.place, d.over = *spec.Place, memory.FormatSpans(spec.Feed.Parts())
		erased := c.m.ErasedAt(d.place.First)
		d.stored = make([]byte, d.place.Size())
		c.part.Image.ReadAt(d.stored, d.place.First)
		d.absent = c.part.Image.Count(d.place) < d.place.Size() || !slices.ContainsFunc(d.stored, func(b byte) bool { return b != erased })
		d.value, d.want, d.err = spec.Compute(c.part.Image, 1)
		list = append(list, d)
	}
	return list
}

// Sum is the state of a checksum that a map declares, in an image.
type Sum struct {
	Name  string
	Over  []memory.Span
	Place memory.Span
	// Stored is what the image has at the place, Computed what it should have there.
	Stored, Computed []byte
}

// Sums returns the declared checksums of which an image has the place and what is covered.
func Sums(m *device.Map, image *memory.Image) (list []Sum) {
	resolved, _ := m.For(image)
	c := &checker{m: resolved, part: Part{Image: image}}
	for _, d := range c.declared() {
		if d.err == nil && !d.absent && !d.partial {
			list = append(list, Sum{d.Name, d.In, d.place, d.stored, d.want})
		}
	}
	return list
}

// moved reports whether the places of the checksums are not what they should
// be: the boot section is another.
func (c *checker) moved() bool { return c.foundEarlier("boot-section", nil) }

// explained reports whether another finding is the cause: a boot section that is
// not what it should be, a region without a part, or one over whose end a part
// runs, across the checksum's place.
func (c *checker) explained(d *declared) bool {
	return c.moved() || c.blank(d.In[0].First) || c.unused(d) ||
		c.foundEarlier("region-overrun", func(f *Finding) bool { return f.Name == d.Region })
}

// unused reports whether the region that a checksum is of need not be there, and holds
// nothing but erased bytes beside it: a slot that is not used.
func (c *checker) unused(d *declared) bool {
	r := c.m.RegionAt(d.In[0].First)
	return r != nil && !r.Required && c.erasedBeside(r)
}

func (c *checker) checksumAbsent() {
	for _, d := range c.declared() {
		if d.absent && d.err == nil && !d.partial && !c.explained(&d) {
			c.addMissing(Finding{Name: d.Name, Where: &d.place, Region: d.Region, What: fmt.Sprintf("%s is missing", d.Name),
				Expected: fmt.Sprintf("%s over %s", d.Kind.Name, d.over), Advice: c.seal("compute and store it", d)})
		}
	}
}

func (c *checker) checksumWrong() {
	for _, d := range c.declared() {
		switch {
		case d.partial || c.explained(&d):
		case d.err != nil:
			advice := "correct the map"
			if d.Length != nil || d.End != nil || d.Place != nil {
				advice = "the image and the map disagree; correct one of them"
			}
			c.addMissing(Finding{
				Name:     d.Name,
				Where:    &d.place,
				Region:   d.Region,
				What:     fmt.Sprintf("%s cannot be computed: %s", d.Name, d.err),
				Expected: "a checksum that can be computed",
				Advice:   source.Advise(advice),
			})
		case !d.absent && string(d.want) != string(d.stored):
			order := memory.Order(d.Order)
			found, _ := checksum.Value(d.stored).Stored(order, 0)
			c.add(Finding{Name: d.Name, Where: &d.place,
				What:     fmt.Sprintf("%s: stored %s, computed %s", d.Name, checksum.Value(found), d.value),
				Expected: fmt.Sprintf("%s over %s, %s-endian: bytes % X", d.Kind.Name, d.over, d.Order, d.want),
				Advice:   c.seal("the image changed after the checksum was stored, or one input is the wrong file; to recompute it", d)})
		}
	}
}

func (c *checker) seal(text string, d declared) source.Advice {
	return operationAdvice(text, "seal", source.Setting{Key: "only", Value: d.Name})
}
