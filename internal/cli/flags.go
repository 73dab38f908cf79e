package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"mexalt/internal/render"
	"mexalt/key"
	"mexalt/source"
	"mexalt/span"
)

// flags are the flags of a command: keys, parsed by package flag.
type flags struct {
	command *command
	own     []*key.Key // the command's own
	shared  []sharedFlags

	reporting *reporting // nil where the command has no report for programs
	// device and devices are where -device is kept; the settings of the folder may
	// give it.
	device  *string
	board   *string
	devices *[]string
}

// sharedFlags are flags that many commands have, explained once.
type sharedFlags struct {
	topic string // of help
	keys  []*key.Key
}

var errHelp = errors.New("help is asked for")

// add adds flags of the command's own.
func (f *flags) add(keys ...*key.Key) { f.own = append(f.own, keys...) }

// share adds flags that a topic of help explains.
func (f *flags) share(topic string, keys ...*key.Key) {
	keys = slices.DeleteFunc(keys, func(k *key.Key) bool {
		if key.Find(f.own, k.Name) != nil {
			return true
		}
		// What says how a format is read and how it is written is one flag.
		other := key.Find(f.all(), k.Name)
		if other != nil {
			other.SetTogether(k)
		}
		return other != nil
	})
	f.shared = append(f.shared, sharedFlags{topic, keys})
}

// addEverywhere adds the flags that every command has.
func (f *flags) addEverywhere(quiet *bool, color *string) {
	f.share("output", everywhere(quiet, color)...)
}

func everywhere(quiet *bool, color *string) []*key.Key {
	return []*key.Key{
		key.Switch(quiet, "quiet", "print results, errors and warnings only"),
		key.Word(color, render.Colors, "color", "WHEN", "colour WHEN auto, always or never (auto: on a terminal)"),
	}
}

// all returns all keys.
func (f *flags) all() []*key.Key {
	keys := slices.Clone(f.own)
	for _, s := range f.shared {
		keys = append(keys, s.keys...)
	}
	return keys
}

// keyFlag is a key as package flag sets it. What is wrong with a value is kept,
// as that package tells of it in words of its own.
type keyFlag struct {
	*key.Key
	failed *error
}

func (k keyFlag) String() string { return "" }

func (k keyFlag) IsBoolFlag() bool { return k.Key != nil && (k.Value == "" || k.Optional) }

func (k keyFlag) Set(text string) error {
	if k.Value == "" && text != "true" && text != "false" || k.Optional && text == "true" {
		// A switch is given by its name alone.
		if k.Value == "" {
			*k.failed = source.Keyf(k.Name, "takes no value, %q is given", text)
			return *k.failed
		}
		text = ""
	}
	if err := k.Key.Set(text); err != nil {
		*k.failed = &source.KeyError{Key: k.Name, Err: err}
	}
	return *k.failed
}

// parse sets the flags, which may stand anywhere, and returns the operands.
func (f *flags) parse(args []string) (operands []string, err error) {
	fs := flag.NewFlagSet(f.command.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	var failed error
	keys := f.all()
	for _, k := range keys {
		fs.Var(keyFlag{k, &failed}, k.Name, "")
	}
	for len(args) > 0 {
		a := args[0]
		switch {
		case a == "--":
			return append(operands, args[1:]...), f.numbers(keys, &operands)
		case len(a) < 2 || a[0] != '-' || strings.HasPrefix(a, "-@"): // - and -@ADDRESS are standard input
			operands, args = append(operands, a), args[1:]
			continue
		}
		used, err := f.match(keys, args)
		if err != nil {
			return nil, err
		}
		if err := fs.Parse(args[:used]); failed != nil {
			return nil, failed
		} else if err != nil {
			return nil, usagef("%w", err)
		}
		args = args[used:]
	}
	return operands, f.numbers(keys, &operands)
}

// match finds the flag at the front of the arguments, and how many of these it
// takes.
func (f *flags) match(keys []*key.Key, args []string) (used int, err error) {
	name, _, withValue := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(args[0], "-"), "-"), "=")
	if name == "h" || name == "help" {
		return 0, errHelp
	}
	k := key.Find(keys, name)
	switch {
	case k == nil:
		return 0, f.unknown(name, keys)
	case withValue || k.Value == "" || k.Optional:
		return 1, nil
	case len(args) < 2:
		return 0, source.Keyf(name, "needs a value after it, %s", k.Value)
	}
	return 2, nil
}

func (f *flags) unknown(name string, keys []*key.Key) error {
	const leastLetters = 3
	synonyms := map[string]string{
		"output":  "o",
		"out":     "o",
		"n":       "dry-run",
		"format":  "to",
		"offset":  "shift",
		"length":  "record-length",
		"address": "at",
	} // that people type
	near := synonyms[name]
	if own := map[string]string{"in": "keep", "span": "keep", "skip": "drop"}[name]; near == "" && key.Find(keys, own) != nil {
		near = own
	}
	if key.Find(keys, near) == nil {
		near = ""
		var known []string
		for _, k := range keys {
			known = append(known, k.Name)
		}
		begins := func(k string) bool { return strings.HasPrefix(k, name) }
		switch i := slices.IndexFunc(known, begins); {
		case len(name) < leastLetters:
		case i >= 0 && !slices.ContainsFunc(known[i+1:], begins):
			near = known[i]
		default:
			near = source.Nearest(name, known)
		}
	}
	if near != "" {
		near = fmt.Sprintf("did you mean -%s? ", near)
	}
	return usagef("unknown flag -%s; %smexalt help %s lists the flags", name, near, f.command.name)
}

// numbers gives keys that still need a number the first operand that is one,
// and no file: -by size 16K, without quotes.
func (f *flags) numbers(keys []*key.Key, operands *[]string) error {
	for _, k := range keys {
		if k.NeedsNumber == nil || !k.NeedsNumber() {
			continue
		}
		i := slices.IndexFunc(*operands, func(a string) bool {
			_, err := span.Number(a)
			return err == nil && !source.Exists(a)
		})
		if i < 0 {
			continue
		}
		if err := k.More((*operands)[i]); err != nil {
			return &source.KeyError{Key: k.Name, Err: err}
		}
		*operands = slices.Delete(slices.Clone(*operands), i, i+1)
	}
	return nil
}

// reads says which device and board the settings of the folder may name.
func (f *flags) reads(r *reading) { f.device, f.board = &r.device, &r.board }
