package rehearsal

import (
	"bytes"
	"context"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// laid returns the steps of a plan in short: what, where.
func laid(t *testing.T, deviceMap string, image *memory.Image, plan string) (list []string) {
	m := mapOf(t, deviceMap)
	l, err := layout(planOf(t, plan), chip.New(m, 1), image, 0)
	require.NoError(t, err)
	for i := range l.list {
		s := &l.list[i]
		switch {
		case s.all:
			list = append(list, "erase all")
		case s.span == memory.Span{} && s.data == nil:
			list = append(list, string(s.do))
		default:
			list = append(list, fmt.Sprintf("%s %X..%X", s.do, s.span.First, s.span.Last))
		}
	}
	return list
}

// TestPlansAreLaidOut goes through what becomes of acts: whole sectors, whole pages,
// whole granules, in order, with what is left out.
func TestPlansAreLaidOut(t *testing.T) {
	in := &source.Input{Name: "image"}
	fill := func(n int) []byte { return []byte(strings.Repeat("\x42", n)) }
	for name, c := range map[string]struct {
		image *memory.Image
		acts  []string
		want  []string
	}{
		"sectors that are touched": {joined(t, in, 0x1F0, fill(0x20), 0x5FF, fill(1)), []string{`"erase"`},
			[]string{"erase 0..1FF", "erase 200..3FF", "erase 400..5FF"}},
		"downwards": {joined(t, in, 0x1F0, fill(0x20)),
			[]string{"\"erase\"\norder = \"down\"", "\"program\"\norder = \"down\""},
			[]string{"erase 200..3FF", "erase 0..1FF", "program 200..20F", "program 1F0..1FF"}},
		"whole regions": {joined(t, in, 0x1000, fill(1)), []string{"\"erase\"\nwhat = \"whole\"\nin = \"slot_a\""},
			[]string{"erase 200..3FF", "erase 400..5FF"}},
		"the chip": {joined(t, in, 0, fill(1)), []string{"\"erase\"\nwhat = \"chip\""}, []string{"erase all"}},
		"a span is made larger": {joined(t, in, 0, fill(0x400)),
			[]string{"\"erase\"\nin = \"0x210,1\"", "\"program\"\nin = \"0x210,1\""}, []string{"erase 200..3FF", "program 210..217"}},
		"what is left out too": {joined(t, in, 0x180, fill(0x100)),
			[]string{"\"erase\"\nskip = \"0x1FF\"", "\"program\"\nskip = \"0x1FF\""},
			[]string{"erase 200..3FF", "program 180..1BF", "program 1C0..1F7", "program 200..23F", "program 240..27F"}},
		"granules are whole": {joined(t, in, 0x43, fill(2), 0x51, fill(8)), []string{`"program"`},
			[]string{"program 40..47", "program 50..5F"}},
		"EEPROM without an erase": {joined(t, in, 0x8001, fill(2), 0x8008, fill(9)), []string{`"erase"`, `"program"`, `"verify"`},
			[]string{"program 8000..8003", "program 8008..800B", "program 800C..800F", "program 8010..8013", "verify 8001..8002",
				"verify 8008..8010"}},
		"words and complements": {joined(t, in, 0x9000, []byte{1}), []string{`"program"`, `"words"`},
			[]string{"words 9000..9000", "words 9001..9001"}},
		"what reads": {joined(t, in, 0x200, fill(4)), []string{`"identify"`, `"blank-check"`, `"verify"`, `"reset"`, `"start"`},
			[]string{"identify", "blank-check 200..3FF", "verify 200..203", "reset", "start"}},
		"a checksum's place": {joined(t, in, 0x200, fill(0x400)),
			[]string{"\"erase\"\nin = \"checksum.crc_a\"", "\"program\"\nin = \"checksum.crc_a\""},
			[]string{"erase 400..5FF", "program 5F8..5FF"}},
		"void": {joined(t, in, 0x200, fill(0x400)), []string{"\"void\"\nin = \"0x23C..0x243\""},
			[]string{"void 23C..23F", "void 240..243"}},
		"nothing to do": {joined(t, in, 0x200, fill(4)), []string{"\"erase\"\nin = \"slot_b\"", "\"program\"\nin = \"slot_b\"", `"lock"`},
			nil},
	} {
		assert.Equal(t, c.want, laid(t, small+guardA, c.image, acts("programmer", c.acts...)), name)
	}
}

// TestLocksComeLast leaves out of words what a later act locks with.
func TestLocksComeLast(t *testing.T) {
	const locks = `
[[config]]
name = "lock_word"
at = "words.first + 2"
width = 1
default = 0xFF
[[config.field]]
name = "read_lock"
bits = 0
values = [{ value = 1, meaning = "off" }, { value = 0, meaning = "on", effect = "locked" }]
[[config.field]]
name = "port"
bits = 1
values = [{ value = 1, meaning = "open" }, { value = 0, meaning = "closed", effect = "closed" }]
[[config.field]]
name = "speed"
bits = "2..7"
`
	m := mapOf(t, small+locks)
	for _, c := range []struct {
		value     byte
		acts      []string
		want      []byte // what is written to the word, one after the other
		lock, cut string // what holds then
	}{
		{0xC2, []string{`"words"`, `"lock"`, `"reset"`}, []byte{0xC3, 0xC2}, "read_lock (on)", ""},
		{0xC2, []string{`"words"`, `"reset"`}, []byte{0xC2}, "read_lock (on)", ""},
		{0xC1, []string{`"words"`, `"lock"`, `"reset"`}, []byte{0xC3, 0xC1}, "", "port (closed)"},
		{0xC3, []string{`"words"`, `"lock"`, `"reset"`}, []byte{0xC3}, "", ""},
	} {
		image := joined(t, &source.Input{Name: "word"}, 0x9002, []byte{c.value})
		p := planOf(t, acts("programmer", c.acts...))
		part := chip.New(m, 1)
		l, err := layout(p, part, image, 0)
		require.NoError(t, err)
		var written []byte
		for i := range l.list {
			written = append(written, l.list[i].data...)
		}
		assert.Equal(t, c.want, written)
		run, err := Rehearse(context.Background(), part, p, image, Options{})
		require.NoError(t, err)
		require.Nil(t, run.Failed)
		assert.Equal(t, c.lock, part.LockedBy())
		assert.Equal(t, c.cut != "", part.Silent())
		if c.cut != "" {
			assert.Contains(t, part.Refuses(device.CanWords).What, c.cut)
		}
		_, unread := part.ReadBack()
		assert.Equal(t, c.lock+c.cut != "", unread != nil)
		// Nothing but an erase of all of it opens what is locked, and nothing what is closed.
		verify := planOf(t, acts("programmer", `"verify"`))
		again := failed(t, part, verify, content(t, m, [3]int{0, 8, 1}))
		require.NotNil(t, again)
		switch {
		case c.cut != "":
			assert.Contains(t, again.What, "the device does not answer:")
		case c.lock != "":
			assert.Contains(t, again.What, "the device is locked by read_lock (on)")
		default:
			assert.Contains(t, again.What, "differ from the image")
		}
		whole := failed(t, part, planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"")), content(t, m, [3]int{0, 8, 1}))
		assert.Equal(t, c.cut != "", whole != nil)
		assert.Empty(t, part.LockedBy())
	}
}

// TestPlansThatAreNone goes through what is wrong with plans.
func TestPlansThatAreNone(t *testing.T) {
	for text, want := range map[string]string{
		``:                               "the plan does not say who runs it",
		`by = "programmer"`:              "the plan has no act",
		acts("me", `"reset"`):            `"me" does not run plans`,
		acts("programmer", `"wash"`):     `error: unknown act "wash"`,
		acts("programmer", `"programm"`): "did you mean program?",
		"by = \"programmer\"\n[[act]]\nin = \"flash\"\n":                   "the act does not say what to do",
		acts("programmer", "\"program\"\nwhat = \"chip\""):                 "what has no effect on program",
		acts("programmer", "\"erase\"\nwhat = \"half\""):                   `"half" is not erased`,
		acts("programmer", "\"erase\"\nwhat = \"whole\""):                  "what = \"whole\" needs spans",
		acts("programmer", "\"erase\"\nwhat = \"chip\"\nskip = \"flash\""): "skip has no effect where the whole chip is erased",
		acts("bootloader", `"void"`):                                       "the act does not say what it makes void",
		acts("programmer", "\"reset\"\nin = \"flash\""):                    "in has no effect on reset",
		acts("programmer", "\"verify\"\norder = \"up\""):                   "order has no effect on verify",
		acts("programmer", "\"erase\"\norder = \"left\""):                  `"left" is not an order`,
		acts("programmer", "\"erase\"\nspan = \"flash\""):                  "unknown key span",
		acts("programmer", "\"erase\"\nin = 4.5"):                          "is 4.5; expected",
	} {
		var problems source.Problems
		load("wrong.plan.toml", []byte(text), &problems)
		if assert.Error(t, problems.Err(), text) {
			assert.Contains(t, problems.Error(), want)
		}
	}
	m := mapOf(t, small+guardA)
	for in, want := range map[string]string{"nowhere": "unknown name nowhere", "checksum.crc_b": "did you mean checksum.crc_a?",
		"0x10..": "expected", "slot_a.last+": "expected"} {
		_, err := layout(planOf(t, acts("programmer", fmt.Sprintf("\"erase\"\nin = [\"flash\", %q]", in))), chip.New(m, 1),
			content(t, m, [3]int{0, 8, 1}), 0)
		if assert.Error(t, err, in) {
			assert.Contains(t, err.Error(), want)
			assert.Contains(t, err.Error(), "test.plan.toml:4:", "with its place")
		}
	}
	_, err := Open(&source.Files{}, "nothing")
	assert.ErrorContains(t, err, "unknown plan nothing, and no file nothing.plan.toml; known: factory, update")
	_, err = Open(&source.Files{}, "./nothing.plan.toml")
	assert.ErrorContains(t, err, "cannot read")
}

// TestFaultsAndWhatTheyLookLike programs a device with each fault, and looks at what is
// told of it.
func TestFaultsAndWhatTheyLookLike(t *testing.T) {
	m := mapOf(t, small+guardA)
	image := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2}, [3]int{0x8000, 32, 4})
	other := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 9}, [3]int{0x8000, 32, 4})
	p := planOf(t, acts("programmer", `"identify"`, `"erase"`, `"program"`, `"verify"`, `"reset"`))
	checked := planOf(t, acts("programmer", `"erase"`, `"blank-check"`, `"program"`, `"verify"`, `"reset"`))
	for _, c := range []struct {
		fault string
		plan  *Plan
		old   *memory.Image // nil is a blank device
		do    Do            // that fails; "" is none
		what  string
		cause string
		after Outcome
	}{
		{"", p, nil, "", "", "", StartsNew},
		{"page-dead 0x280", p, nil, Verify, "64 bytes differ from the image, the first at 0x0280", "are in page 0x0280..0x02BF:", Waits},
		{"page-dead 0x280", p, other, Verify, "bytes differ from the image", "0x0280..0x02BF erased, not programmed", Waits},
		{"no-erase 0x280", p, other, Program, "a granule of it was written since it was erased", "", Neither},
		// the loader is not there yet
		{"no-erase 0x280", checked, other, BlankCheck, "is not blank", "", Nothing},
		{"stuck 0x290.2=1", p, nil, Verify, "1 byte differs from the image, at 0x0290", "bit is stuck or was misread", Waits},
		{"drop 0x281", p, nil, Verify, "bytes differ from the image", "its data was corrupted in transfer", Waits},
		{"double 0x281", p, nil, Verify, "bytes differ from the image", "its data was corrupted in transfer", Waits},
		{"identity AA", p, nil, Identify, "the device identifies itself as AA", "", Nothing},
		{"noise 0.5", p, nil, Verify, "bytes differ from the image", "", StartsNew},
		{"noise 0.5", checked, nil, BlankCheck, "is not blank", "", Nothing},
		{"cut 1 after", p, other, Identify, "the power failed", "", StartsOld},
	} {
		part := chip.New(m, 3)
		if c.old != nil {
			part.Program(c.old)
		}
		var f chip.Faults
		if c.fault != "" {
			require.NoError(t, f.Add(c.fault, m))
		}
		part.SetFaults(f)
		run, err := Rehearse(context.Background(), part, c.plan, image, Options{})
		require.NoError(t, err)
		if c.do == "" {
			assert.Nil(t, run.Failed, c.fault)
		} else if assert.NotNil(t, run.Failed, c.fault) {
			assert.Equal(t, c.do, c.plan.Acts[run.Failed.Act].Do, c.fault)
			assert.Contains(t, run.Failed.What, c.what, c.fault)
			var causes []string
			for _, cause := range run.Failed.Causes {
				causes = append(causes, cause.Text)
			}
			assert.Contains(t, strings.Join(causes, "\n"), c.cause, c.fault)
		}
		if c.fault == "no-erase 0x280" && c.do == Program {
			continue // what is left hangs on where the act stopped
		}
		assert.Equal(t, c.after, run.After.Outcome, "%s: %s", c.fault, run.After.Why())
	}
}

// TestAddressLines programs through a line that is stuck, and finds it.
func TestAddressLines(t *testing.T) {
	m := mapOf(t, parts)
	r := content(t, m, [3]int{0x1000, 256, 1})
	for line, low := range map[int]bool{3: true, 5: false, 7: true} {
		text := fmt.Sprintf("address-line %d", line)
		if !low {
			text += "=1"
		}
		part := chip.New(m, 1)
		var f chip.Faults
		require.NoError(t, f.Add(text, m))
		part.SetFaults(f)
		run, err := Rehearse(context.Background(), part, planOf(t, acts("programmer", `"program"`, `"verify"`)), r, Options{})
		require.NoError(t, err)
		require.NotNil(t, run.Failed)
		require.NotEmpty(t, run.Failed.Causes, text)
		assert.Contains(t, run.Failed.Causes[0].Text, fmt.Sprintf("address line %d was open when it was programmed", line))
	}
}

// TestDifferWritesWhatDiffers programs over an image that is nearly the same: only the
// sectors and cells that hold something else are written, or what an act before it has
// changed; and a sweep does not call it more than it is.
func TestDifferWritesWhatDiffers(t *testing.T) {
	m := mapOf(t, small+guardA)
	old := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2}, [3]int{0x8000, 32, 4})
	in := &source.Input{Name: "x"}
	patch := func(image *memory.Image, at uint64) *memory.Image {
		var b [1]byte
		image.ReadAt(b[:], at)
		out, _ := image.Write(in, at, []byte{b[0] ^ 0x10})
		return out
	}
	part := chip.New(m, 1)
	part.Program(old)
	new := sealed(t, m, patch(patch(old, 0x5F0), 0x8009))
	list := func(image *memory.Image, list ...string) (out []string, spared bool) {
		l, err := layout(planOf(t, acts("bootloader", list...)), part, image, 0)
		require.NoError(t, err)
		for _, s := range l.list {
			if s.do == Erase || s.span.First >= 0x8000 {
				out = append(out, fmt.Sprintf("%s %X", s.do, s.span.First))
			}
		}
		return out, l.spared > 0
	}
	got, spared := list(new, `"differ"`)
	assert.Equal(t, []string{"erase 400", "program 8008"}, got)
	assert.True(t, spared)
	got, spared = list(old, `"differ"`)
	assert.Empty(t, got)
	assert.True(t, spared)
	got, _ = list(old, "\"erase\"\nin = \"0x200\"", `"differ"`)
	assert.Equal(t, []string{"erase 200", "erase 200"}, got, "what was erased before is another")
	got, _ = list(new, "\"differ\"\nskip = \"slot_a\"")
	assert.Equal(t, []string{"program 8008"}, got)

	for _, p := range []string{`"differ"`, `"erase"`} {
		plan := planOf(t, acts("bootloader", p, "\"program\"\nin = \"0x7F00\"", `"verify"`)) // of what lies nowhere: nothing
		if p == `"erase"` {
			plan = planOf(t, acts("bootloader", p, `"program"`, `"verify"`))
		}
		c := part.Clone()
		run, err := Rehearse(context.Background(), c, plan, new, Options{})
		require.NoError(t, err)
		require.Nil(t, run.Failed, p)
		assert.Equal(t, StartsNew, run.After.Outcome, p)
		assert.Equal(t, p == `"differ"`, run.Spared > 0)
	}
	s, err := SweepOf(context.Background(), part, planOf(t, acts("bootloader", `"differ"`)), sealed(t, m, patch(old, 0x5F0)),
		SweepOptions{})
	require.NoError(t, err)
	assert.Equal(t, OneCut, s.Ladder.Rung, s.Ladder.Why)
	assert.Contains(t, s.Ladder.Why, "a retry leaves out what reads right already")
}

// TestEveryActIsARow holds the table of acts against the page and the key.
func TestEveryActIsARow(t *testing.T) {
	field, ok := reflect.TypeFor[actFile]().FieldByName("Do")
	require.True(t, ok)
	assert.Equal(t, strings.Join(actWords(nil), ", "), field.Tag.Get("doc"))
	for i := range allActs {
		k := &allActs[i]
		assert.NotNil(t, k.lay, k.do)
		assert.NotNil(t, k.said, k.do)
		assert.Equal(t, k.noun, k.do.Noun())
	}
}

// TestEachFaultHasItsSymptom makes a card: each fault of the table shows in an act, and
// what is tried is what a rehearsal takes.
func TestEachFaultHasItsSymptom(t *testing.T) {
	m := mapOf(t, small+guardA)
	image := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2})
	part := chip.New(m, 1)
	plan, err := Open(&source.Files{}, "factory")
	require.NoError(t, err)
	list, err := SymptomsOf(context.Background(), part, plan, image, Options{})
	require.NoError(t, err)
	require.Len(t, list, len(chip.FaultForms()))
	shows := map[string]Do{}
	for i, s := range list {
		word, _, _ := strings.Cut(s.Fault, " ")
		assert.True(t, strings.HasPrefix(chip.FaultForms()[i][0], word+" "), word)
		assert.NotEmpty(t, s.Likely)
		assert.NoError(t, new(chip.Faults).Add(s.Fault, m), s.Fault)
		shows[word] = s.Act
	}
	assert.Equal(
		t,
		map[string]Do{
			"stuck":        BlankCheck,
			"page-dead":    Verify,
			"no-erase":     BlankCheck,
			"noise":        BlankCheck,
			"address-line": Verify,
			"drop":         Verify,
			"double":       Verify,
			"identity":     Identify,
			"cut":          Program,
		},
		shows,
	)
	// Where the middle of an image is erased, or all the same, another place is taken.
	blank := joined(t, &source.Input{Name: "x"}, 0, bytes.Repeat([]byte{7, 9}, 64), 128, bytes.Repeat([]byte{0xFF}, 1024), 1152,
		bytes.Repeat([]byte{0x31}, 384))
	list, err = SymptomsOf(context.Background(), part, plan, blank, Options{})
	require.NoError(t, err)
	for _, s := range list {
		assert.NotEmpty(t, s.Act, s.Fault)
	}
	assert.Equal(t, "page-dead 0x60", list[1].Fault)
	_, err = SymptomsOf(context.Background(), part, planOf(t, acts("programmer", `"identify"`)), image, Options{})
	assert.ErrorContains(t, err, "the plan programs no flash")
}
