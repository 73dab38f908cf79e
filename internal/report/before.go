package report

import (
	"fmt"
	"slices"

	"mexalt/check"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/release/proof"
)

// Before is an earlier release, by its manifest.
type Before struct {
	Name    string // of the manifest
	Title   string
	Product *proof.Product
}

// Region returns what was used of a region.
func (b *Before) Region(name string) (used uint64, ok bool) {
	i := slices.IndexFunc(b.Product.Regions, func(r proof.Region) bool { return r.Name == name })
	if i < 0 {
		return 0, false
	}
	return b.Product.Regions[i].Used, true
}

// Part returns the input that a part takes the place of: of its name, its file, or
// where it begins; the image of the part may be nil.
func (b *Before) Part(m *device.Map, name, file string, image *memory.Image) *proof.Input {
	all, ok := memory.Span{}, false
	if image != nil {
		all, ok = image.Span()
	}
	if !ok {
		return nil
	}
	here := m.RegionAt(all.First)
	for _, is := range []func(in *proof.Input) bool{
		func(in *proof.Input) bool { return in.Name == name },
		func(in *proof.Input) bool { return in.File == file },
		func(in *proof.Input) bool {
			s, ok := in.Where()
			return ok && here != nil && m.RegionAt(s.First) == here
		},
	} {
		if i := slices.IndexFunc(b.Product.Inputs, func(in proof.Input) bool { return is(&in) }); i >= 0 {
			return &b.Product.Inputs[i]
		}
	}
	return nil
}

// Change says how the use of a region has changed.
func (b *Before) Change(u *check.Use) string {
	before, ok := b.Region(u.Region.Name)
	if !ok {
		return "new"
	}
	return Grown(u.Used+u.Over, before)
}

// Grown says by how much something grew, or shrank.
func Grown(now, before uint64) string {
	if now == before {
		return "as before"
	}
	sign, by := "+", now-before
	if now < before {
		sign, by = "−", before-now
	}
	if before == 0 {
		return sign + memory.FormatCount(by) + ", new"
	}
	return fmt.Sprintf("%s%s (%s%.1f %%)", sign, memory.FormatCount(by), sign, 100*float64(by)/float64(before))
}
