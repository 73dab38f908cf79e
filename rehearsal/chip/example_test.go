package chip_test

import (
	"fmt"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// A simulated chip starts as delivered; programming takes bits the way that its memory does.
func ExampleNew() {
	m, err := device.Open(&source.Files{}, "brindle-b8-32", nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	part := chip.New(m, 1)
	flash := part.BankAt(0)
	fmt.Printf("% X\n", part.Peek(flash, memory.Span{First: 0, Last: 3}))
	loader, _ := memory.FromBytes(0, []byte{0x12, 0x34}, &source.Input{Name: "gauge.bin"})
	part.Program(loader)
	fmt.Printf("% X\n", part.Peek(flash, memory.Span{First: 0, Last: 3}))
	// Output:
	// FF FF FF FF
	// 12 34 FF FF
}
