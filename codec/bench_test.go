package codec

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"encoding/hex"
	"io"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"mexalt/codec/format"
	"mexalt/codec/intel"
	"mexalt/codec/memtext"
	"mexalt/codec/motorola"
	"mexalt/codec/raw"
	"mexalt/codec/uf2"
	"mexalt/memory"
	"mexalt/source"
)

// The benchmarks run turn by turn with their references: what package
// encoding/hex of the standard library does with as many digits. The figure
// "x-reference" is the speed against it, each taken at its best, since other
// work on the machine disturbs both. -cpu 1 measures one core, -cpu 2 two.

const benchBytes = 4 << 20

func benchImage() *memory.Image {
	data := make([]byte, benchBytes)
	rand.NewChaCha8([32]byte{}).Read(data)
	m, _ := memory.FromBytes(0x0600_0000, data, &source.Input{Name: "bench"})
	return m
}

// against measures run against reference.
func against(b *testing.B, size int, run, reference func()) {
	b.SetBytes(int64(size))
	best := func(d *time.Duration, f func()) {
		begin := time.Now()
		f()
		if took := time.Since(begin); *d == 0 || took < *d {
			*d = took
		}
	}
	var ours, theirs time.Duration
	for b.Loop() {
		best(&ours, run)
		best(&theirs, reference)
	}
	b.ReportMetric(float64(theirs)/float64(ours), "x-reference")
	b.ReportMetric(float64(size)/ours.Seconds()/1e6, "best-MB/s")
}

func benchText(b *testing.B, f *format.Format) []byte {
	var text bytes.Buffer
	if err := f.Writer(format.WriteOptions{}).Write(&text, benchImage()); err != nil {
		b.Fatal(err)
	}
	return text.Bytes()
}

func benchRead(b *testing.B, f *format.Format) {
	text := benchText(b, f)
	digits := bytes.Repeat([]byte("0123456789ABCDEF"), len(text)/16)
	out := make([]byte, len(digits)/2)
	against(b, len(text), func() {
		var problems source.Problems
		f, err := Read(bytes.NewReader(text), "f", int64(len(text)), ReadOptions{Cores: runtime.GOMAXPROCS(0)}, &problems)
		if err != nil || problems.Err() != nil || f.Image.Bytes() != benchBytes {
			b.Fatal(err, problems.Err())
		}
	}, func() {
		if _, err := hex.Decode(out, digits); err != nil {
			b.Fatal(err)
		}
	})
}

func BenchmarkReadHex(b *testing.B)  { benchRead(b, intel.Format) }
func BenchmarkReadSrec(b *testing.B) { benchRead(b, motorola.Format) }

func benchWrite(b *testing.B, f *format.Format) {
	text := benchText(b, f)
	m := benchImage()
	data, out := make([]byte, len(text)/2), make([]byte, len(text))
	against(b, len(text), func() {
		if err := f.Writer(format.WriteOptions{}).Write(io.Discard, m); err != nil {
			b.Fatal(err)
		}
	}, func() { hex.Encode(out, data) })
}

func BenchmarkWriteHex(b *testing.B)  { benchWrite(b, intel.Format) }
func BenchmarkWriteSrec(b *testing.B) { benchWrite(b, motorola.Format) }

// BenchmarkRandomOrder reads a million records of one byte in random order;
// its reference is reading them in the order of their addresses, so that
// 1/x-reference is how many times as long it takes.
func BenchmarkRandomOrder(b *testing.B) {
	const records = 1_000_000
	m, _ := memory.FromBytes(0, make([]byte, records), &source.Input{Name: "bench"})
	var text bytes.Buffer
	if err := (&motorola.Writer{RecordLength: 1, Kind: 3}).Write(&text, m); err != nil {
		b.Fatal(err)
	}
	lines := bytes.SplitAfter(text.Bytes(), []byte("\n"))[:records]
	const end = "S70500000000FA\n"
	ordered := append(bytes.Join(lines, nil), end...)
	rand.New(rand.NewPCG(1, 2)).Shuffle(records, func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	shuffled := append(bytes.Join(lines, nil), end...)
	read := func(text []byte) func() {
		return func() {
			var problems source.Problems
			f, err := Read(bytes.NewReader(text), "f", int64(len(text)), ReadOptions{Cores: 1}, &problems)
			if err != nil || problems.Err() != nil || f.Image.Bytes() != records || len(f.Image.Runs()) != 1 {
				b.Fatal(err, problems.Err())
			}
		}
	}
	against(b, records, read(shuffled), read(ordered))
}

// benchAgainstHex reads 16 MiB in a format; its reference is reading the same bytes
// as Intel HEX, so that x-reference is the speed against that, by bytes of the
// image.
func benchAgainstHex(b *testing.B, f *format.Format) {
	const size = 16 << 20
	data := make([]byte, size)
	rand.NewChaCha8([32]byte{}).Read(data)
	m, _ := memory.FromBytes(0x0600_0000, data, &source.Input{Name: "bench"})
	text := func(f *format.Format) []byte {
		var text bytes.Buffer
		if err := f.Writer(format.WriteOptions{}).Write(&text, m); err != nil {
			b.Fatal(err)
		}
		return text.Bytes()
	}
	read := func(f *format.Format) func() {
		text := text(f)
		return func() {
			var problems source.Problems
			back, err := Read(bytes.NewReader(text), "f", int64(len(text)), ReadOptions{Cores: 1}, &problems)
			if err != nil || problems.Err() != nil || back.Image.Bytes() != size {
				b.Fatal(err, problems.Err())
			}
		}
	}
	write := func(f *format.Format) func() {
		return func() {
			if err := f.Writer(format.WriteOptions{}).Write(io.Discard, m); err != nil {
				b.Fatal(err)
			}
		}
	}
	b.Run("read", func(b *testing.B) { against(b, size, read(f), read(intel.Format)) })
	b.Run("write", func(b *testing.B) { against(b, size, write(f), write(intel.Format)) })
}

func BenchmarkUF2(b *testing.B)        { benchAgainstHex(b, uf2.Format) }
func BenchmarkMemoryText(b *testing.B) { benchAgainstHex(b, memtext.Hex) }

// BenchmarkReadELF reads a program of 64 MiB; its reference is reading the file
// as raw bytes, so that 1/x-reference is how many times as long it takes.
func BenchmarkReadELF(b *testing.B) {
	const size = 64 << 20
	// One section that loads, with its segment; names; the tables behind.
	file := make([]byte, 0, size+4096)
	le := binary.LittleEndian
	head, _ := binary.Append(
		nil,
		le,
		elf.Header64{
			Ident:     [16]byte{0x7F, 'E', 'L', 'F', 2, 1, 1},
			Type:      2,
			Version:   1,
			Phoff:     64,
			Shoff:     120 + size + 8,
			Phentsize: 56,
			Phnum:     1,
			Shentsize: 64,
			Shnum:     3,
			Shstrndx:  2,
		},
	)
	file = append(file, head...)
	head, _ = binary.Append(nil, le, elf.Prog64{Type: 1, Off: 120, Paddr: 0x0600_0000, Vaddr: 0x0600_0000, Filesz: size, Memsz: size})
	file = append(append(file, head...), make([]byte, size)...)
	file = append(file, "\x00.text\x00\x00"...)
	for _, s := range []elf.Section64{{}, {Name: 1, Type: 1, Flags: 2, Addr: 0x0600_0000, Off: 120, Size: size},
		{Type: 3, Off: 120 + size, Size: 8}} {
		head, _ = binary.Append(nil, le, s)
		file = append(file, head...)
	}
	read := func(o ReadOptions) func() {
		return func() {
			var problems source.Problems
			f, err := Read(bytes.NewReader(file), "f", int64(len(file)), o, &problems)
			if err != nil || problems.Err() != nil || f.Image.Bytes() < size {
				b.Fatal(err, problems.Err())
			}
		}
	}
	against(b, size, read(ReadOptions{}), read(ReadOptions{From: Choice{Format: raw.Format}}))
}
