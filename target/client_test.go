package target_test

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/target"
)

// wanted is what the fake server has at a span.
func wanted(s memory.Span) (data []byte) {
	for a := s.First; a <= s.Last; a++ {
		data = append(data, byte(a)^byte(a>>8))
	}
	return data
}

func held(t *testing.T, m *memory.Image, s memory.Span) []byte {
	t.Helper()
	data := make([]byte, s.Size())
	require.True(t, m.ReadAt(data, s.First), s)
	return data
}

// TestServersAreGreeted has servers that begin in other ways, as real ones do.
func TestServersAreGreeted(t *testing.T) {
	for name, c := range map[string]struct {
		server *fake
		ran    bool
		left   string
		asked  []string
		err    string
	}{
		"it stood": {left: "the connection was closed; the server did not say that it had stopped the device",
			asked: []string{"qSupported", "?"}},
		"it ran, and goes on": {
			server: &fake{hello: "+$T02thread:01;#04", answers: map[string]string{"D": "OK"}},
			ran:    true, left: "the device runs on, as before", asked: []string{"qSupported", "?", "D"},
		},
		"it ran, and another client named processes": {
			server: &fake{hello: "$T02thread:01;#04", answers: map[string]string{"?": "T05thread:p0a.01;", "D": "E22", "D;a": "OK"}},
			ran:    true, left: "the device runs on, as before", asked: []string{"qSupported", "?", "D", "D;a"},
		},
		"it ran, and nobody knows": {
			server: &fake{hello: "$T02thread:01;#04", answers: map[string]string{"D": ""}},
			ran:    true, left: "the device ran before, and may have been left stopped: the server did not let it go on",
			asked: []string{"qSupported", "?", "D"},
		},
		"no acknowledgements": {
			server: &fake{answers: map[string]string{"qSupported": "PacketSize=3fff;QStartNoAckMode+;multiprocess+",
				"QStartNoAckMode": "OK"}},
			left:  "the connection was closed; the server did not say that it had stopped the device",
			asked: []string{"qSupported", "?", "QStartNoAckMode"},
		},
		"no device": {server: &fake{answers: map[string]string{"?": "W00"}}, err: "the server has no device: it answers W00"},
		"no stop reply": {server: &fake{answers: map[string]string{"?": "OK"}},
			err: `? was answered with "OK"; expected S or T and a signal`},
		"a tiny packet": {server: &fake{answers: map[string]string{"qSupported": "PacketSize=b"}},
			err: `qSupported was answered with "PacketSize=b"`},
		"no number": {server: &fake{answers: map[string]string{"qSupported": "PacketSize=zz"}},
			err: `expected PacketSize=SIZE in hex digits`},
		"it says nothing": {server: &fake{raw: func(string) string { return "%" }}, err: "the server does not answer within 200ms"},
		"a bad sum always": {server: &fake{raw: func(string) string { return "+$OK#00" }},
			err: "the checksum of the packet is wrong, and it was sent 4 times"},
		"it wants all again": {server: &fake{raw: func(string) string { return "-" }}, err: "the server asked for it 5 times"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := cmp.Or(c.server, &fake{})
			f.serve(t)
			if name == "a bad sum always" {
				// It is sent again each time that it is asked for.
				f.raw = func(string) string { return "+" + strings.Repeat("$OK#00", 4) }
			}
			if name == "it wants all again" {
				f.raw = func(string) string { return "----" }
			}
			waits := patient
			if name == "it says nothing" {
				waits = soon
			}
			one, err := target.Open(context.Background(), f.address, waits)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.ran, one.Ran)
			assert.Equal(t, c.left, one.Close())
			assert.Equal(t, c.asked, f.asked())
		})
	}
	_, err := target.Open(context.Background(), "nowhere", soon)
	assert.ErrorContains(t, err, "expected HOST:PORT, as in localhost:3333")
	_, err = target.Open(context.Background(), "127.0.0.1:1", soon)
	assert.ErrorContains(t, err, "cannot connect to 127.0.0.1:1: connection refused")
	stopped, stop := context.WithCancel(context.Background())
	stop()
	_, err = target.Open(stopped, (&fake{}).started(t), patient)
	assert.ErrorIs(t, err, context.Canceled)
}

func (f *fake) started(t *testing.T) string {
	f.serve(t)
	return f.address
}

// TestReading reads from a server that has all bytes: each request is within what was asked
// for, none as large as the one before it, and none larger than the server's packets allow.
func TestReading(t *testing.T) {
	t.Parallel()
	for size, most := range map[string]uint64{"": 0x80, "PacketSize=1000": 0x7FE, "PacketSize=4000": 0x800, "PacketSize=c": 4} {
		t.Run(size, func(t *testing.T) {
			t.Parallel()
			f := &fake{answers: map[string]string{"qSupported": size}}
			one := f.open(t)
			spans := []memory.Span{{First: 0x100, Last: 0x2345}, {First: 0x8000, Last: 0x8000}, {First: 0xFFFF_FFF0, Last: 0xFFFF_FFFF}}
			out, err := one.Read(spans, target.ReadOptions{})
			require.NoError(t, err)
			for _, s := range spans {
				assert.Equal(t, wanted(s), held(t, out.Image, s))
			}
			assert.EqualValues(t, memory.SizeOf(spans), out.Image.Bytes())
			assert.Empty(t, out.Unreadable)
			assert.True(t, out.NoCRC)
			assert.False(t, out.CRC)
			o, _ := out.Image.Origin(0x100)
			assert.Equal(t, f.address, o.Place())
			before := uint64(0)
			for _, r := range f.asked() {
				var at, n uint64
				if k, _ := fmt.Sscanf(r, "m%x,%x", &at, &n); k == 2 {
					assert.LessOrEqual(t, n, most)
					assert.True(t, n != before || n == 1, "an answer that came twice would be taken")
					one, _ := memory.SpanOf(at, n)
					assert.True(t, slices.ContainsFunc(spans, func(s memory.Span) bool { return s.Covers(one) }), r)
					before = n
				}
			}
			assertHarmless(t, f.asked())
		})
	}
}

// TestNothingIsAcknowledged reads from a server that agreed to do without acknowledgements, and
// from one that did not.
func TestNothingIsAcknowledged(t *testing.T) {
	t.Parallel()
	for _, answer := range []string{"OK", "E01", ""} {
		f := &fake{answers: map[string]string{"qSupported": "PacketSize=3fff;QStartNoAckMode+", "QStartNoAckMode": answer}}
		one := f.open(t)
		_, err := one.Read([]memory.Span{{First: 0x100, Last: 0x11FF}}, target.ReadOptions{})
		require.NoError(t, err)
		one.Close()
		asked, acks := f.asked(), 0
		require.Equal(t, []string{"qSupported", "?", "QStartNoAckMode"}, asked[:3])
		require.Greater(t, len(asked), 5)
		f.mu.Lock()
		for _, before := range f.between[4:] {
			acks += strings.Count(before, "+")
		}
		f.mu.Unlock()
		if answer == "OK" {
			assert.Zero(t, acks)
		} else {
			assert.GreaterOrEqual(t, acks, len(asked)-4)
		}
	}
}

// TestASecondReadingThatFails has a server that answers nonsense from one request on: wherever that
// is, nothing was read.
func TestASecondReadingThatFails(t *testing.T) {
	t.Parallel()
	span := memory.Span{First: 0x100, Last: 0x4FF}
	count := func(nonsense int) (asked int, err error) {
		f := &fake{}
		f.raw = func(request string) string {
			if strings.HasPrefix(request, "m") {
				if asked++; asked > nonsense {
					return "+" + packet("zz")
				}
			}
			return ""
		}
		one := f.open(t)
		out, err := one.Read([]memory.Span{span}, target.ReadOptions{Again: true})
		if err == nil {
			assert.Equal(t, wanted(span), held(t, out.Image, span))
		}
		return asked, err
	}
	whole, err := count(1000)
	require.NoError(t, err)
	for nonsense := range whole {
		_, err := count(nonsense)
		assert.ErrorContains(t, err, "was answered with", nonsense)
	}
}

// TestWhatCannotBeRead has holes in what a server lets be read: they are found to the byte,
// wherever they lie.
func TestWhatCannotBeRead(t *testing.T) {
	t.Parallel()
	for _, hole := range []memory.Span{
		{First: 0x1000, Last: 0x1000}, {First: 0x1000, Last: 0x17FF}, {First: 0x13FF, Last: 0x1FFF}, {First: 0x1001, Last: 0x2A00},
		{First: 0x2FFF, Last: 0x2FFF}, {First: 0x1000, Last: 0x2FFF}, {First: 0x1234, Last: 0x1234}, {First: 0x17F0, Last: 0x180F},
	} {
		f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000"}}
		f.raw = func(request string) string {
			var at, n uint64
			if k, _ := fmt.Sscanf(request, "m%x,%x", &at, &n); k == 2 && at <= hole.Last && hole.First < at+n {
				return "+" + packet("E14")
			}
			return ""
		}
		one := f.open(t)
		all := memory.Span{First: 0x1000, Last: 0x2FFF}
		out, err := one.Read([]memory.Span{all}, target.ReadOptions{})
		require.NoError(t, err)
		for _, s := range memory.Without([]memory.Span{all}, []memory.Span{hole}) {
			got := held(t, out.Image, s)
			assert.Equal(t, wanted(s), got, hole)
		}
		assert.Equal(t, []memory.Span{hole}, out.Unreadable)
		assert.EqualValues(t, all.Size()-hole.Size(), out.Image.Bytes(), hole)
	}
}

// TestBinaryReading reads bytes as they are from servers that offer it.
func TestBinaryReading(t *testing.T) {
	t.Parallel()
	s := memory.Span{First: 0x1020, Last: 0x1027} // one of them is an escape, one a run length
	for answer, want := range map[string]string{
		packet("b0123}]567"):                      "",
		packet("b0123}\n567"):                     "",
		packet("b0* 4567"):                        "",
		packet(""):                                "",
		packet("b0123456"):                        `x1020,8 was answered with "b0123456"; expected b and 8 bytes`,
		packet("b012345678"):                      "expected b and 8 bytes",
		packet("3031323334"):                      "expected b and 8 bytes",
		packet("b01234567") + packet("b01234567"): "",
	} {
		f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000;binary-upload+"}}
		f.raw = func(request string) string {
			if request == "x1020,8" {
				return "+" + answer
			}
			return ""
		}
		out, err := f.open(t).Read([]memory.Span{s}, target.ReadOptions{})
		if want != "" {
			require.ErrorContains(t, err, want, answer)
			continue
		}
		require.NoError(t, err, answer)
		assert.EqualValues(t, 8, out.Image.Bytes(), answer)
		known := answer != packet("")
		assert.Equal(t, !known, slices.Contains(f.asked(), "m1020,8"), answer)
		if !known {
			assert.Equal(t, wanted(s), held(t, out.Image, s))
		}
		assertHarmless(t, f.asked())
	}
	f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000;binary-upload+"}}
	f.raw = func(request string) string {
		if strings.HasPrefix(request, "x") {
			return "+" + packet("E14")
		}
		return ""
	}
	out, err := f.open(t).Read([]memory.Span{s}, target.ReadOptions{})
	require.NoError(t, err)
	assert.Equal(t, []memory.Span{s}, out.Unreadable)
}

// TestAnErrorThatComesTwice has a server whose error came twice, for what it lets be read: what
// it refuses is never concluded from an answer to another question.
func TestAnErrorThatComesTwice(t *testing.T) {
	t.Parallel()
	all := memory.Span{First: 0x1000, Last: 0x2FFF}
	for _, at := range []string{"m1000,", "m17fe,", "m1ff4,"} {
		once := false
		f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000"}}
		f.raw = func(request string) string {
			if !strings.HasPrefix(request, at) || once {
				return ""
			}
			once = true
			return "+" + packet("E14") + packet("E14")
		}
		one := f.open(t)
		out, err := one.Read([]memory.Span{all}, target.ReadOptions{})
		require.NoError(t, err)
		assert.Empty(t, out.Unreadable, at)
		assert.Equal(t, wanted(all), held(t, out.Image, all))
		assert.NotZero(t, one.Reconnected)
	}
}

// TestAnswersThatAreWrong has each malformed answer told, with what was asked and what came.
func TestAnswersThatAreWrong(t *testing.T) {
	t.Parallel()
	s := memory.Span{First: 0x1000, Last: 0x1003}
	for answer, want := range map[string]string{
		"":           `m1000,4 was answered with ""; expected bytes in hex digits; the server does not read memory`,
		"001":        `m1000,4 was answered with "001"; expected 8 hex digits`,
		"0011":       `m1000,4 was answered with "0011"; expected 8 hex digits`,
		"0011223344": `expected 8 hex digits`,
		"zz112233":   `m1000,4 was answered with "zz112233"`,
		"\x1b[31m!!": `m1000,4 was answered with "\x1B[31m!!"`,
		"OK":         `m1000,4 was answered with "OK"`,
	} {
		f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000", "m1000,4": answer}}
		_, err := f.open(t).Read([]memory.Span{s}, target.ReadOptions{})
		require.Error(t, err, answer)
		assert.Contains(t, err.Error(), strings.ReplaceAll(want, `\x1B`, `\\x1B`)[:min(len(want), 30)], answer)
	}
	_, err := (&fake{}).open(t).Read([]memory.Span{{First: 0x1_0000_0000, Last: 0x1_0000_0003}}, target.ReadOptions{})
	assert.ErrorContains(t, err, "goes beyond 32 bits, and servers cut higher addresses")
	// Run lengths, escapes, and what is said unasked in between.
	f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000"}}
	f.raw = func(request string) string {
		if request == "m1000,4" {
			return "junk+%Stop:T05#4b" + packet("T05thread:01;") + packet("O68656c6c6f") + packet("0* 1") + "rest"
		}
		return ""
	}
	out, err := f.open(t).Read([]memory.Span{s}, target.ReadOptions{})
	require.ErrorContains(t, err, "expected 8 hex digits", "five characters")
	assert.Nil(t, out)
	f.raw = func(request string) string {
		if request == "m1000,4" {
			return "junk+%Stop:T05#4b" + packet("T05thread:01;") + packet("O68656c6c6f") + packet("0*\"11") + "rest"
		}
		return ""
	}
	out, err = f.open(t).Read([]memory.Span{s}, target.ReadOptions{})
	require.NoError(t, err)
	assert.Equal(t, []byte{0, 0, 0, 0x11}, held(t, out.Image, s))
}

// TestLateAnswers has a server that answers too late, once: the late answer is never taken for
// that of the next request, and what was read is right.
func TestLateAnswers(t *testing.T) {
	t.Parallel()
	var slow atomic.Bool
	slow.Store(true)
	f := &fake{answers: map[string]string{"qSupported": "PacketSize=1000"}}
	f.raw = func(request string) string {
		if strings.HasPrefix(request, "m17") && slow.CompareAndSwap(true, false) {
			time.Sleep(2 * soon.Answer)
		}
		return ""
	}
	f.serve(t)
	one, err := target.Open(context.Background(), f.address, soon)
	require.NoError(t, err)
	s := memory.Span{First: 0x1000, Last: 0x2FFF}
	out, err := one.Read([]memory.Span{s}, target.ReadOptions{})
	require.NoError(t, err)
	assert.Equal(t, wanted(s), held(t, out.Image, s))
	assert.NotZero(t, one.Reconnected)
	f.mu.Lock()
	assert.Equal(t, 1+one.Reconnected, f.clients)
	f.mu.Unlock()
	// A server that never answers again is given up.
	f.raw = func(request string) string {
		if strings.HasPrefix(request, "m") {
			return "%"
		}
		return ""
	}
	_, err = one.Read([]memory.Span{s}, target.ReadOptions{})
	assert.ErrorContains(t, err, "nothing came within 200ms as the answer to m1000,7fe")
	assertHarmless(t, f.asked())
}

// TestInterrupted ends a reading at once, and leaves the device as it was.
func TestInterrupted(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	f := &fake{hello: "$T02thread:01;#04", answers: map[string]string{"qSupported": "PacketSize=1000", "D": "OK"}}
	f.serve(t)
	one, err := target.Open(ctx, f.address, patient)
	require.NoError(t, err)
	n := 0
	_, err = one.Read([]memory.Span{{First: 0, Last: 0xFF_FFFF}}, target.ReadOptions{Each: func(uint64, []byte) bool {
		if n++; n == 10 {
			stop()
		}
		return true
	}})
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, "the device runs on, as before", one.Close())
	assert.Less(t, n, 20)
	assert.Equal(t, "D", f.asked()[len(f.asked())-1])
}

// TestInterruptedAtOnce ends a connection before the server has said what it can do: the device
// that it stopped runs on.
func TestInterruptedAtOnce(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	f := &fake{hello: "$T02thread:01;#04", answers: map[string]string{"D": "OK"}}
	f.raw = func(request string) string {
		if request == "qSupported" {
			stop()
			return "+"
		}
		return ""
	}
	f.serve(t)
	_, err := target.Open(ctx, f.address, patient)
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, []string{"qSupported", "D"}, f.asked())
}

// TestMemoryMaps reads maps as servers give them.
func TestMemoryMaps(t *testing.T) {
	t.Parallel()
	const doc = `<?xml version="1.0"?><!DOCTYPE memory-map PUBLIC "+//IDN gnu.org//DTD GDB Memory Map V1.0//EN" "x.dtd"><memory-map>
<memory type="ram" start="0x20000000" length="8192"/>
<memory type="flash" start="0x0" length="0x800"><property name="blocksize">0x400</property></memory><memory type="rom" start="0x10000" length="16"/></memory-map>`
	parts := func(offset, size int) string {
		if offset+size >= len(doc) {
			return "l" + doc[offset:]
		}
		return "m" + doc[offset:offset+size]
	}
	for name, c := range map[string]struct {
		answer func(offset, size int) string
		err    string
	}{
		"in parts":           {func(offset, size int) string { return parts(offset, min(size, 100)) }, ""},
		"all at once":        {func(int, int) string { return "l" + doc }, ""},
		"the first for ever": {func(int, int) string { return "m" + doc[:100] }, "and not its beginning again"},
		"empty for ever":     {func(int, int) string { return "m" }, "expected m or l and a part of the document"},
		"no end":             {func(offset, size int) string { return "m" + fmt.Sprintf("%0*d", 1000, offset) }, "does not end"},
		"no XML":             {func(int, int) string { return "l<memory-map><memory" }, "the server's memory map"},
		"overlapping":        {func(int, int) string { return "l" + strings.Replace(doc, "0x10000", "0x7ff", 1) }, "is in two memories"},
		"no number": {func(int, int) string { return "l" + strings.Replace(doc, "8192", "8k", 1) },
			`start "0x20000000" and length "8k" are no memory`},
		"too long":     {func(int, int) string { return "l" + strings.Replace(doc, "8192", "0xFFFFFFFFFFFFFFFF", 1) }, "are no memory"},
		"another type": {func(int, int) string { return "l" + strings.Replace(doc, "rom", "registers", 1) }, `unknown type "registers"`},
	} {
		f := &fake{answers: map[string]string{"qSupported": "PacketSize=4000;qXfer:memory-map:read+"}}
		f.raw = func(request string) string {
			var offset, size int
			if n, _ := fmt.Sscanf(request, "qXfer:memory-map:read::%x,%x", &offset, &size); n != 2 {
				return ""
			}
			return "+" + packet(c.answer(offset, size))
		}
		one := f.open(t)
		list, err := one.Memories()
		if c.err != "" {
			require.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, []target.Memory{
			{Kind: target.Flash, Span: memory.Span{First: 0, Last: 0x7FF}, Block: 0x400},
			{Kind: target.ROM, Span: memory.Span{First: 0x1_0000, Last: 0x1_000F}},
			{Kind: target.RAM, Span: memory.Span{First: 0x2000_0000, Last: 0x2000_1FFF}},
		}, list, name)
		// RAM is not read unless it is asked for, and nothing outside ever.
		spans, outside, err := one.Spans(nil, nil)
		require.NoError(t, err)
		assert.Equal(t, []memory.Span{{First: 0, Last: 0x7FF}, {First: 0x1_0000, Last: 0x1_000F}}, spans)
		assert.Empty(t, outside)
		spans, outside, err = one.Spans([]memory.Span{{First: 0x700, Last: 0x2000_0003}}, nil)
		require.NoError(t, err)
		assert.Equal(t, []memory.Span{{First: 0x700, Last: 0x7FF}, {First: 0x1_0000, Last: 0x1_000F},
			{First: 0x2000_0000, Last: 0x2000_0003}}, spans)
		assert.Equal(t, []memory.Span{{First: 0x800, Last: 0xFFFF}, {First: 0x1_0010, Last: 0x1FFF_FFFF}}, outside)
	}
	f := &fake{answers: map[string]string{
		"qSupported":                           "PacketSize=4000;qXfer:features:read+",
		"qXfer:features:read:target.xml:0,400": `l<?xml version="1.0"?><!DOCTYPE target SYSTEM "gdb-target.dtd"><target><architecture> riscv:rv32 </architecture><feature name="x"/></target>`,
	}}
	core, err := f.open(t).Architecture()
	require.NoError(t, err)
	assert.Equal(t, "riscv:rv32", core)
	f.answers["qXfer:features:read:target.xml:0,400"] = "l<target>"
	_, err = f.open(t).Architecture()
	assert.ErrorContains(t, err, "the server's description of the core: XML syntax error")
	f = &fake{}
	core, err = f.open(t).Architecture()
	require.NoError(t, err)
	assert.Empty(t, core)
	_, _, err = f.open(t).Spans(nil, nil)
	assert.ErrorContains(t, err, "the server gives no memory map")
	assert.False(t, slices.ContainsFunc(f.asked(), func(r string) bool { return strings.HasPrefix(r, "qXfer") }), "it is not offered")
}

// TestWhatProvesAReading has a server whose own CRC agrees, or not, whose memory changes, and
// memory that may be none.
func TestWhatProvesAReading(t *testing.T) {
	t.Parallel()
	s := memory.Span{First: 0x1000, Last: 0x1FFF}
	crc := fmt.Sprintf("C%x", crc32(wanted(s)))
	read := func(f *fake, o target.ReadOptions, spans ...memory.Span) (*target.Reading, error) {
		return f.open(t).Read(spans, o)
	}
	with := func(answer string) *fake {
		return &fake{answers: map[string]string{"qSupported": "PacketSize=1000", "qCRC:1000,1000": answer}}
	}
	out, err := read(with(crc), target.ReadOptions{}, s)
	require.NoError(t, err)
	assert.True(t, out.CRC)
	assert.False(t, out.NoCRC)
	for _, none := range []string{"", "E01"} {
		out, err = read(with(none), target.ReadOptions{}, s)
		require.NoError(t, err)
		assert.False(t, out.CRC)
		assert.True(t, out.NoCRC)
	}
	_, err = read(with("C0"), target.ReadOptions{}, s)
	assert.ErrorContains(t, err, "0x1000..0x1FFF (4 KiB): by the target's own CRC, 00000000, its bytes are others than those that came")
	for _, bad := range []string{"123", "Cxyz", "C123456789"} {
		_, err = read(with(bad), target.ReadOptions{}, s)
		assert.ErrorContains(t, err, "expected C and a CRC-32 in hex digits", bad)
	}

	// Twice: the same, changed at one place, and refused.
	out, err = read(with(crc), target.ReadOptions{Again: true}, s)
	require.NoError(t, err)
	assert.True(t, out.CRC)
	for _, second := range []string{"changed", "refused"} {
		f, pass := with(""), 0
		f.raw = func(request string) string {
			var at, size uint64
			fmt.Sscanf(request, "m%x,%x", &at, &size)
			if strings.HasPrefix(request, "m1000,") {
				pass++
			}
			if pass < 2 || at > 0x1802 || at+size <= 0x1802 {
				return ""
			}
			if second == "refused" {
				return "+" + packet("E14")
			}
			data := wanted(memory.Span{First: at, Last: at + size - 1})
			data[0x1802-at] ^= 1
			return "+" + packet(fmt.Sprintf("%x", data))
		}
		_, err = read(f, target.ReadOptions{Again: true}, s)
		require.ErrorContains(t, err, "read twice, the byte at 0x1802 is not the same", second)
	}

	// Reading ends at the first difference, in the stretch where it is.
	step := &source.Input{Name: "image", Counting: source.Operation}
	image, _ := memory.FromBytes(s.First, wanted(s), step)
	other, _ := image.Write(step, 0x1900, []byte{1})
	out, err = read(with(crc), target.ReadOptions{Each: target.UntilDifferent(image)}, s)
	require.NoError(t, err)
	assert.False(t, out.Ended)
	f := with(crc)
	out, err = read(f, target.ReadOptions{Each: target.UntilDifferent(other), Again: true}, s)
	require.NoError(t, err)
	assert.True(t, out.Ended)
	assert.False(t, out.CRC)
	assert.Less(t, out.Image.Bytes(), uint64(0x1000))
	assert.True(t, out.Image.Holds(0x1900))
	assert.False(t, slices.ContainsFunc(f.asked(), func(r string) bool { return strings.HasPrefix(r, "qCRC") }))

	// What may be no memory.
	for content, want := range map[string][]string{
		"ff":       {"0x1000..0x10FF (256 bytes): every byte is FF: it is erased, or there is no memory"},
		"00":       {"0x1000..0x10FF (256 bytes): every byte is 00"},
		"a5":       {"the same word again and again, A5 A5 A5 A5: there may be no memory"},
		"efbeadde": {"the same word again and again, EF BE AD DE"},
		"":         nil,
	} {
		f := with("")
		f.raw = func(request string) string {
			var at, size int
			if k, _ := fmt.Sscanf(request, "m%x,%x", &at, &size); k < 2 || content == "" {
				return ""
			}
			all := strings.Repeat(content, 0x400)
			return "+" + packet(all[2*(at&0xFF):2*(at&0xFF)+2*size])
		}
		out, err = read(f, target.ReadOptions{}, memory.Span{First: 0x1000, Last: 0x10FF})
		require.NoError(t, err)
		require.Len(t, out.Doubts, len(want), content)
		for i := range want {
			assert.Contains(t, out.Doubts[i], want[i])
		}
		out, err = read(f, target.ReadOptions{}, memory.Span{First: 0x1000, Last: 0x10FE})
		require.NoError(t, err)
		assert.Empty(t, out.Doubts, "little says nothing")
	}
	f = with("")
	f.raw = func(request string) string {
		var at, size uint64
		if k, _ := fmt.Sscanf(request, "m%x,%x", &at, &size); k < 2 {
			return ""
		}
		at &= 0xFFF
		return "+" + packet(fmt.Sprintf("%x", wanted(memory.Span{First: at, Last: at + size - 1})))
	}
	out, err = read(f, target.ReadOptions{}, memory.Span{First: 0x1000, Last: 0x11FF}, memory.Span{First: 0x3000, Last: 0x31FF},
		memory.Span{First: 0x5100, Last: 0x52FF})
	require.NoError(t, err)
	assert.Equal(t, []string{"0x3000..0x31FF (512 bytes) has the same bytes as 0x1000..0x11FF (512 bytes): it may be the same " +
		"memory seen twice"}, out.Doubts)
}
