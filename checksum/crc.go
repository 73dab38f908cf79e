package checksum

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math/bits"
	"strconv"
	"strings"
	"sync"
)

// CRC is a cyclic redundancy check as the usual parameter model describes it
// (R. N. Williams, A painless guide to CRC error detection algorithms, 1993,
// section 15).
// The zero value is none.
type CRC struct {
	Width  int    // of the value in bits, 3 to 64
	Poly   uint64 // the polynomial without its top term
	Init   uint64 // what the register holds at first
	RefIn  bool   // bytes are taken least significant bit first
	RefOut bool   // the register is reflected at the end
	XorOut uint64 // what the value is XORed with at the end
}

// ParseCRC reads parameters: width=16 poly=0x1021 init=0xFFFF refin=false
// refout=false xorout=0. Those left out are 0 or false; width and poly must be
// there.
func ParseCRC(text string) (CRC, error) {
	var c CRC
	numbers := map[string]*uint64{"poly": &c.Poly, "init": &c.Init, "xorout": &c.XorOut}
	switches := map[string]*bool{"refin": &c.RefIn, "refout": &c.RefOut}
	for _, f := range strings.Fields(text) {
		key, value, ok := strings.Cut(f, "=")
		key = strings.ToLower(key)
		var err error
		switch {
		case ok && key == "width":
			c.Width, err = strconv.Atoi(value)
		case ok && numbers[key] != nil:
			*numbers[key], err = strconv.ParseUint(value, 0, 64)
		case ok && switches[key] != nil:
			*switches[key], err = strconv.ParseBool(value)
		default:
			return c, fmt.Errorf("%q is not a parameter of a CRC; width=, poly=, init=, refin=, refout= and xorout= are", f)
		}
		if err != nil {
			return c, fmt.Errorf("%s: %q is not a value for it; such as width=16 poly=0x1021 init=0xFFFF refin=false "+
				"refout=false xorout=0", key, value)
		}
	}
	if c.Width < 3 || c.Width > 64 {
		return c, fmt.Errorf("a CRC needs width=, 3 to 64 bits")
	}
	for key, n := range numbers {
		if *n > c.mask() {
			return c, fmt.Errorf("%s=0x%X has more than %d bits", key, *n, c.Width)
		}
	}
	if c.Poly&1 == 0 {
		return c, fmt.Errorf("a CRC needs poly=, an odd number without the top term")
	}
	return c, nil
}

// String returns the parameters as [ParseCRC] reads them.
func (c CRC) String() string {
	return fmt.Sprintf("width=%d poly=0x%X init=0x%X refin=%t refout=%t xorout=0x%X", c.Width, c.Poly, c.Init, c.RefIn, c.RefOut, c.XorOut)
}

// Residue returns what the register holds after a message and its value were
// taken, before the last XOR: the same for every message.
func (c CRC) Residue() uint64 {
	x := c.XorOut
	if c.RefOut {
		x = reflect(x, c.Width)
	}
	x = c.multiply(x, c.power(uint64(c.Width)))
	if c.RefOut {
		x = reflect(x, c.Width)
	}
	return x
}

func (c CRC) mask() uint64 { return 1<<c.Width - 1 } // for 64 bits, 1<<64 is 0

// Bitwise computes the value by the definition, a bit at a time. It is what
// everything faster is held against.
func (c CRC) Bitwise(data []byte) uint64 {
	top := uint64(1) << (c.Width - 1)
	register := c.Init
	for _, b := range data {
		for i := range 8 {
			bit := b >> (7 - i) & 1
			if c.RefIn {
				bit = b >> i & 1
			}
			out := register&top != 0
			register = register << 1 & c.mask()
			if out != (bit == 1) {
				register ^= c.Poly
			}
		}
	}
	if c.RefOut {
		register = reflect(register, c.Width)
	}
	return register ^ c.XorOut
}

func reflect(v uint64, width int) uint64 { return bits.Reverse64(v) >> (64 - width) }

// A register is held reflected, in the low bits, where bytes are taken least
// significant bit first, else in the high bits of 64.

// begin returns the register at first.
func (c CRC) begin() uint64 { return c.hold(c.Init) }

// hold returns a register's plain value as it is held.
func (c CRC) hold(v uint64) uint64 {
	if c.RefIn {
		return reflect(v, c.Width)
	}
	return v << (64 - c.Width)
}

// plain is the inverse of hold.
func (c CRC) plain(held uint64) uint64 {
	if c.RefIn {
		return reflect(held, c.Width)
	}
	return held >> (64 - c.Width)
}

// end returns the value that a held register makes.
func (c CRC) end(held uint64) uint64 {
	v := c.plain(held)
	if c.RefOut {
		v = reflect(v, c.Width)
	}
	return v ^ c.XorOut
}

// tables are those of one polynomial and direction: what a byte does to the
// register, and what it does with 1 to 11 more bytes behind it. They fit into the fastest cache.
// Where bytes are taken most significant bit first, each entry has its bytes in reverse, so that
// one loop does for both.
type tables [12][256]uint64

type tableKey struct {
	width int
	poly  uint64
	refIn bool
}

var (
	tableLock  sync.Mutex
	tableCache = map[tableKey]*tables{}
)

// tables returns the CRC's tables, built when first used.
func (c CRC) tables() *tables {
	key := tableKey{c.Width, c.Poly, c.RefIn}
	tableLock.Lock()
	defer tableLock.Unlock()
	t := tableCache[key]
	if t == nil {
		t = new(tables)
		poly := c.hold(c.Poly)
		for b := range 256 {
			v := uint64(b)
			if !c.RefIn {
				v <<= 56
			}
			for range 8 {
				if c.RefIn {
					v = v>>1 ^ poly&-(v&1)
				} else {
					v = v<<1 ^ poly&-(v>>63)
				}
			}
			if !c.RefIn {
				v = bits.ReverseBytes64(v)
			}
			t[0][b] = v
		}
		for k := 1; k < len(t); k++ {
			for b := range 256 {
				v := t[k-1][b]
				t[k][b] = v>>8 ^ t[0][v&0xFF]
			}
		}
		tableCache[key] = t
	}
	return t
}

const (
	polyIEEE       = 0x04C11DB7
	polyCastagnoli = 0x1EDC6F41
)

// updater returns what takes data into a held register: the standard library's
// code, which may use the processor's own, where the parameters allow it.
func (c CRC) updater() func(held uint64, data []byte) uint64 {
	if c.RefIn && c.Width == 32 && (c.Poly == polyIEEE || c.Poly == polyCastagnoli) {
		table := crc32.IEEETable
		if c.Poly == polyCastagnoli {
			table = crc32.MakeTable(crc32.Castagnoli)
		}
		return func(held uint64, data []byte) uint64 {
			return uint64(^crc32.Update(^uint32(held), table, data))
		}
	}
	t := c.tables()
	if c.RefIn {
		return t.update
	}
	return func(held uint64, data []byte) uint64 {
		return bits.ReverseBytes64(t.update(bits.ReverseBytes64(held), data))
	}
}

// update takes data into a register whose lowest byte meets the next one.
func (t *tables) update(r uint64, data []byte) uint64 {
	for len(data) >= len(t) {
		r ^= binary.LittleEndian.Uint64(data)
		s := binary.LittleEndian.Uint32(data[8:])
		r = t[3][s&0xFF] ^ t[2][s>>8&0xFF] ^ t[1][s>>16&0xFF] ^ t[0][s>>24] ^
			t[11][r&0xFF] ^ t[10][r>>8&0xFF] ^ t[9][r>>16&0xFF] ^ t[8][r>>24&0xFF] ^
			t[7][r>>32&0xFF] ^ t[6][r>>40&0xFF] ^ t[5][r>>48&0xFF] ^ t[4][r>>56]
		data = data[len(t):]
	}
	for _, b := range data {
		r = r>>8 ^ t[0][byte(r)^b]
	}
	return r
}

// multiply returns the product of two polynomials modulo the CRC's own.
func (c CRC) multiply(a, b uint64) uint64 {
	product, mask := uint64(0), c.mask()
	for i := c.Width - 1; i >= 0; i-- { // without branches, which would go either way
		over := -(product >> (c.Width - 1) & 1)
		product = product<<1&mask ^ c.Poly&over ^ a&-(b>>i&1)
	}
	return product
}

// power returns x to the n-th, modulo the CRC's polynomial.
func (c CRC) power(n uint64) uint64 {
	result, square := uint64(1), uint64(2)&c.mask()
	for ; n > 0; n >>= 1 {
		if n&1 == 1 {
			result = c.multiply(result, square)
		}
		square = c.multiply(square, square)
	}
	return result
}

// shift returns the held register after n bytes of zeros.
func (c CRC) shift(held, n uint64) uint64 { return c.times(held, c.zeros(n)) }

// zeros returns what n bytes of zeros multiply a register by.
func (c CRC) zeros(n uint64) uint64 {
	// 8n may not fit; x^(8n) is (x^8)^n.
	result, square := uint64(1), c.power(8)
	for ; n > 0; n >>= 1 {
		if n&1 == 1 {
			result = c.multiply(result, square)
		}
		square = c.multiply(square, square)
	}
	return result
}

// shifter returns [CRC.shift] for many parts: what belongs to their sizes is computed once.
func (c CRC) shifter() func(held, n uint64) uint64 {
	var size, factor uint64
	var table *shifts
	return func(held, n uint64) uint64 {
		if factor == 0 || n != size {
			size, factor, table = n, 1, nil
			if n >= leastShifts && n&(n-1) == 0 {
				table = c.shifts(n)
			} else {
				factor = c.zeros(n)
			}
		}
		if table != nil {
			return table.of(held)
		}
		return c.times(held, factor)
	}
}

// leastShifts is the least number of bytes of zeros that tables are kept for. They are kept
// for powers of two alone, the sizes of blocks.
const leastShifts = 256

// shifts is a register after so many bytes of zeros, by each of its bytes.
type shifts [8][256]uint64

type shiftsKey struct {
	table tableKey
	bytes uint64
}

var shiftsCache = map[shiftsKey]*shifts{}

// shifts returns the table for n bytes of zeros, built when first used.
func (c CRC) shifts(n uint64) *shifts {
	key := shiftsKey{tableKey{c.Width, c.Poly, c.RefIn}, n}
	tableLock.Lock()
	defer tableLock.Unlock()
	t := shiftsCache[key]
	if t == nil {
		t = new(shifts)
		factor := c.zeros(n)
		for i := range t {
			for b := 1; b < 256; b++ {
				if low := b & -b; low == b {
					t[i][b] = c.times(uint64(b)<<(8*i), factor)
				} else {
					t[i][b] = t[i][low] ^ t[i][b^low]
				}
			}
		}
		shiftsCache[key] = t
	}
	return t
}

func (t *shifts) of(held uint64) (after uint64) {
	for i := range t {
		after ^= t[i][byte(held>>(8*i))]
	}
	return after
}

func (c CRC) times(held, factor uint64) uint64 { return c.hold(c.multiply(c.plain(held), factor)) }

// Part is a piece of data whose register is known.
type Part struct {
	Bytes    uint64
	Register uint64 // as [CRC.Alone] returns it
}

// Alone returns the register after data alone, begun at 0.
func (c CRC) Alone(data []byte) Part { return Part{uint64(len(data)), c.updater()(0, data)} }

// Join returns the value over parts that follow one another: what [CRC.Sum] returns
// over their data.
func (c CRC) Join(parts []Part) uint64 {
	held, shift := c.begin(), c.shifter()
	for _, p := range parts {
		held = shift(held, p.Bytes) ^ p.Register
	}
	return c.end(held)
}

// Sum computes the value over data in pieces, on as many cores as given. Large
// data is shared between them: the register after a||b is that after b alone,
// begun at 0, XORed with that after a, moved on over the length of b.
func (c CRC) Sum(cores int, pieces ...[]byte) uint64 {
	update := c.updater()
	const worth = 1 << 20 // bytes from which on a second core pays
	held := c.begin()
	for _, p := range pieces {
		if cores < 2 || len(p) < worth {
			held = update(held, p)
			continue
		}
		parts := make([]uint64, cores)
		bounds := make([]int, cores+1)
		for i := range bounds {
			bounds[i] = len(p) * i / cores
		}
		var wait sync.WaitGroup
		for i := range parts {
			wait.Go(func() { parts[i] = update(0, p[bounds[i]:bounds[i+1]]) })
		}
		wait.Wait()
		for i, part := range parts {
			held = c.shift(held, uint64(bounds[i+1]-bounds[i])) ^ part
		}
	}
	return c.end(held)
}

// Follow joins parts that follow one another to one.
func (c CRC) Follow(parts []Part) (all Part) {
	shift := c.shifter()
	for _, p := range parts {
		all.Register = shift(all.Register, p.Bytes) ^ p.Register
		all.Bytes += p.Bytes
	}
	return all
}
