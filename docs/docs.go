// Package docs holds the documentation, so that what the program says and what
// the folder holds are one text.
package docs

import (
	"embed"
	"io/fs"
	"path"
	"slices"
	"strings"
)

//go:embed *.md *.json schemas/*.json
var files embed.FS

// Topics are the subjects that help tells of, by the pages that do.
var Topics = []struct{ Name, Page string }{
	{"language", "language"},
	{"input", "input"},
	{"output", "output"},
	{"formats", "formats"},
	{"maps", "device-maps"},
	{"boards", "boards"},
	{"rules", "rules"},
	{
		"json",
		"json",
	},
	{"exit", "exit"},
	{"checksums", "checksums"},
	{"shaping", "shaping"},
	{"releases", "releases"},
	{"engines", "engines"},
	{"git", "git"},
	{"rehearsal", "rehearsal"},
	{"target", "target"},
	{"diagnosis", "diagnosis"},
	{"pages", "pages"},
	{"settings", "settings"},
}

// Topic returns the page of a topic; ok is false where there is none.
func Topic(name string) (text string, ok bool) {
	for _, t := range Topics {
		if t.Name == name {
			b, err := files.ReadFile(t.Page + ".md")
			return string(b), err == nil
		}
	}
	return "", false
}

const schemaExtension = ".schema.json"

// Schemas are the names of the JSON Schemas: those of what commands print, and of
// manifests.
func Schemas() []string {
	var names []string
	fs.WalkDir(files, ".", func(name string, _ fs.DirEntry, _ error) error {
		if short, ok := strings.CutSuffix(path.Base(name), schemaExtension); ok {
			names = append(names, short)
		}
		return nil
	})
	slices.Sort(names)
	return names
}

// Schema returns the JSON Schema of a name; ok is false where there is none.
func Schema(name string) (text string, ok bool) {
	for _, folder := range []string{"schemas", "."} {
		if b, err := files.ReadFile(path.Join(folder, name+schemaExtension)); err == nil {
			return string(b), true
		}
	}
	return "", false
}

// Rule returns what the page of rules says of one; ok is false where it says
// nothing.
func Rule(name string) (text string, ok bool) {
	page, _ := Topic("rules")
	at := 0
	for line := range strings.Lines(page) {
		if names, is := strings.CutPrefix(line, "### "); is && slices.Contains(strings.Split(strings.TrimSpace(names), ", "), name) {
			ok = true
			break
		}
		at += len(line)
	}
	if !ok {
		return "", false
	}
	text = page[at:]
	if next := strings.Index(text[1:], "\n#"); next >= 0 {
		text = text[:next+2]
	}
	return text, true
}
