package cli

import (
	"strings"

	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/operation"
)

// checksumCommand is the command of the operation of that name, which prints as
// well as it stores.
var checksumCommand = &command{
	name: "checksum", usage: "[flags] FILE",
	short: operation.KindOf("checksum").Short,
	long:  operation.KindOf("checksum").Long,
	setup: func(f *flags) func(*session, []string) error {
		k := operation.KindOf("checksum")
		c := &checksumRun{op: k.New().(*operation.Checksum)}
		c.operationRun = operationRun{kind: k, op: c.op}
		f.add(c.op.Keys()...)
		f.add(key.Switch(&c.list, "list", "list the algorithms, or those with a text after -list in their names"),
			key.Switch(&c.value, "value", "print the value alone"))
		f.reports().imageOnOutput = func() bool { return c.op.Stores() && (c.w.to == "" || c.w.to == "-") }
		c.r.define(f)
		c.w.define(f, "holes")
		return c.run
	},
}

type checksumRun struct {
	operationRun
	op          *operation.Checksum
	list, value bool
}

func (c *checksumRun) run(s *session, args []string) error {
	if c.list {
		return c.kinds(s, args)
	}
	if err := c.op.Check(c.r.named()); err != nil {
		return err
	}
	if !c.op.Stores() && (c.w.to != "" || c.w.format.Format != nil || len(c.w.settings) > 0 || c.w.dry) {
		return usagef("no output to write: add -store ADDRESS, or drop the output flags")
	}
	if err := c.w.check(); err != nil {
		return err
	}
	if s.reporting.json && c.value {
		return usagef("-json and -value both say how to print; give one")
	}
	outcome, inputs, err := c.apply(s, args)
	if err != nil {
		return err
	}
	results := outcome.Checksums
	shown := &report.Checksums{Results: results, Wording: s.wording}
	if c.op.Stores() {
		if !s.reporting.json {
			c.stored(s, results)
		}
		outcome.Parts[0].Name = c.w.to
		outputs, err := s.write(&c.w, &c.r, outcome.Parts, inputs[0].File)
		if err != nil || !s.reporting.json {
			return err
		}
		shown.Outputs = outputs
		return s.show(shown)
	}
	if c.value {
		for i := range results {
			s.print.Printf("%s\n", results[i].Value)
		}
	} else if err := s.show(shown); err != nil {
		return err
	}
	for i := range results {
		if !results[i].AsExpected() {
			return errFindings
		}
	}
	return nil
}

// stored tells what was stored.
func (c *checksumRun) stored(s *session, results []operation.ChecksumResult) {
	if c.value {
		for i := range results {
			s.messages.Printf("%s\n", results[i].Value)
		}
		return
	}
	for i := range results {
		r := &results[i]
		if r.Stored == nil {
			s.reportDone("%s", r.Text())
			continue
		}
		s.reportDone("%s, stored at %s, %s-endian", r.Text(), r.Stored.Range(), r.Order)
	}
}

// kinds lists the algorithms.
func (c *checksumRun) kinds(s *session, args []string) error {
	if len(args) > 1 {
		return usagef("-list takes one text to look for")
	}
	list := report.KindsWith(strings.Join(args, ""))
	if len(list) == 0 {
		return usagef("-list: no algorithm has %q in its name", args[0])
	}
	return s.show(list)
}
