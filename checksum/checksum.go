// Package checksum computes check values over the bytes of images, as loaders
// and start-up code compute them on the device, and finds out which way of
// computing gives a known value.
package checksum

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode"

	"mexalt/memory"
	"mexalt/source"
)

// Kind is one algorithm.
type Kind struct {
	Name    string
	Aliases []string // other names in use
	Group   string   // CRC, sum, XOR, other or digest
	Bits    int      // of the value
	CRC     *CRC     // the parameters, where it is a CRC
	Word    int      // data must be whole words of so many bytes; 0 and 1 are any

	big   bool // of words, the byte that is fed first counts most
	falls bool // the value of a sum falls where what is fed rises
	sum   func(cores int, pieces [][]byte) Value
	// Of sums and XORs over words that begin anywhere: what data adds up to, how that of its
	// end follows from that of all and of what is before it, and the value. nil is of others.
	total func(data []byte) uint64
	rest  func(all, before uint64) uint64
	value func(total uint64) uint64
}

// Size returns the length of the value in bytes.
func (k *Kind) Size() int { return (k.Bits + 7) / 8 }

// Sum computes the value over data in pieces, on as many cores as given.
func (k *Kind) Sum(cores int, pieces ...[]byte) Value { return k.sum(cores, pieces) }

// Join computes the value of a CRC over parts whose registers are known.
func (k *Kind) Join(parts []Part) Value { return number(k.CRC.Join(parts), k.Bits) }

// Value is a check value, most significant byte first.
type Value []byte

// number returns a number as a value of so many bits.
func number(v uint64, bits int) Value {
	b := make(Value, (bits+7)/8)
	for i := range b {
		b[len(b)-1-i] = byte(v >> (8 * i))
	}
	return b
}

// mostNumber is the longest value that is read as a number, in bytes; longer
// ones are digests, which have no byte order.
const mostNumber = 8

// String returns a number as 0x and digits, a digest as digits alone.
func (v Value) String() string {
	if len(v) > mostNumber {
		return hex.EncodeToString(v)
	}
	return fmt.Sprintf("0x%X", []byte(v))
}

// Number returns the value as a number; ok is false for a digest.
func (v Value) Number() (n uint64, ok bool) {
	for _, b := range v {
		n = n<<8 | uint64(b)
	}
	return n, len(v) <= mostNumber
}

// Stored returns the value as it is stored in width bytes; 0 is its own
// length. A value that does not fit is an error; a digest is always stored as it is.
func (v Value) Stored(o memory.Order, width int) ([]byte, error) {
	if width == 0 {
		width = len(v)
	}
	b := slices.Clone(v)
	for len(b) > width {
		if b[0] != 0 {
			return nil, fmt.Errorf("the value %s does not fit into %s", v, memory.FormatNumber(width, "byte"))
		}
		b = b[1:]
	}
	if len(v) > mostNumber {
		if width > len(v) {
			return nil, fmt.Errorf("a digest of %d bytes is stored as it is, not in %d bytes", len(v), width)
		}
		return b, nil
	}
	b = append(make([]byte, width-len(b)), b...)
	if o != memory.Big {
		slices.Reverse(b)
	}
	return b, nil
}

// ParseValue reads a value: a number such as 0x1A2B, or a digest's hex digits.
// A hex number has as many bytes as it has digits for.
func ParseValue(text string) (Value, error) {
	digits := strings.ReplaceAll(strings.TrimPrefix(strings.TrimPrefix(text, "0x"), "0X"), "_", "")
	if len(digits)%2 == 1 {
		digits = "0" + digits
	}
	v, err := hex.DecodeString(digits)
	if err != nil || len(v) == 0 {
		return nil, fmt.Errorf("%q is not a check value; expected hex digits, such as 0x1A2B", text)
	}
	return v, nil
}

// Kinds returns all algorithms that have names.
var Kinds = sync.OnceValue(func() []*Kind {
	var list []*Kind
	for _, e := range entries() {
		list = append(list, e.params.kind(e.name, e.aliases...))
	}
	return append(append(append(list, sums()...), others()...), digests()...)
})

// kind makes an algorithm of a CRC.
func (c CRC) kind(name string, aliases ...string) *Kind {
	return &Kind{Name: name, Aliases: aliases, Group: "CRC", Bits: c.Width, CRC: &c, sum: func(cores int, pieces [][]byte) Value {
		return number(c.Sum(cores, pieces...), c.Width)
	}}
}

// bare is a name without capitals and without what stands between its letters and digits.
func bare(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}

// holding returns the first few algorithms of which a name contains a text of three letters or more.
func holding(text string) (names []string) {
	const least, most = 3, 6
	text = bare(text)
	if len(text) < least {
		return nil
	}
	more := 0
	for _, k := range Kinds() {
		if slices.ContainsFunc(append([]string{k.Name}, k.Aliases...),
			func(name string) bool { return strings.Contains(bare(name), text) }) {
			if len(names) == most {
				more++
				continue
			}
			names = append(names, k.Name)
		}
	}
	if more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return names
}

// KindOf returns the algorithm that a text means: a name or another name in
// use, in capitals or not, with or without dashes, or the parameters of a CRC.
func KindOf(text string) (*Kind, error) {
	if strings.ContainsRune(text, '=') {
		c, err := ParseCRC(text)
		if err != nil {
			return nil, err
		}
		return c.kind(c.String()), nil
	}
	var known []string // for a near name; the list is too long to be told
	for _, k := range Kinds() {
		if strings.EqualFold(k.Name, text) {
			return k, nil
		}
		known = append(append(known, k.Name), k.Aliases...)
	}
	for _, k := range Kinds() {
		if slices.ContainsFunc(k.Aliases, func(a string) bool { return strings.EqualFold(a, text) }) {
			return k, nil
		}
	}
	// As people write them: crc32, sum16.
	var written []*Kind
	for _, k := range Kinds() {
		if slices.ContainsFunc(append([]string{k.Name}, k.Aliases...), func(name string) bool { return bare(name) == bare(text) }) {
			written = append(written, k)
		}
	}
	if len(written) == 1 {
		return written[0], nil
	}
	if parts := holding(text); len(parts) > 0 {
		return nil, fmt.Errorf("unknown algorithm %q; algorithms known by it: %s", text, strings.Join(parts, ", "))
	}
	if near := source.Nearest(text, known); near != "" {
		return nil, fmt.Errorf("unknown algorithm %q; did you mean %s?", text, near)
	}
	return nil, fmt.Errorf("unknown algorithm %q", text)
}
