package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/pages"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/output"
	"mexalt/rehearsal"
	"mexalt/rehearsal/chip"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/target"
)

var rehearseCommand = &command{
	name: "rehearse", usage: "-device MAP [flags] IMAGE",
	short: "program a simulated device; cut the power at every step",
	long: `
Programs a simulated device with an image, according to a plan: what a programmer
does at the bench, or a bootloader in the field. The report shows each act and how
long it takes, what fails and why, and what the device starts afterwards. No
hardware is touched. The plan factory programs a blank device; update programs one
that contains an earlier image, given with -from OLD. NAME.plan.toml is a plan of
your own (mexalt help rehearsal).

Errors and warnings of check, and hazards, stop the rehearsal before it starts
unless you accept them by name. -fault injects a fault:

`,
	more: listFaults,
	setup: func(f *flags) func(*session, []string) error {
		r := &rehearseRun{seed: 1}
		f.add(
			key.Text(&r.plan, "plan", "PLAN", "run PLAN: factory, update, or a file (update with -from, otherwise factory)"),
			key.Text(&r.old, "from", "OLD", "start with a device that contains the image OLD"),
			key.Text(&r.chip, "chip", "FILE", "keep the chip in FILE between runs; a new one if FILE does not exist"),
			key.List(&r.faults, "fault", "FAULT", "inject FAULT; repeatable"),
			key.Number(&r.seed, 0, 1<<63, "seed", "N", "seed for undefined bits and noise (1)"),
			key.Number(&r.baud, 1, 1<<40, "baud", "N", "assume a link of N bit/s (default: the map's)"),
			key.Switch(&r.slow, "slow", "run in real time, as slowly as the device"),
			key.List(&r.accept, "accept", "RULE", "accept findings of RULE, or RULE:NAME; repeatable"),
			key.Text(&r.readBack, "read-back", "FILE", "write what a programmer would then read back to FILE"),
			key.Switch(&r.sweep, "sweep",
				"cut the power before, during and after each step, and report what the device does after each cut"),
			key.Text(&r.chance, "chance", "P", "sweep: allow a guard to be valid by chance with probability P (1e-6)"),
			key.Word(&r.expect, slices.Sorted(maps.Keys(rungs)), "expect", "WORD",
				"sweep: end with status 1 unless the plan is safe; one-cut requires less, weak more"),
			key.Text(&r.card, "card", "FILE",
				"write a card for the bench to FILE, .html or .txt: what to connect, what to expect, and what each failure means"),
			key.Text(&r.serve, "serve", "HOST:PORT", "let debuggers program the chip, through HOST:PORT; :PORT is this machine's own"),
			key.Number(&r.clients, 1, 1<<20, "clients", "N", "serve: end when N debuggers have left (default: end with Ctrl-C)"),
			key.Text(&r.better, "better", "FILE", "sweep: write a better plan to FILE, NAME.plan.toml"),
		)
		r.reporting = f.reports()
		f.add(key.Text(&r.reporting.to, "o", "FILE",
			"write the report to FILE; for a sweep, a name ending in .svg or .png writes the time line as a picture"))
		r.read.definePlain(f)
		return r.run
	},
}

// rungs are what may be expected of a plan.
var rungs = map[string]rehearsal.Rung{"one-cut": rehearsal.OneCut, "safe": rehearsal.AnyCuts, "weak": rehearsal.Weak}

// listFaults lists the faults for help.
func listFaults() string {
	var b strings.Builder
	for _, f := range chip.FaultForms() {
		fmt.Fprintf(&b, "  %-20s %s\n", f[0], f[1])
	}
	return b.String()
}

// rehearseRun holds the flags of rehearse.
type rehearseRun struct {
	read                      reading
	reporting                 *reporting
	plan, old, chip, readBack string
	expect, better, chance    string
	card                      string
	faults, accept            []string
	taken                     []string // of what is accepted, what an erase may take
	serve                     string
	seed, baud, clients       uint64
	slow, sweep               bool
	device                    *device.Map
	result                    *report.Rehearsed
}

// contradictions tells of flags that do not go together.
func (r *rehearseRun) contradictions(s *session, args []string) error {
	kind := strings.ToLower(filepath.Ext(r.reporting.to))
	picture := kind == ".svg" || kind == ".png"
	switch {
	case !r.read.named():
		return s.nameDevice(args)
	case picture && (!r.sweep || r.reporting.json):
		return usagef("-o %s: a picture is drawn of a -sweep, without -json", r.reporting.to)
	case r.sweep && len(r.faults) > 0:
		return usagef("-fault cannot be combined with -sweep, which cuts the power itself")
	case r.sweep && (r.slow || r.readBack != ""):
		return usagef("-sweep simulates many devices; -slow and -read-back need a single run")
	case !r.sweep && (r.expect != "" || r.better != "" || r.chance != ""):
		return usagef("-expect, -better and -chance belong to -sweep")
	case r.card != "" && (r.sweep || len(r.faults) > 0):
		return usagef("-card is of a run in which all goes well; without -sweep and -fault")
	case r.card != "" && r.cardKind() == "":
		return source.Keyf("card", "%s ends neither in .html nor in .txt", r.card)
	case r.better != "" && !strings.HasSuffix(r.better, rehearsal.Extension):
		return source.Keyf("better", "%s does not end in %s", r.better, rehearsal.Extension)
	}
	if err := r.serveContradictions(); err != nil {
		return err
	}
	return s.writable(r.reporting.to, r.chip, r.readBack, r.better, r.card)
}

func (r *rehearseRun) run(s *session, args []string) error {
	if err := r.contradictions(s, args); err != nil {
		return err
	}
	r.accept = slices.DeleteFunc(r.accept, func(a string) bool {
		if rule, _, _ := strings.Cut(a, ":"); rule != erasedData {
			return false
		}
		r.taken = append(r.taken, a)
		return true
	})
	if err := check.CheckAccept(r.accept); err != nil {
		return err
	}
	operand, err := s.oneOperand(args)
	if err != nil {
		return err
	}
	operands := []string{operand}
	if r.old != "" {
		operands = append(operands, r.old)
	}
	if r.device, err = s.loadDevice(&r.read, operands); err != nil {
		return err
	}
	r.read.placed = true
	inputs, err := s.readAll(&r.read, operands, s.names(r.device), nil)
	if err != nil {
		return err
	}
	if r.plan == "" {
		r.plan = rehearsal.Shipped()[0]
		if r.old != "" {
			r.plan = "update"
		}
	}
	plan, err := rehearsal.Open(s.files, r.plan)
	if err != nil {
		if errors.As(err, new(*source.Problems)) || errors.As(err, new(*source.SystemError)) {
			return err
		}
		return &source.KeyError{Key: "plan", Err: err}
	}
	r.result = &report.Rehearsed{Map: r.device, Image: inputs[0].Name, From: r.old, Faults: r.faults}
	part, err := r.open(inputs)
	if err != nil {
		return err
	}
	if r.serve != "" {
		return r.runServe(s, part, inputs[0])
	}
	if refused := r.check(part, inputs[0]); refused != nil {
		r.result.Refused = refused
		if err := s.show(r.result); err != nil {
			return err
		}
		return errFindings
	}
	if err := r.refuseLostData(s, part, plan, inputs[0].Image); err != nil {
		return err
	}
	if r.sweep {
		return r.runSweep(s, part, plan, inputs[0].Image)
	}
	return r.runOnce(s, part, plan, inputs[0].Image)
}

// open returns the chip that is programmed: that of a file, or a new one, with what
// an earlier image left.
func (r *rehearseRun) open(inputs []*input) (*chip.Chip, error) {
	var part *chip.Chip
	if r.chip != "" && source.Exists(r.chip) {
		if r.old != "" {
			return nil, usagef("-from and -chip %s both give the contents of the device; give one of them", r.chip)
		}
		// It is written again, so it is none of the files that must not be.
		text, err := (&source.Files{}).ReadAll(r.chip, "chip", chip.MostBytes)
		if err != nil {
			return nil, err
		}
		if part, err = chip.Load(r.chip, text, r.device, r.seed); err != nil {
			return nil, err
		}
		r.result.From = r.chip
	} else {
		part = chip.New(r.device, r.seed)
	}
	if r.old != "" {
		part.Program(inputs[1].Image)
	}
	var faults chip.Faults
	for _, text := range r.faults {
		if err := faults.Add(text, r.device); err != nil {
			return nil, &source.KeyError{Key: "fault", Err: err}
		}
	}
	part.SetFaults(faults)
	return part, nil
}

// check holds what the part will hold against its map; nil is nothing found.
func (r *rehearseRun) check(part *chip.Chip, in *input) *report.Checked {
	result := check.Run(r.device,
		[]check.Part{{Name: in.Name, Image: part.With(in.Image), Begins: proof.BeginsBeside(in.Name, in.Image)}},
		check.Options{Accept: r.accept, Words: part.Words(), Inputs: []check.Part{checkPart(in)}})
	if len(result.Counting()) == 0 {
		return nil
	}
	return &report.Checked{Best: result, All: []*check.Result{result}, Wording: func(string) source.Wording {
		return commandLine{file: in.operand, device: r.read.device, board: r.read.board}
	}}
}

// erasedData is what is accepted of an erase that takes data with it.
const erasedData = target.ErasedData

// refuseLostData tells what an erase of the whole chip would take that the image does not give
// again: an error until it is accepted.
func (r *rehearseRun) refuseLostData(s *session, part *chip.Chip, plan *rehearsal.Plan, image *memory.Image) error {
	taken, err := rehearsal.TakenBy(part, plan, image)
	if err != nil {
		return err
	}
	var problems source.Problems
	for _, t := range taken {
		p := &source.Problem{
			What: fmt.Sprintf("erasing the whole chip also erases %s, %s, and the image has no bytes for it", t.Region,
				memory.FormatBytes(t.Bytes)),
			Expected: "a plan that leaves it",
			Advice: source.Advice{
				Text:  "erase what the image touches alone",
				AnyOf: []source.Setting{{Key: "accept", Value: erasedData + ":" + t.Region, Does: "lets it go"}},
			},
		}
		if slices.Contains(r.taken, erasedData) || slices.Contains(r.taken, erasedData+":"+t.Region) {
			p.Severity = source.Warning
			p.Advice = source.Advise("accepted")
		}
		problems.Add(p)
	}
	if len(r.taken) > 0 && len(taken) == 0 {
		return usagef("-accept: nothing was found for %s; leave it out", strings.Join(r.taken, ", "))
	}
	if problems.Count() > 0 {
		s.messages.Problems(&problems, s.wording, false)
	}
	if problems.Errors() > 0 {
		return errFindings
	}
	return nil
}

// runOnce carries the plan out.
func (r *rehearseRun) runOnce(s *session, part *chip.Chip, plan *rehearsal.Plan, image *memory.Image) error {
	options := rehearsal.Options{Baud: r.baud, Huge: r.read.huge}
	if r.slow {
		shown := -1
		options.Each = func(act, steps int, takes time.Duration) {
			if act != shown {
				shown = act
				s.files.Progress.Begin(string(plan.Acts[act].Do), "acts", int64(steps))
			}
			time.Sleep(takes)
			s.files.Progress.Add(1)
		}
	}
	var symptoms []rehearsal.Symptom
	if r.card != "" {
		var err error
		if symptoms, err = rehearsal.SymptomsOf(s.ctx, part, plan, image, rehearsal.Options{Baud: r.baud, Huge: r.read.huge}); err != nil {
			return err
		}
	}
	run, err := rehearsal.Rehearse(s.ctx, part, plan, image, options)
	if err != nil {
		return err
	}
	r.result.Run = run
	if r.card != "" {
		if err := r.writeCard(s, &pages.Card{Rehearsed: r.result, Contents: image, Symptoms: symptoms}); err != nil {
			return err
		}
	}
	if err := r.keep(s, part); err != nil {
		return err
	}
	if err := s.show(r.result); err != nil {
		return err
	}
	if f := run.Failed; f != nil && f.Answer != nil {
		s.identified(f.Answer, []string{r.read.device})
	}
	if run.NoReturn > 0 && r.device.Board != nil && run.LastPort != "" && !slices.Contains(r.accept, lastPort+":"+run.LastPort) {
		s.messages.Problem(&source.Problem{
			Severity: source.Error,
			What:     fmt.Sprintf("act %d, %s, closes the last way into the device", run.NoReturn, plan.Acts[run.NoReturn-1].Do),
			Expected: "a plan that leaves a way in",
			Advice:   source.Advice{AnyOf: []source.Setting{{Key: "accept", Value: lastPort + ":" + run.LastPort, Does: "if it is meant"}}},
		}, s.wording)
		return errFindings
	}
	if run.Failed != nil || !run.NoStart && (run.After.Outcome.Bad() || run.After.Outcome != run.Expected) || r.result.Unread != nil {
		return errFindings
	}
	return nil
}

// lastPort is the rule of what closes the last way into a device.
const lastPort = "last-port"

// cardKind is the ending of the card's file; "" is another one.
func (r *rehearseRun) cardKind() string {
	if kind := strings.ToLower(filepath.Ext(r.card)); kind == ".html" || kind == ".txt" {
		return kind
	}
	return ""
}

// writeCard writes the card for the bench.
func (r *rehearseRun) writeCard(s *session, card *pages.Card) error {
	write := card.Write
	if r.cardKind() == ".txt" {
		write = func(to io.Writer) error {
			var text bytes.Buffer
			card.Text(render.Plain(&text))
			_, err := text.WriteTo(to)
			return err
		}
	}
	if _, err := output.Write(s.files, []output.File{{Name: r.card, Write: write}}); err != nil {
		return err
	}
	s.reportDone("wrote %s: a card for the bench, with %s", r.card, memory.FormatNumber(len(card.Symptoms), "symptom"))
	return nil
}

// keep writes the chip, and what is read back from it.
func (r *rehearseRun) keep(s *session, part *chip.Chip) error {
	var files []output.File
	if r.readBack != "" {
		image, unread := part.ReadBack()
		r.result.Unread = unread
		if unread == nil {
			w := &writing{to: r.readBack}
			list, err := s.prepare(w, &r.read, []memory.Part{{Name: r.readBack, Image: image}}, &codec.File{})
			if err != nil {
				return err
			}
			files = append(files, output.File{Name: r.readBack, Write: func(to io.Writer) error { return list[0].writer.Write(to, image) }})
			r.result.ReadBack = r.readBack
		}
	}
	if r.chip != "" {
		files = append(files, output.File{Name: r.chip, Write: part.Save})
		r.result.Kept = r.chip
	}
	if len(files) == 0 {
		return nil
	}
	written, err := output.Write(s.files, files)
	if err != nil {
		return err
	}
	for i, f := range files {
		what := "the chip as it is now"
		if f.Name == r.readBack {
			what = "what a programmer reads"
		}
		if written[i].Replaced {
			what += ", replaced"
		}
		s.reportDone("wrote %s: %s", f.Name, what)
	}
	return nil
}

// runSweep cuts the power at every moment.
func (r *rehearseRun) runSweep(s *session, part *chip.Chip, plan *rehearsal.Plan, image *memory.Image) error {
	options := rehearsal.SweepOptions{Baud: r.baud, Huge: r.read.huge, Progress: s.files.Progress}
	if r.chance != "" {
		p, err := strconv.ParseFloat(r.chance, 64)
		if err != nil || !(p > 0 && p <= 1) {
			return source.Keyf("chance", "%q; expected a probability above 0, up to 1, such as 1e-6", r.chance)
		}
		options.Chance = p
	}
	swept, err := rehearsal.SweepOf(s.ctx, part, plan, image, options)
	if unfit := (*rehearsal.UnfitError)(nil); errors.As(err, &unfit) {
		return &failure{statusFindings, unfit.Problem()}
	}
	if err != nil {
		return err
	}
	r.result.Sweep = swept
	if r.result.Better, err = rehearsal.BetterThan(s.ctx, part, swept, image, options); err != nil {
		return err
	}
	if r.better != "" {
		if err := r.saveBetter(s); err != nil {
			return err
		}
	}
	if kind := strings.ToLower(filepath.Ext(r.reporting.to)); kind == ".svg" || kind == ".png" {
		if err := r.draw(s, kind); err != nil {
			return err
		}
	} else if err := s.show(r.result); err != nil {
		return err
	}
	if r.expect != "" && !swept.Shown(rungs[r.expect]) {
		return errFindings
	}
	return nil
}

// saveBetter writes the plan that was found.
func (r *rehearseRun) saveBetter(s *session) error {
	b := r.result.Better
	if b == nil {
		why := "no order of acts that was tried bears more power cuts"
		if r.result.Sweep.Safe() {
			why = "the plan is safe already"
		}
		s.note(fmt.Sprintf("%s is not written: %s", r.better, why))
		return nil
	}
	comment := fmt.Sprintf("In the place of %s: %s.", planTitle(r.result.Sweep.Plan), strings.Join(b.Changes, "; "))
	if _, err := output.Write(s.files, []output.File{{Name: r.better, Write: func(to io.Writer) error {
		_, err := io.WriteString(to, b.Plan.Text(comment))
		return err
	}}}); err != nil {
		return err
	}
	r.result.Saved = r.better
	s.reportDone("wrote %s: %s", r.better, strings.Join(b.Changes, "; "))
	return nil
}

func planTitle(p *rehearsal.Plan) string {
	if p.File != "" {
		return p.File
	}
	return "the plan " + p.Name
}

// draw draws the sweep's time line.
func (r *rehearseRun) draw(s *session, kind string) error {
	s.stopProgress()
	picture := r.result.Picture()
	draw := picture.SVG
	if kind == ".png" {
		draw = picture.PNG
	}
	if _, err := output.Write(s.files, []output.File{{Name: r.reporting.to, Write: draw}}); err != nil {
		return err
	}
	safe := "safe"
	if !r.result.Sweep.Safe() {
		safe = "not safe"
	}
	s.reportDone("wrote %s: %s, %s", r.reporting.to, safe, memory.FormatNumber(len(r.result.Sweep.Windows), "window"))
	return nil
}
