package device

import (
	"fmt"
	"slices"

	"mexalt/memory"
	"mexalt/source"
)

// Loader is how the bootloader on the part behaves, as far as the map says it.
type Loader struct {
	Retry     Retry
	ReadFault ReadFault
	// CanWrite are the memories that it can write, beside flash; nil is not said.
	CanWrite []string
	// Checks are what must stand at places, beside checksums, for it to start a region.
	Checks []LoaderCheck
}

// LoaderCheck is bytes that must stand at a place for a region to be started: a magic
// value, say.
type LoaderCheck struct {
	Region string
	Held
}

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
			l.problem("loader.read-fault", "read-fault has no effect without a memory with error correction", "ecc = true expected, or without it", "")
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
			l.problem(at, "there is no memory "+name, "", source.DidYouMean(name, m.memoryNames()))
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
				l.problem(path+".region", "there is no region "+one.Region, "", "")
			}
			continue
		}
		whole := &Region{Name: "the part", Span: memory.Span{Last: ^uint64(0)}}
		if held, ok := l.held(m, path, whole, &holdsFile{At: one.At, Bytes: one.Bytes, Text: one.Text}); ok {
			s, _ := memory.SpanOf(held.At, uint64(len(held.Bytes)))
			if mem := m.MemoryAt(held.At); mem == nil || !mem.Span.Covers(s) {
				l.problem(path+".at", fmt.Sprintf("%s lies in no memory, or runs past the end of one", s.Range()), "", "")
				continue
			}
			m.Loader.Checks = append(m.Loader.Checks, LoaderCheck{r.Name, held})
		}
	}
}

func (m *Map) memoryNames() (names []string) {
	for _, mem := range m.Memories {
		names = append(names, mem.Name)
	}
	return names
}
