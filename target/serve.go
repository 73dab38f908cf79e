package target

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// Server serves a simulated chip to debuggers, one after the other. A debugger reads it, and
// programs its flash; what it writes is collected and programmed when it says that it is
// done. Registers are zeros, and nothing runs.
type Server struct {
	Part *rehearsal.Manual
	// Note is told what is refused, and why: debuggers do not show it. nil is nobody.
	Note func(text string)
	// Machine is that of the programs, as an ELF file names it: ARM is asked for its
	// registers otherwise than others. "" is as the map says.
	Machine string
}

// Session is what one debugger did.
type Session struct {
	Erased     []memory.Span // what it had erased
	Programmed uint64        // bytes
	Read       uint64        // bytes, by CRC too
	Refused    []string      // what was refused, and why; no more than some
	More       int           // that were refused besides
	Lost       uint64        // bytes that it wrote and never said to be done with
	Ended      string        // how it left
}

// packetBytes is how long packets may be that are sent to the server.
const packetBytes = 0x4000

// mostRefused is how many refusals are kept.
const mostRefused = 20

// errPower ends a session: the power failed.
var errPower = errors.New("the power failed")

// Serve serves one debugger until it leaves, or the power is cut, or the context ends.
func (s *Server) Serve(ctx context.Context, conn net.Conn) *Session {
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	c := &serving{Server: s, conn: conn, in: bufio.NewReader(conn), session: &Session{}}
	err := c.run()
	c.session.Lost = c.bytes
	c.session.Erased = memory.Union(c.session.Erased)
	switch {
	case ctx.Err() != nil:
		c.session.Ended = "the server was ended"
	case errors.Is(err, errPower):
		c.session.Ended = errPower.Error()
		s.Part.PowerOn()
	case errors.Is(err, errLeft):
		c.session.Ended = "it detached"
	case errors.Is(err, io.EOF):
		c.session.Ended = "it closed the connection"
	case err != nil:
		c.session.Ended = "the link failed: " + source.Visible(systemReason(err).Error())
	}
	return c.session
}

// Listen serves debuggers at an address, one after the other, until the context ends or so many
// have left; 0 is any number. ready is told where it listens, and each of each that left. An
// address without a host is this machine's own, which no other machine reaches.
func (s *Server) Listen(ctx context.Context, address string, clients int, ready func(address string), each func(*Session)) error {
	host, port, err := net.SplitHostPort(address)
	if err != nil || port == "" {
		return &source.Problem{File: address, What: "no address to listen at", Expected: "HOST:PORT, or :PORT for this machine alone"}
	}
	listener, err := net.Listen("tcp", net.JoinHostPort(cmp.Or(host, "127.0.0.1"), port))
	if err != nil {
		return &source.SystemError{File: address, Doing: "listen at", Err: systemReason(err)}
	}
	defer listener.Close()
	defer context.AfterFunc(ctx, func() { listener.Close() })()
	ready(listener.Addr().String())
	for n := 1; ; n++ {
		conn, err := listener.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return &source.SystemError{File: address, Doing: "listen at", Err: systemReason(err)}
		}
		each(s.Serve(ctx, conn))
		if n == clients || ctx.Err() != nil {
			return nil
		}
	}
}

// errLeft ends a session: the debugger has said that it leaves.
var errLeft = errors.New("it detached")

// serving is a session while it goes on.
type serving struct {
	*Server
	conn    net.Conn
	in      *bufio.Reader
	session *Session
	noAcks  bool
	last    []byte // what was answered last, for a debugger that asks for it again
	written []memory.Run
	bytes   uint64 // of written
}

func (c *serving) run() error {
	for {
		it, err := next(c.in)
		switch {
		case errors.Is(err, errUnsound):
			if _, err := c.conn.Write([]byte{repeat}); err != nil {
				return err
			}
			continue
		case err != nil:
			return err
		case it.kind == repeat && c.last != nil:
			if _, err := c.conn.Write(c.last); err != nil { // the answer, never the deed
				return err
			}
			continue
		case it.kind != begin:
			continue
		}
		if !c.noAcks {
			if _, err := c.conn.Write([]byte{acknowledged}); err != nil {
				return err
			}
		}
		answer, ends := c.answer(it.data)
		if c.Part.PowerFailed {
			return errPower
		}
		if ends != nil && answer == "" {
			return ends
		}
		c.last = framed([]byte(answer))
		if _, err := c.conn.Write(c.last); err != nil {
			return err
		}
		if ends != nil {
			return ends
		}
	}
}

// simple are the answers to what asks for nothing of this chip.
func simple(text string) string {
	switch text {
	case "?", "c", "s", "C", "S":
		return "S05"
	case "vKill", "H", "P", "G":
		return "OK"
	case "qAttached":
		return "1"
	}
	return ""
}

// refusedCode is the number of an error; debuggers do not show it.
const refusedCode = "E01"

// answer answers a packet. Packets that are not known get an empty answer.
func (c *serving) answer(packet []byte) (answer string, ends error) {
	data, err := plain(packet)
	if bytes.HasPrefix(packet, []byte("vFlashWrite:")) || bytes.HasPrefix(packet, []byte("X")) {
		data, err = unescaped(packet), nil // binary: * is a byte like others
	}
	if err != nil {
		return c.refuse(shown(packet), err.Error()), nil
	}
	text := string(data)
	name, rest, _ := strings.Cut(text, ":")
	switch {
	case name == "qSupported":
		return fmt.Sprintf("PacketSize=%x;QStartNoAckMode+;qXfer:memory-map:read+;qXfer:features:read+;binary-upload+", packetBytes), nil
	case text == "QStartNoAckMode":
		c.noAcks = true
		return "OK", nil
	case text == "D" || strings.HasPrefix(text, "D;"):
		return "OK", errLeft
	case text == "k":
		return "", errLeft
	case text == "g":
		return strings.Repeat("0", c.registers()), nil
	case strings.HasPrefix(text, "p"):
		return "00000000", nil
	case strings.HasPrefix(text, "m"):
		return c.read(text[1:]), nil
	case strings.HasPrefix(text, "x"):
		return c.readBinary(text[1:]), nil
	case name == "qCRC":
		return c.crc(rest), nil
	case name == "qXfer":
		return c.document(rest), nil
	case name == "vFlashErase":
		return c.erase(rest), nil
	case name == "vFlashWrite":
		return c.write(rest), nil
	case name == "vFlashDone":
		return c.done(), nil
	case strings.HasPrefix(text, "X") && strings.HasSuffix(name, ",0"):
		return "OK", nil // asks whether binary is understood
	case strings.HasPrefix(text, "X"), strings.HasPrefix(text, "M"):
		return c.refuse("a write to "+source.Visible(name[1:]), "memory is programmed as flash is, erased first"), nil
	case simple(text) != "":
		return simple(text), nil
	case text != "" && simple(text[:1]) != "" && text[0] != '?':
		return simple(text[:1]), nil
	case strings.HasPrefix(text, "vKill;"):
		return "OK", nil
	}
	return "", nil
}

// unescaped returns binary data of a packet.
func unescaped(packet []byte) []byte {
	out := make([]byte, 0, len(packet))
	for i := 0; i < len(packet); i++ {
		if packet[i] == escape && i+1 < len(packet) {
			i++
			out = append(out, packet[i]^escaped)
			continue
		}
		out = append(out, packet[i])
	}
	return out
}

// refuse tells why something is refused.
func (c *serving) refuse(what, why string) string {
	text := what + ": " + why
	if len(c.session.Refused) < mostRefused {
		c.session.Refused = append(c.session.Refused, text)
		if c.Note != nil {
			c.Note("refused " + text)
		}
	} else {
		c.session.More++
	}
	return refusedCode
}

// arm reports whether the programs are for ARM.
func (c *serving) arm() bool { return cmp.Or(c.Machine, c.Part.Chip.Map.Machine) == "ARM" }

// registers is how many hex digits all registers have: r0 to r15 and xpsr, or x0 to x31 and
// pc, of 32 bits each.
func (c *serving) registers() int {
	const digits, armed, others = 8, 17, 33
	if c.arm() {
		return digits * armed
	}
	return digits * others
}

// span reads ADDRESS,SIZE.
func span(text string) (s memory.Span, ok bool) {
	first, size, _ := strings.Cut(text, ",")
	a, err1 := strconv.ParseUint(first, 16, 64)
	n, err2 := strconv.ParseUint(size, 16, 64)
	s, ok = memory.SpanOf(a, n)
	return s, ok && n > 0 && err1 == nil && err2 == nil
}

// bytesAt reads the chip; without ok, why says why not.
func (c *serving) bytesAt(text string, most uint64) (data []byte, why string) {
	s, ok := span(text)
	switch {
	case !ok:
		return nil, "no address and size"
	case s.Size() > most:
		return nil, fmt.Sprintf("more than %s at once", memory.FormatSize(most))
	}
	m := c.Part.Chip.Map
	if at := m.IdentityReadAt; at != nil && c.Part.Chip.Answers() != nil {
		answers := c.Part.Chip.Answers()
		if here, ok := memory.SpanOf(*at, uint64(len(answers))); ok && here.Covers(s) {
			return answers[s.First-here.First : s.Last-here.First+1], ""
		}
	}
	data, failed := c.Part.Read(s)
	if failed != nil {
		return nil, strings.TrimPrefix(failed.What, "refused: ")
	}
	c.session.Read += uint64(len(data))
	return data, ""
}

func (c *serving) read(text string) string {
	data, why := c.bytesAt(text, (packetBytes-4)/2)
	if why != "" {
		return c.refuse("reading "+source.Visible(text), why)
	}
	return hex.EncodeToString(data)
}

// readBinary is read, of which the bytes come as they are.
func (c *serving) readBinary(text string) string {
	data, why := c.bytesAt(text, (packetBytes-4)/2)
	if why != "" {
		return c.refuse("reading "+source.Visible(text), why)
	}
	return "b" + string(escapedBytes(data))
}

func (c *serving) crc(text string) string {
	const most = 64 << 20
	data, why := c.bytesAt(text, most)
	if why != "" {
		return c.refuse("a CRC of "+source.Visible(text), why)
	}
	return fmt.Sprintf("C%08x", crcOf(data))
}

// document answers what asks for a part of a document.
func (c *serving) document(text string) string {
	var all []byte
	kind, rest, _ := strings.Cut(text, ":read:")
	annex, where, _ := strings.Cut(rest, ":")
	switch {
	case kind == "memory-map" && annex == "":
		all = mapText(Memories(c.Part.Chip))
	case kind == "features" && annex == "target.xml" && c.arm():
		all = []byte(armFeatures())
	default:
		return "E00"
	}
	first, size, _ := strings.Cut(where, ",")
	from, err1 := strconv.ParseUint(first, 16, 32)
	n, err2 := strconv.ParseUint(size, 16, 32)
	if err1 != nil || err2 != nil || from > uint64(len(all)) {
		return "E01"
	}
	part := all[from:min(uint64(len(all)), from+min(n, packetBytes-4))]
	if from+uint64(len(part)) == uint64(len(all)) {
		return "l" + string(escapedBytes(part))
	}
	return "m" + string(escapedBytes(part))
}

// armFeatures are the registers of ARM cores that the debugger knows as m-profile.
func armFeatures() string {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0"?><target version="1.0"><architecture>arm</architecture><feature name="org.gnu.gdb.arm.m-profile">`)
	for i := range 13 {
		fmt.Fprintf(&b, `<reg name="r%d" bitsize="32"/>`, i)
	}
	b.WriteString(`<reg name="sp" bitsize="32" type="data_ptr"/><reg name="lr" bitsize="32"/>` +
		`<reg name="pc" bitsize="32" type="code_ptr"/><reg name="xpsr" bitsize="32"/></feature></target>`)
	return b.String()
}

// Memories returns the memories of a chip as a server tells of them: what debuggers program,
// by the sizes of sectors, and what they can read only.
func Memories(c *chip.Chip) (list []Memory) {
	for _, b := range c.Banks {
		switch {
		case b.Kind == device.Config || b.Kind == device.OTP:
			list = append(list, Memory{Kind: ROM, Span: b.Span})
		case len(b.Sectors) > 0 && b.HasSectors():
			for _, s := range b.Sectors {
				list = append(list, Memory{Flash, memory.Span{First: s.First, Last: s.First + s.Size*s.Count - 1}, s.Size})
			}
		default:
			list = append(list, Memory{Flash, b.Span, b.PageSize})
		}
	}
	if at := c.Map.IdentityReadAt; at != nil && len(c.Answers()) > 0 {
		if s, ok := memory.SpanOf(*at, uint64(len(c.Answers()))); ok {
			list = append(list, Memory{Kind: ROM, Span: s})
		}
	}
	slices.SortFunc(list, func(a, b Memory) int { return cmp.Compare(a.Span.First, b.Span.First) })
	return list
}

// flash returns the memory that can be programmed at a span; nil is that there is none.
func (c *serving) flash(s memory.Span) *chip.Bank {
	b := c.Part.Chip.BankAt(s.First)
	if b == nil || !b.Span.Covers(s) || b.Kind == device.Config || b.Kind == device.OTP {
		return nil
	}
	return b
}

func (c *serving) erase(text string) string {
	s, ok := span(text)
	what := "to erase " + source.Visible(text)
	if ok {
		what = "to erase " + s.Range()
	}
	c.dropped()
	if !ok || c.flash(s) == nil {
		return c.refuse(what, "not a span of flash")
	}
	if f := c.Part.Erase(s); f != nil {
		return c.refuse(what, strings.TrimPrefix(f.What, "refused: "))
	}
	c.session.Erased = append(c.session.Erased, s)
	return "OK"
}

// dropped drops what was written and never said to be done with.
func (c *serving) dropped() {
	if c.bytes > 0 {
		c.refuse("what was written ("+memory.FormatBytes(c.bytes)+")", "an erase came before it was said that they are all")
		c.written, c.bytes = nil, 0
	}
}

func (c *serving) write(text string) string {
	first, data, ok := strings.Cut(text, ":")
	at, err := strconv.ParseUint(first, 16, 64)
	s, fits := memory.SpanOf(at, uint64(len(data)))
	if !ok || err != nil || !fits || len(data) == 0 {
		return c.refuse("to write "+shown([]byte(first)), "no address and bytes")
	}
	b := c.flash(s)
	if b == nil {
		return c.refuse("to write "+s.Range(), "not in flash")
	}
	const mostRuns = 1 << 20
	if c.bytes+uint64(len(data)) > c.most() || len(c.written) == mostRuns {
		return c.refuse("to write "+s.Range(), "more than the chip has room for")
	}
	c.bytes += uint64(len(data))
	if n := len(c.written); n > 0 && c.written[n-1].Last()+1 == at {
		c.written[n-1].Data = append(c.written[n-1].Data, data...)
	} else {
		c.written = append(c.written, memory.Run{First: at, Data: []byte(data)})
	}
	return "OK"
}

// most is how much may be written before it is programmed: as much as the chip has.
func (c *serving) most() (n uint64) {
	for _, b := range c.Part.Chip.Banks {
		n += min(b.Span.Size(), chip.MostHeld)
	}
	return min(n, chip.MostHeld)
}

// done programs what was written.
func (c *serving) done() string {
	in := &source.Input{Name: "debugger", Counting: source.Operation}
	var parts []*memory.Image
	for _, r := range c.written {
		if m, ok := memory.FromBytes(r.First, r.Data, in); ok {
			parts = append(parts, m)
		}
	}
	c.written, c.bytes = nil, 0
	image, clashes := memory.Merge(parts, memory.First)
	if clashes != nil && clashes.Differing > 0 {
		return c.refuse("to program", "the same address was written twice, with different bytes")
	}
	if f := c.Part.Program(image); f != nil {
		return c.refuse("to program", strings.TrimPrefix(f.What, "refused: "))
	}
	c.session.Programmed += image.Bytes()
	return "OK"
}
