// Package derive makes device maps of open descriptions: linker scripts, device
// trees, memory maps and register descriptions in XML, ELF files. What these do not
// say is left to be done, and marked.
package derive

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// MostBytes is how large a program may be, 64 MiB; a description in text may have
// mostText.
const (
	MostBytes = 64 << 20
	mostText  = 4 << 20
)

// mostFound bounds the memories and regions of a description.
const mostFound = 4096

// Where is a place in a description.
type Where struct {
	File string
	Line int // 0 is the whole file
}

// String names the place with slashes, as a map is the same whatever system derives it.
func (w Where) String() string {
	name := filepath.ToSlash(w.File)
	if w.Line == 0 {
		return name
	}
	return fmt.Sprintf("%s:%d", name, w.Line)
}

// Memory is a memory that a description tells of.
type Memory struct {
	Name  string
	Kind  device.Kind // "" is not told
	Span  memory.Span
	Page  uint64 // 0 is not told
	Erase uint64 // bytes that are erased at once; 0 is not told
	Write uint64 // the smallest number of bytes that can be written; 0 is not told
	Part  bool   // the description tells of a part of it only: the device may have more
	Space string // an address space of its own, which counts from 0 too; "" is the common one
	Where Where
	Holds []string // what a program has there: its sections

	image uint64 // where images have it, where moved
	moved bool   // it lies, in a space of its own, over another
}

// Region is a region that a description tells of.
type Region struct {
	Name  string
	Role  device.Role
	Span  memory.Span
	Space string // of the memory in which it lies
	Where Where
}

// Draft is what descriptions tell of a device.
type Draft struct {
	Name     string
	Memories []Memory
	Regions  []Region
	Entries  []Entry // where programs begin
	Sources  []string
	// Problems are what the descriptions contradict each other in, and what could
	// not be understood.
	Problems source.Problems

	symbols map[string]uint64 // of programs, which scripts may name
	parts   []Memory          // what programs use, joined with the memories when all are known
}

// Entry is where a program begins.
type Entry struct {
	At    uint64
	Where Where
}

// IsProgram reports whether a description is a program, which is read before the others:
// scripts may name its symbols.
func IsProgram(text []byte) bool { return bytes.HasPrefix(text, []byte("\x7FELF")) }

// reader reads one description into a draft.
type reader struct {
	*Draft
	file    string // that is read just now
	top     string // that was asked for
	include func(path string) ([]byte, error)
	depth   int // of files that include one another
	count   int // of files that are included
}

// within reads a file that another includes, which is looked for beside that, and
// beside the one that was asked for.
func (r *reader) within(name string, line int, read func(text []byte)) {
	const deepest, most = 16, 256
	if r.count++; r.depth >= deepest || r.count > most || r.include == nil {
		r.warn(line, "the included %s is not followed", name)
		return
	}
	var text []byte
	var path string
	err := errors.New("no name")
	for _, beside := range []string{r.file, r.top} {
		if name == "" || err == nil {
			break
		}
		path = name
		if !filepath.IsAbs(name) {
			path = filepath.Join(filepath.Dir(beside), name)
		}
		text, err = r.include(path)
	}
	if err == nil && len(text) > mostText {
		err = errors.New("too large")
	}
	if err != nil {
		r.warn(line, "the included %s is not read: %s; what it says is not known", name, err)
		return
	}
	before := r.file
	r.file, r.depth = path, r.depth+1
	read(text)
	r.file, r.depth = before, r.depth-1
}

// form is a form of descriptions.
type form struct {
	name string
	most int // how large one may be
	is   func(file string, head, text []byte) bool
	read func(r *reader, text []byte) error
}

// forms are those that are read; the first counts that a description has.
var forms = []form{
	{"ELF", MostBytes, func(_ string, _, text []byte) bool { return IsProgram(text) }, (*reader).program},
	{
		"a memory map or register description in XML",
		mostText,
		func(_ string, head, _ []byte) bool { return bytes.HasPrefix(head, []byte("<")) },
		(*reader).xml,
	},
	{"a device tree, in source form or as a binary", mostText, isTree, (*reader).tree},
	{"a device tree, in source form or as a binary", mostText, isBlob, (*reader).blob},
	{"a linker's map file", mostText, isLinkerMap, (*reader).linkerMap},
	{
		"a linker script with MEMORY",
		mostText,
		func(_ string, _, text []byte) bool { return bytes.Contains(text, []byte("MEMORY")) },
		(*reader).linker,
	},
}

func isTree(file string, _, text []byte) bool {
	return bytes.Contains(text, []byte("/dts-v1/")) ||
		slices.Contains([]string{".dts", ".dtsi", ".overlay"}, strings.ToLower(filepath.Ext(file)))
}

// Read adds a description to the draft. include reads a file that it includes, by its path.
func (d *Draft) Read(file string, text []byte, include func(path string) ([]byte, error)) error {
	one := &Draft{Sources: []string{file}, symbols: d.symbols}
	r := &reader{Draft: one, file: file, top: file, include: include}
	head := bytes.TrimSpace(bytes.TrimPrefix(text[:min(len(text), 4096)], []byte("\xEF\xBB\xBF")))
	i := slices.IndexFunc(forms, func(f form) bool { return f.is(file, head, text) })
	switch {
	case i < 0:
		var known []string
		for _, f := range forms {
			if !slices.Contains(known, f.name) {
				known = append(known, f.name)
			}
		}
		return &source.Problem{File: file, What: "a description of no known form", Expected: strings.Join(known, ", or ")}
	case len(text) > forms[i].most:
		return &source.Problem{
			File:     file,
			What:     fmt.Sprintf("a description of %s", memory.FormatSize(uint64(len(text)))),
			Expected: fmt.Sprintf("at most %s", memory.FormatSize(uint64(forms[i].most))),
		}
	}
	if err := forms[i].read(r, text); err != nil {
		return err
	}
	if len(one.Memories)+len(one.Regions) == 0 {
		what := "no memory is described in it"
		if list := one.Problems.Sorted(); len(list) > 0 { // which may say why
			what += "; " + list[0].What
		}
		return &source.Problem{File: file, What: what}
	}
	d.add(one)
	return nil
}

func (r *reader) warn(line int, format string, args ...any) {
	r.Problems.Add(&source.Problem{File: r.file, Line: line, Severity: source.Warning, What: fmt.Sprintf(format, args...)})
}

// add joins another draft, and tells where the two contradict each other.
func (d *Draft) add(other *Draft) {
	for _, p := range other.Problems.Sorted() {
		d.Problems.Add(p)
	}
	d.Sources = append(d.Sources, other.Sources...)
	d.Name = cmp.Or(d.Name, other.Name)
	d.symbols = other.symbols
	for _, m := range other.Memories {
		if m.Part {
			d.parts = append(d.parts, m)
		} else {
			d.addMemory(m)
		}
	}
	type same struct {
		memory.Span
		name, space string
	}
	known := map[same]bool{}
	for _, r := range d.Regions {
		known[same{r.Span, r.Name, r.Space}] = true
	}
	for _, r := range other.Regions {
		if key := (same{r.Span, r.Name, r.Space}); !known[key] {
			known[key] = true
			d.Regions = append(d.Regions, r)
		}
	}
	d.Entries = append(d.Entries, other.Entries...)
}

func (d *Draft) contradicts(at, before Where, what, said string) {
	d.Problems.Add(
		&source.Problem{
			File:     at.File,
			Line:     at.Line,
			Severity: source.Warning,
			What:     what,
			Expected: fmt.Sprintf("%s, as in %s", said, before),
		},
	)
}

// addMemory joins a memory with the one that it lies over, if any.
func (d *Draft) addMemory(m Memory) {
	if m.Part {
		var there []memory.Span
		for _, o := range d.Memories {
			if o.Space == m.Space {
				there = append(there, o.Span)
			}
		}
		if len(memory.Without([]memory.Span{m.Span}, there)) == 0 {
			return // what a program uses may lie in several
		}
	}
	i := slices.IndexFunc(d.Memories, func(o Memory) bool { _, meets := o.Span.Meet(m.Span); return meets && o.Space == m.Space })
	if i < 0 {
		if len(d.Memories) < mostFound {
			d.Memories = append(d.Memories, m)
		}
		return
	}
	old := &d.Memories[i]
	switch {
	case m.Part && old.Span.Covers(m.Span), old.Span == m.Span:
	case old.Part && m.Span.Covers(old.Span):
		name := old.Name
		before := *old
		*old = m
		old.Write = cmp.Or(m.Write, before.Write)
		old.Name, old.Kind, old.Page, old.Erase = cmp.Or(m.Name, name), cmp.Or(m.Kind, before.Kind), cmp.Or(m.Page, before.Page),
			cmp.Or(m.Erase, before.Erase)
		return
	default:
		d.contradicts(m.Where, old.Where, fmt.Sprintf("memory %s is %s", m.Name, m.Span), old.Name+" "+old.Span.String())
		return
	}
	if m.Kind != "" && old.Kind != "" && m.Kind != old.Kind {
		d.contradicts(m.Where, old.Where, fmt.Sprintf("memory %s is %s", m.Name, m.Kind), string(old.Kind))
	}
	for _, unit := range []struct {
		what string
		into *uint64
		is   uint64
	}{{"pages", &old.Page, m.Page}, {"sectors", &old.Erase, m.Erase}, {"granules", &old.Write, m.Write}} {
		if unit.is != 0 && *unit.into != 0 && unit.is != *unit.into {
			d.contradicts(m.Where, old.Where, fmt.Sprintf("the %s of %s have %d bytes", unit.what, m.Name, unit.is), fmt.Sprint(*unit.into))
		}
		*unit.into = cmp.Or(*unit.into, unit.is)
	}
	old.Kind = cmp.Or(old.Kind, m.Kind)
}

// kindOf guesses what a memory is made of by its name; "" is that it does not tell.
func kindOf(name string) device.Kind {
	name = strings.ReplaceAll(strings.ToLower(name), "program", "prog") // which has "ram" in it
	for _, k := range []struct {
		part string
		kind device.Kind
	}{
		{"eeprom", device.EEPROM}, {"ram", device.RAM}, {"ccm", device.RAM}, {"itcm", device.RAM}, {"dtcm", device.RAM},
		{"fuse", device.Config}, {"lock", device.Config}, {"option", device.Config}, {"config", device.Config},
		{"otp", device.OTP}, {"signature", device.ROM},
		{"flash", device.Flash}, {"prog", device.Flash}, {"text", device.Flash}, {"rom", device.Flash}, {"data", device.RAM},
	} {
		if strings.Contains(name, k.part) {
			return k.kind
		}
	}
	return ""
}

// roleOf guesses what a region is for by its name.
func roleOf(name string) device.Role {
	name = strings.ToLower(name)
	has := func(part string) bool { return strings.Contains(name, part) }
	switch {
	case has("boot") && !has("slot"), has("loader"):
		return device.Bootloader
	case slices.ContainsFunc([]string{"app", "slot", "image", "firmware", "text"}, has):
		return device.Application
	}
	return device.Data
}

// nameOf makes a name of a map of any text.
func nameOf(text string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(strings.TrimSpace(text)) {
		switch {
		case r >= 'a' && r <= 'z' || r == '_' || r >= '0' && r <= '9':
			b.WriteRune(r)
		default:
			b.WriteByte('_')
		}
	}
	name := strings.Trim(b.String(), "_")
	for strings.Contains(name, "__") {
		name = strings.ReplaceAll(name, "__", "_")
	}
	if name == "" || name[0] >= '0' && name[0] <= '9' {
		name = "m" + name
	}
	if !span.IsName(name) || name == "image" || name == "fed" {
		name += "_"
	}
	return name
}
