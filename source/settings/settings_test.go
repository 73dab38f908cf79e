package settings

import (
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
	f, problems, _ := decode("name = 'n'\ncount = 0x10\n[[inner]]\nsize = 0x20\nflags = [true, false]\n[[inner]]\nsize = 'a.first+1'\nsets = { x = 'y' }\n[one]\nsize = 3\n")
	require.Empty(t, problems)
	assert.Equal(t, file{Name: "n", Count: 16, Inner: []inner{{Size: "32", Flags: []bool{true, false}}, {Size: "a.first+1", Sets: map[string]string{"x": "y"}}}, One: &inner{Size: "3"}}, f)
}

func TestDecodeFindsAllProblems(t *testing.T) {
	_, problems, _ := decode("nam = 'n'\ncount = -1\none = 3\n[[inner]]\nsize = 1.5\nflags = [true, 3]\nsets = [1]\n[[inner]]\nflags = 'no'\n")
	assert.Equal(t, []string{
		"f.toml:1:1: error: key nam is not known here (did you mean name?)",
		"f.toml:2:1: error: count is -1; a number from 0 up expected",
		"f.toml:3:1: error: one is 3; a table expected",
		"f.toml:5:1: error: size is 1.5; a number, or an expression in quotes expected",
		"f.toml:6:16: error: flags[1] is 3; true or false expected",
		"f.toml:7:1: error: sets is a list; a table expected",
		"f.toml:9:1: error: flags is \"no\"; a list expected",
	}, problems)
	_, problems, _ = decode("name = 'n\n")
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0], "f.toml:1:")
	assert.Contains(t, problems[0], "not TOML as it stands")
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
	assert.Contains(t, problems.Error(), "key a is not known here")
}
