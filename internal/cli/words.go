package cli

import (
	"cmp"
	"errors"
	"maps"
	"slices"

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
sizes follow from them, the clock, the hazards, and the ways in that remain for a
programmer once the image is programmed. Words that the image does not contain keep
what the device has. With -board, the words are judged for that board. The status is 1
if check would reject the words.

With -from OLD, the device has the words of OLD, an image or a read-back: the fields that
differ, the order in which the words can be written, and the word after which there is
no way back. Words that OLD does not contain are as delivered.

-set changes fields, -wish sets those of a [[wish]] of the map, and the image is written
to the file that -o names. MEANING may be a part that only one meaning has, or the value
as a number: 0x2 where 2 may be both. The words start from their values in FILE, otherwise from
those delivered. Without FILE the output contains the changed words only.`,
	setup: func(f *flags) func(*session, []string) error {
		c := &configRun{}
		f.add(key.List(&c.set, "set", "FIELD=MEANING", "set FIELD to MEANING; repeatable"),
			key.List(&c.wishes, "wish", "WISH", "set the fields of WISH, of the map; repeatable"),
			key.Text(&c.old, "from", "OLD", "the device has the words of OLD: what changes, and in which order to write it"))
		f.reports().imageOnOutput = func() bool { return c.changes() && (c.w.to == "" || c.w.to == "-") }
		c.r.definePlain(f)
		c.w.define(f)
		return c.run
	},
}

// configRun holds the flags of config.
type configRun struct {
	r           reading
	w           writing
	set, wishes []string
	old         string
}

// changes reports whether fields are set.
func (c *configRun) changes() bool { return len(c.set)+len(c.wishes) > 0 }

func (c *configRun) run(s *session, args []string) error {
	switch {
	case !c.r.named():
		return s.nameDevice(args)
	case c.changes() && c.old != "":
		return usagef("-from cannot be combined with -set and -wish; set the fields first")
	case !c.changes() && c.w.to != "":
		return source.Keyf("o", "it names the image that -set or -wish writes; without them there is none")
	case len(args) > 1:
		return usagef("usage: mexalt config -device MAP [flags] [FILE]; %s", named(args))
	case len(args) == 0 && !c.changes():
		return usagef("name a FILE, whose words are explained, or -set FIELD=MEANING")
	}
	dev, err := s.loadDevice(&c.r, args)
	if err != nil {
		return err
	}
	if len(dev.Config) == 0 {
		return source.Keyf("device", "%s has no configuration words", dev.Name)
	}
	names := slices.Clone(args)
	if c.old != "" {
		names = append(names, c.old)
	}
	inputs, err := s.readAll(&c.r, names, s.names(dev), c.w.choiceFor(c.w.to, nil).Format)
	if err != nil {
		return err
	}
	if c.changes() {
		words := slices.Clone(c.set)
		for _, name := range c.wishes {
			wish, err := dev.Wish(name)
			if err != nil {
				return &source.KeyError{Key: "wish", Err: err}
			}
			for _, field := range slices.Sorted(maps.Keys(wish.Set)) {
				words = append(words, field+"="+wish.Set[field])
			}
		}
		return c.write(s, &operation.Config{Words: words}, inputs)
	}
	var old *report.Words
	if c.old != "" {
		old = report.WordsOf(inputs[1].Name, inputs[1].Image, dev, nil)
	}
	x := report.WordsOf(inputs[0].Name, inputs[0].Image, dev, old)
	if err := s.show(x); err != nil {
		return err
	}
	if x.Bad() {
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
	x := report.WordsOf(cmp.Or(c.w.to, "-"), outcome.Parts[0].Image, dev, nil)
	if s.reporting.json {
		return s.show(&report.Changed{
			Command: s.command.name, Dry: c.w.dry, Outcome: outcome,
			Notes: s.notes, Warnings: s.warnings, Outputs: outputs, Wording: s.wording,
		})
	}
	for _, v := range x.Verdicts {
		s.messages.Problem(&source.Problem{File: c.w.to, Severity: source.Warning, What: v.What, Expected: v.Expected}, s.wording)
	}
	return nil
}
