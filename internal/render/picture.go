package render

import (
	"strings"

	"github.com/fatih/color"

	"mexalt/picture"
	"mexalt/source"
)

// partColours are the colours of parts on a terminal.
var partColours = [...]color.Attribute{
	color.FgCyan,
	color.FgYellow,
	color.FgGreen,
	color.FgMagenta,
	color.FgBlue,
	color.FgWhite,
}

// Picture prints a picture as text, as wide as the printer is.
func (p *Printer) Picture(drawn *picture.Picture) {
	for _, row := range drawn.Text(p.Width) {
		var line strings.Builder
		for _, run := range row.Runs {
			line.WriteString(string(p.toned(run)))
		}
		if row.Breakable {
			p.Line("%s", Styled(line.String()))
		} else {
			p.Printf("%s\n", Styled(line.String()))
		}
	}
}

func (p *Printer) toned(run picture.Run) Styled {
	switch run.Tone {
	case picture.Heading:
		return p.Title(run.Text)
	case picture.Marked:
		return p.Bad(run.Text)
	case picture.Beside:
		return p.Faint(run.Text)
	case picture.OfPart:
		return p.style(run.Text, partColours[run.Part%len(partColours)], color.Bold)
	}
	return Styled(source.Visible(run.Text))
}
