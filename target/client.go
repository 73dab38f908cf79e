package target

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"mexalt/source"
)

// Waits say how long a client waits. The zero value of each is as [Waits] says.
type Waits struct {
	Connect time.Duration // for a connection, and a server that is just starting: 10 s
	Quiet   time.Duration // for what a server says unasked when it is connected: 0.3 s
	First   time.Duration // for the first answer: 2 s
	Answer  time.Duration // for any other: 5 s
	Leave   time.Duration // for all that is said on leaving: 1 s
}

func (w Waits) complete() Waits {
	for _, one := range []struct {
		wait *time.Duration
		most time.Duration
	}{
		{&w.Connect, 10 * time.Second}, {&w.Quiet, 300 * time.Millisecond}, {&w.First, 2 * time.Second},
		{&w.Answer, 5 * time.Second}, {&w.Leave, time.Second},
	} {
		if *one.wait == 0 {
			*one.wait = one.most
		}
	}
	return w
}

// Target is a device that a debug server reaches.
type Target struct {
	Address string
	// Ran reports whether the device ran until it was connected: the server said that it
	// stopped it.
	Ran bool
	// Reconnected is how often the link was lost and made again.
	Reconnected int

	ctx     context.Context
	waits   Waits
	conn    net.Conn
	in      *bufio.Reader
	noAcks  bool
	largest uint64            // bytes that are asked for at once
	offers  map[string]string // by the server, in its answer to qSupported
	process string            // of the device's only thread, in hex digits; "" is not told
	before  int               // length of the data that was answered last
	free    func()            // ends that the context ends what is asked
	broken  bool              // nothing more may be asked on this connection
}

// These are how much is asked for at once: at most, and of a server that does not say how
// long its packets may be.
const (
	mostAtOnce    = 0x800
	assumedAtOnce = 0x80
	mostAddress   = 1<<32 - 1 // servers cut higher ones
)

// IsAddress reports whether a text is the address of a server: HOST:PORT.
func IsAddress(text string) bool {
	_, port, err := net.SplitHostPort(text)
	n, err2 := strconv.ParseUint(port, 10, 16)
	return err == nil && err2 == nil && n > 0
}

// Open connects to a debug server, HOST:PORT, and asks what it can do. Connecting stops the
// part. Its context ends everything that is done with the target.
func Open(ctx context.Context, address string, w Waits) (*Target, error) {
	if !IsAddress(address) {
		return nil, &source.Problem{
			File:     address,
			What:     "no address of a debug server",
			Expected: "HOST:PORT, as in localhost:3333",
		}
	}
	t := &Target{Address: address, ctx: ctx, waits: w.complete()}
	if err := t.connect(); err != nil {
		if t.conn != nil {
			t.Close() // it may have stopped the device
		}
		return nil, t.final(err)
	}
	return t, nil
}

// final is an error of the link as it is told.
func (t *Target) final(err error) error {
	if !lost(err) {
		return err
	}
	return &source.SystemError{File: t.Address, Doing: "read", Err: err}
}

// connect makes the link, and asks what the server can do.
func (t *Target) connect() error {
	dialing, stop := context.WithTimeout(t.ctx, t.waits.Connect)
	defer stop()
	conn, err := (&net.Dialer{}).DialContext(dialing, "tcp", t.Address)
	for errors.Is(err, syscall.ECONNREFUSED) && dialing.Err() == nil { // it may be just starting
		const often = 50 * time.Millisecond
		select {
		case <-time.After(often):
		case <-dialing.Done():
		}
		var again error
		if conn, again = (&net.Dialer{}).DialContext(dialing, "tcp", t.Address); dialing.Err() == nil && !timedOut(again) {
			err = again
		}
	}
	if err != nil {
		return t.failed("connect to", err)
	}
	t.conn, t.in, t.noAcks, t.broken, t.before = conn, bufio.NewReader(conn), false, false, 0
	interrupted := make(chan bool)
	undo := context.AfterFunc(t.ctx, func() { conn.SetDeadline(time.Now()); close(interrupted) })
	t.free = func() {
		if !undo() {
			<-interrupted
		}
	}
	return t.hello()
}

// timedOut reports whether nothing came in time.
func timedOut(err error) bool {
	timeout := net.Error(nil)
	return errors.As(err, &timeout) && timeout.Timeout()
}

// failed is what the system, or nobody, said of the link.
func (t *Target) failed(doing string, err error) error {
	if cause := context.Cause(t.ctx); cause != nil {
		return cause
	}
	if timedOut(err) {
		err = fmt.Errorf("no answer within %v", t.waits.Connect)
	}
	return &source.SystemError{File: t.Address, Doing: doing, Err: systemReason(err)}
}

// systemReason is what the system said of a link, without what it was asked.
func systemReason(err error) error {
	if op := (*net.OpError)(nil); errors.As(err, &op) {
		err = op.Err
	}
	if sys := (*os.SyscallError)(nil); errors.As(err, &sys) {
		err = sys.Err
	}
	return err
}

// hello hears what is said unasked, and asks what the server can do.
func (t *Target) hello() error {
	if err := t.heard(); err != nil {
		return err
	}
	answer, err := t.ask("qSupported", t.waits.First)
	if silent := (*silence)(nil); errors.As(err, &silent) {
		return &source.Problem{
			File:     t.Address,
			What:     fmt.Sprintf("the server does not answer within %v", t.waits.First),
			Expected: "a debug server that is free",
			Advice:   source.Advise("end other debuggers, which it may be busy with; or it is no debug server"),
		}
	}
	if err != nil {
		return err
	}
	t.offers = map[string]string{}
	for offer := range strings.SplitSeq(string(answer), ";") {
		name, value, ok := strings.Cut(offer, "=")
		if !ok && offer != "" {
			name, value = offer[:len(offer)-1], offer[len(offer)-1:]
		}
		t.offers[name] = value
	}
	t.largest = assumedAtOnce
	if text, ok := t.offers["PacketSize"]; ok {
		size, err := strconv.ParseUint(text, 16, 32)
		const least = 4 + 2*4 // four bytes in an answer
		if err != nil || size < least {
			return t.malformed("qSupported", answer, "PacketSize=SIZE in hex digits, of 12 or more")
		}
		t.largest = min((size-4)/2, mostAtOnce)
	}
	state, err := t.ask("?", t.waits.Answer)
	if err != nil {
		return err
	}
	switch {
	case len(state) > 0 && (state[0] == 'W' || state[0] == 'X'):
		return &source.Problem{
			File:     t.Address,
			What:     "the server has no device: it answers " + shown(state),
			Expected: "a device that is powered and connected",
		}
	case len(state) < 3 || state[0] != 'S' && state[0] != 'T':
		return t.malformed("?", state, "S or T and a signal in two hex digits")
	}
	t.process = processOf(state)
	if t.offers["QStartNoAckMode"] == "+" {
		switch answer, err := t.ask("QStartNoAckMode", t.waits.Answer); {
		case err != nil:
			return err
		case string(answer) == "OK":
			t.noAcks = true
		}
	}
	return nil
}

// processOf returns the process of a stop reply's thread: 1 of thread:p01.01.
func processOf(state []byte) string {
	_, rest, ok := strings.Cut(string(state), "thread:p")
	id, _, dot := strings.Cut(rest, ".")
	if _, err := strconv.ParseUint(id, 16, 32); !ok || !dot || err != nil {
		return ""
	}
	return strings.TrimLeft(id[:len(id)-1], "0") + id[len(id)-1:]
}

// heard takes what a server says unasked when it is connected: that it stopped the device.
func (t *Target) heard() error {
	for {
		t.conn.SetReadDeadline(time.Now().Add(t.waits.Quiet))
		it, err := next(t.in)
		if timedOut(err) && t.ctx.Err() == nil {
			return nil
		}
		if errors.Is(err, io.EOF) {
			return &source.Problem{
				File:     t.Address,
				What:     "the server closes the connection",
				Expected: "a debug server that is free",
				Advice:   source.Advise("end other debuggers, which it may be busy with"),
			}
		}
		if err != nil && !errors.Is(err, errUnsound) {
			return t.broke("", err)
		}
		if it.kind != begin {
			continue
		}
		t.Ran = t.Ran || len(it.data) > 0 && it.data[0] == 'T'
		if err := t.send([]byte{acknowledged}); err != nil {
			return err
		}
	}
}

// silence is that nothing came in time.
type silence struct {
	asked  string
	waited time.Duration
}

func (e *silence) Error() string {
	return fmt.Sprintf("nothing came within %v as the answer to %s", e.waited, e.asked)
}

// brokenLink is that what came was not as it was sent, or that the link ended.
type brokenLink struct {
	asked string
	err   error
}

func (e *brokenLink) Error() string {
	if e.asked == "" {
		return fmt.Sprintf("the link failed: %v", e.err)
	}
	return fmt.Sprintf("the link failed at %s: %v", e.asked, e.err)
}

func (t *Target) broke(asked string, err error) error {
	if cause := context.Cause(t.ctx); cause != nil {
		return cause
	}
	t.broken = true
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		err = errors.New("the server closed the connection")
	}
	return &brokenLink{asked, systemReason(err)}
}

// lost reports whether a new connection may help.
func lost(err error) bool {
	return errors.As(err, new(*silence)) || errors.As(err, new(*brokenLink))
}

func (t *Target) malformed(asked string, came []byte, expected string) error {
	t.broken = true
	return &source.Problem{
		File:     t.Address,
		What:     fmt.Sprintf("%s was answered with %q", asked, shown(came)),
		Expected: expected,
		Advice:   source.Advise("this is not as the protocol has it; nothing more is asked"),
	}
}

func (t *Target) send(data []byte) error {
	t.conn.SetWriteDeadline(time.Now().Add(t.waits.Answer))
	if _, err := t.conn.Write(data); err != nil {
		return t.broke("", err)
	}
	return nil
}

// mostRepeats is how often a packet is asked for, or sent, again.
const mostRepeats = 3

// ask sends a request and returns its answer.
func (t *Target) ask(request string, wait time.Duration) ([]byte, error) {
	if t.broken {
		return nil, t.broke(request, errors.New("what was asked before has no answer"))
	}
	packet := framed([]byte(request))
	if err := t.send(packet); err != nil {
		return nil, err
	}
	return t.await(request, packet, wait)
}

// await returns the answer to a request that was sent.
func (t *Target) await(request string, packet []byte, wait time.Duration) ([]byte, error) {
	sent, bad := 1, 0
	until := time.Now().Add(wait)
	for {
		t.conn.SetReadDeadline(until)
		if t.ctx.Err() != nil {
			return nil, t.broke(request, nil)
		}
		it, err := next(t.in)
		if timedOut(err) && t.ctx.Err() == nil {
			t.broken = true // a late answer would be taken for that of the next request
			return nil, &silence{request, wait}
		}
		switch {
		case errors.Is(err, errUnsound) && it.kind == begin && !t.noAcks:
			if bad++; bad > mostRepeats {
				return nil, t.broke(request, fmt.Errorf("%w, and it was sent %d times", errUnsound, bad))
			}
			err = t.send([]byte{repeat})
		case errors.Is(err, errUnsound) && it.kind == notification:
			err = nil
		case err != nil:
			return nil, t.broke(request, err)
		case it.kind == repeat && !t.noAcks:
			if sent++; sent > 1+mostRepeats {
				return nil, t.broke(request, fmt.Errorf("the server asked for it %d times", sent))
			}
			err = t.send(packet)
		case it.kind == begin:
			if !t.noAcks {
				if err := t.send([]byte{acknowledged}); err != nil {
					return nil, err
				}
			}
			data, err := plain(it.data)
			if err != nil {
				return nil, t.broke(request, err)
			}
			if request == "?" || !unasked(data) {
				return data, nil
			}
		}
		if err != nil {
			return nil, err
		}
	}
}

// unasked reports whether a packet is none that answers a request for memory, but a stop
// reply or what the device prints.
func unasked(data []byte) bool {
	return len(data) > 0 && (data[0] == 'T' || data[0] == 'O' && string(data) != "OK")
}

// answeredError reports whether an answer is an error, E and two hex digits or a text.
func answeredError(answer []byte) bool {
	return len(answer) > 1 && answer[0] == 'E' && (len(answer) == 3 || answer[1] == '.')
}

// document reads a document that a server offers, in parts; ok is false where it offers none.
func (t *Target) document(object, annex string) (text []byte, ok bool, err error) {
	if t.offers["qXfer:"+object+":read"] != "+" {
		return nil, false, nil
	}
	const atOnce, most = 0x400, 1 << 20
	for {
		request := fmt.Sprintf("qXfer:%s:read:%s:%x,%x", object, annex, len(text), atOnce)
		answer, err := t.ask(request, t.waits.Answer)
		if err != nil {
			return nil, false, err
		}
		if len(answer) == 0 || answeredError(answer) {
			return nil, false, nil
		}
		part := answer[1:]
		again := len(text) > 0 && len(part) > 0 && bytes.Equal(part, text[:min(len(part), len(text))])
		switch {
		case answer[0] != 'm' && answer[0] != 'l' || answer[0] == 'm' && len(part) == 0:
			return nil, false, t.malformed(request, answer, "m or l and a part of the document")
		case again:
			return nil, false, t.malformed(request, answer, "the next part of the document, and not its beginning again")
		case len(text)+len(part) > most:
			return nil, false, &source.Problem{File: t.Address, What: "the document " + object + " does not end", Expected: "1 MiB at most"}
		}
		if text = append(text, part...); answer[0] == 'l' {
			return text, true, nil
		}
	}
}

// memoryAt reads bytes; refused is that the server answered with an error.
func (t *Target) memoryAt(address, size uint64) (data []byte, refused bool, err error) {
	if t.offers["binary-upload"] == "+" {
		data, refused, err = t.binaryAt(address, size)
		if err != nil || refused || data != nil {
			return data, refused, err
		}
		delete(t.offers, "binary-upload") // it is offered, and not known
	}
	request := fmt.Sprintf("m%x,%x", address, size)
	answer, err := t.ask(request, t.waits.Answer)
	if err != nil {
		return nil, false, err
	}
	if answeredError(answer) {
		return nil, true, nil
	}
	if len(answer) == 0 {
		return nil, false, t.malformed(request, answer, "bytes in hex digits; the server does not read memory")
	}
	data, err = hex.DecodeString(string(answer))
	if uint64(len(answer)) != 2*size && (err == nil || len(answer)%2 == 1) && t.before > 0 && len(answer) == 2*t.before {
		return nil, false, t.broke(request, errors.New("the answer before came twice"))
	}
	if err != nil || uint64(len(data)) != size {
		return nil, false, t.malformed(request, answer, fmt.Sprintf("%d hex digits", 2*size))
	}
	t.before = len(data)
	return data, false, nil
}

// binaryAt reads bytes that come as they are, from a server that offers it; no data and no error
// is that it does not know the request.
func (t *Target) binaryAt(address, size uint64) (data []byte, refused bool, err error) {
	request := fmt.Sprintf("x%x,%x", address, size)
	answer, err := t.ask(request, t.waits.Answer)
	switch {
	case err != nil || len(answer) == 0:
		return nil, false, err
	case answeredError(answer):
		return nil, true, nil
	}
	data = answer[1:]
	if answer[0] == 'b' && uint64(len(data)) != size && t.before > 0 && len(data) == t.before {
		return nil, false, t.broke(request, errors.New("the answer before came twice"))
	}
	if answer[0] != 'b' || uint64(len(data)) != size {
		return nil, false, t.malformed(request, answer, fmt.Sprintf("b and %d bytes", size))
	}
	t.before = len(data)
	return data, false, nil
}

// inSync reports by a harmless question whether answers belong to what is asked: an answer
// that came twice would have been taken for that of the request before.
func (t *Target) inSync() error {
	answer, err := t.ask("?", t.waits.Answer)
	if err == nil && (len(answer) < 3 || answer[0] != 'S' && answer[0] != 'T') {
		return t.broke("?", errors.New("an answer came twice"))
	}
	return err
}

// again makes the link anew, after it was lost.
func (t *Target) again() error {
	t.conn.Close()
	t.Reconnected++
	ran := t.Ran
	err := t.connect()
	t.Ran = ran // as it was found
	return err
}

// Close leaves the device as it was found, and says how it was left. It is done though the
// context has ended.
func (t *Target) Close() (left string) {
	defer t.conn.Close()
	if !t.Ran {
		return "the connection was closed; the server did not say that it had stopped the device"
	}
	failed := "the device ran before, and may have been left stopped"
	if t.broken {
		return failed + ": the link was lost"
	}
	t.free()
	t.ctx = context.WithoutCancel(t.ctx)
	answer, err := t.leave("D")
	if err == nil && answeredError(answer) && t.process != "" {
		answer, err = t.leave("D;" + t.process)
	}
	if err != nil || string(answer) != "OK" {
		return failed + ": the server did not let it go on"
	}
	return "the device runs on, as before"
}

// leave asks a server to let the device go on. What was asked before may be answered first.
func (t *Target) leave(request string) ([]byte, error) {
	answer, err := t.ask(request, t.waits.Leave)
	if err == nil && len(answer) > 0 && string(answer) != "OK" && !answeredError(answer) {
		answer, err = t.await(request, framed([]byte(request)), t.waits.Leave)
	}
	return answer, err
}
