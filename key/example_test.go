package key_test

import (
	"fmt"

	"mexalt/key"
	"mexalt/source"
)

// What can be set says so once; flags, steps of release files and help are made of it.
func ExampleSet() {
	var length uint64
	var crlf bool
	keys := []*key.Key{
		key.Number(&length, 1, 255, "record-length", "N", "N data bytes in a record (16)"),
		key.Switch(&crlf, "crlf", "lines end in CR LF"),
	}
	fmt.Println(key.Set(keys, []source.Setting{{Key: "record-length", Value: "0x20"}, {Key: "crlf"}}), length, crlf)
	fmt.Println(key.Set(keys, []source.Setting{{Key: "record-lenght", Value: "8"}}))
	// Output:
	// <nil> 32 true
	// record-lenght: unknown key; did you mean record-length?
}
