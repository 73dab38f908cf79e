package device

import "mexalt/memory"

// ordered puts things of which some wait for others into an order in which each
// comes after those that it waits for. waiting holds, for each, those that wait for
// it. Those that go round in a circle have no place in the order, nor have those
// that wait for one of them; circle holds the first alone.
func ordered(waiting [][]int) (order []int, circle map[int]bool) {
	waits := make([]int, len(waiting))
	for _, list := range waiting {
		for _, i := range list {
			waits[i]++
		}
	}
	done := make([]bool, len(waiting))
	for i, n := range waits {
		if n == 0 {
			order, done[i] = append(order, i), true
		}
	}
	for at := 0; at < len(order); at++ {
		for _, i := range waiting[order[at]] {
			if waits[i]--; waits[i] == 0 {
				order, done[i] = append(order, i), true
			}
		}
	}
	return order, circles(waiting, done)
}

// circles returns which of those that are not done go round in a circle, and do not
// only wait for some that do.
func circles(waiting [][]int, done []bool) map[int]bool {
	in := map[int]bool{}
	waiters := make([]int, len(done)) // how many that are not done wait for each
	waitFor := map[int][]int{}
	for j, list := range waiting {
		for _, i := range list {
			if !done[i] && !done[j] {
				waiters[j]++
				waitFor[i] = append(waitFor[i], j)
			}
		}
	}
	var free []int
	for i := range done {
		if !done[i] {
			in[i] = true
			if waiters[i] == 0 {
				free = append(free, i)
			}
		}
	}
	for ; len(free) > 0; free = free[1:] {
		delete(in, free[0])
		for _, j := range waitFor[free[0]] {
			if waiters[j]--; waiters[j] == 0 {
				free = append(free, j)
			}
		}
	}
	return in
}

// InOrder puts checksums into an order in which each comes after those whose places
// it covers, as the image says where these are; nil is no image, and what only an
// image says is then left out. Where they go round in a circle, their names are
// returned.
func InOrder(m *Map, image *memory.Image, list []*Checksum) (order []*Checksum, circle []string) {
	extents := make([]extent, len(list))
	for i, c := range list {
		extents[i] = c.extent(m, image)
	}
	waiting := make([][]int, len(list))
	for i, a := range extents {
		for j, b := range extents {
			if i != j && b.placed && covers(a.in, list[i].Skip, b.place) {
				waiting[j] = append(waiting[j], i)
			}
		}
	}
	sorted, in := ordered(waiting)
	for _, i := range sorted {
		order = append(order, list[i])
	}
	for i, c := range list {
		if in[i] {
			circle = append(circle, c.Name)
		}
	}
	return order, circle
}

// extent is what a checksum is computed over, and where it is stored.
type extent struct {
	in     []memory.Span
	place  memory.Span
	placed bool // the place is known
}

func (d *Checksum) extent(m *Map, image *memory.Image) extent {
	if image != nil {
		if s, err := d.Spec(m, image); err == nil {
			return extent{s.Feed.Spans, *s.Place, true}
		}
	}
	place, ok := memory.SpanOf(d.At, d.Size)
	return extent{d.In, place, ok && d.Place == nil && d.behind == nil}
}
