package derive

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"io"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// element is an XML element, with what its attributes and its children without
// children say.
type element struct {
	name   string
	says   map[string]string
	line   int
	parent *element
	text   strings.Builder
}

// xml reads a memory map, or a register description: whichever elements are called
// a memory, or a segment or block of one, and say where they begin and how long
// they are.
func (r *reader) xml(text []byte) error {
	d := xml.NewDecoder(bytes.NewReader(text))
	d.Strict, d.CharsetReader = false, func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	const deepest = 200
	var open *element
	depth := 0
	for {
		line, _ := d.InputPos()
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			at, column := d.InputPos()
			return &source.Problem{File: r.file, Line: at, Column: column, What: "no XML: " + err.Error()}
		}
		switch t := t.(type) {
		case xml.StartElement:
			if depth++; depth > deepest {
				return &source.Problem{File: r.file, Line: line, What: "elements are nested too deeply"}
			}
			e := &element{name: strings.ToLower(t.Name.Local), says: map[string]string{}, line: line, parent: open}
			for _, a := range t.Attr {
				e.says[strings.ToLower(a.Name.Local)] = strings.TrimSpace(a.Value)
			}
			open = e
		case xml.CharData:
			const most = 256
			if open != nil && open.text.Len() < most {
				open.text.Write(t[:min(len(t), most)])
			}
		case xml.EndElement:
			if open == nil {
				continue
			}
			r.element(open)
			depth--
			open = open.parent
		}
	}
}

// element takes what an element says into the one around it, or as a memory.
func (r *reader) element(e *element) {
	value := strings.TrimSpace(e.text.String())
	if p := e.parent; p != nil && value != "" {
		key := e.name
		if e.name == "property" {
			key = strings.ToLower(e.says["name"])
		}
		if p.says[key] == "" {
			p.says[key] = value
		}
	}
	if e.parent != nil && e.name == "device" && r.Name == "" {
		r.Name = first(e.says, "name", "dname", "id")
	}
	if !slices.Contains([]string{"memory", "memory-segment", "memorysegment", "memory_segment", "addressblock", "region", "bank",
		"segment"}, e.name) {
		return
	}
	begin, size := first(e.says, "start", "startaddress", "address", "addr", "base", "offset", "baseaddress"), first(e.says, "size",
		"length", "len")
	if begin == "" || size == "" || e.name == "addressblock" {
		return
	}
	from, ok1 := number(begin)
	length, ok2 := number(size)
	where, ok3 := memory.SpanOf(from, length)
	name := first(e.says, "name", "id", "type")
	if !ok1 || !ok2 || !ok3 {
		r.warn(e.line, "memory %s: %q and %q say no span", name, begin, size)
		return
	}
	page, _ := number(first(e.says, "pagesize", "page", "page-size"))
	erase, _ := number(first(e.says, "blocksize", "erase-size", "erasesize", "sectorsize", "sector-size", "erase-block-size"))
	m := Memory{Name: nameOf(name), Kind: kindInXML(e, name), Span: where, Page: page, Erase: erase, Where: Where{r.file, e.line}}
	for p := e.parent; p != nil; p = p.parent {
		if strings.Contains(strings.ReplaceAll(p.name, "-", ""), "addressspace") {
			m.Space = first(p.says, "id", "name")
			break
		}
	}
	r.segment(m)
}

// segment notes a memory, or a piece of one that was noted.
func (r *reader) segment(m Memory) {
	if len(r.Memories)+len(r.Regions) >= mostFound {
		return
	}
	for i := range r.Memories {
		o := &r.Memories[i]
		switch {
		case o.Space != m.Space:
		case o.Span == m.Span:
			o.Kind, o.Page, o.Erase = cmp.Or(o.Kind, m.Kind), cmp.Or(o.Page, m.Page), cmp.Or(o.Erase, m.Erase)
			return
		case o.Span.Covers(m.Span):
			r.addMemory(m)
			return
		case m.Span.Covers(o.Span): // a piece that came before the whole
			before := *o
			*o = m
			r.addMemory(before)
			return
		}
	}
	r.Memories = append(r.Memories, m)
}

// addMemory notes a part of a memory as a region, unless it lies over another: such
// are choices, of which a description does not say one.
func (r *reader) addMemory(m Memory) {
	region := Region{Name: m.Name, Role: roleOf(m.Name), Span: m.Span, Space: m.Space, Where: m.Where}
	for _, o := range r.Regions {
		if both, meets := o.Span.Meet(m.Span); meets && o.Space == m.Space {
			r.warn(m.Where.Line, "%s, %s, overlaps %s, %s, in %s; it is left out", m.Name, m.Span, o.Name, o.Span, both.Range())
			return
		}
	}
	r.Regions = append(r.Regions, region)
}

// kindInXML tells a memory's kind by what its element says of it, else by its name.
func kindInXML(e *element, name string) device.Kind {
	kind := strings.ToLower(first(e.says, "type", "kind"))
	switch {
	case kind == "flash", kind == "nvm":
		if k := kindOf(name); k == device.EEPROM || k == device.Config || k == device.OTP {
			return k
		}
		return device.Flash
	case strings.Contains(kind, "eeprom"):
		return device.EEPROM
	case strings.Contains(kind, "ram"):
		return device.RAM
	case strings.Contains(kind, "fuse"), strings.Contains(kind, "lock"):
		return device.Config
	case kind == "rom":
		if access := e.says["access"]; strings.Contains(access, "w") {
			return device.RAM
		}
		if strings.HasPrefix(strings.ToLower(name), "irom") {
			return device.Flash
		}
		return device.ROM
	}
	if k := kindOf(name); k != "" {
		return k
	}
	switch access := strings.ToLower(e.says["access"]); {
	case strings.Contains(access, "w"):
		return device.RAM
	case strings.Contains(access, "x"):
		return device.Flash
	}
	return ""
}

func first(says map[string]string, keys ...string) string {
	for _, k := range keys {
		if says[k] != "" {
			return says[k]
		}
	}
	return ""
}
