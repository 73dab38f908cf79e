package proof

import (
	"bytes"
	"encoding/json"
	"mexalt/memory"
	"strconv"
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
	rest := make([]byte, 0, leastLifted)
	runs, ranges := 0, 0
	for {
		i, j := bytes.Index(text, []byte(runsKey)), bytes.Index(text, []byte(rangesKey))
		if i < 0 && j < 0 {
			return append(rest, text...), l
		}
		at, isRuns := i+len(runsKey), true
		if i < 0 || j >= 0 && j < i {
			at, isRuns = j+len(rangesKey), false
		}
		rest, text = append(rest, text[:at]...), text[at:]
		if isRuns {
			if list, n := spansAt(text); n > 0 {
				l.runs[runs], text = list, text[n:]
			}
			runs++
		} else {
			if list, n := rangesAt(text); n > 0 {
				l.ranges[ranges], text = list, text[n:]
			}
			ranges++
		}
	}
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
	var again bytes.Buffer
	if m.Write(&again) != nil || !bytes.Equal(rest, again.Bytes()) {
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

// spansAt reads spans up to the end of their list; n is how many characters these are, 0
// that they do not stand as they are written.
func spansAt(text []byte) (list []Span, n int) {
	for {
		var first, last []byte
		var ok bool
		if first, n, ok = between(text, n, `{"first": "`); !ok {
			return nil, 0
		}
		if last, n, ok = between(text, n, `", "last": "`); !ok {
			return nil, 0
		}
		list = append(list, Span{string(first), string(last)})
		switch {
		case bytes.HasPrefix(text[n:], []byte(`"}, `)):
			n += len(`"}, `)
		case bytes.HasPrefix(text[n:], []byte(`"}]`)):
			return list, n + len(`"}`)
		default:
			return nil, 0
		}
	}
}

// between reads hex digits, or the x of an address, behind an opening.
func between(text []byte, at int, opening string) (digits []byte, end int, ok bool) {
	if !bytes.HasPrefix(text[at:], []byte(opening)) {
		return nil, 0, false
	}
	at += len(opening)
	end = at
	for end < len(text) && (text[end] >= '0' && text[end] <= '9' || text[end] >= 'A' && text[end] <= 'F' || text[end] == 'x') {
		end++
	}
	return text[at:end], end, true
}

// rangesAt reads ranges likewise.
func rangesAt(text []byte) (list []tableRange, n int) {
	var again []byte
	list = make([]tableRange, 0, bytes.Count(text[:max(bytes.Index(text, []byte("]]")), 0)], []byte("]"))+1)
	for {
		end := bytes.IndexByte(text[n:], ']')
		if end < 0 {
			return nil, 0
		}
		one := text[n : n+end+1]
		var r tableRange
		if r.UnmarshalJSON(one) != nil {
			return nil, 0
		}
		if again = r.text(again[:0], ", "); !bytes.Equal(again, one) {
			return nil, 0
		}
		list, n = append(list, r), n+len(one)
		switch {
		case bytes.HasPrefix(text[n:], []byte(", ")):
			n += len(", ")
		case bytes.HasPrefix(text[n:], []byte("]")):
			return list, n
		default:
			return nil, 0
		}
	}
}

// text appends the range as JSON.
func (p *tableRange) text(to []byte, between string) []byte {
	to = append(append(append(to, `["`...), memory.PlainAddress(p.First)...), '"')
	for _, value := range [...]uint64{p.Size, uint64(p.Source), p.Position, uint64(p.Each), uint64(p.Phase)} {
		to = strconv.AppendUint(append(to, between...), value, 10)
	}
	return append(to, ']')
}
