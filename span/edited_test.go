package span

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"mexalt/internal/golden"
	"mexalt/memory"
)

// TestEditedTexts reads texts of the language that differ from good ones in a few places, and
// holds what they mean, or what is wrong with them, against what came of them before.
func TestEditedTexts(t *testing.T) {
	names := NamesOf(map[string]memory.Span{
		"app": {First: 0x4000, Last: 0x7FFF}, "boot": {First: 0, Last: 0x3FFF}, "end": {First: 1<<64 - 16, Last: 1<<64 - 1},
		"gone": {First: 1, Last: 2},
	})
	names.Lose("gone", "was cut away")
	names.Symbols = labels{"main": {0x100, 16}, "a.b$1": {0x200, 4}, "label": {0x300, 0}, "x.first": {0x400, 2}, "far": {1<<64 - 2, 4}}
	quiet := names
	quiet.WithoutAdvice = true
	bare := NamesOf(map[string]memory.Span{"image": {First: 5, Last: 9}})
	const list = `app
boot.first..app.last-4
app.first+0x100,2K
0x4000..0x7FFF
1_000,0b1010_0101
0x8000..32K
0..0x8000
symbol.main
symbol.a.b$1.last
symbol.label.first,symbol.main.size
symbol.x.first.first
symbol.far
symbol.none
symbol
symbol.
gone.first
(app.size - boot.size) * 3 / 2 % 0x100 << 4 | 0xF & 6 >> 1
((1+2)*(3+4)),16
end.last-1,2
0xFFFF_FFFF_FFFF_FFFF
18446744073709551615
16GiB
1MiB..2MiB
DE AD BE EF
0x_DEAD
255
100
"a text\n\x41\\"
a\tb\"c\0
1 << 63
1 << 64
0 << 99
2 >> 64
3-4
5%0`
	golden.Edited(t, "testdata/edited.txt", 400, map[string]string{"list": list, "again": list, "more": list}, func(_, text string) string {
		var b strings.Builder
		for line := range strings.Lines(text) {
			line = strings.TrimSuffix(line, "\n")
			told := func(what string, value any, err error) {
				var e *Error
				if errors.As(err, &e) {
					fmt.Fprintf(&b, "%s: %d %s; %s; %v\n", what, e.At, e.What, e.Expected, err)
				} else {
					fmt.Fprintf(&b, "%s: %v %v\n", what, value, err)
				}
			}
			for _, n := range []Names{names, quiet, bare, {}} {
				s, err := Span(line, n)
				told("span", s, err)
			}
			n, err := Number(line)
			told("number", n, err)
			n, err = Address(line, names)
			told("address", n, err)
			n, err = AddressAt(line, min(len(line), 4), names)
			told("address at", n, err)
			data, err := Bytes(line)
			told("bytes", data, err)
			data, err = Text(line)
			told("text", data, err)
			data, what, err := Wanted(line)
			told("wanted", what+string(data), err)
			fmt.Fprintln(&b, NamesIn(line), MaybeTooLong(line), IsName(line))
		}
		return b.String()
	})
}

func TestNamesTogether(t *testing.T) {
	var none Names
	one := none.With("a", memory.Span{First: 1, Last: 2})
	two := one.With("b", memory.Span{First: 3, Last: 4})
	more := NamesOf(map[string]memory.Span{"a": {First: 8, Last: 9}})
	more.Symbols = labels{"x": {1, 1}}
	for _, c := range []struct {
		n    Names
		want string
	}{
		{none, "[] nothing"}, {one, "[a] 1"}, {two, "[a b] 1"}, {two.And(more), "[a b] 8"}, {more.And(two), "[a b] 1"},
	} {
		s, ok := c.n.Span("a")
		text := fmt.Sprint(c.n.Known(), " ", s.First)
		if !ok {
			text = fmt.Sprint(c.n.Known(), " nothing")
		}
		if text != c.want {
			t.Errorf("%s, expected %s", text, c.want)
		}
	}
	if two.And(more).Symbols == nil || more.And(two).Symbols == nil || two.And(one).Symbols != nil {
		t.Error("symbols are those of the later, or of the former where it has none")
	}
}
