package derive_test

import (
	"fmt"

	"mexalt/device/derive"
)

// A linker script says where memories are; what it does not say is left to be done.
func ExampleDraft_Read() {
	var d derive.Draft
	script := "MEMORY\n{\n  FLASH (rx) : ORIGIN = 0x00000000, LENGTH = 32K\n  RAM (rw) : ORIGIN = 0x00200100, LENGTH = 2K\n}\n"
	if err := d.Read("gauge.ld", []byte(script), nil); err != nil {
		fmt.Println(err)
		return
	}
	for _, m := range d.Memories {
		fmt.Println(m.Name, m.Kind, m.Span, m.Where)
	}
	// Output:
	// flash flash 0x0000..0x7FFF (32 KiB) gauge.ld:3
	// ram ram 0x0020_0100..0x0020_08FF (2 KiB) gauge.ld:4
}
