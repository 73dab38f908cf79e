package proof

import (
	"bytes"
	"encoding/json"
	"runtime"
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
	whole := string(text) // one string, of which all addresses are parts
	next := func(key string, from int) int {
		if i := strings.Index(whole[from:], key); i >= 0 {
			return from + i + len(key)
		}
		return len(text)
	}
	var found []*scanner
	runs, ranges := next(runsKey, 0), next(rangesKey, 0)
	for runs < len(text) || ranges < len(text) {
		r := &scanner{text: whole, at: min(runs, ranges), begin: min(runs, ranges), isRuns: runs < ranges, ok: true}
		if r.isRuns {
			runs = next(runsKey, r.at)
		} else {
			ranges = next(rangesKey, r.at)
		}
		r.next = min(runs, ranges)
		found = append(found, r)
	}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, r := range found {
		group.Go(func() error { r.list(); return nil })
	}
	group.Wait()
	l := &lists{runs: map[int][]Span{}, ranges: map[int][]tableRange{}}
	rest, at := make([]byte, 0, leastLifted), 0
	for runs, ranges := 0, 0; runs+ranges < len(found); {
		r := found[runs+ranges]
		rest = append(rest, text[at:r.begin]...)
		at = r.at
		if r.isRuns {
			if r.ok {
				l.runs[runs] = r.spans
			}
			runs++
		} else {
			if r.ok {
				l.ranges[ranges] = r.ranges
			}
			ranges++
		}
	}
	rest = append(rest, text[at:]...)
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

// scanner reads a list just as it is written.
type scanner struct {
	text   string
	begin  int  // of the list
	next   int  // where the list after it begins
	isRuns bool // of spans, not of ranges
	at     int  // where it is read: its end at last, or its begin where it is not as it is written
	ok     bool
	spans  []Span
	ranges []tableRange
}

// list reads the list to its end.
func (r *scanner) list() {
	if r.isRuns {
		r.readSpans()
	} else {
		r.readRanges()
	}
	if r.ok = r.ok && strings.HasPrefix(r.text[r.at:], "]"); !r.ok {
		r.at = r.begin
	}
}

// readSpans reads spans up to the end of their list.
func (r *scanner) readSpans() {
	r.spans = make([]Span, 0, r.elements(`{"first": "0x0000", "last": "0x0000"}`))
	for more := true; more && r.ok; {
		r.skip(`{"first": "`)
		first := r.address()
		r.skip(`", "last": "`)
		r.spans = append(r.spans, Span{first, r.address()})
		r.skip(`"}`)
		more = r.more()
	}
}

// elements returns how many elements the list may have, of which this is a shortest.
func (r *scanner) elements(shortest string) int {
	end := strings.Index(r.text[r.at:r.next], shortest[len(shortest)-1:]+"]")
	return max(end, 0)/len(shortest) + 1
}

// readRanges reads ranges likewise.
func (r *scanner) readRanges() {
	r.ranges = make([]tableRange, 0, r.elements(`["0x0000", 1, 0, 0, 0, 0]`))
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
