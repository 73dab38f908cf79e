// Package demo ships the data of Mexalt's example: the parts of the TG-1 tide
// gauge's firmware, and two that are not fit to be released.
//
// The data is made by go run ./demo/generate, but for station.elf, which
// demo/station/build makes of the sources there.
package demo

import (
	"embed"
	"io/fs"
)

//go:embed data
var data embed.FS

// Files returns the demo's files.
func Files() fs.FS {
	sub, err := fs.Sub(data, "data")
	if err != nil {
		panic(err) // the folder is embedded
	}
	return sub
}
