package memory_test

import (
	"fmt"

	"mexalt/memory"
	"mexalt/source"
)

// Two images are laid over each other: the result knows where each byte is from, and which
// bytes both gave.
func ExampleMerge() {
	loader, _ := memory.FromBytes(0x0000, []byte{1, 2, 3, 4}, &source.Input{Name: "loader.bin", Counting: source.Offsets})
	gauge, _ := memory.FromBytes(0x0003, []byte{9, 5, 6}, &source.Input{Name: "gauge.bin", Counting: source.Offsets})
	both, clashes := memory.Merge([]*memory.Image{loader, gauge}, memory.First)
	for _, r := range both.Runs() {
		fmt.Printf("%s: % X\n", r.Span().Range(), r.Data)
	}
	for _, c := range clashes.List {
		fmt.Printf("%s is given twice, and %d of it differ\n", c.Span.Range(), c.Differ)
	}
	from, _ := both.Origin(0x0004)
	fmt.Println(from)
	// Output:
	// 0x0000..0x0005: 01 02 03 04 05 06
	// 0x0003 is given twice, and 1 of it differ
	// gauge.bin+0x1
}
