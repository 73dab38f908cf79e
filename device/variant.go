package device

import (
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"mexalt/source"
	"mexalt/source/settings"
)

// places is where what a map says stands: in one file, or in a variant's and those
// that it is based on.
type places interface {
	// Problem adds a problem with what stands at a path.
	Problem(path, what, expected, advice string)
	Has(path string) bool
	// Item returns the path of an element of a list.
	Item(path string, i int) string
	// Warn adds a warning, and Meant reports whether a key that is not known was meant
	// to be the one at a path.
	Warn(path, what, expected, advice string)
	Meant(path string) bool
}

// deepest is how many maps may be based on one another.
const deepest = 10

// decoder reads a map's file, and those that it is based on.
type decoder struct {
	problems *source.Problems
	// find finds the map that a file names as its base.
	find  func(from, base string) (file string, text []byte, err error)
	chain []string // files that are based on one another, so far
}

// decode returns what a map's file says, with what it is based on; ok is false where
// that cannot be used.
func (d *decoder) decode(name string, text []byte) (f mapFile, where places, ok bool) {
	before := d.problems.Errors()
	file := settings.Decode(name, text, &f, d.problems)
	if before += file.Unknown(); d.problems.Errors() > before {
		return f, file, false
	}
	if f.Base == "" {
		if len(f.Drop) > 0 {
			file.Problem("drop", "drop has no effect without a base", "base = \"MAP\"", "")
			return f, file, false
		}
		return f, file, true
	}
	d.chain = append(d.chain, name)
	baseName, baseText, err := d.find(name, f.Base)
	switch {
	case err != nil:
		file.Problem("base", err.Error(), "", "")
	case slices.Contains(d.chain, baseName):
		file.Problem("base", f.Base+" is based on itself", "another map", "")
	case len(d.chain) > deepest:
		file.Problem("base", fmt.Sprintf("more than %d maps are based on one another", deepest), "", "")
	default:
		base, baseWhere, ok := d.decode(baseName, baseText)
		if !ok {
			return f, file, false
		}
		o := &overlay{file: file, base: baseWhere, elements: map[string]element{}}
		before = d.problems.Errors()
		merged := o.merge(&base, &f)
		return merged, o, d.problems.Errors() == before
	}
	return f, file, false
}

// overlay is the file of a variant over what it is based on.
type overlay struct {
	file     *settings.File
	base     places
	elements map[string]element // by their paths in the whole
}

// element says where an element of a list stands: "" is not there.
type element struct{ file, base string }

// resolve returns where a path of the whole stands: in the variant's own file, or
// in what it is based on; within is the variant's own element around that.
func (o *overlay) resolve(path string) (own bool, at, within string) {
	prefix := path
	for {
		if e, ok := o.elements[prefix]; ok {
			rest := path[len(prefix):]
			key, _, _ := strings.Cut(strings.TrimPrefix(rest, "."), ".")
			key, _, _ = strings.Cut(key, "[")
			switch {
			case e.base == "" || e.file != "" && (rest == "" || o.file.Has(e.file+"."+key)):
				return true, e.file + rest, e.file
			default:
				return false, e.base + rest, e.file
			}
		}
		i := strings.LastIndexAny(prefix, ".")
		if i < 0 {
			break
		}
		prefix = prefix[:i]
	}
	key, _, _ := strings.Cut(path, ".")
	key, _, _ = strings.Cut(key, "[")
	if o.file.Has(key) || o.file.Has(key+"[0]") {
		return true, path, ""
	}
	return false, path, ""
}

// owns reports whether what stands at a path is the variant's own.
func (o *overlay) owns(path string) bool {
	own, _, _ := o.resolve(path)
	return own
}

func (o *overlay) Has(path string) bool {
	own, at, _ := o.resolve(path)
	if own {
		return o.file.Has(at)
	}
	return o.base.Has(at)
}

func (o *overlay) Item(path string, i int) string {
	item := fmt.Sprintf("%s[%d]", path, i)
	if i == 0 && !o.Has(item) && o.Has(path) {
		return path
	}
	return item
}

// Problem tells of a problem in the variant's file: where it says something itself,
// else where it says what it is based on.
func (o *overlay) Problem(path, what, expected, advice string) {
	own, at, within := o.resolve(path)
	if own {
		o.file.Problem(at, what, expected, advice)
		return
	}
	if within == "" {
		within = "base"
	}
	o.file.Problem(within, fmt.Sprintf("%s, as %s has it", what, whereOf(o.base, at)), expected, advice)
}

// Warn adds a warning where something stands; what the base says itself was told with
// that.
func (o *overlay) Warn(path, what, expected, advice string) {
	if own, at, _ := o.resolve(path); own {
		o.file.Warn(at, what, expected, advice)
	}
}

// Meant reports whether a key that is not known was meant to be the one at a path.
func (o *overlay) Meant(path string) bool {
	own, at, _ := o.resolve(path)
	if own {
		return o.file.Meant(at)
	}
	return o.base.Meant(at)
}

// whereOf names the place of what stands at a path.
func whereOf(p places, path string) string {
	switch p := p.(type) {
	case *settings.File:
		at := p.At(path, "", "", "")
		if at.Line == 0 {
			return at.File
		}
		return fmt.Sprintf("%s:%d", at.File, at.Line)
	case *overlay:
		if own, at, _ := p.resolve(path); own {
			return whereOf(p.file, at)
		} else {
			return whereOf(p.base, at)
		}
	}
	return "its base"
}

// merge puts what a variant says over its base: single keys take their place, and
// elements of lists those of the same name.
func (o *overlay) merge(base, own *mapFile) mapFile {
	out := *base
	o.dropped(&out, own)
	over(&out, own, func(key string) bool { return o.file.Has(key) }, "memory", "region", "checksum", "config", "group", "start", "port",
		"wish", "speed")
	if len(own.Starts) > 0 {
		out.Starts = own.Starts
	}
	if len(own.Speeds) > 0 {
		out.Speeds = own.Speeds
	}
	out.Memories = mergeList(o, "memory", out.Memories, own.Memories, func(m *memoryFile) string { return m.Name }, nil)
	out.Regions = mergeList(
		o,
		"region",
		out.Regions,
		own.Regions,
		func(r *regionFile) string { return r.Name },
		func(into, own *regionFile, _, _, _ string) {
			if own.given() == 2 { // the two say all
				into.First, into.Size, into.Last = own.First, own.Size, own.Last
			}
		},
	)
	out.Checksums = mergeList(o, "checksum", out.Checksums, own.Checksums, func(c *checksumFile) string { return c.Name }, nil)
	out.Groups = mergeList(o, "group", out.Groups, own.Groups, func(g *groupFile) string { return g.Name }, nil)
	out.Ports = mergeList(o, "port", out.Ports, own.Ports, func(p *portFile) string { return p.Name }, nil)
	out.Wishes = mergeList(o, "wish", out.Wishes, own.Wishes, func(w *wishFile) string { return w.Name }, nil)
	out.Config = mergeList(o, "config", out.Config, own.Config, func(w *wordFile) string { return w.Name }, o.fields)
	return out
}

// fields puts the fields of a variant's word in the place of those of the same name.
func (o *overlay) fields(into, own *wordFile, path, ownPath, basePath string) {
	var fields []fieldFile
	for i, f := range into.Fields {
		at := fmt.Sprintf("%s.field[%d]", path, len(fields))
		j := slices.IndexFunc(own.Fields, func(g fieldFile) bool { return g.Name == f.Name })
		if j >= 0 {
			f = own.Fields[j]
			o.elements[at] = element{file: fmt.Sprintf("%s.field[%d]", ownPath, j)}
		} else {
			o.elements[at] = element{base: fmt.Sprintf("%s.field[%d]", basePath, i)}
		}
		fields = append(fields, f)
	}
	for j, f := range own.Fields {
		if !slices.ContainsFunc(into.Fields, func(g fieldFile) bool { return g.Name == f.Name }) {
			o.elements[fmt.Sprintf("%s.field[%d]", path, len(fields))] = element{file: fmt.Sprintf("%s.field[%d]", ownPath, j)}
			fields = append(fields, f)
		}
	}
	into.Fields = fields
}

// mergeList puts the elements of a variant's list over those of the same name, and
// the others behind. What was dropped from the base has no name any more.
func mergeList[T any](
	o *overlay,
	key string,
	base, own []T,
	name func(*T) string,
	more func(into, own *T, path, ownPath, basePath string),
) (list []T) {
	used := map[int]bool{}
	byName := map[string]int{}
	for j := range own {
		if _, twice := byName[name(&own[j])]; !twice {
			byName[name(&own[j])] = j
		}
	}
	for i := range base {
		e := base[i]
		if name(&e) == droppedName {
			continue
		}
		path, basePath := fmt.Sprintf("%s[%d]", key, len(list)), fmt.Sprintf("%s[%d]", key, i)
		where := element{base: basePath}
		if j, ok := byName[name(&e)]; ok && name(&e) != "" {
			used[j] = true
			where.file = fmt.Sprintf("%s[%d]", key, j)
			over(&e, &own[j], func(key string) bool { return o.file.Has(where.file + "." + key) }, "field")
			if more != nil {
				more(&e, &own[j], path, where.file, basePath)
			}
		}
		o.elements[path] = where
		list = append(list, e)
	}
	for j := range own {
		if !used[j] {
			o.elements[fmt.Sprintf("%s[%d]", key, len(list))] = element{file: fmt.Sprintf("%s[%d]", key, j)}
			list = append(list, own[j])
		}
	}
	return list
}

// over copies the keys that are given, but some.
func over(into, own any, given func(key string) bool, but ...string) {
	to, from := reflect.ValueOf(into).Elem(), reflect.ValueOf(own).Elem()
	for i := range to.NumField() {
		if key := to.Type().Field(i).Tag.Get("toml"); !slices.Contains(but, key) && given(key) {
			to.Field(i).Set(from.Field(i))
		}
	}
}

// droppedName is the name of what is dropped: no name can be it.
const droppedName = "\x00"

// dropped takes away what a variant does not have.
func (o *overlay) dropped(out, own *mapFile) {
	out.Memories, out.Regions, out.Checksums = slices.Clone(out.Memories), slices.Clone(out.Regions), slices.Clone(out.Checksums)
	out.Config, out.Groups = slices.Clone(out.Config), slices.Clone(out.Groups)
	out.Ports, out.Wishes = slices.Clone(out.Ports), slices.Clone(out.Wishes)
	for i, name := range own.Drop {
		found := false
		drop := func(n *string) {
			if *n == name {
				*n, found = droppedName, true
			}
		}
		for j := range out.Memories {
			drop(&out.Memories[j].Name)
		}
		for j := range out.Regions {
			drop(&out.Regions[j].Name)
		}
		for j := range out.Checksums {
			drop(&out.Checksums[j].Name)
		}
		for j := range out.Config {
			drop(&out.Config[j].Name)
		}
		for j := range out.Groups {
			drop(&out.Groups[j].Name)
		}
		for j := range out.Ports {
			drop(&out.Ports[j].Name)
		}
		for j := range out.Wishes {
			drop(&out.Wishes[j].Name)
		}
		if !found {
			o.file.Problem(o.file.Item("drop", i), fmt.Sprintf("%s has no %s that could be dropped", own.Base, name), "", "")
		}
	}
}

// Load reads a map from the text of its file. What it is based on must be among the
// maps that are shipped. Problems are added to the list; where that then holds an
// error, the map must not be used.
func Load(name string, text []byte, problems *source.Problems) *Map {
	return loadWith(name, text, problems, func(_, base string) (string, []byte, error) { return Find(&source.Files{}, base, nil) })
}

func loadWith(name string, text []byte, problems *source.Problems, find func(from, base string) (string, []byte, error)) *Map {
	d := &decoder{problems: problems, find: find}
	f, where, ok := d.decode(name, text)
	if !ok {
		return &Map{Name: f.Name, File: name}
	}
	return build(name, f, where, false)
}

// Open finds a map and loads it, with what it is based on. What is wrong with it is
// returned as [source.Problems].
func Open(files *source.Files, name string, folders []string) (*Map, error) {
	file, text, err := Find(files, name, folders)
	if err != nil {
		return nil, err
	}
	var problems source.Problems
	m := loadWith(file, text, &problems, func(from, base string) (string, []byte, error) {
		folder := filepath.Dir(from)
		if strings.HasSuffix(base, ".toml") && !filepath.IsAbs(base) {
			base = filepath.Join(folder, base)
		}
		return Find(files, base, append([]string{folder}, folders...))
	})
	for _, p := range problems.Sorted() {
		if p.Severity == source.Warning {
			m.Warnings = append(m.Warnings, p)
		}
	}
	return m, problems.Err()
}
