package cli

import (
	"runtime"
	"runtime/debug"
)

var versionCommand = &command{
	name: "version", usage: "",
	short: "the version of this program",
	setup: func(*flags) func(*session, []string) error {
		return func(s *session, args []string) error {
			s.print.Printf("mexalt %s (%s, %s/%s)\n", version(), runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return nil
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
