package cli

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
)

// operationCommand makes the command of an operation: its flags are the
// operation's keys, and how images are read and written.
func operationCommand(k *operation.Kind) *command {
	return &command{
		name: k.Name, usage: "[flags] " + k.Usage, short: k.Short, long: k.Long,
		setup: func(f *flags) func(*session, []string) error {
			o := &operationRun{kind: k, op: k.New()}
			f.add(o.op.Keys()...)
			f.reports().imageOnOutput = func() bool { return o.w.to == "" || o.w.to == "-" }
			o.r.define(f)
			o.w.define(f)
			return o.run
		},
	}
}

// operationRun is one run of an operation.
type operationRun struct {
	kind *operation.Kind
	op   operation.Operation
	r    reading
	w    writing
	// damaged is whether the input is, so that only what is sound of it was taken.
	damaged bool
}

func (o *operationRun) run(s *session, args []string) error {
	if err := o.op.Check(o.r.named()); err != nil {
		return err
	}
	if err := o.w.check(); err != nil {
		return err
	}
	if o.kind.Name == "split" && o.w.to == "" {
		return usagef("name the files: -o TEMPLATE, such as -o part-{name}.hex")
	}
	outcome, inputs, err := o.apply(s, args)
	if err != nil {
		return err
	}
	parts := outcome.Parts
	if o.kind.Name == "split" {
		byBlock := o.w.choiceFor(o.w.to, inputs[0].File).Format.Unplaced // its files begin where their blocks do
		if parts, err = operation.NameParts(parts, o.w.to, byBlock); err != nil {
			return usagef("-o %w", err)
		}
	} else {
		parts[0].Name = o.w.to
	}
	outputs, err := s.write(&o.w, &o.r, parts, inputs[0].File)
	if err != nil {
		return err
	}
	uses := o.uses(outcome, inputs, parts)
	if s.reporting.json {
		changed := &report.Changed{
			Command:  s.command.name,
			Dry:      o.w.dry,
			Outcome:  outcome,
			Notes:    s.notes,
			Warnings: s.warnings,
			Outputs:  outputs,
			Uses:     uses,
			Wording:  s.wording,
		}
		for _, in := range inputs {
			changed.Inputs = append(changed.Inputs, report.Input{Name: in.Name, Format: in.Format, Image: in.Image})
		}
		if err := s.show(changed); err != nil {
			return err
		}
		return o.lost()
	}
	if !s.quiet {
		s.messages.Together(func() { report.UsesText(s.messages, uses) })
	}
	return o.lost()
}

// lost ends a run that saved what is left of a damaged file.
func (o *operationRun) lost() error {
	if o.damaged {
		return errFindings
	}
	return nil
}

// salvaged tells of a damaged file, of which the sound lines are taken, what is
// missing.
func (o *operationRun) salvaged(s *session, in *input) {
	if in.problems.Errors() == 0 {
		return
	}
	o.damaged = true
	for _, p := range in.problems.Sorted() {
		if p.Severity != source.Error || p.Line == 0 {
			s.messages.Problem(p, s.wording)
		}
	}
	for line, what := range report.DamagedLines(in.problems) {
		s.messages.Problem(
			&source.Problem{
				File:     in.Name,
				Line:     line,
				Severity: source.Warning,
				What:     "left out because it is damaged: " + what,
			},
			s.wording,
		)
	}
	if all, ok := in.Image.Span(); ok {
		for _, hole := range in.Image.Holes(all) {
			s.note("hole " + hole.String() + "; do not fill it without knowing what was there")
		}
	}
}

// apply reads the inputs and applies the operation.
func (o *operationRun) apply(s *session, args []string) (*operation.Outcome, []*input, error) {
	args, err := s.operands(args)
	if err == nil && !o.kind.Several {
		_, err = s.oneOperand(args)
	}
	if err != nil {
		return nil, nil, err
	}
	dev, err := s.loadDevice(&o.r, args)
	if err != nil {
		return nil, nil, err
	}
	if len(args) == 1 {
		s.wording.file = args[0]
	}
	if merge, ok := o.op.(*operation.Merge); ok {
		o.r.placed = !merge.Lanes
	}
	if o.kind.Name == "convert" && o.r.options.Lenient {
		o.r.salvage = true
	}
	inputs, err := s.readAll(&o.r, args, s.names(dev), o.w.choiceFor(o.w.to, nil).Format)
	if err != nil {
		return nil, nil, err
	}
	if o.r.salvage {
		o.salvaged(s, inputs[0])
	}
	s.warnUnplaced(dev, inputs)
	parts := make([]memory.Part, len(inputs))
	for i, in := range inputs {
		parts[i] = memory.Part{Name: in.Name, Image: in.Image}
	}
	outcome, err := o.op.Apply(s.environment(&o.r, dev), parts)
	if err != nil {
		return nil, nil, err
	}
	if err := operation.NothingLeft(parts, outcome, o.w.fills()); err != nil {
		return nil, nil, err
	}
	if dev != nil {
		for _, a := range args {
			if _, place, placed := strings.Cut(a, "@"); placed {
				outcome.Assumed = append(outcome.Assumed, operation.AssumedIn(dev, outcome.Image(), place)...)
			}
		}
	}
	s.showOutcome(outcome)
	return outcome, inputs, nil
}

// showOutcome tells what an operation did.
func (s *session) showOutcome(o *operation.Outcome) {
	for _, n := range o.Notes {
		s.note(n)
	}
	for i, n := range o.Assumed {
		if !slices.Contains(o.Assumed[:i], n) {
			s.note(n)
		}
	}
	for _, d := range o.Changes {
		s.reportDone("%s", d)
	}
}

// uses tells which part uses how much of which region.
func (o *operationRun) uses(outcome *operation.Outcome, inputs []*input, parts []memory.Part) []report.PartUse {
	merge, merged := o.op.(*operation.Merge)
	split, isSplit := o.op.(*operation.Split)
	if outcome.Map == nil {
		return nil
	}
	switch {
	case merged && !merge.Lanes:
		var list []memory.Part
		for _, in := range inputs {
			list = append(list, memory.Part{Name: in.Name, Image: in.Image})
		}
		return report.UsesOf(outcome.Map, list)
	case isSplit && split.By != "lanes" && !split.FromZero:
		return report.UsesOf(outcome.Map, parts)
	}
	return nil
}

// warnUnplaced warns of raw bytes that were given no place, where the map has no
// memory at address 0 for them.
func (s *session) warnUnplaced(dev *device.Map, inputs []*input) {
	for _, in := range inputs {
		all, ok := in.Image.Span()
		if dev == nil || !in.Format.Unplaced || !ok || in.operand != in.Name && in.Name != source.StandardInput {
			continue
		}
		if mem := dev.MemoryAt(all.First); mem == nil {
			s.messages.Problem(&source.Problem{File: in.Name, Severity: source.Warning,
				What: fmt.Sprintf("raw bytes without a place were put at %s, where %s has no memory", memory.FormatAddress(all.First),
					dev.Name),
				Expected: in.Name + "@ADDRESS"}, s.wording)
		}
	}
}
