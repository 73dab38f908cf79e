package check

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/source"
)

// sketched makes parts of lines "NAME ADDRESS SIZE BYTES": the bytes come first, what follows
// is any. Lines of one name are one part; what cannot be read is a part that could not be.
func sketched(text string) (parts []Part) {
	for line := range strings.Lines(text) {
		fields := strings.Fields(line)
		if len(fields) < 4 {
			continue
		}
		at, err := strconv.ParseUint(fields[1], 16, 64)
		size, err2 := strconv.ParseUint(fields[2], 16, 20)
		begin, err3 := hex.DecodeString(fields[3])
		k := -1
		for i := range parts {
			if parts[i].Name == fields[0] {
				k = i
			}
		}
		if k < 0 {
			parts, k = append(parts, Part{Name: fields[0], Image: &memory.Image{}}), len(parts)
		}
		if err := errors.Join(err, err2, err3); err != nil {
			parts[k].Image, parts[k].Err = nil, err
			continue
		}
		if parts[k].Image == nil {
			continue
		}
		data := make([]byte, max(size, uint64(len(begin))))
		random := rand.New(rand.NewPCG(at, size))
		for i := range data {
			data[i] = byte(random.Uint32())
		}
		copy(data, begin)
		if image, ok := parts[k].Image.Write(&source.Input{Name: fields[0]}, at, data); ok {
			parts[k].Image = image
		}
	}
	return parts
}

// TestEditedParts checks parts that differ in a few places from ones that fit, and holds the
// findings, with what each rule says of a region alone, against those of before.
func TestEditedParts(t *testing.T) {
	golden.Edited(t, "testdata/parts.txt", 50, map[string]string{
		"brindle-d32-256": `loader 06000000 2000 0000012801010006
loader 06003F00 100 00
app 06004000 100 0102030402000000
app 06004100 4000 0000012801420006
options 07000000 10 B700000048FFFFFF
options 07000008 8 FFFFFFFF00000000
ram 28000000 10 00
`,
		"brindle-m32-512": `loader 06000000 1F00 0000012841010006
station 06008000 3000 0000012841810006
tables 50000000 900 54494445
serial 07000000 10 4D4500
words 07001000 8 AAFF00FF
`,
		"brindle-w16-64": `app 0 400 0000010000000200
app DFF0 10 000000000000000000000000000003FF
loader E000 1FE0 0000700000007010
words FFE0 20 571664FFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFF7FF87FFF
settings 200000 40 01
`,
		"brindle-b8-32": `app 0 7000 0C9434000C943E00
boot 7800 580 11241FBECFEFD8E0
cal 400000 200 43414C00
fuses 500000 3 E2D9FF
`,
	}, func(name, text string) string {
		m, err := device.Open(&source.Files{}, name, nil)
		require.NoError(t, err)
		parts := sketched(text)
		var b strings.Builder
		r := Run(m, parts, Options{Accept: []string{"start-stack", "missing-part:loader", "uncovered"}})
		b.WriteString(told(r))
		for _, s := range r.Skipped {
			fmt.Fprintln(&b, s.Rule, s.Why)
		}
		e := EntryOf(m, r.Whole)
		fmt.Fprintln(&b, e.At, e.Where, e.Region != nil, e.Stack, e.Target, e.Code, e.Fault)
		for i := range m.Regions {
			b.WriteString(told(Run(m, parts[:min(len(parts), 1)], Options{Region: &m.Regions[i], Words: map[string]uint64{"fuses": 1}})))
		}
		return b.String()
	})
}

// TestPartsThatCannotBeRead finds each, with why.
func TestPartsThatCannotBeRead(t *testing.T) {
	m, err := device.Open(&source.Files{}, "brindle-b8-32", nil)
	require.NoError(t, err)
	var doubted, broken source.Problems
	doubted.Add(&source.Problem{File: "d", Line: 3, What: "a record is missing", Severity: source.Warning, Doubt: source.LostLine})
	doubted.Add(&source.Problem{File: "d", Line: 9, What: "odd", Severity: source.Warning})
	broken.Add(&source.Problem{File: "p", Line: 2, What: "no record"})
	image, _ := memory.FromBytes(0, binary.LittleEndian.AppendUint32(nil, 1), &source.Input{Name: "d"})
	parts := []Part{
		{Name: "d", Image: image, Problems: &doubted}, {Name: "p", Problems: &broken},
		{Name: "s", Err: &source.SystemError{File: "s", Doing: "read", Err: errors.New("no permission")}},
		{Name: "o", Err: &source.Problem{File: "o", What: "its own"}}, {Name: "e", Err: errors.New("any")},
	}
	var all []string
	for _, f := range Run(m, parts, Options{}).Findings {
		if f.Where == nil {
			all = append(all, fmt.Sprintf("%s %s %s: %s", f.Severity, f.Rule, f.Input, f.What))
		}
	}
	var doubts []string
	for _, f := range Doubts(parts, Options{}).Findings {
		doubts = append(doubts, f.Rule+" "+f.What)
	}
	assert.Equal(t, []string{
		"error unreadable p: no record", "error unreadable s: cannot be read: no permission", "error unreadable o: its own",
		"error unreadable e: any",
		"error lost-line d: a record is missing", "note doubtful-input d: odd",
	}, all)
	assert.Equal(t, []string{"lost-line a record is missing", "doubtful-input odd"}, doubts)
	accepted := slices.DeleteFunc(RuleIDs(), func(id string) bool { return RuleOf(id).Never || RuleOf(id).Named })
	assert.Len(t, accepted, len(RuleIDs())-2)
	assert.NoError(t, CheckAccept(append(accepted, "clash:app", "last-port:serial")))
	assert.ErrorContains(t, CheckAccept([]string{"config-board:clock"}), "cannot be accepted")
	assert.ErrorContains(t, CheckAccept([]string{"last-port"}), "by name only")
	assert.ErrorContains(t, CheckAccept([]string{"clash", "clahs"}), `unknown rule "clahs"; did you mean clash?`)
	assert.Equal(t, "clash", RuleOf("clash").ID)
	assert.Nil(t, RuleOf("clahs"))
	assert.Equal(t, Unsaid, EntryOf(&device.Map{}, image).Fault)
}
