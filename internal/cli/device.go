package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"math/bits"
	"os"
	"strings"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var deviceCommand = &command{
	name: "device", usage: "[flags] MAP",
	short: "shows a map; explains or composes configuration values; starts a new map",
	long: `
Shows a device at a glance: its memories, regions and configuration words.

-explain WORD=VALUE says what each field of a configuration word means at a
value, and what of it cannot be undone. -compose FIELD=MEANING, or FIELD=VALUE,
gives the words to type: those of -explain, else the defaults, with the fields
changed. Both may be given several times.

-new writes a map to start from, commented, to the file that -o names, or to
standard output. -list lists the maps that come with mexalt. -schema prints a
JSON Schema of maps, for editors.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		d := &deviceRun{}
		fs.Var(&d.explain, "explain", "explain the configuration word `WORD=VALUE`")
		fs.Var(&d.compose, "compose", "compose words from `FIELD=MEANING`")
		fs.BoolVar(&d.fresh, "new", false, "write a commented map to start from")
		fs.BoolVar(&d.list, "list", false, "list the maps that come with mexalt")
		fs.BoolVar(&d.schema, "schema", false, "print a JSON Schema of device maps")
		fs.StringVar(&d.to, "o", "", "write to `FILE`, not to standard output")
		return d.run
	},
}

type deviceRun struct {
	explain, compose    list
	fresh, list, schema bool
	to                  string
}

func (d *deviceRun) run(s *session, args []string) error {
	switch {
	case d.list:
		return d.printList(s)
	case d.fresh:
		return s.writeText(d.to, device.Template)
	case d.schema:
		return s.writeText(d.to, device.Schema)
	case len(args) != 1:
		return usagef("which map? A file, or one of %s", strings.Join(device.Shipped(), ", "))
	}
	m, err := s.loadDevice(&reading{device: args[0]}, nil)
	if err != nil {
		return err
	}
	if len(d.explain)+len(d.compose) == 0 {
		printDevice(s, m)
		return nil
	}
	values := map[string]uint64{}
	for _, e := range d.explain {
		name, text, ok := strings.Cut(e, "=")
		w := m.Word(name)
		if !ok || w == nil {
			return usagef("-explain %s: WORD=VALUE expected; the words of %s are %s", e, m.Name, strings.Join(wordNames(m), ", "))
		}
		v, err := span.Number(text)
		if err != nil {
			return usagef("-explain %w", err)
		}
		if bits.Len64(v) > 8*w.Width {
			return usagef("-explain %s: 0x%X has more than the word's %d bits", e, v, 8*w.Width)
		}
		values[w.Name] = v
	}
	changed, err := d.composed(m, values)
	if err != nil {
		return err
	}
	hazards := 0
	for i := range m.Config {
		w := &m.Config[i]
		if v, ok := values[w.Name]; ok {
			hazards += explainWord(s.out, w, v)
		}
	}
	if len(d.compose) > 0 {
		fmt.Fprintf(s.out, "%s\n", render.Title.Sprint("to type:"))
		for i := range m.Config {
			if w := &m.Config[i]; changed[w.Name] {
				fmt.Fprintf(s.out, "  %s = %s at %s (bytes % X)\n", w.Name, w.Format(values[w.Name]), memory.FormatAddress(w.At), w.Bytes(values[w.Name]))
			}
		}
	}
	if hazards > 0 {
		return errFindings
	}
	return nil
}

// composed changes the words by -compose, and returns which were.
func (d *deviceRun) composed(m *device.Map, values map[string]uint64) (changed map[string]bool, err error) {
	changed = map[string]bool{}
	for _, c := range d.compose {
		name, text, ok := strings.Cut(c, "=")
		w, f := m.Field(name)
		if !ok || f == nil {
			return nil, usagef("-compose %s: FIELD=MEANING expected; %s", c, source.DidYouMean(name, m.FieldNames()))
		}
		var value *uint64
		var known []string
		for i := range f.Values {
			v := &f.Values[i]
			known = append(known, v.Meaning)
			if strings.EqualFold(v.Meaning, text) {
				value = &v.Value
			}
		}
		if n, err := span.Number(text); value == nil && err == nil && bits.Len64(n) <= f.Bits && (f.Value(n) != nil || len(f.Values) == 0) {
			value = &n
		}
		if value == nil {
			return nil, usagef("-compose %s: %s means one of: %s", c, f.Name, strings.Join(known, "; "))
		}
		old, ok := values[w.Name]
		if !ok {
			old = w.Default
		}
		values[w.Name] = old&^f.Mask() | *value<<f.Low
		changed[w.Name] = true
	}
	return changed, nil
}

func wordNames(m *device.Map) []string {
	var names []string
	for _, w := range m.Config {
		names = append(names, w.Name)
	}
	return names
}

// explainWord prints what a word's value means, and returns how many hazards
// it holds.
func explainWord(to io.Writer, w *device.Word, v uint64) (hazards int) {
	fmt.Fprintf(to, "%s = %s\n", render.Title.Sprint(w.Name), w.Format(v))
	var rows [][]string
	var told []string
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
				hazards++
				meaning += " (hazard)"
				told = append(told, f.Name+": "+fv.Hazard)
			}
		}
		if is == f.Of(w.Default) {
			standard = "as delivered"
		}
		rows = append(rows, []string{f.BitsText(), f.Name, fmt.Sprintf("%0*b", f.Bits, is), meaning, standard})
	}
	render.Table(to, []string{"bits", "field", "value", "meaning", ""}, rows)
	if odd := (v ^ w.Default) &^ w.Defined() & (1<<(8*w.Width) - 1); odd != 0 {
		fmt.Fprintf(to, "%s bits that are not defined are not as delivered: mask 0x%X\n", render.Doubt.Sprint("warning:"), odd)
	}
	for _, t := range told {
		fmt.Fprintf(to, "%s %s\n", render.Bad.Sprint("hazard:"), t)
	}
	fmt.Fprintln(to)
	return hazards
}

// writeText writes a text to a file, or to standard output.
func (s *session) writeText(name, text string) error {
	if name == "" || name == "-" {
		fmt.Fprint(s.out, text)
		return nil
	}
	if _, err := os.Lstat(name); err == nil {
		return &failure{statusSystem, fmt.Errorf("%s: %w; a map that is there is not written over", name, errors.New("is there already"))}
	}
	if err := s.replace([]output{{name, func(to io.Writer) error { _, err := io.WriteString(to, text); return err }}}); err != nil {
		return err
	}
	s.note("wrote %s", name)
	return nil
}

func (d *deviceRun) printList(s *session) error {
	var rows [][]string
	for _, name := range device.Shipped() {
		m, err := s.loadDevice(&reading{device: name}, nil)
		if err != nil {
			return err
		}
		var memories []string
		for _, mem := range m.Memories {
			memories = append(memories, mem.Name+" "+memory.FormatSize(mem.Span.Size()))
		}
		rows = append(rows, []string{name, m.Name, strings.Join(memories, ", ")})
	}
	render.Table(s.out, []string{"map", "part", "memories"}, rows)
	return nil
}

func printDevice(s *session, m *device.Map) {
	fmt.Fprintf(s.out, "%s (%s)", render.Title.Sprint(m.Name), m.File)
	if len(m.Identity) > 0 {
		fmt.Fprintf(s.out, ", identity % X", m.Identity)
	}
	fmt.Fprintln(s.out)
	fmt.Fprintln(s.out)
	var rows [][]string
	number := func(n uint64) string {
		if n == 0 {
			return ""
		}
		return memory.FormatCount(n)
	}
	for _, mem := range m.Memories {
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
		for _, a := range mem.Aliases {
			notes = append(notes, "seen at "+memory.FormatAddress(a.First)+" too")
		}
		rows = append(rows, []string{mem.Name, string(mem.Kind), mem.Span.String(), number(mem.Page), number(mem.Granule), sectorsText(mem.Sectors), erased, strings.Join(notes, ", ")})
	}
	render.Table(s.out, []string{"memory", "kind", "span", "page", "granule", "sectors", "erased", ""}, rows, 4, 5)
	fmt.Fprintln(s.out)
	rows = nil
	for _, r := range m.Regions {
		required := ""
		if r.Required {
			required = "required"
		}
		rows = append(rows, []string{r.Name, string(r.Role), r.Span.String(), r.Memory, required})
	}
	render.Table(s.out, []string{"region", "role", "span", "memory", ""}, rows)
	fmt.Fprintln(s.out)
	for i := range m.Memories {
		printAddressBar(s.out, m, &m.Memories[i])
	}
	for i := range m.Config {
		w := &m.Config[i]
		fmt.Fprintf(s.out, "\n%s at %s, %s, as delivered %s\n", render.Title.Sprint(w.Name), memory.FormatAddress(w.At), render.Count(w.Width, "byte"), w.Format(w.Default))
		rows = nil
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
		render.Table(s.out, []string{"bits", "field", "values"}, rows)
	}
	for _, c := range m.Checksums {
		fmt.Fprintf(s.out, "\n%s: %s over %s, stored at %s, %s-endian\n", render.Title.Sprint(c.Name), c.Kind, c.In, memory.FormatAddress(c.At), c.Order)
	}
}

// sectorsText says how many sectors of which sizes there are.
func sectorsText(sectors []memory.Span) string {
	var parts []string
	for i := 0; i < len(sectors); {
		j := i
		for j < len(sectors) && sectors[j].Size() == sectors[i].Size() {
			j++
		}
		parts = append(parts, fmt.Sprintf("%d x %s", j-i, memory.FormatSize(sectors[i].Size())))
		i = j
	}
	return strings.Join(parts, " + ")
}

// printAddressBar draws a memory as a bar, with its regions in their places.
func printAddressBar(to io.Writer, m *device.Map, mem *device.Memory) {
	const wide = 60
	bar := []rune(strings.Repeat("·", wide))
	scale := float64(wide) / float64(mem.Span.Size())
	marks := "abcdefghijklmnopqrstuvwxyz"
	var names []string
	n := 0
	for _, r := range m.Regions {
		if r.Memory != mem.Name || n >= len(marks) {
			continue
		}
		first := int(float64(r.Span.First-mem.Span.First) * scale)
		last := max(first, int(float64(r.Span.Last-mem.Span.First+1)*scale)-1)
		for i := first; i <= last && i < wide; i++ {
			bar[i] = rune(marks[n])
		}
		names = append(names, fmt.Sprintf("%c %s", marks[n], r.Name))
		n++
	}
	fmt.Fprintf(to, "%-10s %11s %s %s", mem.Name, memory.FormatAddress(mem.Span.First), string(bar), memory.FormatAddress(mem.Span.Last))
	if len(names) > 0 {
		fmt.Fprintf(to, "  %s", strings.Join(names, ", "))
	}
	fmt.Fprintln(to)
}
