package rehearsal

import (
	"bytes"
	"context"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// TestThePageTellsOfEachKey holds the page's tables against the keys of plans, and
// loads the plan that it shows.
func TestThePageTellsOfEachKey(t *testing.T) {
	text, err := os.ReadFile("../docs/rehearsal.md")
	require.NoError(t, err)
	for _, table := range []reflect.Type{reflect.TypeFor[planFile](), reflect.TypeFor[actFile]()} {
		for i := range table.NumField() {
			tag := table.Field(i).Tag
			assert.Contains(t, string(text), "| `"+tag.Get("toml")+"` | "+tag.Get("doc")+" |\n")
		}
	}
	_, example, ok := strings.Cut(string(text), "```toml\n")
	require.True(t, ok)
	example, _, _ = strings.Cut(example, "```")
	p := planOf(t, example)
	assert.Equal(t, Bootloader, p.By)
	m := open(t, "brindle-m32-512")
	c := chip.New(m, 1)
	c.Program(station(t, m, 1, 0xA5, 100<<10))
	s, err := SweepOf(context.Background(), c, p, station(t, m, 2, 0xA5, 100<<10), SweepOptions{})
	require.NoError(t, err)
	assert.True(t, s.Safe())
}

// failed carries out a plan and returns why it failed.
func failed(t *testing.T, c *chip.Chip, p *Plan, image *memory.Image) *Failure {
	run, err := Rehearse(context.Background(), c, p, image, Options{})
	require.NoError(t, err)
	return run.Failed
}

// TestWhatAPartRefuses goes through what a device does not let be done to it.
func TestWhatAPartRefuses(t *testing.T) {
	m := mapOf(t, small+guardA)
	loader, a := [3]int{0, 512, 1}, [3]int{512, 1024, 2}
	image := content(t, m, loader, a)
	words := func(value byte) *memory.Image {
		all, _ := memory.Merge([]*memory.Image{image, joined(t, &source.Input{Name: "w"}, 0x9000, []byte{value, ^value})}, memory.First)
		return all
	}
	factory := planOf(t, acts("programmer", `"identify"`, "\"erase\"\nwhat = \"touched\"", `"program"`, `"verify"`, `"words"`, `"reset"`))
	whole := planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\""))

	c := chip.New(m, 1)
	require.Nil(t, failed(t, c, factory, words(0x07)), "the loader's lock, bit 2")
	assert.Equal(t, "refused: 0x0000..0x01FF is protected by loader_lock (on)", failed(t, c, factory, image).What)
	assert.Contains(t, failed(t, c, whole, image).What, "is protected by loader_lock", "an erase of all too")
	again := planOf(t, acts("programmer", "\"erase\"\nskip = \"loader\"", "\"program\"\nskip = \"loader\"", `"words"`, `"reset"`))
	require.Nil(t, failed(t, c, again, words(0x03)), "the rest can be programmed, and the lock taken away")
	require.Nil(t, failed(t, c, factory, image))

	// A complement that does not agree leaves the word as delivered.
	torn, _ := memory.Merge([]*memory.Image{image, joined(t, &source.Input{Name: "w"}, 0x9000, []byte{0x07, 0xAA})}, memory.First)
	c = chip.New(m, 1)
	c.Program(torn)
	assert.Nil(t, failed(t, c, factory, image))

	// A granule that was written is not written again, whatever its bits.
	twice := planOf(t, acts("programmer", `"erase"`, `"program"`, `"program"`))
	f := failed(t, chip.New(m, 1), twice, image)
	require.NotNil(t, f)
	assert.Equal(t, "refused: 0x0000..0x003F: a granule of it was written since it was erased, and is written once only", f.What)
}

// TestWhatIsRefusedDoesNotBegin cuts the power in acts that the device refuses: nothing
// is torn by them.
func TestWhatIsRefusedDoesNotBegin(t *testing.T) {
	m := mapOf(t, small)
	image := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2})
	locked, _ := memory.Merge([]*memory.Image{image, joined(t, &source.Input{Name: "w"}, 0x9000, []byte{7, ^byte(7)})}, memory.First)
	c := chip.New(m, 1)
	c.Program(locked)
	before := c.Peek(c.Banks[0], c.Banks[0].Span)
	c.SetFaults(chip.Faults{Cut: &chip.Cut{Act: 1, Reading: 3}})
	f := failed(t, c, planOf(t, acts("programmer", `"erase"`, `"program"`)), content(t, m, [3]int{0, 512, 9}))
	require.NotNil(t, f)
	assert.Contains(t, f.What, "is protected by loader_lock (on)")
	assert.Equal(t, before, c.Peek(c.Banks[0], c.Banks[0].Span))
}

// TestTimesEnd adds up times that no one lives to see.
func TestTimesEnd(t *testing.T) {
	text := strings.NewReplacer(`typical = "20 ms", most = "40 ms"`, `typical = "86400 s"`, `typical = "2 ms", most = "5 ms"`,
		`typical = "86400 s", most = "86400 s"`,
		`size = "3K"`, `size = "1M"`, "first = 0x8000", "first = 0x20_0000", "first = 0x9000", "first = 0x30_0000",
		"count = 6, size = 512", "count = 16384, size = 64").
		Replace(small)
	m := mapOf(t, text+"[link]\nbaud = 1\nbits = 64\n")
	c := chip.New(m, 1)
	run, err := Rehearse(
		context.Background(),
		c,
		planOf(t, acts("programmer", "\"erase\"\nwhat = \"whole\"\nin = \"flash\"", "\"erase\"\nwhat = \"chip\"", `"program"`, `"verify"`)),
		content(t, m, [3]int{0, 1 << 20, 1}),
		Options{},
	)
	require.NoError(t, err)
	require.Nil(t, run.Failed)
	link, typical, most := run.Total()
	for _, d := range []time.Duration{link, typical, most, run.Acts[0].Typical, run.Acts[1].Most} {
		assert.Positive(t, d)
		assert.LessOrEqual(t, d, longest)
	}
	assert.Equal(t, longest, typical)
	assert.Equal(t, longest, plus(longest, longest))
	assert.Equal(t, longest, times(1<<63, time.Hour))
	assert.Equal(t, 3*time.Second, times(3, time.Second))
}

// TestOneTimeMemory is programmed once; the same again is no harm.
func TestOneTimeMemory(t *testing.T) {
	m := mapOf(t, parts)
	p := planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"", `"program"`, `"verify"`))
	serial := func(b byte) *memory.Image {
		return joined(t, &source.Input{Name: "serial"}, 0x11A0, bytes.Repeat([]byte{b}, 8))
	}
	c := chip.New(m, 1)
	require.Nil(t, failed(t, c, p, serial(0x42)))
	require.Nil(t, failed(t, c, p, serial(0x42)))
	f := failed(t, c, p, serial(0x40))
	require.NotNil(t, f)
	assert.Equal(t, "refused: 0x11A0..0x11A7: it was written already, and is written once, ever", f.What)
	back, unread := c.ReadBack()
	require.Nil(t, unread)
	var held [8]byte
	require.True(t, back.ReadAt(held[:], 0x11A0))
	assert.Equal(t, bytes.Repeat([]byte{0x42}, 8), held[:])
}

// TestTimes adds up by hand what an update takes.
func TestTimes(t *testing.T) {
	m := mapOf(t, strings.Replace(small, "[[config]]", "[link]\nbaud = 9600\nbits = 10\npacket = 32\naround = 8\n[[config]]", 1)+guardA)
	c := chip.New(m, 1)
	c.Program(content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2}))
	image := content(t, m, [3]int{512, 1024, 12})
	run, err := Rehearse(
		context.Background(),
		c,
		planOf(t, acts("bootloader", `"identify"`, `"erase"`, `"program"`, `"verify"`)),
		image,
		Options{},
	)
	require.NoError(t, err)
	require.Nil(t, run.Failed)
	bytesTake := func(n int) time.Duration {
		return time.Duration(float64(n*10) / 9600 * float64(time.Second))
	}
	assert.Equal(t, bytesTake(2+8), run.Acts[0].Typical, "an identity of two bytes, in one packet")
	assert.Equal(t, 2*20*time.Millisecond, run.Acts[1].Typical)
	assert.Equal(t, 2*40*time.Millisecond, run.Acts[1].Most)
	assert.Equal(t, 16*(2*time.Millisecond+bytesTake(64+16)), run.Acts[2].Typical, "16 pages of two packets")
	assert.Equal(t, 16*bytesTake(64+16), run.Acts[2].Link)
	assert.Zero(t, run.Acts[3].Typical, "a bootloader reads without the link")
	faster, err := Rehearse(context.Background(), c, planOf(t, acts("programmer", `"verify"`)), image, Options{Baud: 96_000})
	require.NoError(t, err)
	assert.Equal(t, bytesTake(1024+32*8)/10, faster.Acts[0].Typical, "a programmer reads through it")
}

// TestHugeMemoriesTakeNoRoom rehearses on a part of 4 GiB.
func TestHugeMemoriesTakeNoRoom(t *testing.T) {
	m := mapOf(t, `name = "Huge"
[[memory]]
name = "flash"
kind = "flash"
first = 0
size = "4G"
page = 256
sectors = [{ count = 65536, size = "64K" }]
[[region]]
name = "all"
role = "application"
first = 0
last = "flash.last"
[start]
kind = "instruction"
at = 0
`)
	image := joined(t, &source.Input{Name: "t"}, 0, []byte{1, 2, 3, 4}, 0xFFFF_FFF0, bytes.Repeat([]byte{7}, 16))
	c := chip.New(m, 1)
	p, err := Open(&source.Files{}, "factory")
	require.NoError(t, err)
	run, err := Rehearse(context.Background(), c, p, image, Options{})
	require.NoError(t, err)
	require.Nil(t, run.Failed)
	assert.Equal(t, StartsNew, run.After.Outcome)
	held := 0
	for _, s := range c.Banks[0].Stretches {
		held += len(s.Data)
	}
	assert.LessOrEqual(t, held, 4*chip.BlockSize)
	look := planOf(t, acts("programmer", `"blank-check"`))
	assert.Equal(t, "0x0000 is not blank: it contains 01", failed(t, c, look, joined(t, &source.Input{Name: "t"}, 0x100, []byte{1})).What)
	assert.Equal(t, "0xFFFF_FFF0 is not blank: it contains 07",
		failed(t, c, look, joined(t, &source.Input{Name: "t"}, 0xFFFF_0000, []byte{1})).What)
	assert.Nil(t, failed(t, c, look, joined(t, &source.Input{Name: "t"}, 0xFFF_0000, []byte{1})))
	_, err = Rehearse(context.Background(), c, planOf(t, acts("programmer", "\"erase\"\nwhat = \"whole\"\nin = \"flash\"")), image,
		Options{})
	assert.ErrorContains(t, err, "more than 1 GiB")
}

func FuzzPlan(f *testing.F) {
	for _, name := range Shipped() {
		text, err := shipped.ReadFile("plans/" + name + Extension)
		require.NoError(f, err)
		f.Add(string(text))
	}
	f.Add(acts("bootloader", "\"erase\"\nin = [\"checksum.crc_a\"]", "\"program\"\norder = \"down\"\nskip = \"slot_a.first+3,9\"",
		`"verify"`))
	m := mapOf(f, small+guardA)
	image := content(f, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2}, [3]int{0x8000, 7, 3})
	f.Fuzz(func(t *testing.T, text string) {
		var problems source.Problems
		p := load("fuzz.plan.toml", []byte(text), &problems)
		if problems.Errors() > 0 {
			return
		}
		c := chip.New(m, 1)
		c.Program(image)
		if run, err := Rehearse(context.Background(), c, p, image, Options{}); err == nil {
			assert.NotEmpty(t, run.After.Why())
		}
		var again source.Problems
		q := load("fuzz.plan.toml", []byte(p.Text("again")), &again)
		require.NoError(t, again.Err())
		assert.Equal(t, p.Acts, q.Acts)
	})
}

// TestALoaderInROM begins with a device whose loader came with it: it waits where the
// application is empty, and takes updates, which a sweep judges as those of any loader.
func TestALoaderInROM(t *testing.T) {
	text := strings.NewReplacer("first = 0\nsize = 512\n", "first = 0x4000\nsize = 512\nrequired = true\nholds = \"unknown\"\n",
		"[[memory]]\nname = \"tables\"",
		"[[memory]]\nname = \"startup\"\nkind = \"rom\"\nfirst = 0x4000\nsize = 512\n[[memory]]\nname = \"tables\"").
		Replace(small)
	for guards, want := range map[string]Rung{"": Unhurt, guardA: AnyCuts} {
		m := mapOf(t, text+guards)
		app := content(t, m, [3]int{512, 1024, 2})
		assert.Empty(t, check.Run(m, []check.Part{{Name: "f", Image: app}}, check.Options{}).Counting())
		part := chip.New(m, 1)
		plan := planOf(t, acts("bootloader", `"identify"`, `"erase"`, `"program"`, `"verify"`, `"reset"`, `"start"`))
		run, err := Rehearse(context.Background(), part, plan, app, Options{})
		require.NoError(t, err)
		assert.Nil(t, run.Failed)
		assert.Equal(t, Waits, run.Before.Outcome)
		assert.Equal(t, StartsNew, run.After.Outcome)
		s, err := SweepOf(context.Background(), part, plan, content(t, m, [3]int{512, 1024, 12}), SweepOptions{})
		require.NoError(t, err)
		assert.Equal(t, want, s.Ladder.Rung, s.Ladder.Why)
	}
}

// TestNoRegionToStart asks what a device does whose map has a bootloader and nothing that it
// could start.
func TestNoRegionToStart(t *testing.T) {
	m := mapOf(
		t,
		"name = \"Small\"\n[[memory]]\nname = \"flash\"\nkind = \"flash\"\nfirst = 0\nsize = 16\npage = 2\nerased = "+
			"0xFF\n[[region]]\nname = \"loader\"\nrole = \"bootloader\"\nfirst = 0\nsize = 16\n[start]\nkind = \"instruction\"\nat = 0\n",
	)
	run, err := Rehearse(
		context.Background(),
		chip.New(m, 1),
		planOf(t, acts("programmer", `"program"`)),
		content(t, m, [3]int{0, 2, 3}),
		Options{},
	)
	require.NoError(t, err)
	assert.Equal(t, Waits, run.After.Outcome)
	assert.Equal(t, "the map has no region that loader could start", run.After.Why())
}

// TestWhatWasProgrammedIsNotStarted carries out plans without a verify act on parts with
// faults: what starts is not what was expected.
func TestWhatWasProgrammedIsNotStarted(t *testing.T) {
	m := mapOf(t, small+guardA)
	image := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2})
	plan := planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"", `"program"`, `"reset"`, `"start"`))
	for fault, want := range map[string]Outcome{"": StartsNew, "page-dead 0x240": Waits} {
		part := chip.New(m, 1)
		if fault != "" {
			var f chip.Faults
			require.NoError(t, f.Add(fault, m))
			part.SetFaults(f)
		}
		run, err := Rehearse(context.Background(), part, plan, image, Options{})
		require.NoError(t, err)
		assert.Nil(t, run.Failed, "nothing was verified")
		assert.Equal(t, StartsNew, run.Expected)
		assert.Equal(t, want, run.After.Outcome, fault)
	}

	// A sector that does not erase stays, and no other does, where the chip is erased.
	part := chip.New(m, 1)
	part.Program(image)
	var f chip.Faults
	require.NoError(t, f.Add("no-erase 0x210", m))
	part.SetFaults(f)
	_, err := Rehearse(context.Background(), part, planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"")), image, Options{})
	require.NoError(t, err)
	held := part.Image()
	for at, stays := range map[uint64]bool{0x1FF: false, 0x200: true, 0x3FF: true, 0x400: false} {
		var b [1]byte
		held.ReadAt(b[:], at)
		assert.Equal(t, stays, b[0] != 0xFF, "0x%X", at)
	}
}

// TestABoardIsKnownLate fits a board to a chip that was kept: the device that stopped for
// want of it runs.
func TestABoardIsKnownLate(t *testing.T) {
	m := mapOf(
		t,
		strings.Replace(small, `{ value = 1, meaning = "on", protects = ["loader"] }`,
			`{ value = 1, meaning = "on", effect = "stopped", needs = { clock = "crystal" } }`, 1),
	)
	part := chip.New(m, 1)
	part.Program(joined(t, &source.Input{Name: "x"}, 0, make([]byte, 512), 512, make([]byte, 1024), 0x9000, []byte{7, ^byte(7)}))
	var text bytes.Buffer
	require.NoError(t, part.Save(&text))
	kept, err := chip.Load("c", text.Bytes(), m, 1)
	require.NoError(t, err)
	assert.NotEmpty(t, kept.State.Stopped)
	board := &device.Board{Name: "b", Clock: device.Crystal, Frequency: 8_000_000}
	kept, err = chip.Load("c", text.Bytes(), m.On(board), 1)
	require.NoError(t, err)
	assert.Empty(t, kept.State.Stopped)
	board.Clock = device.Signal
	kept, err = chip.Load("c", text.Bytes(), m.On(board), 1)
	require.NoError(t, err)
	assert.Equal(t, "loader_lock (on)", kept.State.Stopped)
}

// TestAPageIsProgrammedOnce gives a page in pieces: it takes the time of one.
func TestAPageIsProgrammedOnce(t *testing.T) {
	m := mapOf(t, strings.Replace(small, "write-once = true\n", "", 1))
	image := joined(t, &source.Input{Name: "x"}, 0x200, make([]byte, 8), 0x210, make([]byte, 8), 0x220, make([]byte, 4), 0x280,
		make([]byte, 8))
	l, err := layout(planOf(t, acts("bootloader", `"program"`)), chip.New(m, 1), image, 0)
	require.NoError(t, err)
	require.Len(t, l.list, 2)
	assert.Equal(t, memory.Span{First: 0x200, Last: 0x227}, l.list[0].span)
	assert.Equal(t, strings.Repeat("\x00", 8)+strings.Repeat("\xFF", 8)+strings.Repeat("\x00", 8)+strings.Repeat("\xFF",
		8)+strings.Repeat("\x00", 4)+strings.Repeat("\xFF", 4), string(l.list[0].data))
}

// TestHowFarActsGot cuts the power before and after each step: of its act, all is done only after
// the last.
func TestHowFarActsGot(t *testing.T) {
	for name, u := range sweeps(t) {
		part := func() *chip.Chip {
			c := chip.New(u.m, 7)
			c.Program(u.old)
			return c
		}
		list := mustLayout(t, u.plan, part(), u.new).list
		for i, s := range list {
			last := i+1 == len(list) || list[i+1].act != s.act
			for when, reached := range map[chip.When]State{chip.Before: CutOff, chip.After: CutOff} {
				if when == chip.After && last {
					reached = Done
				}
				c := part()
				c.SetFaults(chip.Faults{Cut: &chip.Cut{Act: i + 1, When: when}})
				run, err := Rehearse(context.Background(), c, u.plan, u.new, Options{})
				require.NoError(t, err, name)
				for k, a := range run.Acts {
					want := NotReached
					switch {
					case k < s.act:
						want = Done
					case k == s.act:
						want = reached
					}
					assert.Equal(t, want, a.State, "%s: step %d, act %d", name, i+1, k)
				}
			}
		}
	}
}
