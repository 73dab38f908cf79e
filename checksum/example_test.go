package checksum_test

import (
	"fmt"

	"mexalt/checksum"
	"mexalt/memory"
	"mexalt/source"
)

// A value is computed over a span of an image, and stored with the lowest byte first.
func ExampleFeed_Sum() {
	image, _ := memory.FromBytes(0x1000, []byte("123456789"), &source.Input{Name: "f"})
	kind, _ := checksum.KindOf("CRC-32/ISO-HDLC")
	feed := checksum.Feed{Spans: []memory.Span{{First: 0x1000, Last: 0x1008}}}
	value, _ := feed.Sum(kind, image, 1)
	stored, _ := value.Stored(memory.Little, 4)
	fmt.Printf("%s, stored as % X\n", value, stored)
	// Output: 0xCBF43926, stored as 26 39 F4 CB
}

// One byte that changes changes the value by a share of its own.
func ExampleDifference() {
	kind, _ := checksum.KindOf("SUM-16")
	d := kind.Difference()
	share := d.Of([]byte{3}, []byte{7}, 1, 4)
	before, _ := kind.Sum(1, []byte{1, 3, 5, 9}).Number()
	after, _ := kind.Sum(1, []byte{1, 7, 5, 9}).Number()
	fmt.Println(before, share, after, d.Join(before, share))
	// Output: 18 4 22 22
}
