package memory

import (
	"encoding/binary"
	"math/bits"
)

// SwapWords copies src to dst, which is as long and may be the same, with the bytes in each word
// of size bytes, 2, 4 or 8, in reverse order. The length must be a multiple of
// the size.
func SwapWords(dst, src []byte, size int) {
	dst = dst[:len(src)]
	for len(src) >= 8 && len(dst) >= 8 {
		v := binary.LittleEndian.Uint64(src)
		switch size {
		case 2:
			v = v&0x00FF00FF00FF00FF<<8 | v>>8&0x00FF00FF00FF00FF
		case 4:
			v = bits.RotateLeft64(bits.ReverseBytes64(v), 32)
		default:
			v = bits.ReverseBytes64(v)
		}
		binary.LittleEndian.PutUint64(dst, v)
		src, dst = src[8:], dst[8:]
	}
	for len(src) >= size {
		for i, j := 0, size-1; i <= j; i, j = i+1, j-1 {
			dst[i], dst[j] = src[j], src[i]
		}
		src, dst = src[size:], dst[size:]
	}
}

// gather copies every step-th word of size bytes of src, from the first on, to
// dst, whose length says how many.
func gather(dst, src []byte, size, step int) {
	stride := size * step
	switch {
	case size == 1 && step == 2:
		for len(dst) >= 4 && len(src) >= 8 {
			v := binary.LittleEndian.Uint64(src) & 0x00FF00FF00FF00FF
			v = (v | v>>8) & 0x0000FFFF0000FFFF
			binary.LittleEndian.PutUint32(dst, uint32(v|v>>16))
			src, dst = src[8:], dst[4:]
		}
	case size == 1 && step == 4:
		for len(dst) >= 4 && len(src) >= 16 {
			a, b := binary.LittleEndian.Uint64(src), binary.LittleEndian.Uint64(src[8:])
			binary.LittleEndian.PutUint32(dst, uint32(a&0xFF|a>>24&0xFF00|b&0xFF<<16|b>>8&0xFF000000))
			src, dst = src[16:], dst[4:]
		}
	case size == 2:
		for len(dst) >= 2 && len(src) >= 2 {
			binary.LittleEndian.PutUint16(dst, binary.LittleEndian.Uint16(src))
			dst = dst[2:]
			src = src[min(stride, len(src)):]
		}
	case size == 4:
		for len(dst) >= 4 && len(src) >= 4 {
			binary.LittleEndian.PutUint32(dst, binary.LittleEndian.Uint32(src))
			dst = dst[4:]
			src = src[min(stride, len(src)):]
		}
	}
	if size == 1 {
		for i := range dst {
			dst[i] = src[i*step]
		}
		return
	}
	for len(dst) > 0 && len(src) > 0 {
		n := copy(dst, src[:min(size, len(src))])
		dst = dst[n:]
		src = src[min(stride, len(src)):]
	}
}

// scatter is the inverse of gather: it copies the words of size bytes of src
// to every step-th place in dst.
func scatter(dst, src []byte, size, step int) {
	stride := size * step
	switch size {
	case 1:
		for i := 0; i < len(dst) && len(src) > 0; i += stride {
			dst[i] = src[0]
			src = src[1:]
		}
	case 2:
		for len(src) >= 2 && len(dst) >= 2 {
			binary.LittleEndian.PutUint16(dst, binary.LittleEndian.Uint16(src))
			src = src[2:]
			dst = dst[min(stride, len(dst)):]
		}
	case 4:
		for len(src) >= 4 && len(dst) >= 4 {
			binary.LittleEndian.PutUint32(dst, binary.LittleEndian.Uint32(src))
			src = src[4:]
			dst = dst[min(stride, len(dst)):]
		}
	default:
		for len(src) > 0 && len(dst) > 0 {
			n := copy(dst, src[:size])
			src = src[n:]
			dst = dst[min(stride, len(dst)):]
		}
	}
}

// interleave puts the words of several lanes, each of size bytes, side by side
// into dst. All lanes are of equal length.
func interleave(dst []byte, lanes [][]byte, size int) {
	if size == 1 && len(lanes) == 2 {
		a, b := lanes[0], lanes[1]
		for len(a) >= 4 && len(b) >= 4 && len(dst) >= 8 {
			binary.LittleEndian.PutUint64(dst, spread(binary.LittleEndian.Uint32(a))|spread(binary.LittleEndian.Uint32(b))<<8)
			a, b, dst = a[4:], b[4:], dst[8:]
		}
		lanes = [][]byte{a, b}
	}
	for lane, data := range lanes {
		if lane*size < len(dst) {
			scatter(dst[lane*size:], data, size, len(lanes))
		}
	}
}

// spread puts the four bytes of v into the even bytes of the result.
func spread(v uint32) uint64 {
	x := uint64(v)
	x = (x | x<<16) & 0x0000FFFF0000FFFF
	return (x | x<<8) & 0x00FF00FF00FF00FF
}
