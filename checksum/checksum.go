// Package checksum computes check values over the bytes of images, as loaders
// and start-up code compute them on the device.
package checksum

import (
	"fmt"
	"hash/crc32"
	"strings"

	"mexalt/memory"
)

// Kind is one algorithm.
type Kind struct {
	Name  string // as the public CRC catalogue has it
	Width int    // of the value, in bytes

	update func(value uint64, data []byte) uint64
}

// kinds are all algorithms.
var kinds = []*Kind{
	{Name: "CRC-32/ISO-HDLC", Width: 4, update: func(v uint64, data []byte) uint64 {
		return uint64(crc32.Update(uint32(v), crc32.IEEETable, data))
	}},
}

// KindNames returns the names of all algorithms.
func KindNames() []string {
	var names []string
	for _, k := range kinds {
		names = append(names, k.Name)
	}
	return names
}

// KindOfName returns the algorithm of a name, in capitals or not, or nil.
func KindOfName(name string) *Kind {
	for _, k := range kinds {
		if strings.EqualFold(k.Name, name) {
			return k
		}
	}
	return nil
}

// HolesError says that a span to be summed has holes.
type HolesError struct {
	Holes []memory.Span
}

func (e *HolesError) Error() string {
	const most = 8
	var names []string
	for _, h := range e.Holes[:min(len(e.Holes), most)] {
		names = append(names, h.String())
	}
	if more := len(e.Holes) - most; more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	return "there are no bytes at " + strings.Join(names, ", ")
}

// Sum computes the check value over the spans, in the order given. The image
// must hold every byte of them; holes are a [HolesError].
func (k *Kind) Sum(m *memory.Image, spans ...memory.Span) (uint64, error) {
	var holes []memory.Span
	for _, s := range spans {
		holes = append(holes, m.Holes(s)...)
	}
	if len(holes) > 0 {
		return 0, &HolesError{holes}
	}
	value := uint64(0)
	for _, s := range spans {
		for r := range m.In(s) {
			value = k.update(value, r.Data)
		}
	}
	return value, nil
}

// Order is the order in which the bytes of a value are stored.
type Order uint8

const (
	// Little stores the least significant byte first.
	Little Order = iota
	// Big stores the most significant byte first.
	Big
)

// Bytes returns a value as width bytes.
func (o Order) Bytes(value uint64, width int) []byte {
	b := make([]byte, width)
	for i := range b {
		shift := 8 * i
		if o == Big {
			shift = 8 * (width - 1 - i)
		}
		b[i] = byte(value >> shift)
	}
	return b
}
