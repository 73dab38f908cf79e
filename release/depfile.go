package release

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/output"
	"mexalt/source"
)

// depfile returns what writes the rule of which files the outputs were made of,
// in the syntax that make reads and that build tools have from compilers.
func depfile(files *source.Files, outputs []string) (func(io.Writer) error, error) {
	var needs []string
	for _, r := range files.Recorded() {
		if r.Name != source.StandardInput && !r.Embedded {
			needs = append(needs, r.Name)
		}
	}
	slices.Sort(needs) // products are read side by side
	needs = slices.Compact(needs)
	for _, name := range slices.Concat(outputs, needs) {
		if strings.ContainsAny(name, "\n\r") {
			return nil, source.Keyf("depfile", "%q has a line break in its name, which make cannot have", name)
		}
	}
	var b strings.Builder
	for i, name := range outputs {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(makeName(name))
	}
	b.WriteByte(':')
	for _, name := range needs {
		b.WriteString(" \\\n  " + makeName(name))
	}
	b.WriteByte('\n')
	// Each needs a rule of its own, or make would stop where one was taken away.
	for _, name := range needs {
		fmt.Fprintf(&b, "\n%s:\n", makeName(name))
	}
	text := b.String()
	return func(w io.Writer) error { _, err := io.WriteString(w, text); return err }, nil
}

// rule returns the file of the rule: of the outputs, or of the stamp in their place.
func (o *Options) rule(files *source.Files, outputs []string) (*output.File, error) {
	if o.Stamp != "" {
		outputs = []string{o.Stamp}
	}
	write, err := depfile(files, outputs)
	return &output.File{Name: o.Depfile, Write: write, Keep: true}, err
}

// stampIs refuses an output that is the stamp too.
func (o *Options) stampIs(name string) error {
	is, err := filepath.Abs(name)
	stamp, err2 := filepath.Abs(o.Stamp)
	if o.Stamp != "" && err == nil && err2 == nil && is == stamp {
		return source.Keyf("stamp", "%s is an output; a stamp is a file of its own", o.Stamp)
	}
	return nil
}

// stamped writes the stamp, which is always a new file: outputs that are as they were keep
// their time, so that make would run the release for ever.
func (o *Options) stamped(files *source.Files) error {
	if o.Stamp == "" {
		return nil
	}
	write := func(w io.Writer) error { _, err := io.WriteString(w, o.Tool+"\n"); return err }
	_, err := output.Write(files, []output.File{{Name: o.Stamp, Write: write}})
	return err
}

// makeName writes a name as it stands in a rule of make.
func makeName(name string) string {
	var b strings.Builder
	for i := range len(name) {
		switch c := name[i]; c {
		case ' ', '\t', '#':
			// Backslashes before it would be taken for its escapes.
			for j := i - 1; j >= 0 && name[j] == '\\'; j-- {
				b.WriteByte('\\')
			}
			b.WriteByte('\\')
			b.WriteByte(c)
		case '$':
			b.WriteString("$$")
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
