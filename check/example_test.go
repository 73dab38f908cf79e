package check_test

import (
	"fmt"

	"mexalt/check"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/source"
)

// An image is held against the map of a part: each finding has its rule, its place and
// what to do.
func ExampleRun() {
	var problems source.Problems
	m := device.Load("small.device.toml", []byte(`name = "Small"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = "1K"
[[region]]
name = "gauge"
role = "application"
first = 0
size = 512
`), &problems)
	image, _ := memory.FromBytes(0x1FE, []byte{1, 2, 3, 4}, &source.Input{Name: "gauge.bin", Counting: source.Offsets})
	result := check.Run(m, []check.Part{{Name: "gauge.bin", Image: image}}, check.Options{})
	for _, f := range result.Findings {
		fmt.Printf("%s: %s: %s [%s]\n", f.Severity, f.Where, f.What, f.Rule)
	}
	// Output: error: 0x0200..0x0201 (2 bytes): ends 2 bytes past the end of region gauge, in memory outside all regions [region-overrun]
}
