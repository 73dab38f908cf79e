package rehearsal_test

import (
	"context"
	"fmt"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// A device whose loader checks a CRC takes an update: how many power cuts does the plan bear?
func ExampleSweepOf() {
	var problems source.Problems
	m := device.Load("tiny", []byte(`name = "Tiny"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = 192
page = 32
granule = 4
sectors = [{ count = 3, size = 64 }]
[[region]]
name = "loader"
role = "bootloader"
first = 0
size = 64
[[region]]
name = "gauge"
role = "application"
first = 64
size = 128
[[checksum]]
name = "crc"
kind = "CRC-32/ISO-HDLC"
in = "gauge.first..gauge.last-4"
at = "gauge.last-3"
guards = "gauge"
[[start]]
kind = "instruction"
at = "loader.first"
`), &problems)
	firmware := func(fill byte) *memory.Image {
		data := make([]byte, 124)
		for i := range data {
			data[i] = fill + byte(i)
		}
		image, _ := memory.FromBytes(64, data, &source.Input{Name: "gauge.bin"})
		_, value, _ := must(m.Checksums[0].Spec(m, image)).Compute(image, 1)
		image, _ = image.Write(&source.Input{Name: "seal"}, 188, value)
		return image
	}
	part := chip.New(m, 1)
	loader, _ := memory.FromBytes(0, []byte("loader"), &source.Input{Name: "loader.bin"})
	part.Program(loader)
	part.Program(firmware(1))
	plan := must(rehearsal.Open(&source.Files{}, "update"))
	sweep := must(rehearsal.SweepOf(context.Background(), part, plan, firmware(2), rehearsal.SweepOptions{}))
	fmt.Println(sweep.Ladder.Rung)
	fmt.Println("safe:", sweep.Safe())
	// Output:
	// any number of power cuts
	// safe: true
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
