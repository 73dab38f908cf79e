// Package inventory tells the files of a folder apart: what each is in terms of the device
// maps there are, what belongs together, and what contradicts.
package inventory

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/survey"
)

// File is what is known of a file.
type File struct {
	Name   string
	Size   int64
	Format string // of an image, or the kind of file
	// What says what it is: a program for a region, a whole image, a read-back, no firmware.
	What    string
	Device  string   // the map that it fits; "" is none, or that it has no addresses
	Bytes   uint64   // of the image
	Version string   // a text in it that looks like a version
	Notes   []string // what it has to do with the other files
	Bad     string   // why it cannot be read; "" is that it can

	image   *memory.Image // nil is of no firmware
	placed  bool          // the image has addresses
	program bool          // an ELF file
	changed time.Time
	sum     string // SHA-256 of the file
	kept    bool   // a manifest or a log has it as it is, as an output or an input
	output  bool   // as an output
	fits    []knownMap
	holds   *device.Map // the first of these, as it is for the image
	regions []string    // that it has bytes in
}

// Contradiction is what cannot be right of some files.
type Contradiction struct {
	Files []string
	What  string
}

// Inventory is the files, and what contradicts.
type Inventory struct {
	Files          []File
	Contradictions []Contradiction
	Maps           []string // against which they were held
}

// Sound reports whether nothing contradicts and every file can be read.
func (v *Inventory) Sound() bool {
	return len(v.Contradictions) == 0 && !slices.ContainsFunc(v.Files, func(f File) bool { return f.Bad != "" })
}

// Names returns the files that arguments name: files, and those in folders; not those in
// folders in them, nor hidden ones.
func Names(arguments []string) (list []string, err error) {
	for _, name := range arguments {
		info, err := os.Stat(name)
		switch {
		case err != nil:
			return nil, &source.SystemError{File: name, Doing: "read", Err: err}
		case !info.IsDir():
			list = append(list, name)
			continue
		}
		entries, err := os.ReadDir(name)
		if err != nil {
			return nil, &source.SystemError{File: name, Doing: "read", Err: err}
		}
		for _, e := range entries {
			path := filepath.Join(name, e.Name())
			if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && !strings.HasPrefix(e.Name(), ".") {
				list = append(list, filepath.ToSlash(path)) // as manifests name files
			}
		}
	}
	return list, nil
}

// Of looks at files. The maps are those that images are held against; manifests and logs of
// units are taken from the files.
func Of(ctx context.Context, names []string, maps iter.Seq2[string, *device.Map]) (*Inventory, error) {
	v := &Inventory{}
	var known []knownMap
	for name, m := range maps {
		known = append(known, knownMap{name, m})
		v.Maps = append(v.Maps, name)
	}
	for _, name := range names {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		f := look(name)
		f.classify(known)
		v.Files = append(v.Files, f)
	}
	v.fromManifests()
	v.byOthers()
	v.fromUnits()
	v.twins()
	v.programs()
	v.rivals()
	slices.SortStableFunc(v.Files, func(a, b File) int {
		none := func(f *File) int {
			if f.What == "no firmware" {
				return 1
			}
			return 0
		}
		return none(&a) - none(&b)
	})
	return v, nil
}

type knownMap struct {
	name string
	*device.Map
}

// kinds are files that are no firmware, by how they begin.
var kinds = []struct{ magic, name string }{
	{"\x89PNG\r\n", "picture"},
	{"\xFF\xD8\xFF", "picture"},
	{"GIF8", "picture"},
	{"PK\x03\x04", "archive"},
	{"\x1F\x8B", "archive"},
	{"BZh", "archive"},
	{"\xFD7zXZ", "archive"},
	{"7z\xBC\xAF", "archive"},
	{"%PDF-", "document"},
	{"MZ", "program for a computer"},
	{"!<arch>", "library of objects"},
}

// ours are files of this tool, by how their names end.
var ours = []struct{ ending, name string }{
	{proof.BatchExtension, "manifest of units"},
	{proof.Extension, "manifest"},
	{proof.Extension + ".dsse", "signature"},
	{proof.LogExtension, "log of units"},
	{device.Extension, "device map"},
	{".release.toml", "release file"},
	{".plan.toml", "plan of a rehearsal"},
	{".provenance.json", "provenance"},
	{".bom.json", "bill of materials"},
}

// look reads a file.
func look(name string) (f File) {
	f = File{Name: name}
	bad := func(err error) File {
		f.Bad = err.Error()
		return f
	}
	if info, err := os.Stat(name); err == nil {
		f.Size, f.changed = info.Size(), info.ModTime()
	}
	_, sum, err := proof.FileDigest(name)
	if err != nil {
		return bad(err)
	}
	f.sum = sum
	for _, k := range ours {
		if strings.HasSuffix(name, k.ending) {
			f.Format = k.name
			return f
		}
	}
	file, err := os.Open(name)
	if err != nil {
		return bad(&source.SystemError{File: name, Doing: "read", Err: err})
	}
	defer file.Close()
	var begin [64]byte
	n, _ := file.ReadAt(begin[:], 0)
	for _, k := range kinds {
		if bytes.HasPrefix(begin[:n], []byte(k.magic)) {
			f.Format = k.name
			return f
		}
	}
	var problems source.Problems
	read, err := codec.Read(file, name, f.Size, codec.ReadOptions{Cores: runtime.GOMAXPROCS(0)}, &problems)
	switch {
	case err != nil:
		return bad(err)
	case read.Format == nil && read.Text != "":
		f.Format = read.Text
		return f
	case read.Format != nil:
		f.Format = read.Format.Name
	}
	if err := problems.Err(); err != nil || read.Image == nil {
		f.What = "damaged"
		if list := problems.Sorted(); len(list) > 0 {
			f.Bad = list[0].What
			if more := len(list) - 1; more > 0 {
				f.Bad += fmt.Sprintf(", and %s more", memory.FormatNumber(more, "problem"))
			}
		}
		return f
	}
	f.image, f.placed, f.program = read.Image, !read.Format.Unplaced, read.Program != nil
	f.Bytes = f.image.Bytes()
	if texts := survey.Versions(f.image, 2); len(texts) > 0 {
		f.Version = texts[0].Text
		if len(texts) > 1 {
			f.Version += "; " + texts[1].Text
		}
	}
	return f
}

// classify says what an image is in terms of the maps.
func (f *File) classify(maps []knownMap) {
	if f.image == nil {
		if f.What == "" {
			f.What = "no firmware"
		}
		return
	}
	if f.image.Empty() {
		f.What = "contains no bytes"
		return
	}
	if !f.placed {
		f.unplaced(maps)
		return
	}
	var best []int // which it fits; of these those in whose regions most of it lies
	most := uint64(0)
	for i, m := range maps {
		within, count := true, uint64(0)
		for _, run := range f.image.Runs() {
			within = within && memory.SizeOf(memory.Intersect([]memory.Span{run.Span()}, spansOf(m.Map))) == run.Span().Size()
		}
		for k := range m.Regions {
			count += f.image.Count(m.Regions[k].Span)
		}
		switch {
		case !within || len(best) > 0 && count < most:
		case len(best) > 0 && count == most:
			best = append(best, i)
		default:
			best, most = []int{i}, count
		}
	}
	if len(best) == 0 {
		f.What = "firmware"
		if len(maps) > 0 {
			f.What = "firmware for none of the devices"
		}
		return
	}
	for _, i := range best {
		f.fits = append(f.fits, maps[i])
	}
	f.of(f.fits)
}

// or stands between the maps that an image fits.
const or = ", or "

// of says what an image is in terms of the maps that it fits.
func (f *File) of(maps []knownMap) {
	var names []string
	for _, m := range maps {
		names = append(names, m.name)
	}
	f.Device = strings.Join(names, or)
	f.holds, _ = maps[0].For(f.image)
	f.What = f.inMap(f.holds)
}

func spansOf(m *device.Map) (list []memory.Span) {
	for i := range m.Memories {
		list = append(list, m.Memories[i].Span)
	}
	return memory.Union(list)
}

// inMap says what an image is by the regions in which it has bytes that are not erased.
func (f *File) inMap(m *device.Map) string {
	roles := map[device.Role][]string{}
	f.regions = nil
	crossed := crossing(m, f)
	words := 0
	for i := range m.Config {
		if _, ok := m.Config[i].In(f.image); ok {
			words += m.Config[i].Width
		}
	}
	for i := range m.Regions {
		r := &m.Regions[i]
		if f.hasBytes(m, r.Span) && r.Name != crossed {
			roles[r.Role] = append(roles[r.Role], r.Name)
			f.regions = append(f.regions, r.Name)
		}
	}
	for i := range m.Memories {
		if mem := &m.Memories[i]; mem.Programmable() && len(m.Regions) > 0 && f.image.Count(mem.Span) == mem.Span.Size() &&
			mem.Span.Size() > uint64(words) {
			return "read-back, or a filled image, of all of " + mem.Name
		}
	}
	list := func(names []string) string {
		text := strings.Join(names, ", ")
		if crossed != "" {
			text += ", that runs into " + crossed
		}
		return text
	}
	loader, programs, data := roles[device.Bootloader], roles[device.Application], roles[device.Data]
	switch {
	case words > 0 && f.Bytes == uint64(words):
		return "configuration words only"
	case len(f.regions) == 0 && len(m.Regions) > 0:
		return "erased bytes only, or in no region"
	case len(f.regions) == 0:
		return "firmware"
	case len(loader) > 0 && len(programs) > 0:
		return "whole image: " + list(f.regions)
	case len(loader) > 0 && len(f.regions) == len(loader):
		return "loader for " + list(loader)
	case len(programs) > 0 && len(f.regions) == len(programs):
		return "program for " + list(programs)
	case len(data) == len(f.regions):
		return "data for " + list(data)
	}
	return "for " + list(f.regions)
}

// crossing returns the region into which a program runs that is meant for the one before it, as
// far as that shows; "" is none.
func crossing(m *device.Map, f *File) string {
	for _, found := range check.Run(m, []check.Part{{Name: f.Name, Image: f.image}}, check.Options{}).Findings {
		if found.Rule == "crosses-border" && found.Severity == source.Error {
			return found.Region
		}
	}
	return ""
}

// hasBytes reports whether an image has bytes in a span that are not erased.
func (f *File) hasBytes(m *device.Map, s memory.Span) bool {
	for run := range f.image.In(s) {
		for i, b := range run.Data {
			if b != m.ErasedAt(run.First+uint64(i)) {
				return true
			}
		}
	}
	return false
}

// unplaced says for what raw bytes may be.
func (f *File) unplaced(maps []knownMap) {
	f.What = "raw bytes"
	var whole, named []string
	for _, m := range maps {
		for i := range m.Memories {
			if mem := &m.Memories[i]; mem.Programmable() && mem.Span.Size() == f.Bytes {
				whole = append(whole, fmt.Sprintf("%s of %s", mem.Name, m.name))
			}
		}
		if places := check.Places(m.Map, f.Name, f.Bytes); len(places) == 1 &&
			strings.Contains(strings.ToLower(filepath.Base(f.Name)), strings.ToLower(places[0])) {
			named = append(named, fmt.Sprintf("%s of %s", places[0], m.name))
		}
	}
	const few = 2
	switch {
	case len(named) > 0:
		f.What = "raw bytes, by its name for " + strings.Join(named[:min(few, len(named))], ", or ")
	case len(whole) > 0:
		f.What = "raw bytes, by its size a read-back of " + strings.Join(whole[:min(few, len(whole))], ", or ")
	}
}

// fromManifests notes which files manifests know, and what was changed since.
func (v *Inventory) fromManifests() {
	var manifests []string
	for i := range v.Files {
		if v.Files[i].Format == "manifest" {
			manifests = append(manifests, v.Files[i].Name)
		}
	}
	for _, name := range manifests {
		m, err := proof.Load(&source.Files{}, name)
		if err != nil {
			v.named(name).Bad = err.Error()
			continue
		}
		base := filepath.Base(name)
		for i := range m.Products {
			p := &m.Products[i]
			v.decide(p)
			what := m.Name
			if version := p.Set["version"]; version != "" {
				what += " " + version
			}
			if p.Variant != "" {
				what += ", " + p.Variant
			}
			for k := range p.Outputs {
				v.recorded(name, p.Outputs[k].File, p.Outputs[k].SHA256, "output of "+what+" ("+base+")",
					"is not as "+base+" has it as an output", true)
			}
		}
		for _, r := range m.Read {
			if r.Role == device.ShippedRole {
				continue
			}
			v.recorded(name, r.File, r.SHA256, "read by "+m.Name+" ("+base+")", "is not as the release of "+base+" read it", false)
		}
	}
	for i := range v.Files {
		f := &v.Files[i]
		if f.image == nil || f.kept {
			continue
		}
		matched := proof.Match(f.image, f.sum, !f.placed, manifests)
		if len(matched.Candidates) == 0 {
			continue
		}
		switch best := &matched.Candidates[0]; {
		case matched.Exact():
			var names []string
			for i := range matched.Candidates {
				names = append(names, matched.Candidates[i].Name())
			}
			f.Notes = append(f.Notes, "contents of "+strings.Join(names, ", or "))
		case matched.Torn != nil:
			f.Notes = append(f.Notes,
				fmt.Sprintf("torn: %s below %s, %s from there on", matched.Torn.Below.Name(), memory.FormatAddress(matched.Torn.At),
					matched.Torn.From.Name()))
		case best.Part():
			f.Notes = append(f.Notes, "a part of "+best.Name())
		case best.Differ == 0:
			f.Notes = append(f.Notes, fmt.Sprintf("%s of %s, and %s more", memory.FormatBytes(best.Equal), best.Name(),
				memory.FormatBytes(memory.SizeOf(best.Other))))
		case !best.Little():
			f.Notes = append(f.Notes, fmt.Sprintf("nearest to %s: %s in blocks that differ", best.Name(), memory.FormatBytes(best.Differ)))
		}
	}
}

// decide decides for the files of a product for which of several devices they are.
func (v *Inventory) decide(p *proof.Product) {
	for i := range v.Files {
		f := &v.Files[i]
		of := func(name string) bool { return filepath.Base(name) == filepath.Base(f.Name) }
		if len(f.fits) < 2 || !slices.ContainsFunc(p.Inputs, func(in proof.Input) bool { return of(in.File) }) &&
			!slices.ContainsFunc(p.Outputs, func(o proof.Output) bool { return of(o.File) }) {
			continue
		}
		if k := slices.IndexFunc(f.fits, func(m knownMap) bool { return m.Name == p.Device }); k >= 0 {
			f.of(f.fits[k : k+1])
		}
	}
}

// byOthers decides by the other files for which of several devices a file is, where they are
// for one of these alone.
func (v *Inventory) byOthers() {
	sure := map[string]bool{}
	for i := range v.Files {
		if f := &v.Files[i]; f.holds != nil && !strings.Contains(f.Device, or) {
			sure[f.Device] = true
		}
	}
	for i := range v.Files {
		f := &v.Files[i]
		if !strings.Contains(f.Device, or) {
			continue
		}
		var left []knownMap
		for _, m := range f.fits {
			if sure[m.name] {
				left = append(left, m)
			}
		}
		if len(left) == 1 {
			f.of(left)
		}
	}
}

// recorded notes that a manifest has a file.
func (v *Inventory) recorded(manifest, file, sum, as, otherwise string, output bool) {
	path := filepath.Join(filepath.Dir(manifest), filepath.FromSlash(file))
	for i := range v.Files {
		f := &v.Files[i]
		switch {
		case f.sum == sum:
			if !slices.Contains(f.Notes, as) {
				f.Notes = append(f.Notes, as)
			}
			f.kept, f.output = true, f.output || output
		case filepath.Clean(f.Name) == filepath.Clean(path):
			v.contradict(otherwise, f.Name)
		}
	}
}

// contradict adds what contradicts, once.
func (v *Inventory) contradict(what string, files ...string) {
	c := Contradiction{files, what}
	if !slices.ContainsFunc(v.Contradictions, func(o Contradiction) bool { return o.What == what && slices.Equal(o.Files, files) }) {
		v.Contradictions = append(v.Contradictions, c)
	}
}

func (v *Inventory) named(name string) *File {
	return &v.Files[slices.IndexFunc(v.Files, func(f File) bool { return f.Name == name })]
}

// fromUnits notes which files were made for units.
func (v *Inventory) fromUnits() {
	var names []string
	for _, format := range []string{"log of units", "manifest of units"} { // which says the same, and proves it
		for i := range v.Files {
			if v.Files[i].Format == format {
				names = append(names, v.Files[i].Name)
			}
		}
	}
	outputs := proof.OutputsIn(names)
	for i := range v.Files {
		f := &v.Files[i]
		if u, ok := outputs[f.sum]; ok {
			f.Notes = append(f.Notes, fmt.Sprintf("unit %d (%s) of %s", u.Row, u.SetsText(), filepath.Base(u.In)))
			f.kept, f.output = true, true
		}
	}
}

// images returns the files that have an image that is not empty.
func (v *Inventory) images() (list []*File) {
	for i := range v.Files {
		if f := &v.Files[i]; f.image != nil && !f.image.Empty() {
			list = append(list, f)
		}
	}
	return list
}

func stem(name string) string {
	base := filepath.Base(name)
	return strings.TrimSuffix(base, filepath.Ext(base))
}

// twins notes files with the same contents, and contradicts such of the same name with others.
func (v *Inventory) twins() {
	images := v.images()
	digests := make([][32]byte, len(images))
	for i, f := range images {
		digests[i] = f.image.Digest()
	}
	for i, f := range images {
		var same []string
		for k, o := range images {
			switch {
			case i == k || f.placed != o.placed:
			case digests[i] == digests[k]:
				same = append(same, filepath.Base(o.Name))
			case k > i && stem(f.Name) == stem(o.Name) && f.placed && !f.program && !o.program:
				if n := differing(f.image, o.image); n > 0 {
					v.contradict(fmt.Sprintf("have the same name and other contents: %s differ", memory.FormatBytes(n)), f.Name, o.Name)
				}
			}
		}
		const few = 3
		if more := len(same) - few; more > 0 {
			same = append(same[:few], fmt.Sprintf("%d more", more))
		}
		if len(same) > 0 {
			f.Notes = append(f.Notes, "the same contents as "+strings.Join(same, ", "))
		}
	}
}

// differing counts the bytes that both images have, and that are not the same.
func differing(a, b *memory.Image) uint64 {
	return uint64(survey.Compare(a, b, nil).Differ)
}

// programs notes from which ELF file an image was made, and contradicts where it is older than
// that, or another.
func (v *Inventory) programs() {
	images := v.images()
	for _, f := range images {
		if f.program || !f.placed {
			continue
		}
		var made bool
		var rebuilt, alike *File // of the same name, and of others
		for _, p := range images {
			if !p.program {
				continue
			}
			c := survey.Compare(p.image, f.image, nil)
			switch all := p.image.Bytes(); {
			case c.Equal == all && all > 0:
				if c.OnlySecond > 0 { // or it is a twin
					f.Notes = append(f.Notes, "contains "+filepath.Base(p.Name))
				}
				made = true
			case c.Differ == 0 && (stem(f.Name) == stem(p.Name) && c.Equal > 0 || 2*c.Equal > all):
				f.Notes = append(f.Notes, fmt.Sprintf("%s of the %s of %s",
					memory.FormatCount(c.Equal), memory.FormatBytes(all), filepath.Base(p.Name)))
				if stem(f.Name) == stem(p.Name) && f.changed.Before(p.changed) && !f.kept { // of a build that was shorter
					v.contradict(fmt.Sprintf("is older than %s, and lacks %s of it", filepath.Base(p.Name),
						memory.FormatBytes(all-c.Equal)), f.Name)
				}
			case stem(f.Name) == stem(p.Name) && c.Differ > 0:
				rebuilt = p
			case 2*(c.Equal+c.Differ) > all && 4*c.Equal > all && alike == nil:
				alike = p
			}
		}
		if rebuilt == nil && !made {
			rebuilt = alike
		}
		if rebuilt != nil && !f.kept {
			how := "is of another build than"
			if f.changed.Before(rebuilt.changed) {
				how = "is older than"
			}
			v.contradict(fmt.Sprintf("%s %s, and has other bytes at its addresses", how, filepath.Base(rebuilt.Name)), f.Name)
		}
	}
}

// rivals contradicts files of which each is a program for the same region, with other bytes.
func (v *Inventory) rivals() {
	groups := map[string][]*File{}
	var order []string
	files := v.images()
	slices.SortStableFunc(files, func(a, b *File) int { // those that a release knows are named before copies
		switch {
		case a.kept == b.kept:
			return 0
		case a.kept:
			return -1
		}
		return 1
	})
	for _, f := range files {
		if f.holds == nil || f.output || !strings.HasPrefix(f.What, "program for ") && !strings.HasPrefix(f.What, "loader for ") {
			continue
		}
		what, _, _ := strings.Cut(f.What, ", that runs into")
		key := what + " of " + f.Device
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], f)
	}
	for _, key := range order {
		const most = 12    // of which each is held against all others
		var others []*File // of each contents the first
		for _, f := range groups[key] {
			if len(others) < most && !slices.ContainsFunc(others, func(o *File) bool { return differing(o.image, f.image) == 0 }) {
				others = append(others, f)
			}
		}
		if len(others) < 2 {
			continue
		}
		var names, versions []string
		for _, f := range others {
			names = append(names, f.Name)
			versions = append(versions, cmp.Or(f.Version, "no version"))
		}
		v.contradict(fmt.Sprintf("are each a %s, with other bytes (%s)", key, strings.Join(versions, "; ")), names...)
	}
}
