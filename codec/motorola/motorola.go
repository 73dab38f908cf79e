// Package motorola reads and writes S-records.
//
// A record is 'S', a type digit, and in hex digits the count of the bytes that
// follow, an address, the data, and a checksum: the one's complement of the
// low byte of the sum of count, address and data. The checksum does not cover
// the type digit, so a damaged one can turn a record into another sound one;
// the reader looks for that.
package motorola

const (
	mostCount    = 255
	defaultWidth = 16
	mostInS5     = 0xFFFF
	mostInS6     = 0xFF_FFFF
	mostHeader   = mostCount - 3
)

// TypeNames say what each type of record is, by its digit.
var TypeNames = [...]string{"header", "data", "data", "data", "reserved", "count", "count", "end", "end", "end"}

// addressBytes is the length of each type's address field; of a count record,
// of the count.
var addressBytes = [...]int{2, 2, 3, 4, 0, 2, 3, 4, 3, 2}

// lastAddress returns the last address that data records S1, S2 or S3 reach.
func lastAddress(kind int) uint64 { return 1<<(8*addressBytes[kind]) - 1 }

// endKind is the type of the end record that goes with data records of a kind.
func endKind(kind int) int { return 10 - kind }
