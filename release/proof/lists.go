package proof

import (
	"bytes"
	"encoding/json"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"
)

// lists are the long lists of a large manifest, taken out of its text: the rest is decoded
// and encoded in a small part of the time. Only what stands exactly as a release writes it is
// taken out, so that whatever was edited is still found.
type lists struct {
	runs   map[int][]Span       // by the number of their key in the text
	ranges map[int][]tableRange // likewise
	blocks map[int]string       // by the number of the runs before them
}

// The lists, in the order of listKeys.
const (
	runsList = iota
	rangesList
	blocksList
)

// listKeys are what the lists stand behind, and rare a byte of each that no list has, by which
// they are found sooner.
var (
	listKeys = [...]string{`"runs": [`, `"ranges": [`, ",\n    \"blocks\": \""}
	rare     = [...]byte{'u', 'g', 'k'}
)

// leastLifted is how long a manifest is of which lists are taken out.
const leastLifted = 64 << 10

// lift returns a manifest's text without its long lists, and these. The keys cannot stand
// within a text of the manifest, where quotes have backslashes.
func lift(text []byte) ([]byte, *lists) {
	whole := string(text) // one string, of which all addresses and blocks are parts
	next := func(kind, from int) int {
		key := listKeys[kind]
		within := strings.IndexByte(key, rare[kind])
		for at := from + within; at < len(whole); at++ {
			i := strings.IndexByte(whole[at:], rare[kind])
			if i < 0 {
				break
			}
			if at += i; strings.HasPrefix(whole[at-within:], key) {
				return at - within
			}
		}
		return len(text)
	}
	var found []*scanner
	var keys [len(listKeys)]int // where the next of each is
	for kind := range keys {
		keys[kind] = next(kind, 0)
	}
	for begin := slices.Min(keys[:]); begin < len(text); begin = slices.Min(keys[:]) {
		kind := slices.Index(keys[:], begin)
		r := &scanner{text: whole, kind: kind, begin: begin, at: begin + len(listKeys[kind]), ok: true}
		keys[kind] = next(kind, r.at)
		r.next = slices.Min(keys[:])
		found = append(found, r)
	}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, r := range found {
		group.Go(func() error { r.list(); return nil })
	}
	group.Wait()
	l := &lists{runs: map[int][]Span{}, ranges: map[int][]tableRange{}, blocks: map[int]string{}}
	rest, at := make([]byte, 0, leastLifted), 0
	runs, ranges := 0, 0
	for _, r := range found {
		rest = append(rest, text[at:r.begin]...)
		at = r.at
		switch r.kind {
		case runsList:
			if r.ok {
				l.runs[runs] = r.spans
			}
			runs++
		case rangesList:
			if r.ok {
				l.ranges[ranges] = r.ranges
			}
			ranges++
		case blocksList:
			if r.ok {
				l.blocks[runs-1] = r.blocks
			}
		}
	}
	rest = append(rest, text[at:]...)
	if len(rest) > len(text)/2 { // a few addresses and blocks do not keep the whole text
		for _, list := range l.runs {
			for i, s := range list {
				list[i] = Span{strings.Clone(s.First), strings.Clone(s.Last)}
			}
		}
		for i, list := range l.blocks {
			l.blocks[i] = strings.Clone(list)
		}
	}
	return rest, l
}

// loadLifted reads a large manifest that stands just as a release writes it; nil is that
// it does not, or is not large.
func loadLifted(text []byte) *Manifest {
	if len(text) < leastLifted {
		return nil
	}
	rest, long := lift(text)
	m := &Manifest{}
	d := json.NewDecoder(bytes.NewReader(rest))
	d.DisallowUnknownFields()
	if d.Decode(m) != nil || m.Schema != Schema {
		return nil
	}
	if is, err := m.isWritten(rest); err != nil || !is {
		return nil
	}
	if !long.put(m) {
		return nil
	}
	return m
}

// put puts the lists back into the manifest that the rest was decoded to. It reports whether
// it is known where they belong, as each product and each table has its key.
func (l *lists) put(m *Manifest) bool {
	table := 0
	for i := range m.Products {
		p := &m.Products[i]
		if p.Contents.Runs == nil {
			return false
		}
		if list, ok := l.runs[i]; ok {
			p.Contents.Runs = list
		}
		if list, ok := l.blocks[i]; ok {
			p.Contents.Blocks = list
		}
		for k := range p.Origins.Tables {
			if p.Origins.Tables[k].Ranges == nil {
				return false
			}
			if list, ok := l.ranges[table]; ok {
				p.Origins.Tables[k].Ranges = list
			}
			table++
		}
	}
	return true
}

// scanner reads a list just as it is written.
type scanner struct {
	text   string
	kind   int
	begin  int // of what is taken out: the list, or the blocks with their key
	at     int // where it is read: its end at last, or its begin where it is not as it is written
	next   int // where the key of the list after it is
	ok     bool
	spans  []Span
	ranges []tableRange
	blocks string
}

// list reads the list to its end.
func (r *scanner) list() {
	switch r.kind {
	case runsList:
		r.begin = r.at
		r.readSpans()
		r.ok = r.ok && strings.HasPrefix(r.text[r.at:], "]")
	case rangesList:
		r.begin = r.at
		r.readRanges()
		r.ok = r.ok && strings.HasPrefix(r.text[r.at:], "]")
	case blocksList:
		r.readBlocks()
	}
	if !r.ok {
		r.at = r.begin
	}
}

// readBlocks reads the blocks of an image, which stand behind how long they are, at the end of
// the image's contents.
func (r *scanner) readBlocks() {
	size := strings.TrimRight(r.text[:r.begin], "0123456789")
	from := r.at
	for r.at < r.next && digits[r.text[r.at]] != noDigit {
		r.at++
	}
	r.blocks = r.text[from:r.at]
	r.ok = r.blocks != "" && strings.HasSuffix(size, `"block": `)
	r.skip("\"\n   }")
	r.at -= len("\n   }")
}

// readSpans reads spans up to the end of their list.
func (r *scanner) readSpans() {
	r.spans = make([]Span, 0, r.most(`{"first": "0x0000", "last": "0x0000"}, `))
	for more := true; more && r.ok; {
		r.skip(`{"first": "`)
		first, _ := r.address()
		r.skip(`", "last": "`)
		last, _ := r.address()
		r.spans = append(r.spans, Span{first, last})
		r.skip(`"}`)
		more = r.more()
	}
}

// most is how many elements the list may have, of which this is a shortest.
func (r *scanner) most(shortest string) int { return (r.next-r.at)/len(shortest) + 1 }

// readRanges reads ranges likewise.
func (r *scanner) readRanges() {
	r.ranges = make([]tableRange, 0, r.most(`["0x0000", 1, 0, 0, 0, 0], `))
	for more := true; more && r.ok; {
		r.skip(`["`)
		_, first := r.address()
		r.skip(`"`)
		one := tableRange{First: first}
		one.Size = r.number(64)
		one.Source = int(r.number(31))
		one.Position = r.number(64)
		one.Each = uint8(r.number(8))
		one.Phase = uint8(r.number(8))
		r.skip("]")
		r.ranges = append(r.ranges, one)
		more = r.more()
	}
}

// skip goes past a text.
func (r *scanner) skip(text string) {
	if r.ok = r.ok && strings.HasPrefix(r.text[r.at:], text); r.ok {
		r.at += len(text)
	}
}

// more goes past what stands between two elements; false is that there is none.
func (r *scanner) more() bool {
	const between = ", "
	if !strings.HasPrefix(r.text[r.at:], between) {
		return false
	}
	r.at += len(between)
	return true
}

// digits are the values of hexadecimal digits, as manifests write them.
var digits = func() (all [256]byte) {
	for i := range all {
		all[i] = noDigit
	}
	for value, digit := range []byte("0123456789ABCDEF") {
		all[digit] = byte(value)
	}
	return all
}()

const noDigit = 0xFF

// address reads an address: upper-case digits in groups of four, the first of several not 0.
func (r *scanner) address() (text string, value uint64) {
	const group, most = 4, 16
	begin := r.at
	r.skip("0x")
	from := r.at
	for r.ok && r.at < len(r.text) && digits[r.text[r.at]] != noDigit {
		value = value<<4 | uint64(digits[r.text[r.at]])
		r.at++
	}
	n := r.at - from
	r.ok = r.ok && n > 0 && n%group == 0 && n <= most && (n == group || r.text[from:from+group] != "0000")
	return r.text[begin:r.at], value
}

// number reads a number of so many bits behind a comma, without digits that it does not need.
func (r *scanner) number(bits int) (value uint64) {
	const sure = 19 // so many decimal digits always fit into 64 bits
	r.skip(", ")
	from := r.at
	for r.ok && r.at < len(r.text) && digits[r.text[r.at]] <= 9 {
		value = value*10 + uint64(digits[r.text[r.at]])
		r.at++
	}
	number := r.text[from:r.at]
	if r.ok = r.ok && (len(number) == 1 || len(number) > 1 && number[0] != '0'); r.ok && len(number) > sure {
		var err error
		value, err = strconv.ParseUint(number, 10, bits)
		r.ok = err == nil
	}
	r.ok = r.ok && value>>(bits-1)>>1 == 0
	return value
}
