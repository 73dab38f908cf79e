package release

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mexalt/key"
	"mexalt/source"
	"mexalt/span"
)

// names are what stands in braces in the texts of a release file: {version} is
// the value of a set, {crc:NAME} and the like are known only once the image is
// made.
type names struct {
	values map[string]string
	used   map[string]bool
	hider  *hider // takes secrets out of texts; nil is none
	// made finds what {kind:name} stands for; nil says that it is not known yet.
	made func(kind, name string) (string, error)
}

// errLater says that a text holds what is known only once the image is made.
var errLater = errors.New("not known yet")

// kinds are what may stand before a colon in braces.
var kinds = []string{"crc", "size", "sha256", "file"}

// expand puts values in the place of what stands in braces. Two braces are one.
func (n *names) expand(text string) (string, error) {
	return n.expandAs(text, func(value string) string { return value })
}

// fileName returns a file's name as all systems read it: a release is made on one and proven
// on another, so that both separators mean the same in it.
func fileName(name string) string {
	if strings.HasPrefix(name, `\\?\`) { // where the other one is no separator
		return name
	}
	return strings.ReplaceAll(name, `\`, "/")
}

// expandFor expands the text that a key is given. Where the key reads escapes, those of the
// text are meant, and not what a value may contain: a backslash of a value stays one.
func (n *names) expandFor(k *key.Key, text string) (string, error) {
	if k.Escapes {
		return n.expandAs(text, func(value string) string { return strings.ReplaceAll(value, `\`, `\\`) })
	}
	return n.expand(text)
}

// expandAs expands a text with values as a function writes them.
func (n *names) expandAs(text string, written func(value string) string) (string, error) {
	if !strings.ContainsAny(text, "{}") {
		return text, nil
	}
	var b strings.Builder
	var later error
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c != '{' && c != '}':
			b.WriteByte(c)
			continue
		case i+1 < len(text) && text[i+1] == c:
			b.WriteByte(c)
			i++
			continue
		case c == '}':
			return "", fmt.Errorf("%q: a closing brace without an opening one; }} is a brace", text)
		}
		end := strings.IndexByte(text[i:], '}')
		if end < 0 {
			return "", fmt.Errorf("%q: a brace is not closed; {{ is a brace", text)
		}
		word := text[i+1 : i+end]
		value, err := n.value(word)
		switch {
		case errors.Is(err, errLater):
			later = err
		case err != nil:
			return "", err
		}
		b.WriteString(written(value))
		i += end
	}
	return b.String(), later
}

func (n *names) value(word string) (string, error) {
	if kind, name, ok := strings.Cut(word, ":"); ok {
		if !slices.Contains(kinds, kind) {
			return "", fmt.Errorf("{%s}: %q is not valid; choose one of %s", word, kind, strings.Join(kinds, ", "))
		}
		if n.made == nil {
			return "", errLater
		}
		return n.made(kind, name)
	}
	value, ok := n.values[word]
	switch {
	case ok:
		n.used[word] = true
		return value, nil
	case !span.IsName(word):
		return "", fmt.Errorf("{%s} is not a name; {{ is a brace", word)
	}
	return "", fmt.Errorf("{%s} is not a variable of [set]; %s", word, source.DidYouMean(word, slices.Sorted(maps.Keys(n.values))))
}
