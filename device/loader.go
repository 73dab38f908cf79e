package device

import (
	"fmt"
	"slices"

	"mexalt/memory"
	"mexalt/source"
)

// Loader is how the bootloader on the device behaves, as far as the map says it.
type Loader struct {
	Retry     Retry
	ReadFault ReadFault
	// CanWrite are the memories that it can write, beside flash; nil is not said.
	CanWrite []string
	// Checks are what must stand at places, beside checksums, for it to start a region.
	Checks []LoaderCheck
	// Pins are what must be as it is in the field for it to start a region.
	Pins []LoaderPin
	Swap *Swap // nil is that it moves nothing
}

// Swap is how a loader moves a new firmware to the place at which it runs: sector by
// sector, by a log that says how far it came.
type Swap struct {
	From, To string      // regions
	Pending  Content     // stands where a swap is wanted
	Done     *Content    // stands where one was done; nil is that nothing says so
	Marks    memory.Span // erased before a swap, programmed as it goes on
	Firm     bool        // each mark is programmed again before it is acted on
}

// Log returns the spans of what says how far a swap came.
func (s *Swap) Log() []memory.Span {
	list := []memory.Span{s.Pending.Span(), s.Marks}
	if s.Done != nil {
		list = append(list, s.Done.Span())
	}
	return memory.Union(list)
}

// LoaderCheck is bytes that must stand at a place for a region to be started: a magic
// value, say.
type LoaderCheck struct {
	Region string
	Content
}

// LoaderPin is a pin that keeps a region from being started, but in the field.
type LoaderPin struct{ Region, Pin string }

// Retry is what a loader does with an update that was cut.
type Retry string

// The retries.
const (
	RetryAlways   Retry = "always"    // the whole plan again, whatever runs
	RetryUntilNew Retry = "until-new" // unless the new runs
	RetrySkips    Retry = "skips"     // what reads right already is left out
	RetryResumes  Retry = "resumes"   // it goes on where it was
)

// nothing is the word for a list of none.
const nothing = "none"

// ReadFault is what a loader does that reads what error correction cannot mend.
type ReadFault string

// The read faults.
const (
	FaultStops ReadFault = "stops" // it starts nothing
	FaultFails ReadFault = "fails" // the guard does not hold
)

// loader loads how the bootloader behaves.
func (l *loader) loader(m *Map, f *loaderFile) {
	m.Loader = Loader{Retry: RetryAlways, ReadFault: FaultStops}
	if f == nil {
		return
	}
	l.keys("loader", "the loader", f)
	if f.Retry != "" {
		m.Loader.Retry = Retry(f.Retry)
	}
	if f.ReadFault != "" {
		m.Loader.ReadFault = ReadFault(f.ReadFault)
		if !slices.ContainsFunc(m.Memories, func(mem Memory) bool { return mem.Corrects }) {
			l.problem("loader.read-fault", "read-fault has no effect without a memory with error correction",
				"ecc = true, or no such key", "")
		}
	}
	can := []string(f.CanWrite)
	if len(can) == 1 && can[0] == nothing {
		can = []string{}
	}
	m.Loader.CanWrite = can
	for i, name := range can {
		k := slices.IndexFunc(m.Memories, func(mem Memory) bool { return mem.Name == name })
		at := l.file.Item("loader.can-write", i)
		switch {
		case k < 0:
			l.problem(at, "unknown memory "+name, "", source.DidYouMean(name, m.memoryNames()))
		case !m.Memories[k].Programmable():
			l.problem(at, fmt.Sprintf("%s is %s, which is not written", name, m.Memories[k].Kind), "", "")
		}
	}
	for i := range f.Checks {
		one := &f.Checks[i]
		path := l.file.Item("loader.checks", i)
		r := m.Region(one.Region)
		if r == nil {
			if !l.lost(one.Region) {
				l.problem(path+".region", "unknown region "+one.Region, "", "")
			}
			continue
		}
		if one.Pin != "" {
			if one.At != "" || one.Bytes != "" || one.Text != "" {
				l.problem(path+".pin", "a pin has no address", "pin, or at with bytes or text", "")
				continue
			}
			m.Loader.Pins = append(m.Loader.Pins, LoaderPin{r.Name, one.Pin})
			continue
		}
		if one.At == "" {
			l.problem(path, "what is looked at has no place", "at = ADDRESS, or pin", "")
			continue
		}
		if held, ok := l.stands(m, path, &contentAtFile{one.At, one.Bytes, one.Text}); ok {
			m.Loader.Checks = append(m.Loader.Checks, LoaderCheck{r.Name, held})
		}
	}
	if f.Swap != nil {
		l.swap(m, f.Swap)
	}
}

// stands loads bytes that stand at a place in a memory.
func (l *loader) stands(m *Map, path string, f *contentAtFile) (h Content, ok bool) {
	whole := &Region{Name: "the device", Span: memory.Span{Last: ^uint64(0)}}
	if h, ok = l.content(m, path, whole, &holdsFile{At: f.At, Bytes: f.Bytes, Text: f.Text}); !ok {
		return h, false
	}
	if mem := m.MemoryAt(h.At); mem == nil || !mem.Span.Covers(h.Span()) {
		l.problem(path+".at", fmt.Sprintf("%s is in no memory, or runs past the end of one", h.Span().Range()), "", "")
		return h, false
	}
	return h, true
}

// swap loads how a loader moves a firmware.
func (l *loader) swap(m *Map, f *swapFile) {
	if !l.keys("loader.swap", "the swap", f) {
		return
	}
	s := Swap{From: f.From, To: f.To, Firm: f.Firm}
	ok := true
	for _, r := range []struct{ key, name string }{{"from", f.From}, {"to", f.To}} {
		if m.Region(r.name) == nil {
			if ok = false; !l.lost(r.name) {
				l.problem("loader.swap."+r.key, "unknown region "+r.name, "", "")
			}
		}
	}
	if ok && f.From == f.To {
		l.problem("loader.swap.to", f.To+" is swapped with itself", "another region", "")
		ok = false
	}
	var sound bool
	s.Pending, sound = l.stands(m, "loader.swap.pending", &f.Pending)
	ok = ok && sound
	if f.Done != nil {
		done, sound := l.stands(m, "loader.swap.done", f.Done)
		s.Done, ok = &done, ok && sound
	}
	s.Marks, sound = l.span(m, "loader.swap.marks", f.Marks)
	if ok = ok && sound; !ok {
		return
	}
	if mem := m.MemoryAt(s.Marks.First); mem == nil || !mem.Span.Covers(s.Marks) || !mem.Programmable() {
		l.problem("loader.swap.marks", fmt.Sprintf("%s is in no memory that can be programmed", s.Marks.Range()), "", "")
		return
	}
	if _, met := s.Pending.Span().Meet(s.Marks); met {
		l.problem("loader.swap.marks", "what says that a swap is wanted is among its marks", "spans that do not overlap", "")
		return
	}
	m.Loader.Swap = &s
}

func (m *Map) memoryNames() (names []string) {
	for _, mem := range m.Memories {
		names = append(names, mem.Name)
	}
	return names
}
