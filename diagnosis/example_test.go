package diagnosis_test

import (
	"fmt"

	"mexalt/diagnosis"
	"mexalt/memory"
	"mexalt/source"
)

// A device whose pages were written in the wrong order of bytes, and one page not at all.
func ExampleOf() {
	data := make([]byte, 4096)
	for i := range data {
		data[i] = byte(i*i>>3 ^ i)
	}
	expected, _ := memory.FromBytes(0x8000, data, &source.Input{Name: "app.hex"})
	read := make([]byte, len(data))
	for i := range read {
		if read[i] = data[i^1]; i >= 0x400 && i < 0x500 {
			read[i] = 0xFF
		}
	}
	found, _ := memory.FromBytes(0x8000, read, &source.Input{Name: "read.bin"})
	d := diagnosis.Of(expected, found, diagnosis.Options{Erased: 0xFF})
	for i := range d.Causes {
		fmt.Println(d.Causes[i].Says())
	}
	fmt.Println(d.Explained, "of", d.Differ)
	// Output:
	// the bytes in words of 2 are reversed, everywhere
	// 0x8400..0x84FF erased, not programmed
	// 4084 of 4084
}
