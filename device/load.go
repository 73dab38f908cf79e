package device

import (
	"cmp"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/source/settings"
	"mexalt/span"
)

// build makes a map of what its file says; again is of one that was loaded before,
// with other sizes.
func build(name string, f mapFile, decoded places, again bool) *Map {
	l := loader{file: decoded, broken: map[string]bool{}, startsAt: map[uint64]bool{}, again: again}
	m := &Map{
		Name:      f.Name,
		File:      name,
		Machine:   f.Machine,
		ByteOrder: memory.Order(f.ByteOrder),
		file:      f,
		sizes:     &sizes{known: map[string]*Map{}},
	}
	l.keys("", "the map", &f)
	l.identities(m, &f)
	for i := range f.Memories {
		l.memory(m, fmt.Sprintf("memory[%d]", i), &f.Memories[i])
	}
	l.overlaps(m)
	l.names.Words = m.words()
	l.regions(m, f.Regions)
	l.holds(m, f.Regions)
	for i := range f.Starts {
		l.start(m, l.file.Item("start", i), &f.Starts[i])
	}
	l.twinStarts(m, f.Regions)
	l.checksums(m, f.Checksums)
	l.config(m, f.Config, f.Groups)
	l.ports(m, f.Ports)
	l.effects(m)
	l.wishes(m, f.Wishes)
	l.speeds(m, f.Speeds)
	l.clocks(m, f.Regions)
	l.link(m, f.Link)
	l.loader(m, f.Loader)
	if f.IdentityAt != "" && len(m.Identities) > 0 {
		if at, ok := l.number("identity-at", f.IdentityAt, 0); ok && l.identityPlace(m, at) {
			m.IdentityAt = &at
		}
	}
	if f.IdentityRead != "" && len(m.Identities) > 0 {
		if at, ok := l.number("identity-read-at", f.IdentityRead, 0); ok && l.identityReadPlace(m, at) {
			m.IdentityReadAt = &at
		}
	}
	return m
}

// identityReadPlace proves where the device itself has its identity.
func (l *loader) identityReadPlace(m *Map, at uint64) bool {
	s, ok := memory.SpanOf(at, uint64(len(m.Identities[0].Bytes)))
	if !ok {
		l.problem("identity-read-at", "the identity runs past the last 64-bit address", "", "")
		return false
	}
	for i := range m.Memories {
		mem := &m.Memories[i]
		if both, met := mem.Span.Meet(s); met && mem.Kind != ROM {
			l.problem("identity-read-at",
				fmt.Sprintf("%s is in %s, which can be changed, so nothing there says what the device is", both.Range(), mem.Name),
				"an address outside, or in a rom", "")
			return false
		}
	}
	return true
}

// identityPlace proves where an image carries its identity.
func (l *loader) identityPlace(m *Map, at uint64) bool {
	s, ok := memory.SpanOf(at, uint64(len(m.Identities[0].Bytes)))
	if !ok {
		l.problem("identity-at", "the identity runs past the last 64-bit address", "", "")
		return false
	}
	if !l.kept(m, "identity-at", "the identity's place "+s.Range(), s) {
		return false
	}
	for i := range m.Checksums {
		c := &m.Checksums[i]
		if place, ok := c.fixed(); ok {
			if both, over := place.Meet(s); over {
				l.problem("identity-at",
					fmt.Sprintf("the identity's place %s overlaps that of checksum %s, at %s", s.Range(), c.Name, both.Range()), "", "")
				return false
			}
		}
	}
	return true
}

// kept reports whether a span lies in one memory that keeps what is in it, and tells
// where not.
func (l *loader) kept(m *Map, path, what string, s memory.Span) bool {
	if !l.inMemory(m, path, what, s) {
		return false
	}
	if mem := m.MemoryAt(s.First); mem.Kind == RAM {
		l.problem(path, fmt.Sprintf("%s is in %s, which is %s and keeps nothing without power", what, mem.Name, mem.Kind),
			"a memory that keeps it", "")
		return false
	}
	return true
}

// loader puts a map together. One cause is told once: what is said in terms of
// something that could not be loaded is passed over.
type loader struct {
	file   places
	names  span.Names      // loaded so far
	broken map[string]bool // names of what could not be
	// unplaced is whether a memory could not be placed, so that what seems to lie
	// in none may lie in that.
	unplaced bool
	count    int  // of problems
	misnamed bool // a name is wrong, so that one that is not known may stand for it
	again    bool // the sizes that values set were proven
	tables   map[string][]keyRule
	startsAt map[uint64]bool
	fields   map[string]bool // names of fields, and of those that could not be loaded
	twinless []string        // twins that could not be placed, so that none of their pieces is known
}

func (l *loader) problem(path, what, expected, advice string) {
	l.count++
	l.file.Problem(path, what, expected, advice)
}

// name proves a name and that it is free.
func (l *loader) name(path, name string) {
	switch _, taken := l.names.Span(name); {
	case name == "": // told by keys
	case !span.IsName(name):
		l.problem(path+".name", fmt.Sprintf("%q cannot be a name", name), "letters, digits and _, with no digit first", "")
	case name == "image" || name == fedName:
		l.problem(path+".name", fmt.Sprintf("the name %s has a meaning of its own", name), "", "choose another")
	case taken || l.broken[name]:
		l.problem(path+".name", fmt.Sprintf("the name %s is given twice", name), "", "")
		l.misnamed = true
	}
}

// lost reports whether a name is of something that could not be loaded, which is
// told.
func (l *loader) lost(name string) bool {
	if l.misnamed {
		if _, ok := l.names.Span(name); !ok {
			return true
		}
	}
	return l.broken[name] || slices.ContainsFunc(l.twinless, func(twin string) bool { return strings.HasPrefix(name, twin) })
}

// near says which name may have been meant. Of very many mistakes, the first ones
// get advice, so that the rest are told in a moment.
func (l *loader) near(name string, known func() []string) string {
	if l.count > mostAdvised {
		return ""
	}
	return source.DidYouMean(name, known())
}

const mostAdvised = 40

// known reports whether an expression names nothing that could not be loaded.
func (l *loader) known(text string) bool {
	return len(l.broken)+len(l.twinless) == 0 && !l.misnamed || !slices.ContainsFunc(span.NamesIn(text), l.lost)
}

// number evaluates an expression; def is its value where it is not there.
func (l *loader) number(path string, e settings.Expression, def uint64) (uint64, bool) {
	n, ok, wrong := l.value(e, def)
	if wrong != nil {
		l.problem(path, wrong.Error(), "", "")
	}
	return n, ok
}

// numberOf is number of a key of the table at path. Most are right or not there, and their
// paths are never put together.
func (l *loader) numberOf(path, key string, e settings.Expression, def uint64) (uint64, bool) {
	n, ok, wrong := l.value(e, def)
	if wrong != nil {
		l.problem(path+"."+key, wrong.Error(), "", "")
	}
	return n, ok
}

// value evaluates an expression as number does, and returns what is wrong with it, which
// nobody was told of.
func (l *loader) value(e settings.Expression, def uint64) (n uint64, ok bool, wrong error) {
	if e == "" {
		return def, true, nil
	}
	if !l.known(string(e)) {
		return 0, false, nil
	}
	l.names.WithoutAdvice = l.count > mostAdvised
	n, wrong = span.Address(string(e), l.names)
	return n, wrong == nil, wrong
}

// within evaluates an expression of a key that must be from least to most.
func (l *loader) within(path, key string, e settings.Expression, def, least, most uint64) (uint64, bool) {
	n, ok := l.numberOf(path, key, e, def)
	if ok && e != "" && (n < least || n > most) {
		l.problem(path+"."+key, fmt.Sprintf("%s is %d", key, n), fmt.Sprintf("%d to %d", least, most), "")
		return 0, false
	}
	return n, ok
}

// span reads a span that must lie in one memory.
func (l *loader) span(m *Map, path, text string) (memory.Span, bool) {
	if !l.known(text) {
		return memory.Span{}, false
	}
	l.names.WithoutAdvice = l.count > mostAdvised
	s, err := span.Span(text, l.names)
	switch {
	case err != nil:
		l.problem(path, err.Error(), "", "")
		return s, false
	case !l.inMemory(m, path, "the span "+s.String(), s):
		return s, false
	}
	return s, true
}

// inMemory reports whether a span lies in one memory, and tells where not.
func (l *loader) inMemory(m *Map, path, what string, s memory.Span) bool {
	mem := m.MemoryAt(s.First)
	switch {
	case mem != nil && mem.Span.Covers(s):
		return true
	case l.unplaced:
	case mem == nil:
		l.problem(path, what+" is in no memory", "", "")
	default:
		l.problem(path, fmt.Sprintf("%s runs past the end of memory %s at %s, by %s", what, mem.Name, memory.FormatAddress(mem.Span.Last),
			memory.FormatSize(s.Last-mem.Span.Last)), "", "")
	}
	return false
}

func lastKey(path string) string { return path[strings.LastIndexByte(path, '.')+1:] }

func (l *loader) identities(m *Map, f *mapFile) {
	var mask []byte
	if f.IdentityMask != "" {
		var err error
		if mask, err = span.Bytes(f.IdentityMask); err != nil {
			l.problem("identity-mask", err.Error(), "", "")
			return
		}
		if !slices.ContainsFunc(mask, func(b byte) bool { return b != 0 }) {
			l.problem("identity-mask", "no bit counts, so any device has this identity", "a mask with bits set", "")
			return
		}
	}
	for i, text := range f.Identity {
		path := l.file.Item("identity", i)
		b, err := span.Bytes(text)
		d := Identity{b, mask}
		switch {
		case err != nil:
			l.problem(path, err.Error(), "", "")
			continue
		case len(b) == 0:
			l.problem(path, "the identity has no bytes", "hex digits", "")
			continue
		case f.IdentityMask == "":
			d.Mask = slices.Repeat([]byte{0xFF}, len(b))
		case len(mask) != len(b):
			masked, is := memory.FormatBytes(uint64(len(mask))), memory.FormatBytes(uint64(len(b)))
			l.problem("identity-mask", fmt.Sprintf("the mask has %s, the identity %s", masked, is), "", "")
			return
		}
		if j := slices.IndexFunc(m.Identities, func(o Identity) bool { return o.Is(b) }); j >= 0 {
			l.problem(path,
				fmt.Sprintf("the identity %s is the same as the one before it, %s, in all bits that count", d, m.Identities[j]),
				"one for each revision", "")
			continue
		}
		m.Identities = append(m.Identities, d)
	}
	for key, given := range map[string]bool{
		"identity-at":      f.IdentityAt != "",
		"identity-mask":    f.IdentityMask != "",
		"identity-read-at": f.IdentityRead != "",
	} {
		if given && len(f.Identity) == 0 && !l.file.Has("identity") {
			l.problem(key, key+" has no effect without an identity", "identity = \"HEX DIGITS\"", "")
		}
	}
}

func (l *loader) memory(m *Map, path string, f *memoryFile) {
	mem := Memory{Name: f.Name, Kind: Kind(f.Kind), WriteOnce: f.WriteOnce, Corrects: f.Corrects, path: path}
	l.name(path, f.Name)
	if ok := l.keys(path, "memory "+f.Name, f); !ok || !l.placeMemory(path, f, &mem) {
		l.unplaced = true
		l.broken[f.Name] = true
		return
	}
	if _, taken := l.names.Span(f.Name); !taken && f.Name != "" {
		l.names.Set(f.Name, mem.Span)
	}
	if mem.Kind == RAM {
		for _, key := range []struct {
			name  string
			given bool
		}{
			{"erased", f.Erased != ""}, {"page", f.Page != ""}, {"granule", f.Granule != ""}, {"write-once", f.WriteOnce},
			{"ecc", f.Corrects}, {"endurance", f.Bears != ""}, {"sectors", len(f.Sectors) > 0}, {"erase-time", f.Erase != nil},
			{"program-time", f.Program != nil},
		} {
			if key.given {
				l.problem(path+"."+key.name, key.name+" has no effect on RAM, which is not programmed",
					"another kind of memory, or no such key", "")
			}
		}
	}
	size := mem.Span.Size()
	erased, ok := l.numberOf(path, "erased", f.Erased, 0xFF)
	if mem.Erased = byte(erased); ok && erased > 0xFF {
		l.problem(path+".erased", fmt.Sprintf("the erased value 0x%X is not a byte", erased), "0 to 0xFF", "")
	}
	divides := func(key string, e settings.Expression) uint64 {
		n, ok := l.numberOf(path, key, e, 0)
		if ok && e != "" && (n == 0 || size%n != 0) {
			l.problem(path+"."+key, fmt.Sprintf("the memory's %s is not a multiple of its %d-byte %s", memory.FormatSize(size), n, key),
				"", "")
			return 0
		}
		return n
	}
	mem.Page, mem.Granule = divides("page", f.Page), divides("granule", f.Granule)
	switch {
	case mem.Page != 0 && mem.Granule > mem.Page:
		l.problem(path+".granule", fmt.Sprintf("granules of %d bytes are larger than pages of %d", mem.Granule, mem.Page), "", "")
	case mem.Page != 0 && mem.Granule != 0 && mem.Page%mem.Granule != 0:
		l.problem(path+".page", fmt.Sprintf("pages of %d bytes are not whole granules of %d", mem.Page, mem.Granule), "", "")
	}
	if f.WriteOnce && f.Granule == "" {
		l.problem(path+".write-once", "write-once has no effect without a granule", "granule = BYTES", "")
	}
	if f.Corrects && f.Granule == "" {
		l.problem(path+".ecc", "ecc has no effect without a granule", "granule = BYTES", "")
	}
	mem.Bears, _ = l.within(path, "endurance", f.Bears, 0, 1, 1<<40)
	l.sectors(path, f.Sectors, &mem)
	mem.Erase, mem.Program = l.times(path+".erase-time", f.Erase), l.times(path+".program-time", f.Program)
	for i, a := range f.Aliases {
		at, ok, wrong := l.value(a, 0)
		if wrong != nil {
			l.problem(aliasPath(path, i), wrong.Error(), "", "")
		}
		if !ok {
			continue
		}
		alias, ok := memory.SpanOf(at, size)
		if _, meets := alias.Meet(mem.Span); !ok || meets {
			l.problem(aliasPath(path, i),
				fmt.Sprintf("the alias at %s overlaps the memory itself, or runs past the last 64-bit address", memory.FormatAddress(at)),
				"", "")
			continue
		}
		mem.Aliases, mem.aliasAt = append(mem.Aliases, alias), append(mem.aliasAt, i)
	}
	m.Memories = append(m.Memories, mem)
}

// aliasPath is where an alias of the memory at path stands in its file.
func aliasPath(path string, i int) string { return path + ".aliases[" + strconv.Itoa(i) + "]" }

// placeMemory finds where a memory lies, in images and in the device.
func (l *loader) placeMemory(path string, f *memoryFile, mem *Memory) bool {
	first, ok1 := l.numberOf(path, "first", f.First, 0)
	size, ok2 := l.numberOf(path, "size", f.Size, 0)
	unit, ok3 := l.within(path, "unit", f.Unit, 1, 1, 8)
	if !ok1 || !ok2 || !ok3 {
		return false
	}
	if size%unit != 0 {
		l.problem(path+".unit", fmt.Sprintf("the memory's %s is not a multiple of its %d-byte words", memory.FormatSize(size), unit), "",
			"")
	}
	mem.PartFirst, mem.Unit = first, unit
	if f.Image == "" && first > math.MaxUint64/unit {
		l.problem(path+".first", fmt.Sprintf("word %s is past the last 64-bit address of bytes", memory.FormatAddress(first)), "", "")
		return false
	}
	image, ok := l.numberOf(path, "image-first", f.Image, first*unit)
	if !ok {
		return false
	}
	if mem.Span, ok = memory.SpanOf(image, size); !ok {
		l.problem(path+".size", fmt.Sprintf("invalid range: %d bytes from %s", size, memory.FormatAddress(image)),
			"1 byte or more, not past the last 64-bit address", "")
	}
	return ok
}

func (l *loader) sectors(path string, list []sectorsFile, mem *Memory) {
	const most = 1 << 16
	next, left := mem.Span.First, mem.Span.Size()
	for i := range list {
		s := &list[i]
		at := fmt.Sprintf("%s.sectors[%d]", path, i)
		if !l.keys(at, "the sector", s) {
			return
		}
		count, ok1 := l.numberOf(at, "count", s.Count, 1)
		size, ok2 := l.numberOf(at, "size", s.Size, 0)
		switch {
		case !ok1 || !ok2:
			return
		case count == 0 || size == 0 || count > most:
			l.problem(at, fmt.Sprintf("%d sectors of %d bytes", count, size), fmt.Sprintf("1 to %d sectors of 1 byte or more", most), "")
			return
		case size > left/count:
			l.problem(at, fmt.Sprintf("the sectors add up to more than the memory's %s", memory.FormatSize(mem.Span.Size())), "", "")
			return
		case mem.Page > size:
			l.problem(at, fmt.Sprintf("pages of %d bytes are larger than sectors of %d", mem.Page, size), "", "")
			return
		case mem.Page != 0 && size%mem.Page != 0:
			l.problem(at, fmt.Sprintf("sectors of %d bytes are not whole pages of %d", size, mem.Page), "", "")
			return
		}
		mem.Sectors = append(mem.Sectors, Sectors{First: next, Size: size, Count: count, Erase: l.times(at+".erase-time", s.Erase)})
		next, left = next+size*count, left-size*count
	}
	if len(list) > 0 && left > 0 {
		l.problem(path+".sectors", fmt.Sprintf("the sectors leave %s of the memory over", memory.FormatSize(left)), "", "")
	}
}

// times reads durations.
func (l *loader) times(path string, f *timesFile) (t Times) {
	if f == nil {
		return t
	}
	read := func(key, text string) time.Duration {
		if text == "" {
			return 0
		}
		d, ok := parseTime(text)
		if !ok {
			l.problem(path+"."+key, fmt.Sprintf("%q is not a time", text), "a number and s, ms or us, as in \"40 ms\"", "")
		}
		return d
	}
	t = Times{read("typical", f.Typical), read("most", f.Most)}
	if t.Most != 0 && t.Typical > t.Most {
		l.problem(path, fmt.Sprintf("the typical time, %s, is longer than the most, %s", f.Typical, f.Most), "", "")
	}
	return t
}

// parseTime reads a number with a unit of time; ok is false where it is none above
// 0, or more than a day.
func parseTime(text string) (d time.Duration, ok bool) {
	i := strings.IndexFunc(text, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
	if i < 0 {
		return 0, false
	}
	n, err := strconv.ParseFloat(text[:i], 64)
	unit := map[string]time.Duration{
		"s": time.Second, "ms": time.Millisecond, "us": time.Microsecond, "ns": time.Nanosecond,
	}[strings.TrimSpace(text[i:])]
	const longest = 24 * time.Hour
	if err != nil || unit == 0 || n <= 0 || n > float64(longest/unit) {
		return 0, false
	}
	return time.Duration(n * float64(unit)), true
}

// FormatTime writes a time as maps do, in the largest unit in which it is no fraction below 1.
func FormatTime(d time.Duration) string {
	unit, name := time.Nanosecond, "ns"
	switch {
	case d == 0:
		return ""
	case d >= time.Second:
		unit, name = time.Second, "s"
	case d >= time.Millisecond:
		unit, name = time.Millisecond, "ms"
	case d >= time.Microsecond:
		unit, name = time.Microsecond, "us"
	}
	return strconv.FormatFloat(float64(d)/float64(unit), 'f', -1, 64) + " " + name
}

// overlaps finds memories and aliases that overlap, and sorts the memories.
func (l *loader) overlaps(m *Map) {
	slices.SortStableFunc(m.Memories, func(a, b Memory) int { return cmp.Compare(a.Span.First, b.Span.First) })
	type place struct {
		memory.Span
		mem   *Memory
		alias int // the number of an alias in the file, or -1
	}
	var places []place
	for i := range m.Memories {
		mem := &m.Memories[i]
		places = append(places, place{mem.Span, mem, -1})
		for j, a := range mem.Aliases {
			places = append(places, place{a, mem, mem.aliasAt[j]})
		}
	}
	slices.SortStableFunc(places, func(a, b place) int { return cmp.Compare(a.First, b.First) })
	name := func(p *place) string {
		if p.alias >= 0 {
			return "the alias of " + p.mem.Name
		}
		return "memory " + p.mem.Name
	}
	for i := 1; i < len(places); i++ {
		a, b := &places[i-1], &places[i]
		if both, ok := a.Meet(b.Span); ok && (a.mem == b.mem || a.mem.Name != b.mem.Name) {
			if a.alias >= 0 && b.alias < 0 {
				a, b = b, a // the alias is the mistake
			}
			path := b.mem.path + ".first"
			if b.alias >= 0 {
				path = aliasPath(b.mem.path, b.alias)
			}
			l.problem(path, fmt.Sprintf("%s overlaps %s over %s", name(b), name(a), both), "", "")
			l.broken[b.mem.Name], l.unplaced = true, true
		}
		if a.Last > b.Last { // what follows may overlap the longer one still
			places[i], places[i-1] = places[i-1], places[i]
		}
	}
}

// start reads one way of starting.
func (l *loader) start(m *Map, path string, f *startFile) {
	s := Start{Kind: StartKind(f.Kind), Stack: f.Stack, Target: f.Target, OddTarget: f.OddTarget, Order: memory.Order(f.Order)}
	whole := l.keys(path, "start", f)
	width, known := l.numberOf(path, "width", f.Width, 4)
	if s.Width = int(width); !known {
		s.Width = 4
	} else if width != 2 && width != 4 {
		l.problem(path+".width", fmt.Sprintf("vectors of %d bytes", width), "2 or 4", "")
		s.Width = 4
	}
	var ok bool
	if s.StackAlign, ok = l.numberOf(path, "stack-align", f.StackAlign, 1); ok && bits.OnesCount64(s.StackAlign) != 1 {
		l.problem(path+".stack-align", fmt.Sprintf("stack-align is %d", s.StackAlign), "a power of two", "")
	}
	if s.Kind == StartInstruction {
		for _, key := range []struct {
			name  string
			given bool
		}{
			{"stack", f.Stack != ""}, {"stack-align", f.StackAlign != ""}, {"target", f.Target != ""}, {"odd-target", f.OddTarget},
			{"width", f.Width != ""}, {"order", f.Order != ""},
		} {
			if key.given {
				l.problem(path+"."+key.name, key.name+" has no effect where a first instruction is started", "kind = \"vectors\"", "")
			}
		}
	}
	l.startNames(m, path, f)
	at, ok := l.numberOf(path, "at", f.At, 0)
	if !whole || !ok {
		return
	}
	s.At = at
	needs := memory.Span{First: at, Last: at + 1}
	if s.Kind == StartVectors {
		needs.Last = at + uint64(2*s.Width) - 1
	}
	if needs.Last < at || !l.inMemory(m, path+".at", "start at "+memory.FormatAddress(at), needs) {
		return
	}
	if r := m.InnermostAt(at); r != nil && !r.Span.Covers(needs) {
		l.problem(path+".at",
			fmt.Sprintf("the start at %s, %s, runs past the end of region %s at %s", memory.FormatAddress(at),
				memory.FormatBytes(needs.Size()), r.Name, memory.FormatAddress(r.Span.Last)), "", "")
		return
	}
	if l.startsAt[at] {
		l.problem(path+".at", fmt.Sprintf("two starts at %s", memory.FormatAddress(at)), "", "")
	}
	l.startsAt[at] = true
	m.Starts = append(m.Starts, s)
}

// twinStarts gives regions that are like another the starts that this has.
func (l *loader) twinStarts(m *Map, list []regionFile) {
	given := len(m.Starts)
	for i := range list {
		twin, like := m.Region(list[i].Name), m.Region(list[i].Like)
		if list[i].Like == "" || twin == nil || like == nil {
			continue
		}
		shift := twin.Span.First - like.Span.First
		for _, s := range m.Starts[:given] {
			if !like.Span.Contains(s.At) || l.startsAt[s.At+shift] {
				continue
			}
			s.At += shift
			if target := m.Region(s.Target); target != nil && like.Span.Covers(target.Span) {
				moved := memory.Span{First: target.Span.First + shift, Last: target.Span.Last + shift}
				for r := range m.All() {
					if r.Span == moved {
						s.Target = r.Name
					}
				}
			}
			l.startsAt[s.At] = true
			m.Starts = append(m.Starts, s)
		}
	}
}

// startNames proves what a start names.
func (l *loader) startNames(m *Map, path string, f *startFile) {
	if name := f.Target; name != "" && !l.lost(name) {
		if m.Region(name) == nil {
			l.problem(path+".target", fmt.Sprintf("unknown region %s", name), "", l.near(name, m.RegionNames))
		}
	}
	if name := f.Stack; name != "" && !l.lost(name) {
		s, ok := l.names.Span(name)
		if mem := m.MemoryAt(s.First); !ok {
			l.problem(path+".stack", fmt.Sprintf("unknown memory or region %s", name), "", l.near(name, l.names.Known))
		} else if mem != nil && mem.Kind != RAM {
			l.problem(path+".stack", fmt.Sprintf("%s is %s", name, mem.Kind), "a memory of kind ram, or a region of one", "")
		}
	}
}

func (l *loader) link(m *Map, f *linkFile) {
	if f == nil {
		return
	}
	l.keys("link", "the link", f)
	const most = 1 << 40
	m.Link.Baud, _ = l.within("link", "baud", f.Baud, 0, 1, most)
	m.Link.Bits, _ = l.within("link", "bits", f.Bits, 10, 8, 64)
	m.Link.Packet, _ = l.within("link", "packet", f.Packet, 0, 1, 1<<20)
	m.Link.Overhead, _ = l.within("link", "around", f.Overhead, 0, 0, 1<<20)
	if f.Overhead != "" && f.Packet == "" {
		l.problem("link.around", "around has no effect without a packet", "packet = BYTES", "")
	}
}
