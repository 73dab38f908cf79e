package page

import (
	"fmt"
	"strings"
	"text/template"
	"text/template/parse"

	"mexalt/source"
)

// Markup is text that is part of a page as it stands: what of it came from outside is
// escaped already.
type Markup string

// parsed parses the page's template, and makes each value that it prints one that is
// escaped: none can be forgotten. The standard library's html/template would do the same
// and more, but it costs every command of the program a tenth of its start, used or not.
// So the templates may print values in two places alone, as text and in double quotes.
func parsed(text string, functions template.FuncMap) (*template.Template, error) {
	functions["shown"], functions["standing"] = shown, standing
	t, err := template.New("page").Funcs(functions).Parse(text)
	if err != nil {
		return nil, err
	}
	for _, one := range t.Templates() {
		e := &escaper{name: one.Name(), tree: one.Tree}
		if e.list(one.Tree.Root); e.err == nil && e.at != inText {
			e.err = fmt.Errorf("template %s ends inside an element", e.name)
		}
		if e.err != nil {
			return nil, e.err
		}
	}
	return t, nil
}

// shown escapes a value. What is markup is printed as it is.
func shown(v any) string {
	if m, ok := v.(Markup); ok {
		return string(m)
	}
	return template.HTMLEscapeString(source.VisibleLines(fmt.Sprint(v)))
}

// standing prints markup where nothing can be escaped: in scripts and styles.
func standing(v any) (string, error) {
	m, ok := v.(Markup)
	if !ok {
		return "", fmt.Errorf("%T in a script or a style", v)
	}
	return string(m), nil
}

// place is where in a page's text something stands.
type place uint8

const (
	inText   place = iota
	inTag          // in an element's tag, outside quotes
	inQuotes       // in a value in double quotes
	inScript       // in a script or a style
)

// escaper goes through a template.
type escaper struct {
	name string
	tree *parse.Tree
	at   place
	tag  string // what was read of the tag so far
	err  error
}

func (e *escaper) list(l *parse.ListNode) {
	if l == nil {
		return
	}
	for _, n := range l.Nodes {
		switch n := n.(type) {
		case *parse.TextNode:
			e.text(string(n.Text))
		case *parse.ActionNode:
			e.action(n)
		case *parse.IfNode:
			e.branches(&n.BranchNode)
		case *parse.RangeNode:
			e.branches(&n.BranchNode)
		case *parse.WithNode:
			e.branches(&n.BranchNode)
		case *parse.TemplateNode:
			if e.at != inText {
				e.err = fmt.Errorf("template %s: %s stands inside an element", e.name, n)
			}
		case *parse.CommentNode:
		default:
			e.err = fmt.Errorf("template %s: no rule for %s", e.name, n)
		}
		if e.err != nil {
			return
		}
	}
}

// branches goes through what may or may not be there: both ends must be alike.
func (e *escaper) branches(b *parse.BranchNode) {
	before := *e
	e.list(b.List)
	other := before
	other.list(b.ElseList)
	if e.err == nil && other.err != nil {
		e.err = other.err
	}
	if e.err == nil && (e.at != other.at || b.ElseList == nil && e.at != before.at) {
		e.err = fmt.Errorf("template %s: %s ends otherwise than it begins", e.name, b)
	}
}

// action adds the function that escapes to what prints a value.
func (e *escaper) action(n *parse.ActionNode) {
	if len(n.Pipe.Decl) > 0 {
		return // it prints nothing
	}
	function := "shown"
	switch e.at {
	case inTag:
		e.err = fmt.Errorf("template %s: %s stands in a tag, outside quotes", e.name, n)
		return
	case inScript:
		function = "standing"
	}
	name := parse.NewIdentifier(function).SetTree(e.tree).SetPos(n.Pos)
	n.Pipe.Cmds = append(n.Pipe.Cmds, &parse.CommandNode{NodeType: parse.NodeCommand, Pos: n.Pos, Args: []parse.Node{name}})
}

// text follows the page's own text.
func (e *escaper) text(s string) {
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch e.at {
		case inText:
			if c == '<' {
				e.at, e.tag = inTag, ""
			}
		case inTag:
			switch c {
			case '"':
				e.at = inQuotes
			case '\'':
				e.err = fmt.Errorf("template %s: single quotes in a tag", e.name)
			case '>':
				e.at = inText
				if word, _, _ := strings.Cut(e.tag, " "); word == "script" || word == "style" {
					e.at = inScript
				}
			default:
				e.tag += string(rune(c))
			}
		case inQuotes:
			if c == '"' {
				e.at = inTag
			}
		case inScript:
			if strings.HasPrefix(s[i:], "</") {
				e.at, e.tag = inTag, ""
			}
		}
	}
}
