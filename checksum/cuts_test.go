package checksum

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
)

// practice is how images have their checksums in practice: what a part of the data is
// covered, and where the value stands.
var practice = []struct {
	name string
	at   int // of the value, from the end where below 0; given is by itself
	// covered returns the bytes that are covered. The data has the value as FF at first.
	covered func(d []byte) []byte
}{
	{"all, given", given, func(d []byte) []byte { return d }},
	{"all before the value at the end", -4, func(d []byte) []byte { return d[:len(d)-4] }},
	{"all before the value, and more after it", -16, func(d []byte) []byte { return d[:len(d)-16] }},
	{"all after the value at the beginning", 0, func(d []byte) []byte { return d[4:] }},
	{"all, the value as erased", 8, func(d []byte) []byte { return d }},
	{"all, the value as zero", 8, func(d []byte) []byte { return replaced(d, 8, "\x00\x00\x00\x00") }},
	{"all but the value", 8, func(d []byte) []byte { return append(bytes.Clone(d[:8]), d[12:]...) }},
	{"after a header of 16", 4, func(d []byte) []byte { return d[16:] }},
	{"after a header of 20", 4, func(d []byte) []byte { return d[20:] }},
	{"after a header of 32", 8, func(d []byte) []byte { return d[32:] }},
	{"after a header of 64", 60, func(d []byte) []byte { return d[64:] }},
	{"after a header of 128", 12, func(d []byte) []byte { return d[128:] }},
	{"after a header of 256, given", given, func(d []byte) []byte { return d[256:] }},
	{"after a header of 512", 508, func(d []byte) []byte { return d[512:] }},
	{"up to a trailer of 4, given", given, func(d []byte) []byte { return d[:len(d)-4] }},
	{"up to a trailer of 64", -8, func(d []byte) []byte { return d[:len(d)-64] }},
	{"up to a trailer of 128", -4, func(d []byte) []byte { return d[:len(d)-128] }},
	{"a header of 32 and a trailer of 32", -32, func(d []byte) []byte { return d[32 : len(d)-32] }},
	{"as long as the header says", 4, func(d []byte) []byte {
		return d[32 : 32+binary.LittleEndian.Uint32(d[12:])]
	}},
	{"as long as the header says, with it, given", given, func(d []byte) []byte { return d[:binary.LittleEndian.Uint32(d[12:])] }},
}

const given = -1 << 20

func replaced(d []byte, at int, with string) []byte {
	d = bytes.Clone(d)
	copy(d[at:], with)
	return d
}

// TestPractice finds how the values of images were computed, in each way that is met in
// practice: the right one comes first, but for values of 16 bits that chance gives too.
func TestPractice(t *testing.T) {
	r := rand.New(rand.NewPCG(61, 62))
	sizes := []int{6 << 10}
	if golden.Every(2) == 1 {
		sizes = append(sizes, 1<<20)
	}
	total, first, listed, count := 0, 0, 0, 0
	slowest := time.Duration(0)
	for _, size := range sizes {
		data := make([]byte, size)
		for i := range data {
			data[i] = byte(r.Uint32())
		}
		binary.LittleEndian.PutUint32(data[12:], uint32(size*3/4))
		for _, p := range practice {
			for _, name := range []string{"CRC-32/ISO-HDLC", "CRC-32/MPEG-2", "CRC-16/XMODEM", "SUM-32/LITTLE", "SUM-16", "SUM-32/TWOS",
				"ADLER-32", "SHA-256", "CRC-16/MODBUS"} {
				k := kind(t, name)
				if k.Group == "digest" && p.at != given {
					continue // they are laid in larger places
				}
				d := bytes.Clone(data)
				at := p.at
				if at < 0 && at != given {
					at += len(d)
				}
				if at != given {
					copy(d[at:], "\xFF\xFF\xFF\xFF")
				}
				if k.Size() == 2 && at != given {
					continue // their slots have two bytes
				}
				if count++; count%(2*golden.Every(3)) != 0 {
					continue
				}
				v := k.Sum(1, p.covered(d))
				s := &Search{Cores: 2, Erased: func(uint64) byte { return 0xFF }}
				if at == given {
					s.Values = []Value{v}
				} else {
					stored, err := v.Stored(memory.Little, 0)
					require.NoError(t, err)
					copy(d[at:], stored)
					s.Size = len(stored)
					s.Place = func(*memory.Image, int) (memory.Span, error) {
						return memory.Span{First: uint64(0x8000 + at), Last: uint64(0x8000 + at + len(stored) - 1)}, nil
					}
				}
				m, _ := memory.FromBytes(0x8000, d, in)
				s.Images = []*memory.Image{m}
				all, _ := m.Span()
				s.Spans = []NamedSpans{{"image", []memory.Span{all}}}
				begun := time.Now()
				answers, err := s.Run(context.Background())
				slowest = max(slowest, time.Since(begun))
				require.NoError(t, err)
				require.Len(t, answers, 1)
				total++
				found := -1
				for i, h := range answers[0].Hits {
					if h.Kind == k {
						found = i
						break
					}
				}
				switch {
				case found == 0:
					first++
					listed++
				case found > 0:
					listed++
					t.Log(size, p.name, name, "place", found+1, answers[0].Hits[0].Settings, answers[0].Hits[0].Chance)
				default:
					t.Log(size, p.name, name, "not found", answers[0].Tried)
				}
				assert.GreaterOrEqual(t, found, 0, fmt.Sprint(size, p.name, name))
			}
		}
	}
	t.Logf("%d of %d found, %d first; at most %v", listed, total, first, slowest)
	assert.GreaterOrEqual(t, first*100, total*90)
}
