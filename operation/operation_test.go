package operation

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec"
	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

const mapText = `
name = "T"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = 0x1000
page = 64
[[memory]]
name = "eeprom"
kind = "eeprom"
first = 0x8000
size = 64
erased = 0
[[memory]]
name = "fuses"
kind = "config"
first = 0x9000
size = 2
[[region]]
name = "app"
role = "application"
first = 0x1000
size = 0x400
[[region]]
name = "boot"
role = "bootloader"
first = 0x1C00
last = 0x1FFF
[[region]]
name = "table"
role = "data"
first = "eeprom.first"
last = "eeprom.last"
[start]
kind = "instruction"
at = "boot.first"
[[checksum]]
name = "outer"
kind = "CRC-32/ISO-HDLC"
in = "0x1000..0x13F7"
at = 0x13F8
[[checksum]]
name = "inner"
kind = "CRC-16/MODBUS"
in = "0x1000..0x107D"
at = 0x107E
order = "big"
[[config]]
name = "word"
at = "fuses.first"
width = 2
default = 0x0100
[[config.field]]
name = "clock"
bits = "0..1"
values = [{ value = 0, meaning = "slow" }, { value = 1, meaning = "fast" }]
`

func testMap(t *testing.T) *device.Map {
	t.Helper()
	var problems source.Problems
	m := device.Load("t", []byte(mapText), &problems)
	require.NoError(t, problems.Err())
	return m
}

// image makes an image of texts at addresses.
func image(t *testing.T, parts map[uint64]string) memory.Part {
	t.Helper()
	m := &memory.Image{}
	for first, data := range parts {
		var ok bool
		m, ok = m.Write(&source.Input{Name: "f", Counting: source.Offsets}, first, []byte(data))
		require.True(t, ok)
	}
	return memory.Part{Name: "f", Image: m}
}

// keys reads settings from "key=value" texts.
func keys(texts ...string) []source.Setting {
	var list []source.Setting
	for _, text := range texts {
		key, value, _ := strings.Cut(text, "=")
		list = append(list, source.Setting{Key: key, Value: value})
	}
	return list
}

// apply sets an operation and applies it.
func apply(e *Environment, name string, settings []source.Setting, images ...memory.Part) (*Outcome, error) {
	op := KindOf(name).New()
	if err := key.Set(op.Keys(), settings); err != nil {
		return nil, err
	}
	if err := op.Check(e.Map != nil); err != nil {
		return nil, err
	}
	return op.Apply(e, images)
}

// held shows an image as ADDRESS:text pairs.
func held(m *memory.Image) string {
	var list []string
	for _, r := range m.Runs() {
		list = append(list, fmt.Sprintf("%X:%s", r.First, r.Data))
	}
	return strings.Join(list, " ")
}

func TestApply(t *testing.T) {
	two := map[uint64]string{0x1000: "abcd", 0x1008: "ef"}
	for name, c := range map[string]struct {
		op    string
		keys  []source.Setting
		with  bool // a map
		parts []map[uint64]string
		want  string
		notes string
	}{
		"merge": {"merge", nil, false, []map[uint64]string{{0: "ab"}, {4: "cd"}}, "0:ab 4:cd", ""},
		"merge, first": {"merge", keys("clash=first"), false, []map[uint64]string{{0: "ab"}, {1: "xy"}}, "0:aby",
			"f+0x1 covers f+0x0 over 0x0001 (1 byte); they differ there"},
		"merge, last": {"merge", keys("clash=last"), false, []map[uint64]string{{0: "ab"}, {1: "xy"}}, "0:axy",
			"f+0x0 covers f+0x1 over 0x0001 (1 byte); they differ there"},
		"merge, agree": {"merge", keys("clash=agree"), false, []map[uint64]string{{0: "ab"}, {1: "bc"}}, "0:abc", ""},
		"merge, lanes": {"merge", keys("lanes"), false, []map[uint64]string{{0: "ac"}, {0: "bd"}}, "0:abcd", ""},
		"merge, lanes of words": {"merge", keys("lanes", "lane-width=2"), false, []map[uint64]string{{0: "ab"}, {0: "cd"}}, "0:abcd",
			""},
		"place at":            {"place", keys("at=0x20"), false, []map[uint64]string{two}, "20:abcd 28:ef", ""},
		"place, shifted down": {"place", keys("shift=-4K"), false, []map[uint64]string{two}, "0:abcd 8:ef", ""},
		"place into":          {"place", keys("into=boot"), true, []map[uint64]string{two}, "1C00:abcd 1C08:ef", ""},
		"cut, keep":           {"cut", keys("keep=0x1001..0x1008"), false, []map[uint64]string{two}, "1001:bcd 1008:e", ""},
		"cut, drop": {"cut", keys("drop=0x1001,2", "drop=image.last"), false, []map[uint64]string{two},
			"1000:a 1003:d 1008:e", ""},
		"cut, one address": {"cut", keys("keep=0x1001"), false, []map[uint64]string{two}, "1001:b", ""},
		"cut, all":         {"cut", keys("drop=image"), false, []map[uint64]string{two}, "", ""}, // which is told by [NothingLeft]
		"fill":             {"fill", keys("with=2E"), false, []map[uint64]string{two}, "1000:abcd....ef", ""},
		"fill, a pattern": {"fill", keys("with=0x78 79 7A", "in=0x1004,3"), false, []map[uint64]string{two},
			"1000:abcdzxy 1008:ef", ""},
		"fill, pages": {"fill", keys("with=2E", "pages=4"), false, []map[uint64]string{two}, "1000:abcd 1008:ef..", ""},
		"fill, pages inside": {"fill", keys("with=2E", "pages=4", "in=0x1008..0x100A"), false, []map[uint64]string{two},
			"1000:abcd 1008:ef.", ""},
		"patch, bytes": {"patch", keys("at=0x1001", "bytes=58 59"), false, []map[uint64]string{two}, "1000:aXYd 1008:ef", ""},
		"patch, several": {"patch",
			keys("at=0x1000", `text=v\x31`, "size=3", "pad=2E", "number=0x4142", "size=2", "order=big", "bytes=43", "grow"), false,
			[]map[uint64]string{two}, "1000:v1.ABC 1008:ef", ""},
		"patch, little and minus": {"patch", keys("at=0x1000", "number=-1", "size=1", "number=0x6261", "size=2"), false,
			[]map[uint64]string{two}, "1000:\xFFabd 1008:ef", ""},
		"patch, a file": {"patch", keys("at=0x1000", "file=x"), false, []map[uint64]string{two}, "1000:FILE 1008:ef", ""},
		"patch, over a text's end": {"patch", keys("at=0x1000", "text=xy"), false, []map[uint64]string{{0x1000: "version 1\x00"}},
			"1000:xyrsion 1\x00", `the patch is shorter than the old text "version 1"; the rest of that text remains`},
		"patch, over a neighbour": {"patch", keys("at=0x1000", "text=unit 10"), false, []map[uint64]string{{0x1000: "unit\x00ab\x00x"}},
			"1000:unit 10\x00x", `the text runs over the end of "unit", into what stood at 0x1005: was 61 62`},
		"patch, over a 00": {"patch", keys("at=0x1000", "text=unit 10"), false,
			[]map[uint64]string{{0x1000: "unit\x00\xFF\xFFxy"}}, "1000:unit 10xy",
			`the text runs over the 00 that ended "unit", and none ends it now: 78 is at 0x1007`},
		"patch, within its room": {"patch", keys("at=0x1000", "text=unit 10"), false,
			[]map[uint64]string{{0x1000: "unit\x00\x00\x00\x00"}}, "1000:unit 10\x00", ""},
		"convert":             {"convert", nil, false, []map[uint64]string{two}, "1000:abcd 1008:ef", ""},
		"convert, swapped":    {"convert", keys("swap=2"), false, []map[uint64]string{two}, "1000:badc 1008:fe", ""},
		"convert, part of it": {"convert", keys("in=0x1002..0x1008"), false, []map[uint64]string{two}, "1002:cd 1008:e", ""},
		"checksum": {"checksum", keys("kind=SUM-8", "in=0x1000,4", "store=0x1004", "grow"), false,
			[]map[uint64]string{two}, "1000:abcd\x8A 1008:ef", ""},
		"config": {"config", keys("words=clock=fast"), true, []map[uint64]string{two},
			"1000:abcd 1008:ef 9000:\x01\x01", ""},
		"config, as the image gave": {"config", keys("words=clock=0"), true, []map[uint64]string{{0x9000: "\x03\x05"}}, "9000:\x00\x05",
			""},
	} {
		t.Run(name, func(t *testing.T) {
			e := &Environment{Cores: 1, Read: func(string) ([]byte, error) { return []byte("FILE"), nil }}
			if c.with {
				e.Map = testMap(t)
			}
			var parts []memory.Part
			for _, p := range c.parts {
				parts = append(parts, image(t, p))
			}
			before := held(parts[0].Image)
			o, err := apply(e, c.op, c.keys, parts...)
			require.NoError(t, err)
			assert.Equal(t, c.want, held(o.Image()))
			assert.Equal(t, c.notes, strings.Join(o.Notes, "\n"))
			assert.Equal(t, before, held(parts[0].Image), "images are not changed")
			if err := NothingLeft(parts, o, false); o.Image().Empty() {
				assert.ErrorContains(t, err, "nothing is left of the image; expected spans in which it has bytes; it covers 0x1000..0x1009")
			} else {
				assert.NoError(t, err)
			}
		})
	}
}

func TestFillKeepsInsideTheRegionsInUse(t *testing.T) {
	e := &Environment{Map: testMap(t)}
	in := image(t, map[uint64]string{0x1010: "app", 0x8000: "tables"})
	o, err := apply(e, "fill", keys("erased"), in)
	require.NoError(t, err)
	var spans []string
	for _, r := range o.Image().Runs() {
		spans = append(spans, r.Span().Range())
	}
	assert.Equal(t, []string{"0x1000..0x13FF", "0x8000..0x803F"}, spans, "nothing between memories, nothing in boot")
	b := make([]byte, 2)
	require.True(t, o.Image().ReadAt(b, 0x803E))
	assert.Equal(t, []byte{0, 0}, b, "each memory has an erased value of its own")
}

func TestLimits(t *testing.T) {
	e := &Environment{Limit: memory.Proportion(4)}
	in := image(t, map[uint64]string{0: "abcd"})
	for op, settings := range map[string][]source.Setting{
		"fill":     keys("in=0..0x3FFFFFFF"),
		"patch":    keys("at=0", "bytes=00", "size=1G", "grow"),
		"checksum": keys("in=0..0x3FFFFFFF", "holes=FF"),
	} {
		_, err := apply(e, op, settings, in)
		var p *source.Problem
		require.True(t, errors.As(err, &p), op)
		assert.Contains(t, p.What, "would produce 1 GiB")
		assert.Equal(t, "huge", p.Advice.AnyOf[0].Key)
	}
}

// TestSealComputesInOrder stores a checksum whose span holds another's place
// after that, and proves both as they were stored.
func TestSealComputesInOrder(t *testing.T) {
	e := &Environment{Map: testMap(t), Cores: 1}
	in := image(t, map[uint64]string{0x1000: strings.Repeat("firmware", 128)})
	o, err := apply(e, "seal", nil, in)
	require.NoError(t, err)
	require.Len(t, o.Changes, 2)
	assert.True(t, strings.HasPrefix(o.Changes[0], "inner: CRC-16/MODBUS"), o.Changes[0])
	for _, c := range []string{"kind=CRC-32/ISO-HDLC in=0x1000..0x13F7 expect-at=0x13F8",
		"kind=CRC-16/MODBUS in=0x1000..0x107D expect-at=0x107E order=big"} {
		again, err := apply(e, "checksum", keys(strings.Fields(c)...), memory.Part{Image: o.Image()})
		require.NoError(t, err)
		assert.True(t, again.Checksums[0].AsExpected(), c)
	}
	stale, err := apply(e, "patch", keys("at=0x1020", "bytes=00"), memory.Part{Image: o.Image()})
	require.NoError(t, err)
	assert.Equal(
		t,
		[]string{"outer at 0x13F8 no longer matches; run seal to recompute it",
			"inner at 0x107E no longer matches; run seal to recompute it"},
		stale.Notes,
	)

	only, err := apply(e, "seal", keys("only=inner"), in)
	require.NoError(t, err)
	assert.Len(t, only.Changes, 1)
	_, err = apply(e, "seal", keys("only=innr"), in)
	assert.ErrorContains(t, err, `declares no checksum "innr"; did you mean inner?`)
	_, err = apply(e, "seal", nil, image(t, map[uint64]string{0x1C00: "boot"}))
	assert.ErrorContains(t, err, "nothing to seal: the image contains no bytes where inner covers 0x1000..0x107D (126 bytes), "+
		"and outer covers 0x1000..0x13F7 (1016 bytes); expected bytes there; this image covers 0x1C00..0x1C03 (4 bytes) (merge the parts")
	tail := image(t, map[uint64]string{0x1300: "tail"})
	some, err := apply(e, "seal", nil, tail)
	require.NoError(t, err)
	assert.Equal(t, []string{"inner is left out: the image contains nothing in 0x1000..0x107D (126 bytes)"}, some.Notes)
	assert.Len(t, some.Checksums, 1)
	_, err = apply(e, "seal", keys("only=inner"), tail)
	assert.ErrorContains(t, err, "no bytes where inner covers 0x1000..0x107D", "what was asked for by name")

	outer, inner := e.Map.Checksums[0], e.Map.Checksums[1]
	inner.In = []memory.Span{{First: 0x13F0, Last: 0x13FF}}
	_, circle := device.InOrder(e.Map, nil, []*device.Checksum{&outer, &inner})
	assert.ElementsMatch(t, []string{"outer", "inner"}, circle, "none can come first")
}

func TestStartOfMergedImages(t *testing.T) {
	at := func(name string, first, start uint64) memory.Part {
		p := image(t, map[uint64]string{first: "code"})
		return memory.Part{Name: name, Image: p.Image.WithStart(memory.Start{Kind: memory.LinearStart, Value: start})}
	}
	app, boot := at("app", 0x1000, 0x1000), at("boot", 0x1C00, 0x1C00)
	_, err := apply(&Environment{}, "merge", nil, app, boot)
	var p *source.Problem
	require.True(t, errors.As(err, &p))
	assert.Equal(t, "start", p.Advice.AnyOf[0].Key)
	o, err := apply(&Environment{Map: testMap(t)}, "merge", nil, app, boot)
	require.NoError(t, err)
	assert.Equal(t, uint64(0x1C00), o.Image().Start().Value, "the map says where the device starts")
	assert.Equal(t, []string{"the start address 0x1C00 of boot is kept, as the map says; the others are left out"}, o.Notes)
	for text, want := range map[string]uint64{"app": 0x1000, "0x1234": 0x1234, "none": 0} {
		o, err := apply(&Environment{}, "merge", keys("start="+text), app, boot)
		require.NoError(t, err)
		assert.Equal(t, want, o.Image().Start().Value)
	}
}

// TestSplitGivesBlocks splits, and looks at what raw files would begin with.
func TestSplitGivesBlocks(t *testing.T) {
	e := &Environment{Map: testMap(t)}
	in := image(t, map[uint64]string{0x1002: "app", 0x8003: "table"})
	for by, want := range map[string]string{
		"regions": "app@0x1000 table@0x8000", "memories": "flash@0x1000 eeprom@0x8000", "runs": "run0@0x1002 run1@0x8003",
		"size 0x100": "part0@0x1000 part1@0x8000", "lanes 2": "lane0@0x0801 lane1@0x0801",
	} {
		o, err := apply(e, "split", keys("by="+by), in)
		require.NoError(t, err)
		var parts []string
		for _, p := range o.Parts {
			parts = append(parts, p.Name+"@"+memory.FormatAddress(p.Block.First))
		}
		assert.Equal(t, want, strings.Join(parts, " "), by)
	}
	o, err := apply(e, "split", keys("by=memories", "from-zero"), in)
	require.NoError(t, err)
	assert.Equal(t, "2:app", held(o.Parts[0].Image))
	assert.Equal(t, "3:table", held(o.Parts[1].Image))
	origin, _ := o.Parts[1].Image.Origin(3)
	assert.Equal(t, "f+0x0, split", origin.String())

	_, err = apply(e, "split", keys("by=regions", "rest=app"), image(t, map[uint64]string{0x1000: "x", 0x1800: "y"}))
	assert.ErrorContains(t, err, "a part called app already exists")
	_, err = NameParts([]memory.Part{{Name: "a", Image: in.Image}, {Name: "b", Image: in.Image}}, "{first}.bin", false)
	assert.ErrorContains(t, err, "names the parts a and b alike, 0x1002.bin")
	for template, want := range map[string][2]string{
		"{first}-{last}-{n}-{name}": {"0x1002-0x8007-0-a 0x1002-0x8007-1-b", "0x1000-0x8007-0-a 0x1002-0x8007-1-b"},
		// where raw files begin
		"x{n}": {"x0 x1", "x0 x1"},
	} {
		for i, byBlock := range []bool{false, true} {
			named, err := NameParts([]memory.Part{{Name: "a", Image: in.Image, Block: memory.Span{First: 0x1000, Last: 0x9000}},
				{Name: "b", Image: in.Image}}, template, byBlock)
			require.NoError(t, err)
			assert.Equal(t, want[i], named[0].Name+" "+named[1].Name)
		}
	}
	// What is cut out begins where the first span does, and ends with the last.
	o, err = apply(e, "cut", keys("keep=0x1000..0x1010", "keep=0x8000..0x8005"), in)
	require.NoError(t, err)
	assert.Equal(t, memory.Span{First: 0x1000, Last: 0x8005}, o.Parts[0].Block)
	o, err = apply(e, "cut", keys("drop=0x1000..0x1003"), in)
	require.NoError(t, err)
	assert.Empty(t, o.Parts[0].Block)
	// A key that is given alone may need a number.
	for kind, wants := range map[string]map[string]bool{
		"fill":  {"pages=": true, "pages=256": false, "with=FF": false},
		"split": {"by=size": true, "by=size 16": false, "by=lanes": true, "by=runs": false},
	} {
		for text, want := range wants {
			op := KindOf(kind).New()
			k := op.Keys()
			require.NoError(t, key.Set(k, keys(text)), text)
			word, _, _ := strings.Cut(text, "=")
			if needs := key.Find(k, word).NeedsNumber; needs != nil {
				assert.Equal(t, want, needs(), text)
			} else {
				assert.False(t, want, text)
			}
		}
	}
}

func TestKeysAreDocumentedAndChecked(t *testing.T) {
	for _, k := range Kinds {
		assert.NotEmpty(t, k.Short, k.Name)
		for _, key := range k.New().Keys() {
			assert.NotEmpty(t, key.Doc, "%s of %s", key.Name, k.Name)
			if key.Value != "" && !key.Many {
				assert.Contains(t, key.Doc, key.Value, "%s of %s: the value is explained", key.Name, k.Name)
			}
		}
		err := key.Set(k.New().Keys(), keys("no-such-key=1"))
		var e *source.KeyError
		assert.True(t, errors.As(err, &e), k.Name)
	}
	err := key.Set(KindOf("place").New().Keys(), keys("at=1", "at=2"))
	assert.EqualError(t, err, "at: given twice; give it once")
}

func TestReadErrorsArePassedOn(t *testing.T) {
	e := &Environment{Read: os.ReadFile}
	_, err := apply(e, "patch", keys("at=0", "file=/nowhere/x"), image(t, map[uint64]string{0: "abc"}))
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = apply(e, "patch", keys("at=0xFFFFFFFFFFFFFFFF", "bytes=0102", "grow"), image(t, map[uint64]string{math.MaxUint64: "a"}))
	assert.ErrorContains(t, err, "run past the last 64-bit address")
}

// TestOriginsAreTheLinesOfTheFile reads a file whose bytes all differ, in records
// of any length and order, does operations in a row, and looks up the line of
// each byte of the result in the file's own text.
func TestOriginsAreTheLinesOfTheFile(t *testing.T) {
	r := rand.New(rand.NewPCG(41, 42))
	for round := range 30 {
		values := r.Perm(256)
		lineOf := map[string]string{} // of each byte, by its value
		read := func(name string, first int, values []int) memory.Part {
			var records []string
			for at := 0; at < len(values); {
				n := min(1+r.IntN(20), len(values)-at)
				record, sum := fmt.Sprintf(":%02X%04X00", n, first+at), byte(n+(first+at)>>8+(first+at))
				for _, v := range values[at : at+n] {
					record += fmt.Sprintf("%02X", v)
					sum += byte(v)
				}
				records = append(records, record+fmt.Sprintf("%02X\n", -sum))
				at += n
			}
			r.Shuffle(len(records), func(i, j int) { records[i], records[j] = records[j], records[i] })
			text := strings.Join(records, "") + ":00000001FF\n"
			for i, line := range strings.Split(text, "\n") {
				for at := 9; at+2 < len(line); at += 2 {
					lineOf[line[at:at+2]] = fmt.Sprintf("%s:%d", name, i+1)
				}
			}
			var problems source.Problems
			f, err := codec.Read(strings.NewReader(text), name, int64(len(text)), codec.ReadOptions{}, &problems)
			require.NoError(t, err)
			require.NoError(t, problems.Err())
			return memory.Part{Name: name, Image: f.Image}
		}
		half := 128
		if round%2 == 1 {
			half = 64
		}
		a, b := read("a.hex", 0x100, values[:half]), read("b.hex", 0x100+half, values[half:])
		do := func(name string, settings []source.Setting, parts ...memory.Part) []memory.Part {
			o, err := apply(&Environment{Cores: 1}, name, settings, parts...)
			require.NoError(t, err)
			return o.Parts
		}
		whole := do("merge", nil, a, b)
		lanes := do("split", keys("by=lanes 4", "lane-width=2"), whole...)
		lanes[1], lanes[2] = lanes[2], lanes[1]
		joined := do("merge", keys("lanes", "lane-width=2"), lanes...)
		swapped := do("convert", keys("swap=4"), joined...)
		moved := do("place", keys("shift=0x1000"), swapped...)
		image := do("cut", keys("drop=0x1140..0x114F"), moved...)[0].Image
		require.Equal(t, uint64(240), image.Bytes())
		for _, run := range image.Runs() {
			for i, v := range run.Data {
				o, ok := image.Origin(run.First + uint64(i))
				require.True(t, ok)
				require.Equal(t, lineOf[fmt.Sprintf("%02X", v)]+", split, merge, swap, place", o.String())
			}
		}
	}
}

// TestNothingLeft tells of results without a byte: not of holes that were asked for, not of
// what was empty before, and not where there are several parts.
func TestNothingLeft(t *testing.T) {
	full, none := image(t, map[uint64]string{0x1000: "abc"}), memory.Part{Name: "none", Image: &memory.Image{}}
	block := none
	block.Block = memory.Span{First: 0x2000, Last: 0x20FF}
	for name, c := range map[string]struct {
		in     []memory.Part
		parts  []memory.Part
		filled bool
		told   bool
	}{
		"cut away":                     {[]memory.Part{full}, []memory.Part{none}, false, true},
		"with what was empty":          {[]memory.Part{none, full}, []memory.Part{none}, false, true},
		"holes of a block":             {[]memory.Part{full}, []memory.Part{block}, true, false},
		"a block without holes":        {[]memory.Part{full}, []memory.Part{block}, false, true},
		"holes of all":                 {[]memory.Part{full}, []memory.Part{none}, true, true},
		"empty before":                 {[]memory.Part{none}, []memory.Part{none}, false, false},
		"several parts":                {[]memory.Part{full}, []memory.Part{none, none}, false, false},
		"something is left":            {[]memory.Part{full}, []memory.Part{full}, false, false},
		"something is left of a block": {[]memory.Part{full}, []memory.Part{full}, true, false},
	} {
		err := NothingLeft(c.in, &Outcome{Parts: c.parts}, c.filled)
		if !c.told {
			assert.NoError(t, err, name)
			continue
		}
		assert.ErrorContains(t, err, "nothing is left of the image; expected spans in which it has bytes; it covers 0x1000..0x1002", name)
	}
}

// TestSplitPartsKnowTheirPlaces splits an image whose places have names: parts from zero are
// named as they were.
func TestSplitPartsKnowTheirPlaces(t *testing.T) {
	e := &Environment{Map: testMap(t)}
	in := image(t, map[uint64]string{0x1002: "app", 0x8003: "table"})
	in.Place = func(s memory.Span) string { return "line of " + s.Range() }
	for _, from := range []string{"", "from-zero"} {
		list := []string{"by=memories"}
		if from != "" {
			list = append(list, from)
		}
		o, err := apply(e, "split", keys(list...), in)
		require.NoError(t, err)
		for i, want := range []memory.Span{{First: 0x1002, Last: 0x1004}, {First: 0x8003, Last: 0x8007}} {
			p := o.Parts[i]
			all, _ := p.Image.Span()
			if p.Place == nil {
				continue // it has none of its own
			}
			assert.Equal(t, "line of "+want.Range(), p.Place(all), "%s %d", from, i)
		}
	}
	for v, bits := range map[string]int{"\x00\x00": 0, "\x00\x01": 1, "\x01\x00": 9, "\xFF": 8, "\x7F\xFF": 15, "": 0} {
		assert.False(t, longer([]byte(v), bits), "%x", v)
		assert.Equal(t, bits > 0, longer([]byte(v), bits-1), "%x", v)
	}
}
