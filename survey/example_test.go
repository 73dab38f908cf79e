package survey_test

import (
	"fmt"

	"mexalt/memory"
	"mexalt/source"
	"mexalt/survey"
)

// Two images are held against each other, and a likely cause of their differences is told.
func ExampleLikelyCauses() {
	image := func(data string) *memory.Image {
		m, _ := memory.FromBytes(0x100, []byte(data), &source.Input{Name: "f"})
		return m
	}
	expected, found := image("abcdefghabcdefgh"), image("badcfehgbadcfehg")
	c := survey.Compare(expected, found, nil, memory.Complement(nil)...)
	fmt.Println(c.Differ, "bytes differ, the first at", c.Differences[0])
	for _, cause := range survey.LikelyCauses(expected, found, c, 0xFF) {
		fmt.Println(cause.Text)
	}
	// Output:
	// 16 bytes differ, the first at 0x0100..0x010F (16 bytes)
	// the same bytes, in reverse order within words of 2
}
