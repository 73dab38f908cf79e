package motorola

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/codectest"
	"mexalt/codec/format"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

func read(text string, o format.ReadOptions) (*memory.Image, []string) {
	var problems source.Problems
	result, err := Read(strings.NewReader(text), &source.Input{Name: "f", Counting: source.Lines}, o, &problems)
	if err != nil {
		panic(err)
	}
	var list []string
	for _, p := range problems.Sorted() {
		list = append(list, p.Error())
	}
	if problems.Errors() > 0 {
		return nil, list
	}
	return result.Image, list
}

// rec makes a record with the right count and checksum.
func rec(kind int, address uint32, data string) string {
	b := []byte{byte(addressBytes[kind] + len(data) + 1)}
	for i := addressBytes[kind] - 1; i >= 0; i-- {
		b = append(b, byte(address>>(8*i)))
	}
	b = append(b, data...)
	sum := byte(0)
	for _, c := range b {
		sum += c
	}
	return fmt.Sprintf("S%d%X\n", kind, append(b, ^sum))
}

var (
	end1 = rec(9, 0, "")
	end2 = rec(8, 0, "")
	end3 = rec(7, 0, "")
)

func image(t *testing.T, parts map[uint64]string) *memory.Image {
	t.Helper()
	var images []*memory.Image
	for first, data := range parts {
		m, ok := memory.FromBytes(first, []byte(data), &source.Input{Name: "f"})
		require.True(t, ok)
		images = append(images, m)
	}
	m, _ := memory.Merge(images, memory.First)
	return m
}

func TestReadsWhatTheStandardAllows(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want map[uint64]string
	}{
		"the layout": {"S00600004844521B\nS107000048454C4CD3\nS5030001FB\nS9030000FC\n", map[uint64]string{0: "HELL"}},
		"lower case": {"S1050000abcd82\nS9030000fc\n", map[uint64]string{0: "\xAB\xCD"}},
		"CR LF":      {strings.ReplaceAll(rec(1, 0, "a")+rec(1, 1, "b")+end1, "\n", "\r\n"), map[uint64]string{0: "ab"}},
		"CR":         {strings.ReplaceAll(rec(1, 0, "a")+rec(1, 1, "b")+end1, "\n", "\r"), map[uint64]string{0: "ab"}},
		"S2":         {rec(2, 0x12_3456, "ab") + end2, map[uint64]string{0x12_3456: "ab"}},
		"S3":         {rec(3, 0x0600_0000, "ab") + end3, map[uint64]string{0x0600_0000: "ab"}},
		"mixed types": {rec(1, 0, "a") + rec(2, 0x1_0000, "b") + rec(3, 0x100_0000, "c") + end3,
			map[uint64]string{0: "a", 0x1_0000: "b", 0x100_0000: "c"}},
		"mixed, low": {rec(1, 0, "\x01bc") + rec(2, 0x10, "def") + rec(3, 0x20, "ghi") + end3,
			map[uint64]string{0: "\x01bc", 0x10: "def", 0x20: "ghi"}},
		"no count, header":   {rec(1, 0, "a") + end1, map[uint64]string{0: "a"}},
		"S6":                 {rec(1, 0, "a") + rec(6, 1, "") + end1, map[uint64]string{0: "a"}},
		"count between":      {rec(1, 0, "a") + rec(5, 1, "") + rec(1, 1, "b") + rec(5, 2, "") + end1, map[uint64]string{0: "ab"}},
		"out of order":       {rec(1, 2, "c") + rec(1, 0, "ab") + end1, map[uint64]string{0: "abc"}},
		"no data bytes":      {rec(1, 5, "") + rec(1, 0, "a") + end1, map[uint64]string{0: "a"}},
		"longest record":     {rec(1, 0, strings.Repeat("x", 252)) + end1, map[uint64]string{0: strings.Repeat("x", 252)}},
		"the last address":   {rec(3, 0xFFFF_FFFF, "a") + end3, map[uint64]string{0xFFFF_FFFF: "a"}},
		"white space behind": {strings.Replace(rec(1, 0, "a"), "\n", "\t \n", 1) + "\n" + end1 + "\x1A", map[uint64]string{0: "a"}},
	} {
		t.Run(name, func(t *testing.T) {
			m, problems := read(c.text, format.ReadOptions{})
			require.Empty(t, problems)
			assert.True(t, image(t, c.want).Equal(m), "%v", m.Runs())
		})
	}
	m, _ := read(rec(0, 0, "HDR")+rec(1, 0, "abc")+rec(9, 0x1234, ""), format.ReadOptions{})
	assert.Equal(t, "HDR", string(m.Header()))
	assert.Equal(t, memory.Start{Kind: memory.LinearStart, Value: 0x1234}, m.Start())
	m, _ = read(rec(1, 0, "abc")+end1, format.ReadOptions{})
	assert.Equal(t, memory.Start{}, m.Start(), "0 is no start address")
	assert.Nil(t, m.Header())
}

func TestProblems(t *testing.T) {
	a := rec(1, 0, "a")
	for name, c := range map[string]struct {
		text    string
		want    []string
		lenient string // the bytes from 0 on where -lenient allows it; "" is never
	}{
		"no end record": {a,
			[]string{"f:1:13: error: the file has no end record; it has 1 byte, the last at 0x0000; expected S7, S8 or S9 at the end"},
			"a"},
		"after the end": {a + end1 + rec(1, 1, "b") + end1, []string{"f:3:1: error: data after the end record"}, "ab"},
		"text behind": {"S104000061" + "9A ; boot\n" + end1,
			[]string{"f:1:13: error: text after the record; expected nothing after the checksum"}, "a"},
		"S4":                  {a + "S4030000FC\n" + end1, []string{"f:2:2: error: S4 is reserved; expected S0 to S3, S5 to S9"}, "a"},
		"end of another type": {a + end3, []string{"f:2:2: error: end record S7 does not match data records S1"}, "a"},
		"end of a mixed file": {a + rec(2, 0x1_0000, "b") + end1,
			[]string{"f:3:2: error: end record S9 does not match data records S2"}, "a"},
		"twice the same": {a + a + end1,
			[]string{"f:2: error: bytes at 0x0000 (1 byte) are given twice, with the same values; expected"}, "a"},
		"comment": {"; boot\n" + a + end1,
			[]string{"f:1:1: error: the line does not begin with a record mark; expected 'S'"}, "a"},
		"header with an address": {rec(0, 5, "HDR") + a + end1, []string{"f:1:5: error: header record with address 0x0005"}, "a"},
		"two headers":            {rec(0, 0, "HDR") + rec(0, 0, "HDR") + a + end1, []string{"f:2:1: error: a second header record"}, "a"},
		"header behind data":     {a + rec(0, 0, "HDR") + end1, []string{"f:2:1: error: a header record after data records"}, "a"},
		"past the type's reach": {rec(1, 0xFFFF, "bc") + a + end1,
			[]string{"f:1:5: error: the record runs past 0xFFFF, the last address that S1 records reach"}, "a"},

		"no digit": {"S10400006x9A\n" + end1,
			[]string{"f:1:10: error: character 'x' among the digits of a record"}, ""},
		"shorter": {"S105000061" + "99\n" + end1,
			[]string{"f:1:13: error: the record is shorter than its count says: 12 characters; expected 14 digits for a count of 5"}, ""},
		"longer": {"S10400006162" + "9A\n" + end1,
			[]string{"f:1:13: error: the record is longer than its count says: 14 characters; expected 12 digits for a count of 4"}, ""},
		"breaks off": {a + "S104",
			[]string{"f:2:5: error: the record is shorter than its count says: 4 characters; expected 12 digits for a count of 4 (the " +
				"file is truncated here; get it again)", "f:2:5: error: the file has no"}, ""},
		"wrong checksum": {"S104000061" + "9B\n" + end1,
			[]string{"f:1:11: error: checksum is 0x9B; expected 0x9A, computed from the record"}, ""},
		"type no digit": {"SX04000061" + "9A\n" + end1,
			[]string{"f:1:2: error: 'X' is not a record type; expected a digit 0 to 9 after 'S'"}, ""},
		"small s": {"s104000061" + "9A\n" + end1, []string{"f:1:1: error: the record mark is a small letter"},
			""},
		"mark damaged": {"5104000061" + "9A\n" + end1,
			[]string{"f:1:1: error: the record mark is damaged or missing"}, ""},
		"count too small": {"S10100FE\n" + end1, []string{"f:1:7: error: the record is longer"}, ""},
		"count of nothing": {"S101FE\n" + end1,
			[]string{"f:1:3: error: a count of 1 is too small for an S1 record; expected 3 or more"}, ""},
		"count is wrong": {a + rec(5, 2, "") + end1,
			[]string{"f:2:5: error: the count record says 2 data records; expected 1, as many as come before it"}, ""},
		"count too long": {a + rec(5, 1, "x") + end1,
			[]string{"f:2:3: error: count record of the wrong length"}, ""},
		"end too long": {a + rec(9, 1, "x"), []string{"f:2:3: error: end record of the wrong length"}, ""},
		"count behind the end": {a + end1 + rec(5, 2, ""),
			[]string{"f:3:1: error: data after the end record",
				"f:3:5: error: the count record says 2 data records; expected 1, as many as come before it"}, ""},
		"S4 with a wrong sum": {a + "S4030000FD\n" + end1,
			[]string{"f:2:9: error: checksum is 0xFD; expected 0xFC, computed from the record"}, ""},
		"the longest without its mark": {rec(1, 0, strings.Repeat("x", 252))[1:] + end1,
			[]string{"f:1:1: error: the record mark is damaged or missing"}, ""},
		"a comment, and a count that differs": {"; boot\n" + a + rec(5, 2, "") + end1,
			[]string{"f:1:1: error: the line does not begin with a record mark"}, ""},
		"a damaged mark, and a count that counts it": {a + "5104000161" + "99\n" + rec(5, 2, "") + end1,
			[]string{"f:2:1: error: the record mark is damaged or missing"}, ""},
		"broken in two": {"S1040000\n61" + "9A\n" + a[:0] + end1,
			[]string{"f:1: error: lines 1 and 2 are one record broken into two; expected one record on one line (an editor or a mail " +
				"program wrapped it"}, ""},
		"twice, different": {a + rec(1, 0, "b") + end1, []string{"f:2: error: bytes at 0x0000 (1 byte) are given twice and differ"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			m, problems := read(c.text, format.ReadOptions{})
			require.Nil(t, m)
			require.Len(t, problems, len(c.want), "%q", problems)
			for i, want := range c.want {
				assert.True(t, strings.HasPrefix(problems[i], want), "found    %s\nexpected %s", problems[i], want)
			}
			m, problems = read(c.text, format.ReadOptions{Lenient: true})
			if c.lenient == "" {
				require.Nil(t, m, "damage is damage, leniently too: %q", problems)
				return
			}
			require.NotNil(t, m, "%q", problems)
			got := make([]byte, len(c.lenient))
			require.True(t, m.ReadAt(got, 0))
			assert.Equal(t, c.lenient, string(got))
		})
	}
}

// TestDamagedTypes warns of type digits that look damaged, by where the record would lie,
// by its length, by being alone, and by what a header holds; and of no others. Records that
// are decoded many at once, and those that are looked at one by one, are told of alike.
func TestDamagedTypes(t *testing.T) {
	s := func(n uint32) string { return rec(1, 16*n, "\x82123456789abcdef") }
	as := func(line string, kind byte) string { return "S" + string(kind) + line[2:] }
	const (
		looks = "f:%d:2: warning: S%d among S%d records looks like a damaged type digit; "
		end   = "f:%d:2: warning: end record S9 does not match data records S2; expected S8 (one of the type digits may be damaged)"
	)
	for name, c := range map[string]struct {
		text string
		want []string
	}{
		"none": {s(0) + s(1) + s(2) + end1, nil},
		"carries on": {s(0) + as(s(1), '2') + rec(1, 0x60, "xy") + end1,
			[]string{fmt.Sprintf(looks, 2, 2, 1) + "expected S1, which continues at 0x0010, where the record before it ends",
				fmt.Sprintf(end, 4)}},
		"carries on, high": {rec(1, 0x1230, "\x01bc") + as(rec(1, 0x1233, "\x05xyz"), '2') + rec(1, 0x60, "xy") + end1,
			[]string{fmt.Sprintf(looks, 2, 2, 1) + "expected S1, which continues at 0x1233, where the record before it ends",
				fmt.Sprintf(end, 4)}},
		"ends": {as(s(0), '2') + s(1) + s(2) + end1,
			[]string{fmt.Sprintf(looks, 1, 2, 1) + "expected S1, which ends at 0x0010, where the next record begins", fmt.Sprintf(end, 4)}},
		"as long": {s(0) + s(1) + as(s(4), '2') + s(8) + end1,
			[]string{fmt.Sprintf(looks, 3, 2, 1) + "expected S1, as its length matches 2 S1 records before it", fmt.Sprintf(end, 5)}},
		"as long as one": {s(0) + as(s(4), '2') + rec(2, 0x20_0000, "xyz") + end2,
			[]string{"f:1:2: warning: the only S1 record, all other data records are S2 (the type digit may be damaged; the record " +
				"was taken as it is)"}},
		"first, as long": {as(s(3), '2') + s(5) + s(8),
			[]string{"f:1:2: warning: S2 before S1 records looks like a damaged type digit; expected S1, as its length matches " +
				"2 S1 records"}},
		"another, far away":         {s(0) + s(1) + rec(2, 0x1_0000, "x") + rec(2, 0x1_0001, "y") + end2, nil},
		"as long as two, not alone": {rec(1, 0, "\x01bc") + rec(1, 3, "def") + rec(2, 6, "gh") + rec(2, 8, "ij") + end2, nil},
		"the only one": {rec(1, 0, "\x01") + rec(2, 0x10, "y") + rec(2, 0x20, "z") + end2,
			[]string{"f:1:2: warning: the only S1 record, all other data records are S2 (the type digit may be damaged; the record " +
				"was taken as it is)"}},
		"the only one, last": {rec(2, 0x10, "y") + rec(2, 0x20, "z") + rec(3, 0x30, "\x01") + end3,
			[]string{"f:3:2: warning: the only S3 record, all other data records are S2 (the type digit may be damaged; the record " +
				"was taken as it is)"}},
		"three kinds": {rec(1, 0, "\x01") + rec(2, 0x10, "y") + rec(3, 0x20, "z") + end3, nil},
		"a header as data": {as(s(0), '0') + s(1) + s(2) + end1,
			[]string{"f:1:2: warning: the header record looks like a data record: the first data record begins where it would end; " +
				"expected S1 (the type digit may be damaged)"}},
		"hardly text": {rec(0, 0, "\x01\x02\x03\x04") + s(1) + end1,
			[]string{"f:1:2: warning: the header record is hardly text (it may be a data record with a damaged type digit; it was " +
				"taken as the header)"}},
		"some text":       {rec(0, 0, "abc\x04") + s(1) + end1, nil},
		"spaces, tildes":  {rec(0, 0, " ~ ~") + s(1) + end1, nil},
		"hardly, counted": {rec(0, 0, "\x01\x02\x03\x04") + s(1) + rec(5, 1, "") + end1, nil},
		"hardly, no data": {rec(0, 0, "\x01\x02\x03\x04") + end1, nil},
		"data as a header": {rec(1, 0, "gauge") + rec(1, 0x100, "\x01") + end1,
			[]string{"f:1:2: warning: the first data record contains only text, \"gauge\"; expected a header record S0 for a text " +
				"like this (the type digit may be damaged; the record was taken as data)"}},
		"text of two":       {rec(1, 0, "ga") + rec(1, 0x100, "\x01") + end1, nil},
		"text that goes on": {rec(1, 0, "gauge") + rec(1, 5, "\x01") + end1, nil},
		"text alone":        {rec(1, 0, "gauge") + end1, nil},
		"text elsewhere":    {rec(1, 0x100, "gauge") + rec(1, 0x200, "\x01") + end1, nil},
		"text, and one not": {rec(1, 0, "gaug\x7F") + rec(1, 0x200, "\x01") + end1, nil},
		"text, and a space": {rec(1, 0, "gaug ") + rec(1, 0x200, "\x01") + end1,
			[]string{"f:1:2: warning: the first data record contains only text, \"gaug \"; expected a header record S0 for a text " +
				"like this (the type digit may be damaged; the record was taken as data)"}},
	} {
		for _, text := range []string{c.text, strings.ReplaceAll(c.text, "\n", " \n")} {
			_, problems := read(text, format.ReadOptions{Lenient: true})
			problems = slices.DeleteFunc(problems, func(p string) bool { return strings.Contains(p, "no end record") })
			assert.Equal(t, strings.Join(c.want, "\n"), strings.Join(problems, "\n"), name)
		}
	}
}

// TestUnits reads and writes addresses that count words, up to the last of each type.
func TestUnits(t *testing.T) {
	for _, unit := range []int{2, 4} {
		for kind := 1; kind <= 3; kind++ {
			u, last := uint64(unit), lastAddress(kind)
			text := rec(kind, 0x10, "abcdefgh") + rec(kind, uint32(last-uint64(8/unit)+1), "stuvwxyz") + rec(endKind(kind), 0x20, "")
			want := image(t, map[uint64]string{0x10 * u: "abcdefgh", last*u + u - 8: "stuvwxyz"})
			for _, text := range []string{text, strings.ReplaceAll(text, "\n", " \n")} {
				m, problems := read(text, format.ReadOptions{Unit: unit})
				require.Empty(t, problems, text)
				assert.True(t, want.Equal(m), "unit %d, S%d: %v", unit, kind, m.Runs())
				assert.Equal(t, memory.Start{Kind: memory.LinearStart, Value: 0x20 * u}, m.Start())
				var b bytes.Buffer
				require.NoError(t, (&Writer{Unit: unit, Kind: uint64(kind)}).Write(&b, m))
				again, problems := read(b.String(), format.ReadOptions{Unit: unit})
				require.Empty(t, problems)
				assert.True(t, want.Equal(again) && m.Start() == again.Start())
				over := rec(kind, uint32(last-uint64(8/unit)+2), "stuvwxyz") + rec(endKind(kind), 0, "")
				for _, over := range []string{over, strings.ReplaceAll(over, "\n", " \n")} {
					_, problems = read(over, format.ReadOptions{Unit: unit})
					require.Len(t, problems, 1)
					assert.Contains(t, problems[0],
						fmt.Sprintf("f:1:5: error: the record runs past 0x%X, the last address that S%d records reach", last, kind))
				}
			}
		}
	}
}

func TestWrite(t *testing.T) {
	headed := image(t, map[uint64]string{0: "ab"})
	headed = headed.WithHeader([]byte("HDR")).WithStart(memory.Start{Kind: memory.LinearStart, Value: 0x1_0000})
	for name, c := range map[string]struct {
		m    *memory.Image
		o    Writer
		want string
	}{
		"S1": {image(t, map[uint64]string{0xFFFF: "a"}), Writer{}, rec(1, 0xFFFF, "a") + rec(5, 1, "") + end1},
		"S2": {image(t, map[uint64]string{0: "a", 0x1_0000: "b"}), Writer{},
			rec(2, 0, "a") + rec(2, 0x1_0000, "b") + rec(5, 2, "") + end2},
		"S1, words":     {image(t, map[uint64]string{0x1_FFFE: "ab"}), Writer{Unit: 2}, rec(1, 0xFFFF, "ab") + rec(5, 1, "") + end1},
		"S3":            {image(t, map[uint64]string{0x100_0000: "a"}), Writer{}, rec(3, 0x100_0000, "a") + rec(5, 1, "") + end3},
		"pinned":        {image(t, map[uint64]string{0: "a"}), Writer{Kind: 3}, rec(3, 0, "a") + rec(5, 1, "") + end3},
		"start, header": {headed, Writer{}, rec(0, 0, "HDR") + rec(2, 0, "ab") + rec(5, 1, "") + rec(8, 0x1_0000, "")},
		"width, CR LF": {image(t, map[uint64]string{1: "abc"}), Writer{RecordLength: 2, CRLF: true},
			strings.ReplaceAll(rec(1, 1, "a")+rec(1, 2, "bc")+rec(5, 2, "")+end1, "\n", "\r\n")},
	} {
		t.Run(name, func(t *testing.T) {
			var b bytes.Buffer
			require.NoError(t, c.o.Write(&b, c.m))
			assert.Equal(t, c.want, b.String())
		})
	}
	var b bytes.Buffer
	assert.ErrorContains(t, (&Writer{Kind: 1}).Write(&b, image(t, map[uint64]string{0x1_0000: "a"})),
		"the image's run 0x0001_0000 (1 byte) is above 0xFFFF, the last address that S1 records reach")
	assert.ErrorContains(t, (&Writer{Kind: 1}).Write(&b, headed), "whose last is 0xFFFF")
	assert.ErrorContains(t, (&Writer{Kind: 3, RecordLength: 251}).Write(&b, image(t, nil)), "more than an S3 record can have, 250")
	assert.ErrorContains(t, (&Writer{}).Write(&b, image(t, map[uint64]string{1 << 32: "a"})), "is above 0xFFFF_FFFF")

	// 65,536 data records need a count of 24 bits.
	b.Reset()
	require.NoError(t, (&Writer{RecordLength: 1}).Write(&b, image(t, map[uint64]string{0: strings.Repeat("x", 0x1_0000)})))
	assert.Contains(t, b.String(), rec(6, 0x1_0000, ""))
	m, problems := read(b.String(), format.ReadOptions{})
	assert.Empty(t, problems)
	assert.Equal(t, uint64(0x1_0000), m.Bytes())
}

func TestPlainAndLineAgree(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for kind := 1; kind <= 3; kind++ {
		var text, slow strings.Builder
		address, count := uint32(0), uint32(0)
		for text.Len() < 3<<20 && uint64(address) < lastAddress(kind)-300 {
			data := strings.Repeat("y", []int{16, 16, 16, 1 + r.IntN(240)}[r.IntN(4)])
			line := rec(kind, address, data)
			address += uint32(len(data))
			if kind > 1 && r.IntN(50) == 0 {
				address += r.Uint32N(500)
			}
			if count++; r.IntN(1000) == 0 {
				line += rec(6, count, "")
			}
			text.WriteString(line)
			slow.WriteString(strings.ReplaceAll(line, "\n", " \n"))
		}
		text.WriteString(rec(endKind(kind), 0, ""))
		slow.WriteString(rec(endKind(kind), 0, ""))
		one, problems := read(text.String(), format.ReadOptions{})
		require.NotNil(t, one, "%v", problems)
		two, _ := read(text.String(), format.ReadOptions{Cores: 3})
		three, _ := read(slow.String(), format.ReadOptions{})
		require.True(t, one.Equal(two) && one.Equal(three))
		records := func(text string) *format.Records {
			content, err := Read(strings.NewReader(text), &source.Input{}, format.ReadOptions{}, &source.Problems{})
			require.NoError(t, err)
			return content.Records
		}
		require.Equal(t, records(slow.String()), records(text.String()))
		for _, run := range one.Runs() {
			a, _ := one.Origin(run.Last())
			b, _ := two.Origin(run.Last())
			c, _ := three.Origin(run.Last())
			require.Equal(t, a.String(), b.String())
			require.Equal(t, a.String(), c.String())
		}
	}
}

// TestOneChangedCharacter changes every character of files to many others:
// each is reported, or makes the same image. The type digit is the hard one,
// since no checksum covers it.
func TestOneChangedCharacter(t *testing.T) {
	for name, good := range map[string]string{
		"S1 with header": rec(0, 0, "gauge") + rec(1, 0, "\x00\x60\x01\x60abcdefghijkl") + rec(1, 0x10, "0123456789abcdef") + rec(1, 0x20,
			"mnop") + rec(1, 0x100, "\xAB\xCD") + rec(1, 0x110, "\xEA") + rec(5, 5, "") + rec(9, 0x12, ""),
		"S1 without": rec(1, 0, "\x00\x60\x01\x60abcdefghijkl") + rec(1, 0x10, "0123456789abcdef") + rec(1, 0x20,
			"0123456789abcdef") + rec(1, 0x30, "mnop") + end1,
		"S2": rec(0, 0, "gauge") + rec(2, 0x1_0000, "\x00\x60\x01\x60abcdefghijkl") + rec(2, 0x1_0010, "0123456789abcdef") + rec(2,
			0x1_0020, "0123456789abcdef") + rec(2, 0x1_0030, "mnop") + rec(5, 4, "") + end2,
		"S3": rec(0, 0, "gauge") + rec(3, 0x0600_0000, "\x00\x60\x01\x60abcdefghijkl") + rec(3, 0x0600_0010,
			"0123456789abcdef") + rec(3, 0x0600_0020, "0123456789abcdef") + rec(3, 0x0600_4000, "0123456789abcdef") + rec(3, 0x0600_4010,
			"mnop") + rec(7, 0x0600_0101, ""),
		"S3 alone": rec(3, 0x0600_0100, "0123456789abcdef") + rec(3, 0x0600_0020, "0123456789abcdef") + rec(3, 0x0600_0030,
			"0123456789abcdef") + end3,
	} {
		t.Run(name, func(t *testing.T) {
			want, problems := read(good, format.ReadOptions{})
			require.Empty(t, problems)
			for i := range good {
				for _, c := range []byte("0123456789ABCDEFabcdefgS:;, \t\n\r\x00\x1A\x7F\xA0\xC2\xFF") {
					text := []byte(good)
					text[i] = c
					m, problems := read(string(text), format.ReadOptions{})
					if len(problems) == 0 {
						require.True(t, want.Equal(m) && want.Start() == m.Start(), "%q at %d gave another image in silence", c, i)
					}
					if c != good[i] && good[i] != '\n' && strings.IndexByte("gS:;,\x7F\xA0\xFF", c) >= 0 { // even where it counts as 0
						require.NotEmpty(t, problems, "%q at %d", c, i)
					}
				}
			}
		})
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{
		rec(0, 0, "HDR") + rec(1, 0, "a") + end1, rec(3, 0xFFFF_FFFE, "ab") + end3, rec(1, 0, "a") + rec(1, 0, "b"),
		rec(2, 0, "abc") + rec(5, 1, "") + end2,
		rec(1, 0, "abcd") + rec(3, 4, "efgh") + rec(2, 8, "ijkl") + end3, "S", "S1", "S9\r\r\n", "S00600004844521B x\n",
	} {
		f.Add([]byte(s), false)
		f.Add([]byte(s), true)
	}
	f.Fuzz(func(t *testing.T, text []byte, lenient bool) {
		m, _ := read(string(text), format.ReadOptions{Lenient: lenient})
		two, _ := read(string(text), format.ReadOptions{Lenient: lenient, Cores: 2})
		if (m == nil) != (two == nil) || m != nil && !m.Equal(two) {
			t.Fatal("two cores read it otherwise than one")
		}
		if m == nil {
			return
		}
		if m.Bytes() > uint64(len(text)) {
			t.Fatal("more bytes than text")
		}
		if _, err := (&Writer{}).Check(m); err != nil {
			return // leniently read past 4 GiB
		}
		var b bytes.Buffer
		if err := (&Writer{}).Write(&b, m); err != nil {
			t.Fatal(err)
		}
		// Deviations that may stand in any image, such as text at 0 that looks
		// like a header, are let pass.
		again, problems := read(b.String(), format.ReadOptions{Lenient: true})
		if again == nil || !again.Equal(m) || again.Start() != m.Start() {
			t.Fatalf("written and read again it differs: %q", problems)
		}
	})
}

func TestEditedFiles(t *testing.T) {
	codectest.Edited(t, "testdata/edited.txt", 400, Format.Reader, map[string]string{
		"S1":    rec(0, 0, "name") + rec(1, 0x10, "\x01\x02\x03\x04") + rec(1, 0x14, "\x05") + rec(5, 2, "") + end1,
		"S2":    rec(2, 0x12_3456, "abc") + rec(2, 0x12_3459, "d") + rec(6, 2, "") + rec(8, 0x12_3456, ""),
		"S3":    rec(3, 0x0600_0000, strings.Repeat("x", 32)) + rec(3, 0x0600_0020, strings.Repeat("y", 32)) + rec(7, 0x0600_0001, ""),
		"mixed": rec(1, 0xFFFE, "ab") + rec(2, 0x1_0000, "cd") + rec(3, 0x2_0000, "e") + end3,
		"CR LF": strings.ReplaceAll(rec(1, 0, "abc")+rec(1, 2, "cd")+end1, "\n", "\r\n"),
		"lower": strings.ToLower(rec(1, 0xABCD, "\xEF\xFE")) + end2,
	})
}

// written is what a writer that is set by its keys writes, with its notes; or the error.
func written(t *testing.T, m *memory.Image, unit int, settings ...string) string {
	t.Helper()
	w := Format.Writer(format.WriteOptions{Unit: unit})
	for i := 0; i < len(settings); i += 2 {
		if err := key.Find(w.Keys(), settings[i]).Set(settings[i+1]); err != nil {
			return err.Error()
		}
	}
	notes, err := w.Check(m)
	var b strings.Builder
	if err == nil {
		err = w.Write(&b, m)
	}
	for _, n := range notes {
		fmt.Fprintln(&b, "note:", n)
	}
	if err != nil {
		fmt.Fprintln(&b, "error:", err)
	}
	return b.String()
}

// TestWriterIsSetByItsKeys writes what each key asks for, up to its bounds, and says what cannot be.
func TestWriterIsSetByItsKeys(t *testing.T) {
	m := image(t, map[uint64]string{0x10: "abcdef"})
	plain := rec(1, 0x10, "abcdef") + rec(5, 1, "") + end1
	start := func(kind memory.StartKind, value uint64) *memory.Image {
		return m.WithStart(memory.Start{Kind: kind, Value: value})
	}
	for want, got := range map[string]string{
		plain:                                   written(t, m, 0),
		strings.ReplaceAll(plain, "\n", "\r\n"): written(t, m, 0, "crlf", "true"),
		rec(1, 0x10, "abcd") + rec(1, 0x14, "ef") + rec(5, 2, "") + end1: written(t, m, 0, "record-length",
			"4"),
		rec(3, 0x10, "abcdef") + rec(5, 1, "") + end3: written(t, m, 0, "data-records",
			"3"),
		rec(2, 0x10, "abcdef") + rec(5, 1, "") + end2: written(t, m, 0, "data-records",
			"2"),
		rec(1, 0xFFFE, "ab") + rec(5, 1, "") + end1: written(t,
			image(t, map[uint64]string{0xFFFE: "ab"}), 0),
		rec(2, 0x10000, "ab") + rec(5, 1, "") + end2: written(t,
			image(t, map[uint64]string{0x10000: "ab"}), 0),
		rec(3, 0x1000000, "ab") + rec(5, 1, "") + end3:            written(t, image(t, map[uint64]string{0x1000000: "ab"}), 0),
		rec(0, 0, "TG\n1") + plain:                                written(t, m, 0, "header", `TG\n1`),
		rec(0, 0, "of the image") + plain:                         written(t, m.WithHeader([]byte("of the image")), 0),
		rec(0, 0, "") + plain:                                     written(t, m.WithHeader([]byte("of the image")), 0, "header", ""),
		rec(1, 8, "abcdef") + rec(5, 1, "") + end1:                written(t, m, 2),
		rec(1, 0x10, "abcdef") + rec(5, 1, "") + rec(9, 0x12, ""): written(t, start(memory.LinearStart, 0x12), 0),
		rec(1, 8, "abcdef") + rec(5, 1, "") + rec(9, 9, ""):       written(t, start(memory.LinearStart, 0x12), 2),
		plain + "note: start address 0 is written; S-record readers take it as \"no start address\"\n": written(t,
			start(memory.LinearStart, 0), 0),
		rec(1, 0x10, "abcdef") + rec(5, 1, "") + rec(9, 0x123, "") +
			"note: the start address CS:IP 0010:0023 is written as 0x0123; S-records have linear ones only\n": written(t,
			start(memory.SegmentedStart, 0x100023), 0),
	} {
		assert.Equal(t, want, got)
	}
	for want, got := range map[string]string{
		"253 bytes; a header record has at most 252":              written(t, m, 0, "header", strings.Repeat("x", 253)),
		"253 data bytes are more than an S1 record can have, 252": written(t, m, 0, "record-length", "253"),
		"\"0\" is out of range; 1 to 255":                         written(t, m, 0, "record-length", "0"),
		"above 0xFFFF, the last address that S1 records reach": written(t, image(t, map[uint64]string{0xFFFF: "ab"}),
			0, "data-records", "1"),
		"escape":        written(t, m, 0, "header", `\q`),
		"start address": written(t, start(memory.LinearStart, 0x13), 2),
		"0x2_0000_0000": strings.ReplaceAll(written(t, image(t, map[uint64]string{0x2_0000_0000: "a"}), 0), "0x0002_0000_0000",
			"0x2_0000_0000"),
		"not a multiple": strings.ReplaceAll(written(t, image(t, map[uint64]string{1: "a"}), 2), "whole", "not a multiple"),
	} {
		assert.Contains(t, got, want)
	}
	assert.NotContains(t, written(t, m, 0, "header", strings.Repeat("x", 252)), "error")
	assert.NotContains(t, written(t, m, 0, "record-length", "252"), "error")
}

// TestCountsOfRecords writes as many records as a count of two bytes tells, and one more.
func TestCountsOfRecords(t *testing.T) {
	for count, want := range map[int]string{0xFFFF: rec(5, 0xFFFF, ""), 0x1_0000: rec(6, 0x1_0000, "")} {
		var batch memory.Batch
		for i := range count {
			batch.Add(uint64(2*i), []byte{1}, i+1)
		}
		m, _ := batch.Image(&source.Input{Name: "f"})
		text := written(t, m, 0)
		lines := strings.SplitAfter(strings.TrimSuffix(text, end2), "\n")
		assert.Equal(t, want, lines[len(lines)-2])
		back, problems := read(text, format.ReadOptions{})
		assert.Empty(t, problems)
		assert.True(t, m.Equal(back))
	}
}
