package chip

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// Faults are what is wrong with a chip, its board or the link to it.
type Faults struct {
	Stuck    []StuckBit
	Dead     []uint64 // addresses in pages that do not take what is programmed
	NoErase  []uint64 // addresses in sectors that do not erase
	Noise    float64  // how often a bit is read wrongly
	Line     *StuckLine
	Drop     []uint64 // bytes that are lost on their way to the device
	Double   []uint64 // bytes that come twice
	Identity []byte   // what the device answers; nil is what it should
	Cut      *Cut
}

// StuckBit is a bit that is always the same.
type StuckBit struct {
	At  uint64
	Bit int
	One bool
}

// StuckLine is an address line that is always the same, so that the same bytes are
// seen twice.
type StuckLine struct {
	Line int
	One  bool
}

func (l *StuckLine) seen(address uint64) uint64 {
	if l.One {
		return address | 1<<l.Line
	}
	return address &^ (1 << l.Line)
}

// Cut is a moment at which the power fails.
type Cut struct {
	Act     int // the act's number, from 1
	When    When
	Reading int // of the undefined bits
}

// When is when, seen from an act, something happens.
type When uint8

// The moments of an act.
const (
	Within When = iota
	Before
	After
)

var whenWords = []string{"within", "before", "after"}

func (w When) String() string { return whenWords[w] }

// String words the cut as a fault is given.
func (c Cut) String() string {
	switch {
	case c.When != Within:
		return fmt.Sprintf("cut %d %s", c.Act, c.When)
	case c.Reading != OwnDraw:
		return fmt.Sprintf("cut %d draw %d", c.Act, c.Reading)
	}
	return fmt.Sprintf("cut %d", c.Act)
}

// OwnDraw is the draw of a cut that names none: any bits.
const OwnDraw = 3

// clean reports whether nothing is wrong with what is written.
func (f *Faults) clean() bool {
	return f.Line == nil && len(f.Dead) == 0 && len(f.Drop) == 0 && len(f.Double) == 0
}

// ReadsWell reports whether what is read is what is there.
func (f *Faults) ReadsWell() bool { return f.Noise == 0 && f.Line == nil }

func (f *Faults) dead(b *Bank, at uint64) bool {
	return slices.ContainsFunc(f.Dead, b.PageOf(at).Contains)
}

// carried returns what arrives of bytes that are sent to be programmed at an
// address: as many, but some lost, or doubled.
func (f *Faults) carried(at uint64, data []byte, erased byte) []byte {
	out := data
	for _, drop := range f.Drop {
		if i := drop - at; drop >= at && i < uint64(len(out)) {
			out = append(slices.Delete(slices.Clone(out), int(i), int(i)+1), erased)
		}
	}
	for _, double := range f.Double {
		if i := double - at; double >= at && i < uint64(len(out)) {
			out = slices.Insert(slices.Clone(out), int(i), out[i])[:len(data)]
		}
	}
	return out
}

// faultKind is a kind of fault: one row of [kinds].
type faultKind struct {
	word, args string // as it is given: the word and what stands behind it
	text       string // what is wrong
	likely     string // what that is at a bench
	// leaves is the kind of damage, by its name in package diagnosis, as which what it leaves
	// in a read-back is recognized; "" is none: single bits, or nothing that is read.
	leaves string
	read   func(f *Faults, r *faultReader, rest string)
	// example gives one for a place in an image, for what it looks like at the bench.
	example func(at uint64, b *Bank, middle int) string
}

// FaultForms returns the forms of faults, with what each is.
func FaultForms() (forms [][2]string) {
	for _, k := range kinds {
		forms = append(forms, [2]string{k.word + " " + k.args, k.text})
	}
	return forms
}

// Example is one fault of a kind, and what it is likely to be at a bench.
type Example struct {
	Fault, Likely string
	Leaves        string // the kind of damage that it leaves, of package diagnosis; "" is none
}

// Examples returns one fault of each kind, at an address of a memory and, where the
// power fails, in an act.
func Examples(at uint64, b *Bank, act int) (list []Example) {
	for _, k := range kinds {
		list = append(list, Example{k.example(at, b, act), k.likely, k.leaves})
	}
	return list
}

func atPlace(word string) func(uint64, *Bank, int) string {
	return func(at uint64, _ *Bank, _ int) string { return fmt.Sprintf("%s 0x%X", word, at) }
}

// kinds are all faults.
var kinds = []faultKind{
	{
		"stuck",
		"ADDRESS.BIT",
		"a bit that is always 0; with =1 after it, always 1",
		"a bit is stuck: the device is damaged or worn out; replace it",
		"",
		func(f *Faults, r *faultReader, rest string) {
			place, one := r.level(rest)
			i := strings.LastIndexByte(place, '.')
			if i < 0 {
				r.fail("no bit of it")
				return
			}
			bit, err := strconv.ParseUint(place[i+1:], 10, 3)
			if err != nil {
				r.fail("bit %q; expected 0 to 7", place[i+1:])
			}
			f.Stuck = append(f.Stuck, StuckBit{r.place(place[:i]), int(bit), one})
		},
		func(at uint64, _ *Bank, _ int) string { return fmt.Sprintf("stuck 0x%X.3", at) },
	},
	{
		"page-dead",
		"ADDRESS",
		"a page that does not take what is programmed",
		"a page cannot be programmed: it is protected, or the device is damaged",
		"filled",
		func(f *Faults, r *faultReader, rest string) { f.Dead = append(f.Dead, r.place(rest)) },
		atPlace("page-dead"),
	},
	{
		"no-erase",
		"ADDRESS",
		"a sector that does not erase",
		"a sector that does not erase: it is protected, or worn out",
		"over another image",
		func(f *Faults, r *faultReader, rest string) { f.NoErase = append(f.NoErase, r.place(rest)) },
		atPlace("no-erase"),
	},
	{
		"noise",
		"P",
		"each bit is read wrongly with the probability P",
		"bits that are read wrongly: the wires of the link, its speed, or the supply",
		"",
		func(f *Faults, r *faultReader, rest string) {
			p, err := strconv.ParseFloat(rest, 64)
			if err != nil || !(p > 0 && p <= 1) {
				r.fail("%q; expected a probability above 0, up to 1, such as 1e-5", rest)
			}
			f.Noise = p
		},
		func(uint64, *Bank, int) string { return "noise 1e-4" },
	},
	{
		"address-line",
		"N",
		"an address line that is always 0; with =1 after it, always 1",
		"an address line is stuck: the socket, its solder, or the device",
		"address line",
		func(f *Faults, r *faultReader, rest string) {
			line, one := r.level(rest)
			n, err := strconv.ParseUint(line, 10, 6)
			if err != nil {
				r.fail("line %q; expected 0 to 63", line)
			}
			f.Line = &StuckLine{int(n), one}
		},
		func(_ uint64, b *Bank, _ int) string { return fmt.Sprintf("address-line %d", bits.Len64(b.PageSize)) },
	},
	{
		"drop",
		"ADDRESS",
		"a byte that is lost on its way, so that the rest of its page moves down",
		"a byte that was lost on its way: the link is too fast, or has no handshake",
		"moved",
		func(f *Faults, r *faultReader, rest string) { f.Drop = append(f.Drop, r.place(rest)) },
		atPlace("drop"),
	},
	{
		"double",
		"ADDRESS",
		"a byte that comes twice, so that the rest of its page moves up",
		"a byte that came twice: a packet was sent again after a time-out",
		"moved",
		func(f *Faults, r *faultReader, rest string) { f.Double = append(f.Double, r.place(rest)) },
		atPlace("double"),
	},
	{
		"identity",
		"BYTES",
		"the device identifies itself as another",
		"another device is connected, or none",
		"",
		func(f *Faults, r *faultReader, rest string) {
			var err error
			if f.Identity, err = span.Bytes(rest); err == nil && len(f.Identity) == 0 {
				r.fail("no bytes")
			} else if err != nil {
				r.err = err
			}
		},
		func(uint64, *Bank, int) string { return "identity 00 00" },
	},
	{
		"cut",
		"N",
		"the power fails within act N; before or after it; or draw D of its undefined bits",
		"the power failed: the supply, the plug, a watchdog of the fixture",
		"filled",
		func(f *Faults, r *faultReader, rest string) { f.Cut, r.err = parseCut(rest) },
		func(_ uint64, _ *Bank, middle int) string { return fmt.Sprintf("cut %d", middle) },
	},
}

// faultReader reads what stands behind a fault's word; the first mistake counts.
type faultReader struct {
	m   *device.Map
	err error
}

func (r *faultReader) fail(format string, args ...any) {
	if r.err == nil {
		r.err = fmt.Errorf(format, args...)
	}
}

// place reads an address at which a device can be programmed.
func (r *faultReader) place(text string) uint64 {
	at, err := span.Address(text, r.m.Names())
	if err != nil && r.err == nil {
		r.err = err
	}
	if mem := r.m.MemoryAt(at); err == nil && (mem == nil || !mem.Programmable()) {
		r.fail("%s is in no memory that can be programmed", memory.FormatAddress(at))
	}
	return at
}

// level takes "=0" or "=1" from what stands before it.
func (r *faultReader) level(text string) (before string, one bool) {
	before, value, given := strings.Cut(text, "=")
	if given && value != "0" && value != "1" {
		r.fail("%q is neither =0 nor =1", "="+value)
	}
	return before, value == "1"
}

// Add adds a fault that is given as a text, in one of the [FaultForms].
func (f *Faults) Add(text string, m *device.Map) error {
	word, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	i := slices.IndexFunc(kinds, func(k faultKind) bool { return k.word == word })
	if i < 0 {
		var words []string
		for _, k := range kinds {
			words = append(words, k.word)
		}
		return fmt.Errorf("unknown fault %q; %s", word, source.DidYouMean(word, words))
	}
	k := &kinds[i]
	r := &faultReader{m: m}
	if k.read(f, r, strings.TrimSpace(rest)); r.err == nil && rest == "" {
		r.err = fmt.Errorf("nothing after %s", word)
	}
	if r.err != nil {
		return fmt.Errorf("%q: %w (%s %s: %s)", text, r.err, k.word, k.args, k.text)
	}
	return nil
}

func parseCut(text string) (*Cut, error) {
	words := strings.Fields(text)
	if len(words) == 0 {
		return nil, fmt.Errorf("no number of an act")
	}
	n, err := strconv.ParseUint(words[0], 10, 31)
	if err != nil || n == 0 {
		return nil, fmt.Errorf("act %q; expected the number of an act, from 1", words[0])
	}
	c := &Cut{Act: int(n), Reading: OwnDraw}
	switch {
	case len(words) == 1:
	case len(words) == 2 && slices.Contains(whenWords, words[1]):
		c.When = When(slices.Index(whenWords, words[1]))
	case len(words) == 3 && words[1] == "draw":
		d, err := strconv.ParseUint(words[2], 10, 16)
		if err != nil {
			return nil, fmt.Errorf("draw %q; expected a number", words[2])
		}
		c.Reading = int(d)
	default:
		return nil, fmt.Errorf("%q after the act; expected before, after, or draw D", strings.Join(words[1:], " "))
	}
	return c, nil
}
