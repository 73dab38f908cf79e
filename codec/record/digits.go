package record

import "encoding/binary"

const noNibble = 0xFF

// nibble is the value of each hex digit, and noNibble for what is none.
var nibble = func() (t [256]byte) {
	for i := range t {
		t[i] = noNibble
	}
	for i := range 10 {
		t['0'+i] = byte(i)
	}
	for i := range 6 {
		t['A'+i] = byte(10 + i)
		t['a'+i] = byte(10 + i)
	}
	return t
}()

// IsDigit reports whether c is a hex digit.
func IsDigit(c byte) bool { return nibble[c] != noNibble }

// Pair returns the byte that two hex digits make; what is above 0xFF means
// that they are none.
func Pair(hi, lo byte) uint {
	h, l := uint(nibble[hi]), uint(nibble[lo])
	return h<<4 | l | (h|l)&0xF0<<4
}

const (
	ones  = 0x0101010101010101
	highs = 0x8080808080808080
)

// Eight decodes eight hex digits at once. Each of the four bytes that they
// make stands in 16 bits of lanes, the first lowest, so that lanes of many
// words can be added up. bad is 0 only where all eight are digits; of a byte
// c, c^'0' above 9 and (c|0x20)^0x60 outside 1 to 6 set its top bit.
func Eight(digits []byte) (lanes, bad uint64) {
	x := binary.LittleEndian.Uint64(digits)
	letter := (x | 0x20*ones) ^ 0x60*ones
	noLetter := ^(letter + 0x7F*ones) | (letter + 0x79*ones)
	bad = (x | ((x^0x30*ones)+0x76*ones)&noLetter) & highs
	v := x&(0x0F*ones) + x>>6&ones*9
	return (v<<4 | v>>8) & 0x00FF00FF00FF00FF, bad
}

// Pack makes four bytes of the lanes of [Eight], the first lowest.
func Pack(lanes uint64) uint32 {
	lanes = (lanes | lanes>>8) & 0x0000FFFF0000FFFF
	return uint32(lanes | lanes>>16)
}

// Sum adds up the lanes of up to 64 words that were added together.
func Sum(lanes uint64) byte { return byte(lanes * 0x0001000100010001 >> 48) }

// Data decodes n bytes from their digits to the end of dst, which must have
// room for four more. It returns the bytes' sum; ok is false where a
// character is no digit.
func Data(dst, digits []byte, n int) (sum byte, ok bool) {
	digits = digits[:2*n]
	var lanes, bad uint64
	for len(digits) >= 8 {
		l, b := Eight(digits)
		lanes += l
		bad |= b
		binary.LittleEndian.PutUint32(dst, Pack(l))
		dst, digits = dst[4:], digits[8:]
	}
	sum = Sum(lanes)
	var pairs uint
	for i := 0; i+1 < len(digits); i += 2 {
		p := Pair(digits[i], digits[i+1])
		pairs |= p
		sum += byte(p)
		dst[i/2] = byte(p)
	}
	return sum, bad == 0 && pairs <= 0xFF
}

const upper = "0123456789ABCDEF"

// AppendByte appends the two upper-case digits of b.
func AppendByte(dst []byte, b byte) []byte { return append(dst, upper[b>>4], upper[b&15]) }

// AppendData appends the upper-case digits of data and returns the sum of its
// bytes.
func AppendData(dst, data []byte) ([]byte, byte) {
	var sum byte
	for len(data) >= 4 {
		w := binary.LittleEndian.Uint32(data)
		// Spread the bytes over 16 bits each, then the halves over 8.
		x := uint64(w)
		x = (x | x<<16) & 0x0000FFFF0000FFFF
		x = (x | x<<8) & 0x00FF00FF00FF00FF
		sum += Sum(x)
		x = (x>>4 | x<<8) & (0x0F * ones)
		// '0' for all, and the seven characters between '9' and 'A' for those
		// above 9.
		x += 0x30*ones + (x+6*ones)>>4&ones*7
		dst = binary.LittleEndian.AppendUint64(dst, x)
		data = data[4:]
	}
	for _, b := range data {
		sum += b
		dst = AppendByte(dst, b)
	}
	return dst, sum
}
