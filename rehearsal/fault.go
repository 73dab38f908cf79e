package rehearsal

import (
	"fmt"
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
	Drop     []uint64 // bytes that are lost on their way to the part
	Double   []uint64 // bytes that come twice
	Identity []byte   // what the part answers; nil is what it should
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
	Act  int // the act's number, from 1
	When When
	Draw int // of the undefined bits
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
	case c.Draw != ownDraw:
		return fmt.Sprintf("cut %d draw %d", c.Act, c.Draw)
	}
	return fmt.Sprintf("cut %d", c.Act)
}

// ownDraw is the draw of a cut that names none: any bits.
const ownDraw = 3

// clean reports whether nothing is wrong with what is written.
func (f *Faults) clean() bool {
	return f.Line == nil && len(f.Dead) == 0 && len(f.Drop) == 0 && len(f.Double) == 0
}

// readsWell reports whether what is read is what is there.
func (f *Faults) readsWell() bool { return f.Noise == 0 && f.Line == nil }

func (f *Faults) dead(b *bank, at uint64) bool {
	return slices.ContainsFunc(f.Dead, b.page(at).Contains)
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

// FaultForms are the forms of faults, with what each is.
var FaultForms = [][2]string{
	{"stuck ADDRESS.BIT", "a bit that is always 0; with =1 behind it, always 1"},
	{"page-dead ADDRESS", "a page that does not take what is programmed"},
	{"no-erase ADDRESS", "a sector that does not erase"},
	{"noise P", "each bit is read wrongly with the probability P"},
	{"address-line N", "an address line that is always 0; with =1 behind it, always 1"},
	{"drop ADDRESS", "a byte that is lost on its way, so that the rest of its page moves down"},
	{"double ADDRESS", "a byte that comes twice, so that the rest of its page moves up"},
	{"identity BYTES", "the part says that it is another"},
	{"cut N", "the power fails within act N; before or after it; or draw D of its undefined bits"},
}

// Add adds a fault that is given as a text, in one of the [FaultForms].
func (f *Faults) Add(text string, m *device.Map) error {
	word, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	rest = strings.TrimSpace(rest)
	var err error
	place := func(text string) (at uint64) {
		at, err = span.Address(text, m.Names())
		if err == nil {
			if mem := m.MemoryAt(at); mem == nil || !mem.Programmable() {
				err = fmt.Errorf("%s lies in no memory that can be programmed", memory.FormatAddress(at))
			}
		}
		return at
	}
	level := func(text string) (before string, one bool) {
		before, value, given := strings.Cut(text, "=")
		if given && value != "0" && value != "1" {
			err = fmt.Errorf("%q is neither =0 nor =1", "="+value)
		}
		return before, value == "1"
	}
	switch word {
	case "stuck":
		place1, one := level(rest)
		i := strings.LastIndexByte(place1, '.')
		if i < 0 && err == nil {
			err = fmt.Errorf("no bit of it")
		}
		if err != nil {
			return formError(text, word, err)
		}
		bit, bad := strconv.ParseUint(place1[i+1:], 10, 3)
		at := place(place1[:i])
		if bad != nil {
			return formError(text, word, fmt.Errorf("bit %q; 0 to 7 expected", place1[i+1:]))
		}
		f.Stuck = append(f.Stuck, StuckBit{at, int(bit), one})
	case "page-dead":
		f.Dead = append(f.Dead, place(rest))
	case "no-erase":
		f.NoErase = append(f.NoErase, place(rest))
	case "drop":
		f.Drop = append(f.Drop, place(rest))
	case "double":
		f.Double = append(f.Double, place(rest))
	case "noise":
		p, bad := strconv.ParseFloat(rest, 64)
		if bad != nil || !(p > 0 && p <= 1) {
			return formError(text, word, fmt.Errorf("%q; a probability above 0, up to 1, expected, 1e-5", rest))
		}
		f.Noise = p
	case "address-line":
		line, one := level(rest)
		n, bad := strconv.ParseUint(line, 10, 6)
		if bad != nil {
			return formError(text, word, fmt.Errorf("line %q; 0 to 63 expected", line))
		}
		f.Line = &StuckLine{int(n), one}
	case "identity":
		if f.Identity, err = span.Bytes(rest); err == nil && len(f.Identity) == 0 {
			err = fmt.Errorf("no bytes")
		}
	case "cut":
		f.Cut, err = parseCut(rest)
	default:
		var words []string
		for _, form := range FaultForms {
			w, _, _ := strings.Cut(form[0], " ")
			words = append(words, w)
		}
		return fmt.Errorf("there is no fault %q; %s", word, source.DidYouMean(word, words))
	}
	return formError(text, word, err)
}

func formError(text, word string, err error) error {
	if err == nil {
		if strings.TrimSpace(text) != word {
			return nil
		}
		err = fmt.Errorf("nothing behind %s", word)
	}
	i := slices.IndexFunc(FaultForms, func(form [2]string) bool { return strings.HasPrefix(form[0], word+" ") })
	return fmt.Errorf("%q: %w (%s: %s)", text, err, FaultForms[i][0], FaultForms[i][1])
}

func parseCut(text string) (*Cut, error) {
	words := strings.Fields(text)
	if len(words) == 0 {
		return nil, fmt.Errorf("no number of an act")
	}
	n, err := strconv.ParseUint(words[0], 10, 31)
	if err != nil || n == 0 {
		return nil, fmt.Errorf("act %q; the number of an act, from 1, expected", words[0])
	}
	c := &Cut{Act: int(n), Draw: ownDraw}
	switch {
	case len(words) == 1:
	case len(words) == 2 && slices.Contains(whenWords, words[1]):
		c.When = When(slices.Index(whenWords, words[1]))
	case len(words) == 3 && words[1] == "draw":
		d, err := strconv.ParseUint(words[2], 10, 16)
		if err != nil {
			return nil, fmt.Errorf("draw %q; a number expected", words[2])
		}
		c.Draw = int(d)
	default:
		return nil, fmt.Errorf("%q behind the act; before, after, or draw D expected", strings.Join(words[1:], " "))
	}
	return c, nil
}

// identityIs reports whether an answer is one of the map's identities.
func identityIs(m *device.Map, answer []byte) bool {
	return slices.ContainsFunc(m.Identities, func(d device.Identity) bool { return d.Is(answer) })
}
