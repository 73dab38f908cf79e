package survey

import (
	"bytes"
	"fmt"
	"math"

	"mexalt/memory"
	"mexalt/source"
)

// Cause is what the differences between two images look like.
type Cause struct {
	Text   string
	Advice source.Advice
}

// examination is two images whose differences are looked at.
type examination struct {
	expected, found *memory.Image
	c               *Comparison
	erased          byte
}

// likelyCause is a row of the table of causes. Of those that concern the bytes that differ,
// the first that is found counts; of the others each.
type likelyCause struct {
	differing bool // it concerns bytes that both images hold
	look      func(*examination) Cause
}

// likelyCauses are the causes that are looked for, in their order.
var likelyCauses = []likelyCause{
	{true, (*examination).erasedCells},
	{true, (*examination).zeros},
	{true, (*examination).inverted},
	{true, (*examination).reversedWords},
	{true, inWords((*examination).stuckBit)},
	{true, inWords((*examination).stuckAddressLine)},
	{true, inWords((*examination).lineEnds)},
	{true, inWords((*examination).inserted)},
	{true, inWords((*examination).pages)},
	{true, inWords((*examination).shifted)},
	{true, inWords((*examination).onlyProgrammed)},
	{false, (*examination).allShifted},
	{false, (*examination).cutShort},
	{false, (*examination).erasedSpace},
}

// inWords makes a row of what is found in words alone.
func inWords(look func(*examination) string) func(*examination) Cause {
	return func(x *examination) Cause { return Cause{Text: look(x)} }
}

// LikelyCauses says what the differences between an expected and a found image
// look like, where one cause explains all of them. Where a cause would change
// bytes everywhere, bytes that are equal count against it. erased is what an
// erased byte reads as.
func LikelyCauses(expected, found *memory.Image, c *Comparison, erased byte) []Cause {
	if c.Same() {
		return nil
	}
	x := &examination{expected, found, c, erased}
	var causes []Cause
	explained := c.Differ == 0
	for _, row := range likelyCauses {
		if row.differing && explained {
			continue
		}
		if cause := row.look(x); cause.Text != "" {
			causes = append(causes, cause)
			explained = explained || row.differing
		}
	}
	return causes
}

func (x *examination) erasedCells() (cause Cause) {
	if x.c.found[x.erased] == x.c.Differ {
		cause.Text = fmt.Sprintf("every byte that differs was found as %02X: erased, but not programmed", x.erased)
	}
	return cause
}

func (x *examination) zeros() (cause Cause) {
	if x.c.found[0] == x.c.Differ {
		cause.Text = "every byte that differs was found as 00: filled with zeros"
	}
	return cause
}

func (x *examination) inverted() (cause Cause) {
	if x.everywhere(func(_ uint64, e, f []byte) bool {
		for i := range e {
			if f[i] != ^e[i] {
				return false
			}
		}
		return true
	}) {
		cause.Text = "every byte was found inverted"
	}
	return cause
}

func (x *examination) reversedWords() Cause {
	for _, n := range []uint64{2, 4, 8} {
		if x.swappedWords(n) {
			return Cause{fmt.Sprintf("the same bytes, in reverse order within words of %d", n),
				source.Advice{Action: &source.Action{Operation: "convert", Settings: []source.Setting{{Key: "swap", Value: fmt.Sprint(n)}}}}}
		}
	}
	return Cause{}
}

// allShifted looks for the same bytes at other addresses, where none stands at the same.
func (x *examination) allShifted() (cause Cause) {
	if x.c.Differ == 0 && x.c.OnlyFirst > 0 && x.c.Equal == 0 {
		cause.Text = x.shifted()
	}
	return cause
}

func (x *examination) cutShort() (cause Cause) {
	c := x.c
	if f, ok := x.found.Span(); ok && f.Last < math.MaxUint64 && c.OnlyFirst > 0 && c.Equal > 0 && c.Differ == 0 &&
		x.expected.Count(memory.Span{First: f.Last, Last: f.Last + 1}) == 2 {
		cause.Text = fmt.Sprintf("the second image stops at %s, in the middle of the first: truncated", memory.FormatAddress(f.Last))
	}
	return cause
}

func (x *examination) erasedSpace() Cause {
	if x.c.OnlySecond == 0 || x.c.more[x.erased] != x.c.OnlySecond {
		return Cause{}
	}
	hole := fmt.Sprintf("%02X", x.erased)
	return Cause{fmt.Sprintf("all bytes that only the second has are %s: erased memory in a read-back", hole),
		source.Advice{AnyOf: []source.Setting{{Key: "holes", Value: hole, Does: "takes it as equal"}}}}
}

// everywhere reports whether something holds for all stretches that both images
// hold.
func (x *examination) everywhere(holds func(first uint64, e, f []byte) bool) bool {
	for _, r := range x.expected.Runs() {
		for s := range x.found.In(r.Span()) {
			if !holds(s.First, r.Data[s.First-r.First:][:len(s.Data)], s.Data) {
				return false
			}
		}
	}
	return true
}

// swappedWords reports whether the found bytes stand in reverse order within
// words of n bytes.
func (x *examination) swappedWords(n uint64) bool {
	return x.everywhere(func(first uint64, e, f []byte) bool {
		if first%n != 0 || uint64(len(e))%n != 0 {
			return false
		}
		for i := range e {
			if word := i - i%int(n); f[i] != e[word+int(n)-1-i%int(n)] {
				return false
			}
		}
		return true
	})
}

// fewest is how many bytes must differ for a cause that a few would show by
// chance.
const fewest = 8

// stuckBit looks for a bit that is found as 0, or as 1, everywhere.
func (x *examination) stuckBit() string {
	var never, always byte = 0xFF, 0xFF // bits that are found as 1 nowhere, as 0 nowhere
	var odd byte                        // bits that differ anywhere
	x.everywhere(func(_ uint64, e, f []byte) bool {
		for i := range f {
			never &^= f[i]
			always &= f[i]
			odd |= e[i] ^ f[i]
		}
		return true
	})
	if x.c.Differ < fewest || odd == 0 || odd&(odd-1) != 0 {
		return ""
	}
	bit := 0
	for odd>>bit != 1 {
		bit++
	}
	switch odd {
	case never & odd:
		return fmt.Sprintf("data bit %d was found as 0 everywhere: a line that is stuck or not connected", bit)
	case always & odd:
		return fmt.Sprintf("data bit %d was found as 1 everywhere: a line that is stuck or not connected", bit)
	}
	return ""
}

// stuckAddressLine looks for a bit of the address that makes no difference to
// what is found: the same bytes appear twice.
func (x *examination) stuckAddressLine() string {
	all, ok := x.found.Span()
	if !ok || x.c.Differ < fewest {
		return ""
	}
	for line := range 32 {
		bit := uint64(1) << line
		if bit > all.Last-all.First {
			return ""
		}
		for _, high := range []bool{false, true} {
			if x.everywhere(func(first uint64, e, f []byte) bool {
				var b [1]byte
				for i := range f {
					at := (first + uint64(i)) &^ bit
					if high {
						at |= bit
					}
					if !x.expected.ReadAt(b[:], at) {
						b[0] = x.erased
					}
					if b[0] != f[i] {
						return false
					}
				}
				return true
			}) {
				value := 0
				if high {
					value = 1
				}
				return fmt.Sprintf("address line %d reads as %d everywhere, so that the same bytes appear twice: stuck or not connected", line, value)
			}
		}
		if x.laidOver(bit) {
			return fmt.Sprintf(
				"address line %d makes no difference: what belongs at two addresses was programmed over one another, and is seen at both; stuck or not connected",
				line,
			)
		}
	}
	return ""
}

// laidOver reports whether each place holds what belongs there and where a bit of the
// address is another, programmed over one another: bits only leave the erased value.
func (x *examination) laidOver(bit uint64) bool {
	return x.everywhere(func(first uint64, e, f []byte) bool {
		var b [1]byte
		for i := range f {
			if !x.expected.ReadAt(b[:], (first+uint64(i))^bit) {
				b[0] = x.erased
			}
			if ((e[i]^x.erased)|(b[0]^x.erased))^x.erased != f[i] {
				return false
			}
		}
		return true
	})
}

// run returns the runs of both images around the first difference, from the
// first address that both hold; ok is false where bytes differ outside them.
func (x *examination) run() (first uint64, e, f []byte, ok bool) {
	at := uint64(0)
	for _, d := range x.c.Differences {
		if d.Presence == InBoth {
			at = d.First
			break
		}
	}
	var er, fr memory.Run
	for _, r := range x.expected.Runs() {
		if r.Span().Contains(at) {
			er = r
		}
	}
	for _, r := range x.found.Runs() {
		if r.Span().Contains(at) {
			fr = r
		}
	}
	if er.Data == nil || fr.Data == nil {
		return 0, nil, nil, false
	}
	first = max(er.First, fr.First)
	for _, d := range x.c.Differences {
		if d.Presence == InBoth && (d.First < first || d.Last > max(er.Last(), fr.Last())) {
			return 0, nil, nil, false
		}
	}
	return first, er.Data[first-er.First:], fr.Data[first-fr.First:], true
}

// lineEnds looks for LF made CR LF, as a transfer of text does, or CR lost.
func (x *examination) lineEnds() string {
	_, e, f, ok := x.run()
	if !ok {
		return ""
	}
	crlf := func(d []byte) []byte { return bytes.ReplaceAll(d, []byte("\n"), []byte("\r\n")) }
	same := func(a, b []byte) bool { n := min(len(a), len(b)); return n >= fewest && bytes.Equal(a[:n], b[:n]) }
	switch {
	case same(crlf(e), f):
		return "each 0A was made 0D 0A: the file was moved as if it were text"
	case same(bytes.ReplaceAll(e, []byte("\r\n"), []byte("\n")), f):
		return "each 0D 0A was made 0A: the file was moved as if it were text"
	}
	return ""
}

// inserted looks for bytes that were put in or lost at one place.
func (x *examination) inserted() string {
	const longest = 64 << 10
	first, e, f, ok := x.run()
	if !ok {
		return ""
	}
	at := 0
	for at < min(len(e), len(f)) && e[at] == f[at] {
		at++
	}
	const probe = 16
	// shift returns by how much what follows in a stands further on in b.
	shift := func(a, b []byte) int {
		if len(a) < at+2*probe {
			return 0
		}
		window := b[at:min(len(b), at+longest)]
		for from := 1; from < len(window); {
			k := bytes.Index(window[from:], a[at:at+probe])
			if k < 0 {
				return 0
			}
			k += from
			n := min(len(a)-at, len(b)-at-k)
			if n >= probe && bytes.Equal(a[at:at+n], b[at+k:at+k+n]) {
				return k
			}
			from = k + 1
		}
		return 0
	}
	place := memory.FormatAddress(first + uint64(at))
	// Among bytes that are all the same, one changed looks like one put in: what
	// was moved must have made more bytes differ than those put in or lost.
	odd := x.c.Differ + x.c.OnlyFirst + x.c.OnlySecond
	likely := func(k int) bool { return k > 0 && at > 0 && odd > uint64(k) }
	if k := shift(e, f); likely(k) {
		return fmt.Sprintf("%s inserted at %s; everything after is moved up", count(k), place)
	}
	if k := shift(f, e); likely(k) {
		return fmt.Sprintf("%s lost at %s; everything after is moved down", count(k), place)
	}
	return ""
}

func count(bytes int) string {
	if bytes == 1 {
		return "1 byte was"
	}
	return memory.FormatNumber(bytes, "byte") + " were"
}

// pages looks for pages that hold what others should: swapped or doubled.
func (x *examination) pages() string {
	for _, size := range []uint64{4096, 2048, 1024, 512, 256, 128, 64} {
		odd := map[uint64]bool{} // pages in which bytes differ
		for _, d := range x.c.Differences {
			if d.Presence != InBoth {
				continue
			}
			for p := d.First / size; p <= d.Last/size; p++ {
				odd[p] = true
			}
		}
		const most = 64 // pages looked for
		if len(odd) > most || len(odd) == 0 {
			continue
		}
		where := map[string]uint64{} // expected pages, by what they hold
		for _, r := range x.expected.Runs() {
			for at := (r.First + size - 1) / size * size; at+size-1 <= r.Last() && at+size-1 > at; at += size {
				where[string(r.Data[at-r.First:at-r.First+size])] = at / size
			}
		}
		from := map[uint64]uint64{}
		for p := range odd {
			held := make([]byte, size)
			if !x.found.ReadAt(held, p*size) {
				break
			}
			q, ok := where[string(held)]
			if !ok || bytes.Count(held, held[:1]) > int(size)/2 {
				break
			}
			from[p] = q
		}
		if len(from) < len(odd) {
			continue
		}
		swapped := true
		for p, q := range from {
			swapped = swapped && from[q] == p && odd[q]
		}
		first := uint64(math.MaxUint64)
		for p := range from {
			first = min(first, p)
		}
		a, b := memory.FormatAddress(first*size), memory.FormatAddress(from[first]*size)
		if swapped {
			return fmt.Sprintf("pages of %d bytes are swapped: the page at %s contains the data for %s", size, a, b)
		}
		return fmt.Sprintf("a page of %d bytes is repeated: %s also contains the data for %s", size, a, b)
	}
	return ""
}

// onlyProgrammed looks for bits that only went the way that programming takes them:
// what is written over something else without an erase.
func (x *examination) onlyProgrammed() string {
	cleared, set := true, true
	x.everywhere(func(_ uint64, e, f []byte) bool {
		for i := range e {
			cleared = cleared && f[i]&^e[i] == 0
			set = set && e[i]&^f[i] == 0
		}
		return cleared || set
	})
	if x.c.Differ < fewest {
		return ""
	}
	if cleared && x.erased == 0xFF {
		return "bits only changed from 1 to 0: programmed without an erase"
	}
	if set && x.erased == 0 {
		return "bits are only found as 1 where 0 was expected, never the other way: written over something without an erase"
	}
	return ""
}

// shifted looks for the expected bytes at another place of the found image. It
// takes a few distinctive stretches of the one and looks where the other holds
// them; if all are moved by the same distance, that is it.
func (x *examination) shifted() string {
	const probe, probes = 24, 5
	var distance uint64
	down, matches := false, 0
	for _, r := range x.expected.Runs() {
		step := max(len(r.Data)/(probes+1), probe)
		for i := step / 2; i+probe <= len(r.Data) && matches < probes; i += step {
			needle := r.Data[i : i+probe]
			if bytes.Count(needle, needle[:1]) > probe/2 {
				continue // too plain to tell
			}
			address := r.First + uint64(i)
			at, ok := find(x.found, needle)
			if !ok || at == address {
				return ""
			}
			d, isDown := at-address, at < address
			if isDown {
				d = address - at
			}
			if matches > 0 && (d != distance || isDown != down) {
				return ""
			}
			distance, down = d, isDown
			matches++
		}
	}
	if matches == 0 {
		return ""
	}
	sign := "+"
	if down {
		sign = "-"
	}
	return fmt.Sprintf("the same bytes at another address: in the second they are %s0x%X from their address in the first", sign, distance)
}

func find(m *memory.Image, needle []byte) (uint64, bool) {
	for _, r := range m.Runs() {
		if i := bytes.Index(r.Data, needle); i >= 0 {
			return r.First + uint64(i), true
		}
	}
	return 0, false
}
