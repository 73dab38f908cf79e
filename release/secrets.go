package release

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"mexalt/check"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/span"
)

// A secret is the value of a variable that `secret` names, such as a key. Outputs hold it, and
// nothing else that is written or printed shows it: where other values stand, a digest of it
// stands, with a salt of the batch.

const (
	// mostSecret is how long the file of a secret may be.
	mostSecret = 64 << 10
	// leastSecret is how many characters one has: a shorter one is in many texts by chance.
	leastSecret = 4
	// shownSecret begins what stands in the place of one.
	shownSecret = "secret:"
	// hidden stands in the place of one within a text.
	hidden = "(secret)"
)

// observeSecrets finds what is wrong with the names of secrets, and with where they are used.
func (f *File) observeSecrets() {
	t := &f.table
	for i, name := range t.Secret {
		value, ok := t.Set[name]
		path := fmt.Sprintf("secret[%d]", i)
		switch {
		case !ok:
			f.problem(path, fmt.Sprintf("%s is not a variable of [set]", name), "",
				source.DidYouMean(name, slices.Sorted(maps.Keys(t.Set))))
		case value != "":
			f.problem("set."+name, name+" is secret, and its value is in the release file", name+` = ""`, "")
		}
	}
	if len(t.Secret) == 0 {
		return
	}
	open := func(path, text string) {
		for _, name := range t.Secret {
			if strings.Contains(text, "{"+name+"}") {
				f.problem(path, fmt.Sprintf("shows %s, which is secret", name), "a secret in the values of steps, or in an output's text",
					"")
			}
		}
	}
	open("device", t.Device)
	open("board", t.Board)
	for _, name := range slices.Sorted(maps.Keys(t.Set)) {
		if !slices.Contains(t.Secret, name) {
			open("set."+name, string(t.Set[name]))
		}
	}
	for i, in := range t.Inputs {
		eachText(in, func(key, text string) { open(fmt.Sprintf("input[%d].%s", i, key), text) })
	}
	for i, s := range t.Steps {
		eachText(s, func(key, text string) {
			if key == "file" {
				open(fmt.Sprintf("step[%d]", i), text)
			}
		})
	}
	for i, o := range t.Outputs {
		eachText(o, func(key, text string) {
			if key != "text" {
				open(fmt.Sprintf("output[%d].%s", i, key), text)
			}
		})
	}
	for i, v := range t.Variants {
		path := fmt.Sprintf("variant[%d]", i)
		open(path+".device", v.Device)
		open(path+".board", v.Board)
		for _, name := range slices.Sorted(maps.Keys(v.Input)) {
			open(path+".input."+name, v.Input[name])
		}
		for _, name := range slices.Sorted(maps.Keys(v.Set)) {
			if slices.Contains(t.Secret, name) {
				f.problem(path+".set."+name, name+" is secret, and its value is in the release file", "no value of it", "")
				continue
			}
			open(path+".set."+name, string(v.Set[name]))
		}
	}
}

// eachText calls for each text of a table, with the key that it is the value of.
func eachText(table map[string]any, do func(key, text string)) {
	var walk func(key string, value any)
	walk = func(key string, value any) {
		switch x := value.(type) {
		case string:
			do(key, x)
		case []any:
			for _, y := range x {
				walk(key, y)
			}
		case map[string]any:
			for _, k := range slices.Sorted(maps.Keys(x)) {
				walk(k, x[k])
			}
		}
	}
	walk("", table)
}

// usesSecret reports whether a step is given a secret.
func (f *File) usesSecret(table map[string]any) (uses bool) {
	eachText(table, func(_, text string) {
		for _, name := range f.table.Secret {
			uses = uses || strings.Contains(text, "{"+name+"}")
		}
	})
	return uses
}

// hasSecret reports whether one of values is a secret.
func (f *File) hasSecret(values map[string]string) bool {
	return slices.ContainsFunc(f.table.Secret, func(name string) bool { _, ok := values[name]; return ok })
}

// ReadSecret reads a secret from a file that nobody else can read; the end of its line is not
// of it.
func ReadSecret(name string) (string, error) {
	if err := private(name, "the file of a secret"); err != nil {
		return "", err
	}
	text, err := (&source.Files{}).ReadAll(name, "secret", mostSecret)
	if err != nil {
		return "", err
	}
	return strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r"), nil
}

// private refuses a regular file that others than its owner can read or change. Windows has no
// such modes.
func private(name, what string) error {
	const others = 0o077
	info, err := os.Stat(name)
	if err != nil {
		return &source.SystemError{File: name, Doing: "read", Err: err}
	}
	if mode := info.Mode(); runtime.GOOS != "windows" && mode.IsRegular() && mode.Perm()&others != 0 {
		return &source.Problem{
			File:     name,
			What:     fmt.Sprintf("%s has the mode %04o, so that others can read it", what, mode.Perm()),
			Expected: "0600",
			Advice:   source.Advise("chmod 600"),
		}
	}
	return nil
}

// given are the variables that a run is given, the secrets among them.
func (o *Options) given() map[string]string {
	given := maps.Clone(o.Set)
	if given == nil {
		given = map[string]string{}
	}
	maps.Copy(given, o.Secrets)
	return given
}

// givenSecrets refuses secrets that are given so that others see them, and what is none; and a
// release file that would show them, before anything is worked out, or named, with one.
func (f *File) givenSecrets(o *Options) error {
	if err := once(f.problems); err != nil && len(f.table.Secret) > 0 {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(o.Set)) {
		if slices.Contains(f.table.Secret, name) {
			return source.Keyf("set", "%s is secret, and others see what is on a command line; give a file with its value", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(o.Secrets)) {
		switch {
		case len(f.table.Secret) == 0:
			return source.Keyf("secret", "%s has no secrets", f.Name)
		case !slices.Contains(f.table.Secret, name):
			return source.Keyf("secret", "%s has no secret %s; %s", f.Name, name, source.DidYouMean(name, f.table.Secret))
		}
	}
	return nil
}

// newSalt returns the salt of a run's digests of secrets: that of the manifest which is there
// already, so that the same run writes the same, or a new one; "" where there is no secret.
func (f *File) newSalt(manifest string) string {
	if len(f.table.Secret) == 0 {
		return ""
	}
	if salt := proof.SaltOf(manifest); salt != "" {
		return salt
	}
	const bytes = 16
	salt := make([]byte, bytes)
	rand.Read(salt)
	return hex.EncodeToString(salt)
}

// shown returns values as they may be shown.
func (f *File) shown(values map[string]string, salt string) map[string]string {
	if len(f.table.Secret) == 0 {
		return values
	}
	list := maps.Clone(values)
	for _, name := range f.table.Secret {
		if value, ok := list[name]; ok {
			mac := hmac.New(sha256.New, []byte(salt))
			fmt.Fprintf(mac, "%s\x00%s", name, value)
			list[name] = shownSecret + hex.EncodeToString(mac.Sum(nil)[:16])
		}
	}
	return list
}

// checkSecrets tells of secrets that are not given.
func (f *File) checkSecrets(values map[string]string) {
	for _, name := range f.table.Secret {
		switch value := values[name]; {
		case value == "":
			f.problem("set."+name, name+" is secret, and has no value", "a file with its value, or a column of the table of units", "")
		case len(value) < leastSecret:
			f.problem("set."+name, name+" is secret, and too short for that", fmt.Sprintf("%d characters or more", leastSecret), "")
		}
	}
}

// hider takes secrets out of texts, however they are written there.
type hider struct{ forms *strings.Replacer }

// newHider returns what takes out the secrets among values; nil is that there is none.
func (f *File) newHider(values map[string]string) *hider {
	var forms []string
	add := func(form string) {
		if len(form) >= leastSecret {
			forms = append(forms, form)
		}
	}
	digits := func(b []byte) {
		for _, format := range []string{"% X", "% x", "%X", "%x"} {
			add(fmt.Sprintf(format, b))
		}
		const first = 16 // of long ones, no more are shown
		add(fmt.Sprintf("% X", b[:min(len(b), first)]))
	}
	for _, name := range f.table.Secret {
		value := values[name]
		if value == "" {
			continue
		}
		add(value)
		quoted := strconv.Quote(value)
		add(quoted[1 : len(quoted)-1])
		digits([]byte(value))
		if text, err := span.Text(value); err == nil {
			digits(text)
		}
		if b, err := span.Bytes(value); err == nil {
			digits(b)
		}
		if n, err := span.Number(value); err == nil {
			for _, format := range []string{"%d", "%X", "%x", "0x%X"} {
				add(fmt.Sprintf(format, n))
			}
			for size := 2; size <= 8; size++ {
				var b [8]byte
				binary.BigEndian.PutUint64(b[:], n)
				digits(b[8-size:])
				binary.LittleEndian.PutUint64(b[:], n)
				digits(b[:size])
			}
		}
	}
	if len(forms) == 0 {
		return nil
	}
	slices.SortStableFunc(forms, func(a, b string) int { return len(b) - len(a) }) // the longest counts
	var pairs []string
	for _, form := range forms {
		pairs = append(pairs, form, hidden)
	}
	return &hider{strings.NewReplacer(pairs...)}
}

// text returns a text without secrets.
func (h *hider) text(text string) string {
	if h == nil {
		return text
	}
	return h.forms.Replace(text)
}

// texts takes secrets out of texts.
func (h *hider) texts(list []string) {
	for i := range list {
		list[i] = h.text(list[i])
	}
}

// problems takes secrets out of problems.
func (h *hider) problems(list *source.Problems) {
	if h == nil {
		return
	}
	for _, p := range list.Sorted() {
		p.What, p.Expected = h.text(p.What), h.text(p.Expected)
		p.Advice.Text = h.text(p.Advice.Text)
		for i := range p.Advice.AnyOf {
			p.Advice.AnyOf[i].Value = h.text(p.Advice.AnyOf[i].Value)
		}
	}
}

// product takes secrets out of all that a product says of itself, but for its image and outputs.
func (h *hider) product(p *Product) {
	if h == nil {
		return
	}
	h.problems(p.problems)
	h.texts(p.Notes)
	for i := range p.Steps {
		h.texts(p.Steps[i].Changes)
		h.texts(p.Steps[i].Notes)
	}
	if p.Checked != nil {
		h.findings(p.Checked.Findings)
	}
}

func (h *hider) findings(list []check.Finding) {
	for i := range list {
		f := &list[i]
		f.What, f.Expected, f.Place.Text = h.text(f.What), h.text(f.Expected), h.text(f.Place.Text)
	}
}
