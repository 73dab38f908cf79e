package key

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// TestKeys sets keys of each sort to what they take and to what they do not.
func TestKeys(t *testing.T) {
	type values struct {
		text  string
		list  []string
		word  string
		on    bool
		n     uint64
		one   uint64
		octet *byte
	}
	ff := byte(0xFF)
	for name, c := range map[string]struct {
		settings []source.Setting
		want     values
		err      string
	}{
		"nothing": {},
		"text":    {[]source.Setting{{Key: "text", Value: "-x y"}}, values{text: "-x y"}, ""},
		"twice": {[]source.Setting{{Key: "text", Value: "a"}, {Key: "text", Value: "b"}}, values{text: "a"},
			"text: given twice; give it once"},
		"list":           {[]source.Setting{{Key: "list", Value: "a"}, {Key: "list", Value: "b"}}, values{list: []string{"a", "b"}}, ""},
		"word":           {[]source.Setting{{Key: "word", Value: "big"}}, values{word: "big"}, ""},
		"no word":        {[]source.Setting{{Key: "word", Value: "bi"}}, values{}, `word: "bi" is not valid; choose one of big, little`},
		"switch":         {[]source.Setting{{Key: "on"}}, values{on: true}, ""},
		"switch by name": {[]source.Setting{{Key: "on", Value: "true"}}, values{on: true}, ""},
		"switched off":   {[]source.Setting{{Key: "on", Value: "false"}}, values{}, ""},
		"no switch":      {[]source.Setting{{Key: "on", Value: "yes"}}, values{}, `on: "yes" is neither true nor false`},
		"number":         {[]source.Setting{{Key: "n", Value: "1K"}}, values{n: 1024}, ""},
		"least":          {[]source.Setting{{Key: "n", Value: "1"}}, values{n: 1}, ""},
		"below":          {[]source.Setting{{Key: "n", Value: "0"}}, values{}, `n: "0" is out of range; 1 to 1024`},
		"above":          {[]source.Setting{{Key: "n", Value: "1025"}}, values{}, `n: "1025" is out of range; 1 to 1024`},
		"no number":      {[]source.Setting{{Key: "n", Value: "x"}}, values{}, `n: "x", character 1:`},
		"one of":         {[]source.Setting{{Key: "one", Value: "0x4"}}, values{one: 4}, ""},
		"none of":        {[]source.Setting{{Key: "one", Value: "3"}}, values{}, `one: "3" is not valid; choose one of 2, 4, 8`},
		"byte":           {[]source.Setting{{Key: "octet", Value: "FF"}}, values{octet: &ff}, ""},
		"bytes":          {[]source.Setting{{Key: "octet", Value: "FF00"}}, values{}, `octet: "FF00" is 2 bytes, one is needed`},
		"unknown":        {[]source.Setting{{Key: "txt"}}, values{}, "txt: unknown key; did you mean text?"},
	} {
		t.Run(name, func(t *testing.T) {
			var got values
			keys := []*Key{
				Text(&got.text, "text", "T", "a text"), List(&got.list, "list", "T", "texts"),
				Word(&got.word, []string{"big", "little"}, "word", "W", "a word"),
				Switch(&got.on, "on", "a switch"), Number(&got.n, 1, 1024, "n", "N", "a number"),
				OneOf(&got.one, []uint64{2, 4, 8}, "one", "N", "one of few"),
				Byte(&got.octet, "octet", "BYTE", "a byte"),
			}
			err := Set(keys, c.settings)
			if c.err == "" {
				require.NoError(t, err)
				assert.Equal(t, c.want, got)
				for _, s := range c.settings {
					assert.True(t, Find(keys, s.Key).Given())
				}
				return
			}
			require.Error(t, err)
			var wrong *source.KeyError
			require.ErrorAs(t, err, &wrong)
			if name != "twice" {
				assert.Equal(t, values{}, got, "what is wrong is not taken")
			}
			assert.Contains(t, wrong.Key+": "+wrong.Err.Error(), c.err)
		})
	}
}

// TestKeysThatDoMore sets another key too, and keep what they were set to.
func TestKeysThatDoMore(t *testing.T) {
	var a, b uint64
	first, second := Number(&a, 0, 9, "a", "N", ""), Number(&b, 0, 5, "b", "N", "")
	first.SetTogether(second)
	var kept []source.Setting
	recorded := first.Recorded(&kept)
	require.NoError(t, recorded.Set("3"))
	assert.Equal(t, [2]uint64{3, 3}, [2]uint64{a, b})
	assert.Equal(t, []source.Setting{{Key: "a", Value: "3"}}, kept)
	assert.True(t, recorded.Given())
	assert.False(t, first.Given(), "they are two keys")
	for _, wrong := range []string{"10", "6", "3"} { // for one, for the other, and twice for both
		third, fourth := Number(&a, 0, 9, "a", "N", ""), Number(&b, 0, 5, "b", "N", "")
		third.SetTogether(fourth)
		kept = nil
		recorded := third.Recorded(&kept)
		if wrong == "3" {
			require.NoError(t, fourth.Set("3"))
		}
		assert.Error(t, recorded.Set(wrong), wrong)
		assert.Empty(t, kept)
	}
}
