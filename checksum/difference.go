package checksum

import "math/bits"

// Difference tells how the value of an algorithm changes with what it is fed: each
// changed byte adds its own share, whatever the others are. CRCs and XORs join shares by
// XOR, sums by adding.
type Difference struct {
	kind *Kind
	// Of a CRC: how it is updated, what 2^i bytes of zeros multiply a register by, and what
	// takes them out again, where that can be.
	update          func(uint64, []byte) uint64
	zeros, inverses [64]uint64
	delta           []byte
	// What the bytes of zeros multiply by that stood behind the last change.
	behind, factor uint64
}

// Difference returns it; nil where a byte's share hangs on the others: digests, and sums
// that are taken modulo a number that is no power of 2.
func (k *Kind) Difference() *Difference {
	d := &Difference{kind: k}
	switch {
	case k.CRC != nil:
		d.update = k.CRC.updater()
		d.zeros[0] = k.CRC.power(8)
		d.factor = 1
		if k.CRC.Poly&1 == 1 { // x has an inverse, by which it is divided: (x^n + P) / x
			inverse := k.CRC.Poly>>1 | 1<<(k.CRC.Width-1)
			d.inverses[0] = 1
			for range 8 {
				d.inverses[0] = k.CRC.multiply(d.inverses[0], inverse)
			}
		}
		for i := 1; i < len(d.zeros); i++ {
			d.zeros[i], d.inverses[i] = k.CRC.multiply(d.zeros[i-1], d.zeros[i-1]), k.CRC.multiply(d.inverses[i-1], d.inverses[i-1])
		}
	case k.Group != "sum" && k.Group != "XOR":
		return nil
	}
	return d
}

// Adds reports whether shares are joined by adding them, modulo the value's bits, and not
// by XOR.
func (d *Difference) Adds() bool { return d.kind.Group == "sum" }

// Join joins two shares.
func (d *Difference) Join(a, b uint64) uint64 {
	if d.Adds() {
		return (a + b) & d.mask()
	}
	return a ^ b
}

// Without takes the second share out of the first.
func (d *Difference) Without(a, b uint64) uint64 {
	if d.Adds() {
		return (a - b) & d.mask()
	}
	return a ^ b
}

func (d *Difference) mask() uint64 { return 1<<d.kind.Bits - 1 } // for 64 bits, 1<<64 is 0

// Of returns the share of bytes that were fed as old and are fed as new, both as long, at
// an offset of all that is fed, size bytes.
func (d *Difference) Of(old, new []byte, at, size uint64) (share uint64) {
	if c := d.kind.CRC; c != nil {
		d.delta = append(d.delta[:0], new...)
		for i, x := range old {
			d.delta[i] ^= x
		}
		d.move(size - at - uint64(len(new)))
		return c.end(c.times(d.update(0, d.delta), d.factor)) ^ c.end(0)
	}
	word := uint64(max(d.kind.Word, 1))
	for i := range new {
		place := (at + uint64(i)) % word
		if d.kind.big {
			place = word - 1 - place
		}
		share = d.Join(share, d.byteShare(old[i], new[i], 8*int(place)))
	}
	return share
}

// move makes the factor that of so many bytes of zeros, from what it is.
func (d *Difference) move(behind uint64) {
	by, powers := behind-d.behind, &d.zeros
	if behind < d.behind {
		by, powers = d.behind-behind, &d.inverses
	}
	if d.inverses[0] == 0 || bits.OnesCount64(behind) < bits.OnesCount64(by) {
		d.factor, by, powers = 1, behind, &d.zeros
	}
	for i := 0; by > 0; i, by = i+1, by>>1 {
		if by&1 == 1 {
			d.factor = d.kind.CRC.multiply(d.factor, powers[i])
		}
	}
	d.behind = behind
}

// byteShare returns what a byte changes that counts from a bit on.
func (d *Difference) byteShare(old, new byte, bit int) uint64 {
	if !d.Adds() {
		return uint64(old^new) << bit
	}
	v := (uint64(new) - uint64(old)) << bit
	if d.kind.falls {
		v = -v
	}
	return v & d.mask()
}
