package target

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"mexalt/checksum"
	"mexalt/memory"
	"mexalt/source"
)

// ReadOptions say how memory is read.
type ReadOptions struct {
	// Progress is told how much is read; nil is nobody.
	Progress *source.Progress
	// Each is given each stretch as it comes; false ends reading. nil reads all.
	Each func(first uint64, data []byte) bool
	// Again reads everything a second time, and compares.
	Again bool
}

// Reading is what was read.
type Reading struct {
	Image *memory.Image
	// Asked is what was asked for; Unreadable is what of it the server refused.
	Asked, Unreadable []memory.Span
	Ended             bool // before all was read, by Each
	// CRC reports whether the target's own CRC of all that was read was asked for, and is
	// that of the bytes that came; NoCRC that the server computes none.
	CRC, NoCRC bool
	Doubts     []string // what of the bytes may be no memory's contents
}

// UntilDifferent ends reading at the first byte that an image has otherwise.
func UntilDifferent(image *memory.Image) func(first uint64, data []byte) bool {
	return func(first uint64, data []byte) bool {
		s, _ := memory.SpanOf(first, uint64(len(data)))
		for r := range image.In(s) {
			if from := r.First - first; !bytes.Equal(r.Data, data[from:from+uint64(len(r.Data))]) {
				return false
			}
		}
		return true
	}
}

// mostTries is how often a connection is made anew in one place.
const mostTries = 3

// Read reads spans, which are sorted and do not touch one another.
func (t *Target) Read(spans []memory.Span, o ReadOptions) (*Reading, error) {
	out := &Reading{Asked: spans, CRC: true}
	for _, s := range spans {
		if s.Last > mostAddress {
			return nil, &source.Problem{
				File:     t.Address,
				What:     fmt.Sprintf("%s goes beyond 32 bits, and servers cut higher addresses", s),
				Expected: "addresses up to " + memory.FormatAddress(mostAddress),
			}
		}
	}
	o.Progress.Begin("reading "+t.Address, "", int64(memory.SizeOf(spans)))
	in := &source.Input{Name: t.Address, Counting: source.Operation}
	var parts []*memory.Image
	for _, s := range spans {
		r := &reader{Target: t, options: o, out: out}
		if err := r.span(s); err != nil {
			return nil, t.final(err)
		}
		for _, run := range r.runs {
			if m, ok := memory.FromBytes(run.First, run.Data, in); ok {
				parts = append(parts, m)
			}
		}
		if out.Ended {
			break
		}
		if err := r.proven(); err != nil {
			return nil, t.final(err)
		}
	}
	out.Unreadable = memory.Union(out.Unreadable)
	out.Image, _ = memory.Merge(parts, memory.First)
	out.CRC = out.CRC && !out.NoCRC && !out.Ended && !out.Image.Empty()
	if o.Again && !out.Ended {
		if err := t.second(out, o); err != nil {
			return nil, t.final(err)
		}
	}
	out.doubt()
	return out, nil
}

// second reads everything again, and compares.
func (t *Target) second(out *Reading, o ReadOptions) error {
	var spans []memory.Span
	for _, r := range out.Image.Runs() {
		spans = append(spans, r.Span())
	}
	again, err := t.Read(spans, ReadOptions{Progress: o.Progress})
	if err != nil {
		return err
	}
	for _, r := range out.Image.Runs() {
		second := make([]byte, len(r.Data))
		if again.Image.ReadAt(second, r.First) && bytes.Equal(second, r.Data) {
			continue
		}
		i := 0
		for i < len(second) && second[i] == r.Data[i] && again.Image.Holds(r.First+uint64(i)) {
			i++
		}
		return &source.Problem{
			File:     t.Address,
			What:     fmt.Sprintf("read twice, the byte at %s is not the same", memory.FormatAddress(r.First+uint64(i))),
			Expected: "memory that does not change",
			Advice:   source.Advise("it may be no memory, or the link or the supply is not sound"),
		}
	}
	return nil
}

// reader reads one span.
type reader struct {
	*Target
	options ReadOptions
	out     *Reading
	runs    []memory.Run
	tries   int
}

// span reads a span, in as large stretches as the server allows.
func (r *reader) span(s memory.Span) error {
	for at := s.First; ; {
		left := s.Last - at + 1
		data, refused, err := r.stretch(at, r.length(left))
		if err != nil {
			return err
		}
		if refused {
			n, err := r.around(at, left)
			if err != nil {
				return err
			}
			if n == left {
				return nil
			}
			at += n
			continue
		}
		if r.take(at, data); r.out.Ended || uint64(len(data)) == left {
			return nil
		}
		at += uint64(len(data))
	}
}

// length is how much is asked for next, of so much: never as much as was answered before, so
// that an answer that comes twice is not taken for the next.
func (r *reader) length(left uint64) uint64 {
	const word = 8
	n := min(left, r.largest)
	if n == uint64(r.before) && n > 1 {
		if n > 2*word {
			return n - word
		}
		return n / 2
	}
	return n
}

// take takes bytes that came.
func (r *reader) take(at uint64, data []byte) {
	if n := len(r.runs); n > 0 && r.runs[n-1].Last()+1 == at {
		r.runs[n-1].Data = append(r.runs[n-1].Data, data...)
	} else {
		r.runs = append(r.runs, memory.Run{First: at, Data: slices.Clone(data)})
	}
	r.options.Progress.Add(int64(len(data)))
	if r.options.Each != nil && !r.options.Each(at, data) {
		r.out.Ended = true
	}
}

// stretch reads bytes, over a new connection where the link is lost.
func (r *reader) stretch(at, n uint64) (data []byte, refused bool, err error) {
	for {
		data, refused, err = r.memoryAt(at, n)
		if err == nil && refused {
			err = r.inSync() // that it refuses is the answer to this question
		}
		if err == nil {
			r.tries = 0
			return data, refused, nil
		}
		for lost(err) && r.tries < mostTries {
			r.tries++
			if err = r.again(); err == nil {
				break
			}
		}
		if err != nil {
			return nil, false, err
		}
	}
}

// around finds how much, from an address on, the server refuses to read, and returns it.
// Bytes in front of it are read.
func (r *reader) around(at, left uint64) (n uint64, err error) {
	size := min(left, r.largest)
	first, refusedFirst, err := r.stretch(at, 1)
	if err != nil {
		return 0, err
	}
	if !refusedFirst { // the end of memory is within the stretch: halve it
		r.take(at, first)
		n = 1
		for step := size / 2; step > 0 && n < size && !r.out.Ended; step /= 2 {
			data, refused, err := r.stretch(at+n, min(step, size-n))
			if err != nil {
				return 0, err
			}
			if !refused {
				r.take(at+n, data)
				n += uint64(len(data))
			}
		}
		return n, nil
	}
	// Memory may begin again within the stretch: its last byte tells.
	_, refusedLast, err := r.stretch(at+size-1, 1)
	if err != nil {
		return 0, err
	}
	if refusedLast {
		n = size
	} else {
		low, high := uint64(0), size-1 // refused; readable
		for high-low > 1 {
			mid := low + (high-low)/2
			_, refused, err := r.stretch(at+mid, 1)
			if err != nil {
				return 0, err
			}
			if refused {
				low = mid
			} else {
				high = mid
			}
		}
		n = high
	}
	r.out.Unreadable = append(r.out.Unreadable, memory.Span{First: at, Last: at + n - 1})
	r.options.Progress.Add(int64(n))
	return n, nil
}

// crc is the CRC that the protocol has: CRC-32/MPEG-2.
var crc = checksum.CRC{Width: 32, Poly: 0x04C1_1DB7, Init: 0xFFFF_FFFF}

// crcOf is the CRC of bytes.
func crcOf(data []byte) uint32 { return uint32(crc.Sum(1, data)) }

// crcAt asks for the target's own CRC; ok is false where it computes none.
func (t *Target) crcAt(s memory.Span) (value uint32, ok bool, err error) {
	request := fmt.Sprintf("qCRC:%x,%x", s.First, s.Size())
	// It may read all its memory for that, at 100 KiB/s or faster.
	const rate = 100 << 10
	answer, err := t.ask(request, t.waits.Answer+time.Duration(s.Size()/rate)*time.Second)
	if err != nil || len(answer) == 0 || answeredError(answer) {
		return 0, false, err
	}
	n, err := strconv.ParseUint(string(bytes.TrimPrefix(answer, []byte("C"))), 16, 32)
	if again := t.before > 0 && (len(answer) == 2*t.before || len(answer) == 1+t.before); answer[0] != 'C' && again {
		return 0, false, t.broke(request, errors.New("the answer before came twice"))
	}
	if answer[0] != 'C' || err != nil {
		return 0, false, t.malformed(request, answer, "C and a CRC-32 in hex digits")
	}
	return uint32(n), true, nil
}

// proven holds what was read against the target's own CRC, where it computes one.
func (r *reader) proven() error {
	for _, run := range r.runs {
		if r.out.NoCRC {
			return nil
		}
		got, ok, err := r.crcAt(run.Span())
		switch {
		case lost(err):
			r.out.CRC = false
			return r.again()
		case err != nil:
			return err
		case !ok:
			r.out.NoCRC = true
			return nil
		}
		if want := crcOf(run.Data); got != want {
			return &source.Problem{
				File: r.Address,
				What: fmt.Sprintf("%s: by the target's own CRC, %08X, its bytes are others than those that came, %08X", run.Span(),
					got, want),
				Expected: "the same CRC",
				Advice:   source.Advise("read it again; the link is not sound, or the memory changes"),
			}
		}
	}
	return nil
}

// doubt tells what of the bytes may be no memory's contents.
func (out *Reading) doubt() {
	const least = 256
	runs := out.Image.Runs()
	for i := range runs {
		r := &runs[i]
		if len(r.Data) < least {
			continue
		}
		const word = 4
		switch first := r.Data[:word]; {
		case bytes.Count(r.Data, first[:1]) == len(r.Data) && (first[0] == 0xFF || first[0] == 0):
			out.Doubts = append(out.Doubts, fmt.Sprintf("%s: every byte is %02X: it is erased, or there is no memory", r.Span(), first[0]))
		case bytes.Equal(r.Data[word:], r.Data[:len(r.Data)-word]):
			out.Doubts = append(out.Doubts, fmt.Sprintf("%s: the same word again and again, % X: there may be no memory", r.Span(), first))
		}
		for j := range i {
			if bytes.Equal(runs[j].Data, r.Data) {
				out.Doubts = append(out.Doubts,
					fmt.Sprintf("%s has the same bytes as %s: it may be the same memory seen twice", r.Span(), runs[j].Span()))
				break
			}
		}
	}
}
