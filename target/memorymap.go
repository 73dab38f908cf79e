package target

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// Memory is a memory as a server tells of it.
type Memory struct {
	Kind  string // ram, rom or flash
	Span  memory.Span
	Block uint64 // bytes that are erased at once; 0 is not said
}

// The kinds of memory in a memory map.
const (
	RAM   = "ram"
	ROM   = "rom"
	Flash = "flash"
)

// mapFile is the document that servers give.
type mapFile struct {
	XMLName  xml.Name     `xml:"memory-map"`
	Memories []memoryFile `xml:"memory"`
}

type memoryFile struct {
	Type       string         `xml:"type,attr"`
	Start      string         `xml:"start,attr"`
	Length     string         `xml:"length,attr"`
	Properties []propertyFile `xml:"property"`
}

type propertyFile struct {
	Name  string `xml:"name,attr"`
	Value string `xml:",chardata"`
}

// MapText returns the memory map as the server gives it; ok is false where it gives none.
func (t *Target) MapText() (text []byte, ok bool, err error) {
	text, ok, err = t.document("memory-map", "")
	return text, ok, t.final(err)
}

// Memories returns the memories of the server's map, sorted; none where it gives none.
func (t *Target) Memories() ([]Memory, error) {
	text, ok, err := t.MapText()
	if err != nil || !ok {
		return nil, err
	}
	list, err := parseMap(text)
	if err != nil {
		return nil, &source.Problem{
			File:     t.Address,
			What:     "the server's memory map: " + err.Error(),
			Expected: "memories that do not overlap, in XML",
		}
	}
	return list, nil
}

// Architecture returns the architecture of the device's core, as the server describes it
// (arm, riscv:rv32); "" is that it does not say.
func (t *Target) Architecture() (string, error) {
	text, ok, err := t.document("features", "target.xml")
	if err != nil || !ok {
		return "", t.final(err)
	}
	var f struct {
		XMLName      xml.Name `xml:"target"`
		Architecture string   `xml:"architecture"`
	}
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	if err := d.Decode(&f); err != nil {
		return "", &source.Problem{File: t.Address, What: "the server's description of the core: " + err.Error(), Expected: "XML"}
	}
	const most = 64
	name := strings.TrimSpace(f.Architecture)
	return source.Visible(name[:min(len(name), most)]), nil
}

// parseMap reads a memory map.
func parseMap(text []byte) (list []Memory, err error) {
	const most = 4096
	var f mapFile
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	if err := d.Decode(&f); err != nil {
		return nil, err
	}
	if len(f.Memories) > most {
		return nil, fmt.Errorf("more than %d memories", most)
	}
	for _, m := range f.Memories {
		first, err1 := strconv.ParseUint(m.Start, 0, 64)
		size, err2 := strconv.ParseUint(m.Length, 0, 64)
		s, ok := memory.SpanOf(first, size)
		switch {
		case err2 == nil && size == 0:
			continue
		case err1 != nil || err2 != nil || !ok:
			return nil, fmt.Errorf("start %q and length %q are no memory", m.Start, m.Length)
		case m.Type != RAM && m.Type != ROM && m.Type != Flash:
			return nil, fmt.Errorf("a memory of the unknown type %q", m.Type)
		}
		one := Memory{Kind: m.Type, Span: s}
		for _, p := range m.Properties {
			if p.Name != "blocksize" {
				continue
			}
			if one.Block, err = strconv.ParseUint(strings.TrimSpace(p.Value), 0, 64); err != nil {
				return nil, fmt.Errorf("a block size of %q", p.Value)
			}
		}
		list = append(list, one)
	}
	slices.SortFunc(list, func(a, b Memory) int { return cmp.Compare(a.Span.First, b.Span.First) })
	for i := 1; i < len(list); i++ {
		if both, ok := list[i].Span.Meet(list[i-1].Span); ok {
			return nil, fmt.Errorf("%s is in two memories", both)
		}
	}
	return list, nil
}

// mapText writes a memory map.
func mapText(list []Memory) []byte {
	var f mapFile
	for _, m := range list {
		one := memoryFile{Type: m.Kind, Start: fmt.Sprintf("0x%x", m.Span.First), Length: fmt.Sprintf("0x%x", m.Span.Size())}
		if m.Block > 0 {
			one.Properties = []propertyFile{{"blocksize", fmt.Sprintf("0x%x", m.Block)}}
		}
		f.Memories = append(f.Memories, one)
	}
	text, err := xml.MarshalIndent(f, "", " ")
	if err != nil {
		panic(err) // there is nothing in it that cannot be written
	}
	return append([]byte(`<?xml version="1.0"?>`+"\n"), text...)
}
