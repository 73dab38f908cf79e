package release

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/codec"
	"mexalt/codec/format"
	"mexalt/device"
	"mexalt/key"
	"mexalt/operation"
	"mexalt/output"
	"mexalt/source"
	"mexalt/span"
)

// product is one of the products of a release, with everything that its sets
// say filled in.
type product struct {
	*File
	variant string
	names   *names
	device  string
	dev     *device.Map
	inputs  []*input
	alone   []step // on one input each, before all others
	steps   []step
	outputs []*target
	known   map[string]bool // names that expressions may use
}

// sets returns the values of all sets of a product: those of the file, of the
// variant, and those given, in this order.
func (f *File) sets(v *variantTable, given map[string]string) (*names, error) {
	n := &names{values: map[string]string{"name": f.Title, "variant": ""}, used: map[string]bool{}}
	for name, x := range f.table.Set {
		n.values[name] = string(x)
	}
	if v != nil {
		n.values["variant"] = v.Name
		for name, x := range v.Set {
			n.values[name] = string(x)
		}
	}
	for name, text := range given {
		if _, ok := f.table.Set[name]; !ok {
			return nil, source.Keyf("set", "%s has no variable %s; %s", f.Name, name,
				source.DidYouMean(name, slices.Sorted(maps.Keys(f.table.Set))))
		}
		n.values[name] = text
	}
	// A set may be made of others.
	whole, open := map[string]bool{}, map[string]bool{}
	var settle func(name string)
	settle = func(name string) {
		text := n.values[name]
		if whole[name] || slices.Contains(builtIn, name) {
			return
		}
		if open[name] {
			f.problem("set."+name, "the variables refer to one another in a circle", "", "")
			n.values[name] = ""
			return
		}
		open[name] = true
		for other := range n.values {
			if strings.Contains(text, "{"+other+"}") {
				settle(other)
			}
		}
		more, err := n.expand(text)
		if err != nil {
			f.problem("set."+name, err.Error(), "", "")
			more = ""
		}
		n.values[name], whole[name] = more, true
	}
	for _, name := range slices.Sorted(maps.Keys(n.values)) {
		settle(name)
	}
	return n, nil
}

// plan fills in what the sets say, and looks for what is wrong with it.
func (f *File) plan(files *source.Files, v *variantTable, given map[string]string) (*product, error) {
	n, err := f.sets(v, given)
	if err != nil {
		return nil, err
	}
	f.checkSecrets(n.values)
	n.hider = f.newHider(n.values)
	p, err := f.planWith(files, v, n)
	n.hider.problems(f.problems)
	return p, err
}

// planWith fills in what sets say.
func (f *File) planWith(files *source.Files, v *variantTable, n *names) (*product, error) {
	p := &product{File: f, names: n, device: f.table.Device}
	var err error
	deviceAt := "device"
	if v != nil {
		p.variant = v.Name
		if v.Device != "" {
			i := slices.IndexFunc(f.table.Variants, func(w variantTable) bool { return w.Name == v.Name })
			p.device, deviceAt = v.Device, fmt.Sprintf("variant[%d].device", i)
		}
	}
	p.device = f.expandName(n, deviceAt, p.device)
	board, boardAt := f.table.Board, "board"
	if v != nil && v.Board != "" {
		i := slices.IndexFunc(f.table.Variants, func(w variantTable) bool { return w.Name == v.Name })
		board, boardAt = v.Board, fmt.Sprintf("variant[%d].board", i)
	}
	board = f.expandName(n, boardAt, board)
	if p.device != "" {
		p.dev, err = f.openDevice(files, p.device)
		var problems *source.Problems
		switch {
		case errors.As(err, &problems):
			for _, q := range problems.Sorted() {
				f.problems.Add(q)
			}
			p.dev = nil
		case errors.Is(err, device.ErrNotFound): // without it, nothing else can be judged
			return nil, &source.KeyError{Err: f.settings.At(deviceAt, err.Error(), "", "")}
		case err != nil:
			f.problem(deviceAt, err.Error(), "", "")
			p.dev = nil
		}
	}
	if board != "" {
		if err := p.onBoard(files, board, boardAt); err != nil {
			return nil, err
		}
	}
	p.planInputs(v)
	p.planSteps()
	p.planOutputs()
	return p, nil
}

// expandName puts the values of variables into the name of a file.
func (f *File) expandName(n *names, at, name string) string {
	name, err := n.expand(name)
	if err != nil {
		f.problem(at, err.Error(), "", "")
		return ""
	}
	return fileName(name)
}

// onBoard puts the device on a board, which may be what names it.
func (p *product) onBoard(files *source.Files, board, at string) error {
	on, err := p.openBoard(files, board)
	var problems *source.Problems
	switch {
	case errors.As(err, &problems):
		for _, q := range problems.Sorted() {
			p.problems.Add(q)
		}
	case errors.Is(err, device.ErrNoBoard):
		return &source.KeyError{Err: p.settings.At(at, err.Error(), "", "")}
	case err != nil:
		p.problem(at, err.Error(), "", "")
	case p.device != "" && (p.dev == nil || p.dev.File != on.File):
		if p.dev != nil {
			p.problem(at, fmt.Sprintf("the board has the device %s, and the release is for %s", on.Name, p.dev.Name),
				"a board of this device", "")
		}
	default:
		p.dev, p.device = on, on.File
	}
	return nil
}

// openBoard opens a board, and the map that it names, each once.
func (f *File) openBoard(files *source.Files, name string) (*device.Map, error) {
	f.devices.mu.Lock()
	defer f.devices.mu.Unlock()
	key := "board " + name
	if m, ok := f.devices.maps[key]; ok {
		return m, nil
	}
	m, err := device.OpenBoard(files, name, []string{f.folder})
	if err == nil {
		f.devices.maps[key] = m
	}
	return m, err
}

// openDevice opens a device map, each once.
func (f *File) openDevice(files *source.Files, name string) (*device.Map, error) {
	f.devices.mu.Lock()
	defer f.devices.mu.Unlock()
	if m, ok := f.devices.maps[name]; ok {
		return m, nil
	}
	m, err := device.Open(files, name, []string{f.folder})
	if err == nil {
		f.devices.maps[name] = m
	}
	return m, err
}

func (p *product) planInputs(v *variantTable) {
	seen := map[string]bool{}
	for i, table := range p.table.Inputs {
		in := &input{path: fmt.Sprintf("input[%d]", i)}
		p.set(in.path, p.flatten(in.path, table), in.keys(), p.names)
		fileAt := in.path + ".file"
		if v != nil && v.Input[in.name] != "" {
			file, err := p.names.expand(v.Input[in.name])
			if err != nil {
				p.problem(in.path, err.Error(), "", "")
				file = in.file
			}
			in.file = fileName(file)
		}
		switch {
		case !span.IsName(in.name):
			p.problem(in.path+".name", fmt.Sprintf("%q is not a name of an input", in.name), "letters, digits and _, no digit first", "")
		case seen[in.name]:
			p.problem(in.path+".name", fmt.Sprintf("two inputs are called %s", in.name), "", "")
		case in.file == "":
			p.problem(fileAt, fmt.Sprintf("the input %s has no file", in.name), "file = \"FILE\"", "")
		case in.at != "" && in.shift != "":
			p.problem(in.path+".shift", "the input has a place already", "one of at and shift", "")
		}
		if in.version != "" && in.versionAt == "" {
			p.problem(in.path+".version", "has no effect without a place", "version-at = ADDRESS", "")
		}
		seen[in.name] = true
		if in.region != "" {
			p.needRegion(in.path+".region", in.region)
		}
		p.inputs = append(p.inputs, in)
	}
	// Places may name other inputs.
	for _, in := range p.inputs {
		p.checkNames(in.path+".at", in.at)
		p.checkNames(in.path+".version-at", in.versionAt)
	}
}

func (p *product) needRegion(path, name string) {
	switch {
	case p.device == "":
		p.problem(path, "names a region of a device map, and the release has none", "device = \"MAP\"", "")
	case p.dev != nil:
		if _, err := p.dev.Find(name); err != nil {
			p.problem(path, err.Error(), "", "")
		}
	}
}

// checkNames tells of names in an expression that stand for nothing.
func (p *product) checkNames(path, text string) {
	if text == "" {
		return
	}
	if p.device != "" && p.dev == nil {
		return // the map could not be read
	}
	if p.known == nil {
		p.known = map[string]bool{"image": true}
		if p.dev != nil {
			for _, name := range p.dev.Names().Known() {
				p.known[name] = true
			}
		}
		for _, in := range p.inputs {
			if in.name != "" {
				p.known["part."+in.name] = true
			}
		}
	}
	for _, name := range span.NamesIn(text) {
		if strings.HasPrefix(name, "symbol.") {
			continue
		}
		plain, _, _ := strings.Cut(name, ".symbol.")
		for _, word := range []string{".first", ".last", ".size"} {
			plain = strings.TrimSuffix(plain, word)
		}
		if !p.known[plain] {
			p.problem(path, fmt.Sprintf("%q: unknown name %s", text, plain), "",
				source.DidYouMean(plain, slices.Sorted(maps.Keys(p.known))))
		}
	}
}

// expressions are what stands for a value that is one in help.
var expressions = []string{"SPAN", "ADDRESS"}

// checkSettings checks the names in those settings that are expressions.
func (p *product) checkSettings(list []setting, keys []*key.Key) {
	for _, s := range list {
		k := key.Find(keys, s.key)
		if k == nil || !slices.Contains(expressions, k.Value) {
			continue
		}
		if text, err := p.names.expand(s.value); err == nil {
			p.checkNames(s.path, text)
		}
	}
}

func (p *product) planSteps() {
	for i, table := range p.table.Steps {
		s := step{path: fmt.Sprintf("step[%d]", i)}
		s.line, s.secret = p.settings.Line(s.path), p.usesSecret(table)
		do, _ := table["do"].(string)
		kind := operation.KindOf(do)
		var known []string
		for _, k := range operation.Kinds {
			if k.Name != "split" {
				known = append(known, k.Name)
			}
		}
		switch {
		case do == "":
			p.problem(s.path+".do", "the step does nothing", "do = \"OPERATION\"", "known: "+strings.Join(known, ", "))
			continue
		case kind == nil || kind.Name == "split":
			p.problem(s.path+".do", fmt.Sprintf("unknown operation %s", do), "", source.DidYouMean(do, known))
			continue
		case kind.Several && len(p.steps) > 0:
			p.problem(s.path+".do", do+" lays the inputs together, and can be the first step only", "", "")
			continue
		}
		rest := maps.Clone(table)
		delete(rest, "do")
		if of, given := rest["of"]; given {
			if !p.planOf(&s, do, of) {
				continue
			}
			delete(rest, "of")
		}
		before := p.problems.Count()
		s.kind, s.list = kind, p.flatten(s.path, rest)
		op := kind.New()
		keys := op.Keys()
		later := p.set(s.path, s.list, keys, p.names)
		p.checkSettings(s.list, keys)
		if !later && p.problems.Count() == before {
			if err := op.Check(p.device != ""); err != nil {
				p.keyProblem(s.path, err)
			}
		}
		if s.of != "" {
			p.alone = append(p.alone, s)
		} else {
			p.steps = append(p.steps, s)
		}
	}
}

// ofInput are the operations that may work on one input.
var ofInput = []string{"place", "cut", "convert", "patch", "fill", "checksum"}

// planOf reads of which input a step is; ok is false where that is wrong.
func (p *product) planOf(s *step, do string, of any) (ok bool) {
	path := s.path + ".of"
	name, _ := of.(string)
	switch i := slices.IndexFunc(p.inputs, func(in *input) bool { return in.name == name }); {
	case i < 0:
		p.problem(path, fmt.Sprintf("there is no input %q", name), "", source.DidYouMean(name, p.inputNames()))
	case !slices.Contains(ofInput, do):
		p.problem(path, do+" works on the whole image", "one of "+strings.Join(ofInput, ", "), "")
	case len(p.steps) > 0:
		p.problem(path, "this step is on one input, and follows one on the whole image", "steps on inputs before all others", "")
	case do == "place" && (p.inputs[i].at != "" || p.inputs[i].shift != ""):
		p.problem(path, fmt.Sprintf("the input %s has a place already", name), "one of at, shift and this step", "")
	default:
		s.of = name
		return true
	}
	return false
}

// placedAlone reports whether a step places an input.
func (p *product) placedAlone(name string) bool {
	return slices.ContainsFunc(p.alone, func(s step) bool { return s.of == name && s.kind.Name == "place" })
}

// pictures are the endings of pictures of the map, and of the page.
var pictures = []string{".svg", ".png", ".html"}

func (p *product) planOutputs() {
	seen := map[string]bool{}
	for i, table := range p.table.Outputs {
		o := &target{path: fmt.Sprintf("output[%d]", i)}
		keys := o.keys()
		before := p.problems.Count()
		list := p.flatten(o.path, table)
		later := p.set(o.path, list, keys, p.names)
		p.checkSettings(list, keys)
		o.mistaken = p.problems.Count() > before
		at := o.path + ".file"
		switch file, given := table["file"].(string); {
		case !given || file == "":
			p.problem(at, "the output has no file", "file = \"FILE\"", "")
		case output.NameFault(o.file) != "": // first, as such a name is none of the folder on some systems
			p.problem(at, o.file+" "+output.NameFault(o.file), "another name", "")
		case o.file != "" && !filepath.IsLocal(o.file):
			p.problem(at, fmt.Sprintf("%q leaves the folder of the outputs", o.file), "a file in it, or in a folder within it", "")
		}
		if o.name != "" && seen[o.name] {
			p.problem(o.path+".name", fmt.Sprintf("two outputs are called %s", o.name), "", "")
		}
		seen[o.name] = true
		p.outputs = append(p.outputs, o)
		if later || o.file == "" {
			continue
		}
		p.chooseFormat(o)
	}
}

func (o *target) picture() bool {
	return slices.Contains(pictures, strings.ToLower(filepath.Ext(o.file)))
}

// chooseFormat finds the format of an output.
func (p *product) chooseFormat(o *target) {
	switch {
	case o.text != "":
		if len(o.settings) > 0 || o.to != "" || len(o.in) > 0 {
			p.problem(o.path+".text", "an output of a text has no other keys than file and name", "", "")
		}
		return
	case o.picture():
		if p.device == "" {
			p.problem(o.path+".file", "a picture of the map needs a device", "device = \"MAP\"", "")
		}
		return
	}
	if o.choice.Format == nil {
		o.choice = codec.ChoiceOfName(o.file)
	}
	if o.choice.Format == nil || o.choice.Format.Writer == nil {
		p.problem(o.path+".file", fmt.Sprintf("the name %s promises no format that is written", o.file), "to = \"FORMAT\"",
			"known: "+strings.Join(codec.Words(true), ", "))
		return
	}
	if o.mistaken {
		return
	}
	if _, err := o.choice.Writer(format.WriteOptions{}, o.settings); err != nil {
		p.keyProblem(o.path, err)
	}
}
