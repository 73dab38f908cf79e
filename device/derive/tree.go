package derive

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// node is a node of a device tree (Devicetree Specification 0.4, chapter 2).
type node struct {
	name       string // with its unit address
	labels     []string
	properties map[string]property
	children   []*node
	byName     map[string]*node // the children
	parent     *node
	at         Where
}

// property is what a node says: cells, texts, references.
type property struct {
	cells []cell
	texts []string
	at    Where
}

// cell is a number of 32 bits; known is false for a macro or a reference.
type cell struct {
	n     uint64
	known bool
}

// tree reads a device tree in source form: flash nodes, memories, and partitions of
// fixed addresses.
func (r *reader) tree(text []byte) error {
	t := &treeReader{reader: r, tokens: scanTree(text), root: &node{properties: map[string]property{}}, labels: map[string]*node{}}
	t.nodes(t.root, 0)
	t.done()
	return nil
}

// done notes what the whole tree tells.
func (t *treeReader) done() {
	t.walk(t.root)
	if m := t.root.properties["model"]; len(m.texts) > 0 {
		t.Name = m.texts[0]
	}
}

type treeReader struct {
	*reader
	tokens []token
	at     int
	root   *node
	labels map[string]*node
}

func (t *treeReader) peek() token { return t.tokens[min(t.at, len(t.tokens)-1)] }

func (t *treeReader) next() token {
	n := t.peek()
	t.at++
	return n
}

func (t *treeReader) take(text string) bool {
	if n := t.peek(); n.kind == 's' && n.text == text {
		t.at++
		return true
	}
	return false
}

// nodes reads what stands in a node, up to the brace that ends it.
func (t *treeReader) nodes(in *node, depth int) {
	const deepest = 100
	var labels []string
	for t.peek().kind != 0 && !t.take("}") {
		n := t.next()
		switch {
		case n.kind == 's' && n.text == "/": // the root, or a directive: /dts-v1/;
			if t.take("{") {
				if depth < deepest {
					t.nodes(t.root, depth+1)
				}
				continue
			}
			if t.peek().text == "include" { // /include/ "FILE" has no end
				t.next()
				t.take("/")
				t.included(in, t.next(), depth)
				continue
			}
			for t.peek().kind != 0 && !t.take(";") {
				t.next()
			}
		case (n.kind == 'w' || n.kind == 'n') && t.take(":"):
			labels = append(labels, n.text)
		case (n.kind == 'w' || n.kind == 'n') && t.take("{"):
			t.node(in, n, labels, depth)
			labels = nil
		case n.kind == 'w' && t.take("="):
			in.properties[n.text] = t.values(t.here(n))
		case n.kind == 'w':
			in.properties[n.text] = property{at: t.here(n)}
		}
	}
	t.take(";")
}

// here is the place of a token.
func (t *treeReader) here(n token) Where { return Where{t.file, n.line} }

func (t *treeReader) warnAt(at Where, format string, args ...any) {
	t.Problems.Add(&source.Problem{File: at.File, Line: at.Line, Severity: source.Warning, What: fmt.Sprintf(format, args...)})
}

// included reads a file in the place where it is included.
func (t *treeReader) included(in *node, name token, depth int) {
	t.within(name.text, name.line, func(text []byte) {
		tokens, at := t.tokens, t.at
		t.tokens, t.at = scanTree(text), 0
		for t.peek().kind != 0 { // past a brace that is one too many
			t.nodes(in, depth)
		}
		t.tokens, t.at = tokens, at
	})
}

// scanTree takes a tree apart. What a preprocessor would put in is written as the
// standard's own way of it; files of names alone, for which there is none, are left out.
func scanTree(text []byte) []token {
	lines := bytes.SplitAfter(text, []byte("\n"))
	for i, line := range lines {
		rest, ok := bytes.CutPrefix(bytes.TrimSpace(line), []byte("#include"))
		name := strings.Trim(strings.TrimSpace(string(rest)), "\"<>")
		if ok && (strings.HasSuffix(name, ".dtsi") || strings.HasSuffix(name, ".dts")) {
			lines[i] = []byte("/include/ \"" + name + "\"\n")
		}
	}
	return scan(bytes.Join(lines, nil), ",.+-?#&@")
}

// node reads a child, or what is added to a node by its label.
func (t *treeReader) node(in *node, name token, labels []string, depth int) {
	const deepest = 100
	if label, ok := strings.CutPrefix(name.text, "&"); ok && t.labels[label] != nil {
		t.nodes(t.labels[label], depth+1)
		return
	}
	child := in.byName[name.text]
	if child == nil {
		child = &node{name: name.text, properties: map[string]property{}, parent: in, at: t.here(name)}
		in.children = append(in.children, child)
		if in.byName == nil {
			in.byName = map[string]*node{}
		}
		in.byName[name.text] = child
	}
	for _, l := range labels {
		child.labels = append(child.labels, l)
		t.labels[l] = child
	}
	if depth >= deepest {
		t.warn(name.line, "nodes are nested too deeply")
		t.at = len(t.tokens)
		return
	}
	t.nodes(child, depth+1)
}

// values reads a property's value, up to the semicolon.
func (t *treeReader) values(at Where) (p property) {
	p.at = at
	for t.peek().kind != 0 && !t.take(";") {
		n := t.next()
		switch {
		case n.kind == 'q':
			p.texts = append(p.texts, n.text)
		case n.kind == 's' && n.text == "<":
			for t.peek().kind != 0 && !t.take(">") {
				p.cells = append(p.cells, t.cell())
			}
		}
	}
	return p
}

// cell reads one cell: a number, an expression in parentheses, a macro for a size.
func (t *treeReader) cell() cell {
	n := t.next()
	switch {
	case n.kind == 'n':
		v, ok := number(n.text)
		return cell{v, ok}
	case n.kind == 'w' && t.take("("):
		inner := t.inParentheses()
		switch {
		case n.text == "DT_SIZE_K" && inner.known:
			return cell{inner.n << 10, true}
		case n.text == "DT_SIZE_M" && inner.known:
			return cell{inner.n << 20, true}
		}
		return cell{}
	case n.kind == 's' && n.text == "(":
		return t.inParentheses()
	}
	return cell{}
}

// inParentheses reads an expression by the same rules as a linker script's.
func (t *treeReader) inParentheses() cell {
	from, depth := t.at, 1
	for t.peek().kind != 0 && depth > 0 {
		switch n := t.next(); {
		case n.kind == 's' && n.text == "(":
			depth++
		case n.kind == 's' && n.text == ")":
			depth--
		}
	}
	// In names of a tree + and - are letters; in an expression they are signs.
	var text strings.Builder
	for _, n := range t.tokens[from:max(min(t.at, len(t.tokens))-1, from)] {
		text.WriteString(n.text + " ")
	}
	s := &script{reader: t.reader, tokens: scan([]byte(text.String()), "")}
	v, ok := s.expression(0)
	return cell{v, ok && s.peek().kind == 0}
}

func (n *node) number(name string, otherwise uint64) uint64 {
	if n != nil {
		if p := n.properties[name]; len(p.cells) > 0 && p.cells[0].known {
			return p.cells[0].n
		}
	}
	return otherwise
}

// reg returns what a node's reg says, by the cells that its parent counts; ok is
// false where it is not known.
func (n *node) reg() (spans []memory.Span, ok bool) {
	cells := n.properties["reg"].cells
	// By the standard 2 and 1 where the parent says nothing.
	addressCells, sizeCells := n.parent.number("#address-cells", 2), n.parent.number("#size-cells", 1)
	each := int(min(addressCells+sizeCells, 8))
	if each == 0 || addressCells > 2 || sizeCells > 2 {
		return nil, false
	}
	for ; len(cells) >= each; cells = cells[each:] {
		var first, size uint64
		for i, c := range cells[:each] {
			if !c.known || c.n > 0xFFFF_FFFF {
				return nil, false
			}
			if uint64(i) < addressCells {
				first = first<<32 | c.n
			} else {
				size = size<<32 | c.n
			}
		}
		s, ok := memory.SpanOf(first, size)
		if !ok {
			return nil, false
		}
		spans = append(spans, s)
	}
	return spans, len(spans) > 0
}

func (n *node) compatible(part string) bool {
	return slices.ContainsFunc(n.properties["compatible"].texts, func(text string) bool { return strings.Contains(text, part) })
}

// walk goes through the tree, from the root.
func (t *treeReader) walk(n *node) {
	for _, child := range n.children {
		text := func(name string) string {
			if p := child.properties[name].texts; len(p) > 0 {
				return p[0]
			}
			return ""
		}
		kind := device.Kind("")
		switch {
		case text("device_type") == "memory" || child.compatible("sram") || child.compatible("mmio-ram"):
			kind = device.RAM
		case child.compatible("eeprom"):
			kind = device.EEPROM
		case child.compatible("flash") && !child.compatible("controller"), child.compatible("jedec,spi-nor"),
			len(child.fixedPartitions()) > 0:
			kind = device.Flash
		}
		if kind != "" && (len(child.properties["reg"].cells) > 0 || len(child.fixedPartitions()) > 0) {
			t.memoryNode(child, kind, text("label"))
		}
		t.walk(child)
	}
}

// memoryNode notes a memory and its partitions.
func (t *treeReader) memoryNode(n *node, kind device.Kind, label string) {
	spans, ok := n.reg()
	at := cmp.Or(n.properties["reg"].at, n.at)
	if n.parent.number("#size-cells", 1) == 0 || len(n.properties["reg"].cells) <= 1 || !ok && len(n.fixedPartitions()) > 0 {
		t.onBus(n, kind, at)
		return
	}
	if !ok {
		t.warnAt(at, "the place of %s is not known: its reg is given by names, or in another way", n.name)
		return
	}
	base, _, _ := strings.Cut(n.name, "@")
	if len(n.labels) > 0 {
		base = n.labels[0]
	}
	for i, s := range spans {
		name := nameOf(base)
		if i > 0 {
			name += string(rune('a' + min(i, 25)))
		}
		if len(t.Memories) < mostFound {
			t.Memories = append(
				t.Memories,
				Memory{
					Name:  name,
					Kind:  kind,
					Span:  s,
					Page:  n.number("page-size", 0),
					Erase: n.number("erase-block-size", 0),
					Write: n.number("write-block-size", 0),
					Where: at,
				},
			)
		}
	}
	t.partitions(n, spans[0], "")
}

// onBus notes a memory that is chosen on a bus and has no addresses there: its own
// count from 0, and it is as long as its partitions say at least.
func (t *treeReader) onBus(n *node, kind device.Kind, at Where) {
	var all memory.Span
	for _, p := range n.fixedPartitions() {
		if spans, ok := p.reg(); ok {
			all.Last = max(all.Last, spans[0].Last)
		}
	}
	if all.Last == 0 || len(t.Memories) >= mostFound {
		t.warnAt(at, "%s is chosen on a bus: where its bytes are seen is not known", n.name)
		return
	}
	base, _, _ := strings.Cut(n.name, "@")
	if len(n.labels) > 0 {
		base = n.labels[0]
	}
	t.Memories = append(
		t.Memories,
		Memory{
			Name:  nameOf(base),
			Kind:  kind,
			Span:  all,
			Part:  true,
			Space: n.path(),
			Erase: n.number("erase-block-size", 0),
			Write: n.number("write-block-size", 0),
			Where: at,
		},
	)
	t.partitions(n, all, n.path())
}

// path names a node by all around it.
func (n *node) path() string {
	if n.parent == nil {
		return ""
	}
	return n.parent.path() + "/" + n.name
}

// fixedPartitions returns the nodes of a flash's partitions.
func (n *node) fixedPartitions() (list []*node) {
	for _, child := range n.children {
		if child.compatible("fixed-partitions") || child.name == "partitions" {
			list = append(list, child.children...)
		}
	}
	return list
}

// partitions notes the pieces of a flash, whose addresses count from its first.
func (t *treeReader) partitions(n *node, in memory.Span, space string) {
	for _, p := range n.fixedPartitions() {
		spans, ok := p.reg()
		at := cmp.Or(p.properties["reg"].at, p.at)
		if !ok {
			t.warnAt(at, "the place of partition %s is not known", p.name)
			continue
		}
		name := p.name
		if texts := p.properties["label"].texts; len(texts) > 0 {
			name = texts[0]
		} else if len(p.labels) > 0 {
			name = p.labels[0]
		}
		where := memory.Span{First: in.First + spans[0].First, Last: in.First + spans[0].Last}
		if where.First < in.First || !in.Covers(where) {
			t.warnAt(at, "partition %s, %s, is not in its flash, %s", name, spans[0], in)
			continue
		}
		if len(t.Regions) < mostFound {
			t.Regions = append(t.Regions, Region{Name: nameOf(name), Role: roleOf(name), Span: where, Space: space, Where: at})
		}
	}
}
