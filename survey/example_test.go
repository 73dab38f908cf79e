package survey_test

import (
	"fmt"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/survey"
)

// Two images are held against each other.
func ExampleCompare() {
	image := func(data string) *memory.Image {
		m, _ := memory.FromBytes(0x100, []byte(data), &source.Input{Name: "f"})
		return m
	}
	c := survey.Compare(image("abcdefghabcdefgh"), image("badcfehgbadcfehg"), nil)
	fmt.Println(c.Differ, "bytes differ, the first at", c.Differences[0])
	// Output:
	// 16 bytes differ, the first at 0x0100..0x010F (16 bytes)
}
