package settings_test

import (
	"fmt"

	"mexalt/source"
	"mexalt/source/settings"
)

// All that is wrong with a file is found in one go, each at its place.
func ExampleDecode() {
	var board struct {
		Name  string              `toml:"name"`
		Flash settings.Expression `toml:"flash"`
	}
	var problems source.Problems
	settings.Decode("gauge.toml", []byte("name = 7\nflahs = '32 KiB'\nflash = 0x8000\n"), &board, &problems)
	for _, p := range problems.Sorted() {
		fmt.Println(p)
	}
	fmt.Println(board.Flash)
	// Output:
	// gauge.toml:1:1: error: name is 7; expected a text in quotes
	// gauge.toml:2:1: error: unknown key flahs (did you mean flash?)
	// 32768
}
