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
		spec, err := d.Spec(c.m)
		if err != nil {
			d.err, d.place = err, memory.Span{First: d.At, Last: d.At}
			list = append(list, d)
			continue
		}
		d.place = *spec.Place
		erased := c.m.ErasedAt(d.At)
		d.stored = make([]byte, d.place.Size())
		c.part.Image.ReadAt(d.stored, d.At)
		d.absent = c.part.Image.Count(d.place) < d.place.Size() || !slices.ContainsFunc(d.stored, func(b byte) bool { return b != erased })
		d.partial = c.part.Image.Count(d.In) == 0
		d.value, d.want, d.err = spec.Compute(c.part.Image, 1)
		list = append(list, d)
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
	return c.moved() || c.blank(d.In.First) || c.foundEarlier("region-overrun", func(f *Finding) bool { return f.Name == d.Region })
}

func (c *checker) checksumAbsent() {
	for _, d := range c.declared() {
		if d.absent && d.err == nil && !d.partial && !c.explained(&d) {
			c.addMissing(Finding{Name: d.Name, Where: &d.place, Region: d.Region, What: fmt.Sprintf("%s is not there", d.Name),
				Expected: fmt.Sprintf("%s over %s", d.Kind, d.In), Advice: c.seal("compute and store it", d)})
		}
	}
}

func (c *checker) checksumWrong() {
	for _, d := range c.declared() {
		switch {
		case d.err == nil && (d.partial || c.explained(&d)):
		case d.err != nil:
			c.addMissing(Finding{Name: d.Name, Where: &d.place, Region: d.Region, What: fmt.Sprintf("%s cannot be computed: %s", d.Name, d.err), Expected: "a checksum that the map describes rightly", Advice: source.Advise("correct the map")})
		case !d.absent && string(d.want) != string(d.stored):
			order := checksum.OrderOf(d.Order)
			found, _ := checksum.Value(d.stored).Stored(order, 0)
			c.add(Finding{Name: d.Name, Where: &d.place, What: fmt.Sprintf("%s: stored %s, computed %s", d.Name, checksum.Value(found), d.value),
				Expected: fmt.Sprintf("%s over %s, %s-endian: bytes % X", d.Kind, d.In, d.Order, d.want),
				Advice:   c.seal("the image was changed after it was stored, or a part is another; to store it anew", d)})
		}
	}
}

func (c *checker) seal(text string, d declared) source.Advice {
	return do(text, "seal", source.Setting{Key: "only", Value: d.Name})
}
