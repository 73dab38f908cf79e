package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"mexalt/codec"
	"mexalt/codec/raw"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

// reading holds the flags that say how inputs are read.
type reading struct {
	options codec.ReadOptions
	device  string
}

// define adds the flags.
func (r *reading) define(fs *flag.FlagSet) {
	r.defineReading(fs)
	fs.StringVar(&r.device, "device", "", "device `MAP`: a file, or the name of a map")
}

// defineReading adds the flags but for -device.
func (r *reading) defineReading(fs *flag.FlagSet) {
	fs.Func("from", "read files as `FORMAT` hex, srec or raw, whatever their names and contents", func(v string) error {
		if r.options.From = codec.FormatOfWord(v); r.options.From == codec.Unknown {
			return fmt.Errorf("%q is none of hex, srec, raw", v)
		}
		return nil
	})
	fs.BoolVar(&r.options.Lenient, "lenient", false, "let deviations from a format's standard pass, with warnings")
	fs.Func("address-unit", "record formats: an address counts `N` bytes, 1, 2 or 4", func(v string) error {
		var n uint64
		err := oneTwoFour(&n)(v)
		r.options.AddressUnit = int(n)
		return err
	})
}

// standardInput is what standard input is called in messages.
const standardInput = "standard input"

// operands returns the inputs to read: those named, or standard input where
// none is and it is no terminal.
func (s *session) operands(args []string) ([]string, error) {
	if len(args) > 0 {
		return args, nil
	}
	if isTerminal(s.in) {
		return nil, usagef("no file is named; usage: mexalt %s %s", s.command.name, s.command.usage)
	}
	return []string{"-"}, nil
}

// oneOperand returns the one input to read.
func (s *session) oneOperand(args []string) (string, error) {
	args, err := s.operands(args)
	if err != nil {
		return "", err
	}
	if len(args) > 1 {
		return "", usagef("%d files are named, %s takes one (merge them first?)", len(args), s.command.name)
	}
	return args[0], nil
}

// loadDevice loads the map that -device names; nil where it names none.
func (s *session) loadDevice(r *reading, operands []string) (*device.Map, error) {
	if r.device == "" {
		return nil, nil
	}
	folders := mapFolders(operands)
	file, text, err := device.Find(r.device, folders)
	if errors.Is(err, device.ErrNotFound) {
		return nil, usagef("-device: %w", err)
	} else if err != nil {
		return nil, systemError("read", file, err)
	}
	var problems source.Problems
	m := device.Load(file, text, &problems)
	if err := problems.Err(); err != nil {
		return nil, &failure{statusInput, err}
	}
	return m, nil
}

// mapFolders returns the folders in which device maps are looked up: beside
// the images, and those that MEXALT_DEVICES lists.
func mapFolders(operands []string) []string {
	var folders []string
	for _, o := range operands {
		file, _, err := span.Input(o, nil, exists)
		if err != nil {
			// The place may name a region; the file is what counts here.
			file = o
		}
		folders = append(folders, filepath.Dir(file))
	}
	if len(operands) == 0 {
		folders = append(folders, ".")
	}
	folders = append(folders, filepath.SplitList(os.Getenv("MEXALT_DEVICES"))...)
	return folders
}

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}

// names returns the names that the map gives, none without a map.
func names(m *device.Map) span.Names {
	if m == nil {
		return nil
	}
	return m.Names()
}

// read reads one input and places it.
func (s *session) read(r *reading, operand string, known span.Names) (*codec.File, error) {
	name, placing, err := span.Input(operand, known, exists)
	if err != nil {
		return nil, &failure{statusUsage, err}
	}
	f, err := s.readFile(r, name)
	if err != nil {
		return nil, err
	}
	if f.Image, err = placing.Apply(f.Image); err != nil {
		return nil, inputf("%s: %w", operand, err)
	}
	return f, nil
}

func (s *session) readFile(r *reading, name string) (*codec.File, error) {
	in, shown, size, err := s.open(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return s.decode(r, in, shown, size)
}

// open opens an input: a file, or - for standard input. size is below 0 where
// it cannot be told.
func (s *session) open(name string) (in io.ReadCloser, shown string, size int64, err error) {
	if name == "-" {
		return io.NopCloser(s.in), standardInput, sizeOf(s.in), nil
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, "", 0, openError(name, err)
	}
	info, err := file.Stat()
	if err == nil && info.IsDir() {
		err = errors.New("it is a folder, a file is needed")
	}
	if err != nil {
		file.Close()
		return nil, "", 0, systemError("read", name, err)
	}
	s.inputs = append(s.inputs, info)
	return file, name, sizeOf(file), nil
}

// sizeOf returns how much is left to read where that can be told, else -1.
func sizeOf(in io.Reader) int64 {
	f, ok := in.(*os.File)
	if !ok {
		return -1
	}
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return -1
	}
	at, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return -1
	}
	return info.Size() - at
}

// openError says why a file was not opened, and what is near where it is not
// there.
func openError(name string, err error) error {
	if !errors.Is(err, fs.ErrNotExist) {
		return systemError("read", name, err)
	}
	folder, base := filepath.Split(name)
	if folder == "" {
		folder = "."
	}
	entries, dirErr := os.ReadDir(folder)
	if dirErr != nil {
		return &failure{statusSystem, fmt.Errorf("%s: no such file; there is no folder %s", name, folder)}
	}
	var there []string
	for _, e := range entries {
		there = append(there, e.Name())
	}
	near := ""
	if n := source.Nearest(base, there); n != "" {
		near = "; " + filepath.Join(folder, n) + "?"
	}
	return &failure{statusSystem, fmt.Errorf("%s: no such file%s", name, near)}
}

func (s *session) decode(r *reading, in io.Reader, name string, size int64) (*codec.File, error) {
	options := r.options
	options.Cores = runtime.GOMAXPROCS(0)
	var problems source.Problems
	f, err := codec.Read(in, name, size, options, &problems)
	if errors.Is(err, raw.ErrTooLarge) {
		return nil, inputf("%s: %w", name, err)
	} else if err != nil {
		return nil, systemError("read", name, err)
	}
	if err := problems.Err(); err != nil {
		return nil, &failure{statusInput, err}
	}
	if problems.Count() > 0 {
		render.Problems(s.err, &problems, isTerminal(s.err))
	}
	return f, nil
}

// readOne reads the one input of a command, and the device map that its flags
// name; the map is nil where they name none.
func (s *session) readOne(r *reading, args []string) (*device.Map, *codec.File, error) {
	operand, err := s.oneOperand(args)
	if err != nil {
		return nil, nil, err
	}
	dev, err := s.loadDevice(r, args)
	if err != nil {
		return nil, nil, err
	}
	f, err := s.read(r, operand, names(dev))
	if err != nil {
		return nil, nil, err
	}
	return s.configured(dev, f.Image), f, nil
}

// configured returns the map as it is for the configuration words in an image,
// and tells where that moves a region.
func (s *session) configured(dev *device.Map, m *memory.Image) *device.Map {
	if dev == nil {
		return nil
	}
	resolved, _ := dev.For(m)
	for _, r := range resolved.Regions {
		if was := dev.Region(r.Name); was != nil && was.Span != r.Span {
			s.note("note: as the image is configured, region %s is %s", r.Name, r.Span)
		}
	}
	return resolved
}

// readAll reads several inputs. It reads them all before it says which were
// bad.
func (s *session) readAll(r *reading, operands []string, known span.Names) ([]*codec.File, error) {
	stdin := 0
	for _, o := range operands {
		if name, _, err := span.Input(o, known, exists); err == nil && name == "-" {
			if stdin++; stdin > 1 {
				return nil, usagef("standard input is named twice; it can be read once")
			}
		}
	}
	var files []*codec.File
	var failed error
	for _, o := range operands {
		f, err := s.read(r, o, known)
		if err == nil {
			files = append(files, f)
			continue
		}
		if failed != nil {
			s.report(failed)
		}
		failed = err
	}
	return files, failed
}

// withImage adds the name image, the image's own span, to the names.
func withImage(known span.Names, m *memory.Image) span.Names {
	if all, ok := m.Span(); ok {
		return known.With("image", all)
	}
	return known
}

// spans reads the spans of a flag.
func spans(flagName string, texts []string, known span.Names) ([]memory.Span, error) {
	var list []memory.Span
	for _, t := range texts {
		sp, err := span.Span(t, known)
		if err != nil {
			return nil, usagef("-%s %w", flagName, err)
		}
		list = append(list, sp)
	}
	return list, nil
}
