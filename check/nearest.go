package check

import (
	"cmp"
	"iter"
	"slices"

	"mexalt/device"
	"mexalt/memory"
)

// Misplaced returns how many bytes of the image lie where the map has no place for
// them: the fewer, the nearer is the map to the part that they are meant for.
func (r *Result) Misplaced() uint64 {
	var spans []memory.Span
	for _, f := range r.Counting() {
		if rule := RuleOf(f.Rule); rule != nil && rule.misplaced {
			spans = append(spans, *f.Where)
		}
	}
	n := uint64(0)
	for _, s := range memory.Union(spans) {
		n += r.Whole.Count(s)
	}
	return n
}

// Best returns which of the checks of one image against several maps is that of the map
// which the image fits, or comes nearest to; of equals the first.
func Best(results []*Result) *Result {
	return slices.MinFunc(results, func(a, b *Result) int {
		if len(a.Counting()) == 0 || len(b.Counting()) == 0 {
			return len(a.Counting()) - len(b.Counting())
		}
		return cmp.Or(cmp.Compare(a.Misplaced(), b.Misplaced()), len(a.Counting())-len(b.Counting()))
	})
}

// Other is the check of an image against a map that was not asked for.
type Other struct {
	Name string // by which the map is found
	*Result
}

// Others checks an image, of which a check found something, against maps that were not
// asked for: the wrong variant of a part is easily named. It returns those that the image
// fits; where there are none, the one to which it comes nearer, if that is near.
func Others(r *Result, accept []string, maps iter.Seq2[string, *device.Map]) (fit []Other, nearer *Other) {
	const few = 2 // findings; with more, a map is no near one
	least := r.Misplaced()
	for name, m := range maps {
		if m.Name == r.Map.Name || len(m.Regions) == 0 {
			continue
		}
		other := Other{name, Run(m, r.Parts, Options{Accept: accept})}
		switch found := len(other.Counting()); {
		case found == 0:
			fit = append(fit, other)
		case found <= few && other.Misplaced() < least:
			nearer, least = &other, other.Misplaced()
		}
	}
	if fit != nil {
		return fit, nil
	}
	return nil, nearer
}
