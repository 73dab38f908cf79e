package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/codec/format"
	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
	"mexalt/span"
)

// reading holds the flags that say how inputs are read.
type reading struct {
	options codec.ReadOptions
	own     []*key.Key // of formats
	device  string
	board   string
	huge    bool
	// placed is whether raw bytes need a place: they are laid together with others, or
	// judged by their addresses.
	placed bool
	// salvage takes the sound lines of a damaged record file.
	salvage bool
}

// define adds the flags.
func (r *reading) define(f *flags) {
	f.share("input", r.keys()...)
	f.reads(r)
}

// definePlain adds the flags of a command whose files say themselves what format they have,
// as its -from names a file.
func (r *reading) definePlain(f *flags) {
	f.share("input", r.deviceKey(), r.boardKey(), r.lenientKey(), r.hugeKey())
	f.reads(r)
}

func (r *reading) keys() []*key.Key {
	return append(r.fileKeys(), r.deviceKey(), r.boardKey(), r.hugeKey())
}

func (r *reading) lenientKey() *key.Key {
	return key.Switch(&r.options.Lenient, "lenient", "report deviations from the format's standard as warnings, not errors")
}

func (r *reading) hugeKey() *key.Key {
	return key.Switch(&r.huge, "huge", "allow a result much larger than its inputs")
}

func (r *reading) deviceKey() *key.Key {
	return key.Text(&r.device, "device", "MAP", "the device map: a file, or the name of a map")
}

func (r *reading) boardKey() *key.Key {
	return key.Text(&r.board, "board", "BOARD", "the board that the device is on: a file, or the name of one; it names the device")
}

// named reports whether a device is named, by itself or by its board.
func (r *reading) named() bool { return r.device != "" || r.board != "" }

// fileKeys returns the keys that say how a file is read.
func (r *reading) fileKeys() []*key.Key {
	r.own = codec.ReaderKeys(&r.options.Settings)
	return append([]*key.Key{
		key.New(
			"from",
			"FORMAT",
			"read files as FORMAT, whatever their names and contents; FORMAT:2 where an address counts 2 bytes, or 4",
			func(v string) (err error) {
				r.options.From, err = codec.ParseChoice(v, false)
				return err
			},
		),
		r.lenientKey(),
	}, r.own...)
}

// operands returns the inputs to read: those named, with patterns expanded, or
// standard input where none is and it is no terminal.
func (s *session) operands(args []string) ([]string, error) {
	if len(args) == 0 {
		if isTerminal(s.files.Stdin) {
			return nil, usagef("no file is named; usage: mexalt %s %s", s.command.name, keysAsFlags(s.command.usage))
		}
		return []string{"-"}, nil
	}
	var out []string
	stdin := 0
	for _, a := range args {
		if name, _, err := operation.ParseInput(a, span.Names{}, source.Exists); (err == nil && name == "-") || strings.HasPrefix(a, "-@") {
			if stdin++; stdin > 1 {
				return nil, &source.KeyError{Err: source.ErrStdinTwice}
			}
		}
		if !source.IsPattern(a) {
			out = append(out, a)
			continue
		}
		file, place, placed := strings.Cut(a, "@")
		found := source.Glob(file)
		if len(found) == 0 {
			return nil, &failure{statusSystem, fmt.Errorf("no file matches %s", a)}
		}
		for _, name := range found {
			if placed {
				name += "@" + place
			}
			out = append(out, name)
		}
	}
	return out, nil
}

// oneOperand returns the one input to read.
func (s *session) oneOperand(args []string) (string, error) {
	args, err := s.operands(args)
	if err != nil {
		return "", err
	}
	switch {
	case len(args) > 1 && noFile(args) != "":
		return "", usagef("%s", named(args))
	case len(args) > 1:
		return "", usagef("%s, and %s takes one; merge them first", named(args), s.command.name)
	}
	return args[0], nil
}

// named says how many files are named, or which of them is none: an output, a span or a number
// that was given without its flag.
func named(args []string) string {
	switch none := noFile(args); {
	case none != "":
		return fmt.Sprintf("there is no file %s; name an output with -o, and give values with their flags", none)
	case len(args) == 0:
		return "no file is named"
	case len(args) == 1:
		return "1 file is named"
	}
	return fmt.Sprintf("%d files are named", len(args))
}

// noFile returns the first of several operands, but for the one that all commands take, that
// is no file; "" is that all are.
func noFile(args []string) string {
	for i, a := range args {
		file, _, err := operation.ParseInput(a, span.Names{}, source.Exists)
		if i > 0 && file != "-" && (err != nil || !source.Exists(file)) {
			return a
		}
	}
	return ""
}

// loadDevice loads the map that -device names; nil where it names none.
func (s *session) loadDevice(r *reading, operands []string) (*device.Map, error) {
	if !r.named() {
		return nil, nil
	}
	s.wording.device, s.wording.board = r.device, r.board
	var m *device.Map
	var err error
	if r.device != "" && (r.board == "" || s.deviceNamed) {
		m, err = device.Open(s.files, r.device, s.mapFolders(operands))
		if errors.Is(err, device.ErrNotFound) {
			return nil, s.noDevice(r.device, err)
		}
	}
	if r.board != "" && err == nil {
		m, err = s.loadBoard(r, m, operands)
	}
	if err == nil {
		s.dev = m
		for _, w := range m.Warnings {
			s.messages.Problem(w, s.wording)
		}
		switch c := s.config; {
		case c == nil || c.file == "":
		case r.board != "" && c.Board == r.board && !s.boardNamed:
			s.note(fmt.Sprintf("the board %s is named by %s", r.board, c.file))
		case r.board == "" && c.Device == r.device && !s.deviceNamed:
			s.note(fmt.Sprintf("the device %s is named by %s", r.device, s.config.file))
		}
	}
	return m, err
}

// loadBoard loads the map on the board that -board names; m is the map that -device names
// too, or nil.
func (s *session) loadBoard(r *reading, m *device.Map, operands []string) (*device.Map, error) {
	on, err := device.OpenBoard(s.files, r.board, s.mapFolders(operands))
	switch c := s.config; {
	case errors.Is(err, device.ErrNoBoard) && c != nil && c.file != "" && c.Board == r.board && !s.boardNamed:
		return nil, &source.KeyError{Err: c.where.At("board", err.Error(), "", "")}
	case errors.Is(err, device.ErrNoBoard):
		return nil, source.Keyf("board", "%w", err)
	case err == nil && m != nil && m.File != on.File:
		return nil, source.Keyf("board", "%s has the device %s, and %s is named; name one of the two", r.board, on.Name, m.Name)
	}
	return on, err
}

// noDevice says where the name of a map stands that there is not.
func (s *session) noDevice(name string, err error) error {
	switch c := s.config; {
	case c != nil && c.file != "" && c.Device == name && !s.deviceNamed:
		return &source.KeyError{Err: c.where.At("device", err.Error(), "", "")}
	case s.command.name == "device": // its operand
		return &source.KeyError{Err: err}
	}
	return source.Keyf("device", "%w", err)
}

// mapFolders returns the folders in which device maps are looked up: the
// current one, those beside the images and beside the settings, and those that
// MEXALT_DEVICES lists.
func (s *session) mapFolders(operands []string) []string {
	folders := []string{"."}
	for _, o := range operands {
		file, _, err := operation.ParseInput(o, span.Names{}, source.Exists)
		if err != nil {
			// The place may name a region; the file is what counts here.
			file, _, _ = strings.Cut(o, "@")
		}
		if folder := filepath.Dir(file); folder != "." && !slices.Contains(folders, folder) {
			folders = append(folders, folder)
		}
	}
	if s.config != nil && s.config.file != "" {
		folders = append(folders, filepath.Dir(s.config.file))
	}
	return append(folders, filepath.SplitList(os.Getenv("MEXALT_DEVICES"))...)
}

// names returns the names that the map gives, and the symbols of the programs
// that were read.
func (s *session) names(m *device.Map) span.Names {
	known := span.Names{}
	if m != nil {
		known = m.Names()
	}
	known.Symbols = &s.programs
	return known
}

// input is an input that was read.
type input struct {
	*codec.File
	operand  string
	problems *source.Problems
	recorded *source.Read
	placed   bool  // a place was given with its name
	err      error // why it yields no image, where no problem says that
}

// image returns the input's image; nil where it yields none.
func (in *input) image() *memory.Image {
	if in.err != nil || in.problems.Errors() > 0 || in.File == nil {
		return nil
	}
	return in.Image
}

// failed returns why the input yields no image.
func (in *input) failed() error {
	if in.err != nil {
		return in.err
	}
	return in.problems.Err()
}

// sound reports whether a damaged record file has sound lines, whose image is there.
func (in *input) sound() bool {
	return in.err == nil && in.File != nil && in.Image != nil && in.Records != nil && !in.Records.Differ && !in.Image.Empty()
}

// open reads one input to its end and places it.
func (s *session) open(r *reading, operand string, known span.Names) *input {
	in := &input{operand: operand, problems: &source.Problems{}}
	name, placing, err := operation.ParseInput(operand, known, source.Exists)
	if err != nil {
		in.err = &source.KeyError{Err: err}
		return in
	}
	if in.placed = placing.Kind != operation.AsIs; placing.Kind == operation.FirstAt {
		if note := known.MaybeWords(operand[strings.LastIndexByte(operand, '@')+1:]); note != "" {
			s.note(note)
		}
	}
	file, err := s.files.Open(name, "image")
	if err != nil {
		in.err = err
		return in
	}
	defer file.Close()
	in.recorded = file.Recorded()
	options := r.options
	options.Cores, options.Placed = runtime.GOMAXPROCS(0), in.placed
	if file.Size < 0 {
		keepsImages() // it grows, and is copied as it does
	}
	in.File, err = codec.Read(file, file.Name, file.Size, options, in.problems)
	if s.files.Digest && err == nil && in.File.Image == nil {
		// What is no image was read only so far as to tell that.
		_, err = io.Copy(io.Discard, io.LimitReader(file, format.Most))
	}
	switch {
	case errors.Is(err, source.ErrTooLarge):
		in.err = &source.Problem{File: file.Name,
			What: fmt.Sprintf("larger than %s, the most that is read", memory.FormatSize(format.Most))}
	case err != nil:
		in.err = err
	case in.problems.Errors() == 0 && r.placed && in.Format.Unplaced && !in.placed && !in.Image.Empty():
		in.err = s.unplaced(in)
	case in.problems.Errors() == 0:
		in.err = s.place(in, placing)
	case in.Image != nil && in.Program == nil: // of the sound lines
		if err := s.place(in, placing); err != nil {
			in.Image = nil
		}
	}
	return in
}

// unplaced is the problem of raw bytes without a place, with the places that they may
// be for.
func (s *session) unplaced(in *input) error {
	p := &source.Problem{
		File:     in.Name,
		What:     in.Format.Name + " bytes have no addresses, and no place is given",
		Expected: in.operand + "@ADDRESS",
		Advice:   source.Advise("say where it goes"),
	}
	all, _ := in.Image.Span()
	if names := check.Places(s.dev, in.Name, all.Size()); len(names) > 0 {
		for i, name := range names {
			names[i] = in.operand + "@" + name + ".first"
		}
		p.Advice = source.Advise("where it fits: " + strings.Join(names, ", "))
	}
	return p
}

// place places an input that was read.
func (s *session) place(in *input, placing operation.Placing) error {
	before, _ := in.Image.Span()
	placed, err := placing.Apply(in.Image, &source.Input{Name: "place", Counting: source.Operation})
	if err != nil {
		return &source.Problem{File: in.operand, What: err.Error()}
	}
	in.Image = placed
	if in.Program != nil {
		after, _ := placed.Span()
		in.Program = in.Program.Moved(after.First - before.First)
		s.programs.Add(in.Name, in.Program)
	}
	return nil
}

// effect tells of keys of reading that have no effect on any of the inputs, nor
// on an output of the format, which may be nil.
func (r *reading) effect(inputs []*input, output *format.Format) error {
	for _, k := range r.own {
		if !k.Given() {
			continue
		}
		reads := func(in *input) bool {
			return in.File == nil || in.Format == nil || key.Find(in.Format.Reader().Keys(), k.Name) != nil
		}
		writes := output != nil && key.Find(output.Writer(format.WriteOptions{}).Keys(), k.Name) != nil
		if !slices.ContainsFunc(inputs, reads) && !writes {
			return source.Keyf(k.Name, "has no effect on %s", inputs[0].Format.Name)
		}
	}
	return nil
}

// warn prints what was odd about an input that could be read.
func (s *session) warn(in *input) {
	if in.image() != nil && in.problems.Count() > 0 {
		s.warnings = append(s.warnings, in.problems.Sorted()...)
		s.messages.Problems(in.problems, s.wording, s.messages.Terminal)
	}
}

// readAll reads several inputs. It reads them all before it says which were
// bad. output is the format that keys of reading may mean too; nil is none.
func (s *session) readAll(r *reading, operands []string, known span.Names, output *format.Format) ([]*input, error) {
	var list []*input
	var failed []error
	for _, o := range operands {
		in := s.open(r, o, known)
		s.warn(in)
		list = append(list, in)
		if err := in.failed(); err != nil && !(r.salvage && in.sound()) {
			failed = append(failed, err)
		}
	}
	if failed == nil {
		return list, r.effect(list, output)
	}
	return list, joined(failed)
}

// readDamaged reads the one input of a command, and the device map that its
// flags name; the map is nil where they name none. A damaged record file is
// returned too, with the image of its sound lines.
func (s *session) readDamaged(r *reading, args []string) (*device.Map, *input, error) {
	operand, err := s.oneOperand(args)
	if err != nil {
		return nil, nil, err
	}
	dev, err := s.loadDevice(r, []string{operand})
	if err != nil {
		return nil, nil, err
	}
	s.wording.file = operand
	in := s.open(r, operand, s.names(dev))
	s.warn(in)
	if err := in.failed(); err != nil && !in.sound() {
		return nil, nil, err
	}
	if in.failed() == nil {
		err = r.effect([]*input{in}, nil)
	}
	return dev, in, err
}

// configured returns the map as it is for the configuration words in an image;
// nil without a map.
func (s *session) configured(dev *device.Map, m *memory.Image) *device.Map {
	if dev == nil {
		return nil
	}
	resolved, _ := dev.For(m)
	for _, r := range resolved.Regions {
		if was := dev.Region(r.Name); was != nil && was.Span != r.Span {
			s.note(operation.ConfiguredNote(dev, m, &r))
		}
	}
	return resolved
}

// environment returns what operations work in.
func (s *session) environment(r *reading, dev *device.Map) *operation.Environment {
	e := &operation.Environment{Map: dev, Names: span.Names{Symbols: &s.programs}, Cores: runtime.GOMAXPROCS(0)}
	if !r.huge {
		e.Limit = memory.Proportion(s.files.TotalRead())
	}
	e.Read = func(name string) ([]byte, error) { return s.files.ReadAll(name, "value", format.Most) }
	return e
}

// withImage adds the name image, the image's own span, to the names.
func withImage(known span.Names, m *memory.Image) span.Names {
	if all, ok := m.Span(); ok {
		return known.With("image", all)
	}
	return known
}

// spans reads the spans of a flag.
func (s *session) spans(flagName string, texts []string, known span.Names) ([]memory.Span, error) {
	var list []memory.Span
	for _, t := range texts {
		sp, err := span.Span(t, known)
		if err != nil {
			return nil, &source.KeyError{Key: flagName, Err: err}
		}
		if note := span.MaybeTooLong(t); note != "" {
			s.note(note)
		}
		if note := known.MaybeWords(t); note != "" {
			s.note(note)
		}
		list = append(list, sp)
	}
	return list, nil
}
