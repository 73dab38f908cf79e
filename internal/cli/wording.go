package cli

import (
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/operation"
	"mexalt/source"
)

// commandLine words settings as flags, and actions as command lines that run
// as they are printed.
type commandLine struct {
	file   string // what the command would read; "" leaves the line without it
	device string // the map that was given; "" is none
	board  string // or the board
	merged bool   // the file is what the parts named make, merged
}

// Setting words a setting as a flag.
func (c commandLine) Setting(s source.Setting) string {
	text := "-" + s.Key
	if s.Value != "" {
		text += " " + render.Quoted(s.Value)
	}
	if s.Does != "" {
		text += " " + s.Does
	}
	return text
}

// Action words an action as a command line.
func (c commandLine) Action(a *source.Action) string {
	words := []string{"mexalt", a.Operation}
	if c.merged {
		words = append([]string{"merge the inputs, then"}, words...)
	}
	if c.file != "" {
		words = append(words, render.Quoted(c.file))
	}
	for _, s := range a.Settings {
		words = append(words, c.Setting(s))
	}
	if c.file == "" {
		return strings.Join(words, " ")
	}
	switch {
	case c.board != "":
		words = append(words, "-board", render.Quoted(c.board))
	case c.device != "":
		words = append(words, "-device", render.Quoted(c.device))
	}
	return strings.Join(append(words, "-o", render.Quoted(c.output(a.Operation))), " ")
}

// save is the command line that saves the sound lines of a damaged file.
func (c commandLine) save(file string) string {
	return strings.Join([]string{"mexalt convert", render.Quoted(file), "-lenient -o", render.Quoted(commandLine{file: file}.output("saved"))}, " ")
}

// output names the file that an action would write.
func (c commandLine) output(operation string) string {
	name, _, _ := strings.Cut(c.file, "@")
	if name == "-" {
		return operation + ".hex"
	}
	extension := filepath.Ext(name)
	stem := strings.TrimSuffix(filepath.Base(name), extension)
	if f := codec.ChoiceOfName(name).Format; f != nil && f.Writer == nil {
		extension = ".hex"
	}
	return stem + "-" + operation + extension
}

// settings words several settings in a row.
func (c commandLine) settings(list []source.Setting) string {
	var words []string
	for _, s := range list {
		words = append(words, c.Setting(s))
	}
	return strings.Join(words, " ")
}

// keyError words what is wrong with a key.
func (c commandLine) keyError(e *source.KeyError) string {
	text := e.Err.Error()
	var p *source.Problem
	if errors.As(e.Err, &p) {
		text = p.Message(c)
	}
	text = keysAsFlags(text)
	if errors.Is(e.Err, device.ErrNoRegions) {
		text += " (mexalt help maps)"
	}
	if e.Key == "" {
		return text
	}
	return "-" + e.Key + ": " + text
}

// keysAsFlags words the keys that a text of the core names, in backquotes, as
// flags.
func keysAsFlags(text string) string {
	parts := strings.Split(text, "`")
	for i := 1; i < len(parts)-1; i += 2 {
		parts[i] = flagsIn(parts[i])
	}
	if len(parts)%2 == 0 { // the last one has no end
		parts[len(parts)-1] = "`" + parts[len(parts)-1]
	}
	return strings.Join(parts, "")
}

// flagsIn puts the sign of a flag before each word that is a key.
func flagsIn(text string) string {
	var b strings.Builder
	for text != "" {
		n := 0
		for n < len(text) && ('a' <= text[n] && text[n] <= 'z' || n > 0 && text[n] == '-') {
			n++
		}
		if word := text[:n]; n > 1 && isKey(word) {
			b.WriteString("-")
		}
		n = max(n, 1)
		b.WriteString(text[:n])
		text = text[n:]
	}
	return b.String()
}

// isKey reports whether a word is a key of any operation.
func isKey(word string) bool {
	for _, k := range operation.Kinds {
		for _, key := range k.New().Keys() {
			if key.Name == word {
				return true
			}
		}
	}
	return slices.Contains([]string{"list", "holes", "huge", "from"}, word)
}
