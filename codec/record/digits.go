package record

import (
	"encoding/binary"
	"sync"
)

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

// MostlyDigits reports whether at least four in five characters of a line are
// hex digits.
func MostlyDigits(line []byte) bool {
	digits := 0
	for _, c := range line {
		if IsDigit(c) {
			digits++
		}
	}
	return digits >= 4 && digits*5 >= len(line)*4
}

// Pair returns the byte that two hex digits make; what is above 0xFF means
// that they are none.
func Pair(hi, lo byte) uint {
	h, l := uint(nibble[hi]), uint(nibble[lo])
	return h<<4 | l | (h|l)&0xF0<<4
}

// pairs gives the byte that two characters make, plus Digits where both are
// hex digits, and 0 for all others. The first character is the low byte of
// the index. Only the few cache lines that hold the digits are ever touched.
// It is empty until [BuildPairs] was called.
var pairs [1 << 16]uint16

// BuildPairs makes the table that [At] and [Data] look into; [Grammar.Plain] is
// called behind it.
var BuildPairs = sync.OnceFunc(func() {
	const digits = "0123456789ABCDEFabcdef"
	for _, hi := range []byte(digits) {
		for _, lo := range []byte(digits) {
			pairs[uint16(lo)<<8|uint16(hi)] = Digits | uint16(nibble[hi])<<4 | uint16(nibble[lo])
		}
	}
})

// Digits is the bit that says that both characters of a pair are hex digits.
const Digits = 0x100

// At decodes the two digits at the start of text: the byte that they make,
// and [Digits] unless one is none. It is for use behind [BuildPairs], as is
// [Data].
func At(text []byte) uint16 { return pairs[binary.LittleEndian.Uint16(text)] }

// Data decodes n bytes from their digits into dst. It returns the bytes' sum;
// ok is false where a character is no digit.
func Data(dst, digits []byte, n int) (sum byte, ok bool) {
	dst, digits = dst[:n], digits[:2*n]
	total, all := uint16(0), uint16(Digits)
	for len(dst) >= 8 && len(digits) >= 16 {
		from, to := (*[16]byte)(digits), (*[8]byte)(dst)
		a, b := pairs[binary.LittleEndian.Uint16(from[0:])], pairs[binary.LittleEndian.Uint16(from[2:])]
		c, d := pairs[binary.LittleEndian.Uint16(from[4:])], pairs[binary.LittleEndian.Uint16(from[6:])]
		to[0], to[1], to[2], to[3] = byte(a), byte(b), byte(c), byte(d)
		e, f := pairs[binary.LittleEndian.Uint16(from[8:])], pairs[binary.LittleEndian.Uint16(from[10:])]
		g, h := pairs[binary.LittleEndian.Uint16(from[12:])], pairs[binary.LittleEndian.Uint16(from[14:])]
		to[4], to[5], to[6], to[7] = byte(e), byte(f), byte(g), byte(h)
		all &= a & b & c & d & e & f & g & h
		total += a + b + c + d + e + f + g + h
		dst, digits = dst[8:], digits[16:]
	}
	for len(dst) > 0 && len(digits) >= 2 {
		p := At(digits)
		all &= p
		total += p
		dst[0] = byte(p)
		dst, digits = dst[1:], digits[2:]
	}
	return byte(total), all != 0
}

// texts gives the two upper-case digits of each byte, the first as the low
// byte.
var texts = func() (t [256]uint16) {
	const upper = "0123456789ABCDEF"
	for i := range t {
		t[i] = uint16(upper[i>>4]) | uint16(upper[i&15])<<8
	}
	return t
}()

// PutData writes the upper-case digits of data to the start of dst, which
// must have room for them, and returns the sum of the bytes.
func PutData(dst, data []byte) (sum byte) {
	dst = dst[:2*len(data)]
	for len(data) >= 8 && len(dst) >= 16 {
		from, to := (*[8]byte)(data), (*[16]byte)(dst)
		a, b, c, d := from[0], from[1], from[2], from[3]
		binary.LittleEndian.PutUint16(to[0:], texts[a])
		binary.LittleEndian.PutUint16(to[2:], texts[b])
		binary.LittleEndian.PutUint16(to[4:], texts[c])
		binary.LittleEndian.PutUint16(to[6:], texts[d])
		e, f, g, h := from[4], from[5], from[6], from[7]
		binary.LittleEndian.PutUint16(to[8:], texts[e])
		binary.LittleEndian.PutUint16(to[10:], texts[f])
		binary.LittleEndian.PutUint16(to[12:], texts[g])
		binary.LittleEndian.PutUint16(to[14:], texts[h])
		sum += a + b + c + d + e + f + g + h
		data, dst = data[8:], dst[16:]
	}
	for i, b := range data {
		sum += b
		binary.LittleEndian.PutUint16(dst[2*i:], texts[b])
	}
	return sum
}
