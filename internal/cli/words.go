package cli

import (
	"errors"

	"mexalt/codec"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
)

var configCommand = &command{
	name: "config", usage: "-device MAP [flags] [FILE]",
	short: "explain the configuration words in an image, or set fields of them",
	long: `
Explains the configuration words (fuses, option bytes) that an image or a read-back
contains: each field with its meaning, what is not as delivered, the regions whose
sizes follow from them, and the hazards. Words that the image does not contain keep
what the device has. With -against, the fields that differ from those of another file.
The status is 1 if check would reject the words.

-set changes fields and writes the image to the file that -o names. The words start from
their values in FILE, otherwise from those delivered. Without FILE the output contains
the changed words only.`,
	setup: func(f *flags) func(*session, []string) error {
		c := &configRun{}
		f.add(key.List(&c.set, "set", "FIELD=MEANING", "set FIELD to MEANING; repeatable"),
			key.Text(&c.against, "against", "FILE", "list the fields that differ from those in FILE"))
		f.reports().imageOnOutput = func() bool { return len(c.set) > 0 && (c.w.to == "" || c.w.to == "-") }
		c.r.define(f)
		c.w.define(f)
		return c.run
	},
}

// configRun holds the flags of config.
type configRun struct {
	r       reading
	w       writing
	set     []string
	against string
}

func (c *configRun) run(s *session, args []string) error {
	switch {
	case c.r.device == "":
		return s.nameDevice(args)
	case len(c.set) > 0 && c.against != "":
		return usagef("-set and -against cannot be combined; set the fields first")
	case len(c.set) == 0 && c.w.to != "":
		return source.Keyf("o", "it names the image that -set writes; without -set there is none")
	case len(args) > 1:
		return usagef("usage: mexalt config -device MAP [flags] [FILE]; %s", named(args))
	case len(args) == 0 && len(c.set) == 0:
		return usagef("name a FILE, whose words are explained, or -set FIELD=MEANING")
	}
	dev, err := s.loadDevice(&c.r, args)
	if err != nil {
		return err
	}
	if len(dev.Config) == 0 {
		return source.Keyf("device", "%s has no configuration words", dev.Name)
	}
	names := args
	if c.against != "" {
		names = append(names, c.against)
	}
	inputs, err := s.readAll(&c.r, names, s.names(dev), c.w.choiceFor(c.w.to, nil).Format)
	if err != nil {
		return err
	}
	if len(c.set) > 0 {
		return c.write(s, &operation.Config{Words: c.set}, inputs)
	}
	x := report.WordsOf(inputs[0].Name, inputs[0].Image, dev)
	if c.against != "" {
		x.Against = report.WordsOf(inputs[1].Name, inputs[1].Image, dev)
	}
	if err := s.show(x); err != nil {
		return err
	}
	if len(x.Verdicts) > 0 {
		return errFindings
	}
	return nil
}

// write sets the fields in the image, or in an empty one.
func (c *configRun) write(s *session, op *operation.Config, inputs []*input) error {
	dev := s.dev
	part := memory.Part{Name: "words", Image: &memory.Image{}}
	from := &codec.File{Name: part.Name, Format: codec.ChoiceOfName(".hex").Format} // where its name says no other
	if len(inputs) > 0 {
		part, from = memory.Part{Name: inputs[0].Name, Image: inputs[0].Image}, inputs[0].File
		s.wording.file = inputs[0].operand
	}
	if err := c.w.check(); err != nil {
		return err
	}
	outcome, err := op.Apply(s.environment(&c.r, dev), []memory.Part{part})
	if key := (*source.KeyError)(nil); errors.As(err, &key) && key.Key == "words" {
		return &source.KeyError{Key: "set", Err: key.Err} // as the flag is called here
	}
	if err != nil {
		return err
	}
	s.showOutcome(outcome)
	outcome.Parts[0].Name = c.w.to
	outputs, err := s.write(&c.w, &c.r, outcome.Parts, from)
	if err != nil {
		return err
	}
	x := report.WordsOf(c.w.to, outcome.Parts[0].Image, dev)
	if s.reporting.json {
		return s.show(&report.Changed{Command: s.command.name, Dry: c.w.dry, Outcome: outcome, Notes: s.notes, Warnings: s.warnings, Outputs: outputs, Wording: s.wording})
	}
	for _, v := range x.Verdicts {
		s.messages.Problem(&source.Problem{File: c.w.to, Severity: source.Warning, What: v.What, Expected: v.Expected}, s.wording)
	}
	return nil
}
