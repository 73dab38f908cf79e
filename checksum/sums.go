package checksum

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"encoding/binary"
	"fmt"
	"hash"
	"hash/adler32"
	"math/bits"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/crypto/blake2s"
)

// sums returns the sums and XORs: of bytes, or of words in either order; plain,
// or with the value's one's complement, or with its two's complement, which
// makes the total of words and value zero.
func sums() []*Kind {
	type complement struct {
		suffix string
		apply  func(uint64) uint64
	}
	plain := complement{"", func(v uint64) uint64 { return v }}
	ones := complement{"/ONES", func(v uint64) uint64 { return ^v }}
	twos := complement{"/TWOS", func(v uint64) uint64 { return -v }}
	var list []*Kind
	add := func(group, name string, width, word int, big bool, c complement, of func(data []byte) uint64) {
		value := func(total uint64) uint64 { return c.apply(total) & (1<<width - 1) }
		rest := less
		if group == "XOR" {
			rest = without
		}
		list = append(
			list,
			&Kind{
				total: of,
				rest:  rest,
				value: value,
				Name:  name + c.suffix,
				Group: group,
				Bits:  width,
				Word:  word,
				big:   big,
				falls: group == "sum" && c.suffix != "",
				sum: func(_ int, pieces [][]byte) Value {
					return number(value(of(flat(pieces))), width)
				},
			},
		)
	}
	for _, c := range []complement{plain, ones, twos} {
		for width := 8; width <= 64; width *= 2 {
			add("sum", fmt.Sprintf("SUM-%d", width), width, 1, false, c, sumBytes)
			if width > 8 {
				word := width / 8
				add("sum", fmt.Sprintf("SUM-%d/LITTLE", width), width, word, false, c,
					func(d []byte) uint64 { return sumWords(d, word, false) })
				add("sum", fmt.Sprintf("SUM-%d/BIG", width), width, word, true, c, func(d []byte) uint64 { return sumWords(d, word, true) })
			}
		}
	}
	for _, c := range []complement{plain, ones} {
		for width := 8; width <= 64; width *= 2 {
			word := width / 8
			if word == 1 {
				add("XOR", "XOR-8", 8, 1, false, c, func(d []byte) uint64 { return xorWords(d, 1, false) })
				continue
			}
			add("XOR", fmt.Sprintf("XOR-%d/LITTLE", width), width, word, false, c,
				func(d []byte) uint64 { return xorWords(d, word, false) })
			add("XOR", fmt.Sprintf("XOR-%d/BIG", width), width, word, true, c, func(d []byte) uint64 { return xorWords(d, word, true) })
		}
	}
	return list
}

func less(all, before uint64) uint64    { return all - before }
func without(all, before uint64) uint64 { return all ^ before }

// flat returns data in pieces as one.
func flat(pieces [][]byte) []byte {
	if len(pieces) == 1 {
		return pieces[0]
	}
	var all []byte
	for _, p := range pieces {
		all = append(all, p...)
	}
	return all
}

// sumBytes adds up bytes, eight at a time: each lane of 16 bits takes up to 128
// additions of two bytes before it could run over.
func sumBytes(data []byte) uint64 {
	const lanes = 0x00FF00FF00FF00FF
	total := uint64(0)
	for len(data) >= 8 {
		n := min(len(data)/8, 128)
		sum := uint64(0)
		for _, block := 0, data[:8*n]; len(block) >= 8; block = block[8:] {
			x := binary.LittleEndian.Uint64(block)
			sum += x&lanes + x>>8&lanes
		}
		total += sum&0xFFFF + sum>>16&0xFFFF + sum>>32&0xFFFF + sum>>48
		data = data[8*n:]
	}
	for _, b := range data {
		total += uint64(b)
	}
	return total
}

// sumWords adds up words of 2, 4 or 8 bytes. Their order in eight bytes does
// not matter, so that big-endian ones are read by reversing all eight.
func sumWords(data []byte, word int, big bool) uint64 {
	total := uint64(0)
	for len(data) >= 8 {
		x := binary.LittleEndian.Uint64(data)
		if big {
			x = bits.ReverseBytes64(x)
		}
		switch word {
		case 2:
			x = x&0x0000FFFF0000FFFF + x>>16&0x0000FFFF0000FFFF
			total += x&0xFFFFFFFF + x>>32
		case 4:
			total += x&0xFFFFFFFF + x>>32
		default:
			total += x
		}
		data = data[8:]
	}
	for ; len(data) >= word; data = data[word:] {
		total += wordOf(data[:word], big)
	}
	return total
}

func wordOf(b []byte, big bool) uint64 {
	v := uint64(0)
	for i := range b {
		if big {
			v = v<<8 | uint64(b[i])
		} else {
			v |= uint64(b[i]) << (8 * i)
		}
	}
	return v
}

// xorWords XORs words of 1, 2, 4 or 8 bytes.
func xorWords(data []byte, word int, big bool) uint64 {
	all := uint64(0)
	for len(data) >= 8 {
		all ^= binary.LittleEndian.Uint64(data)
		data = data[8:]
	}
	var rest, eight [8]byte
	binary.LittleEndian.PutUint64(eight[:], all)
	copy(rest[:], data)
	result := uint64(0)
	for i := 0; i < 8; i += word {
		result ^= wordOf(eight[i:i+word], big) ^ wordOf(rest[i:i+word], big)
	}
	return result
}

// others returns the algorithms that are neither CRC nor plain sum.
func others() []*Kind {
	of := func(name string, bits int, sum func(data []byte) uint64, aliases ...string) *Kind {
		return &Kind{Name: name, Aliases: aliases, Group: "other", Bits: bits, sum: func(_ int, pieces [][]byte) Value {
			return number(sum(flat(pieces)), bits)
		}}
	}
	return []*Kind{
		of("FLETCHER-16", 16, func(d []byte) uint64 { return fletcher(d, 1) }),
		of("FLETCHER-32", 32, func(d []byte) uint64 { return fletcher(d, 2) }),
		of("FLETCHER-64", 64, func(d []byte) uint64 { return fletcher(d, 4) }),
		// RFC 1950, section 8.2.
		of("ADLER-32", 32, func(d []byte) uint64 { return uint64(adler32.Checksum(d)) }),
		of("INTERNET", 16, internet, "RFC-1071"),
		of("POSIX-CKSUM", 32, posixCksum),
	}
}

// fletcher computes the two running sums of Fletcher's checksum (J. G. Fletcher,
// An arithmetic checksum for serial transmissions, 1982) over little-endian
// words, the last filled up with zeros; both modulo one less than
// a word holds.
func fletcher(data []byte, word int) uint64 {
	modulus := uint64(1)<<(8*word) - 1
	a, b := uint64(0), uint64(0)
	const block = 1 << 12 // words whose sums stay far below 64 bits
	for len(data) >= word {
		n := min(len(data)/word, block)
		words := data[:n*word]
		for ; len(words) >= 8; words = words[8:] { // several words at a time, as they would follow one another
			switch v := binary.LittleEndian.Uint64(words); word {
			case 1:
				const each, ones, weights = 0x00FF_00FF_00FF_00FF, 0x0001_0001_0001_0001, 0x0007_0005_0003_0001
				firsts := v & each // of pairs of bytes, each of which comes once more in b than the second
				pairs := firsts + v>>8&each
				b += 8*a + pairs*weights>>48 + firsts*ones>>48
				a += pairs * ones >> 48
			case 2:
				v0, v1, v2, v3 := v&0xFFFF, v>>16&0xFFFF, v>>32&0xFFFF, v>>48
				b += 4*a + 4*v0 + 3*v1 + 2*v2 + v3
				a += v0 + v1 + v2 + v3
			default:
				b += 2*a + 2*(v&0xFFFF_FFFF) + v>>32
				a += v&0xFFFF_FFFF + v>>32
			}
		}
		for ; len(words) >= word; words = words[word:] {
			a += wordOf(words[:word], false)
			b += a
		}
		a, b, data = a%modulus, b%modulus, data[n*word:]
	}
	if len(data) > 0 {
		a += wordOf(data, false)
		b += a
	}
	return b%modulus<<(8*word) | a%modulus
}

// internet computes the checksum of RFC 1071: the one's complement of the one's
// complement sum of big-endian words of 16 bits; an odd byte is filled up with
// a zero behind it.
func internet(data []byte) uint64 {
	sum := sumWords(data[:len(data)&^1], 2, true)
	if len(data)%2 == 1 {
		sum += uint64(data[len(data)-1]) << 8
	}
	for sum > 0xFFFF {
		sum = sum&0xFFFF + sum>>16
	}
	return ^sum & 0xFFFF
}

// posixCksum computes what the POSIX utility cksum prints: a CRC over the data
// and its length, least significant byte first and without leading zeros.
func posixCksum(data []byte) uint64 {
	var length []byte
	for n := len(data); n > 0; n >>= 8 {
		length = append(length, byte(n))
	}
	return CRC{Width: 32, Poly: polyIEEE, XorOut: 0xFFFFFFFF}.Sum(1, data, length)
}

// digests returns the cryptographic digests.
func digests() []*Kind {
	of := func(name string, bits int, make func() hash.Hash, aliases ...string) *Kind {
		return &Kind{Name: name, Aliases: aliases, Group: "digest", Bits: bits, sum: func(_ int, pieces [][]byte) Value {
			h := make()
			for _, p := range pieces {
				h.Write(p)
			}
			return h.Sum(nil)
		}}
	}
	blake := func(size int) func() hash.Hash {
		return func() hash.Hash {
			h, err := blake2b.New(size, nil)
			if err != nil {
				panic(err) // the sizes are right
			}
			return h
		}
	}
	return []*Kind{
		of("MD5", 128, md5.New),
		of("SHA-1", 160, sha1.New, "SHA1"),
		of("SHA-224", 224, sha256.New224, "SHA224"),
		of("SHA-256", 256, sha256.New, "SHA256"),
		of("SHA-384", 384, sha512.New384, "SHA384"),
		of("SHA-512", 512, sha512.New, "SHA512"),
		of("SHA-512/224", 224, sha512.New512_224),
		of("SHA-512/256", 256, sha512.New512_256),
		of("SHA3-224", 224, func() hash.Hash { return sha3.New224() }),
		of("SHA3-256", 256, func() hash.Hash { return sha3.New256() }),
		of("SHA3-384", 384, func() hash.Hash { return sha3.New384() }),
		of("SHA3-512", 512, func() hash.Hash { return sha3.New512() }),
		of("BLAKE2B-256", 256, blake(32)),
		of("BLAKE2B-384", 384, blake(48)),
		of("BLAKE2B-512", 512, blake(64), "BLAKE2B"),
		of("BLAKE2S-256", 256, func() hash.Hash { h, _ := blake2s.New256(nil); return h }, "BLAKE2S"),
	}
}
