package device

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/source"
)

// Extension ends the name of every device map's file.
const Extension = ".device.toml"

// Role is what a map's file is read as.
const role = "device map"

// MostBytes is how large a map's file may be, 4 MiB.
const MostBytes = 4 << 20

//go:embed maps/*.device.toml
var shipped embed.FS

// Shipped returns the bare names of the maps that come with Mexalt, sorted.
func Shipped() []string {
	entries, _ := shipped.ReadDir("maps")
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), Extension))
	}
	return names
}

// ErrNotFound says that there is no map of a name.
var ErrNotFound = errors.New("no such device map")

// fileKind is a kind of file that describes something: maps and boards.
type fileKind struct {
	extension, role string
	missing         error
	shipped         func(file string) []byte // nil is that none comes with Mexalt
	known           func(folders []string) []string
}

var (
	mapKind   = &fileKind{Extension, role, ErrNotFound, ShippedText, Known}
	boardKind = &fileKind{BoardExtension, "board", ErrNoBoard, func(string) []byte { return nil }, OwnBoards}
)

// Find returns the text of a map's file and the file's name. The map is named
// by its path, or by a bare name, which is looked up in the folders and then
// among those that come with Mexalt.
func Find(files *source.Files, name string, folders []string) (file string, text []byte, err error) {
	return mapKind.find(files, name, folders)
}

func (k *fileKind) find(files *source.Files, name string, folders []string) (file string, text []byte, err error) {
	if isPath(name) {
		text, err = files.ReadAll(name, k.role, MostBytes)
		if whole := name + k.extension; errors.Is(err, fs.ErrNotExist) && !strings.HasSuffix(name, ".toml") && source.Exists(whole) {
			name = whole
			text, err = files.ReadAll(name, k.role, MostBytes)
		}
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("%w: %s", k.missing, k.whatIsThere(name))
		}
		return name, text, err
	}
	for _, folder := range folders {
		file = filepath.Join(folder, name+k.extension)
		if text, err = files.ReadAll(file, k.role, MostBytes); err == nil || !errors.Is(err, fs.ErrNotExist) {
			return file, text, err
		}
	}
	text = k.shipped(name + k.extension)
	if text == nil {
		return "", nil, fmt.Errorf("%w: %s; %s", k.missing, name, source.DidYouMean(name, k.known(folders)))
	}
	files.Embed(name+k.extension, ShippedRole, text)
	return name + k.extension, text, nil
}

// isPath reports whether a map is named by its path.
func isPath(name string) bool {
	for i := range len(name) {
		if os.IsPathSeparator(name[i]) {
			return true
		}
	}
	return strings.HasSuffix(name, ".toml")
}

// ShippedRole is what a map that comes with Mexalt is read as.
const ShippedRole = "shipped device map"

// ShippedText returns the text of a map that comes with Mexalt, by the name of its
// file; nil is that there is none.
func ShippedText(file string) []byte {
	text, err := shipped.ReadFile("maps/" + file)
	if err != nil {
		return nil
	}
	return text
}

// whatIsThere says of a path where nothing is what is there instead.
func (k *fileKind) whatIsThere(path string) string {
	folder := filepath.Dir(path)
	if _, err := os.Stat(folder); err != nil {
		return fmt.Sprintf("%s; no folder %s", path, folder)
	}
	there, _ := filepath.Glob(filepath.Join(folder, "*"+k.extension))
	if len(there) == 0 {
		return fmt.Sprintf("%s; no file there ends in %s", path, k.extension)
	}
	for i := range there {
		there[i] = filepath.Base(there[i])
	}
	return fmt.Sprintf("%s; %s", path, source.DidYouMean(filepath.Base(path), there))
}

// Known returns the bare names of all maps that [Find] finds, sorted.
func Known(folders []string) []string {
	known := append(Shipped(), Own(folders)...)
	slices.Sort(known)
	return slices.Compact(known)
}

// Own returns the names of the maps in folders, without those that come with the program.
func Own(folders []string) []string { return own(folders, Extension) }

// OwnBoards returns the names of the boards in folders.
func OwnBoards(folders []string) []string { return own(folders, BoardExtension) }

func own(folders []string, extension string) (known []string) {
	for _, folder := range folders {
		found, _ := filepath.Glob(filepath.Join(folder, "*"+extension))
		for _, f := range found {
			known = append(known, strings.TrimSuffix(filepath.Base(f), extension))
		}
	}
	slices.Sort(known)
	return slices.Compact(known)
}

// Identified returns those of some maps, by their names, whose device identifies itself so.
func Identified(answer []byte, maps iter.Seq2[string, *Map]) (names []string) {
	for name, m := range maps {
		if slices.ContainsFunc(m.Identities, func(d Identity) bool { return d.Is(answer) }) {
			names = append(names, name)
		}
	}
	return names
}

// Each opens the maps that [Known] names, but for some; one that cannot be read is passed
// over. Nobody asked for them, so that they are not recorded as read.
func Each(folders, but []string) iter.Seq2[string, *Map] {
	return func(yield func(string, *Map) bool) {
		for _, name := range Known(folders) {
			if slices.Contains(but, name) {
				continue
			}
			if m, err := Open(&source.Files{}, name, folders); err == nil && !yield(name, m) {
				return
			}
		}
	}
}
