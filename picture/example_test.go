package picture_test

import (
	"fmt"

	"mexalt/memory"
	"mexalt/picture"
	"mexalt/source"
)

func ExamplePicture_Text() {
	image, _ := memory.FromBytes(0x400, make([]byte, 0x500), &source.Input{Name: "app.bin"})
	p := &picture.Picture{
		Memories: []picture.Memory{{
			Title: "flash, 4 KiB",
			Span:  memory.Span{First: 0, Last: 0xFFF},
			Segments: []picture.Segment{
				{Span: memory.Span{First: 0, Last: 0x3FF}, Name: "loader"},
				{Span: memory.Span{First: 0x400, Last: 0xFFF}, Name: "application"},
			},
		}},
		Parts: []memory.Part{{Name: "app.bin", Image: image}},
		Marks: []picture.Mark{{Span: memory.Span{First: 0x8FF, Last: 0x8FF}, Text: "the last byte"}},
	}
	for _, row := range p.Text(64) {
		for _, run := range row.Runs {
			fmt.Print(run.Text) // a terminal gives each its colour, by its tone
		}
		fmt.Println()
	}
	// Output:
	// flash, 4 KiB
	//      loader                       application
	// [··············][aaaaaaaaaaaaaaaaaaaa··························]
	//                                     ^1
	// 0x0000          0x0400                                    0x0FFF
	//   64 bytes a column
	//
	// a  app.bin, 1,280 bytes
	// ·  free
	// ^1 the last byte
}
