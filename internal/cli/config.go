package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"mexalt/internal/render"
	"mexalt/source"
	"mexalt/source/settings"
)

// configName is the file that gives flags for the folder in which it lies, and
// those below.
const configName = ".mexalt.toml"

// config is what the file says; flags on the command line rule over it.
type config struct {
	Device string `toml:"device"`
	Board  string `toml:"board"`
	Quiet  bool   `toml:"quiet"`
	Color  string `toml:"color"`

	file    string // "" is none
	where   *settings.File
	refused string // why one that is there is not read
}

// mostConfig is how large it may be.
const mostConfig = 64 << 10

// loadConfig reads the file in the current folder, or the next above that has
// one.
func loadConfig(files *source.Files) (*config, error) {
	folder, err := os.Getwd()
	if err != nil {
		return &config{}, nil
	}
	for up := ""; ; up = filepath.Join(up, "..") {
		name := filepath.Join(up, configName)
		if _, err := os.Stat(filepath.Join(folder, configName)); err == nil {
			if why := source.Foreign(filepath.Join(folder, configName)); why != "" {
				return &config{refused: fmt.Sprintf("%s is not read: %s", name, why)}, nil
			}
			return readConfig(files, name)
		}
		above := filepath.Dir(folder)
		if above == folder {
			return &config{}, nil
		}
		folder = above
	}
}

func readConfig(files *source.Files, name string) (*config, error) {
	text, err := files.ReadAll(name, "settings file", mostConfig)
	if err != nil {
		return nil, err
	}
	c := &config{file: name}
	problems := &source.Problems{}
	c.where = settings.Decode(name, text, c, problems)
	if _, err := render.ParseColor(c.Color); err != nil && problems.Errors() == 0 {
		c.where.Problem("color", err.Error(), "", "")
	}
	for _, named := range []*string{&c.Device, &c.Board} {
		if strings.ContainsAny(*named, `/\`) || strings.HasSuffix(*named, ".toml") {
			*named = beside(name, *named)
		}
	}
	return c, problems.Err()
}

// beside names a file as it is named from the folder of another.
func beside(other, name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(filepath.Dir(other), name)
}
