package target

import (
	"fmt"
	"slices"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// Identity is what a device says that it is.
type Identity struct {
	Answer []byte // nil is that it was not asked, or did not say
	Why    string // why not
	// Refused reports whether the server refuses to read it where the map says.
	Refused bool
	Is      bool // what the map says
}

// Text says what the device says that it is, by the map.
func (id Identity) Text(m *device.Map) string {
	switch {
	case id.Answer == nil:
		return "not known: " + id.Why
	case id.Is:
		return fmt.Sprintf("% X, %s", id.Answer, m.Name)
	}
	return fmt.Sprintf("% X, not %s", id.Answer, m.Name)
}

// Identify asks the device what it is, where a map says how.
func (t *Target) Identify(m *device.Map) (id Identity, err error) {
	switch {
	case m == nil:
		return Identity{Why: "no device map"}, nil
	case len(m.Identities) == 0:
		return Identity{Why: "the map has no identity"}, nil
	case m.IdentityReadAt == nil:
		return Identity{Why: "the map does not say where a debugger reads it (identity-read-at)"}, nil
	case *m.IdentityReadAt > mostAddress:
		return Identity{Why: "its address goes beyond 32 bits"}, nil
	}
	r := &reader{Target: t}
	answer, refused, err := r.stretch(*m.IdentityReadAt, uint64(len(m.Identities[0].Bytes)))
	switch {
	case err != nil:
		return id, t.final(err)
	case refused:
		return Identity{
			Why:     fmt.Sprintf("the server refuses to read its identity at %s", memory.FormatAddress(*m.IdentityReadAt)),
			Refused: true,
		}, nil
	}
	id = Identity{Answer: answer}
	for _, one := range m.Identities {
		id.Is = id.Is || one.Is(answer)
	}
	return id, nil
}

// Spans picks what is read, of spans that are asked for, or of all that is read by default: the
// memories of the map that can be programmed, or without a map, the flash and the rom that
// the server tells of. What the server's own map does not have is not asked of it: outside.
func (t *Target) Spans(asked []memory.Span, m *device.Map) (spans, outside []memory.Span, err error) {
	memories, err := t.Memories()
	if err != nil {
		return nil, nil, err
	}
	if len(asked) == 0 && m != nil {
		asked = m.Programmable()
	}
	var known, fixed []memory.Span
	for _, one := range memories {
		known = append(known, one.Span)
		if one.Kind != RAM {
			fixed = append(fixed, one.Span)
		}
	}
	if len(asked) == 0 {
		asked = fixed
	}
	if len(asked) == 0 {
		return nil, nil, &source.KeyError{Key: "in", Err: fmt.Errorf(
			"the server gives no memory map; say what to read, or name the device map (`device`)")}
	}
	asked = memory.Union(asked)
	if len(memories) == 0 {
		return apart(asked, m, nil), nil, nil
	}
	within := memory.Intersect(asked, memory.Union(known))
	return apart(within, m, memories), memory.Without(asked, within), nil
}

// apart cuts spans where one memory ends and another begins, so that no request is for both.
func apart(spans []memory.Span, m *device.Map, memories []Memory) (list []memory.Span) {
	var borders []memory.Span
	if m != nil {
		for i := range m.Memories {
			borders = append(borders, m.Memories[i].Span)
		}
	}
	for _, one := range memories {
		borders = append(borders, one.Span)
	}
	for _, s := range spans {
		var cuts []uint64 // where another begins
		for _, b := range borders {
			if b.First > s.First && b.First <= s.Last {
				cuts = append(cuts, b.First)
			}
			if b.Last >= s.First && b.Last < s.Last {
				cuts = append(cuts, b.Last+1)
			}
		}
		slices.Sort(cuts)
		for _, cut := range slices.Compact(cuts) {
			list = append(list, memory.Span{First: s.First, Last: cut - 1})
			s.First = cut
		}
		list = append(list, s)
	}
	return list
}
