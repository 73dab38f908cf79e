// Package render prints for people: text with colour, tables, bars, rows of
// bytes, pictures.
package render

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/fatih/color"
	"golang.org/x/term"

	"mexalt/source"
)

// Printer prints text to one place.
type Printer struct {
	W        io.Writer
	Colour   bool
	Terminal bool
	Width    int // columns; 80 where that cannot be told
}

// usualWidth and mostWidth bound how wide text is laid out.
const (
	usualWidth = 80
	mostWidth  = 160
)

// NewPrinter returns a printer to w; to is the file behind w, which tells
// whether it is a terminal.
func NewPrinter(w io.Writer, to any) *Printer {
	p := &Printer{W: w, Width: usualWidth}
	f, ok := to.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return p
	}
	p.Terminal = true
	escapes, signs := console(f)
	p.Colour = escapes && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	if !signs {
		p.W = newASCIIWriter(p.W)
	}
	if columns, _, err := term.GetSize(int(f.Fd())); err == nil && columns > 0 {
		p.Width = min(columns, mostWidth)
	}
	return p
}

// Colors are the words that say when there is colour.
var Colors = []string{"auto", "always", "never"}

// ParseColor reads one of [Colors]; "" is auto.
func ParseColor(word string) (string, error) {
	if word == "" {
		return Colors[0], nil
	}
	if !slices.Contains(Colors, word) {
		return "", fmt.Errorf("%q is not valid; choose one of %s", word, strings.Join(Colors, ", "))
	}
	return word, nil
}

// SetColor says when there is colour: on a terminal, always or never.
func (p *Printer) SetColor(word string) {
	switch word {
	case "always":
		p.Colour = true
	case "never":
		p.Colour = false
	}
}

// asciiWriter writes the signs with which text is laid out as ASCII.
type asciiWriter struct {
	w     io.Writer
	signs *strings.Replacer
}

func newASCIIWriter(w io.Writer) *asciiWriter {
	return &asciiWriter{w, strings.NewReplacer("─", "-", "│", "|", "┼", "+", "·", ".", "█", "#", "░", ".", "→", ">", "−", "-", "…", "...")}
}

func (a *asciiWriter) Write(b []byte) (int, error) {
	_, err := a.signs.WriteString(a.w, string(b))
	return len(b), err
}

// Plain returns a printer to a writer that is no terminal.
func Plain(w io.Writer) *Printer { return &Printer{W: w, Width: usualWidth} }

// Styled is text that may be printed as it is: what came from outside was made
// visible, and colour is in it.
type Styled string

func (p *Printer) style(text string, attributes ...color.Attribute) Styled {
	text = source.Visible(text)
	if !p.Colour {
		return Styled(text)
	}
	c := color.New(attributes...)
	c.EnableColor() // what the environment says of it was asked before
	return Styled(c.Sprint(text))
}

// The colours, by what they mean.

// Bad is what is wrong.
func (p *Printer) Bad(text string) Styled { return p.style(text, color.FgRed, color.Bold) }

// Doubt is what is most likely wrong.
func (p *Printer) Doubt(text string) Styled { return p.style(text, color.FgYellow, color.Bold) }

// Good is what is as it should be.
func (p *Printer) Good(text string) Styled { return p.style(text, color.FgGreen, color.Bold) }

// Faint is what stands beside.
func (p *Printer) Faint(text string) Styled { return p.style(text, color.Faint) }

// Title is what something is headed by.
func (p *Printer) Title(text string) Styled { return p.style(text, color.Bold) }

// Severity is a severity's word in its colour.
func (p *Printer) Severity(s source.Severity) Styled {
	switch s {
	case source.Error:
		return p.Bad(s.String())
	case source.Warning:
		return p.Doubt(s.String())
	}
	return p.Title(s.String())
}

// Printf prints. Texts among the arguments may come from outside: they are made
// visible, but those that are [Styled].
func (p *Printer) Printf(format string, args ...any) {
	fmt.Fprint(p.W, sprintf(format, args...))
}

// Together has all that print prints written at once, or so much of it as is long: each line
// on its own costs more than it takes to make.
func (p *Printer) Together(print func()) {
	each, all := p.W, bufio.NewWriter(p.W)
	p.W = all
	defer func() {
		all.Flush()
		p.W = each
	}()
	print()
}

// Line prints a line as Printf does. On a terminal it breaks between words, and what
// follows is indented; a command in it, which is there to be copied, gets a line of its
// own, unbroken.
func (p *Printer) Line(format string, args ...any) {
	line := sprintf(format, args...)
	if p.Terminal && columnsOf(line) > p.Width {
		text, command := commandApart(line)
		line = wrap(text, p.Width)
		if command != "" {
			line += "\n    " + command
		}
	}
	fmt.Fprintln(p.W, line)
}

// advisedCommand matches the advice at a line's end, what it says before the command, the
// command, and the rule behind; plainCommand a command without brackets around.
var (
	advisedCommand = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(` \(([^()]*)(mexalt [a-z]+ .*)\)( [^ ]*\[[a-z-]+\][^ ]*)?$`)
	})
	plainCommand = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(.*: )(mexalt [a-z]+ .*)$`) })
)

// commandApart takes a line apart into its text, with what the advice says before the
// command, and the command. Pages of help stay in their line.
func commandApart(line string) (text, command string) {
	if m := advisedCommand().FindStringSubmatch(line); m != nil && !strings.HasPrefix(m[2], "mexalt help ") {
		text = strings.TrimSuffix(line, m[0]) + m[3]
		if lead := strings.TrimSpace(m[1]); lead != "" {
			text = strings.TrimSuffix(line, m[0]) + " (" + strings.TrimSuffix(lead, ":") + ")" + m[3]
		}
		return text, m[2]
	}
	if m := plainCommand().FindStringSubmatch(line); m != nil {
		return strings.TrimSpace(m[1]), m[2]
	}
	return line, ""
}

// Hanging prints a line behind a title, as Printf does. On a terminal it breaks
// between words, and what follows is indented as far as the title.
func (p *Printer) Hanging(title any, format string, args ...any) {
	head := sprintf("%s", title)
	line := head + sprintf(format, args...)
	if p.Terminal {
		line = wrapped(line, p.Width, min(columnsOf(head), p.Width/2))
	}
	fmt.Fprintln(p.W, line)
}

// wrap breaks a line between words. Colours take no room.
func wrap(line string, wide int) string {
	const indent = 4
	return wrapped(line, wide, indent)
}

func wrapped(line string, wide, indent int) string {
	var b strings.Builder
	column, blanks := 0, 0 // blanks are those behind the word before
	for i, piece := range breakable(line, false) {
		word := strings.TrimRight(piece, " ")
		n := columnsOf(word)
		if i > 0 && column+blanks+n > wide && column > indent {
			b.WriteString("\n" + strings.Repeat(" ", indent))
			column = indent
		} else {
			b.WriteString(strings.Repeat(" ", blanks))
			column += blanks
		}
		b.WriteString(word)
		column, blanks = column+n, len(piece)-len(word)
	}
	return b.String()
}

// Wide reports whether a terminal has the columns for what is only for the eye, such as bars.
func (p *Printer) Wide() bool {
	const least = 100
	return p.Terminal && p.Width >= least
}

// proseWidth is how wide text for reading is, in a file or a pipe too.
func (p *Printer) proseWidth() int {
	const most = 88 // a longer line is hard to read
	if p.Terminal {
		return min(p.Width, most)
	}
	return most
}

// Prose prints text that was written in lines: paragraphs, lists, names with what
// they mean, and code, which is indented by four. The lines of each are joined and broken
// again, for the width of a terminal or of text.
func (p *Printer) Prose(text string) {
	wide := p.proseWidth()
	joined, hang := "", 0
	end := func() {
		if joined != "" {
			p.Printf("%s\n", Styled(wrapped(joined, wide, hang)))
		}
		joined = ""
	}
	for line := range strings.SplitSeq(text, "\n") {
		begins, indent := hanging(line)
		switch {
		case line == "":
			end()
			p.Printf("\n")
		case strings.HasPrefix(line, "    "):
			end()
			p.Printf("%s\n", Styled(line))
		case joined == "" || begins || (indent > 0) != (hang > 0):
			end()
			joined, hang = line, indent
		default:
			joined += " " + strings.TrimSpace(line)
		}
	}
	end()
}

// hanging reports whether a line begins an item of a list, and how far the lines
// behind it are indented: as far as what stands behind its sign or its name.
func hanging(line string) (begins bool, indent int) {
	const sign, dot = "- ", ". "
	if strings.HasPrefix(line, sign) {
		return true, len(sign)
	}
	if rest := strings.TrimLeft(line, "0123456789"); len(rest) < len(line) && strings.HasPrefix(rest, dot) {
		return true, len(line) - len(rest) + len(dot)
	}
	text := strings.TrimLeft(line, " ")
	indent = len(line) - len(text)
	if gap := strings.Index(text, "  "); indent > 0 && gap > 0 {
		return true, len(line) - len(strings.TrimLeft(text[gap:], " "))
	}
	return false, indent
}

// sprintf formats, and makes texts visible that may come from outside.
func sprintf(format string, args ...any) string {
	safe := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case Styled:
			safe[i] = string(v)
		case string:
			safe[i] = source.Visible(v)
		case error:
			safe[i] = source.Visible(v.Error())
		case fmt.Stringer:
			safe[i] = source.Visible(v.String())
		default:
			safe[i] = a
		}
	}
	return fmt.Sprintf(format, safe...)
}

// Problems prints a list of problems, one on a line. With lines, each is
// followed by the line that it concerns, and the place in it marked.
func (p *Printer) Problems(problems *source.Problems, w source.Wording, lines bool) {
	const most = 20
	for i, problem := range problems.Sorted() {
		if i == most {
			p.Printf("and %d more problems\n", problems.Count()-most)
			return
		}
		p.Problem(problem, w)
		if lines && problem.Text != "" {
			p.excerpt(problem)
		}
	}
}

// Problem prints one problem.
func (p *Printer) Problem(problem *source.Problem, w source.Wording) {
	at := Styled("")
	if position := problem.Position(); position != "" {
		at = p.Title(position) + ": "
	}
	p.Line("%s%s: %s", at, p.Severity(problem.Severity), problem.Message(w))
}

// excerpt prints a problem's line, or the part of it around the place.
func (p *Printer) excerpt(problem *source.Problem) {
	const wide, before = 72, 48
	chars := []rune(problem.Text)
	mark := problem.Column - 1
	from := 0
	if mark > before && len(chars) > wide {
		from = min(mark-before, len(chars)-wide)
	}
	shown := make([]rune, 0, wide)
	for _, r := range chars[from:min(len(chars), from+wide)] {
		if source.Visible(string(r)) != string(r) {
			r = '·'
		}
		shown = append(shown, r)
	}
	p.Printf("    %s\n", string(shown))
	if mark >= 0 {
		p.Printf("    %s%s\n", strings.Repeat(" ", mark-from), p.Bad("^"))
	}
}

// Bar draws how much of a whole is used; what is used at all shows.
func Bar(used, whole uint64) string {
	const wide = 20
	n := min(int(float64(used)/float64(whole)*wide), wide)
	if used > 0 && n == 0 {
		n = 1
	}
	return strings.Repeat("█", n) + strings.Repeat("░", wide-n)
}
