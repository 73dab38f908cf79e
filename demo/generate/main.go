// Generate makes the demo data anew: what a compiler and colleagues would hand
// over for the firmware of the TG-1 tide gauge. Run it as
// go run ./demo/generate from the repository's root.
package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"log"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"

	"mexalt/codec/format"
	"mexalt/codec/intel"
	"mexalt/codec/motorola"
	"mexalt/codec/raw"
	"mexalt/memory"
	"mexalt/source"
)

const (
	folder          = "demo/data"
	bootloaderFirst = 0x7800
	vectors         = 26

	stationLoaderFirst = 0x0600_0000
	stationLoaderReset = 0x100
)

func main() {
	log.SetFlags(0)
	in := &source.Input{Name: "generate", Counting: source.Operation}

	boot := image(in, bootloaderFirst, program(1, bootloaderFirst, 1408, "TG-1 bootloader 1.2.0"))
	boot = boot.WithStart(memory.Start{Kind: memory.LinearStart, Value: bootloaderFirst})
	write("bootloader.hex", boot, &intel.Writer{})

	app := image(in, 0, program(2, 0, 24_310, "TG-1 gauge 2.4.1"))
	write("gauge-app.s19", app.WithHeader([]byte("gauge-app 2.4.1")), &motorola.Writer{RecordLength: 32})

	grown := image(in, 0, program(3, 0, bootloaderFirst+804, "TG-1 gauge 2.5.0-rc1"))
	write("gauge-app-2.s19", grown.WithHeader([]byte("gauge-app 2.5.0-rc1")), &motorola.Writer{RecordLength: 32})

	write("calibration.bin", image(in, 0, calibration(10_427, 0)), &raw.Writer{})
	write("calibration-north.bin", image(in, 0, calibration(10_427, 35)), &raw.Writer{})

	var text bytes.Buffer
	check((&intel.Writer{}).Write(&text, boot))
	save("bootloader-damaged.hex", damage(text.Bytes()))

	loader := image(in, stationLoaderFirst, stationLoader())
	loader = loader.WithStart(memory.Start{Kind: memory.LinearStart, Value: stationLoaderFirst + stationLoaderReset})
	write("station-loader.hex", loader, &intel.Writer{})
	write("tide-tables.bin", image(in, 0, tideTables()), &raw.Writer{})
}

func image(in *source.Input, first uint64, data []byte) *memory.Image {
	m, ok := memory.FromBytes(first, data, in)
	if !ok {
		log.Fatal("image past 64 bits")
	}
	return m
}

// program returns size bytes that look like a program for an 8-bit part with
// instruction words of 16 bits: jump vectors, a version, functions that begin
// and end alike, messages.
func program(seed, first uint64, size int, version string) []byte {
	r := rand.New(rand.NewPCG(seed, 0x7467_3031))
	var b []byte
	word := func(w uint16) { b = binary.LittleEndian.AppendUint16(b, w) }
	text := func(s string) {
		b = append(b, s...)
		b = append(b, 0)
		if len(b)%2 == 1 {
			b = append(b, 0)
		}
	}
	handler := uint16(first) + 2*vectors + 64
	word(0xE000 | handler>>1&0x0FFF) // reset
	for range vectors - 1 {
		word(0xE000 | (handler+uint16(r.IntN(12))*6)>>1&0x0FFF)
	}
	text(version)
	for len(b) < 2*vectors+64 {
		b = append(b, 0xFF)
	}
	for range 13 {
		word(0x1E33)
		word(0x7C19)
		word(0x0000)
	}
	messages := []string{
		"sensor open", "sensor short", "level mm", "uplink lost", "uplink ok", "calibration absent",
		"calibration bad sum", "clock set", "log full", "battery low", "water above mark", "sleep",
	}
	common := []uint16{0x12A4, 0x1B52, 0x2C07, 0x2C48, 0x3A91, 0x3AB0, 0x4410, 0x4471, 0x4D22, 0x50C3, 0x58F1, 0xB20E, 0xB3E6, 0xD010,
		0xD144}
	for len(b) < size-2*160 {
		saved := 1 + r.IntN(5)
		for i := range saved {
			word(0x8A03 + uint16(i)<<4)
		}
		for range 10 + r.IntN(60) {
			w := common[r.IntN(len(common))]
			if r.IntN(3) == 0 {
				w ^= uint16(r.IntN(256))
			}
			word(w)
			if r.IntN(14) == 0 {
				word(0xA70E) // call, and where to
				word((uint16(first) + uint16(r.IntN(size))) >> 1 &^ 1)
			}
		}
		for i := range saved {
			word(0x8B03 + uint16(saved-1-i)<<4)
		}
		word(0x7C18)
		if r.IntN(9) == 0 {
			text(messages[r.IntN(len(messages))])
		}
	}
	for len(b) < size {
		word(common[r.IntN(len(common))])
	}
	return b[:size]
}

// calibration returns a table of 512 bytes: a mark, a serial number, a count,
// pairs of raw reading and millimetres above a zero, and a plain sum at the end.
func calibration(serial uint32, zero float64) []byte {
	b := []byte("CAL1")
	b = binary.LittleEndian.AppendUint32(b, serial)
	const points = 124
	b = binary.LittleEndian.AppendUint16(b, points)
	b = append(b, 0, 0)
	for i := range points {
		raw := 212 + 31*i
		mm := 48*float64(i) + 9*math.Sin(float64(i)/17)
		b = binary.LittleEndian.AppendUint16(b, uint16(raw))
		b = binary.LittleEndian.AppendUint16(b, uint16(math.Round(mm+zero)))
	}
	sum := uint32(0)
	for _, c := range b {
		sum += uint32(c)
	}
	return binary.LittleEndian.AppendUint32(b, sum)
}

// stationLoader returns the loader of the TG-4: stack and reset vector, other
// vectors, a program.
func stationLoader() []byte {
	const stack, handlers = 0x2802_0000, 62
	b := binary.LittleEndian.AppendUint32(nil, stack)
	b = binary.LittleEndian.AppendUint32(b, stationLoaderFirst+stationLoaderReset|1)
	for i := range handlers {
		b = binary.LittleEndian.AppendUint32(b, stationLoaderFirst+stationLoaderReset+0x40+uint32(i%7)*8|1)
	}
	return append(b, program(4, stationLoaderFirst, 6_114, "TG-4 loader 1.0.3")...)
}

// tideTables returns what the TG-4 keeps in its second flash: a mark, a number of
// tables, heights in millimetres for every ten minutes.
func tideTables() []byte {
	b := []byte("TID1")
	const days, each = 56, 144
	b = binary.LittleEndian.AppendUint32(b, days*each)
	for i := range days * each {
		hours := float64(i) / 6
		mm := 1310*math.Sin(2*math.Pi*hours/12.42) + 402*math.Sin(2*math.Pi*hours/12+1.3) + 118*math.Sin(2*math.Pi*hours/23.93)
		b = binary.LittleEndian.AppendUint16(b, uint16(int16(math.Round(mm))))
	}
	return b
}

// damage does to a file what copy and paste, a slip of the hand and a copy
// cut short do: a dash where digits were, a digit changed, the end missing.
func damage(text []byte) []byte {
	lines := bytes.SplitAfter(text, []byte("\n"))
	lines[11] = append(append(bytes.Clone(lines[11][:21]), "–"...), lines[11][23:]...)
	lines[40] = bytes.Clone(lines[40])
	if lines[40][30]++; lines[40][30] > 'F' || lines[40][30] == ':' {
		lines[40][30] = '0'
	}
	lines[72] = lines[72][:25]
	return bytes.Join(lines[:73], nil)
}

func write(name string, m *memory.Image, w format.Writer) {
	var b bytes.Buffer
	check(w.Write(&b, m))
	save(name, b.Bytes())
}

func save(name string, data []byte) {
	check(os.WriteFile(filepath.Join(folder, name), data, 0o644))
	fmt.Printf("%-24s %6d bytes\n", name, len(data))
}

func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
