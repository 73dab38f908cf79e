package span_test

import (
	"fmt"

	"mexalt/memory"
	"mexalt/span"
)

// Spans include both ends; names stand for regions, and can be reckoned with.
func ExampleSpan() {
	names := span.NamesOf(map[string]memory.Span{"boot": {First: 0x7800, Last: 0x7FFF}})
	for _, text := range []string{"boot", "0..boot.first-1", "boot.first,16", "0x10..0x0F"} {
		s, err := span.Span(text, names)
		if err != nil {
			fmt.Println(err)
			continue
		}
		fmt.Println(s)
	}
	// Output:
	// 0x7800..0x7FFF (2 KiB)
	// 0x0000..0x77FF (30 KiB)
	// 0x7800..0x780F (16 bytes)
	// "0x10..0x0F", character 7: the first address 0x0010 is above the last 0x000F; expected FIRST..LAST, both included
}
