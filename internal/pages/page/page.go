// Package page writes pages that stand on their own: one HTML file, with its style
// and its script in it, and nothing fetched from anywhere. A page can be read without
// the script; with it, addresses are told under the pointer, and origins are found.
//
// All texts of a page may come from files that someone else made: html/template escapes
// each where it stands, and what is hidden in it is made visible.
package page

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"mexalt/source"
)

// Page is a page, from the top downwards.
type Page struct {
	Title    string // of the window
	Heading  string
	Sub      string // beside the heading
	Verdict  string
	Bad      bool
	Sheet    bool // it is printed on one sheet of paper
	Facts    []Fact
	Sections []Section
	// Data is for the script: where the bytes of the image came from; nil is nothing.
	Data any
}

// Fact is a name and what is known of it.
type Fact struct {
	Name, Text string
	Digest     bool // the text is long and has no blanks
}

// Section is a part of a page.
type Section struct {
	ID, Title string
	Intro     []string
	Drawings  []template.HTML // SVG, as package render draws it
	Table     *Table
	Findings  []Finding
	Zooms     []Zoom
	Rows      []Rows
	Facts     []Fact
	Search    bool // the field in which an address is looked up
}

// Table is a table, its first column the rows' headings.
type Table struct {
	Caption string
	Header  []Column
	Rows    [][]Cell
	More    string // said below, where rows were left out
}

// Column is the heading of a column.
type Column struct {
	Text    string
	Numbers bool
}

// Cell is a cell of a table.
type Cell struct {
	Text string
	Link string // "" is none
	Mark string // good, bad or doubt; "" is none
	Bar  *Bar
	Code bool
}

// Address reports whether the cell has an address or a span, which is not broken but at "..".
func (c Cell) Address() bool { return c.Code && strings.HasPrefix(c.Text, "0x") }

// DropEmpty drops the columns, but the first, in which no row has anything.
func (t *Table) DropEmpty() {
	for i := len(t.Header) - 1; i > 0; i-- {
		if !slices.ContainsFunc(t.Rows, func(row []Cell) bool { return row[i].Text != "" || row[i].Bar != nil }) {
			t.Header = slices.Delete(t.Header, i, i+1)
			for j, row := range t.Rows {
				t.Rows[j] = slices.Delete(row, i, i+1)
			}
		}
	}
}

// Bar is a part of a whole, in percent.
type Bar struct {
	Percent float64
	Over    bool
}

// Finding is a finding, numbered as in the drawings.
type Finding struct {
	Number                        int
	Severity, Rule, Where, Region string
	Place, What, Expected, Advice string
	Accepted                      string // by what; "" is not
	Rows                          []Row
}

// Zoom is a region by itself.
type Zoom struct {
	ID, Title, Text string
	Drawing         template.HTML
	Rows            []Rows
	Open            []Row // shown without being asked for
}

// Rows are rows of bytes with a title.
type Rows struct {
	Title string
	Rows  []Row
}

// Row is a row of bytes.
type Row struct {
	Address string
	Cells   []Byte
	Text    string
	Second  []Byte // as found, where two images are compared
	Origin  string
	Origin2 string
	Border  bool // something begins here
}

// Byte is one byte of a row.
type Byte struct {
	Text string
	Mark string // hole, odd; "" is none
}

//go:embed page.html
var layout string

//go:embed page.css
var style string

//go:embed page.js
var script string

// visible makes what texts in JSON hide visible to who reads them in the page: a
// backslash more keeps an escape from being one.
func visible(text []byte) []byte {
	var out []byte
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRune(text[i:])
		switch {
		case text[i] == '\\' && i+1 < len(text):
			if next := text[i+1]; next == 'u' && i+6 <= len(text) && hiddenEscape(text[i+2:i+6]) || strings.IndexByte("bfnrt", next) >= 0 {
				out = append(out, '\\')
			}
			size = 2
			out = append(out, text[i:i+size]...)
		case r >= utf8.RuneSelf && source.Visible(string(r)) != string(r):
			out = fmt.Appendf(out, `\\u%04X`, r)
		default:
			out = append(out, text[i:i+size]...)
		}
		i += size
	}
	return out
}

// hiddenEscape reports whether four hex digits are those of a character that does not
// show itself; < and the like, which JSON escapes for HTML, do.
func hiddenEscape(digits []byte) bool {
	n, err := strconv.ParseUint(string(digits), 16, 32)
	return err == nil && source.Visible(string(rune(n))) != string(rune(n))
}

// Write writes the page.
func (p *Page) Write(to io.Writer) error {
	t, err := template.New("page").Funcs(template.FuncMap{
		"style":  func() template.CSS { return template.CSS(style) },
		"script": func() template.JS { return template.JS(script) },
		// JSON in which < is written as its number cannot end the script.
		"data": func() (template.JS, error) {
			text, err := json.Marshal(p.Data)
			return template.JS(visible(text)), err
		},
		"ends": func(span string) []string { return strings.Split(span, "..") },
		"wide": func(rows []Row) bool { return slices.ContainsFunc(rows, func(r Row) bool { return len(r.Second) > 0 }) },
	}).Parse(layout)
	if err != nil {
		return err
	}
	return t.Execute(to, shown(reflect.ValueOf(p)).Interface())
}

// shown returns a copy in which all texts, but markup, show the characters that hide.
func shown(v reflect.Value) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	switch {
	case v.Type() == reflect.TypeFor[template.HTML]():
		return v
	case v.Kind() == reflect.String:
		out.SetString(source.VisibleLines(v.String()))
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			out.Field(i).Set(shown(v.Field(i)))
		}
	case v.Kind() == reflect.Slice && !v.IsNil():
		out.Set(reflect.MakeSlice(v.Type(), v.Len(), v.Len()))
		for i := range v.Len() {
			out.Index(i).Set(shown(v.Index(i)))
		}
	case v.Kind() == reflect.Pointer && !v.IsNil():
		out.Set(reflect.New(v.Type().Elem()))
		out.Elem().Set(shown(v.Elem()))
	default:
		return v
	}
	return out
}
