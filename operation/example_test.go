package operation_test

import (
	"fmt"

	"mexalt/key"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
)

// An operation is a value with keys: what a command takes as flags and a release file as
// keys, a program sets by name.
func ExampleKindOf() {
	image, _ := memory.FromBytes(0x1000, []byte("gauge"), &source.Input{Name: "gauge.bin", Counting: source.Offsets})
	op := operation.KindOf("fill").New()
	err := key.Set(op.Keys(), []source.Setting{{Key: "in", Value: "0x1000..0x1007"}, {Key: "with", Value: "FF"}})
	if err == nil {
		err = op.Check(false)
	}
	if err != nil {
		fmt.Println(err)
		return
	}
	outcome, err := op.Apply(&operation.Environment{Cores: 1}, []memory.Part{{Name: "gauge.bin", Image: image}})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, r := range outcome.Image().Runs() {
		fmt.Printf("%s % X\n", r.Span(), r.Data)
	}
	// Output: 0x1000..0x1007 (8 bytes) 67 61 75 67 65 FF FF FF
}
