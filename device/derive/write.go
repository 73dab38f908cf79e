package derive

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/source/settings"
)

const toDo = "# to do: "

// Text returns the map as its file, with comments: where each thing is from, and
// what is still to be done.
func (d *Draft) Text() string {
	d.resolve()
	var b strings.Builder
	fmt.Fprintf(&b, "# Derived from %s.\n# Lines marked \"to do\" were not found there; take them from the data sheet.\n\n",
		filepath.ToSlash(strings.Join(d.Sources, ", ")))
	name := d.Name
	if name == "" {
		base := filepath.Base(d.Sources[0])
		name = strings.TrimSuffix(base, filepath.Ext(base))
	}
	line(&b, fmt.Sprintf("name = %s", quoted(name)), map[bool]string{true: toDo + "the device's name"}[d.Name == ""])
	line(&b, `# identity = "00 00"`, toDo+"the identity bytes that a debugger reads")
	for i := range d.Memories {
		b.WriteString("\n" + d.memoryText(i))
	}
	for _, r := range d.Regions {
		b.WriteString("\n" + regionText(d.inImages(r)))
	}
	if len(d.Regions) == 0 {
		b.WriteString("\n# [[region]]                    " + toDo + "how the firmware is divided\n")
	}
	b.WriteString("\n# [start]                       " + toDo + "how it starts\n")
	for _, e := range d.Entries {
		line(&b, fmt.Sprintf("# at = %s", memory.FormatAddress(e.At)), "# the entry of "+e.Where.String())
	}
	return b.String()
}

// line writes a line with a comment behind it.
func line(b *strings.Builder, text, comment string) {
	const column = 32
	if comment != "" {
		text = fmt.Sprintf("%-*s%s", max(column, len(text)+1), text, comment)
	}
	b.WriteString(text + "\n")
}

// quoted is a text as TOML writes it.
func quoted(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(source.Visible(text)) + `"`
}

// sizeText is a size as people write it.
func sizeText(n uint64) string {
	const kibi, mebi = 1 << 10, 1 << 20
	switch {
	case n>>63 != 0:
		return number63(n)
	case n%mebi == 0:
		return fmt.Sprintf(`"%dM"`, n/mebi)
	case n%kibi == 0:
		return fmt.Sprintf(`"%dK"`, n/kibi)
	}
	return fmt.Sprint(n)
}

// number63 is a number as TOML writes it, whose numbers end at 63 bits.
func number63(n uint64) string {
	if n>>63 != 0 {
		return `"` + memory.FormatAddress(n) + `"`
	}
	return memory.FormatAddress(n)
}

func (d *Draft) memoryText(i int) string {
	m := &d.Memories[i]
	var b strings.Builder
	line(&b, "[[memory]]", "# "+m.Where.String())
	line(&b, "name = "+quoted(m.Name), "")
	if m.Kind == "" {
		line(&b, `kind = "flash"`, toDo+"flash, eeprom, ram, rom, otp or config")
	} else {
		line(&b, "kind = "+quoted(string(m.Kind)), "")
	}
	line(&b, "first = "+number63(m.Span.First), "")
	if m.moved {
		line(&b, "image-first = "+number63(m.image), toDo+"its first address in images; "+m.Space+" begins at 0 too")
	}
	comment := ""
	if m.Part {
		comment = toDo + "the complete size; the program uses this much"
	}
	line(&b, "size = "+sizeText(m.Span.Size()), comment)
	for _, held := range m.Holds {
		b.WriteString("# " + source.Visible(held) + "\n")
	}
	if m.Kind == device.RAM || m.Kind == device.ROM {
		return b.String()
	}
	size := m.Span.Size()
	if m.Page != 0 && size%m.Page == 0 {
		line(&b, fmt.Sprintf("page = %d", m.Page), "")
	} else {
		line(&b, "# page = 0", toDo+"bytes programmed in one operation")
	}
	line(&b, "# granule = 0", toDo+"smallest number of bytes that can be written")
	const mostSectors = 1 << 16
	if m.Write != 0 && size%m.Write == 0 && (m.Page == 0 || size%m.Page != 0 || m.Page%m.Write == 0) {
		line(&b, fmt.Sprintf("granule = %d", m.Write), "")
	}
	if m.Erase != 0 && size%m.Erase == 0 && size/m.Erase <= mostSectors && (m.Page == 0 || size%m.Page != 0 || m.Erase%m.Page == 0) {
		line(&b, fmt.Sprintf("sectors = [{ count = %d, size = %s }]", size/m.Erase, sizeText(m.Erase)), "")
	} else {
		line(&b, "# sectors = [{ count = 0, size = 0 }]", toDo+"the erase sectors, in address order")
	}
	return b.String()
}

func regionText(r Region) string {
	var b strings.Builder
	line(&b, "[[region]]", "# "+r.Where.String())
	line(&b, "name = "+quoted(r.Name), "")
	line(&b, "role = "+quoted(string(r.Role)), toDo+"bootloader, application, data or reserved")
	line(&b, "first = "+number63(r.Span.First), "")
	line(&b, "size = "+sizeText(r.Span.Size()), "")
	return b.String()
}

// memoryOf returns the number of the memory in which a region lies, or -1.
func (d *Draft) memoryOf(r Region) int {
	return slices.IndexFunc(d.Memories, func(m Memory) bool { return m.Space == r.Space && m.Span.Covers(r.Span) })
}

// inImages returns a region where images have it.
func (d *Draft) inImages(r Region) Region {
	in := d.memoryOf(r)
	if m := &d.Memories[in]; m.moved {
		by := m.image - m.Span.First
		r.Span.First, r.Span.Last = r.Span.First+by, r.Span.Last+by
	}
	return r
}

// resolve gives everything a name of its own and a place, and leaves out the regions
// that a map could not have.
func (d *Draft) resolve() {
	for _, m := range d.parts {
		d.addMemory(m)
	}
	d.parts = nil
	names := map[string]bool{}
	last := map[string]int{} // the number that a name was given last
	unique := func(name string) string {
		base := name
		for names[name] {
			last[base] = max(last[base]+1, 2)
			name = fmt.Sprintf("%s_%d", base, last[base])
		}
		names[name] = true
		return name
	}
	slices.SortStableFunc(d.Memories, func(a, b Memory) int {
		// Where spaces lie over one another, the program keeps its addresses.
		return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(a.Space, b.Space), cmp.Compare(a.Span.First, b.Span.First))
	})
	d.spaces()
	for i := range d.Memories {
		d.Memories[i].Name = unique(d.Memories[i].Name)
	}
	slices.SortStableFunc(d.Regions, func(a, b Region) int {
		return cmp.Or(strings.Compare(a.Space, b.Space), cmp.Compare(a.Span.First, b.Span.First))
	})
	var kept []Region
	for _, r := range d.Regions {
		in := d.memoryOf(r)
		if in < 0 || d.Memories[in].Kind == device.RAM {
			d.Problems.Add(&source.Problem{
				File:     r.Where.File,
				Line:     r.Where.Line,
				Severity: source.Warning,
				What:     fmt.Sprintf("region %s, %s, is in no memory that is programmed; it is left out", r.Name, r.Span),
			})
			continue
		}
		if n := len(kept); n > 0 && kept[n-1].Space == r.Space && kept[n-1].Span.Last >= r.Span.First {
			d.contradicts(r.Where, kept[n-1].Where, fmt.Sprintf("region %s is %s; it is left out", r.Name, r.Span),
				kept[n-1].Name+" "+kept[n-1].Span.String())
			continue
		}
		r.Name = unique(r.Name)
		kept = append(kept, r)
	}
	d.Regions = kept
}

// spaces gives the memories that lie, in an address space of their own, over
// others a place in images behind all; one for which there is none is left out.
func (d *Draft) spaces() {
	const apart = 0x10_0000
	next := uint64(0)
	for _, m := range d.Memories {
		next = max(next, m.Span.Last)
	}
	var kept []Memory
	for _, m := range d.Memories {
		m.moved = slices.ContainsFunc(kept, func(o Memory) bool { _, meets := o.Span.Meet(m.Span); return meets && !o.moved })
		if m.moved {
			m.image = (next/apart + 1) * apart
			s, ok := memory.SpanOf(m.image, m.Span.Size())
			if !ok || m.image < next {
				d.Problems.Add(&source.Problem{
					File:     m.Where.File,
					Line:     m.Where.Line,
					Severity: source.Warning,
					What:     fmt.Sprintf("memory %s overlaps another, and images have no room for it; it is left out", m.Name),
				})
				continue
			}
			next = s.Last
		}
		kept = append(kept, m)
	}
	d.Memories = kept
}

// rank puts flash before RAM, and that before all else.
func rank(m Memory) int {
	if i := slices.Index([]device.Kind{device.Flash, device.RAM}, m.Kind); i >= 0 {
		return i
	}
	return 2
}

// Change is what an update changed in a map.
type Change struct {
	Line int // of the map before
	What string
}

// Update returns the text of a map with what the descriptions say otherwise, or
// more; all else stays as it is, comments too.
func (d *Draft) Update(file string, text []byte) (updated string, changes []Change, err error) {
	var problems source.Problems
	old := device.Load(file, text, &problems)
	if err := problems.Err(); err != nil {
		return "", nil, err
	}
	var tree map[string]any
	places := settings.Decode(file, text, &tree, &problems)
	u := &updater{Draft: d, lines: strings.Split(string(text), "\n"), places: places, old: old, before: map[int][]string{}}
	d.resolve()
	for i := range d.Memories {
		u.memory(i)
	}
	for _, r := range d.Regions {
		if len(old.RegionsIn(r.Span)) == 0 && old.Region(r.Name) == nil && old.MemoryAt(r.Span.First) != nil {
			u.more = append(u.more, "\n"+regionText(r))
			u.changes = append(u.changes, Change{0, fmt.Sprintf("region %s is new (%s)", r.Name, r.Where)})
		}
	}
	updated = u.text()
	device.Load(file, []byte(updated), &problems)
	if err := problems.Err(); err != nil {
		return "", nil, fmt.Errorf("with what is derived, the map would not load: %w", err)
	}
	return updated, u.changes, nil
}

type updater struct {
	*Draft
	lines   []string
	places  *settings.File
	old     *device.Map
	before  map[int][]string // lines that come behind a line, by its number
	more    []string
	changes []Change
}

// memory brings one memory of the map to what is derived.
func (u *updater) memory(i int) {
	m := &u.Memories[i]
	n := slices.IndexFunc(u.old.Memories, func(o device.Memory) bool {
		_, meets := o.Span.Meet(m.Span)
		return meets || o.PartFirst == m.Span.First && o.Kind == m.Kind
	})
	if n < 0 {
		u.more = append(u.more, "\n"+u.memoryText(i))
		u.changes = append(u.changes, Change{0, fmt.Sprintf("memory %s is new (%s)", m.Name, m.Where)})
		return
	}
	o := &u.old.Memories[n]
	path := u.pathOf(o.Name)
	switch {
	case m.Part:
	case o.Span.Covers(m.Span) && o.Span != m.Span && o.Kind != "": // a division of it
		u.division(m, o)
		return
	default: // never smaller than what is there
		all := memory.Span{First: o.Span.First, Last: max(o.Span.Last, m.Span.Last)}
		u.set(path, "size", o.Span.Size(), all.Size(), sizeText(all.Size()), m.Where)
	}
	if m.Page != 0 {
		u.set(path, "page", o.Page, m.Page, fmt.Sprint(m.Page), m.Where)
	}
	if m.Write != 0 {
		u.set(path, "granule", o.Granule, m.Write, fmt.Sprint(m.Write), m.Where)
	}
	if m.Erase != 0 && len(o.Sectors) == 0 && m.Span.Size()%m.Erase == 0 {
		u.set(path, "sectors", 0, 1, fmt.Sprintf("[{ count = %d, size = %s }]", m.Span.Size()/m.Erase, sizeText(m.Erase)), m.Where)
	}
}

// division makes a piece into which a description divides a memory a region of it, where
// the map has none there.
func (u *updater) division(m *Memory, o *device.Memory) {
	what := fmt.Sprintf("%s divides %s, %s: %s is %s", m.Where, o.Name, o.Span, m.Name, m.Span)
	name := m.Name
	if slices.ContainsFunc(u.old.Memories, func(o device.Memory) bool { return o.Name == name }) {
		name = "program" // the memory itself is called so, and what the script gives is what a program may use
	}
	if slices.ContainsFunc(u.old.Regions, func(r device.Region) bool { return r.Span == m.Span }) {
		return
	}
	if o.Kind == device.RAM || len(u.old.RegionsIn(m.Span)) > 0 || u.old.Region(name) != nil {
		u.changes = append(u.changes, Change{0, what + "; the memory is kept as it is"})
		return
	}
	u.more = append(u.more, "\n"+regionText(Region{Name: name, Role: roleOf(m.Name), Span: m.Span, Where: m.Where}))
	u.changes = append(u.changes, Change{0, what + ", which is a region now"})
}

// pathOf returns the path of the memory of a name.
func (u *updater) pathOf(name string) string {
	for i := 0; ; i++ {
		path := fmt.Sprintf("memory[%d]", i)
		at := u.places.Line(path + ".name")
		if at == 0 {
			return ""
		}
		if strings.Contains(u.lines[at-1], `"`+name+`"`) || strings.Contains(u.lines[at-1], "'"+name+"'") {
			return path
		}
	}
}

// set gives a key another value, in its line, or adds it behind the name's.
func (u *updater) set(path, key string, is, want uint64, text string, where Where) {
	nameAt := u.places.Line(path + ".name")
	if is == want || path == "" || nameAt == 0 {
		return
	}
	at := u.places.Line(path + "." + key)
	if at == 0 {
		u.before[nameAt] = append(u.before[nameAt], fmt.Sprintf("%s = %s", key, text))
		u.changes = append(u.changes, Change{nameAt, fmt.Sprintf("%s = %s is new (%s)", key, text, where)})
		return
	}
	head, value, tail, ok := keyLine(u.lines[at-1], key)
	if !ok {
		u.changes = append(u.changes,
			Change{at, fmt.Sprintf("%s should be %s (%s), but is in no line of its own; write it by hand", key, text, where)})
		return
	}
	u.lines[at-1] = head + text + tail
	u.changes = append(u.changes, Change{at, fmt.Sprintf("%s was %s, is %s (%s)", key, value, text, where)})
}

// keyLine takes a line apart that gives a key a number or a text; ok is false for
// all others.
func keyLine(line, key string) (head, value, tail string, ok bool) {
	rest, ok := strings.CutPrefix(strings.TrimLeft(line, " \t"), key)
	rest, equals := strings.CutPrefix(strings.TrimLeft(rest, " \t"), "=")
	rest = strings.TrimLeft(rest, " \t")
	if !ok || !equals || rest == "" {
		return "", "", "", false
	}
	head = line[:len(line)-len(rest)]
	end := strings.IndexAny(rest, "# \t\r")
	if quote := rest[0]; quote == '"' || quote == '\'' {
		if end = strings.IndexByte(rest[1:], quote); end < 0 {
			return "", "", "", false
		}
		end += 2
	}
	if end < 0 {
		end = len(rest)
	}
	value = rest[:end]
	return head, value, rest[end:], !strings.ContainsAny(value, "[{")
}

func (u *updater) text() string {
	var b strings.Builder
	for i, l := range u.lines {
		b.WriteString(l)
		if i < len(u.lines)-1 {
			b.WriteByte('\n')
		}
		for _, more := range u.before[i+1] {
			b.WriteString(more + "\n")
		}
	}
	return strings.TrimRight(b.String(), "\n") + "\n" + strings.Join(u.more, "")
}
