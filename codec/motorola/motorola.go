// Package motorola reads and writes S-records.
//
// A record is 'S', a type digit, and in hex digits the count of the bytes that
// follow, an address, the data, and a checksum: the one's complement of the
// low byte of the sum of count, address and data. The checksum does not cover
// the type digit, so a damaged one can turn a record into another sound one;
// the reader looks for that.
//
// There is no standard of a body; the format is as the maker of the first
// parts that used it published it (the processor family's reference manual, appendix on
// the S-record output format), with S5 and S6 as linkers write them since.
package motorola

import (
	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/source"
)

// Format is S-record in the table of formats.
var Format = &format.Format{
	Name: "S-record",
	Word: "srec",
	Words: []format.Word{
		{Word: "s19", Settings: []source.Setting{{Key: kindKey, Value: "1"}}},
		{Word: "s28", Settings: []source.Setting{{Key: kindKey, Value: "2"}}},
		{Word: "s37", Settings: []source.Setting{{Key: kindKey, Value: "3"}}},
		{Word: "srec"},
	},
	Extensions: []format.Extension{
		{Ending: ".srec", Word: "srec"},
		{Ending: ".mot", Word: "srec"},
		{Ending: ".sre", Word: "srec"},
		{Ending: ".sx", Word: "srec"},
		{Ending: ".s19", Word: "s19"},
		{Ending: ".s28", Word: "s28"},
		{Ending: ".s37", Word: "s37"},
	},
	Units: true,
	Mark:  'S',
	Line: func(line []byte) (is, almost bool) {
		is = len(line) > 3 && line[0] == 'S' && line[1] >= '0' && line[1] <= '9' &&
			(record.IsDigit(line[2]) && record.IsDigit(line[3]) || record.MostlyDigits(line))
		return is, !is && almostRecord(line)
	},
	Reader: format.ReadFunc(Read).Reader,
	Writer: func(o format.WriteOptions) format.Writer { return &Writer{Unit: o.Unit} },
}

const (
	mostCount     = 255
	defaultLength = 16
	mostInS5      = 0xFFFF
	mostInS6      = 0xFF_FFFF
	mostHeader    = mostCount - 3
)

// typeNames say what each type of record is, by its digit.
var typeNames = [...]string{
	"S0 header",
	"S1 data",
	"S2 data",
	"S3 data",
	"S4 reserved",
	"S5 count",
	"S6 count",
	"S7 end",
	"S8 end",
	"S9 end",
}

// addressBytes is the length of each type's address field; of a count record,
// of the count.
var addressBytes = [...]int{2, 2, 3, 4, 0, 2, 3, 4, 3, 2}

// lastAddress returns the last address that data records S1, S2 or S3 reach.
func lastAddress(kind int) uint64 { return 1<<(8*addressBytes[kind]) - 1 }

// endKind is the type of the end record that goes with data records of a kind.
func endKind(kind int) int { return 10 - kind }
