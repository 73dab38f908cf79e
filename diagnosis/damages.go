package diagnosis

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strings"
	"sync"

	"mexalt/memory"
)

// row is a kind of damage.
type row struct {
	name string
	// least is how many of the bytes that it changes must be found so, at least.
	least float64
	// everywhere is whether it acts everywhere or not at all.
	everywhere bool
	// acts returns what it could be here, with its parameters.
	acts func(*foretold, *row) []*act
}

// rows are all kinds of damage that are known.
var rows = []*row{
	{"filled", 0.9, false, filled},
	{"repeated", 0.9, true, repeated},
	{"moved", 0.7, false, moved},
	{"words", 0.7, true, wordAddresses},
	{"order", 0.6, false, orders},
	{"changed", 0.6, false, changes},
	{"data line", 0.9, false, dataLines},
	{"crossed data lines", 0.8, false, crossedDataLines},
	{"lane", 0.9, false, lanes},
	{"lane twice", 0.7, false, lanesTwice},
	{"address line", 0.7, true, addressLines},
	{"line ends", 0.6, true, lineEnds},
	{"another image", 0.5, false, otherImages},
	{"over another image", 0.85, false, overOthers},
}

// Names returns the kinds of damage that are known.
func Names() (list []string) {
	for _, r := range rows {
		list = append(list, r.name)
	}
	return append(list, overUnerased)
}

// spoken is a place or a range as people say it.
func (s *foretold) spoken(d domain) string {
	if d.all {
		return "everywhere"
	}
	return "in " + s.spanOf(d).Range()
}

func (s *foretold) spanOf(d domain) memory.Span {
	return memory.Span{First: s.address(d.from), Last: s.address(d.to - 1)}
}

// filled is a value in the place of bytes: erased, zeros, or another.
func filled(s *foretold, r *row) (list []*act) {
	var count [256]int
	s.eachDiffering(func(i int) { count[s.found[i]]++ })
	values := []byte{s.erased, 0}
	for range 3 {
		best := 0
		for v, n := range count {
			if n > count[best] {
				best = v
			}
		}
		if count[best] > 0 && !slices.Contains(values, byte(best)) {
			values = append(values, byte(best))
		}
		count[best] = 0
	}
	for _, v := range values {
		a := &act{row: r, erased: v, at: func(i int, _ uint64) (byte, bool) { return v, s.inExpected.has(i) }}
		if v != s.erased && v != 0 {
			a.parameters = 8
		}
		a.words = func(s *foretold, d domain) string { return s.filledWords(d, v) }
		list = append(list, a)
	}
	return list
}

// filledWords says of a fill what it most likely is.
func (s *foretold) filledWords(d domain, v byte) string {
	span := s.spanOf(d).Range()
	found := 0
	for i := d.from; i < d.to; i++ {
		if s.inFound.has(i) {
			found++
		}
	}
	switch {
	case d.all && found > 0 && (v == s.erased || v == 0):
		return fmt.Sprintf("every byte reads %02X: read-out locked, erased, or not connected", v)
	case v != s.erased:
		return fmt.Sprintf("%s filled with %02X", span, v)
	case found == 0 && s.isLast(d):
		more := ""
		if d.from > 0 && s.found[d.from-1] != 0x1A && s.now[d.from] == 0x1A {
			more = "; the next byte is 1A, which ends texts"
		}
		return fmt.Sprintf("truncated: nothing from %s on%s", memory.FormatAddress(s.address(d.from)), more)
	case found == 0:
		return span + " is missing"
	case s.isLast(d):
		return fmt.Sprintf("erased from %s on; a truncated transfer leaves the same", memory.FormatAddress(s.address(d.from)))
	}
	return span + " erased, not programmed"
}

// isLast reports whether nothing follows a range: the expected image ends with it, but for
// what is equal either way, and what the found one has after it is erased.
func (s *foretold) isLast(d domain) bool {
	for i := max(d.to, d.slackTo); i < len(s.found); i++ {
		if s.found[i] != s.erased || s.inExpected.has(i) && s.now[i] != s.erased {
			return false
		}
	}
	return true
}

// repeated is one answer at all addresses, of a device that is locked or not connected.
func repeated(s *foretold, r *row) (list []*act) {
	var all [8][256]int
	for k := range s.stretches {
		st := &s.stretches[k]
		for i, b := range s.found[st.at : st.at+st.size] {
			if s.inFound.has(st.at + i) {
				all[(st.first+uint64(i))%8][b]++
			}
		}
	}
	for _, n := range []uint64{2, 4, 8} {
		var count [8][256]int
		for k := range all {
			for v, c := range all[k] {
				count[uint64(k)%n][v] += c
			}
		}
		answer := make([]byte, n)
		for k := range answer {
			for v, c := range count[k] {
				if c > count[k][answer[k]] {
					answer[k] = byte(v)
				}
			}
		}
		list = append(list, &act{
			row: r, whole: true, parameters: 8 * float64(n),
			at: func(i int, a uint64) (byte, bool) { return answer[a%n], s.inExpected.has(i) },
			words: func(*foretold, domain) string {
				return fmt.Sprintf("every address reads % X: read-out locked, or not connected", answer)
			},
		})
	}
	return list
}

// nearby is by how much bytes are moved, at most, where some are lost or put in before them.
const nearby = 8

// moved is bytes that are found at other addresses. The distances are those at which windows
// of eight bytes are found again.
func moved(s *foretold, r *row) (list []*act) {
	for _, d := range s.distances() {
		parameters := s.log
		if d%0x1_0000 == 0 {
			parameters = 8
		}
		little := d <= nearby || -d <= nearby
		fewest := 24 // fewer are found again somewhere by chance
		if little {
			fewest = 0
		}
		from := func(a uint64) (byte, bool) {
			if j := s.place(a - d); j >= 0 && s.inExpected.has(j) {
				return s.now[j], true
			}
			return 0, false
		}
		list = append(list,
			&act{row: r, parameters: parameters, distance: d, fewest: fewest, part: true, words: movedWords(d),
				at: func(i int, a uint64) (byte, bool) {
					if b, ok := from(a); ok || !little || s.inFound.has(i) {
						return b, ok
					}
					return s.erased, true
				}},
			&act{row: r, parameters: parameters, distance: d, whole: true, words: movedWords(d),
				at: func(_ int, a uint64) (byte, bool) {
					if b, ok := from(a); ok {
						return b, true
					}
					return s.erased, true
				}})
	}
	return list
}

func signed(d uint64) string {
	if d > math.MaxInt64 {
		return fmt.Sprintf("-0x%X", -d)
	}
	return fmt.Sprintf("+0x%X", d)
}

func movedWords(by uint64) func(*foretold, domain) string {
	return func(s *foretold, d domain) string {
		record := ""
		if by%0x1_0000 == 0 {
			record = ": a record with the upper address was lost or changed"
		}
		if d.all {
			return "all bytes are moved by " + signed(by) + record
		}
		span := s.spanOf(d)
		size := span.Size()
		source := memory.Span{First: span.First - by, Last: span.Last - by}
		// What was lost before is missing at the end.
		last := s.stretchOf(d.to - 1)
		toEnd := d.reachesEnd || by >= 1<<63 && uint64(last.at+last.size-d.to) <= -by
		if by <= nearby || -by <= nearby || toEnd && (by <= 64 || -by <= 64) {
			end := ""
			if !toEnd {
				end = ", up to " + memory.FormatAddress(span.Last)
			}
			if by < 1<<63 {
				return fmt.Sprintf("%s put in at %s; what follows is moved%s", memory.FormatBytes(by),
					memory.FormatAddress(span.First-by), end)
			}
			return fmt.Sprintf("%s lost at %s; what follows is moved%s", memory.FormatBytes(-by), memory.FormatAddress(span.First), end)
		}
		if size <= 4096 && size&(size-1) == 0 && span.First%size == 0 {
			return fmt.Sprintf("page %s has the bytes of page %s", span.Range(), source.Range())
		}
		return fmt.Sprintf("%s has the bytes of %s, moved by %s%s", span.Range(), source.Range(), signed(by), record)
	}
}

// distances returns by how much bytes may have been moved, the most likely first.
func (s *foretold) distances() (list []uint64) {
	const windows, mostPlaces, most = 500, 4, 6
	places := s.sampled(windows)
	wanted := map[uint64][]uint64{} // windows that are found, and where
	var some [1 << 13]byte          // a filter of them
	add := func(i int) {
		if i < 0 || i+8 > len(s.found) || s.stretchOf(i) != s.stretchOf(i+7) {
			return
		}
		w := s.found[i : i+8]
		if distinct(w) < 4 {
			return
		}
		key := binary.LittleEndian.Uint64(w)
		h := hash(key)
		some[h>>3] |= 1 << (h & 7)
		if len(wanted[key]) < mostPlaces {
			wanted[key] = append(wanted[key], s.address(i))
		}
	}
	for _, i := range places {
		add(i)
		add(i - 7)
	}
	count := map[uint64]int{}
	at := map[uint64][]uint64{}
	for k := range s.stretches {
		st := &s.stretches[k]
		data := s.now[st.at : st.at+st.size]
		for i := 0; i+8 <= len(data); i++ {
			key := binary.LittleEndian.Uint64(data[i:])
			if h := hash(key); some[h>>3]>>(h&7)&1 == 0 {
				continue
			}
			if _, ok := wanted[key]; ok && s.inExpected.has(st.at+i) {
				if count[key]++; count[key] <= mostPlaces {
					at[key] = append(at[key], st.first+uint64(i))
				}
			}
		}
	}
	votes := map[uint64]int{}
	for key, from := range at {
		if count[key] > mostPlaces {
			continue
		}
		for _, a := range from {
			for _, b := range wanted[key] {
				if b != a {
					votes[b-a]++
				}
			}
		}
	}
	for d := range votes {
		list = append(list, d)
	}
	slices.SortFunc(list, func(a, b uint64) int {
		return cmp.Or(votes[b]-votes[a], cmp.Compare(min(a, -a), min(b, -b)), cmp.Compare(a, b))
	})
	list = list[:min(len(list), most)]
	for d := uint64(1); d <= nearby; d++ {
		for _, d := range []uint64{d, -d} {
			if !slices.Contains(list, d) {
				list = append(list, d)
			}
		}
	}
	return list
}

func hash(key uint64) uint64 { return key * 0x9E3779B97F4A7C15 >> 48 }

func distinct(w []byte) int {
	var seen [4]uint64
	for _, b := range w {
		seen[b>>6] |= 1 << (b & 63)
	}
	return bits.OnesCount64(seen[0]) + bits.OnesCount64(seen[1]) + bits.OnesCount64(seen[2]) + bits.OnesCount64(seen[3])
}

// wordAddresses is records whose addresses were taken for those of words, or the other way.
func wordAddresses(s *foretold, r *row) (list []*act) {
	places := s.sampled(400)
	add := func(words string, from func(a uint64) (source uint64, ok bool)) {
		at := func(_ int, a uint64) (byte, bool) {
			if source, ok := from(a); ok {
				if j := s.place(source); j >= 0 && s.inExpected.has(j) {
					return s.now[j], true
				}
			}
			return s.erased, true
		}
		// Erased bytes that come from nowhere are no sign of it.
		const share = 3
		hits, sourced := 0, 0
		for _, i := range places {
			a := s.address(i)
			if b, _ := at(i, a); b != s.found[i] {
				continue
			}
			hits++
			if source, ok := from(a); ok {
				if j := s.place(source); j >= 0 && s.inExpected.has(j) {
					sourced++
				}
			}
		}
		if sourced*share >= hits {
			list = append(list, &act{row: r, whole: true, parameters: 2, at: at, words: func(*foretold, domain) string { return words }})
		}
	}
	for _, record := range []uint64{16, 32} {
		add(fmt.Sprintf("all records of %d bytes stand at twice their address: addresses of bytes were taken for those of words", record),
			func(a uint64) (uint64, bool) {
				o := a % (2 * record)
				return (a-o)/2 + o, o < record
			})
		add(fmt.Sprintf("all records of %d bytes stand at half their address: addresses of words were taken for those of bytes", record),
			func(a uint64) (uint64, bool) {
				o := a % (record / 2)
				return 2*(a-o) + o, a-o <= math.MaxUint64/2
			})
	}
	return list
}

// orderNames are the orders of bytes that differ by bits of the address.
var orderNames = [8]string{
	1: "the bytes in words of 2 are reversed",
	2: "the halves of words of 4 are exchanged",
	3: "the bytes in words of 4 are reversed",
	4: "the halves of words of 8 are exchanged",
	5: "the bytes in words of 2 are reversed, and the halves of words of 8 exchanged",
	6: "the words of 2 in words of 8 are reversed",
	7: "the bytes in words of 8 are reversed",
}

// orders is bytes in another order within words.
func orders(s *foretold, r *row) (list []*act) {
	for m := uint64(1); m < 8; m++ {
		a := &act{row: r, parameters: 4, varied: true,
			at: func(_ int, a uint64) (byte, bool) {
				if j := s.place(a ^ m); j >= 0 && s.inExpected.has(j) {
					return s.now[j], true
				}
				return 0, false
			},
			words: func(s *foretold, d domain) string { return orderNames[m] + ", " + s.spoken(d) }}
		if size := map[uint64]string{1: "2", 3: "4", 7: "8"}[m]; size != "" {
			a.advice = func() (string, string, string) { return "convert", "swap", size }
		}
		list = append(list, a)
	}
	return list
}

// change is a change of each byte by itself.
type change struct {
	name string
	by   [256]byte
}

// byteChanges are all changes of each byte by itself: inverted, nibbles exchanged, bits
// reversed, and together.
var byteChanges = sync.OnceValue(func() (list []change) {
	for k := 1; k < 8; k++ {
		var c change
		var names []string
		for which, name := range []string{"inverted", "the nibbles exchanged", "the bits reversed"} {
			if k>>which&1 == 1 {
				names = append(names, name)
			}
		}
		c.name = strings.Join(names, ", ")
		for v := range 256 {
			b := byte(v)
			if k&1 != 0 {
				b = ^b
			}
			if k&2 != 0 {
				b = b<<4 | b>>4
			}
			if k&4 != 0 {
				b = bits.Reverse8(b)
			}
			c.by[v] = b
		}
		list = append(list, c)
	}
	return list
})

// changes is bytes that are changed each by itself, perhaps in another order too.
func changes(s *foretold, r *row) (list []*act) {
	for _, m := range []uint64{0, 1, 3, 7} {
		for k := range byteChanges() {
			c := &byteChanges()[k]
			list = append(list, &act{row: r, parameters: 5, varied: true, erased: c.by[s.erased],
				at: func(_ int, a uint64) (byte, bool) {
					if j := s.place(a ^ m); j >= 0 && s.inExpected.has(j) {
						return c.by[s.now[j]], true
					}
					return 0, false
				},
				words: func(s *foretold, d domain) string {
					text := "every byte is found " + c.name
					if strings.HasPrefix(c.name, "the ") {
						text = "every byte is found with " + c.name
					}
					if m > 0 {
						text += ", and " + orderNames[m]
					}
					return text + ", " + s.spoken(d)
				}})
		}
	}
	return list
}

// dataLines is a bit that reads as one value, in all bytes or in one lane of words.
func dataLines(s *foretold, r *row) (list []*act) {
	for _, width := range []uint64{1, 2, 4} {
		for l := range width {
			for bit := range 8 {
				for value := range 2 {
					list = append(list, &act{row: r, stretches: true, parameters: 5 + math.Log2(float64(width)),
						at: func(i int, a uint64) (byte, bool) {
							if a&(width-1) != l || !s.inFound.has(i) {
								return 0, false
							}
							return s.now[i]&^(1<<bit) | byte(value<<bit), true
						},
						words: func(s *foretold, d domain) string {
							in := ""
							if width > 1 {
								in = fmt.Sprintf(" of byte %d of words of %d", l, width)
							}
							return fmt.Sprintf("data bit %d%s reads as %d, %s", bit, in, value, s.spoken(d))
						}})
				}
			}
		}
	}
	return list
}

func crossedDataLines(s *foretold, r *row) (list []*act) {
	for j := range 8 {
		for k := range j {
			list = append(list, &act{row: r, stretches: true, parameters: 5,
				at: func(i int, _ uint64) (byte, bool) {
					b := s.now[i]
					if b>>j&1 != b>>k&1 {
						b ^= 1<<j | 1<<k
					}
					return b, s.inFound.has(i)
				},
				words: func(s *foretold, d domain) string {
					return fmt.Sprintf("data bits %d and %d are exchanged, %s", k, j, s.spoken(d))
				}})
		}
	}
	return list
}

// lanes is one byte of each word that reads as one value.
func lanes(s *foretold, r *row) (list []*act) {
	for _, width := range []uint64{2, 4} {
		for l := range width {
			for _, v := range []byte{s.erased, 0} {
				list = append(list, &act{row: r, stretches: true, parameters: 4,
					at: func(i int, a uint64) (byte, bool) { return v, a&(width-1) == l && s.inExpected.has(i) },
					words: func(s *foretold, d domain) string {
						return fmt.Sprintf("byte %d of words of %d reads %02X: a lane is lost, %s", l, width, v, s.spoken(d))
					}})
			}
		}
	}
	return list
}

// lanesTwice is one lane of words that is found in the place of another.
func lanesTwice(s *foretold, r *row) (list []*act) {
	for _, width := range []uint64{2, 4} {
		for l := range width {
			for other := range width {
				if other == l {
					continue
				}
				list = append(list, &act{row: r, stretches: true, parameters: 5,
					at: func(_ int, a uint64) (byte, bool) {
						if j := s.place(a - l + other); a&(width-1) == l && j >= 0 && s.inExpected.has(j) {
							return s.now[j], true
						}
						return 0, false
					},
					words: func(s *foretold, d domain) string {
						return fmt.Sprintf("byte %d of words of %d is found where byte %d belongs: a lane stands twice, %s", other, width,
							l, s.spoken(d))
					}})
			}
		}
	}
	return list
}

// addressLines is a line of the address that is stuck, two that are crossed, or one that was
// open while the device was programmed, so that both places have both bytes.
func addressLines(s *foretold, r *row) (list []*act) {
	span := memory.Span{First: s.address(0), Last: s.address(len(s.now) - 1)}
	lines := bits.Len64(span.First ^ span.Last)
	get := func(a uint64) (byte, bool) {
		if j := s.place(a); j >= 0 && s.inExpected.has(j) {
			return s.now[j], true
		}
		return 0, false
	}
	add := func(at func(i int, a uint64) (byte, bool), format string, args ...any) {
		list = append(list, &act{row: r, whole: true, parameters: 7, at: at,
			words: func(*foretold, domain) string { return fmt.Sprintf(format, args...) }})
	}
	for k := range min(lines, 32) {
		bit := uint64(1) << k
		add(func(_ int, a uint64) (byte, bool) { return get(a &^ bit) }, "address line %d reads as 0", k)
		add(func(_ int, a uint64) (byte, bool) { return get(a | bit) }, "address line %d reads as 1", k)
		add(func(i int, a uint64) (byte, bool) {
			b, ok := get(a ^ bit)
			if s.erased == 0 {
				return b | s.now[i], ok && s.inExpected.has(i)
			}
			return b & s.now[i], ok && s.inExpected.has(i)
		}, "address line %d was open when it was programmed: both halves have the bytes of both", k)
		for j := range k {
			other := uint64(1) << j
			add(func(_ int, a uint64) (byte, bool) {
				if (a&bit == 0) != (a&other == 0) {
					a ^= bit | other
				}
				return get(a)
			}, "address lines %d and %d are exchanged", j, k)
		}
	}
	return list
}

// lineEnds is bytes that were transferred as text.
func lineEnds(s *foretold, r *row) (list []*act) {
	for _, c := range []struct {
		words string
		from  string
		to    string
	}{
		{"each 0A was made 0D 0A", "\n", "\r\n"},
		{"each 0D 0A was made 0A", "\r\n", "\n"},
		{"each 0D was doubled", "\r", "\r\r"},
		{"each 0D was dropped", "\r", ""},
		{"each 00 was dropped", "\x00", ""},
	} {
		texts := s.texts([]byte(c.from), []byte(c.to))
		if !slices.ContainsFunc(texts, func(t *replaced) bool { return bytes.Contains(t.data, t.from) }) {
			continue
		}
		k := 0 // the stretch that was asked for last
		list = append(list, &act{row: r, parameters: 3, whole: true,
			at: func(i int, _ uint64) (byte, bool) {
				if st := &s.stretches[k]; i < st.at || i >= st.at+st.size {
					k = s.stretchIndex(i)
				}
				return texts[k].at(i-s.stretches[k].at, s.erased)
			},
			words: func(*foretold, domain) string { return c.words + ": transferred as text" }})
	}
	return list
}

// texts is what each stretch has from its beginning on, with one text replaced by another.
func (s *foretold) texts(from, to []byte) (list []*replaced) {
	for k := range s.stretches {
		st := &s.stretches[k]
		n := 0
		if s.inExpected == nil {
			n = st.size
		}
		for n < st.size && s.inExpected.has(st.at+n) {
			n++
		}
		list = append(list, &replaced{data: s.now[st.at : st.at+n], from: from, to: to})
	}
	return list
}

// replaced is data in which each text is replaced by another, read from front to back
// without a copy of it all.
type replaced struct {
	data, from, to []byte
	// Where the reading is: what follows in the data up to the next text, and where that is in
	// what comes out.
	in, next, out int
	begun         bool
}

// at returns a byte of what comes out, or a fill after its end, as far as the data reached.
func (t *replaced) at(i int, fill byte) (byte, bool) {
	if !t.begun || i < t.out {
		t.begun, t.in, t.out = true, 0, 0
		t.find()
	}
	for {
		plain := t.next - t.in
		switch {
		case i < t.out+plain:
			return t.data[t.in+i-t.out], true
		case t.next == len(t.data):
			return fill, i < len(t.data)
		case i < t.out+plain+len(t.to):
			return t.to[i-t.out-plain], true
		}
		t.in, t.out = t.next+len(t.from), t.out+plain+len(t.to)
		t.find()
	}
}

// find finds the next text.
func (t *replaced) find() {
	t.next = len(t.data)
	if k := bytes.Index(t.data[t.in:], t.from); k >= 0 {
		t.next = t.in + k
	}
}

// otherImages is another image that was given, in the place of the expected one.
func otherImages(s *foretold, r *row) (list []*act) {
	for k := range s.others {
		o := &s.others[k]
		at := s.laid(o)
		list = append(list, &act{row: r, parameters: math.Log2(float64(len(s.others))) + 1, at: at,
			words: func(s *foretold, d domain) string {
				if !d.all {
					return s.spanOf(d).Range() + " is of " + o.Name
				}
				// All that differs is of the other: which need not have all that was found, nor be
				// found whole.
				has, bytes, whole := domain{from: -1}, uint64(0), true
				for i := range s.found {
					b, ok := at(i, 0)
					found := s.inFound.has(i)
					if !ok {
						whole = whole && !found
						continue
					}
					if bytes++; !found && b != s.erased {
						whole = false
						continue
					}
					if has.to = i + 1; has.from < 0 {
						has.from = i
					}
				}
				if whole && bytes == o.Image.Bytes() {
					return "it is " + o.Name
				}
				return s.spanOf(has).Range() + " is of " + o.Name
			}})
	}
	return list
}

// overOthers is the expected image programmed over another that was given, without an erase.
func overOthers(s *foretold, r *row) (list []*act) {
	for k := range s.others {
		o := &s.others[k]
		at := s.laid(o)
		list = append(list, &act{row: r, parameters: math.Log2(float64(len(s.others))) + 2,
			at: func(i int, a uint64) (byte, bool) {
				b, ok := at(i, a)
				if s.erased == 0 {
					return b | s.now[i], ok && s.inExpected.has(i)
				}
				return b & s.now[i], ok && s.inExpected.has(i)
			},
			words: func(s *foretold, d domain) string {
				return fmt.Sprintf("programmed over %s without an erase, %s", o.Name, s.spoken(d))
			}})
	}
	return list
}

// laid returns what another image has at the places.
func (s *foretold) laid(o *Other) func(int, uint64) (byte, bool) {
	var list []byte
	var inside []bool
	return func(i int, _ uint64) (byte, bool) {
		if list == nil {
			list, inside = make([]byte, len(s.now)), make([]bool, len(s.now))
			for k := range s.stretches {
				st := &s.stretches[k]
				span := memory.Span{First: st.first, Last: st.first + uint64(st.size-1)}
				for r := range o.Image.In(span) {
					at := st.at + int(r.First-st.first)
					copy(list[at:], r.Data)
					for j := range r.Data {
						inside[at+j] = true
					}
				}
			}
		}
		return list[i], inside[i]
	}
}
