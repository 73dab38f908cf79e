package device

import (
	_ "embed"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"mexalt/source"
)

// keyRule is what the table of keys says of one key.
type keyRule struct {
	field int
	key   string
	must  bool
	one   []string
	list  bool
}

func rulesOf(t reflect.Type) (rules []keyRule) {
	for i := range t.NumField() {
		tag := t.Field(i).Tag
		r := keyRule{i, tag.Get("toml"), tag.Get("must") != "", strings.Fields(tag.Get("one")), t.Field(i).Type.Kind() == reflect.Slice}
		if r.must || len(r.one) > 0 || r.list {
			rules = append(rules, r)
		}
	}
	return rules
}

// keys holds a table against what the table of keys says: what must be there is,
// words are known, lists are not empty. It reports whether nothing is missing.
func (l *loader) keys(path, what string, table any) bool {
	v := reflect.ValueOf(table).Elem()
	if l.tables == nil {
		l.tables = map[string][]keyRule{}
	}
	rules, ok := l.tables[v.Type().Name()]
	if !ok {
		rules = rulesOf(v.Type())
		l.tables[v.Type().Name()] = rules
	}
	whole := true
	var missing []keyRule
	for _, r := range rules {
		field := v.Field(r.field)
		at := r.key
		empty := field.IsZero()
		if r.list {
			empty = field.Len() == 0
		}
		if !empty && len(r.one) == 0 || empty && !r.list && !r.must {
			continue
		}
		if path != "" {
			at = path + "." + r.key
		}
		switch given := l.file.Has(at); {
		case empty && r.list && given:
			l.problem(at, r.key+" is an empty list", "one or more", "leave the key out if there is none")
			whole = whole && !r.must
		case empty && r.must && given:
			l.problem(at, r.key+" is empty", l.expected(r, v.Type()), "")
			whole = false
		case empty && r.must && l.file.Meant(at): // told as a key that is not known
			whole = false
		case empty && r.must:
			missing = append(missing, r)
		case !empty && !slices.Contains(r.one, field.String()):
			l.problem(at, fmt.Sprintf("%s %q is not known", r.key, field.String()), "", source.DidYouMean(field.String(), r.one))
			whole = false
		}
	}
	switch len(missing) {
	case 0:
		return whole
	case 1:
		l.problem(path, fmt.Sprintf("%s has no %s", strings.TrimSpace(what), missing[0].key), l.expected(missing[0], v.Type()), "")
	default:
		var names []string
		for _, r := range missing {
			names = append(names, r.key)
		}
		last := len(names) - 1
		l.problem(path, fmt.Sprintf("%s has no %s and no %s", strings.TrimSpace(what), strings.Join(names[:last], ", no "), names[last]),
			"", "")
	}
	return false
}

// expected says how a missing key is given.
func (l *loader) expected(r keyRule, t reflect.Type) string {
	switch f := t.Field(r.field).Type; {
	case f.Kind() == reflect.Slice && f.Elem().Kind() == reflect.Struct:
		return "[[" + r.key + "]]"
	case len(r.one) > 0:
		return fmt.Sprintf("%s = \"%s\"", r.key, strings.Join(r.one, "\", \""))
	case r.key == "name":
		return "name = \"NAME\""
	}
	return ""
}

// Section is a table of a map's file, for the documentation.
type Section struct {
	Path string // as TOML heads it: [[memory]]; "" is the top
	Keys []Key
}

// Key is a key of a [Section].
type Key struct {
	Name string
	Doc  string
	Must bool
	One  []string // the words that it may be
}

// Sections returns the tables of a map's file and their keys, outer ones first.
func Sections() (list []Section) {
	sections("", reflect.TypeFor[mapFile](), &list)
	return list
}

// BoardSections returns the tables of a board's file and their keys.
func BoardSections() (list []Section) {
	sections("", reflect.TypeFor[boardFile](), &list)
	return list
}

func sections(path string, t reflect.Type, list *[]Section) {
	s := Section{Path: path}
	type inner struct {
		path string
		t    reflect.Type
	}
	var inners []inner
	for i := range t.NumField() {
		f := t.Field(i)
		key := f.Tag.Get("toml")
		if key == "" {
			continue
		}
		s.Keys = append(s.Keys, Key{key, f.Tag.Get("doc"), f.Tag.Get("must") != "", strings.Fields(f.Tag.Get("one"))})
		at := key
		if path != "" {
			at = strings.Trim(path, "[]") + "." + key
		}
		switch e := f.Type; {
		case e.Kind() == reflect.Slice && e.Elem().Kind() == reflect.Struct:
			inners = append(inners, inner{"[[" + at + "]]", e.Elem()})
		case e.Kind() == reflect.Struct && e.NumField() > 0 && e.Field(0).Tag.Get("toml") != "":
			inners = append(inners, inner{"[" + at + "]", e})
		case e.Kind() == reflect.Pointer && e.Elem().Kind() == reflect.Struct:
			inners = append(inners, inner{"[" + at + "]", e.Elem()})
		}
	}
	*list = append(*list, s)
	for _, in := range inners {
		if !slices.ContainsFunc(*list, func(s Section) bool { return s.Path == in.path }) {
			sections(in.path, in.t, list)
		}
	}
}

//go:embed schema.json
var schema string

// Schema returns a JSON Schema of device maps, for editors. It is made of the types of
// their file, by the package's tests.
func Schema() string { return schema }
