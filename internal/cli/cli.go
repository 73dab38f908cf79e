// Package cli is Mexalt's interface: it parses flags, calls the core, prints
// what came of it and picks the exit status. It computes nothing itself.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"runtime/debug"
	"slices"
	"strings"

	"mexalt/codec/format"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/operation"
	"mexalt/release"
	"mexalt/source"
)

// Exit statuses.
const (
	statusDone     = 0 // done, and nothing found
	statusFindings = 1 // done; findings, or differences
	statusUsage    = 2 // used wrongly
	statusInput    = 3 // an input is bad
	statusSystem   = 4 // a file cannot be read or written
)

// command is one command: what help says of it, its flags, and how it runs.
type command struct {
	name  string
	usage string // what stands behind the name; keys in backquotes are flags, as in long
	short string
	long  string
	more  func() string // what stands behind long, where it is put together
	bare  bool          // the settings of the folder have no effect on it
	// setup defines the command's flags and returns what runs it.
	setup func(f *flags) func(s *session, args []string) error
}

// The commands, but those of operations, which stand between the ones that look and
// the others. Filled here, as help and completion look them up.
var (
	looking [4]*command
	others  [14]*command
)

func init() {
	looking = [...]*command{inspectCommand, viewCommand, mapCommand, compareCommand}
	others = [...]*command{
		identifyCommand,
		checkCommand,
		deviceCommand,
		configCommand,
		releaseCommand,
		confirmCommand,
		explainCommand,
		matchCommand,
		rehearseCommand,
		readCommand,
		demoCommand,
		helpCommand,
		versionCommand,
		completionCommand,
	}
}

// commands returns all commands, in the order in which help lists them.
func commands() []*command {
	list := slices.Clone(looking[:])
	for _, k := range operation.Kinds {
		if !k.Step {
			list = append(list, commandOf(k.Name))
		}
	}
	return append(list, others[:]...)
}

// commandOf returns the command of a name, or nil. It makes no other, so that none
// waits for the rest.
func commandOf(name string) *command {
	if name == checksumCommand.name {
		return checksumCommand
	}
	if k := operation.KindOf(name); k != nil && !k.Step {
		return operationCommand(k)
	}
	for _, list := range [][]*command{looking[:], others[:]} {
		if i := slices.IndexFunc(list, func(c *command) bool { return c.name == name }); i >= 0 {
			return list[i]
		}
	}
	return nil
}

func unknownCommand(name string) error {
	synonyms := map[string]string{ // words that people type
		"diff":     "compare",
		"verify":   "compare",
		"dump":     "view",
		"hexdump":  "view",
		"info":     "inspect",
		"crc":      "checksum",
		"sum":      "checksum",
		"crop":     "cut",
		"extract":  "cut",
		"join":     "merge",
		"concat":   "merge",
		"pad":      "fill",
		"program":  "rehearse",
		"flash":    "rehearse",
		"simulate": "rehearse",
		"which":    "match",
		"fuses":    "config",
		"options":  "config",
	}
	near, ok := synonyms[name]
	if !ok {
		var names []string
		for _, c := range commands() {
			names = append(names, c.name)
		}
		names = append(names, slices.Sorted(maps.Keys(synonyms))...)
		const long = 5 // letters of a word in which two slips are made
		if near = source.Nearest(name, names); near == "" && len(name) >= long {
			near = source.NearestWithin(name, names, 2)
		}
		if meant, ok := synonyms[near]; ok {
			near = meant
		}
	}
	if near == "" {
		return usagef("unknown command %q; mexalt help lists them", name)
	}
	return usagef("unknown command %q; did you mean %s?", name, near)
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

// errFindings ends a command that did its work and found something, and has
// said what.
var errFindings = &failure{statusFindings, errShown}

// errShown is an error of which all is said.
var errShown = errors.New("")

// statusOf returns the exit status of an error.
func statusOf(err error) int {
	var f *failure
	var key *source.KeyError
	var system *source.SystemError
	switch {
	case err == nil:
		return statusDone
	case errors.As(err, &f):
		return f.status
	case errors.As(err, &key):
		return statusUsage
	case errors.As(err, &system):
		return statusSystem
	}
	return statusInput
}

// session is one run of one command.
type session struct {
	command  *command
	ctx      context.Context // a signal to end the program ends it
	files    *source.Files
	out      *bufio.Writer
	stdout   io.Writer // behind out
	err      io.Writer
	print    *render.Printer // on standard output
	messages *render.Printer // on standard error
	quiet    bool
	wording  commandLine
	// recipe is whether the run is a release file's, whose keys advice then names.
	recipe bool

	reporting   *reporting
	progress    *render.Progress
	config      *config // nil is none
	deviceNamed bool    // by a flag
	boardNamed  bool
	notes       []string          // that were told
	warnings    []*source.Problem // of inputs

	programs format.Programs // those of the inputs
	dev      *device.Map     // that was loaded last; nil is none
}

func newSession(ctx context.Context, in io.Reader, out, errOut io.Writer) *session {
	s := &session{
		ctx:       ctx,
		files:     &source.Files{Stdin: in, Context: ctx},
		reporting: &reporting{},
		out:       bufio.NewWriter(out),
		stdout:    out,
		err:       errOut,
	}
	s.print, s.messages = render.NewPrinter(s.out, out), render.NewPrinter(errOut, errOut)
	return s
}

// Main runs the command that args name and returns the exit status.
func Main(args []string) int {
	if len(args) == 0 || strings.TrimLeft(args[0], "-") == versionCommand.name {
		return run(context.Background(), args, os.Stdin, os.Stdout, os.Stderr) // over before a signal comes
	}
	ctx, end := interruptible()
	status := run(ctx, args, os.Stdin, os.Stdout, os.Stderr)
	end(status)
	return status
}

func run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	s := newSession(ctx, in, out, errOut)
	if len(args) == 0 {
		return s.report(usagef("name a command; mexalt help lists them"))
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case "-version", "--version":
		name = "version"
	}
	if s.command = commandOf(name); s.command == nil {
		return s.report(unknownCommand(name))
	}
	return s.report(s.run(args[1:]))
}

// run parses the flags, which may stand anywhere, and runs the command.
func (s *session) run(args []string) error {
	f := &flags{command: s.command}
	start := s.command.setup(f)
	color := ""
	f.addEverywhere(&s.quiet, &color)
	if f.reporting != nil {
		s.reporting = f.reporting
	}
	operands, err := f.parse(args)
	if errors.Is(err, errHelp) {
		s.printHelp(s.command)
		return nil
	}
	if err == nil {
		err = s.applySettings(f, color)
	}
	if s.reporting.json {
		s.quiet = true // the notes are in the report
	}
	if s.imageOnOutput() {
		s.messages = render.NewPrinter(io.Discard, nil)
	}
	if err != nil {
		return err
	}
	return start(s, operands)
}

// keepsImages tells the runtime that most of what is kept are images, of many products or of
// a pipe, in which there is little to look through: to do so more often than usual costs next
// to nothing, and spares a third of the memory.
func keepsImages() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(50)
	}
}

// applySettings does what the settings of the folder say and no flag does.
func (s *session) applySettings(f *flags, color string) error {
	if !s.command.bare {
		c, err := loadConfig(s.files)
		if err != nil {
			return err
		}
		s.quiet = s.quiet || c.Quiet
		if color == "" {
			color = c.Color
		}
		s.deviceNamed = f.device != nil && *f.device != "" || f.devices != nil && len(*f.devices) > 0
		s.boardNamed = f.board != nil && *f.board != ""
		if f.board != nil && !s.boardNamed && !s.deviceNamed {
			*f.board = c.Board
		}
		switch {
		case c.Device == "":
		case f.device != nil && *f.device == "":
			*f.device = c.Device
		case f.devices != nil && len(*f.devices) == 0:
			*f.devices = []string{c.Device}
		}
		if s.config = c; c.refused != "" {
			s.messages.Problem(&source.Problem{Severity: source.Warning, What: c.refused,
				Expected: "settings that no other user can change"}, s.wording)
		}
	}
	s.print.SetColor(color)
	s.messages.SetColor(color)
	if !s.quiet && !s.command.bare {
		s.files.Progress = &source.Progress{}
		s.progress = render.ShowProgress(s.messages, s.files.Progress)
		context.AfterFunc(s.ctx, s.stopProgress)
	}
	return nil
}

// stopProgress takes the bar away, before a result is printed.
func (s *session) stopProgress() {
	if s.progress != nil {
		s.progress.Stop()
	}
}

// report prints an error and returns its exit status.
func (s *session) report(err error) int {
	s.stopProgress()
	if errors.Is(err, context.Canceled) {
		err = errInterrupted
	}
	if s.reporting.forProgram() && err != nil && !s.reporting.written {
		if outErr := s.showFailure(err, statusOf(err)); outErr != nil {
			s.printError(outErr)
		}
	}
	if outErr := s.out.Flush(); outErr != nil && (err == nil || err == errFindings) {
		err = stdoutError(outErr)
	}
	status := statusOf(err)
	if err != nil && !errors.Is(err, errShown) {
		s.printError(err)
	}
	return status
}

// printError prints an error as messages are: place, severity, what.
func (s *session) printError(err error) {
	var several *failures
	var problems *source.Problems
	if errors.As(err, &several) {
		for _, one := range several.list {
			s.printError(one)
		}
		return
	}
	if errors.As(err, &problems) {
		s.messages.Problems(problems, s.words(), s.messages.Terminal)
		return
	}
	for _, p := range s.problemsOf(err) {
		if p.File == "" {
			s.errorLine(p.Message(s.words()))
			continue
		}
		s.messages.Problem(p, s.words())
	}
}

// words words advice: as flags, or as keys of a release file.
func (s *session) words() source.Wording {
	if s.recipe {
		return release.Wording
	}
	return s.wording
}

// errorLine prints an error that concerns no file.
func (s *session) errorLine(text string) {
	who := "mexalt"
	if s.command != nil {
		who += " " + s.command.name
	}
	s.messages.Line("%s: %s: %s", who, s.messages.Severity(source.Error), text)
}

// note prints what is worth knowing beside the result.
func (s *session) note(text string) {
	s.notes = append(s.notes, text)
	if !s.quiet {
		s.messages.Line("mexalt %s: %s: %s", s.command.name, s.messages.Severity(source.Note), text)
	}
}

// reportDone prints what was done.
func (s *session) reportDone(format string, args ...any) {
	if !s.quiet {
		s.messages.Line("mexalt %s: %s", s.command.name, fmt.Sprintf(format, args...))
	}
}
