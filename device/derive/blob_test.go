package derive

import (
	"encoding/binary"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

// blobTree is a tree with a flash, its partitions and a memory.
func blobTree() *node {
	make := func(name string, properties map[string]property, children ...*node) *node {
		return &node{name: name, properties: properties, children: children}
	}
	cells := func(list ...uint64) (p property) {
		for _, n := range list {
			p.cells = append(p.cells, cell{n, true})
		}
		return p
	}
	texts := func(list ...string) property { return property{texts: list} }
	counts := map[string]property{"#address-cells": cells(1), "#size-cells": cells(1)}
	with := func(more map[string]property) map[string]property {
		out := maps.Clone(counts)
		maps.Copy(out, more)
		return out
	}
	return make("", with(map[string]property{"model": texts("Tree board"), "odd": texts("x")}),
		make("flash@6000000",
			map[string]property{"compatible": texts("other", "soc-nv-flash"), "reg": cells(0x6000000, 0x80000),
				"erase-block-size": cells(4096), "write-block-size": cells(8)},
			make("partitions", with(map[string]property{"compatible": texts("fixed-partitions")}),
				make("partition@0", map[string]property{"label": texts("loader"), "reg": cells(0, 0x8000)}),
				make("partition@8000", map[string]property{"label": texts("image-0"), "reg": cells(0x8000, 0x38000)}))),
		make("memory@28000000", map[string]property{"device_type": texts("memory"), "reg": cells(0x28000000, 0x10000)}))
}

// blobOf writes a tree as section 5 of the specification has it.
func blobOf(root *node) []byte {
	be := binary.BigEndian
	var nodes, names []byte
	pad := func() {
		for len(nodes)%4 != 0 {
			nodes = append(nodes, 0)
		}
	}
	var write func(n *node)
	write = func(n *node) {
		nodes = append(be.AppendUint32(nodes, beginNode), n.name+"\x00"...)
		pad()
		for _, key := range slices.Sorted(maps.Keys(n.properties)) {
			p := n.properties[key]
			var value []byte
			for _, c := range p.cells {
				value = be.AppendUint32(value, uint32(c.n))
			}
			if len(p.texts) > 0 {
				value = []byte(strings.Join(p.texts, "\x00") + "\x00")
			}
			nodes = be.AppendUint32(nodes, propMark)
			nodes = be.AppendUint32(nodes, uint32(len(value)))
			nodes = be.AppendUint32(nodes, uint32(len(names)))
			nodes = append(nodes, value...)
			pad()
			names = append(names, key+"\x00"...)
		}
		nodes = be.AppendUint32(nodes, nopMark)
		for _, child := range n.children {
			write(child)
		}
		nodes = be.AppendUint32(nodes, endNode)
	}
	write(root)
	nodes = be.AppendUint32(nodes, endMark)
	const head, reserved = 40, 16
	var out []byte
	for _, n := range []int{blobMagic, head + reserved + len(nodes) + len(names), head + reserved, head + reserved + len(nodes), head, 17,
		16, 0, len(names), len(nodes)} {
		out = be.AppendUint32(out, uint32(n))
	}
	return slices.Concat(out, make([]byte, reserved), nodes, names)
}

// TestBinaryTree derives a map of a tree in binary form, and reads many that differ in a few
// bytes: another map, or an error.
func TestBinaryTree(t *testing.T) {
	blob := blobOf(blobTree())
	d := &Draft{}
	require.NoError(t, d.Read("board.dtb", blob, nil))
	assert.Equal(t, "Tree board", d.Name)
	assert.Equal(t, []Memory{
		{Name: "flash", Kind: "flash", Span: d.Memories[0].Span, Erase: 4096, Write: 8, Where: Where{File: "board.dtb"}},
		{Name: "memory", Kind: "ram", Span: d.Memories[1].Span, Where: Where{File: "board.dtb"}},
	}, d.Memories)
	m := load(t, d.Text())
	assert.Equal(t, "0x0600_0000..0x0607_FFFF (512 KiB)", m.Memories[0].Span.String())
	assert.Equal(t, uint64(8), m.Memories[0].Granule)
	assert.Equal(t, "0x0600_8000..0x0603_FFFF (224 KiB)", m.Region("image_0").Span.String())
	assert.Equal(t, "0x2800_0000..0x2800_FFFF (64 KiB)", m.Memories[1].Span.String())
	for end := range blob {
		if err := (&Draft{}).Read("board.dtb", blob[:end], nil); assert.Error(t, err, end) && end > 4 {
			assert.Contains(t, err.Error(), "a damaged device tree", end)
		}
	}
	old := slices.Clone(blob)
	binary.BigEndian.PutUint32(old[20:], 16)
	assert.ErrorContains(t, (&Draft{}).Read("board.dtb", old, nil), "older than version 17")
	deep := &node{}
	for range 200 {
		deep = &node{name: "n", children: []*node{deep}}
	}
	assert.ErrorContains(t, (&Draft{}).Read("board.dtb", blobOf(deep), nil), "nested too deeply")
	golden.Edited(t, "testdata/blobs.txt", 400, map[string]string{"board.dtb": string(blob)},
		func(name, text string) string { return allOf(name, text, "") })
}
