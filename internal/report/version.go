package report

import "mexalt/internal/render"

// Version says what the program is.
type Version struct {
	Version, Go, System, Machine string
	Settings                     *Settings // nil where nobody asked
}

// Settings are those that a file gives.
type Settings struct {
	File   string `json:"file"` // "" is none
	Device string `json:"device,omitempty"`
	Quiet  bool   `json:"quiet,omitempty"`
	Color  string `json:"color,omitempty"`
}

// Text prints it.
func (v *Version) Text(p *render.Printer) {
	p.Printf("mexalt %s (%s, %s/%s)\n", v.Version, v.Go, v.System, v.Machine)
	if v.Settings == nil {
		return
	}
	if v.Settings.File == "" {
		p.Printf("no settings: there is no .mexalt.toml in this folder or above\n")
		return
	}
	p.Printf("settings of %s\n", v.Settings.File)
	if v.Settings.Device != "" {
		p.Printf("  device  %s\n", v.Settings.Device)
	}
	if v.Settings.Quiet {
		p.Printf("  quiet   true\n")
	}
	if v.Settings.Color != "" {
		p.Printf("  color   %s\n", v.Settings.Color)
	}
}

// VersionModel is a [Version] for programs.
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
	return VersionModel{"mexalt.version/1", v.Version, v.Go, v.System, v.Machine, v.Settings}
}
