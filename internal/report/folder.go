package report

import (
	"fmt"
	"path/filepath"
	"strings"

	"mexalt/internal/render"
	"mexalt/inventory"
	"mexalt/memory"
)

// Folder is the files of a folder, each in a row.
type Folder struct{ *inventory.Inventory }

// Columns are the columns of the table of files.
var Columns = []string{"file", "format", "what it is", "device", "version", "notes"}

// Rows are the rows of the table of files.
func (x *Folder) Rows() (rows [][]string) {
	for i := range x.Files {
		f := &x.Files[i]
		notes := strings.Join(f.Notes, "; ")
		if f.Bad != "" {
			notes = f.Bad
		}
		rows = append(rows, []string{x.name(f.Name), f.Format, f.What, f.Device, f.Version, notes})
	}
	return rows
}

// name is a file's name, without the folder where all lie in one.
func (x *Folder) name(name string) string {
	folder := filepath.Dir(x.Files[0].Name)
	for i := range x.Files {
		if filepath.Dir(x.Files[i].Name) != folder {
			return name
		}
	}
	return filepath.Base(name)
}

// Contradictory says what contradicts.
func (x *Folder) Contradictory(c *inventory.Contradiction) string {
	var names []string
	for _, n := range c.Files {
		names = append(names, x.name(n))
	}
	return strings.Join(names, ", ") + " " + c.What
}

// Count says of how many files what was found.
func (x *Folder) Count() string {
	images, bad := 0, 0
	for i := range x.Files {
		switch f := &x.Files[i]; {
		case f.Bad != "":
			bad++
		case f.Bytes > 0:
			images++
		}
	}
	text := fmt.Sprintf("%s, %s", memory.FormatNumber(len(x.Files), "file"), memory.FormatNumber(images, "image"))
	if bad > 0 {
		text += fmt.Sprintf(", %d damaged or unreadable", bad)
	}
	return text
}

// Text prints what contradicts, and the table.
func (x *Folder) Text(p *render.Printer) {
	p.Line("%s", p.Title(x.Count()))
	for i := range x.Contradictions {
		p.Hanging("  ", "%s: %s", p.Bad("contradiction"), x.Contradictory(&x.Contradictions[i]))
	}
	if len(x.Files) == 0 {
		return
	}
	p.Line("")
	p.Table(Columns, x.Rows())
}

// FolderModel is the files of a folder.
type FolderModel struct {
	Schema         string                `json:"schema"`
	Maps           []string              `json:"maps"`
	Contradictions []FolderContradiction `json:"contradictions"`
	Files          []FolderFile          `json:"files"`
}

// FolderContradiction is what cannot be right of some files.
type FolderContradiction struct {
	Files []string `json:"files"`
	What  string   `json:"what"`
}

// FolderFile is what is known of a file.
type FolderFile struct {
	File    string   `json:"file"`
	Size    int64    `json:"size"`
	Format  string   `json:"format"`
	What    string   `json:"what"`
	Device  string   `json:"device,omitempty"`
	Bytes   uint64   `json:"bytes"`
	Version string   `json:"version,omitempty"`
	Notes   []string `json:"notes"`
	Bad     string   `json:"bad,omitempty"`
}

// Model makes the model for programs.
func (x *Folder) Model() any {
	out := FolderModel{
		Schema:         SchemaName("folder"),
		Maps:           append([]string{}, x.Maps...),
		Contradictions: []FolderContradiction{},
		Files:          []FolderFile{},
	}
	for _, c := range x.Contradictions {
		out.Contradictions = append(out.Contradictions, FolderContradiction{c.Files, c.What})
	}
	for i := range x.Files {
		f := &x.Files[i]
		out.Files = append(out.Files,
			FolderFile{f.Name, f.Size, f.Format, f.What, f.Device, f.Bytes, f.Version, append([]string{}, f.Notes...), f.Bad})
	}
	return out
}
