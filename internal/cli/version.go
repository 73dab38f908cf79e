package cli

import (
	"runtime"
	"runtime/debug"

	"mexalt/internal/report"
	"mexalt/key"
)

var versionCommand = &command{
	name: "version", usage: "[-v]", bare: true,
	short: "print the version of this program",
	long: `
Prints the version and what it was built from. With -v, also the settings that were
read: .mexalt.toml, in this folder or the next one above that has it, with the keys
device, quiet and color. Flags override it.`,
	setup: func(f *flags) func(*session, []string) error {
		var more bool
		f.add(key.Switch(&more, "v", "also list the settings that were read"))
		f.reports()
		return func(s *session, args []string) error {
			if len(args) > 0 {
				return usagef("version takes no files")
			}
			v := &report.Version{Version: version(), Go: runtime.Version(), System: runtime.GOOS, Machine: runtime.GOARCH}
			if more {
				c, err := loadConfig(s.files)
				if err != nil {
					return err
				}
				v.Settings = &report.Settings{File: c.file, Device: c.Device, Board: c.Board, Quiet: c.Quiet, Color: c.Color}
			}
			return s.show(v)
		}
	},
}

// version returns the module's version and the commit that the program was
// built from, as far as the build's own information tells them.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "of an unknown build"
	}
	text := info.Main.Version
	if text == "" || text == "(devel)" {
		text = "development"
	}
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			const short = 12
			text += ", commit " + s.Value[:min(len(s.Value), short)]
		case s.Key == "vcs.modified" && s.Value == "true":
			text += " and changes since"
		}
	}
	return text
}
