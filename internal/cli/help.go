package cli

import (
	"flag"
	"fmt"
	"runtime"
	"strings"

	"mexalt/source"
)

// version is the tool's version.
const version = "0.1.0"

var helpCommand = &command{
	name: "help", usage: "[COMMAND]",
	short: "what there is, or one command in full",
	setup: func(*flag.FlagSet) func(*session, []string) error {
		return func(s *session, args []string) error {
			if len(args) > 1 {
				return usagef("one command at a time")
			}
			if len(args) == 1 {
				c := commandOf(args[0])
				if c == nil {
					return usagef("there is no command %q; %s", args[0], source.DidYouMean(args[0], commandNames()))
				}
				s.printHelp(c)
				return nil
			}
			s.printOverview()
			return nil
		}
	},
}

var versionCommand = &command{
	name: "version", usage: "",
	short: "the version of this program",
	setup: func(*flag.FlagSet) func(*session, []string) error {
		return func(s *session, args []string) error {
			fmt.Fprintf(s.out, "mexalt %s (%s, %s/%s)\n", version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return nil
		}
	},
}

func (s *session) printOverview() {
	fmt.Fprint(s.out, `Mexalt turns the files of a firmware (Intel HEX, S-record, raw bytes) into the
image that ships, and checks it against the device's map before it is
programmed.

  mexalt COMMAND [flags] FILE...

Flags may stand before, between or after files.

`)
	for _, c := range commands {
		fmt.Fprintf(s.out, "  %-9s %s\n", c.name, c.short)
	}
	fmt.Fprint(s.out, `
FILE is a file, or - for standard input; FILE@ADDRESS puts its first byte at an
address, FILE@+N and FILE@-N shift it. Numbers are 0x1F, 31, 0b11111, 16K.
A SPAN is FIRST..LAST, both included, or FIRST,SIZE, or a name: a memory or
region of the device map, or image.

Exit status: 0 done and nothing found; 1 done, findings or differences; 2 used
wrongly; 3 an input is bad; 4 the system said no (read, write, space).

mexalt help COMMAND says more about each; mexalt demo shows the whole job.
`)
}

// printHelp prints all there is to say about a command, from the same values
// that run it.
func (s *session) printHelp(c *command) {
	fmt.Fprintf(s.out, "mexalt %s: %s\n\n  mexalt %s\n", c.name, c.short, strings.TrimSpace(c.name+" "+c.usage))
	if c.long != "" {
		fmt.Fprintf(s.out, "\n%s\n", strings.TrimSpace(c.long))
	}
	if c.more != nil {
		fmt.Fprintf(s.out, "\n%s", c.more())
	}
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	c.setup(fs)
	type row struct{ left, right string }
	var rows []row
	wide := 0
	fs.VisitAll(func(f *flag.Flag) {
		value, usage := flag.UnquoteUsage(f)
		left := "-" + f.Name
		if b, ok := f.Value.(interface{ IsBoolFlag() bool }); (!ok || !b.IsBoolFlag()) && value != "" {
			left += " " + value
		}
		wide = max(wide, len(left))
		rows = append(rows, row{left, usage})
	})
	if len(rows) > 0 {
		fmt.Fprint(s.out, "\nFlags:\n")
	}
	for _, r := range rows {
		fmt.Fprintf(s.out, "  %-*s  %s\n", wide, r.left, r.right)
	}
}
