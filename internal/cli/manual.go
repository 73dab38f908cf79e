package cli

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/docs"
	"mexalt/key"
)

// Manual returns the pages of the manual, by their file names: mexalt.1, and one
// a command, for a version. They are made from what help prints.
func Manual(version string) map[string][]byte {
	pages := map[string][]byte{"mexalt.1": overviewPage(version)}
	for _, c := range commands() {
		pages["mexalt-"+c.name+".1"] = c.page(version)
	}
	return pages
}

// Completions returns the completion scripts, by their file names.
func Completions() map[string][]byte {
	files := map[string][]byte{}
	for _, shell := range shells {
		files[shell.file] = []byte(shell.script)
	}
	return files
}

// page is a page of the manual in the language of man(7).
type page struct{ strings.Builder }

func newPage(name, version string) *page {
	p := &page{}
	fmt.Fprintf(p, ".TH %s 1 \"\" \"mexalt %s\" \"User Commands\"\n", strings.ToUpper(name), roff(version))
	return p
}

// roff writes a text so that it stands for itself.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`, "±", `\[+-]`, "…", "...").Replace(text)
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			lines[i] = `\&` + line
		}
	}
	return strings.Join(lines, "\n")
}

func (p *page) section(title string) { fmt.Fprintf(p, ".SH %s\n", title) }

// prose writes paragraphs; indented blocks stand as they are.
func (p *page) prose(text string) {
	for block := range strings.SplitSeq(strings.Trim(text, "\n"), "\n\n") {
		if strings.HasPrefix(block, " ") || strings.Contains(block, "\n  ") {
			fmt.Fprintf(p, ".PP\n.nf\n%s\n.fi\n", roff(block))
			continue
		}
		fmt.Fprintf(p, ".PP\n%s\n", roff(block))
	}
}

func (p *page) keys(keys []*key.Key) {
	for _, k := range keys {
		fmt.Fprintf(p, ".TP\n.B %s\n%s\n", roff(keyText(k)), roff(k.Doc))
	}
}

// page returns a command's page.
func (c *command) page(version string) []byte {
	p := newPage("mexalt-"+c.name, version)
	p.section("NAME")
	fmt.Fprintf(p, "mexalt\\-%s \\- %s\n", c.name, roff(c.short))
	p.section("SYNOPSIS")
	fmt.Fprintf(p, ".B mexalt %s\n", roff(c.synopsis()))
	if c.long != "" || c.more != nil {
		p.section("DESCRIPTION")
		p.prose(keysAsFlags(c.long))
	}
	if c.more != nil {
		p.prose(c.more())
	}
	f := c.flags()
	p.section("OPTIONS")
	p.keys(f.own)
	for _, shared := range f.sharedByTopic() {
		fmt.Fprintf(p, ".SS Of %s\n", shared.topic)
		p.keys(shared.keys)
	}
	if lines := c.examples(); lines != nil {
		p.section("EXAMPLES")
		for _, line := range lines {
			fmt.Fprintf(p, ".PP\n.nf\n%s\n.fi\n", roff(line))
		}
	}
	p.exitStatus()
	p.section("SEE ALSO")
	fmt.Fprintf(p, ".BR mexalt (1)\n")
	return []byte(p.String())
}

// exitStatus tells of the statuses, which are the same for all commands.
func (p *page) exitStatus() {
	p.section("EXIT STATUS")
	text, _ := docs.Topic("exit")
	for line := range strings.Lines(text) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) == 2 && strings.Trim(cells[0], " 0123456789") == "" {
			fmt.Fprintf(p, ".TP\n.B %s\n%s\n", strings.TrimSpace(cells[0]), roff(strings.TrimSpace(cells[1])))
		}
	}
}

// overviewPage is the page of the whole program.
func overviewPage(version string) []byte {
	p := newPage("mexalt", version)
	p.section("NAME")
	p.WriteString("mexalt \\- builds, checks and releases firmware images\n")
	p.section("SYNOPSIS")
	p.WriteString(".B mexalt COMMAND [flags] FILE...\n")
	p.section("DESCRIPTION")
	p.prose(overviewText)
	p.section("COMMANDS")
	for _, c := range commands() {
		fmt.Fprintf(p, ".TP\n.BR mexalt\\-%s (1)\n%s\n", c.name, roff(c.short))
	}
	p.exitStatus()
	p.section("ENVIRONMENT")
	for _, v := range [][2]string{
		{"MEXALT_DEVICES", "folders in which device maps are looked up, as in PATH"},
		{"NO_COLOR", "no colour, where it is not empty"},
		{"SOURCE_DATE_EPOCH", "timestamp for the manifest of a release, in seconds since 1970"},
	} {
		fmt.Fprintf(p, ".TP\n.B %s\n%s\n", v[0], roff(v[1]))
	}
	p.section("FILES")
	fmt.Fprintf(p, ".TP\n.B %s\n%s\n", roff(configName), roff("settings of a folder and those below it: device, quiet, color"))
	p.section("SEE ALSO")
	var others []string
	for _, c := range commands() {
		others = append(others, fmt.Sprintf(".BR mexalt\\-%s (1)", c.name))
	}
	slices.Sort(others)
	p.WriteString(strings.Join(others, ",\n") + "\n")
	return []byte(p.String())
}
