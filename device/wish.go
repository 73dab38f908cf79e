package device

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// wishes loads everyday settings.
func (l *loader) wishes(m *Map, list []wishFile) {
	for i := range list {
		f := &list[i]
		path := fmt.Sprintf("wish[%d]", i)
		if !l.keys(path, strings.TrimSpace("wish "+f.Name), f) {
			continue
		}
		if len(f.Set) == 0 {
			l.problem(path+".set", "the wish sets nothing", "set = { FIELD = \"MEANING\" }", "")
			continue
		}
		if slices.ContainsFunc(m.Wishes, func(w Wish) bool { return strings.EqualFold(w.Name, f.Name) }) {
			l.problem(path+".name", fmt.Sprintf("the wish %q is given twice", f.Name), "", "")
			continue
		}
		if o, variant := l.file.(*overlay); variant && !o.owns(path) && !m.grants(f.Set) {
			continue // a wish of its base for what this one does not have
		}
		sound := true
		for _, field := range slices.Sorted(maps.Keys(f.Set)) {
			sound = l.fieldMeans(m, path+".set."+field, field, f.Set[field], true) && sound
		}
		if sound {
			m.Wishes = append(m.Wishes, Wish{f.Name, f.Set})
		}
	}
}

// grants reports whether fields, or groups, have the meanings of a wish.
func (m *Map) grants(set map[string]string) bool {
	for field, meaning := range set {
		if _, err := m.Compose(map[string]uint64{}, field, meaning); err != nil {
			return false
		}
	}
	return true
}

// fieldMeans proves that a field, or a group where these count, has a meaning.
func (l *loader) fieldMeans(m *Map, path, field, meaning string, groups bool) bool {
	if g := m.Group(field); groups && g != nil {
		if _, err := g.Named(m, meaning); err != nil {
			l.problem(path, fmt.Sprintf("%s never means %q", g.Name, meaning), "", err.Error())
			return false
		}
		return true
	}
	_, f := m.Field(field)
	if f == nil {
		if !l.misnamed && (!l.fields[strings.ToLower(field)] || m.Word(field) != nil) { // else it is wrong itself
			l.problem(path, "unknown field "+field, "", l.near(field, m.FieldNames))
		}
		return false
	}
	if _, err := f.Named(meaning); err != nil {
		l.problem(path, fmt.Sprintf("%s never means %q", f.Name, meaning), "", err.Error())
		return false
	}
	return true
}

// Wish is an everyday setting: fields and their meanings.
type Wish struct {
	Name string
	Set  map[string]string
}

// Wish returns the wish of a name, in any case, or the one whose name contains a text.
func (m *Map) Wish(name string) (*Wish, error) {
	var names []string
	var found *Wish
	several := false
	for i := range m.Wishes {
		w := &m.Wishes[i]
		if strings.EqualFold(w.Name, name) {
			return w, nil
		}
		names = append(names, w.Name)
		if strings.Contains(strings.ToLower(w.Name), strings.ToLower(name)) {
			several = found != nil
			found = w
		}
	}
	switch {
	case found != nil && !several && name != "":
		return found, nil
	case len(names) == 0:
		return nil, fmt.Errorf("%s has no [[wish]] in its map", m.Name)
	}
	return nil, fmt.Errorf("%s has no wish %q; known: %s", m.Name, name, strings.Join(names, "; "))
}
