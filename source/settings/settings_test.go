package settings

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

type inner struct {
	Size  Expression        `toml:"size"`
	Flags []bool            `toml:"flags"`
	Sets  map[string]string `toml:"sets"`
}

type file struct {
	Name  string  `toml:"name"`
	Count uint64  `toml:"count"`
	Inner []inner `toml:"inner"`
	One   *inner  `toml:"one"`
}

func decode(text string) (f file, problems []string, where *File) {
	var ps source.Problems
	where = Decode("f.toml", []byte(text), &f, &ps)
	for _, p := range ps.Sorted() {
		problems = append(problems, p.Error())
	}
	return f, problems, where
}

func TestDecode(t *testing.T) {
	f, problems, _ := decode(
		"name = 'n'\ncount = 0x10\n[[inner]]\nsize = 0x20\nflags = [true, false]\n[[inner]]\nsize = 'a.first+1'\nsets = { x = 'y' " +
			"}\n[one]\nsize = 3\n",
	)
	require.Empty(t, problems)
	assert.Equal(
		t,
		file{
			Name:  "n",
			Count: 16,
			Inner: []inner{{Size: "32", Flags: []bool{true, false}}, {Size: "a.first+1", Sets: map[string]string{"x": "y"}}},
			One:   &inner{Size: "3"},
		},
		f,
	)
}

// TestAByteOrderMarkSaysNothing reads a file as an editor saves it that puts a mark before the text.
func TestAByteOrderMarkSaysNothing(t *testing.T) {
	const mark = "\xEF\xBB\xBF"
	f, problems, _ := decode(mark + "name = 'n'\n")
	assert.Empty(t, problems)
	assert.Equal(t, "n", f.Name)
	_, problems, _ = decode(mark + "nam = 'n'\n")
	assert.Equal(t, []string{"f.toml:1:1: error: unknown key nam (did you mean name?)"}, problems)
	_, problems, _ = decode("'' = 1\n'two words' = 2\n\"a.b\" = 3\n")
	require.Len(t, problems, 3)
	for i, key := range []string{`""`, `"a.b"`, `"two words"`} {
		assert.Contains(t, strings.Join(problems, "\n"), "unknown key "+key+" ", i)
	}
	f, problems, _ = decode("name = 'n' # all")
	assert.Empty(t, problems)
	assert.Equal(t, "n", f.Name, "a comment ends the file")
	_, problems, _ = decode(mark + mark + "name = 'n'\n")
	assert.Len(t, problems, 1)
}

// TestWhatIsNoValueInTOML forgets quotes, the mistake that is made most.
func TestWhatIsNoValueInTOML(t *testing.T) {
	const other = "not valid TOML (look at the quotes, brackets and commas before this place)"
	quoted := func(value string) string {
		return value + " is not a value in TOML; expected \"" + value + "\", in quotes"
	}
	large := func(value string) string {
		return value + " is too large for a number in TOML; expected \"" + value + "\", in quotes"
	}
	for line, want := range map[string]string{
		"size = 512K":                       "8: " + quoted("512K"),
		"size = 4 KiB # all":                "8: " + quoted("4 KiB"),
		"size=flash.first + 4":              "6: " + quoted("flash.first + 4"),
		"\"ä€\" = 3K":                       "8: " + quoted("3K"),
		"flags = [ 1, 2K ]":                 "14: " + quoted("2K"),
		"sets = { b = [\"ä\", c] }":         "20: " + quoted("c"),
		"sets = { \"ä€\" = \"a\", b = 1X }": "26: " + quoted("1X"),
		"size = True":                       "8: True is not a value in TOML; expected true",
		"size =":                            "7: the key has no value",
		"size = # none":                     "8: the key has no value",
		"size = 0x8000_0000_0000_0000":      "8: " + large("0x8000_0000_0000_0000"),
		"size = [9223372036854775808]":      "9: " + large("9223372036854775808"),
		"size = 99_999_999_999_999_999_999": "8: " + large("99_999_999_999_999_999_999"),
		"size = 3 4":                        "10: " + other,
		"size = [1 2]":                      "11: " + other,
		"size = [1,, 2]":                    "11: " + other,
		"size = 3,":                         "9: " + other,
		"size = 'a' b":                      "12: " + other,
		"size 3":                            "6: " + other,
		"= 3":                               "1: " + other,
		"a = = 3":                           "5: " + other,
		"[[inner]":                          "8: " + other,
		"[[inner, b]":                       "8: " + other,
		"sets = { a = \"1\", b 2 }":         "21: " + other,
	} {
		_, problems, _ := decode("name = \"n\"\n" + line + "\n")
		assert.Equal(t, []string{"f.toml:2:" + strings.Replace(want, ": ", ": error: ", 1)}, problems, line)
	}
	_, problems, _ := decode("count = 0x7FFF_FFFF_FFFF_FFFF\n")
	assert.Empty(t, problems)
}

// TestNumbersAsTheFileHasThem asks for numbers in all places where one may stand.
func TestNumbersAsTheFileHasThem(t *testing.T) {
	var problems source.Problems
	var into struct {
		Any map[string]any `toml:"any"`
	}
	f := Decode("f.toml", []byte("\uFEFFany.a = 0xFF # = 0x00\nany.\"k = 1\"=0b10\nany.'=' = 0o17\n[any.t]\nx = +1_000\ny=-5\n"+
		"list = [0x10, 2,\n 0x30]\ninner = { p = 0xA, q = \"0x10\" }\ns = \"0x20\"\n[[any.u]]\nz = 1\n[[any.u]]\nz = 0xABC\n"), &into, &problems)
	require.NoError(t, problems.Err())
	for path, want := range map[string]string{
		"any.a": "0xFF", "any.k = 1": "0b10", "any.=": "0o17", "any.t.x": "+1_000", "any.t.y": "-5", "any.t.list[0]": "0x10", "any.t.list[1]": "2",
		"any.t.list[2]": "0x30", "any.t.inner.p": "0xA", "any.t.inner.q": "", "any.t.s": "", "any.u[0].z": "1", "any.u[1].z": "0xABC",
		"any.t.none": "", "any.t.list[3]": "",
	} {
		assert.Equal(t, want, f.Number(path), path)
	}
}

func TestDecodeFindsAllProblems(t *testing.T) {
	_, problems, _ := decode("nam = 'n'\ncount = -1\none = 3\n[[inner]]\nsize = 1.5\nflags = [true, 3]\nsets = " +
		"[1]\n[[inner]]\nflags = 'no'\n")
	assert.Equal(t, []string{
		"f.toml:1:1: error: unknown key nam (did you mean name?)",
		"f.toml:2:1: error: count is -1; expected a number from 0 up",
		"f.toml:3:1: error: one is 3; expected a table",
		"f.toml:5:1: error: size is 1.5; expected a number, or an expression in quotes",
		"f.toml:6:16: error: flags[1] is 3; expected true or false",
		"f.toml:7:1: error: sets is a list; expected a table",
		"f.toml:9:1: error: flags is \"no\"; expected a list",
	}, problems)
	_, problems, _ = decode("[inner]\nsize = 1\n[[iner]]\nsize = 1\n[one]\ncount = 0x10\ninner = 1\nnames = 1\nflags = 0x1F\n[[name]]\n")
	assert.Equal(t, []string{
		"f.toml:1:2: error: inner is a table; expected [[inner]]",
		"f.toml:3:3: error: unknown key iner (did you mean inner?)",
		"f.toml:6:1: error: unknown key count (count is a key of the whole file: put it above the first [table])",
		"f.toml:7:1: error: unknown key inner (known: size, flags, sets)",
		"f.toml:8:1: error: unknown key names (known: size, flags, sets)",
		"f.toml:9:1: error: flags is 0x1F; expected a list",
		"f.toml:10:3: error: name is a list; expected a text in quotes",
	}, problems)
	_, problems, _ = decode("name = 'n\n")
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0], "f.toml:1:")
	assert.Contains(t, problems[0], "not valid TOML")
}

func TestProblemsHaveTheNearestPlace(t *testing.T) {
	var ps source.Problems
	var f file
	where := Decode("f.toml", []byte("name = 'n'\n\n[[inner]]\nsize = 1\n"), &f, &ps)
	where.Problem("inner[0].size", "at the key", "", "")
	where.Problem("inner[0].flags", "at what would hold it", "", "")
	where.Problem("count", "nowhere", "", "")
	var lines []string
	for _, p := range ps.Sorted() {
		lines = append(lines, p.Error())
	}
	assert.Equal(t, []string{"f.toml: error: nowhere", "f.toml:3:3: error: at what would hold it", "f.toml:4:1: error: at the key"}, lines)
}

func TestNestingIsBounded(t *testing.T) {
	for text, line := range map[string]int{
		"a = " + strings.Repeat("[", 1_000_000):                                                  1,
		"a = 1\nb = " + strings.Repeat("{ c = ", 101) + "1":                                      2,
		"# [[[\na = '[['\nb = \"\\\"[\"\nc = \"\"\"\n[\n\"\"\"\nd = " + strings.Repeat("[", 101): 7,
	} {
		var problems source.Problems
		Decode("f.toml", []byte(text), &struct{}{}, &problems)
		require.Equal(t, 1, problems.Count(), text[:40])
		assert.Contains(t, problems.Error(), "more than 100 lists or tables in each other")
		assert.Equal(t, line, problems.Sorted()[0].Line)
	}
	var problems source.Problems
	Decode("f.toml", []byte("a = "+strings.Repeat("[", 50)+strings.Repeat("]", 50)+"\n"), &struct {
		A []any `toml:"b"`
	}{}, &problems)
	assert.Contains(t, problems.Error(), "unknown key a")
}

// TestDepthIsCountedRightly puts lists in each other just as deep as they may be, and one
// deeper, behind what looks like a bracket and is none.
func TestDepthIsCountedRightly(t *testing.T) {
	deep := strings.Repeat("[", 100)
	for text, want := range map[string][2]int{
		"a = " + deep:                                 {},
		"a = " + deep + "[":                           {1, 105},
		deep + "[":                                    {1, 101},
		"a = 1 # [\nb = " + deep:                      {},
		"a = 1 # [\nb = " + deep + "{":                {2, 105},
		"a = [] # ]\nb = [" + deep[1:] + "]]\n[[[":    {3, 3},
		"#\n#[\n\n" + deep + "[":                      {4, 101},
		"a = '['\nb = " + deep + "[":                  {2, 105},
		`a = "\"[" # [` + "\nb = " + deep + "[":       {2, 105},
		`a = '\'` + "\nb = [" + deep:                  {2, 105},
		`a = "x\\"` + "\nb = [" + deep:                {2, 105},
		"a = \"\"\"[\n[\"[\n\"\"\" # [\nb = [" + deep: {4, 105},
		"a = ['''\n'''," + deep:                       {2, 104},
		"a = [\"\"\"\n\n x\"\"\"," + deep:             {3, 106},
		"a = '''\n[[''' \nb = 1\n[" + deep:            {4, 101},
		"a = [\"\"\"[\"\"\"\"\"]\nb = [" + deep:       {2, 105},
		"a = ['''['''', '''[''']\nb = [" + deep:       {2, 105},
		"a = [\"\"\"x\\\"\"\"[\"\"\"]\nb = [" + deep:  {2, 105},
		"a = [\"\"\"x\\\\\"\"\"]\nb = [" + deep:       {2, 105},
		"a = ['''x\\'''], '['\nb = [" + deep:          {2, 105},
		"a = [\"\", '', \"\"]\nb = [" + deep:          {2, 105},
		"a = [\"\"\"\"\"\", \"[\"]\nb = [" + deep:     {2, 105},
		"a = \"[\nb = [" + deep:                       {2, 105},
		"a = '''" + deep + "[":                        {},
		"]" + deep:                                    {},
		"]" + deep + "[":                              {1, 102},
	} {
		line, column, found := nestedTooDeep([]byte(text))
		assert.Equal(t, want, [2]int{line, column}, strings.ReplaceAll(text, deep, "…"))
		assert.Equal(t, want != [2]int{}, found)
	}
	assert.Equal(t, 4, endOfText([]byte(`"a\"`), 0), "never beyond the text")
	assert.Equal(t, 2, endOfText([]byte("'a'"), 0))
	for text, end := range map[string]int{`"""a"""`: 6, `"""a""""`: 7, `"""a"""""`: 8, `"""a""""""`: 8, `"""a`: 4, `"""a\"""`: 8,
		`"""a\`: 5, `""""""`: 5, `""`: 1} {
		assert.Equal(t, end, endOfText([]byte(text), 0), text)
	}
}

type word struct {
	A uint64 `toml:"a"`
	B uint64 `toml:"b"`
}

func (w *word) Word(text string) bool { w.A = 9; return text == "nine" }
func (w *word) Words() []string       { return []string{"nine", "ten"} }

// TestWhatMayStandAlone gives lists of texts, of tables and of words as one alone.
func TestWhatMayStandAlone(t *testing.T) {
	type all struct {
		Texts Texts      `toml:"texts"`
		Plain []string   `toml:"plain"`
		List  List[word] `toml:"list"`
		Words []word     `toml:"words"`
		Word  word       `toml:"word"`
		Any   any        `toml:"any"`
	}
	read := func(text string) (a all, f *File, told []string) {
		var ps source.Problems
		f = Decode("f.toml", []byte(text), &a, &ps)
		for _, p := range ps.Sorted() {
			told = append(told, p.Error())
		}
		return a, f, told
	}
	a, f, told := read("texts = 'x'\nwords = 'nine'\nword = 'nine'\nany = [1]\n[list]\na = 1\n[word2]\n")
	assert.Equal(t, all{Texts: Texts{"x"}, List: List[word]{{A: 1}}, Words: []word{{A: 9}}, Word: word{A: 9}, Any: []any{int64(1)}}, a)
	assert.Equal(t, []string{"f.toml:7:2: error: unknown key word2 (did you mean words?)"}, told)
	assert.Equal(t, 1, f.Unknown())
	assert.True(t, f.Meant("words"))
	assert.False(t, f.Meant("word"))
	assert.Equal(t, "list", f.Item("list", 0))
	assert.Equal(t, "list[1]", f.Item("list", 1))
	assert.Equal(t, 5, f.Line("list"))
	assert.Equal(t, 0, f.Line("list[0]"))
	assert.Zero(t, Silent(nil).Line("list"))

	a, f, told = read("texts = ['x', 'y']\nlist = [{ a = 1 }, { b = 2 }]\nplain = 'x'\nword = 'eleven'\nwords = [{ a = 1 }, 'ten']\n")
	assert.Equal(t, Texts{"x", "y"}, a.Texts)
	assert.Equal(t, List[word]{{A: 1}, {B: 2}}, a.List)
	assert.Equal(
		t,
		[]string{
			"f.toml:3:1: error: plain is \"x\"; expected a list",
			`f.toml:4:1: error: word is "eleven"; expected a table, or "nine", "ten"`,
			`f.toml:5:21: error: words[1] is "ten"; expected a table, or "nine", "ten"`,
		},
		told,
	)
	assert.Equal(t, "list[0]", f.Item("list", 0))
	assert.Equal(t, 2, f.Line("list[1].b"))

	var ps source.Problems
	f = Decode("f.toml", []byte("a = 1\r\n[b.c]\nd = 2\n[[e]]\n[[e.g]]\nh = 1\n[[e.g]]\nh = 2\n[[e]]\n[[e.g]]\nh = 3\n"), &struct {
		A uint64 `toml:"a"`
		B any    `toml:"b"`
		E any    `toml:"e"`
	}{}, &ps)
	require.NoError(t, ps.Err())
	for path, line := range map[string]int{"a": 1, "b.c": 2, "b.c.d": 3, "e[0].g[0].h": 6, "e[0].g[1].h": 8, "e[1].g[0].h": 11} {
		assert.Equal(t, line, f.Line(path), path)
	}
	f.Warn("a", "odd", "", "")
	require.Equal(t, 1, ps.Count())
	assert.Zero(t, ps.Errors())
	assert.Equal(t, "a = 1", ps.Sorted()[0].Text)
	into := f.Into(&source.Problems{})
	into.Problem("a", "elsewhere", "", "")
	assert.Equal(t, 1, ps.Count())
	assert.Empty(t, f.line(0))
	assert.Equal(t, "h = 3", f.line(11))
	assert.Empty(t, f.line(13))
	assert.Equal(t, "a date or time", Describe(nil))
}

// TestKeysOfOneTable counts them.
func TestKeysOfOneTable(t *testing.T) {
	keys := func(n int) string {
		var b strings.Builder
		b.WriteString("[inner]\n")
		for i := range n {
			fmt.Fprintf(&b, "k%d = 1\n", i)
		}
		return b.String()
	}
	for n, many := range map[int]bool{mostKeys: false, mostKeys + 1: true} {
		var ps source.Problems
		Decode("f.toml", []byte(keys(n)), &struct {
			Inner any `toml:"inner"`
		}{}, &ps)
		assert.Equal(t, many, ps.Errors() == 1, n)
		if many {
			assert.Equal(t, "f.toml:1:2: error: 2001 keys in one table; expected at most 2000", ps.Error())
		}
	}
	var ps source.Problems
	var long struct {
		List Texts `toml:"list"`
	}
	f := Decode("f.toml", []byte("list = ["+strings.Repeat("'x',\n", mostElements-1)+"'y']"), &long, &ps)
	assert.NoError(t, ps.Err(), "a list may be longer")
	assert.Equal(t, mostElements, len(long.List))
	assert.Equal(t, mostElements, f.Line(f.Item("list", mostElements-1)))
	assert.False(t, f.Has(elementPath("list", mostElements)))
	var more source.Problems
	Decode("f.toml", []byte("other = 1\nlist = ["+strings.Repeat("'x',\n", mostElements)+"'y']"), &long, &more)
	assert.EqualError(t, more.Err(), "f.toml:2:1: error: 10001 elements in one list; expected at most 10000")
	f = Decode("f.toml", []byte("list = 'x'\n\n'odd[0]' = 1"), &long, &source.Problems{})
	assert.Equal(t, 3, f.Line("odd[0]"))
	Decode("f.toml", []byte(strings.Repeat("list = 1\n", mostKeys+5)), &long, &ps)
	assert.ErrorContains(t, ps.Err(), "f.toml:2:1: error: the key is given twice")
}

// TestTypographicCharacters finds them where they are no text, and leaves texts and comments
// alone: each line is one place.
func TestTypographicCharacters(t *testing.T) {
	for text, want := range map[string][]string{
		"name = “n”\n":                           {"1:8", "1:10"},
		"count =\u00A01\n":                       {"1:8"},
		"name = 'a“b' # ”\ncount = –1\n":         {"2:9"},
		"name = \"a\\\"“\"\ncount = \u22121\n":   {"2:9"},
		"name = 'a\\' # “\ncount = —1\n":         {"2:9"},
		"name = \"'“'\"\ncount = ‘1\n":           {"2:9"},
		"name = 'a' –\n":                         {"1:12"},
		"name = \"a\" # –\n":                     nil,
		"name = [\"a\\\\\", \"“\", '\\', '“'] ”": {"1:31"},
		"name = \"\\\\\\\"“\" ”":                 {"1:16"},
		"\"\" = '“'\r\ncount = «1»\r\n":          {"2:9", "2:11"},
		"name = '''“'''\ncount = “1\n":           nil,
		"name = \"\"\"“\"\"\"\ncount = 1\n":      nil,
	} {
		var ps source.Problems
		f := &File{name: "f.toml", problems: &ps, lines: strings.Split(text, "\n")}
		assert.Equal(t, want != nil, f.typographic([]byte(text)), text)
		var got []string
		for _, p := range ps.Sorted() {
			got = append(got, fmt.Sprintf("%d:%d", p.Line, p.Column))
			assert.Equal(t, strings.TrimRight(strings.Split(text, "\n")[p.Line-1], "\r"), p.Text)
		}
		assert.Equal(t, want, got, text)
	}
}
