package device_test

import (
	"fmt"

	"mexalt/device"
	"mexalt/source"
)

// A shipped map says what lies where, and what a configuration word means.
func ExampleOpen() {
	m, err := device.Open(&source.Files{}, "brindle-b8-32", nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(m.Name, m.RegionAt(0x7900).Name, m.MemoryAt(0x7900).Name)
	values := map[string]uint64{}
	words, err := m.Compose(values, "boot_size", "1 KiB")
	fmt.Println(words[0].Name, words[0].Format(values[words[0].Name]), err)
	fmt.Println(m.Configured(values).Region("bootloader").Span)
	_, err = m.Compose(values, "boot_size", "3 KiB")
	fmt.Println(err)
	// Output:
	// Brindle B8-32 bootloader flash
	// boot_word 0x02 <nil>
	// 0x7C00..0x7FFF (1 KiB)
	// boot_size means one of: 6 KiB; 2 KiB; 1 KiB; 768 bytes
}
