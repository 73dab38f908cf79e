// Package intel reads and writes Intel HEX (Hexadecimal Object File Format
// Specification, revision A, 1988).
//
// A record is a mark ':', and in hex digits the number of data bytes, a
// 16-bit address, a type, the data, and a checksum that makes the sum of all
// bytes 0 modulo 256.
package intel

import "mexalt/memory"

// Record types.
const (
	typeData            = 0x00
	typeEnd             = 0x01
	typeSegmentAddress  = 0x02 // extended segment address: base = value * 16
	typeStartSegment    = 0x03 // start segment address: CS:IP
	typeLinearAddress   = 0x04 // extended linear address: base = value << 16
	typeStartLinear     = 0x05 // start linear address: EIP
	segment             = 0x1_0000
	lastLinear          = 0xFFFF_FFFF
	lastSegmented       = 0xF_FFFF // what writing with type 02 records reaches
	mostDataBytes       = 255
	digitsWithoutData   = 10 // length, address, type, checksum
	defaultWidth        = 16
	endRecord           = ":00000001FF"
	addressOfFirstDigit = 1
)

// TypeNames are the standard's names of the record types.
var TypeNames = [...]string{
	"data", "end of file", "extended segment address",
	"start segment address", "extended linear address", "start linear address",
}

// HoldsStart reports whether Intel HEX can hold a start address: 32 bits.
func HoldsStart(s memory.Start) bool { return s.Value <= lastLinear }
