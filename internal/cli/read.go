package cli

import (
	"fmt"

	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/target"
)

var readCommand = &command{
	name: "read", usage: "HOST:PORT [flags]",
	short: "read a running device through a debug server",
	long: `
Reads the memory of a device through a debug server, an emulator or a probe's server, by
the remote serial protocol of debuggers, and writes it as an image. Mexalt only reads: it
writes no memory and no register, and starts nothing that it did not stop. Connecting
stops the device; mexalt says how it left it.

By default, it reads the memories of the map that can be programmed, or without a map,
the flash in the server's memory map; with ` + "`in`" + `, anything. Do not read registers:
reading some of them changes them. With a map that says where the device has its
identity (identity-read-at), a different device is refused. What the server refuses to
read stays a hole, is listed, and ends with status 1.

-against IMAGE compares while reading, and reports as compare does. Without ` + "`in`" + `, what the
image has is read, and nothing else. Status 1 is a difference, or bytes that could not be
compared.`,
	setup: func(f *flags) func(*session, []string) error {
		c := &readRun{}
		f.add(key.List(&c.in, "in", "SPAN", "read SPAN only; repeatable"),
			key.Text(&c.against, "against", "IMAGE", "compare with IMAGE while reading"),
			key.Switch(&c.first, "first", "with -against: stop at the first difference"),
			key.Switch(&c.twice, "twice", "read everything twice, and stop if it is not the same"))
		f.reports().imageOnOutput = func() bool { return c.against == "" && (c.w.to == "" || c.w.to == "-") }
		c.r.definePlain(f)
		c.w.define(f)
		return c.run
	},
}

// readRun is one run of read.
type readRun struct {
	r            reading
	w            writing
	in           []string
	against      string
	first, twice bool
}

// contradictions tells of flags that do not go together.
func (c *readRun) contradictions(args []string) error {
	switch {
	case len(args) != 1:
		return usagef("usage: mexalt read HOST:PORT [flags]; name the debug server, as in localhost:3333")
	case c.first && c.against == "":
		return usagef("-first belongs to -against")
	case c.first && c.twice:
		return usagef("-first ends reading, and -twice reads everything; give one of them")
	case c.first && c.w.to != "":
		return usagef("-first ends reading, so that -o would get some of the image only")
	}
	return c.w.check()
}

func (c *readRun) run(s *session, args []string) error {
	if err := c.contradictions(args); err != nil {
		return err
	}
	if err := s.writable(c.w.to); err != nil {
		return err
	}
	operands := []string{}
	if c.against != "" {
		operands = append(operands, c.against)
	}
	dev, err := s.loadDevice(&c.r, operands)
	if err != nil {
		return err
	}
	out := &report.PartRead{Address: args[0], Map: dev}
	known := s.names(dev)
	var expected *input
	if c.against != "" {
		c.r.placed = true
		inputs, err := s.readAll(&c.r, operands, known, nil)
		if err != nil {
			return err
		}
		expected = inputs[0]
		known = withImage(known, expected.Image)
	}
	asked, err := s.spans("in", c.in, known)
	if err != nil {
		return err
	}
	if err := c.read(s, out, asked, expected); err != nil {
		return err
	}
	image := memory.Part{Name: c.w.to, Image: out.Reading.Image}
	if expected == nil || c.w.to != "" {
		if image.Image.Empty() {
			return &source.Problem{File: out.Address, What: "no byte could be read", Expected: "memory that the server lets be read"}
		}
		if out.Outputs, err = s.write(&c.w, &c.r, []memory.Part{image}, &codec.File{}); err != nil {
			return err
		}
	}
	if expected == nil && (c.w.to == "" || c.w.to == "-") && !s.reporting.json {
		s.reporting.written = true
		if !s.quiet {
			s.stopProgress()
			out.Text(s.messages)
		}
	} else if err := s.show(out); err != nil {
		return err
	}
	if expected != nil && !out.Same() || len(out.Reading.Unreadable)+len(out.Outside) > 0 {
		return errFindings
	}
	return nil
}

// read reads the device, and compares it.
func (c *readRun) read(s *session, out *report.PartRead, asked []memory.Span, expected *input) (err error) {
	t, err := target.Open(s.ctx, out.Address, target.Waits{})
	if err != nil {
		return err
	}
	defer func() {
		out.Left, out.Reconnected = t.Close(), t.Reconnected
		if err != nil {
			s.note(out.Left)
		}
	}()
	if out.Architecture, err = t.Architecture(); err != nil {
		return err
	}
	if out.Identity, err = s.identify(t, out.Map); err != nil {
		return err
	}
	if expected != nil && len(asked) == 0 {
		for _, r := range expected.Image.Runs() {
			asked = append(asked, r.Span())
		}
		if out.Map != nil {
			asked = memory.Intersect(asked, memory.Union(out.Map.Programmable()))
		}
	}
	spans, outside, err := t.Spans(asked, out.Map)
	if err != nil {
		return err
	}
	out.Outside = outside
	o := target.ReadOptions{Progress: s.files.Progress, Again: c.twice}
	if c.first {
		o.Each = target.UntilDifferent(expected.Image)
	}
	if out.Reading, err = t.Read(spans, o); err != nil || expected == nil {
		return err
	}
	out.Compare(memory.Part{Name: expected.Name, Image: expected.Image}, asked, s.wording)
	return nil
}

// identify asks the device what it is; another one than the map says is refused.
func (s *session) identify(t *target.Target, m *device.Map) (target.Identity, error) {
	id, err := t.Identify(m)
	if err != nil || m == nil || id.Is || id.Answer == nil && !id.Refused {
		return id, err
	}
	if id.Refused {
		return id, &source.Problem{
			File:     t.Address,
			What:     "most likely a different device: " + id.Why,
			Expected: fmt.Sprintf("%s, %s", device.IdentitiesText(m), m.Name),
			Advice:   source.Advise("connect the right device, or name its map; a map without identity-read-at asks nothing"),
		}
	}
	s.identified(id.Answer, nil)
	return id, &source.Problem{
		File:     t.Address,
		What:     fmt.Sprintf("a different device: it identifies itself as % X", id.Answer),
		Expected: fmt.Sprintf("%s, %s", device.IdentitiesText(m), m.Name),
		Advice:   source.Advise("connect the right device, or name its map"),
	}
}
