package settings

import (
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
	for _, p := range ps.List() {
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
		"f.toml:1:1: key nam is not known here (name?)",
		"f.toml:2:1: count is -1; a number from 0 up expected",
		"f.toml:3:1: one is 3; a table expected",
		"f.toml:5:1: size is 1.5; a number, or an expression in quotes expected",
		"f.toml:6:16: flags[1] is 3; true or false expected",
		"f.toml:7:1: sets is a list; a table expected",
		"f.toml:9:1: flags is \"no\"; a list expected",
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
	for _, p := range ps.List() {
		lines = append(lines, p.Error())
	}
	assert.Equal(t, []string{"f.toml: nowhere", "f.toml:3:3: at what would hold it", "f.toml:4:1: at the key"}, lines)
}
