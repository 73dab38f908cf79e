package target_test

import (
	"bytes"
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/target"
)

// serve serves a chip for a test.
func serve(t *testing.T, part *rehearsal.Manual) string {
	t.Helper()
	ctx, end := context.WithCancel(context.Background())
	ready, done := make(chan string, 1), make(chan error, 1)
	go func() {
		done <- (&target.Server{Part: part}).Listen(ctx, ":0", 0, func(a string) { ready <- a }, func(*target.Session) {})
	}()
	t.Cleanup(func() {
		end()
		assert.NoError(t, <-done)
	})
	return <-ready
}

// both lays images over each other.
func both(images ...*memory.Image) *memory.Image {
	all, _ := memory.Merge(images, memory.First)
	return all
}

func span(first, last uint64) memory.Span { return memory.Span{First: first, Last: last} }

// TestBeforeAnImageIsProgrammed has images judged for chips that hold something: what changes,
// what is lost, what stays, and which words follow.
func TestBeforeAnImageIsProgrammed(t *testing.T) {
	t.Parallel()
	part := partOf(t, "brindle-b8-32")
	m := part.Chip.Map
	// Sectors have 256 bytes. The image has one and a half of them, a table, and a word.
	app := image(t, 0x0100, bytes.Repeat([]byte{0x11}, 0x180))
	table := image(t, 0x0040_0000, bytes.Repeat([]byte{0x22}, 16))
	word, _ := m.Field("startup_delay")
	require.NotNil(t, word)
	words := image(t, word.At, word.Bytes(word.Default|0x10))
	wanted := both(app, table, words)
	part.Chip.Program(both(image(t, 0x00FE, []byte{1, 0xFF}), image(t, 0x0100, bytes.Repeat([]byte{0x11}, 0x17E)),
		image(t, 0x027E, []byte{3, 0x11}), image(t, 0x0280, []byte{0xFF, 4, 5, 0xFF}), image(t, 0x02FF, []byte{6, 7}),
		image(t, 0x7FFF, []byte{8}), image(t, 0x0040_0000, bytes.Repeat([]byte{0x22}, 16)), image(t, 0x0040_0010, []byte{9}),
		image(t, 0x0040_0300, []byte{10})))
	open := func(at string) *target.Target {
		one, err := target.Open(context.Background(), at, patient)
		require.NoError(t, err)
		t.Cleanup(func() { one.Close() })
		return one
	}
	p, err := open(serve(t, part)).Before(wanted, m, nil)
	require.NoError(t, err)
	assert.True(t, p.Identity.Is)
	assert.Equal(t, []byte{0xB8, 0x32, 1}, p.Identity.Answer)
	assert.False(t, p.Same)
	assert.Nil(t, p.Locked)
	assert.Empty(t, p.Unread)
	assert.Empty(t, p.Outside)
	assert.Empty(t, p.Written)
	assert.Equal(t, []target.Loss{{Where: "application", Span: span(0x027E, 0x027E), Bytes: 1},
		{Where: "configuration", Span: span(word.At, word.At), Bytes: 1}}, p.Changes)
	assert.Equal(t, []target.Loss{{Where: "application", Span: span(0x0281, 0x02FF), Bytes: 3}}, p.Lost,
		"the rest of a sector that is erased")
	assert.Equal(t, []target.Loss{
		{Where: "application", Span: span(0x00FE, 0x0300), Bytes: 2}, {Where: "bootloader", Span: span(0x7FFF, 0x7FFF), Bytes: 1},
		{Where: "calibration", Span: span(0x0040_0010, 0x0040_0010), Bytes: 1},
		{Where: "gauge_log", Span: span(0x0040_0300, 0x0040_0300), Bytes: 1},
	}, p.Kept)
	require.Len(t, p.Words, 1)
	assert.Equal(t, target.WordChange{
		Word: word, Now: word.Default, Then: word.Default | 0x10,
		Fields: []target.FieldChange{{Name: "startup_delay", Now: "50 ms", Then: "5 ms"}},
	}, p.Words[0])

	assert.Equal(t, []target.Reason{{What: "3 bytes of application would be erased, and the image has nothing for them",
		Accept: "erased-data:application"}}, p.Reasons(m))
	assert.Empty(t, p.NotLookedAt())

	// Of what is there already, nothing changes.
	part.Chip.Program(wanted)
	p, err = open(serve(t, part)).Before(wanted, m, nil)
	require.NoError(t, err)
	assert.True(t, p.Same)
	assert.Empty(t, p.Changes)
	assert.Empty(t, p.Words)
	// Bytes that have no place in the device are never there.
	p, err = open(serve(t, part)).Before(both(wanted, image(t, 0x9000, []byte{1})), m, nil)
	require.NoError(t, err)
	assert.False(t, p.Same)
	p, err = open(serve(t, part)).Before(&memory.Image{}, m, nil)
	require.NoError(t, err)
	assert.False(t, p.Same, "nothing is no yes")

	// A locked device is not read, and that is known by its words where these can be read.
	lock, readOut := m.Field("read_out")
	part.Chip.Program(image(t, lock.At, lock.Bytes(lock.Default&^readOut.Mask())))
	p, err = open(serve(t, part)).Before(app, m, nil)
	require.NoError(t, err)
	assert.Equal(t, []memory.Span{span(0x0100, 0x027F)}, p.Unread)
	assert.False(t, p.Same)
	reasons := p.Reasons(m)
	require.Len(t, reasons, 1)
	assert.Equal(t, target.Reason{What: "0x0100..0x027F (384 bytes) cannot be read, so that nobody knows what is there: it may be locked"}, reasons[0])
	assert.Equal(t, []memory.Span{span(0, 0x00FF), span(0x0280, 0x7FFF), span(0x0040_0000, 0x0040_03FF), span(0x0050_0000, 0x0050_0002)},
		p.NotLookedAt())
	// By an emulator, which reads everything, the words tell.
	f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000"}}
	f.raw = func(request string) string {
		if request == "m600000,3" {
			return "+" + packet("b83201")
		}
		return ""
	}
	p, err = f.open(t).Before(app, m, nil)
	require.NoError(t, err)
	require.NotNil(t, p.Locked)
	assert.Contains(t, p.Locked.What, "by its configuration words, no port of the device lets a programmer read")

	// One-time cells that hold something else are told, as far as they do.
	once := partOf(t, "brindle-m32-512")
	m = once.Chip.Map
	once.Chip.Program(both(image(t, 0x0700_0000, []byte("serial01")), image(t, 0x0700_0010, []byte("serial02"))))
	p, err = open(serve(t, once)).Before(both(image(t, 0x0700_0000, []byte("serial01")),
		image(t, 0x0700_0008, []byte("free----serial03"))), m, nil)
	require.NoError(t, err)
	assert.Equal(t, []memory.Span{span(0x0700_0010, 0x0700_0017)}, p.Written)
	// Of another device, nothing is read.
	other := partOf(t, "brindle-m32-512", "identity 4D 32 05 13")
	p, err = open(serve(t, other)).Before(app, m, nil)
	require.NoError(t, err)
	assert.False(t, p.Identity.Is)
	assert.Nil(t, p.Reading)
	assert.Equal(t, []target.Reason{{What: "it is a different device: 4D 32 05 13, not Brindle M32-512"}}, p.Reasons(m))
	assert.Empty(t, p.NotLookedAt())
	silent := *m
	silent.IdentityReadAt = nil
	p, err = open(serve(t, partOfMap(t, &silent))).Before(app, &silent, nil)
	require.NoError(t, err)
	assert.Equal(t, target.Reason{What: "whether it is the device that the image is for is not known: the map does not say where a " +
		"debugger reads it (identity-read-at)", Accept: "unidentified"}, p.Reasons(m)[0])
}

// TestNoRequestIsForTwoMemories has spans cut where memories meet, by the map or the server's.
func TestNoRequestIsForTwoMemories(t *testing.T) {
	m := partOf(t, "brindle-d32-256").Chip.Map
	one := (&fake{}).open(t)
	spans, outside, err := one.Spans(nil, m)
	require.NoError(t, err)
	assert.Empty(t, outside)
	assert.Equal(t, []memory.Span{span(0x0600_0000, 0x0601_FFFF), span(0x0602_0000, 0x0603_FFFF), span(0x0700_0000, 0x0700_000F)}, spans)
	spans, _, err = one.Spans([]memory.Span{span(0x0601_FFFF, 0x0602_0000), span(0x0602_0000, 0x0602_0001),
		span(0x2800_0000, 0x2800_0001)}, m)
	require.NoError(t, err)
	assert.Equal(t, []memory.Span{span(0x0601_FFFF, 0x0601_FFFF), span(0x0602_0000, 0x0602_0001), span(0x2800_0000, 0x2800_0001)}, spans)
	spans, _, err = one.Spans([]memory.Span{span(0x0602_0000, 0x0603_FFFF)}, m)
	require.NoError(t, err)
	assert.Equal(t, []memory.Span{span(0x0602_0000, 0x0603_FFFF)}, spans)
	spans, _, err = one.Spans([]memory.Span{span(0x05FF_FFFF, 0x0600_0001)}, m)
	require.NoError(t, err)
	assert.Equal(t, []memory.Span{span(0x05FF_FFFF, 0x05FF_FFFF), span(0x0600_0000, 0x0600_0001)}, spans)
	// The server knows of less than the map.
	one = (&fake{answers: map[string]string{
		"qSupported": "PacketSize=4000;qXfer:memory-map:read+",
		"qXfer:memory-map:read::0,400": `l<memory-map><memory type="flash" start="0x6000000" length="0x10000"/><memory type="ram" start="0x6010000" length="0x8"/>` +
			`<memory type="rom" start="0x6010008" length="0"/></memory-map>`,
	}}).open(t)
	spans, outside, err = one.Spans(nil, m)
	require.NoError(t, err)
	assert.Equal(t, []memory.Span{span(0x0600_0000, 0x0600_FFFF), span(0x0601_0000, 0x0601_0007)}, spans)
	assert.Equal(t, []memory.Span{span(0x0601_0008, 0x0603_FFFF), span(0x0700_0000, 0x0700_000F)}, outside)
}
