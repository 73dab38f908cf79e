package rehearsal

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/rehearsal/chip"
	"mexalt/source"
)

// TestEditedPlans carries out, and cuts at every moment, plans that differ from good ones in
// a few places, on parts whose maps do so too, and holds all that is said against what was
// said before.
func TestEditedPlans(t *testing.T) {
	updated := small + guardA
	m := mapOf(t, updated)
	old := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 9}, [3]int{0x8000, 32, 4})
	image := content(t, m, [3]int{0, 512, 1}, [3]int{512, 1024, 2}, [3]int{0x8000, 32, 4})
	outcome := func(deviceMap, plan string) string {
		var problems source.Problems
		m := device.Load("m.toml", []byte(deviceMap), &problems)
		p := load("test.plan.toml", []byte(plan), &problems)
		var b strings.Builder
		for _, problem := range problems.Sorted() {
			fmt.Fprintln(&b, problem)
		}
		if problems.Errors() > 0 {
			return b.String()
		}
		say := func(what any, err error) {
			text, failed := json.Marshal(what)
			fmt.Fprintf(&b, "%s %v %v\n", text, err, failed)
		}
		part := func() *chip.Chip {
			c := chip.New(m, 3)
			c.Program(old)
			return c
		}
		run, err := Rehearse(context.Background(), part(), p, image, Options{})
		if run != nil {
			run.Map = nil
		}
		say(run, err)
		sweep, err := SweepOf(context.Background(), part(), p, image, SweepOptions{})
		say(sweep, err)
		taken, err := TakenBy(part(), p, image)
		say(taken, err)
		cost, err := CostOf(m, old, image, 0)
		say(cost, err)
		say(p.Text("again"), nil)
		return b.String()
	}
	plans := map[string]string{
		"update": acts(
			"bootloader",
			"\"erase\"\nin = [\"checksum.crc_a\"]",
			"\"program\"\nskip = \"checksum.crc_a\"",
			`"verify"`,
			"\"program\"\nin = [\"checksum.crc_a\"]",
			`"reset"`,
		),
		"bench": acts("programmer", `"identify"`, "\"erase\"\nwhat = \"chip\"", `"blank-check"`, `"program"`, `"verify"`, `"reset"`),
		"down": acts(
			"bootloader",
			"\"erase\"\nin = [\"checksum.crc_a\"]",
			"\"program\"\norder = \"down\"\nskip = \"slot_a.first+3,9\"",
			`"verify"`,
		),
	}
	for _, name := range Shipped() {
		text, err := shipped.ReadFile("plans/" + name + Extension)
		require.NoError(t, err)
		plans[name] = string(text)
	}
	golden.Edited(t, "testdata/plans.txt", 150, plans, func(_, text string) string { return outcome(updated, text) })
	golden.Edited(t, "testdata/maps.txt", 200, map[string]string{"update": updated, "bench": updated}, func(name, text string) string {
		return outcome(text, plans[name])
	})
}
