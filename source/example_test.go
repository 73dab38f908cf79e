package source_test

import (
	"fmt"

	"mexalt/source"
)

// Readers collect every problem with its place, and go on; advice is a value that an
// interface words.
func ExampleProblems() {
	var problems source.Problems
	problems.Add(&source.Problem{File: "gauge.hex", Line: 9, Column: 3, What: "a digit is missing"})
	problems.Add(&source.Problem{File: "gauge.hex", Line: 4, Severity: source.Warning, What: "a record is doubled",
		Advice: source.Advice{AnyOf: []source.Setting{{Key: "lenient", Does: "allows it"}}}})
	for _, p := range problems.Sorted() {
		fmt.Println(p)
	}
	fmt.Println(problems.Errors(), source.DidYouMean("aplication", []string{"application", "bootloader"}))
	// Output:
	// gauge.hex:4: warning: a record is doubled (lenient allows it)
	// gauge.hex:9:3: error: a digit is missing
	// 1 did you mean application?
}
