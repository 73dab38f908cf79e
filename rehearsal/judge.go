package rehearsal

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/rehearsal/chip"
)

// Outcome is what a device does when it is started.
type Outcome uint8

// The outcomes, the worse the later.
const (
	StartsNew Outcome = iota
	StartsOld
	Waits   // it stays in its bootloader, and can be updated
	Neither // it starts an incomplete image, neither the old nor the new
	Nothing // it starts nothing
)

var outcomeWords = []string{"new", "old", "bootloader", "neither", "nothing"}

// String names the outcome in one word.
func (o Outcome) String() string { return outcomeWords[o] }

// Text says what the device does.
func (o Outcome) Text() string {
	return [...]string{
		"starts the new", "starts the old", "stays in the bootloader (ready for another update)", "starts an incomplete image",
		"starts nothing",
	}[o]
}

// Bad reports whether no device should ever be left so.
func (o Outcome) Bad() bool { return o >= Neither }

// Cause is why a device does what it does.
type Cause uint8

// The causes.
const (
	Whole       Cause = iota // what is started is whole
	NoVectors                // what start-up reads is erased
	WildVectors              // what start-up reads leads nowhere
	TornLoader               // the bootloader is neither the old nor the new
	GuardFails               // no guard holds
	NoStart                  // nothing guards, and nothing is there to be started
	NoRegion                 // the map has no region that the bootloader could start
	Unchecked                // what is started is torn, and nothing checks it
	Undetected               // what is started is torn, and its guard holds all the same
	Mixed                    // what is started is whole, and other data is not of it
	Stopped                  // the configuration stops the device
	HalfMoved                // the bootloader goes on with a swap that nothing began
)

// Verdict is what a device does when it is started, and why.
type Verdict struct {
	Outcome Outcome
	Reason
	At uint64 // where that is seen
}

// Reason is why a device does what it does, the same for moments of one kind.
type Reason struct {
	Cause  Cause
	Runs   string // the region that runs in the end; "" is none
	Loader string // the bootloader that started it; "" is none
	Region string // the one that is the reason
	By     string // the checksum or field that is the reason, or how the region is
}

// Why says why, in a sentence without its full stop.
func (v *Verdict) Why() string {
	runs := v.Runs
	if v.Loader != "" && v.Loader != v.Runs {
		runs = fmt.Sprintf("%s, started by %s,", v.Runs, v.Loader)
	}
	switch v.Cause {
	case Whole:
		return strings.TrimSuffix(runs, ",") + ", whole"
	case NoVectors:
		return fmt.Sprintf("the device starts from %s, in %s, which is erased", memory.FormatAddress(v.At), v.Region)
	case WildVectors:
		return fmt.Sprintf("the start at %s, in %s, does not lead to code", memory.FormatAddress(v.At), v.Region)
	case TornLoader:
		return fmt.Sprintf("%s is only partly written (from %s on) and the device starts it without a check", v.Region,
			memory.FormatAddress(v.At))
	case GuardFails:
		return fmt.Sprintf("%s is not valid, so %s does not start %s", v.By, cmp.Or(v.Runs, "the device"), v.Region)
	case HalfMoved:
		return fmt.Sprintf("%s continues a swap, according to the marks from %s on, of images that are not there, and %s is lost", v.Runs,
			memory.FormatAddress(v.At), v.Region)
	case NoStart:
		return fmt.Sprintf("the first bytes of %s are erased, so %s does not start it", v.Region, v.Runs)
	case NoRegion:
		return fmt.Sprintf("the map has no region that %s could start", v.Runs)
	case Unchecked:
		return fmt.Sprintf("%s is only partly written (from %s on), and nothing guards it", v.Region, memory.FormatAddress(v.At))
	case Undetected:
		return fmt.Sprintf("%s is only partly written (from %s on), but its guard %s is still valid", v.Region,
			memory.FormatAddress(v.At), v.By)
	case Mixed:
		how := v.By
		if how == formTorn.String() {
			how += fmt.Sprintf(" from %s on", memory.FormatAddress(v.At))
		}
		return fmt.Sprintf("%s runs, and %s is %s", runs, v.Region, how)
	case Stopped:
		return fmt.Sprintf("%s stops the device", v.By)
	}
	return ""
}

// judge tells what a chip starts, by what it held before an update and what it
// should hold after it.
type judge struct {
	before, after *chip.Chip
	touched       [][]memory.Span // by bank, what the update may change
	known         map[*device.Map][]touchedPart
	guards        map[*device.Map][]guarded
	sums          map[sumKey]*blockSums
	alike         [2]equalBlocks // to what it should hold after, and to what it held before
	final         string         // the region that runs when all is done
	finalKnown    bool           // final is known
	ends          [2]*Verdict    // of what it held before and should hold after, once they are known
}

// touchedPart is what of a region an update may change.
type touchedPart struct {
	region *device.Region // nil is in no region
	n      int            // of the bank
	spans  []memory.Span
}

// guarded is a region with what guards it.
type guarded struct {
	region *device.Region
	by     []*device.Checksum
	magic  []device.Content // what must stand there besides
}

func newJudge(before, after *chip.Chip, l *steps) *judge {
	j := &judge{before: before, after: after, touched: make([][]memory.Span, len(before.Banks))}
	j.forget()
	for i := range l.list {
		s := &l.list[i]
		switch {
		case !s.changes():
		case s.all:
			for n, b := range before.Banks {
				j.touched[n] = append(j.touched[n], b.Span)
			}
		default:
			j.touched[s.n] = append(j.touched[s.n], s.span)
		}
	}
	for n := range j.touched {
		j.touched[n] = memory.Union(j.touched[n])
	}
	j.final, j.finalKnown = j.decide(after).Runs, true
	return j
}

// touchedParts returns what of each region the update may change, but configuration, whose
// effect counts and not its bytes.
func (j *judge) touchedParts(m *device.Map) []touchedPart {
	if list, ok := j.known[m]; ok {
		return list
	}
	var list []touchedPart
	for n, b := range j.before.Banks {
		if b.Kind == device.Config || len(j.touched[n]) == 0 {
			continue
		}
		rest := j.touched[n]
		if s := m.Loader.Swap; s != nil { // what its log does counts, and not its bytes
			rest = memory.Without(rest, s.Log())
		}
		touched := rest
		for i := range m.Regions {
			r := &m.Regions[i]
			if here := memory.Intersect(touched, []memory.Span{r.Span}); len(here) > 0 {
				rest = memory.Without(rest, []memory.Span{r.Span})
				if r.Role != device.Reserved {
					list = append(list, touchedPart{r, n, here})
				}
			}
		}
		if len(rest) > 0 {
			list = append(list, touchedPart{nil, n, rest})
		}
	}
	j.known[m] = list
	return list
}

// name is what the first of what guards a region is called.
func (g *guarded) name() string {
	if len(g.by) > 0 {
		return g.by[0].Name
	}
	return "the value at " + memory.FormatAddress(g.magic[0].At)
}

// guarded returns the regions that are started only where a checksum holds, in the
// order in which the map declares these.
func (j *judge) guarded(m *device.Map) []guarded {
	if list, ok := j.guards[m]; ok {
		return list
	}
	var list []guarded
	for i := range m.Checksums {
		d := &m.Checksums[i]
		r := m.Region(d.Guards)
		if r == nil || d.Hardware {
			continue
		}
		k := slices.IndexFunc(list, func(g guarded) bool { return g.region == r })
		if k < 0 {
			list = append(list, guarded{region: r})
			k = len(list) - 1
		}
		list[k].by = append(list[k].by, d)
	}
	for _, c := range m.Loader.Checks {
		k := slices.IndexFunc(list, func(g guarded) bool { return g.region.Name == c.Region })
		if k < 0 {
			list = append(list, guarded{region: m.Region(c.Region)})
			k = len(list) - 1
		}
		list[k].magic = append(list[k].magic, c.Content)
	}
	j.guards[m] = list
	return list
}

// byHardware returns what the device itself checks before it starts a region directly; nil
// is nothing.
func byHardware(m *device.Map, r *device.Region) *guarded {
	g := &guarded{region: r}
	for i := range m.Checksums {
		if d := &m.Checksums[i]; d.Hardware && r != nil && d.Guards == r.Name {
			g.by = append(g.by, d)
		}
	}
	if len(g.by) == 0 {
		return nil
	}
	return g
}

// swapping is what the log of a loader that swaps two slots says.
type swapping uint8

const (
	swapsNot swapping = iota
	swapBegins
	swapHalfDone
)

// swapping tells whether a loader begins to swap its slots, or goes on with it.
func (j *judge) swapping(c *chip.Chip, s *device.Swap) swapping {
	switch {
	case !stands(c, &s.Pending) || s.Done != nil && stands(c, s.Done):
		return swapsNot
	case isErased(c, s.Marks):
		return swapBegins
	}
	return swapHalfDone
}

// stands reports whether bytes stand in their place, in what is kept without power.
func stands(c *chip.Chip, h *device.Content) bool {
	b := c.BankAt(h.At)
	return b != nil && b.Span.Covers(h.Span()) && bytes.Equal(c.Peek(b, h.Span()), h.Bytes)
}

// isErased reports whether a span of a memory that can be programmed is erased.
func isErased(c *chip.Chip, s memory.Span) bool {
	b := c.BankAt(s.First)
	held := c.Peek(b, s)
	return bytes.Count(held, b.Blank[:1]) == len(held)
}

// fails names what of a region's guards does not hold; "" is that all do.
func (j *judge) fails(c *chip.Chip, m *device.Map, g *guarded) string {
	for _, d := range g.by {
		if !j.holds(c, m, d) {
			return d.Name
		}
	}
	for i := range g.magic {
		if h := &g.magic[i]; !stands(c, h) {
			return "the value at " + memory.FormatAddress(h.At)
		}
	}
	return ""
}

// form is which of two states bytes are in.
type form uint8

const (
	formBoth form = iota // the update does not change them
	formNew
	formOld
	formTorn
)

func (f form) String() string {
	return [...]string{"unchanged", "the new one already", "unchanged", "partly written"}[f]
}

// form tells whether a piece is as before or as after, and if neither, from where on.
func (j *judge) form(c *chip.Chip, p touchedPart) (f form, at uint64) {
	at, isNew := differs(c.Banks[p.n], j.after.Banks[p.n], p.spans, j.alike[0])
	_, isOld := differs(c.Banks[p.n], j.before.Banks[p.n], p.spans, j.alike[1])
	switch {
	case !isNew && !isOld:
		return formBoth, at
	case !isNew:
		return formNew, at
	case !isOld:
		return formOld, at
	}
	return formTorn, at
}

// equalBlocks are blocks that are known to hold what another bank, which does not change,
// holds there: by when they were changed last, and one. nil knows nothing.
type equalBlocks map[*chip.Stretch][]uint64

// differs returns the first address at which a bank does not hold what another does.
func differs(a, b *chip.Bank, spans []memory.Span, known equalBlocks) (at uint64, yes bool) {
	for _, s := range spans {
		for at := s.First; ; {
			x, n := a.Next(at, s.Last)
			y, m := b.Next(at, s.Last)
			n = min(n, m)
			if x != nil || y != nil {
				if odd, yes := differIn(a, at, x, y, n, known); yes {
					return odd, true
				}
			}
			if n > s.Last-at {
				break
			}
			at += n
		}
	}
	return 0, false
}

// differIn looks at n bytes of two banks; nil is so many erased ones.
func differIn(a *chip.Bank, at uint64, x, y []byte, n uint64, known equalBlocks) (odd uint64, yes bool) {
	var t *chip.Stretch
	var alike []uint64
	if x != nil && known != nil {
		t = a.StretchAt(at)
		if alike = known[t]; alike == nil {
			alike = make([]uint64, len(t.Stamps))
			known[t] = alike
		}
	}
	for k := uint64(0); k < n; {
		step := min(n-k, chip.BlockSize)
		i := -1 // a whole block of the stretch
		if t != nil {
			from := at + k - t.First
			if step = min(chip.BlockSize-from%chip.BlockSize, n-k); step == chip.BlockSize {
				i = int(from / chip.BlockSize)
			}
			if i >= 0 && alike[i] == t.Stamps[i]+1 {
				k += step
				continue
			}
		}
		x1, y1 := a.Blank[:step], a.Blank[:step]
		if x != nil {
			x1 = x[k : k+step]
		}
		if y != nil {
			y1 = y[k : k+step]
		}
		if !bytes.Equal(x1, y1) {
			for i := range x1 {
				if x1[i] != y1[i] {
					return at + k + uint64(i), true
				}
			}
		}
		if i >= 0 {
			alike[i] = t.Stamps[i] + 1
		}
		k += step
	}
	return 0, false
}

// judge tells what the chip starts. It must just have been reset.
func (j *judge) judge(c *chip.Chip) Verdict {
	// What holds the same starts the same.
	for i, end := range []*chip.Chip{j.after, j.before} {
		if !j.equal(c, end, j.alike[i]) {
			continue
		}
		if j.ends[i] == nil {
			v := j.decide(c)
			j.ends[i] = &v
		}
		return *j.ends[i]
	}
	return j.decide(c)
}

// equal reports whether two chips hold the same wherever the update may change them.
func (j *judge) equal(a, b *chip.Chip, known equalBlocks) bool {
	if a.State.Key != b.State.Key {
		return false
	}
	for n := range a.Banks {
		if _, differ := differs(a.Banks[n], b.Banks[n], j.touched[n], known); differ {
			return false
		}
	}
	return true
}

func (j *judge) decide(c *chip.Chip) Verdict {
	m := c.State.Resolved
	if c.State.Stopped != "" {
		return Verdict{Nothing, Reason{Cause: Stopped, By: c.State.Stopped}, 0}
	}
	image := c.Image()
	r, v, ok := entered(m, image)
	if !ok {
		return v
	}
	hard := byHardware(m, r)
	if hard != nil {
		if by := j.fails(c, m, hard); by != "" {
			return Verdict{Nothing, Reason{Cause: GuardFails, Region: r.Name, By: by}, r.Span.First}
		}
	}
	if r == nil || r.Role != device.Bootloader {
		return j.running(c, m, r, "", hard)
	}
	if at, torn := j.tornIn(c, m, r); torn {
		cause, by := TornLoader, ""
		if hard != nil {
			cause, by = Undetected, hard.name()
		}
		return Verdict{Neither, Reason{Cause: cause, Runs: r.Name, Region: r.Name, By: by}, at}
	}
	return j.chosen(c, m, r)
}

// tornIn reports whether a region is partly written, and from where on.
func (j *judge) tornIn(c *chip.Chip, m *device.Map, r *device.Region) (at uint64, torn bool) {
	for _, p := range j.touchedParts(m) {
		if p.region == r {
			if f, at := j.form(c, p); f == formTorn {
				return at, true
			}
		}
	}
	return 0, false
}

// chosen judges what a bootloader, in a region, starts: what a swap that was begun says, else
// of the regions with a valid guard the one with the highest rank, else, where nothing is
// guarded, what is there.
func (j *judge) chosen(c *chip.Chip, m *device.Map, r *device.Region) Verdict {
	image := c.Image()
	guards := j.guarded(m)
	if s := m.Loader.Swap; s != nil {
		from := slices.IndexFunc(guards, func(g guarded) bool { return g.region.Name == s.From })
		switch j.swapping(c, s) {
		case swapHalfDone:
			return Verdict{Neither, Reason{Cause: HalfMoved, Runs: r.Name, Region: s.To}, s.Marks.First}
		case swapBegins:
			if from < 0 {
				return j.running(c, m, m.Region(s.From), r.Name, nil)
			}
			if j.fails(c, m, &guards[from]) == "" {
				return j.running(c, m, guards[from].region, r.Name, &guards[from])
			}
		}
		guards = slices.DeleteFunc(slices.Clone(guards), func(g guarded) bool { return g.region.Name == s.From })
	}
	if len(guards) == 0 {
		return j.unguarded(c, m, r)
	}
	failed := Verdict{Outcome: Waits, Reason: Reason{Cause: GuardFails, Runs: r.Name}}
	var chosen *guarded
	var highest uint64
	for i := range guards {
		g := &guards[i]
		by := j.fails(c, m, g)
		if by == "" {
			rank := uint64(0)
			for _, d := range g.by {
				rank = max(rank, d.RankIn(image))
			}
			if chosen == nil || rank > highest {
				chosen, highest = g, rank
			}
			continue
		}
		if failed.Region == "" {
			failed.Region, failed.By, failed.At = g.region.Name, by, g.region.Span.First
		}
	}
	if chosen != nil {
		return j.running(c, m, chosen.region, r.Name, chosen)
	}
	return failed
}

// unguarded judges what a bootloader starts without a check: the first application region
// in which something is there to be started.
func (j *judge) unguarded(c *chip.Chip, m *device.Map, r *device.Region) Verdict {
	failed := Verdict{Outcome: Waits, Reason: Reason{Cause: NoRegion, Runs: r.Name}}
	for i := range m.Regions {
		a := &m.Regions[i]
		if a.Role != device.Application || m.Loader.Swap != nil && a.Name == m.Loader.Swap.From {
			continue
		}
		if erasedAt(m, c.Image(), ownStart(m, a)) {
			if failed.Cause = NoStart; failed.Region == "" {
				failed.Region, failed.At = a.Name, a.Span.First
			}
			continue
		}
		return j.running(c, m, a, r.Name, nil)
	}
	return failed
}

// running judges what runs in the end.
func (j *judge) running(c *chip.Chip, m *device.Map, r *device.Region, loader string, by *guarded) Verdict {
	v := Verdict{Outcome: StartsNew, Reason: Reason{Cause: Whole, Loader: loader}}
	if r != nil {
		v.Runs, v.At = r.Name, r.Span.First
	}
	whole := formBoth // of all that runs
	var mixed *Verdict
	for _, p := range j.touchedParts(m) {
		mine := p.region != nil && r != nil && (p.region == r || p.region.Span.Covers(r.Span))
		if p.region != nil && !mine && p.region.Role != device.Data {
			continue // another program
		}
		f, at := j.form(c, p)
		name := "what is in no region"
		if p.region != nil {
			name = p.region.Name
		}
		switch {
		case f == formBoth:
		case f == formTorn && mine && by == nil:
			return Verdict{Neither, Reason{Unchecked, v.Runs, loader, name, f.String()}, at}
		case f == formTorn && mine:
			return Verdict{Neither, Reason{Undetected, v.Runs, loader, name, by.name()}, at}
		case f == formTorn || whole != formBoth && whole != f:
			if mixed == nil {
				mixed = &Verdict{Neither, Reason{Mixed, v.Runs, loader, name, f.String()}, at}
			}
		default:
			whole = f
		}
	}
	if mixed != nil {
		return *mixed
	}
	// What the update does not change is the old, unless it is what runs in the end: the
	// other of two slots, or an earlier release that steps in.
	if whole == formOld || whole == formBoth && j.finalKnown && v.Runs != j.final {
		v.Outcome = StartsOld
	}
	return v
}

// entered returns the region in which start-up begins; where it leads to no code,
// ok is false, and the verdict says why.
func entered(m *device.Map, image *memory.Image) (r *device.Region, v Verdict, ok bool) {
	e := check.EntryOf(m, image)
	where := "no region"
	if e.Region != nil {
		where = e.Region.Name
	}
	switch e.Fault {
	case check.Starts:
		return m.RegionAt(e.Code), v, true
	case check.Unsaid, check.Blank:
		return nil, Verdict{Nothing, Reason{Cause: NoVectors, Region: where}, e.At}, false
	}
	return nil, Verdict{Nothing, Reason{Cause: WildVectors, Region: where}, e.At}, false
}

// ownStart is where what a region holds begins.
func ownStart(m *device.Map, r *device.Region) uint64 {
	for i := range m.Starts {
		if r.Span.Contains(m.Starts[i].At) {
			return m.Starts[i].At
		}
	}
	return r.Span.First
}

// erasedAt reports whether two bytes, the least that an instruction has, are erased.
func erasedAt(m *device.Map, image *memory.Image, at uint64) bool {
	erased := m.ErasedAt(at)
	two := [2]byte{erased, erased}
	image.ReadAt(two[:], at)
	return two == [2]byte{erased, erased}
}

// forget makes the judge one of its own, for another goroutine.
func (j *judge) forget() {
	j.known, j.guards = map[*device.Map][]touchedPart{}, map[*device.Map][]guarded{}
	j.sums = map[sumKey]*blockSums{}
	j.alike = [2]equalBlocks{{}, {}}
}
