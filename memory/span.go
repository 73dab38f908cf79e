package memory

import (
	"fmt"
	"math"
	"math/bits"
	"strings"
)

// Span is a stretch of addresses, both ends included, as data sheets print
// them. A span is never empty: Last is at or above First.
type Span struct {
	First, Last uint64
}

// SpanOf returns the span of size bytes from first. ok is false where size is
// 0 or the span would run past the last 64-bit address.
func SpanOf(first, size uint64) (s Span, ok bool) {
	if size == 0 || size-1 > math.MaxUint64-first {
		return Span{}, false
	}
	return Span{first, first + size - 1}, true
}

// Size returns the number of addresses in the span. The one span whose size
// does not fit, all 2^64 addresses, returns math.MaxUint64.
func (s Span) Size() uint64 {
	n := s.Last - s.First
	if n == math.MaxUint64 {
		return n
	}
	return n + 1
}

// Contains reports whether the address lies in the span.
func (s Span) Contains(address uint64) bool { return s.First <= address && address <= s.Last }

// Covers reports whether all of t lies in the span.
func (s Span) Covers(t Span) bool { return s.First <= t.First && t.Last <= s.Last }

// Meet returns the addresses that both spans hold; ok is false where there
// are none.
func (s Span) Meet(t Span) (both Span, ok bool) {
	both = Span{max(s.First, t.First), min(s.Last, t.Last)}
	return both, both.First <= both.Last
}

// String prints the span as 0x4000..0x7FFF (16 KiB).
func (s Span) String() string {
	rounded, exact := sizeText(s.Size())
	if exact != "" {
		rounded += ", " + exact
	}
	return fmt.Sprintf("%s (%s)", s.Range(), rounded)
}

// Range prints the span without its size, as 0x4000..0x7FFF; a span of one
// address as that address.
func (s Span) Range() string {
	if s.First == s.Last {
		return FormatAddress(s.First)
	}
	last := FormatAddress(s.Last)
	first := FormatAddress(s.First)
	for len(first) < len(last) { // both ends equally wide
		first = "0x0000_" + first[2:]
	}
	return first + ".." + last
}

// PlainAddress writes an address for programs: as [FormatAddress] does, with nothing
// between the digits.
func PlainAddress(a uint64) string { return string(AppendAddress(make([]byte, 0, 2+16), a)) }

// AppendAddress appends an address as [PlainAddress] writes it.
func AppendAddress(text []byte, a uint64) []byte {
	const group, upper = 4, "0123456789ABCDEF"
	text = append(text, '0', 'x')
	for shift := 4 * (max((bits.Len64(a)+15)/16, 1)*group - 1); shift >= 0; shift -= 4 {
		text = append(text, upper[a>>shift&15])
	}
	return text
}

// FormatAddress prints an address as 0x and upper-case digits, at least four,
// grouped by four: 0x0600_4000.
func FormatAddress(a uint64) string {
	digits := PlainAddress(a)[len("0x"):]
	var b strings.Builder
	b.WriteString("0x")
	for i := 0; i < len(digits); i += 4 {
		if i > 0 {
			b.WriteByte('_')
		}
		b.WriteString(digits[i : i+4])
	}
	return b.String()
}

// FormatSize prints a number of bytes in the largest binary unit that it
// reaches, with the exact number beside it where that is not round: 16 KiB,
// 1.5 KiB (1,540 bytes).
func FormatSize(n uint64) string {
	rounded, exact := sizeText(n)
	if exact != "" {
		return fmt.Sprintf("%s (%s)", rounded, exact)
	}
	return rounded
}

func sizeText(n uint64) (rounded, exact string) {
	if n == 1 {
		return "1 byte", ""
	}
	if n < 1024 {
		return fmt.Sprintf("%d bytes", n), ""
	}
	const units = "KMGTPE"
	unit, u := uint64(1024), 0
	for n/unit >= 1024 {
		unit *= 1024
		u++
	}
	if n%unit == 0 {
		return fmt.Sprintf("%d %ciB", n/unit, units[u]), ""
	}
	return fmt.Sprintf("%.1f %ciB", float64(n)/float64(unit), units[u]), FormatCount(n) + " bytes"
}

// FormatBytes prints a number of bytes: 1 byte, 1,234 bytes.
func FormatBytes(n uint64) string {
	if n == 1 {
		return "1 byte"
	}
	return FormatCount(n) + " bytes"
}

// FormatCount prints a number with commas between thousands: 1,234,567.
func FormatCount(n uint64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// FormatNumber prints a number of things, of which noun is one: 1 entry, 2 entries,
// 1,234 lines of text.
func FormatNumber[N int | uint64](n N, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	noun, of, several := strings.Cut(noun, " of ")
	if several {
		of = " of " + of
	}
	switch stem, ends := strings.CutSuffix(noun, "y"); {
	case ends:
		noun = stem + "ies"
	case strings.HasSuffix(noun, "ch"):
		noun += "es"
	default:
		noun += "s"
	}
	return FormatCount(uint64(n)) + " " + noun + of
}

// Proportion returns how many bytes an input of so many may make a result have: 64 times as
// many, and 256 MiB more.
func Proportion(read uint64) uint64 {
	const times, more = 64, 256 << 20
	if read > (math.MaxUint64-more)/times {
		return math.MaxUint64
	}
	return times*read + more
}
