// Package cli is Mexalt's interface: it parses flags, calls the core, prints
// what came of it and picks the exit status. It computes nothing itself.
package cli

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/term"

	"mexalt/internal/render"
	"mexalt/source"
)

// Exit statuses.
const (
	statusDone     = 0 // done, and nothing found
	statusFindings = 1 // done; findings, or differences
	statusUsage    = 2 // used wrongly
	statusInput    = 3 // an input is bad
	statusSystem   = 4 // the system said no: read, write, space
)

// command is one command: what help says of it, its flags, and how it runs.
type command struct {
	name  string
	usage string // what stands behind the name
	short string
	long  string
	more  func() string // what stands behind long, where it is put together
	// setup defines the command's flags and returns what runs it.
	setup func(fs *flag.FlagSet) func(s *session, args []string) error
}

// commands are all commands, in the order in which help lists them.
var commands []*command

func init() {
	commands = []*command{
		inspectCommand, viewCommand, mapCommand, compareCommand, mergeCommand, splitCommand, placeCommand,
		cutCommand, fillCommand, patchCommand, convertCommand,
		checksumCommand, checkCommand, deviceCommand, demoCommand, helpCommand, versionCommand,
	}
}

func commandOf(name string) *command {
	for _, c := range commands {
		if c.name == name {
			return c
		}
	}
	return nil
}

func commandNames() []string {
	var names []string
	for _, c := range commands {
		names = append(names, c.name)
	}
	return names
}

// failure is an error with an exit status.
type failure struct {
	status int
	err    error
}

func (f *failure) Error() string { return f.err.Error() }
func (f *failure) Unwrap() error { return f.err }

func usagef(format string, args ...any) error {
	return &failure{statusUsage, fmt.Errorf(format, args...)}
}

func inputf(format string, args ...any) error {
	return &failure{statusInput, fmt.Errorf(format, args...)}
}

// systemError says which file the system would not read or write, and why, in
// the system's words.
func systemError(doing, name string, err error) error {
	var path *os.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	var link *os.LinkError
	if errors.As(err, &link) {
		err = link.Err
	}
	return &failure{statusSystem, fmt.Errorf("%s: cannot be %s: %w", name, doing, err)}
}

// errFindings ends a command that did its work and found something, and has
// said what.
var errFindings = &failure{statusFindings, errors.New("findings")}

// session is one run of one command.
type session struct {
	command *command
	in      io.Reader
	out     *stream
	err     io.Writer
	inputs  []os.FileInfo // files that were read, which outputs must not replace
}

// Main runs the command that args name and returns the exit status.
func Main(args []string) int {
	return run(args, os.Stdin, os.Stdout, os.Stderr)
}

func run(args []string, in io.Reader, out, errOut io.Writer) int {
	render.Plain(!colourful(out) || !colourful(errOut))
	s := &session{in: in, out: newStream(out), err: errOut}
	if len(args) == 0 {
		fmt.Fprintln(errOut, "mexalt: which command? mexalt help lists them")
		return statusUsage
	}
	name, rest := args[0], args[1:]
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case "-version", "--version":
		name = "version"
	}
	c := commandOf(name)
	if c == nil {
		fmt.Fprintf(errOut, "mexalt: there is no command %q; %s\n", name, source.DidYouMean(name, commandNames()))
		return statusUsage
	}
	s.command = c
	return s.report(s.run(rest))
}

// run parses the flags, which may stand anywhere, and runs the command.
func (s *session) run(args []string) error {
	fs := flag.NewFlagSet(s.command.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	start := s.command.setup(fs)
	// -@ADDRESS is standard input, placed; it is no flag.
	const placed = "\x00"
	for i, a := range args {
		if strings.HasPrefix(a, "-@") {
			args = slices.Clone(args)
			args[i] = placed + a
		}
	}
	var operands []string
	for {
		if err := fs.Parse(args); errors.Is(err, flag.ErrHelp) {
			s.printHelp(s.command)
			return nil
		} else if err != nil {
			return flagError(fs, err)
		}
		rest := fs.Args()
		if len(rest) == 0 {
			break
		}
		if used := len(args) - len(rest); used > 0 && args[used-1] == "--" {
			operands = append(operands, rest...)
			break
		}
		operands, args = append(operands, rest[0]), rest[1:]
	}
	for i := range operands {
		operands[i] = strings.TrimPrefix(operands[i], placed)
	}
	return start(s, operands)
}

// flagError says what package flag found in our own words.
func flagError(fs *flag.FlagSet, err error) error {
	unknownFlag := regexp.MustCompile(`^flag provided but not defined: -(.*)$`)
	badValue := regexp.MustCompile(`(?s)^invalid (?:boolean )?value "(.*)" for (?:flag )?-([^:]+): (.*)$`)
	noValue := regexp.MustCompile(`^flag needs an argument: -(.*)$`)
	text := err.Error()
	if m := unknownFlag.FindStringSubmatch(text); m != nil {
		var known []string
		fs.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
		near := source.Nearest(m[1], known)
		if near != "" {
			near = "-" + near + "? "
		}
		return usagef("there is no flag -%s; %smexalt help %s lists them", m[1], near, fs.Name())
	}
	if m := badValue.FindStringSubmatch(text); m != nil {
		return usagef("-%s: %s", m[2], m[3])
	}
	if m := noValue.FindStringSubmatch(text); m != nil {
		value, _ := flag.UnquoteUsage(fs.Lookup(m[1]))
		return usagef("-%s needs a value behind it, %s", m[1], value)
	}
	return usagef("%s", text)
}

// report prints an error and returns its exit status.
func (s *session) report(err error) int {
	if outErr := s.out.Flush(); outErr != nil && (err == nil || err == errFindings) {
		err = systemError("written", "standard output", outErr)
	}
	if err == nil {
		return statusDone
	}
	if err == errFindings {
		return statusFindings
	}
	status := statusSystem
	var f *failure
	if errors.As(err, &f) {
		status = f.status
	}
	var problems *source.Problems
	if errors.As(err, &problems) {
		render.Problems(s.err, problems, isTerminal(s.err))
		return status
	}
	if errors.Is(err, errShown) {
		return status
	}
	for line := range strings.SplitSeq(err.Error(), "\n") {
		if status == statusUsage {
			// Others begin with the file that they concern.
			line = "mexalt " + s.command.name + ": " + line
		}
		fmt.Fprintln(s.err, line)
	}
	return status
}

// note prints a line that is not the result.
func (s *session) note(format string, args ...any) {
	fmt.Fprintf(s.err, "mexalt %s: %s\n", s.command.name, fmt.Sprintf(format, args...))
}

// stream is standard output: what is printed is gathered, and an error is kept
// until the end of the run.
type stream struct {
	*bufio.Writer
	to io.Writer
}

func newStream(to io.Writer) *stream { return &stream{bufio.NewWriter(to), to} }

func isTerminal(w any) bool {
	if s, ok := w.(*stream); ok {
		w = s.to
	}
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// colourful reports whether colour may be printed.
func colourful(w any) bool {
	return isTerminal(w) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// list is a flag that may be given several times.
type list []string

func (l *list) String() string     { return strings.Join(*l, " ") }
func (l *list) Set(v string) error { *l = append(*l, v); return nil }

// choice is a flag that takes one of a few words.
type choice struct {
	value *string
	words []string
}

func (c choice) String() string {
	if c.value == nil {
		return ""
	}
	return *c.value
}

func (c choice) Set(v string) error {
	if !slices.Contains(c.words, v) {
		return fmt.Errorf("%q is none of %s", v, strings.Join(c.words, ", "))
	}
	*c.value = v
	return nil
}
