package device

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"mexalt/checksum"
	"mexalt/memory"
	"mexalt/source/settings"
	"mexalt/span"
)

// fedName stands for what a checksum is computed over, where its place is given.
const fedName = "fed"

// mostChecksums bounds what finding their order takes.
const mostChecksums = 1000

// checksums loads the declared checksums.
func (l *loader) checksums(m *Map, list []checksumFile) {
	if len(list) > mostChecksums {
		l.problem("checksum", fmt.Sprintf("%d checksums", len(list)), fmt.Sprintf("at most %d", mostChecksums), "")
		return
	}
	names := map[string]bool{}
	var paths []string
	for i := range list {
		path := fmt.Sprintf("checksum[%d]", i)
		c, ok := l.checksum(m, path, &list[i])
		if !ok {
			continue
		}
		if names[c.Name] {
			where := path
			if list[i].Name != "" {
				where += ".name"
			}
			l.problem(where, fmt.Sprintf("the name %s is given twice", c.Name), "", "give each checksum a name of its own")
		}
		names[c.Name] = true
		m.Checksums, paths = append(m.Checksums, c), append(paths, path)
	}
	l.checksumPlaces(m, paths)
	all := make([]*Checksum, len(m.Checksums))
	for i := range m.Checksums {
		all[i] = &m.Checksums[i]
	}
	if _, circle := InOrder(m, nil, all); circle != nil {
		i := slices.IndexFunc(list, func(f checksumFile) bool { return f.Name == circle[0] })
		path := "checksum"
		if i >= 0 {
			path = fmt.Sprintf("checksum[%d].in", i)
		}
		l.problem(path, fmt.Sprintf("the checksums %s each cover the place of another, so none can come first",
			strings.Join(circle, " and ")), "", "")
	}
}

// checksum loads one; ok is false where it cannot be used.
func (l *loader) checksum(m *Map, path string, f *checksumFile) (c Checksum, ok bool) {
	ok = l.keys(path, "checksum "+f.Name, f)
	c = Checksum{Name: f.Name, Order: memory.OrderOf(f.Order == "big"), Slot: f.Slot, Guards: f.Guards, Hardware: f.By == "hardware"}
	if f.Kind != "" {
		var err error
		if c.Kind, err = checksum.KindOf(f.Kind); err != nil {
			l.problem(path+".kind", err.Error(), "", "")
			ok = false
		}
	}
	for _, spans := range []struct {
		key  string
		list settings.Texts
		into *[]memory.Span
	}{{"in", f.In, &c.In}, {"skip", f.Skip, &c.Skip}} {
		for i, text := range spans.list {
			s, sound := l.span(m, l.file.Item(path+"."+spans.key, i), text)
			*spans.into = append(*spans.into, s)
			ok = ok && sound
		}
	}
	if f.Holes != "" {
		hole, sound := l.within(path, "holes", f.Holes, 0, 0, 0xFF)
		b := byte(hole)
		c.Hole, ok = &b, ok && sound
	}
	swap, sound := l.numberOf(path, "swap", f.Swap, 0)
	if c.Swap = int(swap); f.Swap != "" && swap != 2 && swap != 4 && swap != 8 {
		l.problem(path+".swap", fmt.Sprintf("words of %d bytes", swap), "2, 4 or 8", "")
		sound = false
	}
	read, agrees := l.checksumFields(m, path, f, &c), l.checksumAgrees(path, f) // all that is wrong is told
	ok = ok && sound && read && agrees
	l.checksumEffects(m, path, f, c.Hardware)
	if !ok || !l.checksumPlace(m, path, f, &c) {
		return c, false
	}
	l.wholeWords(path, &c)
	return c, true
}

// checksumFields reads what the image itself says.
func (l *loader) checksumFields(m *Map, path string, f *checksumFile, c *Checksum) (ok bool) {
	ok = true
	for _, field := range []struct {
		key  string
		file *fieldAtFile
		into **FieldAt
	}{{"length-at", f.LengthAt, &c.Length}, {"end-at", f.EndAt, &c.End}, {"place-at", f.PlaceAt, &c.Place},
		{"rank-at", f.RankAt, &c.Rank}} {
		if field.file != nil {
			var sound bool
			*field.into, sound = l.fieldAt(m, path+"."+field.key, field.file)
			ok = ok && sound
		}
	}
	return ok
}

// checksumAgrees tells of keys that do not go together.
func (l *loader) checksumAgrees(path string, f *checksumFile) bool {
	switch {
	case f.LengthAt != nil && f.EndAt != nil:
		l.problem(path+".end-at", "length-at and end-at both say where the fed bytes end", "one of them", "")
	case (f.LengthAt != nil || f.EndAt != nil) && len(f.In) > 1:
		l.problem(path+".in", "the image says where the fed bytes end, and there are several spans", "one span, as far as it can reach", "")
	case f.At == "" && f.PlaceAt == nil:
		l.problem(path, strings.TrimSpace("checksum "+f.Name)+" has no place", "at = ADDRESS, or place-at", "")
	case f.At != "" && f.PlaceAt != nil:
		l.problem(path+".place-at", "at and place-at both say where the value is stored", "one of them", "")
	default:
		return true
	}
	return false
}

// checksumEffects tells of keys that have no effect.
func (l *loader) checksumEffects(m *Map, path string, f *checksumFile, hardware bool) {
	if f.By != "" && f.Guards == "" {
		l.problem(path+".checked-by", "checked-by has no effect without a region that is guarded", "guards = \"REGION\"", "")
	}
	if f.RankAt != nil && hardware {
		l.problem(path+".rank-at", "rank-at has no effect on what the device itself checks", "checked-by = \"loader\", or no such key", "")
	}
	if f.RankAt != nil && f.Guards == "" {
		l.problem(path+".rank-at", "rank-at has no effect without a region that is guarded", "guards = \"REGION\"", "")
	}
	if f.Guards != "" && m.Region(f.Guards) == nil && !l.lost(f.Guards) {
		l.problem(path+".guards", fmt.Sprintf("unknown region %s", f.Guards), "", "")
	}
}

func (l *loader) fieldAt(m *Map, path string, f *fieldAtFile) (*FieldAt, bool) {
	ok := l.keys(path, lastKey(path), f)
	at, ok1 := l.numberOf(path, "at", f.At, 0)
	width, ok2 := l.within(path, "width", f.Width, 4, 1, 8)
	text, below := strings.CutPrefix(string(f.Offset), "-")
	offset, ok3 := l.numberOf(path, "offset", settings.Expression(text), 0)
	if ok3 && offset > math.MaxInt64 {
		l.problem(path+".offset", "the offset is too large", "", "")
		ok3 = false
	}
	if !ok || !ok1 || !ok2 || !ok3 {
		return nil, false
	}
	field := &FieldAt{At: at, Width: int(width), Order: memory.Order(f.Order), Offset: int64(offset)}
	if below {
		field.Offset = -field.Offset
	}
	if at > math.MaxUint64-width {
		l.problem(path+".at", "runs past the last 64-bit address", "", "")
		return nil, false
	}
	return field, l.kept(m, path+".at", lastKey(path)+", "+field.Span().String()+",", field.Span())
}

// checksumPlace finds where the value is stored, and proves it.
func (l *loader) checksumPlace(m *Map, path string, f *checksumFile, c *Checksum) bool {
	size, ok := l.within(path, "size", f.Size, uint64(c.Kind.Size()), 1, 64)
	if !ok {
		return false
	}
	if size < uint64(c.Kind.Size()) {
		l.problem(path+".size", fmt.Sprintf("a %s of %d bytes does not fit into %d", c.Kind.Name, c.Kind.Size(), size), "", "")
		return false
	}
	c.Size = size
	fed := memory.Span{First: c.In[0].First, Last: c.In[len(c.In)-1].Last}
	if r := m.InnermostAt(fed.First); r != nil {
		c.Region = r.Name
	}
	if f.At != "" {
		at := func(s memory.Span) (uint64, error) { return span.Address(string(f.At), l.names.With(fedName, s)) }
		var err error
		if c.At, err = at(fed); err != nil {
			if l.known(string(f.At)) {
				l.problem(path+".at", err.Error(), "", "")
			}
			return false
		}
		if (c.Length != nil || c.End != nil) && slices.Contains(span.NamesIn(string(f.At)), fedName) && fed.Size() > 1 {
			shorter, err := at(memory.Span{First: fed.First, Last: fed.Last - 1})
			if err != nil || c.At-shorter != 1 || c.At <= fed.Last {
				l.problem(path+".at", fmt.Sprintf("%q does not stay after what is fed where that ends earlier", string(f.At)),
					"fed.last + 1 or more", "")
				return false
			}
			behind := c.At - fed.Last
			c.behind, c.At = &behind, 0 // what the map says ends at its most
		} else if !l.checksumFixed(m, path, c) {
			return false
		}
	}
	if c.Name == "" {
		c.Name = cmp.Or(c.Region, c.Kind.Name)
	}
	return true
}

// checksumFixed proves the place of a value that stands still.
func (l *loader) checksumFixed(m *Map, path string, c *Checksum) bool {
	place, ok := memory.SpanOf(c.At, c.Size)
	if !ok {
		l.problem(path+".at", fmt.Sprintf("%d bytes at %s run past the last 64-bit address", c.Size, memory.FormatAddress(c.At)), "", "")
		return false
	}
	if !l.kept(m, path+".at", "the checksum's place "+place.Range(), place) {
		return false
	}
	if r := m.InnermostAt(c.At); r != nil {
		c.Region = r.Name
		if !r.Span.Covers(place) {
			l.problem(
				path+".at",
				fmt.Sprintf("the checksum's place %s runs past the end of region %s at %s", place.Range(), r.Name,
					memory.FormatAddress(r.Span.Last)),
				"",
				"",
			)
			return false
		}
	}
	inside := covers(c.In, c.Skip, place)
	switch {
	case inside && c.Slot == "" && c.Length == nil && c.End == nil:
		l.problem(path+".at", fmt.Sprintf("the checksum's place %s is inside the span that it is computed over", place.Range()),
			"slot = \"skip\", \"zero\" or \"erased\", or a span that ends before it", "")
		return false
	case !inside && c.Slot != "":
		l.problem(path+".slot", fmt.Sprintf("slot has no effect: the checksum's place %s is outside the span", place.Range()), "", "")
	}
	return true
}

// covers reports whether spans, but for others, hold an address of a place.
func covers(in, skip []memory.Span, place memory.Span) bool {
	if len(skip) > 0 {
		in = memory.Without(in, memory.Union(skip))
	}
	return slices.ContainsFunc(in, func(s memory.Span) bool { _, ok := s.Meet(place); return ok })
}

// wholeWords proves that what is fed is whole words, where the algorithm takes
// words.
func (l *loader) wholeWords(path string, c *Checksum) {
	word := max(c.Swap, c.Kind.Word, 1)
	if word == 1 || c.Length != nil || c.End != nil {
		return
	}
	skip := slices.Clone(c.Skip)
	if place, ok := memory.SpanOf(c.At, c.Size); ok && c.Slot == "skip" && c.Place == nil {
		skip = append(skip, place)
	}
	size := memory.SizeOf(memory.Without(c.In, memory.Union(skip)))
	if size%uint64(word) != 0 {
		l.problem(path+".in", fmt.Sprintf("the span has %d bytes, not a multiple of the word size %d bytes", size, word), "", "")
	}
}
