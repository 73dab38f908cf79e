// Package release reads release files and runs them: the recipe by which the
// inputs of a firmware become the files that ship, checked against the device's
// map, for one product, its variants and every unit.
//
// A run reads all inputs, makes each product's image, checks it, and writes all
// files together, or none.
package release

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
	"mexalt/source/settings"
	"mexalt/span"
)

// Extension ends the name of every release file.
const Extension = ".release.toml"

// MostBytes is how large a release file may be, 4 MiB.
const MostBytes = 4 << 20

// fileTable is a release file as TOML. The tables of inputs, steps and outputs
// have the keys of what they set.
type fileTable struct {
	Name     string                         `toml:"name"`
	Device   string                         `toml:"device"`
	Board    string                         `toml:"board"`
	Set      map[string]settings.Expression `toml:"set"`
	Unique   []string                       `toml:"unique"`
	Secret   []string                       `toml:"secret"`
	Inputs   []map[string]any               `toml:"input"`
	Steps    []map[string]any               `toml:"step"`
	Check    checkTable                     `toml:"check"`
	Outputs  []map[string]any               `toml:"output"`
	Variants []variantTable                 `toml:"variant"`
}

type checkTable struct {
	Accept []string `toml:"accept"`
}

type variantTable struct {
	Name   string                         `toml:"name"`
	Device string                         `toml:"device"`
	Board  string                         `toml:"board"`
	Set    map[string]settings.Expression `toml:"set"`
	Input  map[string]string              `toml:"input"` // other files, by the inputs' names
}

// File is a release file that was read.
type File struct {
	Name   string // of the file
	Title  string // of what it makes
	Unique []string

	folder   string
	digest   string // the beginning of its SHA-256
	devices  *devices
	table    fileTable
	settings *settings.File
	problems *source.Problems
}

// devices are the maps that were opened.
type devices struct {
	mu   sync.Mutex
	maps map[string]*device.Map
}

// Load reads a release file. What is no TOML, or not of the right types, is
// returned as [source.Problems]; all else that is wrong with it is told by
// [File.Run], together.
func Load(files *source.Files, name string) (*File, error) {
	text, err := files.ReadAll(name, "release file", MostBytes)
	if errors.Is(err, fs.ErrNotExist) && source.Exists(name+Extension) {
		return nil, &source.SystemError{File: name, Doing: "read", Err: fmt.Errorf("no such file; did you mean %s?", name+Extension)}
	}
	if err != nil {
		return nil, err
	}
	f := &File{Name: name, folder: filepath.Dir(name), devices: &devices{maps: map[string]*device.Map{}}, problems: &source.Problems{}}
	if name == "-" {
		f.Name, f.folder = source.StandardInput, "."
	}
	if what := source.WhatIs(text); what != "" && what != "TOML" {
		p := &source.Problem{File: name, What: "this is " + what, Expected: "a release file, NAME" + Extension}
		if what == "a manifest" {
			p.Advice = source.Advise("a manifest is confirmed, not run")
		}
		return nil, p
	}
	sum := sha256.Sum256(text)
	f.digest = hex.EncodeToString(sum[:8])
	f.settings = settings.Decode(f.Name, text, &f.table, f.problems)
	if err := f.problems.Err(); err != nil {
		return nil, err
	}
	f.Title, f.Unique = f.table.Name, f.table.Unique
	f.keepHex("", f.table.Set)
	for i, v := range f.table.Variants {
		f.keepHex(fmt.Sprintf("variant[%d].", i), v.Set)
	}
	f.observe()
	return f, nil
}

// keepHex gives variables of a table that are hex numbers the text that the file has: in
// decimal, they would be other bytes where bytes are wanted.
func (f *File) keepHex(path string, set map[string]settings.Expression) {
	for name := range set {
		if text := f.settings.Number(path + "set." + name); strings.HasPrefix(text, "0x") {
			set[name] = settings.Expression(text)
		}
	}
}

// VariantNames returns the names of the variants, in their order.
func (f *File) VariantNames() (names []string) {
	for _, v := range f.table.Variants {
		names = append(names, v.Name)
	}
	return names
}

// VariableNames returns the names of the variables, sorted.
func (f *File) VariableNames() []string { return slices.Sorted(maps.Keys(f.table.Set)) }

func (f *File) problem(path, what, expected, advice string) {
	f.settings.Problem(path, what, expected, advice)
}

// observe finds what is wrong whatever the sets are.
func (f *File) observe() {
	t := &f.table
	if t.Name == "" {
		f.problem("name", "the release has no name", "name = \"PRODUCT\"", "")
	}
	if len(t.Inputs) == 0 {
		f.problem("input", "the release has no input", "[[input]]", "")
	}
	if len(t.Outputs) == 0 {
		f.problem("output", "the release has no output", "[[output]]", "")
	}
	for _, name := range slices.Sorted(maps.Keys(t.Set)) {
		f.setName("set."+name, name)
	}
	seen := map[string]bool{}
	for i, v := range t.Variants {
		path := fmt.Sprintf("variant[%d]", i)
		switch {
		case !span.IsName(v.Name):
			f.problem(path+".name", fmt.Sprintf("%q is not a name of a variant", v.Name), "letters, digits and _, no digit first", "")
		case seen[v.Name]:
			f.problem(path+".name", fmt.Sprintf("two variants are called %s", v.Name), "", "")
		}
		seen[v.Name] = true
		for _, name := range slices.Sorted(maps.Keys(v.Set)) {
			if _, ok := t.Set[name]; !ok {
				f.problem(path+".set."+name, fmt.Sprintf("%s is not a variable of [set]", name), "",
					source.DidYouMean(name, slices.Sorted(maps.Keys(t.Set))))
			}
		}
		for _, name := range slices.Sorted(maps.Keys(v.Input)) {
			if known := f.inputNames(); !slices.Contains(known, name) {
				f.problem(path+".input."+name, fmt.Sprintf("unknown input %s", name), "", source.DidYouMean(name, known))
			}
		}
	}
	for i, name := range t.Unique {
		if _, ok := t.Set[name]; !ok {
			f.problem(fmt.Sprintf("unique[%d]", i), fmt.Sprintf("%s is not a variable of [set]", name), "",
				source.DidYouMean(name, slices.Sorted(maps.Keys(t.Set))))
		}
	}
	if err := check.CheckAccept(t.Check.Accept); err != nil {
		f.keyProblem("check", err)
	}
	for i, text := range t.Check.Accept {
		if rule, _, _ := strings.Cut(text, ":"); t.Device+t.Board == "" && !slices.Contains(source.Doubts, rule) {
			f.problem(fmt.Sprintf("check.accept[%d]", i), text+" has no effect without a device", "device = \"MAP\"", "")
		}
	}
	f.observeSecrets()
	f.unused()
}

// setName tells of names that sets cannot have.
func (f *File) setName(path, name string) {
	switch {
	case !span.IsName(name):
		f.problem(path, fmt.Sprintf("%q is not a name of a variable", name), "letters, digits and _, no digit first", "")
	case slices.Contains(builtIn, name):
		f.problem(path, name+" is built in and cannot be changed", "", "")
	}
}

// builtIn are the sets that every release has.
var builtIn = []string{"name", "variant"}

func (f *File) inputNames() []string {
	var list []string
	for _, in := range f.table.Inputs {
		if name, ok := in["name"].(string); ok {
			list = append(list, name)
		}
	}
	return list
}

// unused tells of sets that nothing uses.
func (f *File) unused() {
	n := &names{values: map[string]string{}, used: map[string]bool{}}
	for _, name := range slices.Concat(builtIn, slices.Collect(maps.Keys(f.table.Set))) {
		n.values[name] = ""
	}
	var walk func(value any)
	walk = func(value any) {
		switch x := value.(type) {
		case string:
			n.expand(x)
		case []any:
			for _, y := range x {
				walk(y)
			}
		case map[string]any:
			for _, y := range x {
				walk(y)
			}
		case []map[string]any:
			for _, y := range x {
				walk(y)
			}
		}
	}
	walk(f.table.Inputs)
	walk(f.table.Steps)
	walk(f.table.Outputs)
	walk(f.table.Device)
	walk(f.table.Board)
	for _, v := range f.table.Variants {
		walk(v.Device)
		walk(v.Board)
		for _, file := range v.Input {
			walk(file)
		}
		for _, x := range v.Set {
			walk(string(x))
		}
	}
	for _, x := range f.table.Set {
		walk(string(x)) // a set may be made of others
	}
	for _, in := range f.table.Inputs {
		if _, own := in["version"]; in["version-at"] != nil && !own {
			n.used["version"] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(f.table.Set)) {
		if !n.used[name] {
			f.problem("set."+name, fmt.Sprintf("variable %s is never used", name), "",
				fmt.Sprintf("use {%s} somewhere, or remove it from [set]", name))
		}
	}
}

// keyProblem adds what is wrong with a key of the table at path.
func (f *File) keyProblem(path string, err error) {
	var key *source.KeyError
	at := path
	if errors.As(err, &key) {
		if key.Key != "" && f.settings.Has(path+"."+key.Key) {
			at = path + "." + key.Key
		}
		err = key.Err
	}
	what := strings.ReplaceAll(err.Error(), "`", "")
	if key != nil && key.Key != "" && at == path {
		what = key.Key + ": " + what
	}
	var p *source.Problem
	if errors.As(err, &p) {
		line := f.settings.Line(at)
		f.problems.Add(&source.Problem{File: f.Name, Line: line, What: p.What, Expected: p.Expected, Advice: p.Advice})
		return
	}
	f.problem(at, what, "", "")
}

// setting is a key of a table with a value as text.
type setting struct {
	key, value, path string
	number           bool // it is no text in the file
}

// first are the keys of patches that the others stand behind.
var first = []string{"bytes", "text", "number", "file"}

// flatten returns the settings of a table in an order in which they can be set.
// Lists become several settings, and tables within name=value or, in the list
// values, what they hold.
func (f *File) flatten(path string, table map[string]any) []setting {
	var list []setting
	keys := slices.SortedFunc(maps.Keys(table), func(a, b string) int {
		rank := func(key string) int {
			switch {
			case slices.Contains(first, key), key == "values":
				return 0
			}
			return 1
		}
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	for _, key := range keys {
		f.flattenValue(&list, path, key, path+"."+key, table[key])
	}
	return list
}

func (f *File) flattenValue(list *[]setting, path, key, at string, value any) {
	add := func(text string) { *list = append(*list, setting{key: key, value: text, path: at}) }
	switch x := value.(type) {
	case string:
		add(x)
	case int64:
		*list = append(*list, setting{key, fmt.Sprint(x), at, true})
	case bool:
		add(fmt.Sprint(x))
	case []any:
		for i, y := range x {
			within := fmt.Sprintf("%s[%d]", at, i)
			if table, ok := y.(map[string]any); ok && key == "values" {
				*list = append(*list, f.flatten(within, table)...)
				continue
			}
			f.flattenValue(list, path, key, within, y)
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(x)) {
			switch y := x[name].(type) {
			case string, int64, bool:
				if text := f.settings.Number(at + "." + name); strings.HasPrefix(text, "0x") {
					y = text // 0x2 is the value 2, and 2 may be another's meaning
				}
				*list = append(*list, setting{key: key, value: fmt.Sprintf("%s=%v", name, y), path: at + "." + name})
			default:
				f.problem(at+"."+name, name+" is "+settings.Describe(y), "a whole number, or a text in quotes", "")
			}
		}
	default:
		f.problem(at, key+" is "+settings.Describe(x), "a whole number, or a text in quotes", "")
	}
}

// set sets keys by the settings of a table, with names expanded. What is only
// known later is left out, and told by the result.
func (f *File) set(path string, list []setting, keys []*key.Key, n *names) (later bool) {
	known := func() (all []string) {
		for _, k := range keys {
			all = append(all, k.Name)
		}
		return all
	}
	for _, s := range list {
		k := key.Find(keys, s.key)
		if k == nil {
			f.problem(s.path, fmt.Sprintf("unknown key %s", s.key), "", source.DidYouMean(s.key, known()))
			continue
		}
		if s.number && k.Hex {
			if s.value = f.settings.Number(s.path); !strings.HasPrefix(s.value, "0x") {
				f.problem(s.path, fmt.Sprintf("%s: %s is a number, and the value is hex digits", s.key, s.value), hexOf(s.value), "")
				s.value = "00" // so that no more is told
			}
		}
		text, err := n.expandFor(k, s.value)
		if errors.Is(err, errLater) {
			later = true
			continue
		}
		if err == nil {
			if k.Value == "FILE" {
				text = fileName(text)
			}
			err = k.Set(text)
		}
		if err != nil {
			f.problem(s.path, fmt.Sprintf("%s: %s", s.key, strings.ReplaceAll(err.Error(), "`", "")), "", "")
		}
	}
	return later
}

// hexOf returns how a decimal number is written where hex digits are wanted, and its own digits
// if they may be meant.
func hexOf(decimal string) string {
	n, err := strconv.ParseUint(strings.ReplaceAll(decimal, "_", ""), 10, 64)
	if err != nil {
		return "hex digits in quotes"
	}
	text := fmt.Sprintf("%X", n)
	text = "0x" + strings.Repeat("0", len(text)%2) + text
	if len(decimal)%2 == 0 {
		text = fmt.Sprintf("%s, or %q in quotes for the digits", text, decimal)
	}
	return text
}

// input is an input of a release.
type input struct {
	name, file, at, shift, region    string
	from, sha256, versionAt, version string
	lenient                          bool
	builtFor                         device.Quantity
	own                              []source.Setting
	choice                           codec.Choice

	path string
}

func (in *input) keys() []*key.Key {
	return append([]*key.Key{
		key.Text(&in.name, "name", "NAME", "what expressions and `start` call it: part.NAME"),
		key.Text(&in.file, "file", "FILE", "the file, from the release file's folder"),
		key.Text(&in.at, "at", "ADDRESS", "put its first byte at ADDRESS"),
		key.Text(&in.shift, "shift", "N", "move it up by N, or down by -N"),
		key.Text(&in.region, "region", "REGION", "it must be in REGION of the device map"),
		key.New("from", "FORMAT", "read it as FORMAT, whatever its name and contents", func(text string) (err error) {
			in.from = text
			in.choice, err = codec.ParseChoice(text, false)
			return err
		}),
		key.Switch(&in.lenient, "lenient", "let deviations from its format's standard pass, with warnings"),
		key.New("sha256", "DIGEST", "it must be the file with this SHA-256", func(text string) error {
			b, err := span.Bytes(text)
			if err == nil && len(b) != 32 {
				err = fmt.Errorf("%s are not SHA-256; expected 32", memory.FormatBytes(uint64(len(b))))
			}
			in.sha256 = fmt.Sprintf("%x", b)
			return err
		}),
		key.New(
			"built-for",
			"FREQUENCY",
			"the clock that it was built for, as 8 MHz; check finds where the device runs at another",
			func(text string) (err error) {
				in.builtFor, err = device.Frequency.Parse(text)
				return err
			},
		),
		key.Text(&in.versionAt, "version-at", "ADDRESS", "the text there must contain the version"),
		key.Text(&in.version, "version", "TEXT", "the version that it must contain (the variable version)"),
	}, codec.ReaderKeys(&in.own)...)
}

// step is one operation of a release.
type step struct {
	kind *operation.Kind
	list []setting
	path string
	line int
	// of is the input that it works on, before it is laid in; "" is the whole image.
	of string
	// secret is whether it is given a secret, so that what it did is not told.
	secret bool
}

// target is a file that a release makes.
type target struct {
	name, file, to, text string
	in                   []string
	settings             []source.Setting
	choice               codec.Choice
	mistaken             bool // a value of its keys is none, as is said

	path string
}

func (o *target) keys() []*key.Key {
	keys := []*key.Key{
		key.Text(&o.name, "name", "NAME", "what later outputs call it: {sha256:NAME}, {file:NAME}"),
		key.Text(&o.file, "file", "FILE", "the file, from the release file's folder, or the one named for outputs"),
		key.List(&o.in, "in", "SPAN", "what is in SPAN only; a list may be given"),
		key.Text(&o.text, "text", "TEXT", "the file contains this TEXT").Escaped(),
		key.New("to", "FORMAT", "write it as FORMAT", func(text string) (err error) {
			o.to = text
			o.choice, err = codec.ParseChoice(text, true)
			return err
		}),
	}
	for _, k := range codec.WriterKeys() {
		if key.Find(keys, k.Name) != nil {
			continue
		}
		keys = append(keys, k.Recorded(&o.settings)) // the setting proves the value
	}
	return keys
}
