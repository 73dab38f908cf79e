package device

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mexalt/memory"
	"mexalt/source/settings"
	"mexalt/span"
)

// regions loads the regions, which may be given in terms of each other in any
// order: a region waits for those that it names.
func (l *loader) regions(m *Map, list []regionFile) {
	number := make(map[string]int, len(list)) // of each region, by its name
	for i := range list {
		f := &list[i]
		path := regionPath(i)
		l.name(path, f.Name)
		if j, twice := number[f.Name]; twice && f.Name != "" {
			l.problem(path+".name", fmt.Sprintf("the name %s is given twice", f.Name),
				fmt.Sprintf("another name than that of region %d", j+1), "")
			l.misnamed = true
			continue
		}
		number[f.Name] = i
		l.regionKeys(path, f)
	}
	spans, order := l.resolve(m, list, number)
	placed := make([]Region, 0, len(list))
	for i := range list {
		f := &list[i]
		if spans[i] == nil {
			l.fail(f)
			continue
		}
		r := Region{Name: f.Name, Role: Role(f.Role), Span: *spans[i], Required: f.Required, Inside: f.Inside, path: regionPath(i)}
		if j, ok := number[f.Like]; ok && f.Like != "" {
			r.Role = cmp.Or(r.Role, Role(list[j].Role))
		}
		placed = append(placed, r)
	}
	m.Regions = l.nested(placed)
	l.twins(m, list, order)
	m.byName = make(map[string]*Region, len(list))
	for r := range m.All() {
		m.byName[r.Name] = r
		if mem := m.MemoryAt(r.Span.First); mem != nil {
			r.Memory = mem.Name
		}
	}
}

// regionPath is where a region stands in its file.
func regionPath(i int) string { return "region[" + strconv.Itoa(i) + "]" }

// regionKeys proves that a region has the keys that it needs.
func (l *loader) regionKeys(path string, f *regionFile) {
	l.keys(path, "region "+f.Name, f)
	if f.Required && Role(f.Role) == Reserved {
		l.problem(path+".required", fmt.Sprintf("region %s is reserved, and required: nothing may be there, and something must", f.Name),
			"one of the two", "")
	}
	switch given := f.given(); {
	case f.Like == "":
		if f.Role == "" {
			l.problem(path, fmt.Sprintf("region %s has no role", f.Name),
				"role = \"bootloader\", \"application\", \"data\" or \"reserved\"", "")
		}
		if given != 2 {
			l.problem(path, fmt.Sprintf("region %s needs two of first, size and last", f.Name), "", "")
		}
	case f.Like == f.Name:
		l.problem(path+".like", fmt.Sprintf("region %s is like itself", f.Name), "another region's name", "")
	case given != 1 || f.Size != "":
		l.problem(path, fmt.Sprintf("region %s is like %s, and has neither first nor last", f.Name, f.Like),
			"one of them; the size is the same", "")
	}
}

// expressions returns what a region is given by.
func (f *regionFile) expressions() []settings.Expression {
	return []settings.Expression{f.First, f.Size, f.Last}
}

// given returns how many of first, size and last a region has.
func (f *regionFile) given() int {
	n := 0
	for _, e := range f.expressions() {
		if e != "" {
			n++
		}
	}
	return n
}

// enough reports whether a region has what says where it lies.
func (f *regionFile) enough() bool {
	if f.Like != "" {
		return f.given() == 1 && f.Size == "" && f.Like != f.Name
	}
	return f.given() == 2
}

// resolve finds where the regions lie, and the order in which that is known. A span is nil
// where it could not be found, which is told.
func (l *loader) resolve(m *Map, list []regionFile, number map[string]int) (spans []*memory.Span, order []int) {
	waiting := make([][]int, len(list)) // those that wait for each
	for i := range list {
		f := &list[i]
		waits := func(name string) {
			if j, ok := number[name]; ok {
				waiting[j] = append(waiting[j], i)
			}
		}
		for _, e := range f.expressions() {
			for _, name := range span.NamesIn(string(e)) {
				waits(name)
			}
		}
		if f.Like != "" {
			if _, ok := number[f.Like]; !ok && !l.misnamed {
				l.problem(regionPath(i)+".like", fmt.Sprintf("unknown region %s", f.Like), "", "")
				l.fail(f)
			}
			waits(f.Like)
		}
	}
	spans = make([]*memory.Span, len(list))
	found := make([]memory.Span, len(list))
	sorted, circle := ordered(waiting)
	for i := range list {
		if circle[i] {
			l.problem(regionPath(i), fmt.Sprintf("the address of region %s depends on itself", list[i].Name), "",
				"use a number for one of these regions")
		}
	}
	for _, i := range sorted {
		f := &list[i]
		if !f.enough() || number[f.Name] != i || l.broken[f.Like] {
			l.fail(f)
			continue
		}
		path := regionPath(i)
		s, ok := l.regionSpan(path, f)
		if !ok || f.Inside == "" && !l.place(m, path, f.Name, s) {
			l.fail(f)
			continue
		}
		if mem := m.MemoryAt(s.First); f.Inside == "" && mem != nil && mem.Kind == Flash {
			if sector, ok := mem.SectorAt(s.First); ok && sector.First != s.First {
				at := path + ".first"
				if !l.file.Has(at) {
					at = path
				}
				l.file.Warn(at,
					fmt.Sprintf("region %s begins at %s, inside the sector %s", f.Name, memory.FormatAddress(s.First), sector.Range()),
					"the first address of a sector, because a sector is erased as a whole", "")
			}
		}
		found[i] = s
		spans[i], order = &found[i], append(order, i)
		if f.Name != "" {
			l.names.Set(f.Name, s)
		}
	}
	return spans, order
}

// fail says that a region could not be placed.
func (l *loader) fail(f *regionFile) {
	l.broken[f.Name] = true
	if f.Like != "" && f.Name != "" {
		l.twinless = append(l.twinless, f.Name)
	}
}

// holds loads by what the parts of regions are known.
func (l *loader) holds(m *Map, list []regionFile) {
	for i := range list {
		f := &list[i]
		if len(f.Holds) == 0 {
			continue
		}
		r := m.Region(f.Name)
		if r == nil || r.path != regionPath(i) {
			continue
		}
		for j := range f.Holds {
			h := &f.Holds[j]
			path := l.file.Item(regionPath(i)+".holds", j)
			if h.unknown {
				if r.Unknown = true; len(f.Holds) > 1 {
					l.problem(path, unknownWord+" cannot be combined with others", "it alone, or the others", "")
				}
				continue
			}
			if held, ok := l.content(m, path, r, h); ok {
				r.Holds = append(r.Holds, held)
			}
		}
	}
	for i := range list {
		if list[i].Like == "" {
			continue
		}
		twin, like := m.Region(list[i].Name), m.Region(list[i].Like)
		if twin == nil || like == nil || len(twin.Holds) > 0 || twin.Unknown {
			continue
		}
		twin.Unknown = like.Unknown
		for _, h := range like.Holds {
			h.At += twin.Span.First - like.Span.First
			twin.Holds = append(twin.Holds, h)
		}
	}
}

// content loads bytes, or a text, by which a region's part is known.
func (l *loader) content(m *Map, path string, r *Region, f *holdsFile) (h Content, ok bool) {
	if !l.keys(path, "holds", f) {
		return h, false
	}
	if (f.Bytes == "") == (f.Text == "") {
		l.problem(path, "contents are given as bytes or as a text", "one of the two", "")
		return h, false
	}
	key, read, text := "bytes", span.Bytes, f.Bytes
	if f.Text != "" {
		key, read, text = "text", span.Text, f.Text
		h.Text = f.Text
	}
	at, ok := l.numberOf(path, "at", f.At, 0)
	b, err := read(text)
	if err != nil {
		l.problem(path+"."+key, err.Error(), "", "")
		return h, false
	}
	h.At, h.Bytes = at, b
	s, fits := memory.SpanOf(at, uint64(len(b)))
	if ok && (!fits || !r.Span.Covers(s)) {
		l.problem(path+".at", fmt.Sprintf("%d bytes at %s are not in region %s, %s", len(b), memory.FormatAddress(at), r.Name, r.Span),
			"", "")
		return h, false
	}
	return h, ok
}

func (l *loader) regionSpan(path string, f *regionFile) (memory.Span, bool) {
	first, ok1 := l.numberOf(path, "first", f.First, 0)
	size, ok2 := l.numberOf(path, "size", f.Size, 0)
	last, ok3 := l.numberOf(path, "last", f.Last, 0)
	unit, ok4 := l.within(path, "unit", f.Unit, 1, 1, 8)
	if !ok1 || !ok2 || !ok3 || !ok4 {
		return memory.Span{}, false
	}
	if unit > 1 {
		const most = 1 << 60 // so that nothing runs over
		if first > most || size > most || last > most {
			l.problem(path+".unit", fmt.Sprintf("an address of region %s is too large to count words", f.Name), "", "")
			return memory.Span{}, false
		}
		first, size, last = first*unit, size*unit, last*unit+unit-1
	}
	if f.Like != "" {
		twin, _ := l.names.Span(f.Like)
		size = twin.Size()
	}
	if f.First == "" {
		if size == 0 || size-1 > last {
			l.problem(path+".size", fmt.Sprintf("%d bytes up to %s make no span", size, memory.FormatAddress(last)),
				"1 byte or more, not below 0", "")
			return memory.Span{}, false
		}
		return memory.Span{First: last - size + 1, Last: last}, true
	}
	if f.Last != "" {
		if last < first {
			l.problem(
				path+".last",
				fmt.Sprintf("region %s begins at %s and ends before that, at %s", f.Name, memory.FormatAddress(first),
					memory.FormatAddress(last)),
				"",
				"",
			)
			return memory.Span{}, false
		}
		return memory.Span{First: first, Last: last}, true
	}
	s, ok := memory.SpanOf(first, size)
	if !ok {
		l.problem(path+".size", fmt.Sprintf("invalid range: %d bytes from %s", size, memory.FormatAddress(first)),
			"1 byte or more, not past the last 64-bit address", "")
	}
	return s, ok
}

// place reports whether a region lies in one memory.
func (l *loader) place(m *Map, path, name string, s memory.Span) bool {
	switch mem := m.MemoryAt(s.First); {
	case mem != nil && mem.Span.Covers(s):
		return true
	case l.unplaced:
	case mem == nil:
		l.problem(path+".first", fmt.Sprintf("region %s begins at %s, which is in no memory", name, memory.FormatAddress(s.First)), "", "")
	default:
		l.problem(path, fmt.Sprintf("region %s, %s, runs past the end of memory %s at %s, by %s", name, s, mem.Name,
			memory.FormatAddress(mem.Span.Last), memory.FormatSize(s.Last-mem.Span.Last)), "", "")
	}
	return false
}

// nested puts pieces into the regions that they are inside of, and returns the
// outermost.
func (l *loader) nested(placed []Region) []Region {
	pieces := map[string][]Region{"": make([]Region, 0, len(placed))} // by the region around them
	spans, inside := map[string]memory.Span{}, map[string]string{}
	if slices.ContainsFunc(placed, func(r Region) bool { return r.Inside != "" }) {
		for _, r := range placed {
			spans[r.Name], inside[r.Name] = r.Span, r.Inside
		}
	}
	// around proves that a way outwards ends.
	const deepest = 100
	ends := func(name string) bool {
		for range deepest {
			if name = inside[name]; name == "" {
				return true
			}
		}
		return false
	}
	for _, r := range placed {
		outer, known := spans[r.Inside]
		switch {
		case r.Inside == "":
		case !known:
			if !l.lost(r.Inside) {
				l.problem(r.path+".inside", fmt.Sprintf("unknown region %s", r.Inside), "", "")
			}
			continue
		case !ends(r.Name):
			l.problem(r.path+".inside", fmt.Sprintf("region %s is inside itself through others, or more than %d deep", r.Name, deepest),
				"", "")
			continue
		case !outer.Covers(r.Span):
			l.problem(r.path+".inside", fmt.Sprintf("region %s, %s, is not inside %s, %s", r.Name, r.Span, r.Inside, outer), "", "")
			continue
		}
		pieces[r.Inside] = append(pieces[r.Inside], r)
	}
	var gather func(name string) []Region
	gather = func(name string) []Region {
		found := pieces[name]
		first := func(a, b Region) int { return cmp.Compare(a.Span.First, b.Span.First) }
		if !slices.IsSortedFunc(found, first) { // most maps give them in order
			slices.SortStableFunc(found, first)
		}
		for i := range found {
			if i > 0 {
				a, b := &found[i-1], &found[i]
				if both, ok := a.Span.Meet(b.Span); ok {
					l.problem(b.path, fmt.Sprintf("region %s overlaps region %s over %s", b.Name, a.Name, both), "", "")
				}
			}
			if found[i].Name != "" {
				found[i].Inner = gather(found[i].Name)
			}
		}
		return found
	}
	return gather("")
}

// twins gives regions that are like another the pieces that this has.
func (l *loader) twins(m *Map, list []regionFile, order []int) {
	const most = 1000 // each is looked up among all
	count := 0
	for _, i := range order {
		f := &list[i]
		if f.Like == "" {
			continue
		}
		if count++; count > most {
			l.problem(regionPath(i)+".like", fmt.Sprintf("more than %d regions are like others", most), "", "")
			return
		}
		twin, like := m.Region(f.Name), m.Region(f.Like)
		if twin == nil || like == nil {
			continue
		}
		twin.Inner = append(twin.Inner, l.copied(like, twin, like.Inner, twin.Name, regionPath(i)+".like")...)
		slices.SortStableFunc(twin.Inner, func(a, b Region) int { return cmp.Compare(a.Span.First, b.Span.First) })
		for j := 1; j < len(twin.Inner); j++ {
			if both, ok := twin.Inner[j-1].Span.Meet(twin.Inner[j].Span); ok {
				l.problem(regionPath(i)+".like",
					fmt.Sprintf("region %s overlaps region %s over %s", twin.Inner[j].Name, twin.Inner[j-1].Name, both), "", "")
			}
		}
	}
}

// copied returns pieces as they are in a twin: as far from its first address, and
// named after it.
func (l *loader) copied(like, twin *Region, pieces []Region, inside, path string) (list []Region) {
	for _, r := range pieces {
		name, ok := strings.CutPrefix(r.Name, like.Name)
		if !ok {
			name = "_" + r.Name
		}
		name = twin.Name + name
		if _, taken := l.names.Span(name); taken {
			l.problem(path, fmt.Sprintf("the name %s, of the twin of %s, is given already", name, r.Name), "", "")
			continue
		}
		s := memory.Span{First: twin.Span.First + (r.Span.First - like.Span.First), Last: twin.Span.First + (r.Span.Last - like.Span.First)}
		l.names.Set(name, s)
		copy := Region{Name: name, Role: r.Role, Span: s, Required: r.Required && twin.Required, Inside: inside, path: path}
		copy.Inner = l.copied(like, twin, r.Inner, name, path)
		list = append(list, copy)
	}
	return list
}
