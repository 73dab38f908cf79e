package rehearsal

import (
	"context"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
)

// TestWhatIsSaidOfPlans holds all that is said of plans by chance, on devices by chance: on which
// rung they stand, after which cuts not, why, how likely a guard is deceived, how long it takes,
// and what a sweep counts.
func TestWhatIsSaidOfPlans(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(77, 3))
	var b strings.Builder
	for n := range 500 {
		p := randomPlan(t, r)
		part := chip.New(p.m, 1)
		part.Program(p.old)
		s, err := SweepOf(context.Background(), part, p.plan, p.new, SweepOptions{})
		if err != nil {
			fmt.Fprintf(&b, "%d: %v\n", n, err)
			continue
		}
		text, err := json.Marshal(s)
		require.NoError(t, err)
		l := s.Ladder
		fmt.Fprintf(&b, "%d: %s, %v, %.4g at %v of %q; %d steps, %d moments, %v, bad %v, safe %v, by chance %v, %04x; %s\n", n, l.Rung,
			l.Cuts, l.Chance, l.ChanceAt,
			l.ChanceOf, s.Steps, s.Moments, s.Counts, s.Bad(), s.Safe(), s.ByChance(), crc32.ChecksumIEEE(text)&0xFFFF, l.Why)
	}
	golden.File(t, "testdata/said.txt", b.String())
}

// TestPlansElsewhere has the same plans on the same devices with all memories elsewhere: all that
// is said is the same, but for the addresses.
func TestPlansElsewhere(t *testing.T) {
	t.Parallel()
	address := regexp.MustCompile(`0x[0-9A-F_]+`)
	for seed := range uint64(150) {
		var all []string
		for _, base := range []int{0, 0x0600_0000, 0x7FFF_FFFF_0000_0000} {
			p := randomPlanAt(t, rand.New(rand.NewPCG(seed, 4)), base)
			part := chip.New(p.m, 1)
			part.Program(p.old)
			s, err := SweepOf(context.Background(), part, p.plan, p.new, SweepOptions{})
			said := fmt.Sprint(err)
			if err == nil {
				l := s.Ladder
				said = fmt.Sprint(l.Rung, l.Cuts, l.Chance, l.ChanceAt, l.ChanceOf, s.Steps, s.Moments, s.Counts, s.Bad(), s.Safe(),
					s.ByChance(), l.Why)
			}
			all = append(all, address.ReplaceAllStringFunc(said, func(text string) string {
				n, err := strconv.ParseUint(strings.ReplaceAll(text, "_", ""), 0, 64)
				require.NoError(t, err)
				return memory.FormatAddress(n - uint64(base))
			}))
		}
		assert.Equal(t, all[0], all[1], seed)
		assert.Equal(t, all[0], all[2], seed)
	}
}
