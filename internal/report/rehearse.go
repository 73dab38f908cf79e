package report

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/picture"
	"mexalt/rehearsal"
	"mexalt/source"
)

// Rehearsed is what came of a rehearsal: of one run, or of a sweep.
type Rehearsed struct {
	Map     *device.Map
	Image   string // its name
	From    string // what the chip held: the name of an image or a chip; "" is a blank one
	Faults  []string
	Refused *Checked // what a check found before anything was done; nil is nothing

	Run *rehearsal.Run
	// Kept is where the chip is kept, ReadBack where what it holds was written.
	Kept, ReadBack string
	Unread         *source.Problem // why the chip could not be read back

	Sweep  *rehearsal.Sweep
	Better *rehearsal.Proposal
	Saved  string // where the better plan was written; "" is nowhere
}

// Duration prints a time in three digits or so.
func Duration(d time.Duration) string {
	s := d.Seconds()
	switch {
	case s >= 120:
		return timeText(s)
	case s >= 10:
		return fmt.Sprintf("%.1f s", s)
	case s >= 1:
		return fmt.Sprintf("%.2f s", s)
	case s >= 0.1:
		return fmt.Sprintf("%.0f ms", s*1e3)
	case s == 0:
		return "0 ms"
	case s >= 0.001:
		return fmt.Sprintf("%.1f ms", s*1e3)
	}
	return fmt.Sprintf("%.2f ms", s*1e3)
}

// Text prints it.
func (r *Rehearsed) Text(p *render.Printer) {
	switch {
	case r.Refused != nil:
		for i := range r.Refused.Best.Findings {
			r.Refused.finding(p, &r.Refused.Best.Findings[i])
		}
		p.Printf("\n")
		p.Line("%s: %s; nothing was begun", p.Bad("refused"), Verdict(r.Refused.Best))
	case r.Run != nil:
		r.runText(p)
	case r.Sweep != nil:
		r.sweepText(p)
	}
}

// heading says what is programmed, over what, by which plan.
func (r *Rehearsed) heading(p *render.Printer, plan *rehearsal.Plan) {
	over := "a blank device"
	if r.From != "" {
		over = r.From
	}
	on := ""
	if b := r.Map.Board; b != nil {
		on = " on " + b.Name
	}
	p.Line("%s%s: %s over %s, plan %s, carried out by the %s", p.Title(r.Map.Name), on, r.Image, over, PlanName(plan), plan.By)
	for _, f := range r.Faults {
		p.Line("  with the fault %s", p.Doubt(f))
	}
}

func PlanName(p *rehearsal.Plan) string {
	if p.File != "" {
		return p.File
	}
	return p.Name
}

func (r *Rehearsed) runText(p *render.Printer) {
	run := r.Run
	r.heading(p, run.Plan)
	p.Printf("\n")
	link, typical, most := run.Total()
	var table [][]string
	for i := range run.Acts {
		a := &run.Acts[i]
		row := []string{actNumbers(a), string(a.Do), r.Objects(a), Duration(a.Typical), Duration(a.Most)}
		if p.Wide() {
			row = append(row, render.Bar(uint64(a.Typical), uint64(max(typical, 1))))
		}
		result := a.State.String()
		switch {
		case a.State == rehearsal.Done && a.Steps == 0:
			result = ""
		case a.State == rehearsal.Done && a.Said != "":
			result = a.Said
		case a.State == rehearsal.Failed:
			result = "FAILED"
		case a.State == rehearsal.CutOff:
			result = "POWER CUT"
		}
		table = append(table, append(row, result))
	}
	header := []string{"steps", "act", "for", "typical", "at most", "result"}
	if p.Wide() {
		header = slices.Insert(header, 5, "of all")
	}
	p.Table(header, table, 1, 4, 5)
	p.Printf("\n")
	text := fmt.Sprintf("in all %s, at most %s", Duration(typical), Duration(most))
	if link > 0 {
		text += fmt.Sprintf("; the link takes %s of it", Duration(link))
	}
	if run.Spared > 0 {
		text += fmt.Sprintf("; all of it would take %s more", Duration(run.Spared))
	}
	if len(run.MissingTimes) > 0 {
		text += "; the map does not say how long it takes: " + strings.Join(run.MissingTimes, ", ")
	}
	if f := run.Failed; f == nil || run.Plan.Acts[f.Act].Do != rehearsal.Identify { // of another device nothing was done
		p.Line("%s", text)
	}
	if run.OverwrittenLoader != "" {
		p.Line("%s: the plan overwrites %s, the bootloader that runs it; use -sweep to see the effect of a power cut",
			p.Severity(source.Warning), run.OverwrittenLoader)
	}
	for _, w := range run.Wear {
		p.Line("wear: the most-used sector of %s takes %s of the %s it bears", w.Memory, memory.FormatNumber(w.Erases, "erase"),
			memory.FormatCount(w.Bears))
	}
	for _, d := range run.Doubts {
		p.Line("%s: the map does not say %s; can-write of [loader] says it", p.Severity(source.Warning), d)
	}
	for _, u := range run.Unknown {
		p.Line("%s: the map does not say what %s does to the device, so its effect is not simulated", p.Severity(source.Note), u)
	}
	if f := run.Failed; f != nil {
		r.failureText(p, f)
	}
	if run.NoStart {
		p.Line("what starts is not known: the map has no [start]")
	} else {
		r.starts(p)
	}
	if run.Locked != "" {
		p.Line("locked: %s", run.Locked)
	}
	if n := run.NoReturn; n > 0 {
		p.Line("%s: act %d, %s: no way in remains after it", p.Bad("point of no return"), n, run.Plan.Acts[n-1].Do)
	}
	if len(run.Ways) > 0 && (run.NoReturn > 0 || r.Map.Board != nil && len(r.Map.Ports) > 0) {
		var list []string
		for _, w := range run.Ways {
			if run.NoReturn > 0 || w.Changes() {
				list = append(list, w.String())
			}
		}
		p.Hanging("ways in: ", "%s", strings.Join(list, "; "))
	}
	if r.Unread != nil {
		p.Line("%s: %s", p.Bad("not read back"), source.Message(r.Unread.What, r.Unread.Expected, r.Unread.Advice.Text))
	}
}

// starts tells what starts before and after a run.
func (r *Rehearsed) starts(p *render.Printer) {
	run := r.Run
	p.Hanging("before: ", "%s (%s)", run.Before.Outcome.Text(), run.Before.Why())
	after := p.Good(run.After.Outcome.Text())
	switch {
	case run.After.Outcome.Bad():
		after = p.Bad(run.After.Outcome.Text())
	case run.After.Outcome != rehearsal.StartsNew:
		after = p.Doubt(run.After.Outcome.Text())
	}
	p.Hanging("after:  ", "%s (%s)", after, run.After.Why())
}

// actNumbers are the numbers of what an act does one by one: its sectors, its pages.
func actNumbers(a *rehearsal.ActResult) string {
	switch a.Steps {
	case 0:
		return ""
	case 1:
		return fmt.Sprint(a.First)
	}
	return fmt.Sprintf("%d..%d", a.First, a.First+a.Steps-1)
}

// Objects says what an act is for: how many of what, in which regions.
func (r *Rehearsed) Objects(a *rehearsal.ActResult) string {
	noun := a.Do.Noun()
	switch {
	case a.Do == rehearsal.Erase && a.What == "chip":
		return "the whole chip"
	case a.Do == rehearsal.Identify && len(r.Run.Map.Identities) > 0:
		return "identity " + device.IdentitiesText(r.Run.Map)
	case a.Steps == 0:
		return "nothing"
	case a.Do == rehearsal.Verify:
		return memory.FormatBytes(a.Bytes) + " in " + r.regions(a.Spans)
	case noun == "":
		return ""
	}
	count := memory.FormatNumber(a.Steps, noun)
	switch cells := memory.FormatBytes(a.Written) + " of cells"; {
	case noun == "word" || a.Cells == 0:
	case a.Cells == a.Steps:
		count = cells
	default:
		count = memory.FormatNumber(a.Steps-a.Cells, noun) + " and " + cells
	}
	return count + ", " + memory.FormatSize(a.Bytes) + " in " + r.regions(a.Spans)
}

// regions names the regions that spans lie in.
func (r *Rehearsed) regions(spans []memory.Span) string {
	var names []string
	for _, s := range spans {
		for _, region := range r.Run.Map.RegionsIn(s) {
			if !slices.Contains(names, region.Name) {
				names = append(names, region.Name)
			}
		}
	}
	const few = 4
	if n := len(names); n > few {
		return strings.Join(names[:few], ", ") + fmt.Sprintf(" and %d more", n-few)
	}
	if len(names) == 0 {
		return "no region"
	}
	return strings.Join(names, ", ")
}

// failureText says what failed, why, and what to do.
func (r *Rehearsed) failureText(p *render.Printer, f *rehearsal.Failure) {
	p.Printf("\n")
	title := "refused"
	if f.Step > 0 {
		title = fmt.Sprintf("%s failed in step %s", r.Run.Plan.Acts[f.Act].Do, memory.FormatCount(uint64(f.Step)))
	}
	p.Line("%s: %s", p.Bad(title), source.Message(f.What, f.Expected, f.Advice.Text))
	for i := range f.Causes {
		p.Line("  %s %s", p.Doubt("likely:"), f.Causes[i].Says())
	}
	if f.Compared == nil {
		p.Printf("\n")
		return
	}
	const most = 8
	var table [][]string
	list := f.Compared.Differences
	for _, d := range list[:min(len(list), most)] {
		table = append(
			table,
			[]string{d.Range(), memory.FormatCount(d.Bytes), ExcerptOf(f.Expects, d.Span), ExcerptOf(f.Found, d.Span),
				RegionsOf(r.Run.Map, d.Span)},
		)
	}
	p.Table([]string{"span", "differ", "expected", "found", "region"}, table, 2)
	if more := len(list) - most; more > 0 {
		p.Line("and %d more", more)
	}
	p.Printf("\n")
}

// outcomes in the order in which they are told.
var outcomes = []rehearsal.Outcome{rehearsal.StartsOld, rehearsal.StartsNew, rehearsal.Waits, rehearsal.Neither, rehearsal.Nothing}

func (r *Rehearsed) sweepText(p *render.Printer) {
	s := r.Sweep
	r.heading(p, s.Plan)
	p.Line("%s; power cut before, during and after each: %s cases", memory.FormatNumber(s.Steps, "step"),
		memory.FormatCount(uint64(s.Moments)))
	r.timeLine(p, s)
	r.shares(p, s)
	r.windows(p, s)
	r.repeats(p, s)
	r.ladder(p, s)
	if b := r.Better; b != nil {
		p.Printf("\n")
		p.Line("%s: %s", p.Title("A better plan"), strings.Join(b.Changes, "; "))
		r.timeLine(p, b.Sweep)
		r.shares(p, b.Sweep)
		r.ladder(p, b.Sweep)
		r.tried(p, b)
		if r.Saved == "" {
			for line := range strings.Lines(strings.TrimLeft(b.Plan.Text(""), "\n")) {
				p.Printf("    %s\n", strings.TrimSuffix(line, "\n"))
			}
		}
	}
}

// letters name the outcomes on a time line.
var letters = map[rehearsal.Outcome]string{
	rehearsal.StartsOld: "o",
	rehearsal.StartsNew: "n",
	rehearsal.Waits:     "b",
	rehearsal.Neither:   "?",
	rehearsal.Nothing:   "X",
}

func styled(p *render.Printer, o rehearsal.Outcome, text string) render.Styled {
	switch {
	case o.Bad():
		return p.Bad(text)
	case o == rehearsal.Waits:
		return p.Doubt(text)
	}
	return p.Good(text)
}

// columns shares the columns of a line between the windows of a sweep: in proportion to
// their times, but one for each at the least. Where there are more windows than columns, each
// column shows the worst of its time.
func columns(s *rehearsal.Sweep, wide int) []rehearsal.Outcome {
	n, total := len(s.Windows), float64(max(s.Total, 1))
	list := make([]rehearsal.Outcome, 0, wide)
	if n > wide {
		list = list[:wide]
		at := func(t time.Duration) int { return min(int(float64(t)/total*float64(wide)), wide-1) }
		for _, w := range s.Windows {
			for k := at(w.From); k <= at(w.To); k++ {
				list[k] = max(list[k], w.Outcome) // the worst is the last
			}
		}
		return list
	}
	widths, sum, widest := make([]int, n), 0, 0
	for i, w := range s.Windows {
		widths[i] = 1 + int(float64(w.To-w.From)/total*float64(wide-n))
		sum += widths[i]
		if w.To-w.From > s.Windows[widest].To-s.Windows[widest].From {
			widest = i
		}
	}
	widths[widest] += wide - sum // what rounding left
	for i, w := range s.Windows {
		list = append(list, slices.Repeat([]rehearsal.Outcome{w.Outcome}, widths[i])...)
	}
	return list
}

// timeLine draws what the moments end in, as a bar.
func (r *Rehearsed) timeLine(p *render.Printer, s *rehearsal.Sweep) {
	list := columns(s, max(min(p.Width, 120)-2, 1))
	p.Printf("\n[")
	for i := 0; i < len(list); {
		to := i + 1
		for to < len(list) && list[to] == list[i] {
			to++
		}
		p.Printf("%s", styled(p, list[i], strings.Repeat(letters[list[i]], to-i)))
		i = to
	}
	p.Printf("]\n")
	end := Duration(s.Total)
	if !s.Timed {
		end = memory.FormatCount(uint64(s.Total)) + " steps (the map gives no times)"
	}
	p.Printf("0%*s\n\n", max(len(list)+1, len(end)), end)
}

func (r *Rehearsed) duration(s *rehearsal.Sweep, d time.Duration) string {
	if !s.Timed {
		return memory.FormatNumber(uint64(d), "step")
	}
	return Duration(d)
}

// shares tells how much of the time ends in what.
func (r *Rehearsed) shares(p *render.Printer, s *rehearsal.Sweep) {
	var table [][]string
	for _, o := range outcomes {
		if s.Counts[o] == 0 {
			continue
		}
		table = append(
			table,
			[]string{
				letters[o],
				o.Text(),
				r.duration(s, s.Durations[o]),
				Percent(uint64(s.Durations[o]), uint64(max(s.Total, 1))),
				memory.FormatCount(uint64(s.Counts[o])),
				s.Chances[o].String(),
			},
		)
	}
	p.Table([]string{"", "after a power cut, the device", "for", "share of time", "cases", "first case (for -fault)"}, table, 3, 4, 5)
	p.Printf("\n")
}

// stepsOf names the steps of a window.
func stepsOf(w *rehearsal.Window) string {
	if w.First.Act == w.Last.Act {
		return fmt.Sprintf("step %s (%s)", memory.FormatCount(uint64(w.First.Act)), w.Acts[0])
	}
	return fmt.Sprintf("steps %s to %s (%s; %s)", memory.FormatCount(uint64(w.First.Act)), memory.FormatCount(uint64(w.Last.Act)),
		w.Acts[0], w.Acts[1])
}

// badTime are windows that leave something bad behind for one reason: from the first to the last.
type badTime struct {
	rehearsal.Window
	times  int
	middle time.Duration // of the first
}

// badTimesOf returns them by the first of each.
func badTimesOf(s *rehearsal.Sweep) (list []badTime) {
	for i := range s.Windows {
		w := &s.Windows[i]
		if !w.Outcome.Bad() {
			continue
		}
		if k := slices.IndexFunc(list, func(b badTime) bool { return w.Like(&b.Window) }); k >= 0 {
			b := &list[k]
			b.To, b.Last, b.Acts[1] = w.To, w.Last, w.Acts[1]
			b.times++
		} else {
			list = append(list, badTime{*w, 1, (w.From + w.To) / 2})
		}
	}
	return list
}

// mostBadTimes is how many are told.
const mostBadTimes = 12

// windows tells of each bad time: when, why, what would close it.
func (r *Rehearsed) windows(p *render.Printer, s *rehearsal.Sweep) {
	list := badTimesOf(s)
	for i := range list[:min(len(list), mostBadTimes)] {
		w, often, why := &list[i], "", ""
		if w.times > 1 {
			often, why = fmt.Sprintf(" %s times", memory.FormatCount(uint64(w.times))), "the first: "
		}
		p.Line("%s%s from %s to %s, in %s", styled(p, w.Outcome, letters[w.Outcome]+" "+w.Outcome.Text()), often, r.duration(s, w.From),
			r.duration(s, w.To), stepsOf(&w.Window))
		p.Line("    %s%s", why, w.Why())
		if w.Remedy != "" {
			p.Line("    fix: %s", w.Remedy)
		}
	}
	if len(list) > mostBadTimes {
		p.Line("and %d more of these", len(list)-mostBadTimes)
	}
	if len(list) > 0 {
		p.Printf("\n")
	}
}

// repeats tells whether the plan can be carried out again.
func (r *Rehearsed) repeats(p *render.Printer, s *rehearsal.Sweep) {
	switch {
	case s.Unrepeatable == 0:
		p.Line("repeating the update always completes it")
	case s.Lost == s.Unrepeatable:
		p.Line("repeating the update completes it in all cases but %s, where no bootloader is left to run it; first case: %q",
			memory.FormatCount(uint64(s.Lost)), s.FirstFailing.String())
	default:
		p.Line("repeating the update does not complete it in %s cases; first case: %q: %s", memory.FormatCount(uint64(s.Unrepeatable)),
			s.FirstFailing.String(), s.WhyFailing)
	}
}

// ladder tells what is shown of a plan, under what it is shown, and what keeps it from
// more.
func (r *Rehearsed) ladder(p *render.Printer, s *rehearsal.Sweep) {
	p.Line("%s", r.safety(p, s))
	l := s.Ladder
	if l.Why != "" && l.Rung > rehearsal.Unhurt {
		p.Line("not shown: %s; %s", (l.Rung + 1).String(), r.firstCase(s))
	}
	if l.Chance > 0 {
		p.Line("by chance, %s is valid over torn bits that are neither the old nor the new %s, at %q", l.ChanceOf, onceIn(l.Chance),
			l.ChanceAt.String())
	}
}

// onceIn words how likely something is.
func onceIn(chance float64) string {
	return fmt.Sprintf("once in %s at most", memory.FormatCount(uint64(1/chance+0.5)))
}

// firstCase says after which cuts something else is started, and what.
func (r *Rehearsed) firstCase(s *rehearsal.Sweep) string {
	var cuts []string
	for _, c := range s.Ladder.Cuts {
		cuts = append(cuts, fmt.Sprintf("%q", c.String()))
	}
	if len(cuts) == 0 {
		return s.Ladder.Why
	}
	return "after " + strings.Join(cuts, ", then ") + ": " + s.Ladder.Why
}

// tried tells what other orders stand on.
func (r *Rehearsed) tried(p *render.Printer, b *rehearsal.Proposal) {
	const most = 8
	var table [][]string
	for _, one := range b.Tried[:min(len(b.Tried), most)] {
		table = append(
			table,
			[]string{fmt.Sprint(int(one.Rung)), memory.FormatCount(uint64(one.Steps)), Duration(one.Duration),
				strings.Join(one.Changes, "; ")},
		)
	}
	p.Printf("\n")
	p.Table([]string{"rung", "acts", "takes", "orders that were tried, and what they survive"}, table, 0, 1, 2)
	if n := len(b.Tried) - most; n > 0 {
		p.Line("and %d more", n)
	}
	p.Printf("\n")
}

// safety is the verdict on a plan.
func (r *Rehearsed) safety(p *render.Printer, s *rehearsal.Sweep) render.Styled {
	line := func(good bool, what string) render.Styled {
		word := p.Bad("not safe")
		if good {
			word = p.Good("safe")
		}
		return render.Styled(word + ": " + render.Styled(source.Visible(what)))
	}
	if s.Plan.By == rehearsal.Programmer && s.Safe() {
		what := "at the bench: repeating the plan always completes it, and no case starts anything unchecked"
		if n := s.Counts[rehearsal.Nothing]; n > 0 {
			what += fmt.Sprintf("; until then the device starts nothing in %s", r.duration(s, s.Durations[rehearsal.Nothing]))
		}
		return line(true, what)
	}
	switch {
	case s.Ladder.Rung == rehearsal.NotNew:
		return line(false, s.Ladder.Why)
	case s.Safe():
		again, reads := "each followed by the complete plan again", "if a torn bit reads the same each time"
		switch {
		case s.Ladder.Rung == rehearsal.Weak:
			reads = "even if a torn bit reads differently each time"
		case r.Map.Loader.Retry == device.RetryUntilNew:
			again += " unless the new runs"
		}
		return line(true,
			strings.Join(append([]string{fmt.Sprintf("it survives any number of power cuts, %s, %s", again, reads)}, r.granted()...), "; "))
	case s.Ladder.Rung == rehearsal.Unhurt:
		var words []string
		if n := s.Counts[rehearsal.Nothing]; n > 0 && s.Plan.By == rehearsal.Bootloader {
			words = append(words,
				fmt.Sprintf("starts nothing in %s of %s", r.duration(s, s.Durations[rehearsal.Nothing]), r.duration(s, s.Total)))
		}
		if n := s.Counts[rehearsal.Neither]; n > 0 {
			words = append(
				words,
				fmt.Sprintf("starts something unchecked in %s of %s", r.duration(s, s.Durations[rehearsal.Neither]),
					r.duration(s, s.Total)),
			)
		}
		return line(false, strings.Join(append(words, r.firstCase(s)), "; "))
	case s.ByChance():
		return line(false, fmt.Sprintf("a guard may be valid by chance, %s", onceIn(s.Ladder.Chance)))
	}
	return line(false, "it survives "+s.Ladder.Rung.String()+", not more")
}

// granted is assumptions about the bootloader in a verdict.
func (r *Rehearsed) granted() (list []string) {
	for _, pin := range r.Map.Loader.Pins {
		list = append(list, fmt.Sprintf("the pin %s is assumed to be as in the field", pin.Pin))
	}
	if r.Map.Loader.Swap != nil {
		list = append(list, "a power cut during the bootloader's own swap was not simulated")
	}
	return list
}

// RehearseModel is a rehearsal for programs. Times are in milliseconds.
type RehearseModel struct {
	Schema   string         `json:"schema"`
	Device   string         `json:"device"`
	Image    string         `json:"image"`
	From     string         `json:"from,omitempty"`
	Plan     string         `json:"plan,omitempty"`
	By       string         `json:"by,omitempty"`
	Refused  []findingModel `json:"refused,omitempty"` // the findings that stopped the run before its first step
	Faults   []string       `json:"faults,omitempty"`
	Run      *RunModel      `json:"run,omitempty"`
	Sweep    *SweepModel    `json:"sweep,omitempty"`
	Better   *BetterModel   `json:"better,omitempty"`
	Chip     string         `json:"chip,omitempty"`
	ReadBack string         `json:"readBack,omitempty"`
	Unread   string         `json:"unread,omitempty"` // why the chip could not be read back
}

// RunModel is one run of a plan.
type RunModel struct {
	Done         bool          `json:"done"`
	Acts         []ActModel    `json:"acts"`
	Steps        int           `json:"steps"`
	Link         float64       `json:"link"`
	Typical      float64       `json:"typical"`
	Most         float64       `json:"most"`
	MissingTimes []string      `json:"untold,omitempty"` // steps for which the map gives no time
	Failure      *FailureModel `json:"failure,omitempty"`
	Before       *OutcomeModel `json:"before,omitempty"` // absent if the map does not describe how the device starts
	After        *OutcomeModel `json:"after,omitempty"`
	LockedBy     string        `json:"lockedBy,omitempty"`
	Ports        []WayInModel  `json:"ports"`                // the ways in afterwards
	NoReturn     int           `json:"noReturn,omitempty"`   // the number of the act, from 1, after which no way in remains
	Over         string        `json:"writesOver,omitempty"` // the bootloader that runs the plan, if the plan writes over it
	Unknown      []string      `json:"unknownEffects,omitempty"`
	Doubts       []string      `json:"doubts,omitempty"` // assumptions of the plan that the map does not state
	Wear         []WearModel   `json:"wear,omitempty"`
	Spared       float64       `json:"spared,omitempty"` // saved by acts that leave out what is already correct
}

// WearModel is how many erases a run costs the most-used sector of a memory.
type WearModel struct {
	Memory string `json:"memory"`
	Erases uint64 `json:"erases"`
	Bears  uint64 `json:"bears"`
}

// ActModel is an act of a run.
type ActModel struct {
	Do      string  `json:"do"`
	State   string  `json:"state"`
	First   int     `json:"first"` // the number of its first step
	Steps   int     `json:"steps"`
	Bytes   uint64  `json:"bytes"`
	Spans   []Span  `json:"spans,omitempty"`
	Link    float64 `json:"link"`
	Typical float64 `json:"typical"`
	Most    float64 `json:"most"`
	Said    string  `json:"said,omitempty"`
}

// Why a step failed.
type FailureModel struct {
	Act         string            `json:"act"`
	Step        int               `json:"step"`
	Span        *Span             `json:"span,omitempty"`
	What        string            `json:"what"`
	Expected    string            `json:"expected,omitempty"`
	Advice      string            `json:"advice,omitempty"`
	Causes      []string          `json:"likelyCauses,omitempty"`
	Differ      uint64            `json:"differ,omitempty"`
	Differences []differenceModel `json:"differences,omitempty"` // the first 1,000
}

// OutcomeModel is what the device starts, and why.
type OutcomeModel struct {
	Outcome string `json:"outcome"` // new, old, bootloader, neither, nothing
	Why     string `json:"why"`
	Runs    string `json:"runs,omitempty"`
	Loader  string `json:"loader,omitempty"`
}

// SweepModel is the result of power cuts at every step.
type SweepModel struct {
	Safe         bool          `json:"safe"`
	Steps        int           `json:"steps"`
	Moments      int           `json:"moments"`
	Timed        bool          `json:"timed"` // false if the map gives no times; times are then numbers of steps
	Total        float64       `json:"total"`
	Shares       []ShareModel  `json:"shares"`
	Windows      []WindowModel `json:"windows"`
	Granted      []string      `json:"granted,omitempty"` // assumptions about the bootloader
	Unrepeatable int           `json:"unrepeatable"`
	Lost         int           `json:"lost"` // cases in which no bootloader is left to repeat the update
	FirstFailing string        `json:"firstFailing,omitempty"`
	WhyFailing   string        `json:"whyFailing,omitempty"`
	End          OutcomeModel  `json:"end"`
	Ladder       LadderModel   `json:"ladder"`
}

// LadderModel is the rung of a plan, and what keeps it off the next one.
type LadderModel struct {
	Rung     int      `json:"rung"` // 0 to 4
	Shown    string   `json:"shown"`
	Cuts     []string `json:"cuts"` // the cuts after which something else starts, as faults
	Why      string   `json:"why,omitempty"`
	Chance   float64  `json:"chance"` // the chance that a guard is valid over other torn bits
	ChanceAt string   `json:"chanceAt,omitempty"`
	Guard    string   `json:"guard,omitempty"`
}

func ladderModel(l *rehearsal.Ladder) LadderModel {
	out := LadderModel{Rung: int(l.Rung), Shown: l.Rung.String(), Cuts: []string{}, Why: l.Why, Chance: l.Chance, Guard: l.ChanceOf}
	for _, c := range l.Cuts {
		out.Cuts = append(out.Cuts, c.String())
	}
	if l.Chance > 0 {
		out.ChanceAt = l.ChanceAt.String()
	}
	return out
}

// TryModel is an order of acts that was tried.
type TryModel struct {
	Changes  []string `json:"did"`
	Rung     int      `json:"rung"` // the rung of the order
	Steps    int      `json:"steps"`
	Duration float64  `json:"takes"`
}

// ShareModel is the share of the time with one outcome.
type ShareModel struct {
	Outcome string  `json:"outcome"`
	Takes   float64 `json:"takes"`
	Moments int     `json:"moments"`
	First   string  `json:"first"` // the first case, as a fault
}

// WindowModel is a time in which every cut has the same result.
type WindowModel struct {
	OutcomeModel
	From    float64 `json:"from"`
	To      float64 `json:"to"`
	First   string  `json:"first"`
	Last    string  `json:"last"`
	Moments int     `json:"moments"`
	Act     string  `json:"act"`
	LastAct string  `json:"lastAct"`
	Remedy  string  `json:"remedy,omitempty"`
}

// BetterModel is a plan that is better, with its sweep.
type BetterModel struct {
	Changes []string   `json:"did"`
	Plan    string     `json:"plan"` // the file's text
	File    string     `json:"file,omitempty"`
	Sweep   SweepModel `json:"sweep"`
	Tried   []TryModel `json:"tried"`
}

// Model makes the model for programs.
func (r *Rehearsed) Model() any {
	out := RehearseModel{
		Schema:   SchemaName("rehearse"),
		Device:   r.Map.Name,
		Image:    r.Image,
		From:     r.From,
		Faults:   r.Faults,
		Chip:     r.Kept,
		ReadBack: r.ReadBack,
	}
	plan := (*rehearsal.Plan)(nil)
	switch {
	case r.Refused != nil:
		out.Refused = r.Refused.findings()
	case r.Run != nil:
		plan, out.Run = r.Run.Plan, r.runModel()
	case r.Sweep != nil:
		plan, out.Sweep = r.Sweep.Plan, r.sweepModel(r.Sweep)
	}
	if plan != nil {
		out.Plan, out.By = PlanName(plan), string(plan.By)
	}
	if r.Unread != nil {
		out.Unread = r.Unread.What
	}
	if b := r.Better; b != nil {
		out.Better = &BetterModel{b.Changes, b.Plan.Text(""), r.Saved, *r.sweepModel(b.Sweep), []TryModel{}}
		for _, one := range b.Tried {
			out.Better.Tried = append(out.Better.Tried, TryModel{one.Changes, int(one.Rung), one.Steps, milliseconds(one.Duration)})
		}
	}
	return out
}

// milliseconds returns a time to the nanosecond, without what a division leaves behind.
func milliseconds(d time.Duration) float64 {
	return math.Round(float64(d)/float64(time.Millisecond)*1e6) / 1e6
}

func outcomeModel(v *rehearsal.Verdict) OutcomeModel {
	return OutcomeModel{v.Outcome.String(), v.Why(), v.Runs, v.Loader}
}

func (r *Rehearsed) runModel() *RunModel {
	run := r.Run
	link, typical, most := run.Total()
	out := &RunModel{
		Done:         run.Failed == nil,
		Acts:         []ActModel{},
		Steps:        run.Steps,
		Link:         milliseconds(link),
		Typical:      milliseconds(typical),
		Most:         milliseconds(most),
		MissingTimes: run.MissingTimes,
		LockedBy:     run.Locked,
		Ports:        wayInModels(run.Ways),
		NoReturn:     run.NoReturn,
		Over:         run.OverwrittenLoader,
		Unknown:      run.Unknown,
	}
	if !run.NoStart {
		before, after := outcomeModel(&run.Before), outcomeModel(&run.After)
		out.Before, out.After = &before, &after
	}
	out.Doubts, out.Spared = run.Doubts, milliseconds(run.Spared)
	for _, w := range run.Wear {
		out.Wear = append(out.Wear, WearModel{w.Memory, w.Erases, w.Bears})
	}
	for i := range run.Acts {
		a := &run.Acts[i]
		one := ActModel{
			Do:      string(a.Do),
			State:   a.State.String(),
			First:   a.First,
			Steps:   a.Steps,
			Bytes:   a.Bytes,
			Link:    milliseconds(a.Link),
			Typical: milliseconds(a.Typical),
			Most:    milliseconds(a.Most),
			Said:    a.Said,
		}
		for _, s := range a.Spans {
			one.Spans = append(one.Spans, spanOf(s))
		}
		out.Acts = append(out.Acts, one)
	}
	if f := run.Failed; f != nil {
		m := &FailureModel{Act: string(run.Plan.Acts[f.Act].Do), Step: f.Step, What: f.What, Expected: f.Expected, Advice: f.Advice.Text}
		if f.Where != nil {
			s := spanOf(*f.Where)
			m.Span = &s
		}
		for i := range f.Causes {
			m.Causes = append(m.Causes, f.Causes[i].Says())
		}
		if f.Compared != nil {
			m.Differ = f.Compared.Differ
			const most = 1000
			list := f.Compared.Differences
			for _, d := range list[:min(len(list), most)] {
				m.Differences = append(m.Differences, differenceOf(d, f.Expects, f.Found, r.Run.Map))
			}
		}
		out.Failure = m
	}
	return out
}

func (r *Rehearsed) sweepModel(s *rehearsal.Sweep) *SweepModel {
	times := milliseconds
	if !s.Timed {
		times = func(d time.Duration) float64 { return float64(d) }
	}
	out := &SweepModel{
		Safe:         s.Safe(),
		Steps:        s.Steps,
		Moments:      s.Moments,
		Timed:        s.Timed,
		Total:        times(s.Total),
		Shares:       []ShareModel{},
		Windows:      []WindowModel{},
		Unrepeatable: s.Unrepeatable,
		Lost:         s.Lost,
		Granted:      r.granted(),
		WhyFailing:   s.WhyFailing,
		End:          outcomeModel(&s.End),
		Ladder:       ladderModel(s.Ladder),
	}
	if s.Unrepeatable > 0 {
		out.FirstFailing = s.FirstFailing.String()
	}
	for _, o := range outcomes {
		if s.Counts[o] > 0 {
			out.Shares = append(out.Shares, ShareModel{o.String(), times(s.Durations[o]), s.Counts[o], s.Chances[o].String()})
		}
	}
	for i := range s.Windows {
		w := &s.Windows[i]
		out.Windows = append(
			out.Windows,
			WindowModel{
				outcomeModel(&w.Verdict),
				times(w.From),
				times(w.To),
				w.First.String(),
				w.Last.String(),
				w.Moments,
				w.Acts[0],
				w.Acts[1],
				w.Remedy,
			},
		)
	}
	return out
}

// kinds are the outcomes as a picture has them: colours that the colour-blind can
// tell apart, and letters.
var kinds = []picture.TimeKind{
	{Letter: "o", Text: rehearsal.StartsOld.Text(), Colour: 0x0072B2},
	{Letter: "n", Text: rehearsal.StartsNew.Text(), Colour: 0x009E73},
	{
		Letter: "b",
		Text:   rehearsal.Waits.Text(),
		Colour: 0xF0E442,
	},
	{Letter: "?", Text: rehearsal.Neither.Text(), Colour: 0xD55E00, Hatch: true},
	{Letter: "X", Text: rehearsal.Nothing.Text(), Colour: 0x1A1A1A},
}

// Picture draws the time line of a sweep, and that of the better plan below it.
func (r *Rehearsed) Picture() *picture.TimeLine {
	t := &picture.TimeLine{Kinds: kinds,
		Title: fmt.Sprintf("%s: %s over %s, with the power cut at every step", r.Map.Name, r.Image, r.From)}
	plain := render.Plain(nil)
	add := func(title string, s *rehearsal.Sweep) {
		b := picture.TimeBar{
			Title:   title,
			Total:   float64(s.Total),
			Bad:     !s.Safe(),
			Verdict: string(r.safety(plain, s)),
			End:     r.duration(s, s.Total),
		}
		for _, w := range s.Windows {
			b.Stretches = append(b.Stretches,
				picture.TimeStretch{From: float64(w.From), To: float64(w.To), Kind: slices.Index(outcomes, w.Outcome)})
		}
		list := badTimesOf(s)
		for i := range list[:min(len(list), mostBadTimes)] {
			w, often, first := &list[i], "", ""
			if w.times > 1 {
				often, first = memory.FormatCount(uint64(w.times))+" times from ", "the first: "
			}
			note := fmt.Sprintf("%s%s to %s: %s%s", often, r.duration(s, w.From), r.duration(s, w.To), first, w.Why())
			if w.Remedy != "" {
				note += "; to close it: " + w.Remedy
			}
			b.Marks, b.Notes = append(b.Marks, float64(w.middle)), append(b.Notes, note)
		}
		t.Lines = append(t.Lines, b)
	}
	add("Plan "+PlanName(r.Sweep.Plan), r.Sweep)
	if r.Better != nil {
		add("A better plan: "+strings.Join(r.Better.Changes, "; "), r.Better.Sweep)
	}
	return t
}
