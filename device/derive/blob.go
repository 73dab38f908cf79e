package derive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"slices"
	"strings"

	"mexalt/source"
)

// The marks of a flattened device tree (Devicetree Specification 0.4, chapter 5).
const (
	blobMagic = 0xD00DFEED
	beginNode = 1
	endNode   = 2
	propMark  = 3
	nopMark   = 4
	endMark   = 9
)

// blobHeader is the header of a flattened device tree, section 5.2.
type blobHeader struct {
	Magic, TotalSize, Struct, Strings, Reserved, Version, LastCompatible, BootCPU, StringsSize, StructSize uint32
}

func isBlob(_ string, _, text []byte) bool {
	return len(text) > 4 && binary.BigEndian.Uint32(text) == blobMagic
}

// blob reads a device tree in binary form.
func (r *reader) blob(text []byte) error {
	t := &treeReader{reader: r, root: &node{properties: map[string]property{}, at: Where{File: r.file}}, labels: map[string]*node{}}
	b := &blobReader{at: Where{File: r.file}}
	var h blobHeader
	if binary.Read(bytes.NewReader(text), binary.BigEndian, &h) != nil {
		return b.damaged("its header is not whole")
	}
	var ok1, ok2 bool
	if b.data, ok1 = part(text, h.Struct, h.StructSize); !ok1 || h.Version < 17 {
		return b.damaged("its nodes are not in it, or it is older than version 17")
	}
	if b.names, ok2 = part(text, h.Strings, h.StringsSize); !ok2 {
		return b.damaged("its names are not in it")
	}
	if err := b.read(t.root); err != nil {
		return err
	}
	t.done()
	return nil
}

// part cuts out what a header says.
func part(text []byte, from, size uint32) ([]byte, bool) {
	end := uint64(from) + uint64(size)
	if end > uint64(len(text)) {
		return nil, false
	}
	return text[from:end], true
}

// blobReader goes through the nodes of a flattened device tree.
type blobReader struct {
	data, names []byte
	at          Where
	nodes       int
}

func (b *blobReader) damaged(why string) error {
	return &source.Problem{File: b.at.File, What: "a damaged device tree: " + why, Advice: source.Advise("make it again")}
}

// word takes a number of 32 bits.
func (b *blobReader) word() (uint32, error) {
	if len(b.data) < 4 {
		return 0, b.damaged("it ends within a node")
	}
	n := binary.BigEndian.Uint32(b.data)
	b.data = b.data[4:]
	return n, nil
}

// take takes bytes, and those that fill up the last four.
func (b *blobReader) take(n int) ([]byte, error) {
	whole := (n + 3) &^ 3
	if n < 0 || whole > len(b.data) {
		return nil, b.damaged("it ends within a node")
	}
	out := b.data[:n]
	b.data = b.data[whole:]
	return out, nil
}

// read reads all nodes into the root.
func (b *blobReader) read(root *node) error {
	const deepest, most = 100, 100_000
	var path []*node
	for {
		mark, err := b.word()
		if err != nil {
			return err
		}
		switch mark {
		case nopMark:
		case endMark:
			if len(path) > 0 {
				return b.damaged("nodes are not ended")
			}
			return nil
		case beginNode:
			n := bytes.IndexByte(b.data, 0)
			name, err := b.take(n + 1)
			if n < 0 || err != nil {
				return b.damaged("the name of a node does not end")
			}
			in := root
			if len(path) > 0 { // else the root
				in = &node{name: string(name[:n]), properties: map[string]property{}, parent: path[len(path)-1], at: b.at}
				in.parent.children = append(in.parent.children, in)
			}
			if b.nodes++; len(path) > deepest || b.nodes > most {
				return b.damaged("it has too many nodes, or they are nested too deeply")
			}
			path = append(path, in)
		case endNode:
			if len(path) == 0 {
				return b.damaged("more nodes end than begin")
			}
			path = path[:len(path)-1]
		case propMark:
			if err := b.property(path); err != nil {
				return err
			}
		default:
			return b.damaged("unknown marks between its nodes")
		}
	}
}

// property reads a property of the innermost node: what it is, cells or texts, the form does
// not say, so that both are kept where both can be.
func (b *blobReader) property(path []*node) error {
	size, err1 := b.word()
	name, err2 := b.word()
	value, err3 := b.take(int(size))
	if err := errors.Join(err1, err2, err3); err != nil || len(path) == 0 || uint64(name) >= uint64(len(b.names)) {
		return b.damaged("a property is not whole")
	}
	text := b.names[name:]
	if end := bytes.IndexByte(text, 0); end >= 0 {
		text = text[:end]
	}
	p := property{at: b.at}
	if len(value)%4 == 0 {
		for i := 0; i < len(value); i += 4 {
			p.cells = append(p.cells, cell{uint64(binary.BigEndian.Uint32(value[i:])), true})
		}
	}
	if n := len(value); n > 1 && value[n-1] == 0 &&
		!slices.ContainsFunc(value[:n-1], func(c byte) bool { return c != 0 && (c < ' ' || c > '~') }) {
		p.texts = strings.Split(string(value[:n-1]), "\x00")
	}
	path[len(path)-1].properties[string(text)] = p
	return nil
}
