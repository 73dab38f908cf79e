package proof

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
)

// lists are the long lists of a large manifest, taken out of its text: the rest is decoded
// and encoded in a small part of the time. Only what stands exactly as a release writes it is
// taken out, so that whatever was edited is still found.
type lists struct {
	runs   map[int][]Span       // by the number of their key in the text
	ranges map[int][]tableRange // likewise
}

const (
	runsKey   = `"runs": [`
	rangesKey = `"ranges": [`
	// leastLifted is how long a manifest is of which lists are taken out.
	leastLifted = 64 << 10
)

// lift returns a manifest's text without its long lists, and these. The keys cannot stand
// within a text of the manifest, where quotes have backslashes.
func lift(text []byte) ([]byte, *lists) {
	l := &lists{runs: map[int][]Span{}, ranges: map[int][]tableRange{}}
	r := scanner{text: string(text)} // one string, of which all addresses are parts
	rest := make([]byte, 0, leastLifted)
	nextRuns, nextRanges := r.key(runsKey, 0), r.key(rangesKey, 0)
	for runs, ranges := 0, 0; nextRuns < len(text) || nextRanges < len(text); {
		begin, isRuns := nextRuns, nextRuns < nextRanges
		if !isRuns {
			begin = nextRanges
		}
		rest = append(rest, text[r.at:begin]...)
		r.at, r.ok = begin, true
		if isRuns {
			if list := r.spans(); r.ok {
				l.runs[runs] = list
			}
			runs, nextRuns = runs+1, r.key(runsKey, begin)
		} else {
			if list := r.ranges(); r.ok {
				l.ranges[ranges] = list
			}
			ranges, nextRanges = ranges+1, r.key(rangesKey, begin)
		}
		if !r.ok {
			r.at = begin
		}
	}
	rest = append(rest, text[r.at:]...)
	if len(rest) > len(text)/2 { // a few addresses do not keep the whole text
		for _, list := range l.runs {
			for i, s := range list {
				list[i] = Span{strings.Clone(s.First), strings.Clone(s.Last)}
			}
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
	long.put(m)
	return m
}

// put puts the lists back into the manifest that the rest was decoded to.
func (l *lists) put(m *Manifest) {
	table := 0
	for i := range m.Products {
		p := &m.Products[i]
		if list, ok := l.runs[i]; ok {
			p.Contents.Runs = list
		}
		for k := range p.Origins.Tables {
			if list, ok := l.ranges[table]; ok {
				p.Origins.Tables[k].Ranges = list
			}
			table++
		}
	}
}

// scanner reads what stands in a list just as it is written.
type scanner struct {
	text string
	at   int
	ok   bool
}

// key returns where what stands behind a key begins, from a place on: the end of the text
// where there is none.
func (r *scanner) key(key string, from int) int {
	if i := strings.Index(r.text[from:], key); i >= 0 {
		return from + i + len(key)
	}
	return len(r.text)
}

// spans reads spans up to the end of their list.
func (r *scanner) spans() (list []Span) {
	for more := true; more && r.ok; {
		r.skip(`{"first": "`)
		first := r.address()
		r.skip(`", "last": "`)
		list = append(doubled(list), Span{first, r.address()})
		r.skip(`"}`)
		more = r.more()
	}
	r.ends()
	return list
}

// doubled returns a list with room for one more: append alone makes long lists by a quarter
// longer, and copies each element four times.
func doubled[T any](list []T) []T {
	if len(list) < cap(list) {
		return list
	}
	return slices.Grow(list, max(len(list), 1))
}

// ranges reads ranges likewise.
func (r *scanner) ranges() (list []tableRange) {
	for more := true; more && r.ok; {
		r.skip(`["`)
		first, _ := strconv.ParseUint(strings.TrimPrefix(r.address(), "0x"), 16, 64)
		r.skip(`"`)
		one := tableRange{First: first}
		one.Size = r.number(64)
		one.Source = int(r.number(31))
		one.Position = r.number(64)
		one.Each = uint8(r.number(8))
		one.Phase = uint8(r.number(8))
		r.skip("]")
		list = append(doubled(list), one)
		more = r.more()
	}
	r.ends()
	return list
}

// ends looks for the end of the list, and stays before it.
func (r *scanner) ends() { r.ok = r.ok && strings.HasPrefix(r.text[r.at:], "]") }

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

// address reads an address: upper-case digits in groups of four, the first of several not 0.
func (r *scanner) address() string {
	const group, most = 4, 16
	begin := r.at
	r.skip("0x")
	from := r.at
	for r.ok && r.at < len(r.text) && (r.text[r.at] >= '0' && r.text[r.at] <= '9' || r.text[r.at] >= 'A' && r.text[r.at] <= 'F') {
		r.at++
	}
	digits := r.text[from:r.at]
	n := len(digits)
	r.ok = r.ok && n > 0 && n%group == 0 && n <= most && (n == group || digits[:group] != "0000")
	return r.text[begin:r.at]
}

// number reads a number of so many bits behind a comma, without digits that it does not need.
func (r *scanner) number(bits int) uint64 {
	r.skip(", ")
	from := r.at
	for r.ok && r.at < len(r.text) && r.text[r.at] >= '0' && r.text[r.at] <= '9' {
		r.at++
	}
	digits := r.text[from:r.at]
	if r.ok = r.ok && (len(digits) == 1 || len(digits) > 1 && digits[0] != '0'); !r.ok {
		return 0
	}
	value, err := strconv.ParseUint(digits, 10, bits)
	r.ok = err == nil
	return value
}
