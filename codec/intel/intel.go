// Package intel reads and writes Intel HEX (Hexadecimal Object File Format
// Specification, revision A, 1988).
//
// A record is a mark ':', and in hex digits the number of data bytes, a
// 16-bit address, a type, the data, and a checksum that makes the sum of all
// bytes 0 modulo 256.
package intel

import (
	"mexalt/codec/format"
	"mexalt/codec/record"
)

// Format is Intel HEX in the table of formats.
var Format = &format.Format{
	Name:  "Intel HEX",
	Word:  "hex",
	Words: []format.Word{{Word: "hex"}, {Word: "ihex"}},
	Extensions: []format.Extension{
		{Ending: ".hex", Word: "hex"},
		{Ending: ".ihex", Word: "hex"},
		{Ending: ".ihx", Word: "hex"},
		{Ending: ".h86", Word: "hex"},
		{Ending: ".mcs", Word: "hex"},
		{Ending: ".eep", Word: "hex"},
	},
	Units: true,
	Mark:  ':',
	Line: func(line []byte) (is, almost bool) {
		is = len(line) > 2 && line[0] == ':' && (record.IsDigit(line[1]) && record.IsDigit(line[2]) || record.MostlyDigits(line))
		return is, !is && almostRecord(line)
	},
	Reader: format.ReadFunc(Read).Reader,
	Writer: func(o format.WriteOptions) format.Writer { return &Writer{Unit: o.Unit} },
}

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
	digitsWithoutData   = 10       // length, address, type, checksum
	defaultLength       = 16
	endRecord           = ":00000001FF"
	addressOfFirstDigit = 1
)

// typeNames are the standard's names of the record types.
var typeNames = [...]string{
	"data", "end of file", "extended segment address",
	"start segment address", "extended linear address", "start linear address",
}
