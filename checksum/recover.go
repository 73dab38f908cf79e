package checksum

import (
	"errors"
	"fmt"
	"math/bits"
	"mexalt/memory"
	"slices"
)

// Recovered is a CRC of which the polynomial was found.
type Recovered struct {
	CRC   CRC
	Order memory.Order // of the values' bytes: Big where they were given as they are
	Open  []string     // what the values leave open
}

// The algebra is quadratic in the number of bytes from the first that differs
// between messages to their end. So many are worked on at the most, and so many
// where unusual widths and directions are tried too.
const (
	mostDiffering        = 32 << 10
	mostUnusualDiffering = 2 << 10
)

// Recover finds the polynomial of a CRC of 3 to 32 bits from three or more
// messages of equal length and their values, and init and xorout as far as
// these settle them; messages of other lengths may come with them.
//
// The difference of two messages of one length has the difference of their
// values as its CRC with init and xorout 0. So the polynomial divides
// difference(x) * x^width + difference of values, for each two messages; it is
// the greatest common divisor, or a factor of it.
func Recover(messages [][]byte, values []Value) ([]Recovered, error) {
	base, equal := mostCommonLength(messages)
	if equal < 3 {
		return nil, errors.New("three or more images of equal length, with their values, are needed to find an unknown polynomial")
	}
	size := len(values[base])
	if size > 4 {
		return nil, errors.New("only polynomials of up to 32 bits are searched for")
	}
	differing := 0
	for _, m := range messages {
		if len(m) == len(messages[base]) {
			differing = max(differing, len(m)-commonPrefix(m, messages[base]))
		}
	}
	if differing > mostDiffering {
		return nil, fmt.Errorf("the images differ from %d bytes before their end on, and up to %d are worked on; have the other side "+
			"compute shorter spans", differing, mostDiffering)
	}
	found := recoverOf(messages, values, base, true)
	if len(found) == 0 && differing <= mostUnusualDiffering {
		found = recoverOf(messages, values, base, false)
	}
	return found, nil
}

// mostCommonLength returns the first message of the length that most have, and how many
// have it.
func mostCommonLength(messages [][]byte) (base, equal int) {
	counts := map[int]int{}
	for _, m := range messages {
		counts[len(m)]++
	}
	for i, m := range messages {
		if n := counts[len(m)]; n > equal {
			base, equal = i, n
		}
	}
	return base, equal
}

// recoverOf tries both orders of the values' bytes; with usual, widths of whole bytes with
// one direction for input and value, otherwise all the others.
func recoverOf(messages [][]byte, values []Value, base int, usual bool) (found []Recovered) {
	size := len(values[base])
	for _, order := range []memory.Order{memory.Big, memory.Little} {
		if order == memory.Little && size == 1 {
			continue
		}
		numbers, most := make([]uint64, len(values)), uint64(0)
		for i, v := range values {
			stored, _ := v.Stored(order, 0)
			numbers[i], _ = Value(stored).Number()
			most |= numbers[i]
		}
		for width := 8 * size; width >= max(3, bits.Len64(most)) && width > 8*(size-1); width-- {
			for _, c := range []CRC{
				{Width: width},
				{Width: width, RefIn: true, RefOut: true},
				{Width: width, RefIn: true},
				{Width: width, RefOut: true},
			} {
				if usual != (width == 8*size && c.RefIn == c.RefOut) {
					continue
				}
				for _, r := range c.recoverFrom(messages, numbers, base) {
					r.Order = order
					found = append(found, r)
				}
			}
		}
	}
	return found
}

func commonPrefix(a, b []byte) int {
	n := 0
	for n < len(a) && a[n] == b[n] {
		n++
	}
	return n
}

// recoverFrom finds what fits into the CRC's width and directions.
func (c CRC) recoverFrom(messages [][]byte, values []uint64, base int) []Recovered {
	register := func(v uint64) uint64 { // the value's bits as the register has them
		if c.RefOut {
			return reflect(v, c.Width)
		}
		return v
	}
	var common polynomial
	for i, m := range messages {
		if i == base || len(m) != len(messages[base]) {
			continue
		}
		common = gcd(common, c.difference(m, messages[base], register(values[i])^register(values[base])))
		if !common.zero() && common.degree() < c.Width {
			return nil
		}
	}
	if common.zero() {
		return nil
	}
	var found []Recovered
	factors := common.factors(c.Width)
	for _, poly := range factors {
		d := c
		d.Poly = poly
		if r, ok := d.solve(messages, values, base); ok {
			if len(factors) > 1 {
				r.Open = append(r.Open,
					fmt.Sprintf("the polynomial is one of %d that fit these images; more images settle it", len(factors)))
			}
			found = append(found, r)
		}
	}
	return found
}

// difference returns the polynomial that the CRC's own divides.
func (c CRC) difference(a, b []byte, values uint64) polynomial {
	first := commonPrefix(a, b)
	d := make([]byte, len(a)-first)
	for i := range d {
		d[i] = a[first+i] ^ b[first+i]
		if c.RefIn {
			d[i] = bits.Reverse8(d[i])
		}
	}
	return polynomialOf(d).shift(c.Width).add(polynomial{values}).stripped()
}

// solve finds init and xorout for a polynomial. With one length alone, init
// moved over the message and xorout only show as their sum, so that init
// stays open; other lengths settle it as far as x^n+x^m has an inverse.
func (c CRC) solve(messages [][]byte, values []uint64, base int) (Recovered, bool) {
	plain := c
	plain.Init, plain.XorOut = 0, 0
	rest := make([]uint64, len(messages)) // what init and xorout add to each value
	for i, m := range messages {
		rest[i] = plain.Sum(1, m) ^ values[i]
		if c.RefOut {
			rest[i] = reflect(rest[i], c.Width)
		}
		if len(m) == len(messages[base]) && rest[i] != rest[base] {
			return Recovered{}, false
		}
	}
	moved := func(init uint64, n int) uint64 { return c.plain(c.shift(c.hold(init), uint64(n))) }
	finish := func(init uint64) CRC {
		d := c
		d.Init = init
		d.XorOut = rest[base] ^ moved(init, len(messages[base]))
		if c.RefOut {
			d.XorOut = reflect(d.XorOut, c.Width)
		}
		return d
	}
	fits := func(d CRC) bool {
		for i, m := range messages {
			if d.Sum(1, m) != values[i] {
				return false
			}
		}
		return true
	}
	// rest[i]+rest[base] = init * (x^8n + x^8m), linear in the bits of init.
	var system equations
	for i, m := range messages {
		if len(m) == len(messages[base]) {
			continue
		}
		factor := moved(1, len(m)) ^ moved(1, len(messages[base]))
		for bit := range c.Width {
			row := uint64(0)
			for b := range c.Width {
				row |= c.multiply(1<<b, factor) >> bit & 1 << b
			}
			system.add(row, (rest[i]^rest[base])>>bit&1)
		}
	}
	if system.contradictory {
		return Recovered{}, false
	}
	// Among what fits, the usual inits come first, and of these what gives a
	// usual xorout.
	candidates := []CRC{finish(0), finish(c.mask()), finish(system.solution())}
	slices.SortStableFunc(candidates, func(a, b CRC) int {
		unusual := func(d CRC) int {
			switch {
			case !fits(d):
				return 2
			case d.XorOut != 0 && d.XorOut != d.mask():
				return 1
			}
			return 0
		}
		return unusual(a) - unusual(b)
	})
	best := candidates[0]
	if !fits(best) {
		return Recovered{}, false
	}
	if free := c.Width - len(system.rows); free > 0 {
		open := fmt.Sprintf("init and xorout are one pair of 2^%d that fit these images; images of other lengths settle them", free)
		return Recovered{CRC: best, Open: []string{open}}, true
	}
	return Recovered{CRC: best}, true
}

// equations is a system of linear equations over bits, each row reduced by the
// ones before it.
type equations struct {
	rows          []uint64 // coefficients, each with a top bit of its own
	values        []uint64
	contradictory bool
}

func (e *equations) add(row, value uint64) {
	for i, r := range e.rows {
		if row>>(bits.Len64(r)-1)&1 == 1 {
			row, value = row^r, value^e.values[i]
		}
	}
	if row == 0 {
		e.contradictory = e.contradictory || value == 1
		return
	}
	e.rows, e.values = append(e.rows, row), append(e.values, value)
}

// solution returns the solution in which the bits that are free are 0.
func (e *equations) solution() uint64 {
	order := make([]int, len(e.rows))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return bits.Len64(e.rows[a]) - bits.Len64(e.rows[b]) })
	x := uint64(0)
	for _, i := range order {
		top := uint64(1) << (bits.Len64(e.rows[i]) - 1)
		if uint64(bits.OnesCount64(e.rows[i]&^top&x)&1) != e.values[i] {
			x |= top
		}
	}
	return x
}

// polynomial has coefficients of 0 and 1; word i holds those of x^64i upwards.
type polynomial []uint64

func (p polynomial) trimmed() polynomial {
	for len(p) > 0 && p[len(p)-1] == 0 {
		p = p[:len(p)-1]
	}
	return p
}

func (p polynomial) zero() bool { return len(p.trimmed()) == 0 }

// degree returns the highest power of x, or -1 for 0.
func (p polynomial) degree() int {
	t := p.trimmed()
	if len(t) == 0 {
		return -1
	}
	return 64*(len(t)-1) + bits.Len64(t[len(t)-1]) - 1
}

// polynomialOf makes a polynomial of bytes, the first bit being the highest
// power.
func polynomialOf(b []byte) polynomial {
	p := make(polynomial, (len(b)+7)/8)
	for i, v := range b {
		at := len(b) - 1 - i
		p[at/8] |= uint64(v) << (at % 8 * 8)
	}
	return p
}

// shift multiplies by x^n.
func (p polynomial) shift(n int) polynomial {
	out := make(polynomial, len(p)+n/64+1)
	out.addShifted(p, n)
	return out.trimmed()
}

// addShifted adds q * x^n in place; p must have room.
func (p polynomial) addShifted(q polynomial, n int) {
	words, rest := n/64, n%64
	for i, w := range q {
		p[words+i] ^= w << rest
		if rest > 0 && w>>(64-rest) != 0 {
			p[words+i+1] ^= w >> (64 - rest)
		}
	}
}

func (p polynomial) add(q polynomial) polynomial {
	out := make(polynomial, max(len(p), len(q)))
	copy(out, p)
	for i, w := range q {
		out[i] ^= w
	}
	return out.trimmed()
}

// stripped returns the polynomial without its factors x.
func (p polynomial) stripped() polynomial {
	if p.zero() {
		return nil
	}
	n := 0
	for p[n/64]>>(n%64)&1 == 0 {
		n++
	}
	out := make(polynomial, len(p))
	for i := range p {
		if j := i + n/64; j < len(p) {
			out[i] = p[j] >> (n % 64)
			if n%64 > 0 && j+1 < len(p) {
				out[i] |= p[j+1] << (64 - n%64)
			}
		}
	}
	return out.trimmed()
}

// divide returns quotient and remainder; q must not be 0.
func (p polynomial) divide(q polynomial) (quotient, remainder polynomial) {
	remainder = slices.Clone(p).trimmed()
	degree := q.degree()
	if remainder.degree() < degree {
		return nil, remainder
	}
	quotient = make(polynomial, (remainder.degree()-degree)/64+1)
	q = q.trimmed()
	for d := remainder.degree(); d >= degree; d = remainder.degree() {
		remainder = append(remainder, 0)
		remainder.addShifted(q, d-degree)
		quotient[(d-degree)/64] |= 1 << ((d - degree) % 64)
		remainder = remainder.trimmed()
	}
	return quotient.trimmed(), remainder
}

// gcd returns the greatest common divisor; that of 0 and p is p.
func gcd(a, b polynomial) polynomial {
	for !b.zero() {
		_, r := a.divide(b)
		a, b = b, r
	}
	return a.trimmed()
}

// factors returns the factors of a degree that can be a CRC's polynomial,
// without their top terms. Where the polynomial is of just that degree it is
// the one; else either the factor or what is left beside it must be of 16 bits
// at the most, to be searched through.
func (p polynomial) factors(degree int) []uint64 {
	const mostTried, mostFactors = 16, 8
	mask := uint64(1)<<degree - 1
	extra := p.degree() - degree
	if extra == 0 {
		return []uint64{p[0] & mask}
	}
	var found []uint64
	try := min(degree, extra)
	if try > mostTried {
		return nil
	}
	for low := uint64(1); low < 1<<try && len(found) < mostFactors; low += 2 {
		q, r := p.divide(polynomial{1<<try | low})
		switch {
		case !r.zero():
		case try == degree:
			found = append(found, low)
		default:
			found = append(found, q[0]&mask)
		}
	}
	return found
}
