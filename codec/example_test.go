package codec_test

import (
	"fmt"
	"strings"

	"mexalt/codec"
	"mexalt/source"
)

// A file is told apart by what it holds, and every problem in it is told with its place.
func ExampleRead() {
	for _, text := range []string{":040010006162636462\n:00000001FF\n", ":040010006162636463\n:00000001FF\n"} {
		var problems source.Problems
		file, err := codec.Read(strings.NewReader(text), "gauge.hex", int64(len(text)), codec.ReadOptions{}, &problems)
		if err != nil {
			fmt.Println(err)
			continue
		}
		for _, p := range problems.Sorted() {
			fmt.Println(p)
		}
		if problems.Errors() == 0 {
			fmt.Println(file.Format.Name, file.Image.Runs()[0].Span())
		}
	}
	// Output:
	// Intel HEX 0x0010..0x0013 (4 bytes)
	// gauge.hex:1:18: error: checksum is 0x63; expected 0x62, computed from the record (a digit of this line is damaged; get the file again)
}
