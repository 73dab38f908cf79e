package cli

import (
	"strings"

	"mexalt/internal/render"
	"mexalt/span"
)

var helpCommand = &command{
	name: "help", usage: "[COMMAND or TOPIC]",
	short: "what there is, or one command or topic in full",
	setup: func(*flags) func(*session, []string) error {
		return func(s *session, args []string) error {
			switch {
			case len(args) > 1:
				return usagef("one command or topic at a time")
			case len(args) == 0:
				s.printOverview()
				return nil
			}
			if c := commandOf(args[0]); c != nil {
				s.printHelp(c)
				return nil
			}
			if t, ok := topics[args[0]]; ok {
				s.print.Printf("%s\n\n", render.Styled(strings.TrimSpace(t.text)))
				s.printKeys(t.keys())
				return nil
			}
			return unknownCommand(args[0])
		}
	},
}

// topic is something that help explains once for all commands.
type topic struct {
	text string
	keys func() []*span.Key
}

var topics = map[string]topic{
	"input": {`
How inputs are read. FILE is a file, or - for standard input; FILE@ADDRESS puts
its first byte at an address, FILE@+N and FILE@-N shift it; patterns with * are
expanded. The format is told by the contents; a name that promises another one
is an error. Empty standard input is an error too: the command before it failed.`,
		func() []*span.Key { return (&reading{}).keys() }},
	"output": {`
Where an image goes and how it is written. Without -o it goes to standard output.
The format is that of -to, else the name's, else the first input's; from raw
bytes, Intel HEX. A name that pins a type, such as x.s37, gets that type. An
output appears whole or not at all, and never over anything that was read.`,
		func() []*span.Key { return (&writing{}).keys() }},
}

func (s *session) printOverview() {
	s.print.Printf(`Mexalt turns the files of a firmware (Intel HEX, S-record, raw bytes) into the
image that ships, and checks it against the device's map before it is
programmed.

  mexalt COMMAND [flags] FILE...

Flags may stand before, between or after files.

`)
	for _, c := range commands {
		s.print.Printf("  %-9s %s\n", c.name, c.short)
	}
	s.print.Printf(`
FILE is a file, or - for standard input; FILE@ADDRESS puts its first byte at an
address, FILE@+N and FILE@-N shift it. Numbers are 0x1F, 31, 0b11111, 16K.
A SPAN is FIRST..LAST, both included, or FIRST,SIZE, or an address, or a name: a
memory or region of the device map, or image.

Exit status: 0 done and nothing found; 1 done, findings or differences; 2 used
wrongly; 3 an input is bad; 4 the system refused (read, write, space).

mexalt help COMMAND says more about each, mexalt help input and mexalt help
output about the flags that they share; mexalt demo shows the whole job.
`)
}

// printHelp prints all there is to say about a command, from the same values
// that run it.
func (s *session) printHelp(c *command) {
	s.print.Printf("mexalt %s: %s\n\n  mexalt %s\n", c.name, c.short, strings.TrimSpace(c.name+" "+keysAsFlags(c.usage)))
	if c.long != "" {
		s.print.Printf("\n%s\n", render.Styled(keysAsFlags(strings.TrimSpace(c.long))))
	}
	if c.more != nil {
		s.print.Printf("\n%s", render.Styled(c.more()))
	}
	f := &flags{command: c}
	c.setup(f)
	if len(f.own) > 0 {
		s.print.Printf("\nFlags:\n")
		s.printKeys(f.own)
	}
	for _, shared := range f.shared {
		var names []string
		for _, k := range shared.keys {
			names = append(names, "-"+k.Name)
		}
		s.print.Printf("\nAnd those of mexalt help %s: %s\n", shared.topic, strings.Join(names, ", "))
	}
}

// printKeys prints keys as flags.
func (s *session) printKeys(keys []*span.Key) {
	left := make([]string, len(keys))
	wide := 0
	for i, k := range keys {
		left[i] = "-" + k.Name
		switch {
		case k.Optional:
			left[i] += "[=" + k.Value + "]"
		case k.Value != "":
			left[i] += " " + k.Value
		}
		wide = max(wide, len(left[i]))
	}
	for i, k := range keys {
		s.print.Printf("  %-*s  %s\n", wide, left[i], k.Doc)
	}
}
