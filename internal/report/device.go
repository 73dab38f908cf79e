package report

import (
	"fmt"
	"strings"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
)

// Devices lists maps: their names, parts and memories.
func Devices(p *render.Printer, names []string, maps []*device.Map) {
	var rows [][]string
	for i, m := range maps {
		var memories []string
		for _, mem := range m.Memories {
			memories = append(memories, mem.Name+" "+memory.FormatSize(mem.Span.Size()))
		}
		rows = append(rows, []string{names[i], m.Name, strings.Join(memories, ", ")})
	}
	p.Table([]string{"map", "part", "memories"}, rows)
}

// Device shows a map at a glance.
func Device(p *render.Printer, m *device.Map) {
	p.Printf("%s (%s)", p.Title(m.Name), m.File)
	if len(m.Identity) > 0 {
		p.Printf(", identity % X", m.Identity)
	}
	p.Printf("\n\n")
	memories(p, m)
	p.Printf("\n")
	regions(p, m)
	for i := range m.Memories {
		addressBar(p, m, &m.Memories[i])
	}
	for i := range m.Config {
		word(p, &m.Config[i])
	}
	for _, c := range m.Checksums {
		p.Printf("\n%s: %s over %s, stored at %s, %s-endian\n", p.Title(c.Name), c.Kind, c.In, memory.FormatAddress(c.At), c.Order)
	}
}

func memories(p *render.Printer, m *device.Map) {
	number := func(n uint64) string {
		if n == 0 {
			return ""
		}
		return memory.FormatCount(n)
	}
	var rows [][]string
	for i := range m.Memories {
		mem := &m.Memories[i]
		erased := ""
		if mem.Programmable() {
			erased = fmt.Sprintf("%02X", mem.Erased)
		}
		var notes []string
		if mem.PartFirst != mem.Span.First {
			notes = append(notes, memory.FormatAddress(mem.PartFirst)+" in the part")
		}
		if mem.Word > 1 {
			notes = append(notes, fmt.Sprintf("where addresses count %d bytes", mem.Word))
		}
		for i, a := range mem.Aliases {
			if i == 4 {
				notes = append(notes, "...")
				break
			}
			notes = append(notes, "seen at "+memory.FormatAddress(a.First)+" too")
		}
		var sectors []string
		for _, s := range mem.Sectors {
			sectors = append(sectors, fmt.Sprintf("%d x %s", s.Count, memory.FormatSize(s.Size)))
		}
		rows = append(rows, []string{mem.Name, string(mem.Kind), mem.Span.String(), number(mem.Page), number(mem.Granule), strings.Join(sectors, " + "), erased, strings.Join(notes, ", ")})
	}
	p.Table([]string{"memory", "kind", "span", "page", "granule", "sectors", "erased", ""}, rows, 4, 5)
}

func regions(p *render.Printer, m *device.Map) {
	var rows [][]string
	for _, r := range m.Regions {
		required := ""
		if r.Required {
			required = "required"
		}
		rows = append(rows, []string{r.Name, string(r.Role), r.Span.String(), r.Memory, required})
	}
	if len(rows) > 0 {
		p.Table([]string{"region", "role", "span", "memory", ""}, rows)
		p.Printf("\n")
	}
}

func word(p *render.Printer, w *device.Word) {
	p.Printf("\n%s at %s, %s, as delivered %s\n", p.Title(w.Name), memory.FormatAddress(w.At), render.Count(w.Width, "byte"), w.Format(w.Default))
	var rows [][]string
	for j := range w.Fields {
		f := &w.Fields[j]
		var values []string
		for _, v := range f.Values {
			text := fmt.Sprintf("%d %s", v.Value, v.Meaning)
			if f.Bits > 4 {
				text = fmt.Sprintf("0x%0*X %s", (f.Bits+3)/4, v.Value, v.Meaning)
			}
			if v.Hazard != "" {
				text += " (hazard)"
			}
			values = append(values, text)
		}
		rows = append(rows, []string{f.BitsText(), f.Name, strings.Join(values, "; ")})
	}
	p.Table([]string{"bits", "field", "values"}, rows)
}

// addressBar draws a memory as a bar, with its regions in their places.
func addressBar(p *render.Printer, m *device.Map, mem *device.Memory) {
	const wide = 60
	bar := []rune(strings.Repeat("·", wide))
	scale := float64(wide) / float64(mem.Span.Size())
	marks := "abcdefghijklmnopqrstuvwxyz"
	var names []string
	for n, r := range m.RegionsIn(mem.Span) {
		if n >= len(marks) {
			break
		}
		first := int(float64(r.Span.First-mem.Span.First) * scale)
		last := max(first, int(float64(r.Span.Last-mem.Span.First+1)*scale)-1)
		for i := first; i <= last && i < wide; i++ {
			bar[i] = rune(marks[n])
		}
		names = append(names, fmt.Sprintf("%c %s", marks[n], r.Name))
	}
	p.Printf("%-10s %11s %s %s", mem.Name, memory.FormatAddress(mem.Span.First), string(bar), memory.FormatAddress(mem.Span.Last))
	if len(names) > 0 {
		p.Printf("  %s", strings.Join(names, ", "))
	}
	p.Printf("\n")
}

// Explained says what a configuration word means at a value, field by field.
func Explained(p *render.Printer, w *device.Word, v uint64) {
	p.Printf("%s = %s\n", p.Title(w.Name), w.Format(v))
	var rows [][]string
	for i := range w.Fields {
		f := &w.Fields[i]
		is := f.Of(v)
		meaning, standard := "not defined", ""
		if len(f.Values) == 0 {
			meaning = "a number"
		}
		if fv := f.Value(is); fv != nil {
			meaning = fv.Meaning
			if fv.Hazard != "" {
				meaning += " (hazard)"
			}
		}
		if is == f.Of(w.Default) {
			standard = "as delivered"
		}
		rows = append(rows, []string{f.BitsText(), f.Name, fmt.Sprintf("%0*b", f.Bits, is), meaning, standard})
	}
	p.Table([]string{"bits", "field", "value", "meaning", ""}, rows)
	p.Printf("\n")
}

// Verdicts says what is wrong with configuration values.
func Verdicts(p *render.Printer, list []device.Verdict) {
	for _, v := range list {
		if v.Kind == device.Hazard {
			p.Printf("%s: %s\n", p.Bad("hazard"), v.What)
			continue
		}
		p.Printf("%s: %s; %s\n", p.Bad("error"), v.What, v.Expected)
	}
}

// ToType says which values are to be typed for words.
func ToType(p *render.Printer, m *device.Map, values map[string]uint64, changed map[string]bool) {
	p.Printf("%s\n", p.Title("to type:"))
	for i := range m.Config {
		if w := &m.Config[i]; changed[w.Name] {
			p.Printf("  %s = %s at %s (bytes % X)\n", w.Name, w.Format(values[w.Name]), memory.FormatAddress(w.At), w.Bytes(values[w.Name]))
		}
	}
}
