package source

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Severity is how bad a problem or a finding is.
type Severity uint8

const (
	// Error spoils what it was found in: it yields nothing, or must not be
	// programmed.
	Error Severity = iota
	// Warning is most likely wrong, and lets the work go on.
	Warning
	// Note is worth knowing.
	Note
)

func (s Severity) String() string { return [...]string{"error", "warning", "note"}[s] }

// Setting is a key with a value, as commands and release files have them, that
// would settle something.
type Setting struct {
	Key   string
	Value string // "" for a switch
	Does  string // what setting it does, such as "allows it"; may be empty
}

// String returns the setting as neither a command line nor a file has it.
func (s Setting) String() string {
	return strings.Join(slices.DeleteFunc([]string{s.Key, s.Value, s.Does}, func(t string) bool { return t == "" }), " ")
}

// Action is an operation with its keys filled in, as advice.
type Action struct {
	Operation string
	Settings  []Setting
}

// String returns the action as neither a command line nor a file has it.
func (a *Action) String() string {
	words := []string{a.Operation}
	for _, s := range a.Settings {
		words = append(words, s.String())
	}
	return strings.Join(words, " ")
}

// Advice is what to do about something: in words, by a setting, or by an
// operation. The zero value is none.
type Advice struct {
	Text   string
	AnyOf  []Setting // any one of them puts it right
	Action *Action
}

// Advise returns advice in words.
func Advise(text string) Advice { return Advice{Text: text} }

// Wording says how an interface words settings and actions: a command line as
// flags and commands, a release file as keys and steps.
type Wording interface {
	Setting(Setting) string
	Action(*Action) string
}

type plainWording struct{}

func (plainWording) Setting(s Setting) string { return s.String() }
func (plainWording) Action(a *Action) string  { return a.String() }

// In returns the advice in a wording; nil is a neutral one.
func (a Advice) In(w Wording) string {
	if w == nil {
		w = plainWording{}
	}
	var parts []string
	if a.Text != "" {
		parts = append(parts, a.Text)
	}
	var settle []string
	for _, s := range a.AnyOf {
		settle = append(settle, w.Setting(s))
	}
	if len(settle) > 0 {
		parts = append(parts, strings.Join(settle, ", or "))
	}
	text := strings.Join(parts, "; ")
	if a.Action != nil {
		if text != "" {
			text += ": "
		}
		text += w.Action(a.Action)
	}
	return text
}

// Problem is one thing wrong at one place. It is an error for who returns it
// alone.
type Problem struct {
	File     string
	Line     int // from 1; 0 where the problem concerns the whole file
	Column   int // from 1, in characters; 0 where it concerns the whole line
	Severity Severity
	What     string // what is wrong
	Expected string // a noun phrase for what was expected instead; may be empty
	Advice   Advice
	Text     string // the line concerned, for showing; may be empty
	// Doubt is what a reader doubts about data that it could read all the same, one
	// of the doubts below; "" is none of them.
	Doubt string
}

// What readers doubt. Wherever an image is judged, each is a finding of a rule of
// its own.
const (
	LostLine     = "lost-line"     // just a few whole records are left out
	MovedLine    = "moved-line"    // a record would fit on the other side of a base record
	CountDiffers = "count-differs" // a count record counts others than there are
	MissingEnd   = "missing-end"   // the file ends without an end record
	AfterEnd     = "after-end"     // something follows the end record
	SkippedLine  = "skipped-line"  // a line that is no record was passed over
	LeftOut      = "left-out"      // sections of the file are not in the image
	ShortWord    = "short-word"    // a word has fewer digits than the others
)

// Doubts are those doubts that say that data is probably missing or misplaced.
var Doubts = []string{LostLine, MovedLine, CountDiffers, MissingEnd, AfterEnd, SkippedLine, LeftOut, ShortWord}

// Position returns file:line:column as far as they are known.
func (p *Problem) Position() string {
	var b strings.Builder
	b.WriteString(p.File)
	if p.Line > 0 {
		fmt.Fprintf(&b, ":%d", p.Line)
		if p.Column > 0 {
			fmt.Fprintf(&b, ":%d", p.Column)
		}
	}
	return b.String()
}

// Message returns the problem without position and severity.
func (p *Problem) Message(w Wording) string { return Message(p.What, p.Expected, p.Advice.In(w)) }

// Message says what was found, what was expected, and what to do, of which the last two may
// be empty: the form of all errors and findings.
func Message(what, expected, advice string) string {
	if expected != "" {
		what += "; expected " + expected
	}
	if advice != "" {
		what += " (" + advice + ")"
	}
	return what
}

// Error returns the problem on one line: where, how bad, what, expected, what
// to do.
func (p *Problem) Error() string {
	text := p.Severity.String() + ": " + p.Message(nil)
	if at := p.Position(); at != "" {
		return at + ": " + text
	}
	return text
}

// KeyError says that the value of a key is wrong, or that keys do not go
// together.
type KeyError struct {
	Key string // "" where several are concerned
	Err error
}

// Keyf returns a [KeyError].
func Keyf(key, format string, args ...any) error {
	return &KeyError{key, fmt.Errorf(format, args...)}
}

func (e *KeyError) Error() string {
	if e.Key == "" {
		return e.Err.Error()
	}
	return e.Key + ": " + e.Err.Error()
}

func (e *KeyError) Unwrap() error { return e.Err }

// MostKept is how many problems a list keeps; those beyond are only counted,
// so that a hostile file cannot make its list of problems larger than memory.
const MostKept = 100_000

// Problems is a list of problems. The zero value is an empty list.
type Problems struct {
	list   []*Problem
	errors int
	more   int
}

// Add appends a problem.
func (ps *Problems) Add(p *Problem) {
	if p.Severity == Error {
		ps.errors++
	}
	if len(ps.list) >= MostKept {
		ps.more++
		return
	}
	ps.list = append(ps.list, p)
}

// Sorted returns the problems kept, sorted by file, line and column.
func (ps *Problems) Sorted() []*Problem {
	sorted := slices.Clone(ps.list)
	slices.SortStableFunc(sorted, func(a, b *Problem) int {
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return sorted
}

// Count returns how many problems were added, kept or not.
func (ps *Problems) Count() int { return len(ps.list) + ps.more }

// Doubtful reports whether a problem says that data is probably missing.
func (ps *Problems) Doubtful() bool {
	return slices.ContainsFunc(ps.list, func(p *Problem) bool { return p.Doubt != "" })
}

// Errors returns how many of them are errors.
func (ps *Problems) Errors() int { return ps.errors }

// Err returns the list as an error, or nil where it holds no error.
func (ps *Problems) Err() error {
	if ps.errors == 0 {
		return nil
	}
	return ps
}

// Error returns the first error and how many more there are.
func (ps *Problems) Error() string {
	for _, p := range ps.Sorted() {
		if p.Severity == Error {
			switch more := ps.errors - 1; more {
			case 0:
				return p.Error()
			case 1:
				return p.Error() + " (and 1 more error)"
			default:
				return fmt.Sprintf("%s (and %d more errors)", p.Error(), more)
			}
		}
	}
	return fmt.Sprintf("%d errors", ps.errors)
}
