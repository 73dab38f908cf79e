// Package target reads a running device through a debug server, by the remote serial protocol
// of debuggers, and serves a simulated chip by it.
//
// The client only reads. It sends no packet that writes memory or registers, or that starts
// what it did not stop, and it does not rely on a server to check what it is sent.
package target

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"

	"mexalt/source"
)

// mostPacket is how long a packet may be, in bytes, as it is sent and when it is expanded.
const mostPacket = 128 << 10

// What a link carries between packets.
const (
	acknowledged = '+'
	repeat       = '-'
	interrupt    = 0x03
	begin        = '$'
	notification = '%'
	end          = '#'
	escape       = '}'
	runLength    = '*'

	escaped   = 0x20 // what an escaped byte is XORed with
	runOffset = 29   // of the character that counts repetitions
)

var (
	errUnsound = errors.New("the checksum of the packet is wrong")
	errLong    = fmt.Errorf("a packet of more than %d bytes", mostPacket)
)

// item is what comes over a link: a packet, or one character between packets.
type item struct {
	kind byte // begin, notification, acknowledged, repeat or interrupt
	data []byte
}

// checksumOf is the sum of all bytes of a packet, modulo 256.
func checksumOf(data []byte) (sum byte) {
	for _, b := range data {
		sum += b
	}
	return sum
}

// framed returns a packet as it is sent.
func framed(data []byte) []byte {
	return fmt.Appendf(nil, "%c%s%c%02x", begin, data, end, checksumOf(data))
}

// escapedBytes returns binary data as it stands in a packet.
func escapedBytes(data []byte) []byte {
	out := make([]byte, 0, len(data)+len(data)/32)
	for _, b := range data {
		if b == begin || b == end || b == escape || b == runLength {
			out = append(out, escape, b^escaped)
		} else {
			out = append(out, b)
		}
	}
	return out
}

// plain returns what a packet says: escaped bytes as they are, repetitions written out.
func plain(data []byte) ([]byte, error) {
	if bytes.IndexByte(data, escape) < 0 && bytes.IndexByte(data, runLength) < 0 {
		return data, nil
	}
	var out []byte
	for i := 0; i < len(data); i++ {
		switch b := data[i]; {
		case b == escape && i+1 < len(data):
			i++
			out = append(out, data[i]^escaped)
		case b == runLength && i+1 < len(data) && len(out) > 0 && data[i+1] > runOffset+2 && data[i+1] < 0x7F:
			i++
			out = append(out, bytes.Repeat(out[len(out)-1:], int(data[i])-runOffset)...)
		case b == escape, b == runLength:
			return nil, fmt.Errorf("%q is no whole packet", shown(data))
		default:
			out = append(out, b)
		}
		if len(out) > mostPacket {
			return nil, errLong
		}
	}
	return out, nil
}

// next returns the next item of a link; other characters between packets are skipped. With
// errUnsound, the packet is there, and not to be believed.
func next(r *bufio.Reader) (it item, err error) {
	for {
		b, err := r.ReadByte()
		if err != nil {
			return it, err
		}
		switch b {
		case acknowledged, repeat, interrupt:
			return item{kind: b}, nil
		case begin, notification:
			it.kind = b
			it.data, err = body(r)
			return it, err
		}
	}
}

// body returns a packet from behind its first character on.
func body(r *bufio.Reader) (data []byte, err error) {
	for {
		b, err := r.ReadByte()
		switch {
		case err != nil:
			return nil, cutShort(err)
		case b == begin: // the one before it was cut short
			data = data[:0]
			continue
		case b != end && len(data) == mostPacket:
			return nil, errLong
		case b != end:
			data = append(data, b)
			continue
		}
		var digits [2]byte
		if _, err := io.ReadFull(r, digits[:]); err != nil {
			return nil, cutShort(err)
		}
		if sum, err := strconv.ParseUint(string(digits[:]), 16, 8); err != nil || byte(sum) != checksumOf(data) {
			return data, errUnsound
		}
		return data, nil
	}
}

// cutShort is the error of a link that ended within a packet.
func cutShort(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// shown prints a packet for messages, as much of it as helps.
func shown(data []byte) string {
	const most = 60
	if len(data) > most {
		return fmt.Sprintf("%s... (%d bytes)", source.Visible(string(data[:most])), len(data))
	}
	return source.Visible(string(data))
}
