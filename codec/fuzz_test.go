package codec

import (
	"bytes"
	"strings"
	"testing"

	"mexalt/codec/format"
	"mexalt/codec/intel"
	"mexalt/codec/motorola"
	"mexalt/memory"
	"mexalt/source"
)

// FuzzOneChangedCharacter makes an image, writes it as records and changes one
// character: the change must be reported, or the image stay the same.
func FuzzOneChangedCharacter(f *testing.F) {
	f.Add([]byte("vectors and code of some length, more than a record"), uint32(0), uint16(0), uint8(16), true, uint16(3), byte('7'))
	f.Add([]byte("abc"), uint32(0x0600_0000), uint16(0x4000), uint8(4), false, uint16(1), byte('1'))
	f.Add([]byte("0123456789abcdef"), uint32(0xFFFF_0000), uint16(300), uint8(5), true, uint16(20), byte('\n'))
	f.Add([]byte("0123456789abcdef"), uint32(0x1_0000), uint16(0), uint8(8), false, uint16(0), byte('S'))
	f.Fuzz(func(t *testing.T, data []byte, first uint32, gap uint16, width uint8, hex bool, at uint16, to byte) {
		if len(data) == 0 || len(data) > 2000 {
			return
		}
		in := &source.Input{Name: "f"}
		half := len(data) / 2
		a, ok1 := memory.FromBytes(uint64(first), data[:half], in)
		b, ok2 := memory.FromBytes(uint64(first)+uint64(half)+uint64(gap), data[half:], in)
		if !ok1 || !ok2 {
			return
		}
		image, _ := memory.Merge([]*memory.Image{a, b}, memory.First)
		var w format.Writer = &motorola.Writer{RecordLength: uint64(width)}
		if hex {
			w = &intel.Writer{RecordLength: uint64(width)}
		}
		var text bytes.Buffer
		if w.Write(&text, image) != nil {
			return // it does not fit the format
		}
		changed := bytes.Clone(text.Bytes())
		i := int(at) % len(changed)
		if changed[i] == to {
			return
		}
		changed[i] = to
		var problems source.Problems
		file, err := Read(bytes.NewReader(changed), "f", int64(len(changed)), ReadOptions{}, &problems)
		if err != nil {
			t.Fatal(err)
		}
		if problems.Count() == 0 && (!file.Image.Equal(image) || file.Image.Start() != image.Start()) {
			t.Fatalf("changed %q to %q at %d in silence:\n%s\n%s", text.String()[i], to, i, &text, changed)
		}
	})
}

// FuzzRead reads anything as whatever it is taken for.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"", hexText, srecText, ":", "S1", "\x7FELF", strings.Repeat("A", 100), "S9\n:00", "00000001FF"} {
		f.Add([]byte(s), "f")
		f.Add([]byte(s), "f.bin")
	}
	f.Fuzz(func(t *testing.T, text []byte, name string) {
		var problems source.Problems
		file, err := Read(bytes.NewReader(text), name, int64(len(text)), ReadOptions{Cores: 2}, &problems)
		if err != nil {
			t.Fatal(err)
		}
		if problems.Err() == nil && file.Image.Bytes() > uint64(len(text)) {
			t.Fatal("more bytes than text")
		}
	})
}
