package target

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// TestReasons says what speaks against programming, of each kind and of all, and which of it
// may be accepted.
func TestReasons(t *testing.T) {
	m := &device.Map{Name: "Brindle"}
	is := Identity{Answer: []byte{1, 0xAB}, Is: true}
	span := func(first, last uint64) memory.Span { return memory.Span{First: first, Last: last} }
	assert.Empty(t, (&Programming{Identity: is}).Reasons(m))
	p := &Programming{
		Identity: Identity{Why: "the map has no identity"},
		Locked:   &source.Problem{What: "locked by a word", Expected: "an unlocked device", Advice: source.Advise("erase it")},
		Written:  []memory.Span{span(0x10, 0x13)}, Unread: []memory.Span{span(0x20, 0x2F), span(0x40, 0x40)},
		Lost: []Loss{{"log", span(0x100, 0x1FF), 1}, {"tables", span(0x200, 0x2FF), 17}},
	}
	all := []Reason{
		{"whether it is the device that the image is for is not known: the map has no identity", "unidentified"},
		{"locked by a word; expected an unlocked device (erase it)", ""},
		{"0x0010..0x0013 (4 bytes) is written once only, and holds other bytes already", ""},
		{"0x0020..0x002F (16 bytes) cannot be read, so that nobody knows what is there: it may be locked", ""},
		{"0x0040 (1 byte) cannot be read, so that nobody knows what is there: it may be locked", ""},
		{"1 byte of log would be erased, and the image has nothing for them", "erased-data:log"},
		{"17 bytes of tables would be erased, and the image has nothing for them", "erased-data:tables"},
	}
	assert.Equal(t, all, p.Reasons(m))
	p.Identity = is
	assert.Equal(t, all[1:], p.Reasons(m))
	p.Identity = Identity{Answer: []byte{1, 0xAC}}
	assert.Equal(t, []Reason{{"it is a different device: 01 AC, not Brindle", ""}}, p.Reasons(m), "all else is of another device")
	assert.Equal(t, "01 AB, Brindle", is.Text(m))
	assert.Empty(t, p.NotLookedAt(), "before anything was read")
	p.Reading, p.Outside = &Reading{Unreadable: []memory.Span{span(0x20, 0x4F)}}, []memory.Span{span(0x30, 0x5F)}
	assert.Equal(t, []memory.Span{span(0x30, 0x3F), span(0x41, 0x5F)}, p.NotLookedAt())
}

// TestNobodyIsAsked says of maps which do not say how a device is asked what it is.
func TestNobodyIsAsked(t *testing.T) {
	at := func(address uint64) *uint64 { return &address }
	one := []device.Identity{{Bytes: []byte{1}}}
	for want, m := range map[string]*device.Map{
		"no device map":           nil,
		"the map has no identity": {},
		"the map does not say where a debugger reads it (identity-read-at)": {Identities: one},
		"its address goes beyond 32 bits":                                   {Identities: one, IdentityReadAt: at(1 << 32)},
	} {
		id, err := (&Target{}).Identify(m)
		require.NoError(t, err)
		assert.Equal(t, Identity{Why: want}, id)
	}
	assert.Equal(t, "0x5, not defined", meaning(&device.Field{}, 5))
}
