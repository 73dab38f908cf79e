package cli

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/docs"
	"mexalt/internal/render"
	"mexalt/key"
	"mexalt/source"
)

var helpCommand = &command{
	name: "help", usage: "[COMMAND or TOPIC or RULE]", bare: true,
	short: "list the commands, or explain one command, topic or rule",
	long: `
Explains a command, a topic, a rule of check, or a word of the trade: fuses, crystal,
verify, serial. help json NAME prints the JSON Schema of what -json prints.`,
	setup: func(*flags) func(*session, []string) error {
		return func(s *session, args []string) error {
			switch {
			case len(args) == 2 && args[0] == "json":
				return s.printSchema(args[1])
			case len(args) == 0:
				s.printOverview()
				return nil
			}
			return s.printTopic(strings.Join(args, " "))
		}
	},
}

func (s *session) printTopic(name string) error {
	if c := commandOf(name); c != nil {
		s.printHelp(c)
		return nil
	}
	if text, ok := docs.Topic(name); ok {
		s.print.Markdown(text)
		if keys := topicKeys(name); keys != nil {
			s.print.Printf("\n%s\n", s.print.Title("Flags"))
			s.printKeys(keys)
		}
		if name == "json" {
			s.print.Line("\nmexalt help json NAME prints a schema; NAME is one of %s.", strings.Join(docs.Schemas(), ", "))
		}
		return nil
	}
	if text, ok := docs.Rule(name); ok {
		s.print.Markdown(text)
		return nil
	}
	if s.printEveryday(strings.ToLower(name)) {
		return nil
	}
	var known []string
	for _, c := range helpCompleted() {
		known = append(known, c.word)
	}
	near := source.Nearest(name, known)
	if near == "" {
		return usagef("no help on %q; mexalt help lists commands and topics", name)
	}
	return usagef("no help on %q; did you mean %s?", name, near)
}

// topicKeys returns the flags that a topic explains for all commands.
func topicKeys(name string) []*key.Key {
	switch name {
	case "input":
		return (&reading{}).keys()
	case "output":
		return append((&writing{}).keys(), everywhere(new(bool), new(string))...)
	}
	return nil
}

func (s *session) printSchema(name string) error {
	text, ok := docs.Schema(name)
	if !ok {
		return usagef("help json: unknown schema %q; %s", name, source.DidYouMean(name, docs.Schemas()))
	}
	s.print.Printf("%s", render.Styled(text))
	return nil
}

// overviewText says what the program is for.
const overviewText = `Mexalt builds the firmware image you ship and checks it against the device map.
It reads Intel HEX, S-record, ELF, raw and other files.`

func (s *session) printOverview() {
	var b strings.Builder
	fmt.Fprintf(&b, `%s

  mexalt COMMAND [flags] FILE...

Flags can be before, between or after files.

`, overviewText)
	for _, c := range commands() {
		fmt.Fprintf(&b, "  %-10s  %s\n", c.name, c.short)
	}
	var topics []string
	for _, t := range docs.Topics {
		topics = append(topics, t.Name)
	}
	fmt.Fprintf(&b, `
FILE is a file, or - for standard input; FILE@ADDRESS puts its first byte at an
address, FILE@+N and FILE@-N shift it. Numbers are 0x1F, 31, 0b11111, 16K.
A SPAN is FIRST..LAST, both included, or FIRST,SIZE, or an address, or a name: a
memory or region of the device map, or image.

Exit status: 0 success; 1 findings or differences; 2 wrong usage; 3 bad input; 4 cannot read or write a file.

For more: mexalt help COMMAND, mexalt help RULE (the findings of check), or mexalt help TOPIC. Topics:
  %s,
  %s
mexalt demo shows the whole job.`, strings.Join(topics[:len(topics)/2], ", "), strings.Join(topics[len(topics)/2:], ", "))
	s.print.Prose(b.String())
}

// printHelp prints all there is to say about a command, from the same values
// that run it.
func (s *session) printHelp(c *command) {
	s.print.Line("mexalt %s: %s", c.name, c.short)
	s.print.Printf("\n")
	s.print.Line("  mexalt %s", c.synopsis())
	more := ""
	if c.more != nil {
		more = strings.TrimRight(c.more(), "\n")
	}
	for _, text := range []string{keysAsFlags(strings.TrimSpace(c.long)), more} {
		if text != "" {
			s.print.Printf("\n")
			s.print.Prose(text)
		}
	}
	f := c.flags()
	if len(f.own) > 0 {
		s.print.Printf("\nFlags:\n")
		s.printKeys(f.own)
	}
	for _, shared := range f.sharedByTopic() {
		var names []string
		for _, k := range shared.keys {
			names = append(names, "-"+k.Name)
		}
		s.print.Line("\nAnd those of mexalt help %s: %s", shared.topic, strings.Join(names, ", "))
	}
	if lines := c.examples(); lines != nil {
		s.print.Printf("\nFor example:\n")
		for _, line := range lines {
			s.print.Printf("  %s\n", line)
		}
	}
}

// examples returns command lines that show the command; nil where there are none.
func (c *command) examples() []string {
	i := slices.IndexFunc(examples, func(e example) bool { return e.command == c.name })
	if i < 0 {
		return nil
	}
	return examples[i].lines[:]
}

// synopsis is the command line in short, after the program's name.
func (c *command) synopsis() string { return strings.TrimSpace(c.name + " " + keysAsFlags(c.usage)) }

// flags returns the command's flags, those that every command has among them.
func (c *command) flags() *flags {
	f := &flags{command: c}
	c.setup(f)
	f.addEverywhere(new(bool), new(string))
	return f
}

// sharedByTopic returns the shared flags, those of each topic together.
func (f *flags) sharedByTopic() (list []sharedFlags) {
	for _, shared := range f.shared {
		i := slices.IndexFunc(list, func(t sharedFlags) bool { return t.topic == shared.topic })
		if i < 0 {
			list = append(list, sharedFlags{topic: shared.topic})
			i = len(list) - 1
		}
		list[i].keys = append(list[i].keys, shared.keys...)
	}
	return list
}

// keyText is a key as a flag with its value.
func keyText(k *key.Key) string {
	text := "-" + k.Name
	switch {
	case k.Optional:
		text += "[=" + k.Value + "]"
	case k.Value != "":
		text += " " + k.Value
	}
	return text
}

// printKeys prints keys as flags.
func (s *session) printKeys(keys []*key.Key) {
	wide := 0
	for _, k := range keys {
		wide = max(wide, len(keyText(k)))
	}
	for _, k := range keys {
		s.print.Hanging(fmt.Sprintf("  %-*s  ", wide, keyText(k)), "%s", k.Doc)
	}
}
