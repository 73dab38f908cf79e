package report

import "mexalt/internal/render"

// Version says what the program is.
type Version struct {
	Version, Go, System, Machine string
	Settings                     *Settings // nil where nobody asked
}

// Settings are the settings of a file.
type Settings struct {
	File   string `json:"file"` // "" if there is none
	Device string `json:"device,omitempty"`
	Board  string `json:"board,omitempty"`
	Quiet  bool   `json:"quiet,omitempty"`
	Color  string `json:"color,omitempty"`
}

// Text prints it.
func (v *Version) Text(p *render.Printer) {
	p.Line("mexalt %s (%s, %s/%s)", v.Version, v.Go, v.System, v.Machine)
	if v.Settings == nil {
		return
	}
	if v.Settings.File == "" {
		p.Line("no settings: no .mexalt.toml in this folder or above")
		return
	}
	p.Line("settings of %s", v.Settings.File)
	if v.Settings.Board != "" {
		p.Line("  board   %s", v.Settings.Board)
	}
	if v.Settings.Device != "" {
		p.Line("  device  %s", v.Settings.Device)
	}
	if v.Settings.Quiet {
		p.Line("  quiet   true")
	}
	if v.Settings.Color != "" {
		p.Line("  color   %s", v.Settings.Color)
	}
}

// VersionModel is the version, the system and the settings.
type VersionModel struct {
	Schema   string    `json:"schema"`
	Version  string    `json:"version"`
	Go       string    `json:"go"`
	System   string    `json:"system"`
	Machine  string    `json:"machine"`
	Settings *Settings `json:"settings,omitempty"`
}

// Model makes the model for programs.
func (v *Version) Model() any {
	return VersionModel{SchemaName("version"), v.Version, v.Go, v.System, v.Machine, v.Settings}
}
