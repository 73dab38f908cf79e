package proof

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
)

// TestLongListsOfManifests reads large manifests with their lists taken out, and whole: both
// say the same, and whatever was edited is read by the other way, which says so.
func TestLongListsOfManifests(t *testing.T) {
	m := &Manifest{Header: Header{Schema: Schema, Tool: `"runs": [{"first": "0x0000"`, Read: []ReadFile{}}}
	for p, n := range []int{3000, 0, 1, 2000} {
		one := Product{Variant: fmt.Sprint("v", p), Inputs: []Input{}, Steps: []Step{}, Outputs: []Output{}}
		one.Contents.Runs, one.Origins.Inputs = []Span{}, []OriginInput{}
		if n > 0 {
			one.Contents.Block, one.Contents.Blocks = uint64(n), strings.Repeat("0A1B2C3D4E5F9", n)
		}
		for tables := range 3 {
			table := OriginTable{Ranges: []tableRange{}, Sources: []OriginSource{{Input: tables}}}
			for i := range n {
				first := uint64(i) << (p * 12)
				one.Contents.Runs = append(one.Contents.Runs, Span{memory.PlainAddress(first), memory.PlainAddress(first + 3)})
				table.Ranges = append(table.Ranges,
					tableRange{First: first, Size: 1 << 33, Source: i % 3, Position: uint64(i) * 7, Each: uint8(i), Phase: uint8(p)})
			}
			one.Origins.Tables = append(one.Origins.Tables, table)
		}
		m.Products = append(m.Products, one)
	}
	var b bytes.Buffer
	require.NoError(t, m.Write(&b))
	text := b.String()
	var whole Manifest
	require.NoError(t, json.Unmarshal(b.Bytes(), &whole))
	got := loadLifted(b.Bytes())
	require.NotNil(t, got)
	assert.Equal(t, &whole, got)
	rest, long := lift(b.Bytes())
	assert.Less(t, len(rest), 8000)
	assert.Len(t, long.runs, 3)
	assert.Len(t, long.ranges, 9)
	assert.Len(t, long.blocks, 3)
	// Where most of a text is something else, nothing of it is kept but what is meant.
	tool := m.Tool
	m.Tool = strings.Repeat("mexalt ", len(text)/4)
	large, err := m.Text()
	require.NoError(t, err)
	got = loadLifted(large)
	require.NotNil(t, got)
	assert.Equal(t, whole.Products, got.Products)
	m.Tool = tool
	for edit, one := range map[string][2]string{
		"a space":                {`["0x0005", `, `["0x0005",  `},
		"lower case":             {`["0x000A", `, `["0x000a", `},
		"a shorter address":      {`["0x0005", `, `["0x5", `},
		"an address with zeros":  {`["0x0005", `, `["0x00000005", `},
		"a sign":                 {`, 14, 2, 0]`, `, +14, 2, 0]`},
		"no number":              {`, 14, 2, 0]`, `, , 2, 0]`},
		"a leading zero":         {`, 14, 2, 0]`, `, 014, 2, 0]`},
		"a key twice":            {`"runs": [{"first": "0x0000"`, `"runs": [], "runs": [{"first": "0x0000"`},
		"spans turned round":     {`{"first": "0x0005", "last": "0x0008"}`, `{"last": "0x0008", "first": "0x0005"}`},
		"another key":            {`{"first": "0x0005", "last"`, `{"first": "0x0005", "most"`},
		"a list not closed":      {`"0x0BBA"}]`, `"0x0BBA"}`},
		"a seventh value":        {`, 7, 1, 0]`, `, 7, 1, 0, 0]`},
		"a value too large":      {`, 7, 1, 0]`, `, 7, 256, 0]`},
		"a source too large":     {`["0x0005", 8589934592, 2, `, `["0x0005", 8589934592, 2147483648, `},
		"a size above 64 bits":   {`["0x0005", 8589934592, `, `["0x0005", 18446744073709551616, `},
		"a size far above":       {`["0x0005", 8589934592, `, `["0x0005", 99999999999999999999, `},
		"no digits":              {`["0x0005", `, `["0x", `},
		"three digits":           {`["0x0005", `, `["0x005", `},
		"twenty digits":          {`["0x0005", `, `["0x11110000000000000005", `},
		"no list":                {`["0x0005", `, `{"0x0005", `},
		"no runs":                {`"runs": []`, `"runs": null`},
		"no ranges":              {`"ranges": []`, `"ranges": null`},
		"blocks with a quote":    {`"blocks": "0A1B`, `"blocks": "0A\\"1B`},
		"a colon before blocks":  {`"blocks": "0A1B`, `"blocks" : "0A1B`},
		"blocks twice":           {"\n    \"blocks\": \"", "\n    \"blocks\": \"00\",\n    \"blocks\": \""},
		"blocks before the size": {`"block": 3000`, "\"bytes\": 1,\n    \"blocks\": \"00\",\n    \"block\": 3000"},
		"another form":           {Schema, Schema + "0"},
		"something behind":       {"\n]\n", "\n]\n "},
	} {
		changed := strings.Replace(text, one[0], one[1], 1)
		if edit == "something behind" {
			changed = text + " "
		}
		require.NotEqual(t, text, changed, edit)
		assert.Nil(t, loadLifted([]byte(changed)), edit)
	}
	most := strings.Replace(text, `["0x0005", 8589934592, `, `["0x0005", 18446744073709551615, `, 1)
	got = loadLifted([]byte(most))
	require.NotNil(t, got)
	assert.EqualValues(t, uint64(math.MaxUint64), got.Products[0].Origins.Tables[0].Ranges[5].Size)
	for _, other := range []string{"0a1B", "0A:1B"} { // they are read as they stand
		changed := strings.Replace(text, `"blocks": "0A1B`, `"blocks": "`+other, 1)
		was := whole.Products[0].Contents.Blocks
		whole.Products[0].Contents.Blocks = strings.Replace(was, "0A1B", other, 1)
		assert.Equal(t, &whole, loadLifted([]byte(changed)))
		whole.Products[0].Contents.Blocks = was
	}
	assert.Nil(t, loadLifted([]byte(text)[:leastLifted-1]))
	for cut := len(text) - 1; cut > 0; cut -= 9973 * golden.Every(8) {
		assert.Nil(t, loadLifted([]byte(text)[:cut]), "%d", cut)
	}
	// What is hostile is gone through once: keys without end, and lists that never close.
	for _, hostile := range []string{listKeys[runsList], listKeys[rangesList], listKeys[blocksList], `"block": 1` + listKeys[blocksList],
		`"runs": [{"first": "0x0000", "last": "0x0000"}, `, `"ranges": [["0x0000", 1, 0, 0, 0, 0], `} {
		assert.Nil(t, loadLifted([]byte(strings.Repeat(hostile, 50_000))))
	}
}
