package span

import (
	"errors"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
)

var app = NamesOf(map[string]memory.Span{"app": {First: 0x4000, Last: 0x7FFF}, "boot": {First: 0, Last: 0x3FFF}})

func TestNumber(t *testing.T) {
	for text, want := range map[string]uint64{
		"0": 0, "31": 31, "0x1F": 31, "0X1f": 31, "0b11111": 31, "1_000": 1000, "0x0600_4000": 0x6004000,
		"16K": 16384, "0x10K": 16384, "2M": 2 << 20, "4G": 4 << 30, "010": 10,
		"0xFFFF_FFFF_FFFF_FFFF": math.MaxUint64, "18446744073709551615": math.MaxUint64, "0b10": 2, "9": 9, "0xf": 15, "0xA": 10,
		"0xabcdef": 0xABCDEF, "0xAbCdEf": 0xABCDEF, "1_0": 10, "0x0_1": 1, "15KiB": 15 << 10, "3MiB": 3 << 20, "2GiB": 2 << 30,
		"17179869183G": 17179869183 << 30,
	} {
		n, err := Number(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, n, text)
	}
	for text, want := range map[string]string{
		"":                        `"", character 1: the text ends too early; expected a number`,
		"0x":                      `"0x", character 3: a hex number without digits`,
		"K":                       `"K", character 1: "K" is not a number; expected a number such as 0x1F, 31, 0b11111 or 16K`,
		"1F":                      `"1F", character 2: 'F' is not a digit of a decimal number; expected decimal digits, or 0x in front of a hex number`,
		"0b12":                    `"0b12", character 4: '2' is not a digit of a binary number; expected digits, and K, M, G, KiB, MiB or GiB after them`,
		"0xg":                     `"0xg", character 3: 'g' is not a digit of a hex number; expected digits, and K, M, G, KiB, MiB or GiB after them`,
		"0xG0":                    `"0xG0", character 3: 'G' is not a digit of a hex number; expected digits, and K, M, G, KiB, MiB or GiB after them`,
		"1_":                      `"1_", character 2: '_' is allowed between digits only`,
		"0x_1":                    `"0x_1", character 3: '_' is allowed between digits only`,
		"0b2":                     `"0b2", character 3: '2' is not a digit of a binary number; expected digits, and K, M, G, KiB, MiB or GiB after them`,
		"1KB":                     `"1KB", character 2: KB is 1000 bytes to some and 1024 to others; expected 1K or 1KiB, which count in 1024`,
		"20mb":                    `"20mb", character 3: mb is 1000 bytes to some and 1024 to others; expected 20M or 20MiB, which count in 1024`,
		"1A":                      `"1A", character 2: 'A' is not a digit of a decimal number; expected decimal digits, or 0x in front of a hex number`,
		"18446744073709551616":    `"18446744073709551616", character 1: the number is above the last 64-bit one, 0xFFFF_FFFF_FFFF_FFFF`,
		"0b":                      `"0b", character 3: a binary number without digits`,
		"0x12 4":                  `"0x12 4", character 6: "4" is too much; expected nothing`,
		"1__0":                    `"1__0", character 2: '_' is allowed between digits only`,
		"_1":                      `"_1", character 1: "_1" is not a number; expected a number such as 0x1F, 31, 0b11111 or 16K`,
		"0x1_0000_0000_0000_0000": `"0x1_0000_0000_0000_0000", character 3: the number is above the last 64-bit one, 0xFFFF_FFFF_FFFF_FFFF`,
		"17179869184G":            `"17179869184G", character 1: the number is above the last 64-bit one, 0xFFFF_FFFF_FFFF_FFFF`,
		"0x80–":                   `"0x80–", character 5: unexpected '–'; expected a number, a name, an operator or a parenthesis`,
	} {
		_, err := Number(text)
		assert.EqualError(t, err, want)
	}
}

func TestAddress(t *testing.T) {
	for text, want := range map[string]uint64{
		"app.last-3": 0x7FFC, "app.first + 2*16": 0x4020, "(1+2)*3": 9, "app.size": 0x4000, "16KiB/4": 4096, "7%4 + 1<<4": 19,
		"0xF0 & 0x3C | 1": 0x31, "0x100>>4": 16, "1 << 63": 1 << 63, "10-2-3": 5, "boot.last+1": 0x4000,
	} {
		a, err := Address(text, app)
		assert.NoError(t, err, text)
		assert.Equal(t, want, a, text)
	}
	for text, want := range map[string]string{
		"app":                  `"app", character 1: app is a span, an address is needed; expected app.first, app.last or app.size`,
		"ap.first":             `"ap.first", character 1: unknown name ap; did you mean app?`,
		"app.lst":              `"app.lst", character 5: app has no "lst"; expected first, last or size`,
		"1-2":                  `"1-2", character 2: 0x0001 less 0x0002 is below 0`,
		"0xFFFFFFFFFFFFFFFF+1": `"0xFFFFFFFFFFFFFFFF+1", character 19: the sum is above the last 64-bit address, 0xFFFF_FFFF_FFFF_FFFF`,
		"0x8000000000000000*2": `"0x8000000000000000*2", character 19: the product is above the last 64-bit address, 0xFFFF_FFFF_FFFF_FFFF`,
		"(1":                   `"(1", character 3: a parenthesis is not closed; expected )`,
		"1+":                   `"1+", character 3: the text ends too early; expected a number or a name`,
		"5/0":                  `"5/0", character 2: division by 0`,
		"3<<63":                `"3<<63", character 2: shifted above the last 64-bit address, 0xFFFF_FFFF_FFFF_FFFF`,
		"*2":                   `"*2", character 1: unexpected "*"; expected a number or a name`,
		"1..2":                 `"1..2", character 2: "..2" is too much; expected an operator or nothing`,
	} {
		_, err := Address(text, app)
		assert.EqualError(t, err, want)
	}
	_, err := Address("app.first", Names{})
	assert.ErrorContains(t, err, "come from a device map")
}

func TestSpan(t *testing.T) {
	for text, want := range map[string]memory.Span{
		"0x4000..0x7FFF": {First: 0x4000, Last: 0x7FFF}, "0x4000,16K": {First: 0x4000, Last: 0x7FFF}, "app": {First: 0x4000, Last: 0x7FFF},
		"app.first..app.last-4": {First: 0x4000, Last: 0x7FFB}, "app.last-3,4": {First: 0x7FFC, Last: 0x7FFF}, "5..5": {First: 5, Last: 5},
		"0x4000": {First: 0x4000, Last: 0x4000}, "app.last": {First: 0x7FFF, Last: 0x7FFF},
		"0..0xFFFFFFFFFFFFFFFF": {First: 0, Last: math.MaxUint64}, "0xFFFFFFFFFFFFFFFF,1": {First: math.MaxUint64, Last: math.MaxUint64},
	} {
		s, err := Span(text, app)
		assert.NoError(t, err, text)
		assert.Equal(t, want, s, text)
	}
	for text, want := range map[string]string{
		"0x7FFF..0x4000":       `"0x7FFF..0x4000", character 9: the first address 0x7FFF is above the last 0x4000; expected FIRST..LAST, both included`,
		"0x4000,0":             `"0x4000,0", character 8: a span of 0 bytes is empty; expected a size of 1 or more`,
		"0xFFFFFFFFFFFFFFFF,2": `"0xFFFFFFFFFFFFFFFF,2", character 20: 2 bytes from 0xFFFF_FFFF_FFFF_FFFF run past the last 64-bit address`,
		"0-0x7FFF":             `"0-0x7FFF", character 2: two addresses with a minus sign between them; expected 0..0x7FFF for a span`,
		"ap":                   `"ap", character 1: unknown name ap; did you mean app?`,
		"nowhere":              `"nowhere", character 1: unknown name nowhere; known: app, boot`,
		"1..2..3":              `"1..2..3", character 5: "..3" is too much; expected an operator or nothing`,
		"1 2":                  `"1 2", character 3: "2" is too much; expected ..LAST or ,SIZE or nothing`,
	} {
		_, err := Span(text, app)
		assert.EqualError(t, err, want)
	}
}

func TestBytes(t *testing.T) {
	for text, want := range map[string][]byte{"FF": {0xFF}, "DE AD be ef": {0xDE, 0xAD, 0xBE, 0xEF}, "12_34": {0x12, 0x34},
		"0xFF": {0xFF}, " 0XDEAD": {0xDE, 0xAD}} {
		b, err := Bytes(text)
		assert.NoError(t, err)
		assert.Equal(t, want, b)
	}
	for text, want := range map[string]string{
		"":     `"", character 1: no bytes; expected hex digits, such as FF or DE AD BE EF`,
		"F":    `"F", character 2: 1 hex digit leaves half a byte; expected two digits a byte`,
		"0x":   `"0x", character 3: no bytes; expected hex digits, such as FF or DE AD BE EF`,
		"FF0x": `"FF0x", character 4: 'x' is not a hex digit; expected bytes as hex digits, such as FF or DE AD BE EF`,
		"FG":   `"FG", character 2: 'G' is not a hex digit; expected bytes as hex digits, such as FF or DE AD BE EF`,
	} {
		_, err := Bytes(text)
		assert.EqualError(t, err, want)
	}
}

func TestAddressAt(t *testing.T) {
	n, err := AddressAt("a@app.first+1", 2, app)
	assert.NoError(t, err)
	assert.Equal(t, uint64(0x4001), n)
	_, err = AddressAt("a@zero", 2, app)
	assert.EqualError(t, err, `"a@zero", character 3: unknown name zero; known: app, boot`)
	_, err = AddressAt("a@1 2", 2, app)
	assert.ErrorContains(t, err, "character 5")
}

func FuzzSpan(f *testing.F) {
	for _, s := range []string{"0x4000..0x7FFF", "app.last-3,4", "(1+2)*3,4", "app", "1..", "0b", "((((", "ä"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := Span(text, app); err == nil && s.First > s.Last {
			t.Fatalf("%q gave %v", text, s)
		}
		Bytes(text)
		AddressAt("a@"+text, 2, app)
	})
}

func TestNestingIsBounded(t *testing.T) {
	_, err := Address(strings.Repeat("(", 100)+"1"+strings.Repeat(")", 100), Names{})
	assert.NoError(t, err)
	_, err = Address(strings.Repeat("(", 2_000_000), Names{})
	assert.ErrorContains(t, err, "more than 100 parentheses in each other")
}

func TestText(t *testing.T) {
	for text, want := range map[string]string{"v2.4": "v2.4", `a\nb\x00\t\\\"\0`: "a\nb\x00\t\\\"\x00", `\xFF`: "\xFF", "ä": "ä"} {
		b, err := Text(text)
		assert.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
	for _, text := range []string{`\`, `\q`, `\x4`, `\xGG`} {
		_, err := Text(text)
		assert.Error(t, err, text)
	}
}

func TestNamesIn(t *testing.T) {
	assert.Equal(t, []string{"app", "boot"}, NamesIn("app.first + 2*(boot.size - app.last) .. 0x10"))
	assert.Empty(t, NamesIn("0x10, 4K"))
}

// labels are a program's symbols: with dots and dollars in their names, and one without a
// size.
type labels map[string][2]uint64

func (l labels) Symbol(name string) (first, size uint64, err error) {
	if s, ok := l[name]; ok {
		return s[0], s[1], nil
	}
	return 0, 0, errors.New("no symbol " + name)
}

func TestSymbols(t *testing.T) {
	names := Names{Symbols: labels{"main": {0x100, 16}, "a.b$1": {0x200, 4}, "end": {0x300, 0}, "x.first": {0x400, 2}}}
	for text, want := range map[string]memory.Span{
		"symbol.main": {First: 0x100, Last: 0x10F}, "symbol.a.b$1": {First: 0x200, Last: 0x203},
		"symbol.main.first..symbol.end.first": {First: 0x100, Last: 0x300},
		"symbol.main.last,2":                  {First: 0x10F, Last: 0x110},
		"symbol.end.first,symbol.main.size":   {First: 0x300, Last: 0x30F},
	} {
		s, err := Span(text, names)
		assert.NoError(t, err, text)
		assert.Equal(t, want, s, text)
	}
	_, err := Span("symbol.end", names)
	assert.ErrorContains(t, err, "symbol.end is a label without a size; expected symbol.end.first, its address")
	_, err = Span("symbol.main", Names{})
	assert.ErrorContains(t, err, "there are no symbols here; expected an ELF input")
	var set Names
	set.Set("boot", memory.Span{First: 4, Last: 7})
	s, err := Span("boot", set)
	assert.NoError(t, err)
	assert.Equal(t, memory.Span{First: 4, Last: 7}, s)
	_, err = Span("symbol.other.first", names)
	assert.ErrorContains(t, err, "no symbol other")
}

// TestNamesThatAreLost tells why a name means nothing any more.
func TestNamesThatAreLost(t *testing.T) {
	names := NamesOf(map[string]memory.Span{"boot": {First: 0, Last: 9}, "app": {First: 10, Last: 19}})
	names.Lose("boot", "is in no input")
	names.Lose("app", "was cut away")
	_, ok := names.Span("boot")
	assert.False(t, ok)
	for text, want := range map[string]string{"boot": "is in no input", "app.first+1": "was cut away"} {
		_, err := Span(text, names)
		assert.ErrorContains(t, err, want, text)
	}
}

// TestWanted reads what is looked for: bytes where it may be such, else a text.
func TestWanted(t *testing.T) {
	for text, want := range map[string][2]string{
		"DE AD": {"\xDE\xAD", "DE AD"}, `"DE AD"`: {"DE AD", `"DE AD"`}, "gauge": {"gauge", `"gauge"`}, `"`: {`"`, `"\""`},
		`a\n`: {"a\n", `"a\n"`}, "0xBEEF": {"\xBE\xEF", "BE EF"}, `"x`: {`"x`, `"\"x"`},
	} {
		b, what, err := Wanted(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, [2]string{string(b), what}, text)
	}
	for _, text := range []string{`""`, `"\q"`} {
		_, _, err := Wanted(text)
		assert.Error(t, err, text)
	}
}

// inputs are the symbols of several programs.
type inputs struct{ labels }

func (l inputs) SymbolOf(input, name string) (first, size uint64, err error) {
	if input != "app" {
		return 0, 0, errors.New("no input " + input)
	}
	return l.Symbol(name)
}

// TestSymbolsOfInputs tells the symbols of one input from those of all.
func TestSymbolsOfInputs(t *testing.T) {
	all := labels{"main": {0x100, 16}, "top": {math.MaxUint64, 1}, "past": {math.MaxUint64, 2}, "end": {math.MaxUint64, 0}}
	names := Names{Symbols: inputs{all}}
	for text, want := range map[string]memory.Span{
		"part.app.symbol.main": {First: 0x100, Last: 0x10F}, "part.app.symbol.main.last": {First: 0x10F, Last: 0x10F},
		"part.app.symbol.top": {First: math.MaxUint64, Last: math.MaxUint64},
		"symbol.end.first":    {First: math.MaxUint64, Last: math.MaxUint64},
	} {
		s, err := Span(text, names)
		assert.NoError(t, err, text)
		assert.Equal(t, want, s, text)
	}
	for text, want := range map[string]string{
		"part.boot.symbol.main": "no input boot", "part.app.symbol.x": "no symbol x", "app.symbol.main": "app",
		"symbol.past": "past runs past the last 64-bit address", "part.app.symbol.": "a symbol's name is missing; expected symbol.NAME",
	} {
		_, err := Span(text, names)
		assert.ErrorContains(t, err, want, text)
	}
	_, err := Span("part.app.symbol.main", Names{Symbols: all})
	assert.ErrorContains(t, err, "symbols of one input are known in a release file alone; symbol.main is one of all")
}

// TestWords reads addresses of words, as devices count them: 100 of two bytes from word 0 on, 16
// of four from word 0x1000 on, which are at 0x8000 in images.
func TestWords(t *testing.T) {
	names := NamesOf(map[string]memory.Span{
		"flash": {First: 0, Last: 199}, "app": {First: 0x40, Last: 199}, "head": {First: 0x40, Last: 0x4F},
		"image":  {First: 0x60, Last: 0x6F},
		"config": {First: 0x8000, Last: 0x803F}, "at_word_8": {First: 8, Last: 9},
	})
	_, err := Span("word 5", names)
	assert.ErrorContains(t, err,
		"nothing here counts words; expected an address in bytes; or a device map with a memory whose unit is more than 1")
	names = names.And(Names{Words: []Words{{First: 0, In: memory.Span{First: 0, Last: 199}, Unit: 2},
		{First: 0x1000, In: memory.Span{First: 0x8000, Last: 0x803F}, Unit: 4}}})
	names = names.And(Names{}) // which keeps them
	for text, want := range map[string]memory.Span{
		"word 0": {First: 0, Last: 1}, "word 99": {First: 198, Last: 199}, "word 0x1000": {First: 0x8000, Last: 0x8003},
		"word (0x1000 + 15)": {First: 0x803C, Last: 0x803F}, "word 3..word 5": {First: 6, Last: 11}, "word 3,2": {First: 6, Last: 7},
	} {
		s, err := Span(text, names)
		assert.NoError(t, err, text)
		assert.Equal(t, want, s, text)
	}
	for text, want := range map[string]string{"word 100": "no memory has the word 0x0064", "word 0x1010": "no memory has the word 0x1010",
		"word": "word"} {
		_, err := Span(text, names)
		assert.ErrorContains(t, err, want, text)
	}
	at, err := Address("word 0x1001+1", names)
	assert.NoError(t, err)
	assert.Equal(t, uint64(0x8005), at)
	for address, want := range map[uint64]string{0: "word 0x0000", 1: "", 198: "word 0x0063", 199: "", 200: "", 0x8000: "word 0x1000",
		0x8002: "", 0x803C: "word 0x100F", 0x8040: ""} {
		assert.Equal(t, want, names.WordText(address), "%X", address)
	}
	for text, want := range map[string]string{
		"0x20":         "0x20 counts bytes; word 0x0020 is 0x0040, where head begins: write \"word 0x20\" if that is meant",
		" 0x20 ..0x30": "0x20 counts bytes; word 0x0020 is 0x0040, where head begins: write \"word 0x20\" if that is meant",
		"32,4":         "32 counts bytes; word 0x0020 is 0x0040, where head begins: write \"word 32\" if that is meant",
		"0x1000":       "0x1000 counts bytes; word 0x1000 is 0x8000, where config begins: write \"word 0x1000\" if that is meant",
		"0x30":         "", // where the image begins, which is no place of the device
		"0x21":         "", // where nothing begins
		"0":            "", // the same either way
		"4":            "4 counts bytes; word 0x0004 is 0x0008, where at_word_8 begins: write \"word 4\" if that is meant",
		"8":            "", // where something begins
		"100":          "", // which is no word
		"head":         "",
		"0x1020":       "",
	} {
		assert.Equal(t, want, names.MaybeWords(text), text)
	}
}

// TestNamesAreTold knows what is part of a name.
func TestNamesAreTold(t *testing.T) {
	for text, want := range map[string]bool{
		"a": true, "A_9": true, "a-b": false, "9a": false, "": false, "a b": false, "a!": false, "a@": false, "a[": false, "a`": false,
		"a{": false, "é": false, "z": true, "Z": true, "a/": false, "a:": false, "_a": true,
	} {
		assert.Equal(t, want, IsName(text), "%q", text)
	}
	for text, want := range map[string]uint64{"0x9": 9, "0xA": 10, "0xF": 15, "0xa": 10, "0xf": 15, "0b10": 2, "9": 9} {
		n, err := Number(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, n, text)
	}
	for _, text := range []string{"0x/", "0x:", "0x@", "0xG", "0x`", "0xg", "0b2", "a", "0x"} {
		_, err := Number(text)
		assert.Error(t, err, text)
	}
}

// TestWhatIsNoneOfTheLanguage puts characters that the language has not into good texts, at each
// place: none is passed over.
func TestWhatIsNoneOfTheLanguage(t *testing.T) {
	names := NamesOf(map[string]memory.Span{"app": {First: 0x4000, Last: 0x7FFF}, "boot": {First: 0, Last: 0x3FFF}})
	for read, texts := range map[string][]string{
		"span":    {"app", "app.first", "0x10..0x1F", "boot.first..app.last - 4", "5,1K", "(app.size)", "app.first + 2 * 3, 4"},
		"address": {"app.first", "0x10", "1K", "(boot.last+1)<<1"},
		"number":  {"0x10", "31", "0b11", "16KiB"},
		"bytes":   {"FF", "DE AD", "0x12_34"},
	} {
		for _, text := range texts {
			of := func(text string) (err error) {
				switch read {
				case "span":
					_, err = Span(text, names)
				case "address":
					_, err = Address(text, names)
				case "number":
					_, err = Number(text)
				case "bytes":
					_, err = Bytes(text)
				}
				return err
			}
			require.NoError(t, of(text), text)
			for _, c := range ";:#?}{[]!'\"`~^=\\@$\t\n\x00\u00E9\u2013" {
				for i := range len(text) + 1 {
					edited := text[:i] + string(c) + text[i:]
					assert.Error(t, of(edited), "%s %q", read, edited)
				}
			}
		}
	}
}
