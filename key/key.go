// Package key is what can be set, of an operation, a format or a command: each key says
// what it is called, what it means, what it takes, and sets a value when it is given a text.
// Flags, steps of release files, help and docs are made from keys.
package key

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/source"
	"mexalt/span"
)

// Key is something that can be set, of an operation or a format: what it is
// called, what it means and what it is unless set. Flags of commands, keys of
// release files and help come from it.
type Key struct {
	Name string
	// Value stands for the value in help: SPAN, N. "" makes the key a switch,
	// which is set by its name alone.
	Value string
	// Doc says what it does, with what it is unless set in parentheses.
	Doc   string
	Words []string // the values that it takes; nil is any
	Many  bool     // it may be given several times
	// Optional lets the key stand as a switch, or with a value.
	Optional bool
	Escapes  bool // the value is a text with backslash escapes, as [span.Text] reads it
	Hex      bool // the value is hex digits, whether 0x is before them or not

	// NeedsNumber reports whether the key, set as it is, still needs a number, which
	// [Key.More] takes; nil is never.
	NeedsNumber func() bool
	More        func(text string) error

	set   func(text string) error
	given bool
}

// Given reports whether the key was set.
func (k *Key) Given() bool { return k.given }

// Set sets the key. A switch is set by true or an empty text.
func (k *Key) Set(text string) error {
	if k.given && !k.Many {
		return fmt.Errorf("given twice; give it once")
	}
	k.given = true
	if k.Words != nil && !slices.Contains(k.Words, text) {
		return fmt.Errorf("%q is not valid; choose one of %s", text, strings.Join(k.Words, ", "))
	}
	return k.set(text)
}

// SetTogether lets another key be set with this one, and to the same.
func (k *Key) SetTogether(other *Key) {
	set := k.set
	k.set = func(text string) error {
		if err := set(text); err != nil {
			return err
		}
		return other.Set(text)
	}
}

// Recorded returns a key as this one that keeps, beside what it does, what it was set to.
func (k *Key) Recorded(into *[]source.Setting) *Key {
	out := *k
	out.set = func(text string) error {
		err := k.set(text)
		if err == nil {
			*into = append(*into, source.Setting{Key: k.Name, Value: text})
		}
		return err
	}
	return &out
}

// New returns a key that a function sets.
func New(name, value, doc string, set func(text string) error) *Key {
	return &Key{Name: name, Value: value, Doc: doc, set: set}
}

// Repeated lets a key be given several times.
func (k *Key) Repeated() *Key {
	k.Many = true
	return k
}

// Text is a text, or an expression that is read once the names are known.
func Text(into *string, name, value, doc string) *Key {
	return New(name, value, doc, func(text string) error { *into = text; return nil })
}

// Escaped is a key whose value is a text with backslash escapes.
func (k *Key) Escaped() *Key {
	k.Escapes = true
	return k
}

// HexDigits is a key whose value is hex digits.
func (k *Key) HexDigits() *Key {
	k.Hex = true
	return k
}

// List is a text that may be given several times.
func List(into *[]string, name, value, doc string) *Key {
	return New(name, value, doc, func(text string) error { *into = append(*into, text); return nil }).Repeated()
}

// Word is one of a few words.
func Word[T ~string](into *T, words []string, name, value, doc string) *Key {
	k := New(name, value, doc, func(text string) error { *into = T(text); return nil })
	k.Words = words
	return k
}

// Switch is on once it is set.
func Switch(into *bool, name, doc string) *Key {
	return New(name, "", doc, func(text string) error {
		if text != "" && text != "true" && text != "false" {
			return fmt.Errorf("%q is neither true nor false", text)
		}
		*into = text != "false"
		return nil
	})
}

// Number is a number from least to most.
func Number(into *uint64, least, most uint64, name, value, doc string) *Key {
	return New(name, value, doc, func(text string) error {
		n, err := span.Number(text)
		if err == nil && (n < least || n > most) {
			err = fmt.Errorf("%q is out of range; %d to %d", text, least, most)
		}
		if err == nil {
			*into = n
		}
		return err
	})
}

// OneOf is one of a few numbers.
func OneOf(into *uint64, numbers []uint64, name, value, doc string) *Key {
	return New(name, value, doc, func(text string) error {
		n, err := span.Number(text)
		if err == nil && !slices.Contains(numbers, n) {
			err = fmt.Errorf("%q is not valid; choose one of %s", text,
				strings.Trim(strings.ReplaceAll(fmt.Sprint(numbers), " ", ", "), "[]"))
		}
		if err == nil {
			*into = n
		}
		return err
	})
}

// Byte is one byte as hex digits.
func Byte(into **byte, name, value, doc string) *Key {
	return New(name, value, doc, func(text string) error {
		b, err := span.Bytes(text)
		if err == nil && len(b) != 1 {
			err = fmt.Errorf("%q is %d bytes, one is needed", text, len(b))
		}
		if err == nil {
			*into = &b[0]
		}
		return err
	}).HexDigits()
}

// Find returns the key of a name, or nil.
func Find(keys []*Key, name string) *Key {
	i := slices.IndexFunc(keys, func(k *Key) bool { return k.Name == name })
	if i < 0 {
		return nil
	}
	return keys[i]
}

// Set sets keys by settings, in their order. What is no key, or has a wrong
// value, is a [source.KeyError].
func Set(keys []*Key, settings []source.Setting) error {
	for _, s := range settings {
		k := Find(keys, s.Key)
		if k == nil {
			var known []string
			for _, k := range keys {
				known = append(known, k.Name)
			}
			return source.Keyf(s.Key, "unknown key; %s", source.DidYouMean(s.Key, known))
		}
		if err := k.Set(s.Value); err != nil {
			return &source.KeyError{Key: s.Key, Err: err}
		}
	}
	return nil
}
