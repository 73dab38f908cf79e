// Package settings reads Mexalt's own TOML files strictly: what a file says
// that its reader does not know, or says in the wrong type, is a problem with
// line and column, and all problems are found in one go.
package settings

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"mexalt/source"
)

// Expression is a value in the little language: a TOML string, or a number,
// which is kept as its decimal text.
type Expression string

// Texts are texts, given as a list of them or as one alone.
type Texts []string

// Listed is implemented by lists of tables that may be given as one table alone,
// whose path then has no number.
type Listed interface{ listed() }

// List is a list of tables that may be given as one table alone.
type List[T any] []T

func (List[T]) listed() {}

// Worded is implemented by tables in whose place a word may stand.
type Worded interface {
	// Word takes the word; false is that it is none.
	Word(word string) bool
	// Words are the words that it takes.
	Words() []string
}

// File is a settings file that was read: where each of its keys stands.
type File struct {
	name     string
	lines    []string
	begins   []int                   // where each line begins
	places   map[string]*placesBelow // of tables and lists, by their paths
	long     string                  // a list with too many elements
	names    map[string]string       // the keys, each one text for all its places
	tables   map[reflect.Type]*table // of the structs decoded into so far
	whole    reflect.Type            // of the whole file
	way      []step                  // to the value that is decoded
	problems *source.Problems
	unknown  int             // keys that are not known
	meant    map[string]bool // the keys that they most likely are
}

// Unknown returns how many of the problems are keys that are not known: what the file
// says beside them can be used.
func (f *File) Unknown() int { return f.unknown }

// Meant reports whether a key that is not known was most likely meant to be the one at
// path.
func (f *File) Meant(path string) bool { return f.meant[path] }

type place struct{ line, column int }

// placesBelow are the bytes at which begins what stands right below a path: the keys of a table,
// or the elements of a list.
type placesBelow struct {
	keys     []keyPlace // in the order of the file
	elements []uint32
}

type keyPlace struct {
	key string
	at  uint32
}

// place returns line and column of a byte of the text.
func (f *File) place(offset uint32) place {
	i := sort.Search(len(f.begins), func(i int) bool { return f.begins[i] > int(offset) }) - 1
	within := f.lines[i]
	return place{i + 1, utf8.RuneCountInString(within[:min(int(offset)-f.begins[i], len(within))]) + 1}
}

// Decode reads TOML text into the struct that into points to, by its toml
// tags. Problems are added to the list.
func Decode(name string, text []byte, into any, problems *source.Problems) *File {
	text = bytes.TrimPrefix(text, []byte("\xEF\xBB\xBF")) // a byte-order mark says nothing in UTF-8
	f := &File{
		name:     name,
		lines:    strings.Split(string(text), "\n"),
		places:   map[string]*placesBelow{},
		names:    map[string]string{},
		tables:   map[reflect.Type]*table{},
		meant:    map[string]bool{},
		problems: problems,
	}
	begin := 0
	for _, l := range f.lines {
		f.begins = append(f.begins, begin)
		begin += len(l) + 1
	}
	if line, column, ok := nestedTooDeep(text); ok {
		problems.Add(
			&source.Problem{File: name, Line: line, Column: column,
				What: fmt.Sprintf("more than %d lists or tables in each other", mostNested)},
		)
		return f
	}
	f.index(text)
	if f.tooMany() {
		return f
	}
	if f.typographic(text) {
		return f
	}
	var tree map[string]any
	if err := toml.Unmarshal(text, &tree); err != nil {
		problems.Add(f.notTOML(err))
		return f
	}
	whole := reflect.ValueOf(into).Elem()
	f.whole = whole.Type()
	f.decode(tree, whole)
	return f
}

// notTOML tells what a decoder does not take.
func (f *File) notTOML(err error) *source.Problem {
	p := &source.Problem{File: f.name, What: "not valid TOML",
		Advice: source.Advise("look at the quotes, brackets and commas before this place")}
	var at *toml.DecodeError
	if !errors.As(err, &at) {
		return p
	}
	line, column := at.Position()
	p.Line, p.Text = line, f.line(line)
	index := min(max(column-1, 0), len(p.Text)) // columns are counted in bytes there
	if strings.Contains(err.Error(), "already") || strings.Contains(err.Error(), "defined") {
		p.What, p.Advice = "the key is given twice", source.Advise("")
	} else if value, begin, ok := bareValue(p.Text, index); ok {
		index, p.Advice = begin, source.Advise("")
		p.What, p.Expected = value+" is not a value in TOML", strconv.Quote(value)+", in quotes"
		switch lower := strings.ToLower(value); {
		case value == "":
			p.What, p.Expected = "the key has no value", ""
		case lower == "true" || lower == "false":
			p.Expected = lower
		case tooLarge(value):
			p.What = value + " is too large for a number in TOML"
		}
	}
	p.Column = utf8.RuneCountInString(p.Text[:index]) + 1
	return p
}

// bareValue returns the value that a byte of a line belongs to, and where it begins, if it
// would be one in quotes: an expression, a size with its unit, or a word.
func bareValue(line string, index int) (value string, begin int, ok bool) {
	begin = strings.LastIndexAny(line[:index], "=[,") + 1
	if begin == 0 && index < len(line) && line[index] == '=' {
		begin = index + 1
	}
	before := strings.TrimSpace(line[:max(begin-1, 0)])
	inTable := begin > 0 && line[begin-1] == ',' && strings.LastIndexByte(before, '{') > strings.LastIndexByte(before, '[')
	if before == "" || inTable || before[0] == '[' {
		return "", 0, false // it is a key, or the name of a table
	}
	ofKey := line[begin-1] == '='
	value = line[begin:]
	if end := strings.IndexAny(value, ",]}#"); end >= 0 {
		value = value[:end]
	}
	begin += len(value) - len(strings.TrimLeft(value, " \t"))
	value = strings.TrimSpace(value)
	isValue := func(text string) bool { return toml.Unmarshal([]byte("x = "+text+"\n"), &map[string]any{}) == nil }
	several := strings.Fields(value) // with a comma left out
	const longest = 100
	switch {
	case len(value) > longest, value == "" && !ofKey, strings.ContainsAny(value, "\"'\\[{="), isValue(value),
		len(several) > 1 && !slices.ContainsFunc(several, func(text string) bool { return !isValue(text) }):
		return "", 0, false
	}
	return value, begin, true
}

// tooLarge reports whether a number is larger than integers of TOML are, as addresses may be
// (TOML v1.0.0, Integer: 64 bits with a sign).
func tooLarge(number string) bool {
	n, err := strconv.ParseUint(number, 0, 64)
	return err == nil && n > math.MaxInt64 || errors.Is(err, strconv.ErrRange)
}

// typographic adds each quote, dash or blank of a word processor that stands outside of texts
// and comments, and reports whether there is one.
func (f *File) typographic(text []byte) (found bool) {
	names := map[rune]string{
		'\u201C': "a typographic quote", '\u201D': "a typographic quote", '\u201E': "a typographic quote", '\u2018': "a typographic quote",
		'\u2019': "a typographic quote", '\u00AB': "a typographic quote", '\u00BB': "a typographic quote",
		'\u2013': "a dash", '\u2014': "a dash", '\u2212': "a minus sign", '\u00A0': "a no-break space",
	}
	if !bytes.ContainsFunc(text, func(c rune) bool { return c >= utf8.RuneSelf }) {
		return false
	}
	if bytes.Contains(text, []byte(`"""`)) || bytes.Contains(text, []byte("'''")) {
		return false // texts of several lines are left to the decoder
	}
	number := 0
	for line := range bytes.Lines(text) {
		number++
		quote, column, escaped := rune(0), 0, false
		for _, c := range string(line) {
			column++
			if quote == 0 && c == '#' {
				break // the rest is a comment
			}
			switch {
			case escaped:
				escaped = false
			case quote == '"' && c == '\\':
				escaped = true
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
			case quote != 0 && c == quote:
				quote = 0
			case quote == 0 && names[c] != "":
				found = true
				f.problems.Add(&source.Problem{
					File: f.name, Line: number, Column: column, Text: f.line(number),
					What: fmt.Sprintf("character U+%04X %c (%s)", c, c, names[c]), Expected: "a straight quote, minus or space",
					Advice: source.Advise("looks like copy-and-paste damage"),
				})
			}
		}
	}
	return found
}

// mostNested is how deep lists and tables may stand in each other.
const mostNested = 100

// nestedTooDeep finds where brackets stand deeper in each other than may be,
// before anything goes through them. Those in texts and comments do not count.
func nestedTooDeep(text []byte) (line, column int, found bool) {
	depth, begin := 0, 0
	line = 1
	for i := 0; i < len(text); i++ {
		switch c := text[i]; c {
		case '\n':
			line, begin = line+1, i+1
		case '#':
			for i+1 < len(text) && text[i+1] != '\n' {
				i++
			}
		case '"', '\'':
			i = endOfText(text, i)
			line += bytes.Count(text[begin:min(i, len(text))], []byte("\n"))
			if at := bytes.LastIndexByte(text[begin:min(i, len(text))], '\n'); at >= 0 {
				begin += at + 1
			}
			if i < len(text) && text[i] == '\n' { // of a text that does not end
				i--
			}
		case '[', '{':
			if depth++; depth > mostNested {
				return line, i - begin + 1, true
			}
		case ']', '}':
			depth = max(depth-1, 0)
		}
	}
	return 0, 0, false
}

// endOfText returns the index of the quote that ends the TOML string that
// begins at i, or the length.
func endOfText(text []byte, i int) int {
	quote := text[i]
	if triple := bytes.Repeat([]byte{quote}, 3); bytes.HasPrefix(text[i:], triple) {
		for i += 3; i < len(text); i++ {
			switch {
			case text[i] == '\\' && quote == '"':
				i++
			case bytes.HasPrefix(text[i:], triple):
				const most = 2 // quotes of the text's own, right before those that end it
				for n := 0; n < most && i+3 < len(text) && text[i+3] == quote; n++ {
					i++
				}
				return i + 2
			}
		}
		return len(text)
	}
	for i++; i < len(text) && text[i] != quote && text[i] != '\n'; i++ {
		if text[i] == '\\' && quote == '"' {
			i++
		}
	}
	return min(i, len(text))
}

// Into returns the file with another list for problems found from now on.
func (f *File) Into(problems *source.Problems) *File {
	other := *f
	other.problems = problems
	return &other
}

// Has reports whether the file has something at path.
func (f *File) Has(path string) bool {
	_, ok := f.find(path)
	return ok
}

// find returns the byte at which what is at path begins.
func (f *File) find(path string) (at uint32, ok bool) {
	if list, i, ok := elementOf(path); ok {
		if b := f.places[list]; b != nil && i < len(b.elements) {
			return b.elements[i], true
		}
	} // else it may be a key with brackets
	table, key := apart(path)
	if b := f.places[table]; b != nil {
		for _, k := range slices.Backward(b.keys) {
			if k.key == key {
				return k.at, true
			}
		}
	}
	if b := f.places[path]; b != nil && len(b.elements) > 0 { // [[path]]
		return b.elements[0], true
	}
	return 0, false
}

// Item returns the path of an element of the list at path, which is the list's own
// where it was given as one alone.
func (f *File) Item(path string, i int) string {
	item := elementPath(path, i)
	if i == 0 && !f.Has(item) && f.Has(path) {
		return path
	}
	return item
}

// Number returns the number at path as the file has it, such as 0x1F or 1_000: in what base it
// is written is lost where it is decoded. It is "" where no value is at path.
func (f *File) Number(path string) string {
	at, ok := f.find(path)
	if !ok {
		return ""
	}
	i := sort.Search(len(f.begins), func(i int) bool { return f.begins[i] > int(at) }) - 1
	rest := f.lines[i][min(int(at)-f.begins[i], len(f.lines[i])):]
	if _, _, element := elementOf(path); !element { // behind the key, which may be in quotes
		quote := rune(0)
		rest = rest[1+strings.IndexFunc(rest, func(c rune) bool {
			switch {
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
			case c == quote:
				quote = 0
			}
			return c == '=' && quote == 0
		}):]
	}
	rest = strings.TrimLeft(rest, " \t")
	end := strings.IndexFunc(rest, func(c rune) bool { return !bareRune(c) && c != '+' })
	if end < 0 {
		end = len(rest)
	}
	return rest[:end]
}

// Line returns the line at which what is at path begins, or 0.
func (f *File) Line(path string) int {
	if offset, ok := f.find(path); ok {
		return f.place(offset).line
	}
	return 0
}

// Silent returns a file of which no places are known, for going through its
// values a second time.
func Silent(problems *source.Problems) *File { return &File{problems: problems} }

func (f *File) line(n int) string {
	if n < 1 || n > len(f.lines) {
		return ""
	}
	return strings.TrimRight(f.lines[n-1], "\r")
}

// Problem adds a problem with the value at path, such as "memory[1].size", or
// with what holds it where the file does not have that path.
func (f *File) Problem(path, what, expected, advice string) {
	f.problems.Add(f.At(path, what, expected, advice))
}

// Warn adds a warning as [File.Problem] adds an error.
func (f *File) Warn(path, what, expected, advice string) {
	p := f.At(path, what, expected, advice)
	p.Severity = source.Warning
	f.problems.Add(p)
}

// At returns a problem as [File.Problem] adds one.
func (f *File) At(path, what, expected, advice string) *source.Problem {
	p := &source.Problem{File: f.name, What: what, Expected: expected, Advice: source.Advise(advice)}
	for at := path; ; at = at[:strings.LastIndexByte(at, '.')] {
		if offset, ok := f.find(at); ok {
			where := f.place(offset)
			p.Line, p.Column, p.Text = where.line, where.column, f.line(where.line)
			return p
		}
		if !strings.Contains(at, ".") {
			return p
		}
	}
}

// index notes where every key stands. Tables of an array are numbered in
// their order.
func (f *File) index(text []byte) {
	var p unstable.Parser
	p.Reset(text)
	table := ""
	counts := map[string]int{} // tables of each array
	// resolve puts the number of the current table behind each array's name.
	resolve := func(keys []string) string {
		path := ""
		for i, k := range keys {
			path = join(path, k)
			if n, ok := counts[path]; ok && i < len(keys)-1 {
				path = elementPath(path, n-1)
			}
		}
		return path
	}
	current := f.below("")
	for p.NextExpression() {
		e := p.Expression()
		first, others, at := f.keysOf(e)
		switch e.Kind {
		case unstable.Table:
			table = resolve(append([]string{first}, others...))
			f.note(table, at)
			current = f.below(table)
		case unstable.ArrayTable:
			name := resolve(append([]string{first}, others...))
			table = elementPath(name, counts[name])
			counts[name]++
			list := f.below(name)
			list.elements = append(list.elements, at)
			current = f.below(table)
		case unstable.KeyValue:
			value := e.Value()
			if len(others) == 0 && !strings.Contains(first, ".") && !holds(value) {
				current.keys = append(current.keys, keyPlace{first, at})
			} else {
				f.indexValue(join(table, strings.Join(append([]string{first}, others...), ".")), at, value)
			}
		}
	}
}

// below returns where what is right below a table or an element stands.
func (f *File) below(path string) *placesBelow {
	b := f.places[path]
	if b == nil {
		const most = 4 // that most have
		b = &placesBelow{keys: make([]keyPlace, 0, most)}
		f.places[path] = b
	}
	return b
}

// note notes where a key or a table stands.
func (f *File) note(path string, at uint32) {
	table, key := apart(path)
	b := f.below(table)
	b.keys = append(b.keys, keyPlace{key, at})
}

// mostKeys is how many keys and tables may stand in one table. The TOML package
// looks through all of them for each.
const mostKeys = 2000

// mostElements is how many elements a list may have. What is read of lists is held against all
// others of them.
const mostElements = 10_000

// tooMany reports a list or a table with more in it than any file of ours has.
func (f *File) tooMany() bool {
	if f.long != "" {
		f.Problem(f.long, fmt.Sprintf("%d elements in one list", len(f.places[f.long].elements)), fmt.Sprintf("at most %d", mostElements),
			"")
		return true
	}
	for path, b := range f.places {
		if len(b.keys) <= mostKeys {
			continue
		}
		distinct := map[string]bool{} // one that is given twice is another mistake
		for _, k := range b.keys {
			distinct[k.key] = true
		}
		if n := len(distinct); n > mostKeys {
			f.Problem(path, fmt.Sprintf("%d keys in one table", n), fmt.Sprintf("at most %d", mostKeys), "")
			return true
		}
	}
	return false
}

// indexValue notes where a key stands, and what is in its value.
func (f *File) indexValue(path string, at uint32, value *unstable.Node) {
	f.note(path, at)
	f.indexWithin(path, at, value)
}

// holds reports whether a value has others in it.
func holds(value *unstable.Node) bool {
	return value.Kind == unstable.InlineTable || value.Kind == unstable.Array
}

// indexWithin notes where what is in a value stands.
func (f *File) indexWithin(path string, at uint32, value *unstable.Node) {
	switch value.Kind {
	case unstable.InlineTable:
		for it := value.Children(); it.Next(); {
			first, others, at := f.keysOf(it.Node())
			f.indexValue(join(path, strings.Join(append([]string{first}, others...), ".")), at, it.Node().Value())
		}
	case unstable.Array:
		list := f.below(path)
		list.elements = nil // of a list that is given twice, the last counts
		for it := value.Children(); it.Next(); {
			begin := at
			if r := it.Node().Raw; r.Length > 0 {
				begin = r.Offset
			}
			list.elements = append(list.elements, begin)
			if holds(it.Node()) {
				f.indexWithin(elementPath(path, len(list.elements)-1), begin, it.Node())
			}
		}
		if len(list.elements) > mostElements {
			f.long = path
		}
	}
}

// keysOf returns the key of an expression, those behind its dots, and where they begin.
func (f *File) keysOf(e *unstable.Node) (first string, others []string, at uint32) {
	it := e.Key()
	for n := 0; it.Next(); n++ {
		key := it.Node()
		if n > 0 {
			others = append(others, string(key.Data))
			continue
		}
		at = key.Raw.Offset
		known, ok := f.names[string(key.Data)]
		if !ok {
			known = string(key.Data)
			f.names[known] = known
		}
		first = known
	}
	return first, others, at
}

// elementOf returns the list that a path names an element of, and the element's number.
func elementOf(path string) (list string, i int, ok bool) {
	open := strings.LastIndexByte(path, '[')
	if open < 0 || !strings.HasSuffix(path, "]") {
		return "", 0, false
	}
	i, err := strconv.Atoi(path[open+1 : len(path)-1])
	return path[:open], i, err == nil && i >= 0
}

// apart returns the path of what holds a key, and the key.
func apart(path string) (table, key string) {
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		return path[:i], path[i+1:]
	}
	return "", path
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// elementPath is the path of an element of a list.
func elementPath(path string, i int) string { return path + "[" + strconv.Itoa(i) + "]" }

// table is what keys a table has.
type table struct {
	keys   []string
	fields map[string]int    // the field of the struct that each stands for
	advice map[string]advice // for keys that are not among them, so far
}

// advice is what is said of a key that is not known, and the key that was meant, or "".
type advice struct{ text, meant string }

// advise says which key may have been meant; the same mistake is made often.
func (t *table) advise(key string) advice {
	known, ok := t.advice[key]
	if !ok {
		known = advice{source.DidYouMean(key, t.keys), source.Nearest(key, t.keys)}
		t.advice[key] = known
	}
	return known
}

// step leads from a table to the value of a key, or from a list to an element.
type step struct {
	key string
	i   int // of an element, or -1
}

// path is where the value stands that is decoded. Most are right, so that it is put together
// where it is asked for alone.
func (f *File) path() (path string) {
	for _, s := range f.way {
		if s.i >= 0 {
			path = elementPath(path, s.i)
		} else {
			path = join(path, s.key)
		}
	}
	return path
}

// decodeKey puts the value of a key of the table that is decoded into v.
func (f *File) decodeKey(key string, value any, v reflect.Value) {
	f.way = append(f.way, step{key, -1})
	f.decode(value, v)
	f.way = f.way[:len(f.way)-1]
}

// tableOf returns the keys of tables that are decoded into a struct type.
func (f *File) tableOf(t reflect.Type) *table {
	known := f.tables[t]
	if known == nil {
		known = &table{fields: map[string]int{}, advice: map[string]advice{}}
		for i := range t.NumField() {
			if key := t.Field(i).Tag.Get("toml"); key != "" { // as [Keys] reads them
				known.fields[key] = i
				known.keys = append(known.keys, key)
			}
		}
		f.tables[t] = known
	}
	return known
}

// decode puts value into v.
func (f *File) decode(value any, v reflect.Value) {
	wrong := func(expected string) {
		path := f.path()
		is := Describe(value)
		if _, number := value.(int64); number {
			is = cmp.Or(f.Number(path), is)
		}
		f.Problem(path, fmt.Sprintf("%s is %s", last(path), is), expected, "")
	}
	if v.Type() == reflect.TypeFor[Expression]() {
		switch x := value.(type) {
		case string:
			v.SetString(x)
		case int64:
			v.SetString(strconv.FormatInt(x, 10))
		default:
			wrong("a number, or an expression in quotes")
		}
		return
	}
	switch v.Kind() {
	case reflect.Interface:
		v.Set(reflect.ValueOf(value))
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		f.decode(value, v.Elem())
	case reflect.String:
		if x, ok := value.(string); ok {
			v.SetString(x)
		} else {
			wrong("a text in quotes")
		}
	case reflect.Bool:
		if x, ok := value.(bool); ok {
			v.SetBool(x)
		} else {
			wrong("true or false")
		}
	case reflect.Uint64:
		if x, ok := value.(int64); ok && x >= 0 {
			v.SetUint(uint64(x))
		} else {
			wrong("a number from 0 up")
		}
	case reflect.Slice:
		if !f.decodeList(value, v) {
			wrong(f.listWanted(v.Type()))
		}
	case reflect.Map:
		table, ok := value.(map[string]any)
		if !ok {
			wrong("a table")
			return
		}
		v.Set(reflect.MakeMap(v.Type()))
		for key, x := range table {
			element := reflect.New(v.Type().Elem()).Elem()
			f.decodeKey(key, x, element)
			v.SetMapIndex(reflect.ValueOf(key), element)
		}
	case reflect.Struct:
		if expected := f.decodeTable(value, v); expected != "" {
			wrong(expected)
		}
	default:
		panic("settings: no rule for " + v.Type().String())
	}
}

// ofWhole reports whether a key is one of the whole file, and no table: what stands below the
// head of a table is that table's.
func (f *File) ofWhole(key string) bool {
	if f.whole.Kind() != reflect.Struct {
		return false
	}
	i, known := f.tableOf(f.whole).fields[key]
	if !known {
		return false
	}
	of := f.whole.Field(i).Type
	for of.Kind() == reflect.Pointer || of.Kind() == reflect.Slice {
		of = of.Elem()
	}
	return of.Kind() != reflect.Struct && of.Kind() != reflect.Map
}

// listWanted says what stands where a list is wanted.
func (f *File) listWanted(list reflect.Type) string {
	switch of := list.Elem().Kind(); {
	case list == reflect.TypeFor[Texts]():
		return "a text in quotes, or a list of them"
	case len(f.way) == 1 && (of == reflect.Struct || of == reflect.Map):
		return "[[" + f.way[0].key + "]]"
	}
	return "a list"
}

// decodeList puts value, a list or what may stand for one, into the slice v. It reports
// whether it is one.
func (f *File) decodeList(value any, v reflect.Value) bool {
	_, text := value.(string)
	_, table := value.(map[string]any)
	worded := reflect.PointerTo(v.Type().Elem()).Implements(reflect.TypeFor[Worded]())
	if text && (v.Type() == reflect.TypeFor[Texts]() || worded) || table && v.Type().Implements(reflect.TypeFor[Listed]()) {
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		f.decode(value, v.Index(0))
		return true
	}
	list, ok := value.([]any)
	if !ok {
		return false
	}
	v.Set(reflect.MakeSlice(v.Type(), len(list), len(list)))
	for i, x := range list {
		f.way = append(f.way, step{i: i})
		f.decode(x, v.Index(i))
		f.way = f.way[:len(f.way)-1]
	}
	return true
}

// decodeTable puts value, a table or a word that stands for one, into the struct v. It returns
// what was expected, where value is neither.
func (f *File) decodeTable(value any, v reflect.Value) (expected string) {
	if word, is := value.(string); is && v.CanAddr() {
		if w, ok := v.Addr().Interface().(Worded); ok {
			if !w.Word(word) {
				return "a table, or \"" + strings.Join(w.Words(), "\", \"") + "\""
			}
			return ""
		}
	}
	table, ok := value.(map[string]any)
	if !ok {
		return "a table"
	}
	known := f.tableOf(v.Type())
	var room [16]string // most tables have fewer
	keys := slices.AppendSeq(room[:0], maps.Keys(table))
	slices.Sort(keys) // the same problems each time
	for _, key := range keys {
		field, ok := known.fields[key]
		if !ok {
			path, advice := f.path(), known.advise(key)
			if advice.meant == "" && f.ofWhole(key) {
				advice.text = key + " is a key of the whole file: put it above the first [table]"
			}
			f.Problem(join(path, key), "unknown key "+shownKey(key), "", advice.text)
			f.unknown++
			f.meant[join(path, advice.meant)] = true
			continue
		}
		f.decodeKey(key, table[key], v.Field(field))
	}
	return ""
}

// shownKey is a key as a file must write it (TOML v1.0.0, Keys): bare, or in quotes.
func shownKey(key string) string {
	if key == "" || strings.ContainsFunc(key, func(c rune) bool { return !bareRune(c) }) {
		return strconv.Quote(key)
	}
	return key
}

// bareRune reports whether a character may stand in a bare key (TOML v1.0.0, Keys).
func bareRune(c rune) bool {
	return c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '_' || c == '-'
}

func last(path string) string { return path[strings.LastIndexByte(path, '.')+1:] }

// Describe says what a value that was decoded is: texts and numbers as they are, else the kind.
func Describe(value any) string {
	switch x := value.(type) {
	case string:
		return strconv.Quote(x)
	case int64, float64, bool:
		return fmt.Sprint(x)
	case []any:
		return "a list"
	case map[string]any:
		return "a table"
	}
	return "a date or time"
}
