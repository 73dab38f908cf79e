package rehearsal

import (
	"context"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// parts and small are parts: one with a memory of each kind, and one with a loader, two
// slots, data in another memory and words.
var parts, small = text("parts"), text("small")

func text(name string) string {
	b, err := os.ReadFile("chip/testdata/" + name + device.Extension)
	if err != nil {
		panic(err)
	}
	return string(b)
}

// guardA and guardB are checksums that the loader checks.
const (
	guardA = `
[[checksum]]
name = "crc_a"
kind = "CRC-32/ISO-HDLC"
in = "slot_a.first..slot_a.last-4"
at = "slot_a.last-3"
guards = "slot_a"
`
	guardB = `
[[checksum]]
name = "sum_b"
kind = "sum-16"
in = "slot_b.first..slot_b.last-4"
at = "slot_b.last-3"
guards = "slot_b"
`
	ranked = `
[[checksum]]
name = "ranked_a"
kind = "CRC-32/ISO-HDLC"
in = "slot_a.first..slot_a.last-4"
at = "slot_a.last-3"
guards = "slot_a"
rank-at = { at = "slot_a.first + 8" }
[[checksum]]
name = "ranked_b"
kind = "CRC-32/ISO-HDLC"
in = "slot_b.first..slot_b.last-4"
at = "slot_b.last-3"
guards = "slot_b"
rank-at = { at = "slot_b.first + 8" }
`
	weakA = `
[[checksum]]
name = "head"
kind = "CRC-16/MODBUS"
in = "slot_a.first..slot_a.first+59"
at = "slot_a.first+60"
guards = "slot_a"
`
)

// content makes an image of the small device: pieces at addresses, random but for the
// same seed.
func content(t testing.TB, m *device.Map, pieces ...[3]int) *memory.Image {
	var parts []any
	for _, p := range pieces {
		r := rand.New(rand.NewPCG(uint64(p[2]), 0))
		data := make([]byte, p[1])
		for i := range data {
			data[i] = byte(r.Uint32())
		}
		parts = append(parts, p[0], data)
	}
	image := joined(t, &source.Input{Name: "test"}, parts...)
	for i := range m.Checksums {
		if spec, err := m.Checksums[i].Spec(m, image); err == nil && image.Count(*spec.Place) > 0 {
			_, value, err := spec.Compute(image, 1)
			if err != nil {
				continue // of a slot that the image lacks
			}
			image, _ = image.Write(&source.Input{Name: "seal"}, spec.Place.First, value)
		}
	}
	return image
}

func planOf(t testing.TB, text string) *Plan {
	var problems source.Problems
	p := load("test.plan.toml", []byte(text), &problems)
	require.NoError(t, problems.Err())
	return p
}

func acts(by string, list ...string) string {
	text := "by = \"" + by + "\"\n"
	for _, a := range list {
		text += "[[act]]\ndo = " + a + "\n"
	}
	return text
}

// update is one image over another, by a plan.
type update = struct {
	m        *device.Map
	old, new *memory.Image
	plan     *Plan
}

// sweeps are updates of all kinds.
func sweeps(t testing.TB) map[string]update {
	loader, a, b, levels := [3]int{0, 512, 1}, [3]int{512, 1024, 2}, [3]int{1536, 1024, 3}, [3]int{0x8000, 32, 4}
	newA, newB, newLevels, newLoader := [3]int{512, 1024, 12}, [3]int{1536, 1024, 13}, [3]int{0x8000, 32, 14}, [3]int{0, 512, 11}
	plain := acts("bootloader", `"identify"`, `"erase"`, `"program"`, `"verify"`, `"reset"`)
	guarded := mapOf(t, small+guardA)
	both := mapOf(t, small+guardA+guardB)
	weak := mapOf(t, small+weakA)
	none := mapOf(t, small)
	in := &source.Input{Name: "word"}
	direct := func(m *device.Map, image *memory.Image, word byte) *memory.Image {
		out, _ := memory.Merge([]*memory.Image{image, joined(t, in, 0x9000, []byte{word, ^word})}, memory.First)
		return out
	}
	zero := mapOf(t, strings.Replace(strings.Replace(small, "write-once = true", "erased = 0x00", 1), "granule = 8", "granule = 2",
		1)+guardA)
	paged := mapOf(t, strings.Replace(small, "sectors = [{ count = 6, size = 512 }]\n", "", 1)+guardA) // a page is erased at once
	vectors := mapOf(t, strings.Replace(strings.Replace(small, "kind = \"instruction\"\nat = \"loader.first\"",
		"kind = \"vectors\"\nat = \"loader.first\"\nwidth = 2\ntarget = \"loader\"", 1), "page = 64", "page = 32", 1)+guardA)
	reset := func(m *device.Map, image *memory.Image) *memory.Image {
		out, _ := image.Write(in, 0, []byte{0, 0x40, 0x80, 0})
		return sealed(t, m, out)
	}
	twins := mapOf(t, small+ranked)
	rank := func(image *memory.Image, a, b uint32) *memory.Image {
		for at, n := range map[uint64]uint32{512 + 8: a, 1536 + 8: b} {
			if image.Holds(at) {
				image, _ = image.Write(in, at, binary.LittleEndian.AppendUint32(nil, n))
			}
		}
		for i := range twins.Checksums {
			if spec, err := twins.Checksums[i].Spec(twins, image); err == nil && image.Holds(spec.Place.First) {
				_, value, err := spec.Compute(image, 1)
				require.NoError(t, err)
				image, _ = image.Write(in, spec.Place.First, value)
			}
		}
		return image
	}
	return map[string]update{
		"the other slot": {twins, rank(content(t, twins, loader, a, b), 7, 6), rank(content(t, twins, newB), 0, 8), planOf(t, plain)},
		"its own slot":   {twins, rank(content(t, twins, loader, a, b), 7, 6), rank(content(t, twins, newA), 8, 0), planOf(t, plain)},
		"both slots": {twins, rank(content(t, twins, loader, a, b), 7, 6), rank(content(t, twins, newA, newB), 8, 8),
			planOf(t, plain)},
		"erased reads 00": {zero, content(t, zero, loader, a, levels), content(t, zero, loader, newA, newLevels), planOf(t, plain)},
		"no sectors":      {paged, content(t, paged, loader, a), content(t, paged, newLoader, newA), planOf(t, plain)},
		"by vectors": {
			vectors,
			reset(vectors, content(t, vectors, loader, a)),
			reset(vectors, content(t, vectors, newLoader, newA)),
			planOf(t, plain),
		},
		"data alone":   {guarded, content(t, guarded, loader, a, levels), content(t, guarded, newLevels), planOf(t, plain)},
		"loader alone": {guarded, content(t, guarded, loader, a), content(t, guarded, newLoader), planOf(t, plain)},
		"with holes": {
			guarded,
			content(t, guarded, loader, a),
			content(t, guarded, [3]int{512, 100, 12}, [3]int{700, 3, 13}, [3]int{1500, 36, 14}),
			planOf(t, plain),
		},
		"protected": {
			none,
			direct(none, content(t, none, loader, a), 7),
			content(t, none, newLoader, newA),
			planOf(t, acts("bootloader", "\"erase\"\nskip = \"loader\"", "\"program\"\nskip = \"loader\"")),
		},
		"words alone": {
			none,
			direct(none, content(t, none, loader, a, b), 1),
			direct(none, content(t, none, [3]int{0x8000, 4, 9}), 2),
			planOf(t, acts("programmer", `"words"`, `"reset"`, `"program"`)),
		},
		"guarded":     {guarded, content(t, guarded, loader, a), content(t, guarded, newA), planOf(t, plain)},
		"with data":   {guarded, content(t, guarded, loader, a, levels), content(t, guarded, newA, newLevels), planOf(t, plain)},
		"with loader": {guarded, content(t, guarded, loader, a), content(t, guarded, newLoader, newA), planOf(t, plain)},
		"same loader": {guarded, content(t, guarded, loader, a), content(t, guarded, loader, newA), planOf(t, plain)},
		"unguarded":   {none, content(t, none, loader, a), content(t, none, newA), planOf(t, plain)},
		"weak guard":  {weak, content(t, weak, loader, a), content(t, weak, newA), planOf(t, plain)},
		"two slots":   {both, content(t, both, loader, a, b), content(t, both, newA, newB), planOf(t, plain)},
		"one of two":  {both, content(t, both, loader, a, b), content(t, both, newB), planOf(t, plain)},
		"switched": {
			none,
			direct(none, content(t, none, loader, a, b), 1),
			direct(none, content(t, none, newB), 2),
			planOf(t, acts("bootloader", `"words"`, `"erase"`, `"program"`, `"reset"`)),
		},
		"no loader": {none, direct(none, content(t, none, a), 1), content(t, none, newA), planOf(t, plain)},
		"programmer": {
			guarded,
			content(t, guarded, loader, a),
			direct(guarded, content(t, guarded, newLoader, newA, levels), 3),
			planOf(t, acts("programmer", "\"erase\"\nwhat = \"chip\"", `"blank-check"`, `"program"`, `"verify"`, `"words"`)),
		},
		"programmed once": {
			guarded,
			content(t, guarded, loader, b),
			content(t, guarded, newA),
			planOf(t, acts("bootloader", `"program"`, `"verify"`)),
		},
		"not erased": {none, content(t, none, loader, a), content(t, none, levels), planOf(t, acts("bootloader", `"program"`, `"verify"`))},
		"late erase": {
			guarded,
			content(t, guarded, loader, a),
			content(t, guarded, newA, newB),
			planOf(
				t,
				acts(
					"bootloader",
					"\"erase\"\nin = \"slot_b\"",
					"\"program\"\nin = \"slot_b\"",
					"\"erase\"\nin = \"slot_a\"",
					"\"program\"\nin = \"slot_a\"\norder = \"down\"",
					`"verify"`,
				),
			),
		},
		"erased twice": {
			guarded,
			content(t, guarded, loader, a),
			content(t, guarded, newA),
			planOf(t, acts("bootloader", `"erase"`, `"program"`, `"erase"`, `"program"`)),
		},
	}
}

// TestASweepIsManyRuns holds what a sweep says of each moment against a run from the
// very beginning, cut there, and one more run to repeat it.
func TestASweepIsManyRuns(t *testing.T) {
	const draws = readings
	for name, u := range sweeps(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := chip.New(u.m, 7)
			c.Program(u.old)
			swept, err := SweepOf(context.Background(), c, u.plan, u.new, SweepOptions{})
			require.NoError(t, err)
			lost := func(o Outcome, u update) bool { return u.plan.By == Bootloader && o.Bad() }
			try := func(cut chip.Cut) (o Outcome, unrepeatable bool) {
				c := chip.New(u.m, 7)
				c.Program(u.old)
				c.SetFaults(chip.Faults{Cut: &cut})
				run, err := Rehearse(context.Background(), c, u.plan, u.new, Options{})
				require.NoError(t, err)
				require.NotNil(t, run.Failed, "%v", cut)
				c.SetFaults(chip.Faults{})
				again, err := Rehearse(context.Background(), c, u.plan, u.new, Options{})
				require.NoError(t, err)
				// The second run judges by what it finds; what counts is what is there then.
				end := newJudge(c, expectedOf(t, u.m, u.old, u.plan, u.new), mustLayout(t, u.plan, c, u.new))
				c.Reset()
				return run.After.Outcome, lost(run.After.Outcome, u) || again.Failed != nil ||
					end.judge(c).Outcome != StartsNew
			}
			from := chip.New(u.m, 7)
			from.Program(u.old)
			laid := mustLayout(t, u.plan, from, u.new)
			end := laid.expected(from)
			j := newJudge(from.Clone(), end, laid)
			told := newClimber(laid, j.before, j.after, j)
			told.single()
			of := map[chip.Cut]Outcome{}
			var counts [Nothing + 1]int
			unrepeatable := 0
			moment := func(cuts ...chip.Cut) {
				worst, again := StartsNew, false
				for _, cut := range cuts {
					o, not := try(cut)
					if of[cut] = o; u.plan.By.worse(o, worst) || o == worst && not {
						worst, again = o, not
					}
				}
				if one := told.within[cuts[0].Act]; one != nil && cuts[0].When == chip.Within &&
					u.plan.By.worse(one.verdict(&laid.list[cuts[0].Act-1]).Outcome, worst) {
					worst = one.verdict(&laid.list[cuts[0].Act-1]).Outcome // which no reading that was tried has shown
					of[chip.Cut{Act: cuts[0].Act, Reading: chip.OwnDraw}], again = worst, lost(worst, u)
				}
				if counts[worst]++; again {
					unrepeatable++
				}
			}
			list := laid.list
			for i := range list {
				moment(chip.Cut{Act: i + 1, When: chip.Before})
				if list[i].changes() {
					var cuts []chip.Cut
					for draw := range draws {
						cuts = append(cuts, chip.Cut{Act: i + 1, Reading: draw})
					}
					moment(cuts...)
				}
			}
			moment(chip.Cut{Act: len(list), When: chip.After})
			assert.Equal(t, counts, swept.Counts)
			assert.Equal(t, unrepeatable, swept.Unrepeatable)
			for o, n := range counts {
				if n > 0 {
					assert.Equal(t, Outcome(o), of[swept.Chances[o]], "%v", swept.Chances[o])
				}
			}
			checkWindows(t, swept, of, draws)
			again, err := SweepOf(context.Background(), c, u.plan, u.new, SweepOptions{})
			require.NoError(t, err)
			assert.Equal(t, swept, again, "the same each time")
		})
	}
}

// checkWindows holds the windows against what each moment ended in.
func checkWindows(t *testing.T, s *Sweep, of map[chip.Cut]Outcome, draws int) {
	at := s.Windows[0].From
	moments := 0
	for _, w := range s.Windows {
		assert.Equal(t, at, w.From, "no gaps")
		at = w.To
		moments += w.Moments
		worst := func(c chip.Cut) Outcome {
			if c.When != chip.Within {
				return of[c]
			}
			o := StartsNew
			for draw := range draws {
				if is := of[chip.Cut{Act: c.Act, Reading: draw}]; s.Plan.By.worse(is, o) {
					o = is
				}
			}
			return o
		}
		assert.Equal(t, w.Outcome, worst(w.First), "%v", w.First)
		assert.Equal(t, w.Outcome, worst(w.Last), "%v", w.Last)
	}
	assert.Equal(t, s.Total, at)
	assert.Equal(t, s.Moments, moments)
}

func mustLayout(t testing.TB, p *Plan, c *chip.Chip, image *memory.Image) *steps {
	l, err := layout(p, c, image, 0)
	require.NoError(t, err)
	return l
}

func expectedOf(t testing.TB, m *device.Map, old *memory.Image, p *Plan, new *memory.Image) *chip.Chip {
	c := chip.New(m, 7)
	c.Program(old)
	return mustLayout(t, p, c, new).expected(c)
}

// TestPlansThatFailAreNotSwept refuses to sweep what is refused without a power cut.
func TestPlansThatFailAreNotSwept(t *testing.T) {
	m := mapOf(t, small)
	image := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2})
	c := chip.New(m, 1)
	locked, _ := memory.Merge([]*memory.Image{image, joined(t, &source.Input{Name: "word"}, 0x9000, []byte{7, ^byte(7)})}, memory.First)
	c.Program(locked)
	for plan, want := range map[string]string{
		acts("bootloader", `"erase"`,
			`"program"`): "the plan fails without a power cut: refused: 0x0000..0x01FF is protected by loader_lock (on)",
		acts("bootloader", `"erase"`, `"program"`, "\"erase\"\nin = \"slot_a\"\nskip = \"loader\"", `"verify"`): "is protected",
		acts("bootloader", `"program"`):                                     "is not blank",
		acts("programmer", "\"erase\"\nskip = \"loader\"", `"blank-check"`): "the plan fails without a power cut: 0x0000 is not blank",
	} {
		_, err := SweepOf(context.Background(), c, planOf(t, plan), content(t, m, [3]int{0, 512, 11}, [3]int{512, 1024, 12}),
			SweepOptions{})
		assert.ErrorContains(t, err, want)
		assert.ErrorAs(t, err, new(*UnfitError))
	}
	_, err := SweepOf(context.Background(), chip.New(m, 1), planOf(t, acts("bootloader", `"erase"`)), image, SweepOptions{})
	assert.ErrorContains(t, err, "the device starts nothing")
}

// TestBetterPlans finds for each update what a release engineer would, or nothing.
func TestBetterPlans(t *testing.T) {
	all := sweeps(t)
	for name, want := range map[string]struct {
		rung, better Rung
		did          string // "" is that nothing better is known
	}{
		"guarded":        {AnyCuts, 0, ""},
		"both slots":     {AnyCuts, 0, ""},
		"the other slot": {AnyCuts, 0, ""},
		"its own slot":   {AnyCuts, 0, ""},
		"late erase":     {AnyCuts, 0, ""},
		"erased twice":   {AnyCuts, 0, ""},
		"with data":      {Unhurt, AnyCuts, "writes crc_a last, by an act of its own"},
		"same loader":    {Unhurt, AnyCuts, "does not write loader, which is unchanged"},
		"erased reads 00": {Unhurt, Weak,
			"does not write loader, which is unchanged; makes crc_a void before all else; writes crc_a last, by an act of its own"},
		"with loader":  {Unhurt, 0, ""},
		"switched":     {Unhurt, OneCut, "writes the configuration words when all else is written"},
		"unguarded":    {Unhurt, 0, ""},
		"weak guard":   {Unhurt, 0, ""},
		"two slots":    {Unhurt, 0, ""},
		"data alone":   {Unhurt, 0, ""},
		"no loader":    {Unhurt, 0, ""},
		"loader alone": {Unhurt, 0, ""},
		"words alone":  {Unhurt, 0, ""},
		"programmer":   {Unhurt, 0, ""},
		// What runs in the end is not the image's own, or not whole.
		"one of two": {NotNew, 0, ""},
		"protected":  {NotNew, 0, ""},
	} {
		t.Run(name, func(t *testing.T) {
			u := all[name]
			c := chip.New(u.m, 1)
			c.Program(u.old)
			o := SweepOptions{}
			s, err := SweepOf(context.Background(), c, u.plan, u.new, o)
			require.NoError(t, err)
			assert.Equal(t, want.rung, s.Ladder.Rung, s.Ladder.Why)
			b, err := BetterThan(context.Background(), c, s, u.new, o)
			require.NoError(t, err)
			if b == nil {
				assert.Empty(t, want.did)
				return
			}
			assert.Equal(t, want.did, strings.Join(b.Changes, "; "))
			assert.Equal(t, want.better, b.Sweep.Ladder.Rung, b.Sweep.Ladder.Why)
			assert.Greater(t, b.Sweep.Ladder.Rung, s.Ladder.Rung)
			// The plan is a file that does the same.
			name := filepath.Join(t.TempDir(), "better"+Extension)
			require.NoError(t, os.WriteFile(name, []byte(b.Plan.Text("a comment\nof two lines")), 0o600))
			p, err := Open(&source.Files{}, name)
			require.NoError(t, err)
			again, err := SweepOf(context.Background(), c, p, u.new, o)
			require.NoError(t, err)
			assert.Equal(t, b.Sweep.Counts, again.Counts)
		})
	}
}

// TestBetterPlansSwitchFirmly has a word say which of two slots runs: the plan that writes
// it last is made to write it as it is first.
func TestBetterPlansSwitchFirmly(t *testing.T) {
	text := strings.NewReplacer("bits = \"0..1\"", "bits = 0", "{ value = 3, meaning = \"loader\", sets = { start = \"loader\" } },", "",
		"value = 2, meaning = \"slot b\"", "value = 0, meaning = \"slot b\"").
		Replace(small)
	m := mapOf(t, text)
	part := chip.New(m, 1)
	word := func(image *memory.Image, v byte) *memory.Image {
		out, _ := image.Write(&source.Input{Name: "word"}, 0x9000, []byte{v, ^v})
		return out
	}
	part.Program(word(content(t, m, [3]int{512, 1024, 1}), 0xFD))
	plan := planOf(t, acts("bootloader", `"erase"`, `"program"`, `"words"`))
	image := word(content(t, m, [3]int{1536, 1024, 2}), 0xFE)
	s, err := SweepOf(context.Background(), part, plan, image, SweepOptions{})
	require.NoError(t, err)
	assert.Equal(t, OneCut, s.Ladder.Rung, s.Ladder.Why)
	b, err := BetterThan(context.Background(), part, s, image, SweepOptions{})
	require.NoError(t, err)
	require.NotNil(t, b)
	assert.Equal(t, []string{"writes enters (slot a) as it is before all else"}, b.Changes)
	assert.Contains(t, b.Plan.Text("c"), "do = \"words\"\nset = { enters = \"slot a\" }\n")
}

// TestALoaderThatIsWrittenOver is torn while it is written, and only then: what comes after
// it waits for the guard.
func TestALoaderThatIsWrittenOver(t *testing.T) {
	u := sweeps(t)["with loader"]
	c := chip.New(u.m, 1)
	c.Program(u.old)
	s, err := SweepOf(context.Background(), c, u.plan, u.new, SweepOptions{})
	require.NoError(t, err)
	loader := u.m.Region("loader").Span
	for i := range s.Windows {
		w := &s.Windows[i]
		if w.Outcome == Neither {
			assert.Equal(t, TornLoader, w.Cause)
			assert.True(t, loader.Contains(w.At), "0x%X", w.At)
		}
	}
	assert.Equal(t, [...]int{StartsNew: 3, StartsOld: 2, Waits: 32, Neither: 15, Nothing: 6}, s.Counts)
}

// TestWhichLoaderIsWrittenOver names the bootloader that carries a plan out and is written over.
func TestWhichLoaderIsWrittenOver(t *testing.T) {
	all := sweeps(t)
	for _, c := range []struct{ images, by, erase, want string }{
		{"with loader", "bootloader", `"erase"`, "loader"}, {"guarded", "bootloader", `"erase"`, ""},
		{"with loader", "programmer", `"erase"`, ""},
		{"guarded", "bootloader", "\"erase\"\nwhat = \"chip\"", "loader"}, {"guarded", "programmer", "\"erase\"\nwhat = \"chip\"", ""},
	} {
		u := all[c.images]
		part := chip.New(u.m, 1)
		part.Program(u.old)
		run, err := Rehearse(context.Background(), part, planOf(t, acts(c.by, c.erase, `"program"`)), u.new, Options{})
		require.NoError(t, err)
		assert.Equal(t, c.want, run.OverwrittenLoader, "%v", c)
	}
}

// TestTwoSlots tells slots apart by their ranks: the old runs until the new is whole.
func TestTwoSlots(t *testing.T) {
	for name, want := range map[string][]Outcome{
		"the other slot": {StartsOld, StartsNew},
		"its own slot":   {StartsOld, StartsNew}, // the other, whole, steps in
	} {
		u := sweeps(t)[name]
		c := chip.New(u.m, 1)
		c.Program(u.old)
		s, err := SweepOf(context.Background(), c, u.plan, u.new, SweepOptions{})
		require.NoError(t, err)
		var got []Outcome
		for _, w := range s.Windows {
			got = append(got, w.Outcome)
		}
		assert.Equal(t, want, got, name)
	}
}

// TestWhy tells what a sweep says of windows.
func TestWhy(t *testing.T) {
	all := sweeps(t)
	for name, want := range map[string][]string{
		"same loader": {"the device starts from 0x0000, in loader",
			"loader is only partly written (from 0x0000 on) and the device starts it"},
		"unguarded":  {"slot_a is only partly written (from 0x0200 on), and nothing guards it"},
		"weak guard": {"its guard head is still valid"},
		"with data":  {"started by loader, runs, and levels is partly written from 0x8001"},
		"switched":   {"the device starts from 0x0600, in slot_b"},
		"no loader":  {"slot_a is only partly written (from 0x0200 on), and nothing guards it"},
	} {
		u := all[name]
		c := chip.New(u.m, 1)
		c.Program(u.old)
		s, err := SweepOf(context.Background(), c, u.plan, u.new, SweepOptions{})
		require.NoError(t, err)
		var whys []string
		for i := range s.Windows {
			whys = append(whys, s.Windows[i].Why())
		}
		for _, w := range want {
			assert.Contains(t, strings.Join(whys, "\n"), w, name)
		}
	}
}

// mapOf loads a map from its text.
func mapOf(t testing.TB, text string) *device.Map {
	var problems source.Problems
	m := device.Load("test", []byte(text), &problems)
	require.NoError(t, problems.Err())
	return m
}

// TestHowManyTouchesAreTold holds that what up to five steps touch is told exactly.
func TestHowManyTouchesAreTold(t *testing.T) {
	u := sweeps(t)["guarded"]
	most := map[int]bool{}
	for n := 1; n <= 7; n++ {
		var list []string
		for k := range n {
			list = append(list, []string{`"erase"`, `"program"`}[k%2])
		}
		from := chip.New(u.m, 7)
		from.Program(u.old)
		laid := mustLayout(t, planOf(t, acts("bootloader", list...)), from, u.new)
		for _, one := range unitsOf(laid, from, laid.expected(from), u.m, nil) {
			most[len(one.touches)] = true
			assert.Equal(t, len(one.touches) > 5, one.loose, "%d touches of %s", len(one.touches), one.Span)
		}
	}
	assert.True(t, most[5] && most[6], "%v", most)
}
