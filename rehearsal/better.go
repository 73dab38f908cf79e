package rehearsal

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
	"mexalt/span"

	"golang.org/x/sync/errgroup"
)

// Proposal is a plan that is better than another, with the sweep that proves it.
type Proposal struct {
	Plan    *Plan
	Sweep   *Sweep
	Changes []string // what it does otherwise
	Tried   []Try    // all that was tried, the best first
}

// Try is one of the orders that were tried.
type Try struct {
	Changes  []string
	Rung     Rung // that it can stand on; only the one that is proposed was swept whole
	Steps    int
	Duration time.Duration
}

// change of a plan's acts.
type change struct {
	text string
	acts func([]Act) []Act
}

// try is a plan that is tried.
type try struct {
	Try
	plan    *Plan
	changes int
}

// BetterThan looks for an order of acts that is shown to bear more power cuts; nil where the
// plan bears all, or none of the known ways is shown to bear more.
func BetterThan(ctx context.Context, c *chip.Chip, s *Sweep, image *memory.Image, o SweepOptions) (*Proposal, error) {
	if s.Shown(Weak) || s.Plan.By == Programmer && s.Safe() {
		return nil, nil
	}
	base := c.Clone()
	base.Faults = chip.Faults{}
	l, err := layout(s.Plan, base, image, o.Baud)
	if err != nil {
		return nil, err
	}
	changes := ways(base, l)
	// Sets of changes are tried side by side, and stand in their order.
	sets := make([]*try, 1<<len(changes))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for set := 1; set < len(sets); set++ {
		group.Go(func() error {
			if ctx.Err() == nil {
				sets[set] = tried(s.Plan, changes, set, base.Clone(), image, o)
			}
			return ctx.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var tries []try
	for _, one := range sets {
		if one != nil {
			tries = append(tries, *one)
		}
	}
	slices.SortStableFunc(tries, func(a, b try) int {
		return cmp.Or(cmp.Compare(b.Rung, a.Rung), cmp.Compare(a.changes, b.changes), cmp.Compare(a.Duration, b.Duration))
	})
	for _, one := range tries {
		if one.Rung <= s.Ladder.Rung {
			break // it is no better
		}
		swept, err := SweepOf(ctx, c, one.plan, image, o)
		if err != nil || swept.Ladder.Rung <= s.Ladder.Rung || swept.ByChance() {
			continue
		}
		best := &Proposal{Plan: one.plan, Sweep: swept, Changes: one.Changes}
		for _, other := range tries {
			best.Tried = append(best.Tried, other.Try)
		}
		return best, nil
	}
	return nil, ctx.Err()
}

// tried makes a plan with a set of the changes, each a bit, and says what it bears; nil is a
// plan that cannot be carried out.
func tried(plan *Plan, changes []change, set int, base *chip.Chip, image *memory.Image, o SweepOptions) *try {
	one := &try{plan: &Plan{Name: plan.Name + ", better", By: plan.By, Acts: slices.Clone(plan.Acts)}}
	for i, ch := range changes {
		if set>>i&1 == 1 {
			one.plan.Acts = ch.acts(one.plan.Acts)
			one.Changes = append(one.Changes, ch.text)
			one.changes++
		}
	}
	l, err := layout(one.plan, base, image, o.Baud)
	if err != nil {
		return nil // the acts do not go together
	}
	j := newJudge(base.Clone(), l.expected(base), l)
	if l.unfit(base, j.judge(base)) != nil {
		return nil
	}
	climber := climberOf(l, j.before, j.after, j, true)
	ladder := climber.single()
	climber.climb(ladder, l.amiss(j.after, j.judge(j.after)), &Sweep{Plan: one.plan})
	one.Rung, one.Steps = ladder.Rung, len(l.list)
	for i := range l.list {
		one.Duration = plus(one.Duration, plus(l.list[i].link, l.list[i].time.Typical))
	}
	return one
}

// ways returns what could be done otherwise.
func ways(c *chip.Chip, l *steps) (list []change) {
	if i, k := slices.IndexFunc(l.plan.Acts, isWords), lastProgram(l.plan.Acts); i >= 0 && i < k {
		list = append(list, change{"writes the configuration words when all else is written", wordsLast})
	}
	if set := l.switches(c); len(set) > 0 {
		var what []string
		for _, field := range slices.Sorted(maps.Keys(set)) {
			what = append(what, fmt.Sprintf("%s (%s)", field, set[field]))
		}
		list = append(list, change{"writes " + strings.Join(what, ", ") + " as it is before all else", setFirst(set)})
	}
	m := c.State.Resolved
	entry, _, ok := entered(m, c.Image())
	if !ok || entry == nil || entry.Role != device.Bootloader {
		return list
	}
	expected := l.expected(c)
	j := newJudge(c, expected, l)
	pieces := j.touchedParts(m)
	for _, p := range pieces {
		if p.region != entry {
			continue
		}
		if _, changes := differs(c.BankAt(entry.Span.First), expected.BankAt(entry.Span.First), p.spans, nil); !changes {
			list = append(list, change{fmt.Sprintf("does not write %s, which is unchanged", entry.Name), leaveOut(entry.Name)})
		}
	}
	var guards []string
	for _, g := range j.guarded(m) {
		for _, d := range g.by {
			spec, err := d.Spec(m, expected.Image())
			if err == nil &&
				slices.ContainsFunc(pieces,
					func(p touchedPart) bool { return len(memory.Intersect(p.spans, []memory.Span{*spec.Place})) > 0 }) {
				guards = append(guards, span.ChecksumPrefix+d.Name)
			}
		}
	}
	what := strings.ReplaceAll(strings.Join(guards, ", "), span.ChecksumPrefix, "")
	if len(j.guarded(m)) == 0 {
		for _, p := range pieces {
			if p.region != nil && p.region.Role == device.Application {
				at := ownStart(m, p.region)
				guards = append(guards, fmt.Sprintf("0x%X,%d", at, c.BankAt(at).GranuleSize))
				what = "the page with which " + p.region.Name + " begins"
				break
			}
		}
	}
	if len(guards) > 0 && len(j.guarded(m)) > 0 {
		list = append(list, change{"makes " + what + " void before all else", voidFirst(guards)})
	}
	if len(guards) > 0 {
		list = append(list, change{"writes " + what + " last, by an act of its own", guardsLast(guards)},
			change{"erases the place of " + what + " first", guardsFirst(guards)})
	}
	if s := m.Loader.Swap; s != nil && slices.ContainsFunc(j.touched, func(spans []memory.Span) bool {
		return len(memory.Intersect(spans, []memory.Span{s.Pending.Span()})) > 0
	}) {
		place := []string{fmt.Sprintf("0x%X,%d", s.Pending.At, len(s.Pending.Bytes))}
		list = append(list, change{"makes void what says that a swap is wanted before all else", voidFirst(place)},
			change{"writes what says that a swap is wanted last, by an act of its own", guardsLast(place)})
	}
	if twin := twins(j, m, pieces); len(twin) == 2 {
		list = append(list, change{fmt.Sprintf("writes %s completely before it touches %s", twin[0], twin[1]), oneAfterOther(twin)})
	}
	return list
}

// switches returns the fields that say how the device starts and that a bootloader's plan
// changes, with what they mean now.
func (l *steps) switches(c *chip.Chip) map[string]string {
	set := map[string]string{}
	if l.plan.By != Bootloader || !slices.ContainsFunc(l.plan.Acts, isWords) {
		return set
	}
	for i := range c.Map.Config {
		w := &c.Map.Config[i]
		for k := range w.Fields {
			f := &w.Fields[k]
			is, becomes := f.Value(f.Of(c.State.Values[w.Name])), f.Value(f.Of(l.words[w.Name]))
			if _, given := l.words[w.Name]; given && is != nil && becomes != nil && is != becomes &&
				(len(is.Sets) > 0 || len(becomes.Sets) > 0) {
				set[f.Name] = is.Meaning
			}
		}
	}
	return set
}

// setFirst writes words anew before anything else changes.
func setFirst(set map[string]string) func([]Act) []Act {
	return func(acts []Act) []Act {
		i := slices.IndexFunc(acts, func(a Act) bool { return forSpans(a) || isWords(a) })
		return slices.Insert(slices.Clone(acts), i, Act{Do: Words, Set: set})
	}
}

// isWords reports whether an act writes the words that the image gives.
func isWords(a Act) bool { return (a.Do == Words || a.Do == Lock) && len(a.Set) == 0 }

func lastProgram(acts []Act) int {
	last := -1
	for i, a := range acts {
		if a.Do == Program || a.Do == Differ || a.Do == Verify {
			last = i
		}
	}
	return last
}

// forSpans reports whether an act is for spans, and not for the whole chip.
func forSpans(a Act) bool { return kindOf(a.Do).spans }

// leaveOut skips a region in all acts.
func leaveOut(region string) func([]Act) []Act {
	return func(acts []Act) []Act {
		acts = slices.Clone(acts)
		for i := range acts {
			a := &acts[i]
			if !forSpans(*a) {
				continue
			}
			if a.What == "chip" {
				a.What = "touched"
			}
			a.Skip = append(slices.Clone(a.Skip), region)
		}
		return acts
	}
}

// voidFirst makes guards void before anything else changes.
func voidFirst(guards []string) func([]Act) []Act {
	return func(acts []Act) []Act {
		i := slices.IndexFunc(acts, func(a Act) bool { return forSpans(a) || isWords(a) })
		return slices.Insert(slices.Clone(acts), i, Act{Do: Void, In: guards})
	}
}

// guardsLast writes guards when all else is written and verified.
func guardsLast(guards []string) func([]Act) []Act {
	return func(acts []Act) []Act {
		var out []Act
		last := lastProgram(acts)
		for i, a := range acts {
			if a.Do == Program || a.Do == Differ || a.Do == Verify {
				a.Skip = append(slices.Clone(a.Skip), guards...)
			}
			out = append(out, a)
			if i == last {
				out = append(out, Act{Do: Program, In: guards})
				if slices.ContainsFunc(acts, func(a Act) bool { return a.Do == Verify }) {
					out = append(out, Act{Do: Verify, In: guards})
				}
			}
		}
		return out
	}
}

// guardsFirst erases the places of guards first.
func guardsFirst(guards []string) func([]Act) []Act {
	return func(acts []Act) []Act {
		var out []Act
		erased := false
		for _, a := range acts {
			if a.Do == Erase {
				if !erased {
					out = append(out, Act{Do: Erase, What: "touched", In: guards})
					erased = true
				}
				if a.What == "chip" {
					a.What = "touched"
				}
				a.Skip = append(slices.Clone(a.Skip), guards...)
			}
			out = append(out, a)
		}
		return out
	}
}

// oneAfterOther does all acts for spans for one region before the other.
func oneAfterOther(regions []string) func([]Act) []Act {
	return func(acts []Act) []Act {
		first := slices.IndexFunc(acts, forSpans)
		last := lastProgram(acts)
		var out []Act
		out = append(out, acts[:first]...)
		for k, region := range regions {
			for _, a := range acts[first : last+1] {
				if !forSpans(a) {
					if k == 1 {
						out = append(out, a)
					}
					continue
				}
				if a.What == "chip" {
					a.What = "touched"
				}
				if k == 0 {
					a.In = []string{region}
				} else {
					a.Skip = append(slices.Clone(a.Skip), regions[0])
				}
				out = append(out, a)
			}
		}
		return append(out, acts[last+1:]...)
	}
}

// wordsLast moves the configuration words behind all that is programmed.
func wordsLast(acts []Act) []Act {
	last := lastProgram(acts)
	var out, words []Act
	for i, a := range acts {
		if isWords(a) && i < last {
			words = append(words, a)
			continue
		}
		out = append(out, a)
		if i == last {
			out = append(out, words...)
		}
	}
	return out
}

// twins returns two guarded regions of one size that the update both changes, the
// one that is not started now first.
func twins(j *judge, m *device.Map, pieces []touchedPart) []string {
	var names []string
	var size uint64
	for _, g := range j.guarded(m) {
		if !slices.ContainsFunc(pieces, func(p touchedPart) bool { return p.region == g.region }) ||
			len(names) > 0 && g.region.Span.Size() != size {
			continue
		}
		size = g.region.Span.Size()
		names = append(names, g.region.Name)
	}
	if len(names) != 2 {
		return nil
	}
	if now := j.judge(j.before); now.Runs == names[0] {
		slices.Reverse(names)
	}
	return names
}
