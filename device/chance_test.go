package device

import (
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// TestWhatMapsAnswer asks maps, alone and on boards, at places, for values of words and for images
// by chance, and holds all that they answer.
func TestWhatMapsAnswer(t *testing.T) {
	t.Parallel()
	list := map[string]*Map{}
	for _, name := range []string{"brindle-b8-32", "brindle-m32-512", "brindle-d32-256", "brindle-w16-64"} {
		m, err := Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		list[name] = m
	}
	for _, name := range []string{"gauge", "gauge-north"} {
		m, err := OpenBoard(&source.Files{}, "../demo/data/"+name+".board.toml", nil)
		require.NoError(t, err)
		list[name] = m
	}
	var out strings.Builder
	for _, name := range slices.Sorted(maps.Keys(list)) {
		m := list[name]
		fmt.Fprintln(&out, BoardTemplate(m, name), m.Text()[:200], IdentitiesText(m))
		for seed := range uint64(40) {
			r := rand.New(rand.NewPCG(seed, 31))
			text := placesAsked(r, m) + wordsAsked(r, m) + imagesAsked(r, m)
			fmt.Fprintf(&out, "%s %d: %d %04x\n", name, seed, len(text), crc32.ChecksumIEEE([]byte(text))&0xFFFF)
			if seed == 0 {
				for line := range strings.Lines(text) {
					fmt.Fprint(&out, "  ", line[:min(len(line), 300)])
				}
			}
		}
	}
	golden.File(t, "testdata/answered.txt", out.String())
}

// placesAsked asks for spans.
func placesAsked(r *rand.Rand, m *Map) string {
	var b strings.Builder
	for range 12 {
		mem := &m.Memories[r.IntN(len(m.Memories))]
		at := mem.Span.First + r.Uint64N(mem.Span.Size())
		if r.IntN(4) == 0 {
			at = mem.Span.Last + uint64(r.IntN(3))
		}
		s := memory.Span{First: at, Last: at + uint64(r.IntN(600))}
		fmt.Fprintf(&b, "%s %s %s %s %02X %X", m.SpanText(s), m.RangeText(s), m.AddressText(at), m.WordsText(s), m.ErasedAt(at),
			m.Unaliased(at))
		for _, region := range []*Region{m.RegionAt(at), m.InnermostAt(at)} {
			if region != nil {
				fmt.Fprintf(&b, " %s", region.Name)
			}
		}
		for _, region := range m.RegionsIn(s) {
			fmt.Fprintf(&b, " in %s", region.Name)
		}
		if in := m.MemoryAt(at); in != nil {
			sector, ok := in.SectorAt(at)
			fmt.Fprintf(&b, " %s %v %s %v %X", in.Name, in.Programmable(), sector, ok, in.InPart(at))
		}
		b.WriteString("\n")
	}
	return b.String()
}

// wordsAsked asks for values of the configuration words.
func wordsAsked(r *rand.Rand, m *Map) string {
	var b strings.Builder
	chance := func() map[string]uint64 {
		values := map[string]uint64{}
		for i := range m.Config {
			w := &m.Config[i]
			v := w.Default
			for j := range w.Fields {
				if f := &w.Fields[j]; r.IntN(3) == 0 && len(f.Values) > 0 {
					v = v&^f.Mask() | f.Values[r.IntN(len(f.Values))].Value<<f.Low
				} else if r.IntN(6) == 0 {
					v = v&^f.Mask() | r.Uint64()&f.Mask()
				}
			}
			values[w.Name] = v
		}
		return values
	}
	values, others := chance(), chance()
	for _, w := range m.WaysIn(values) {
		fmt.Fprintln(&b, w, w.CanText(), w.Changes(), w.Why)
	}
	hz, ok := m.Clock(values)
	fmt.Fprintln(&b, hz, ok, m.TooFast(values), m.Opened(values), WaysBack(m.WaysIn(values)), AnyDoes(m.WaysIn(values), CanRead),
		AnyChanges(m.WaysIn(values)))
	for _, a := range m.Acting(values) {
		fmt.Fprintln(&b, a.Field, a.Value, a.Meaning, a.Effect)
	}
	if rewriting := m.Rewrite(values, others); rewriting != nil {
		fmt.Fprintln(&b, "rewriting", rewriting.Takes, rewriting.Fault, rewriting.NoReturn, rewriting.After, rewriting.Last)
		if rewriting.Erase != nil {
			fmt.Fprintln(&b, "erase", rewriting.Erase.By, rewriting.Erase.Left)
		}
		for _, w := range rewriting.Words {
			fmt.Fprintln(&b, "write", w.Word.Name, w.Value, w.By, w.Left)
		}
	}
	for name, v := range m.Meant(values) {
		fmt.Fprintln(&b, name, v.Value, v.Meaning)
	}
	given := map[string]Given{}
	for i := range m.Config {
		w := &m.Config[i]
		given[w.Name] = w.Whole(values[w.Name])
		s, has := w.Complement()
		fmt.Fprintln(&b, w.Name, w.Format(values[w.Name]), w.Bytes(values[w.Name]), s, has, w.Defined(), w.Span())
	}
	for _, v := range m.Judge(given) {
		fmt.Fprintln(&b, v.Kind, v.What, v.Expected)
	}
	configured := m.Configured(values)
	for region := range configured.All() {
		fmt.Fprintln(&b, region.Name, region.Span)
	}
	for range 4 {
		names := m.FieldNames()
		if len(names) == 0 {
			break
		}
		name := names[r.IntN(len(names))]
		text := []string{"0", "1", "3", "on", "x"}[r.IntN(5)]
		if _, f := m.Field(name); f != nil {
			fmt.Fprintln(&b, f.BitsText(), f.RegionsSet())
			if len(f.Values) > 0 && r.IntN(2) == 0 {
				text = f.Values[r.IntN(len(f.Values))].Meaning
			}
		}
		composed := maps.Clone(values)
		words, err := m.Compose(composed, name, text)
		fmt.Fprintln(&b, name, text, len(words), composed, err)
	}
	return b.String()
}

// imagesAsked asks what maps make of an image.
func imagesAsked(r *rand.Rand, m *Map) string {
	var b strings.Builder
	image := &memory.Image{}
	in := &source.Input{Name: "f"}
	put := func(at uint64, data []byte) {
		if out, ok := image.Write(in, at, data); ok {
			image = out
		}
	}
	for i := range m.Regions {
		region := &m.Regions[i]
		if r.IntN(2) == 0 {
			data := make([]byte, min(region.Span.Size(), uint64(64+r.IntN(2000))))
			for k := range data {
				data[k] = byte(r.Uint32())
			}
			put(region.Span.First, data)
		}
	}
	for i := range m.Config {
		if w := &m.Config[i]; r.IntN(3) > 0 {
			put(w.At, w.Bytes(r.Uint64())[:1+r.IntN(w.Width)])
		}
	}
	for i := range m.Starts {
		stack, target, ok := m.Starts[i].Vectors(image)
		fmt.Fprintln(&b, stack, target, ok)
	}
	resolved, fromImage := m.For(image)
	fmt.Fprintln(&b, fromImage, m.StartAddresses(image), slices.Sorted(maps.Keys(m.Assumed(image))))
	for region := range resolved.All() {
		w, given := m.Decided(image, region.Name)
		fmt.Fprintln(&b, region.Name, region.Span, w != nil, given)
	}
	for i := range m.Config {
		w := &m.Config[i]
		v, has := w.In(image)
		fmt.Fprintln(&b, w.Name, v, has, w.GivenIn(image))
	}
	var all []*Checksum
	for i := range resolved.Checksums {
		c := &resolved.Checksums[i]
		all = append(all, c)
		spec, err := c.Spec(resolved, image)
		fmt.Fprintln(&b, c.Name, c.Behind(), c.RankIn(image), err)
		if err == nil {
			value, stored, err := spec.Compute(image, 1)
			fmt.Fprintln(&b, value, stored, err)
		}
	}
	order, circle := InOrder(resolved, image, all)
	for _, c := range order {
		fmt.Fprint(&b, c.Name, " ")
	}
	fmt.Fprintln(&b, circle)
	for i := range m.Memories {
		fmt.Fprint(&b, m.Memories[i].CountSectors(image), " ")
	}
	fmt.Fprintln(&b, m.Programmable())
	return b.String()
}

// TestTimesAreWritten writes times in the unit that suits them.
func TestTimesAreWritten(t *testing.T) {
	var b strings.Builder
	for _, d := range []time.Duration{0, 1, 999, 1000, 1001, 1500, 999_499, 999_500, 999_999, 1_000_000, 1_234_567, 34_000_000,
		999_949_999, 999_950_000, 1_000_000_000, 1_050_000_000, 59_940_000_000,
		59_950_000_000, 60_000_000_000, 61_000_000_000, 3_599_000_000_000, 3_600_000_000_000, 100 * time.Hour} {
		fmt.Fprintln(&b, int64(d), FormatTime(d))
	}
	for _, text := range []string{"8 MHz", "8.5 MHz", "32768 Hz", "32.768 kHz", "0 Hz", "-1 Hz", "1", "MHz", "1 mHz", "1e3 Hz",
		"99999999999 GHz", "2.7 V", "2700 mV", "2.7V..3.6V", "1..2"} {
		for _, d := range []*Dimension{Frequency, Voltage} {
			q, err := d.Parse(text)
			one, err2 := d.ParseRange(text)
			fmt.Fprintln(&b, text, q, d.Format(q), one, errors.Join(err, err2))
		}
	}
	golden.File(t, "testdata/quantities.txt", b.String())
}
