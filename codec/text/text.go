// Package text writes images as text by a template: C arrays, tables, scripts
// for a serial monitor. A template is one of package text/template over
// [Values]; some are shipped.
package text

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"math/bits"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"text/template"

	"mexalt/codec/format"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
)

// Format is text by a template in the table of formats.
var Format = &format.Format{
	Name: "text",
	Word: "text",
	Words: []format.Word{
		{Word: "c", Settings: []source.Setting{{Key: templateKey, Value: "c"}}},
		{Word: "csv", Settings: []source.Setting{{Key: templateKey, Value: "csv"}}},
		{Word: "text"},
		{Word: "words", Settings: []source.Setting{{Key: templateKey, Value: "words"}}},
	},
	Extensions: []format.Extension{{Ending: ".c", Word: "c"}, {Ending: ".h", Word: "c"}, {Ending: ".csv", Word: "csv"}},
	Writer: func(o format.WriteOptions) format.Writer {
		return &Writer{open: o.Open, Name: identifier(o.Name)}
	},
}

const templateKey = "template"

// What addresses count.
const (
	countBytes = "bytes"
	countWords = "words"
)

//go:embed templates
var shipped embed.FS

// Shipped returns the names of the templates that come with the program.
func Shipped() []string {
	entries, err := shipped.ReadDir("templates")
	if err != nil {
		panic(err) // the folder is embedded
	}
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), extension))
	}
	return names
}

const extension = ".tmpl"

// Writer writes text by a template.
type Writer struct {
	Template  string       // a file, or the name of a shipped one
	Name      string       // what the image is called, as C has names
	Prefix    string       // what a template puts before each line, or address
	Word      uint64       // bytes in a word: 1, 2, 4, 8; 0 is 1
	Order     memory.Order // little or big; "" is little
	RowLength uint64       // bytes in a row, 1 to 255; 0 is 16
	CRLF      bool
	Holes     *byte  // what holes within a word are written as; nil makes them an error
	Addresses string // what .At counts: bytes, or words; "" is bytes
	Pause     string // a line that follows after so many rows
	Every     uint64 // rows between pauses; 0 is none

	open   func(name string) ([]byte, error)
	parsed *template.Template
}

// Keys returns the writer's keys.
func (w *Writer) Keys() []*key.Key {
	name := key.New("name", "NAME", "templates: what the image is called (the file's name)", func(text string) error {
		if identifier(text) != text {
			return fmt.Errorf("%q is not a name; letters, digits and _, no digit first", text)
		}
		w.Name = text
		return nil
	})
	return []*key.Key{
		key.Text(&w.Template, templateKey, "FILE", "text: the template, a file or "+strings.Join(Shipped(), ", ")),
		name,
		key.Text(&w.Prefix, "prefix", "TEXT", "templates: what comes before each line or address"),
		key.Word(&w.Addresses, []string{countBytes, countWords}, "addresses", "WORD", "templates: addresses count bytes, or words (bytes)"),
		key.Text(&w.Pause, "pause", "TEXT", "templates: a line TEXT after every so many rows, for a monitor that needs time"),
		key.Number(&w.Every, 1, 1<<32, "pause-every", "N", "templates: rows between pauses"),
		format.WordKey(&w.Word, 8),
		format.OrderKey(&w.Order),
		format.RowLengthKey(&w.RowLength),
		format.CRLFKey(&w.CRLF),
		format.KeyOfHoles(&w.Holes),
	}
}

// identifier makes a name as C has them of a file's name.
func identifier(file string) string {
	name := filepath.Base(file)
	if i := strings.IndexByte(name, '.'); i > 0 {
		name = name[:i]
	}
	name = strings.Map(func(r rune) rune {
		if r == '_' || r >= '0' && r <= '9' || r|0x20 >= 'a' && r|0x20 <= 'z' {
			return r
		}
		return '_'
	}, name)
	if name == "" || strings.Trim(name, "_") == "" {
		return "image"
	}
	if name[0] >= '0' && name[0] <= '9' {
		name = "_" + name
	}
	return name
}

func (w *Writer) word() uint64 { return max(w.Word, 1) }

// load reads and parses the template.
func (w *Writer) load() error {
	if w.parsed != nil {
		return nil
	}
	if w.Template == "" {
		return source.Keyf(templateKey, "text is written by a template: a file, or one of %s", strings.Join(Shipped(), ", "))
	}
	text, err := shipped.ReadFile("templates/" + w.Template + extension)
	if err != nil {
		if w.open == nil {
			err = fs.ErrNotExist
		} else {
			text, err = w.open(w.Template)
		}
		if errors.Is(err, fs.ErrNotExist) {
			return source.Keyf(templateKey, "there is neither a file nor a shipped template %s; %s", w.Template,
				source.DidYouMean(w.Template, Shipped()))
		}
		if err != nil {
			return err
		}
		if w.CRLF {
			text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
		}
	}
	functions := template.FuncMap{"hex": digits, "address": memory.PlainAddress, "upper": capitals}
	for name, op := range arithmetic {
		functions[name] = op
	}
	w.parsed, err = template.New(filepath.Base(w.Template)).Funcs(functions).Option("missingkey=error").Parse(string(text))
	if err != nil {
		return &source.Problem{
			What:   strings.TrimPrefix(err.Error(), "template: "),
			Advice: source.Advise("templates are Go's text/template; the shipped ones show the values"),
		}
	}
	return nil
}

// Check tells what keeps an image from being written.
func (w *Writer) Check(m *memory.Image) (notes []string, err error) {
	if err := w.load(); err != nil {
		return nil, err
	}
	word := w.word()
	row := format.RowLength(w.RowLength, word)
	if !slices.Contains([]uint64{1, 2, 4, 8}, word) {
		return nil, source.Keyf("word", "%d is not valid; choose 1, 2, 4 or 8 bytes", word)
	}
	if (w.Pause == "") != (w.Every == 0) {
		return nil, source.Keyf("pause", "a pause needs a TEXT and how many rows are between: both `pause` and `pause-every`")
	}
	if row%word != 0 {
		return nil, fmt.Errorf("%d bytes in a row are not whole words of %d bytes", row, word)
	}
	_, err = format.WholeWords(m, word, w.Holes)
	return nil, err
}

// Write writes an image.
func (w *Writer) Write(to io.Writer, m *memory.Image) error {
	if _, err := w.Check(m); err != nil {
		return err
	}
	m, err := format.WholeWords(m, w.word(), w.Holes)
	if err != nil {
		return err
	}
	v := &Values{Name: w.Name, Prefix: w.Prefix, Word: w.word(), Bytes: m.Bytes(), Pause: w.Pause, order: w.Order, every: w.Every, unit: 1}
	if w.Addresses == countWords {
		v.unit = v.Word
	}
	v.Row = format.RowLength(w.RowLength, v.Word)
	v.digest = m.Digest
	if all, ok := m.Span(); ok {
		v.First, v.Last = all.First, all.Last
	}
	if s := m.Start(); s.Kind != memory.NoStart {
		v.HasStart, v.Start = true, s.Address()
	}
	for i, r := range m.Runs() {
		v.Runs = append(v.Runs, &Run{Number: uint64(i), First: r.First, Last: r.Last(), Size: uint64(len(r.Data)), Data: r.Data, values: v})
	}
	out := &failing{w: to}
	var text io.Writer = out
	if w.CRLF {
		text = &crlf{out}
	}
	buffered := bufio.NewWriterSize(text, 64<<10)
	err = w.parsed.Execute(buffered, v)
	if err == nil {
		err = buffered.Flush()
	}
	if out.err != nil {
		return out.err
	}
	if err != nil {
		return source.Keyf(templateKey, "%s", strings.TrimPrefix(err.Error(), "template: "))
	}
	return nil
}

// failing keeps the error of writing, which a template's execution wraps.
type failing struct {
	w   io.Writer
	err error
}

func (f *failing) Write(b []byte) (int, error) {
	n, err := f.w.Write(b)
	f.err = err
	return n, err
}

// crlf ends lines in CR LF.
type crlf struct{ w io.Writer }

func (c *crlf) Write(b []byte) (int, error) {
	if _, err := io.WriteString(c.w, strings.ReplaceAll(string(b), "\n", "\r\n")); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Values is what a template has: the dot.
type Values struct {
	Name     string
	Prefix   string
	Bytes    uint64 // that the image holds
	First    uint64 // address of its first byte; 0 where it holds none
	Last     uint64 // and of its last
	HasStart bool
	Start    uint64
	Word     uint64 // bytes in a word
	Row      uint64 // bytes in a row
	Pause    string // the line of a pause
	Runs     []*Run

	digest func() [sha256.Size]byte
	order  memory.Order
	every  uint64               // rows between pauses; 0 is none
	unit   uint64               // bytes that addresses count
	rows   uint64               // that were gone through
	text   []byte               // room for the text of a block
	cells  map[[2]string]*cells // by the texts before and between
}

// SHA256 returns that of the contents, as everywhere; it takes longer than most texts.
func (v *Values) SHA256() string {
	sum := v.digest()
	return hex.EncodeToString(sum[:])
}

// Bits returns how many bits a word has.
func (v *Values) Bits() uint64 { return 8 * v.Word }

// AddressBits returns 32, or 64 where the image has addresses above.
func (v *Values) AddressBits() int {
	if v.Last > 0xFFFF_FFFF {
		return 64
	}
	return 32
}

// Run is an unbroken stretch of bytes.
type Run struct {
	Number uint64 // from 0
	First  uint64
	Last   uint64
	Size   uint64
	Data   []byte

	values *Values
}

// Count returns how many words the run has.
func (r *Run) Count() uint64 { return r.Size / r.values.Word }

// Rows returns the run's rows: they begin on multiples of their length, where
// the run does.
func (r *Run) Rows() iter.Seq[*Row] {
	return func(yield func(*Row) bool) {
		first, data := r.First, r.Data
		for len(data) > 0 {
			row := r.values.row(first, data)
			if !yield(&row) {
				return
			}
			first, data = first+row.Size, data[row.Size:]
		}
	}
}

// row returns the row with which data begins.
func (v *Values) row(first uint64, data []byte) Row {
	n := min(v.Row-first%v.Row, uint64(len(data)))
	row := Row{Number: v.rows, First: first, Last: first + n - 1, At: first / v.unit, Size: n, Data: data[:n], values: v}
	v.rows++
	row.Pause = v.pauseAfter(v.rows)
	return row
}

// pauseAfter reports whether a pause follows so many rows.
func (v *Values) pauseAfter(rows uint64) bool { return v.every > 0 && rows%v.every == 0 }

// Block is many rows of a run, which are written at once: a template takes far longer for
// each row than the row takes.
type Block struct {
	First uint64
	Data  []byte

	values *Values
}

// Blocks returns the run's rows, many at once.
func (r *Run) Blocks() iter.Seq[*Block] {
	const rows = 512 // whose text is short enough for what package fmt uses again
	return func(yield func(*Block) bool) {
		v := r.values
		first, data := r.First, r.Data
		for len(data) > 0 {
			n := min(rows*v.Row-first%v.Row, uint64(len(data))) // to the end of a row
			if !yield(&Block{first, data[:n], v}) {
				return
			}
			first, data = first+n, data[n:]
		}
	}
}

// Text is the text of a block's rows. It is made where a template prints it, in room that
// the text of the next block takes again.
type Text struct {
	block *Block
	rows  uint64 // that were gone through before it
	// A row takes up to so many characters, and each word so many besides its digits.
	row, word int
	// add adds a row, and what follows it.
	add func(out []byte, first uint64, data []byte, pause bool) []byte
}

// text returns the text of all rows, and counts them.
func (b *Block) text(row, word int, add func(out []byte, first uint64, data []byte, pause bool) []byte) Text {
	v := b.values
	t := Text{b, v.rows, row, word, add}
	v.rows += (b.First%v.Row + uint64(len(b.Data)) + v.Row - 1) / v.Row
	return t
}

// Format writes the text.
func (t Text) Format(f fmt.State, verb rune) {
	b, v, n := t.block, t.block.values, len(t.block.Data)
	out := slices.Grow(v.text[:0], 2*n+(n/int(v.Row)+2)*t.row+n/int(v.Word)*t.word)
	rows, first, data := t.rows, b.First, b.Data
	for n := min(v.Row-first%v.Row, uint64(len(data))); n > 0; n = min(v.Row, uint64(len(data))) {
		rows++
		out = t.add(out, first, data[:n], v.pauseAfter(rows))
		first, data = first+n, data[n:]
	}
	v.text = out
	if form := fmt.FormatString(f, verb); form == "%v" || form == "%s" {
		f.Write(out)
	} else {
		fmt.Fprintf(f, form, string(out))
	}
}

// List returns the rows' words in hex as [Row.List] does, each row with a text before it and
// one after it.
func (b *Block) List(begin, before, between, end string) Text {
	cells := b.values.cellsOf(before, between)
	return b.text(len(begin)+len(end), len(before)+len(between), func(out []byte, _ uint64, data []byte, _ bool) []byte {
		return append(cells.appendTo(append(out, begin...), data), end...)
	})
}

// cells write the words of a list: each with a text before it, and one between them.
type cells struct {
	before, between string
	word            int
	big             bool
	// Of bytes with short texts, the whole cell of each, the first character as the lowest byte.
	text [256]uint64
	size int // of each; 0 is that they are too long, or no bytes
}

// cellsOf returns what writes lists with these texts, of which a template has few.
func (v *Values) cellsOf(before, between string) *cells {
	const most = 8 // characters of a cell, and lists that are known
	if c := v.cells[[2]string{before, between}]; c != nil {
		return c
	}
	c := &cells{before: before, between: between, word: int(v.Word), big: v.order == memory.Big}
	if size := len(before) + 2 + len(between); v.Word == 1 && size <= most {
		c.size = size
		for i := range c.text {
			var cell [most]byte
			copy(cell[:], append(hexUpper([]byte(before), []byte{byte(i)}), between...))
			c.text[i] = binary.LittleEndian.Uint64(cell[:])
		}
	}
	if v.cells == nil || len(v.cells) == most {
		v.cells = map[[2]string]*cells{}
	}
	v.cells[[2]string{before, between}] = c
	return c
}

// appendTo appends the list of whole words, without what stands between them behind the last.
func (c *cells) appendTo(out, data []byte) []byte {
	at := len(out)
	if len(data) < c.word {
		return out
	}
	if c.size > 0 {
		wide := len(data) * c.size
		out = slices.Grow(out, wide+8)[:at+wide+8] // the last one is written as eight
		text, size, room := &c.text, c.size, out[at:]
		for _, b := range data {
			binary.LittleEndian.PutUint64(room, text[b])
			room = room[size:]
		}
		return out[:at+wide-len(c.between)]
	}
	wide := len(data)/c.word*(len(c.before)+2*c.word+len(c.between)) - len(c.between)
	out = slices.Grow(out, wide)[:at+wide]
	for k := 0; k+c.word <= len(data); k += c.word {
		if k > 0 {
			at += copy(out[at:], c.between)
		}
		at += copy(out[at:], c.before)
		for i := range c.word {
			b := data[k+i]
			if !c.big {
				b = data[k+c.word-1-i]
			}
			out[at], out[at+1] = upper[b>>4], upper[b&15]
			at += 2
		}
	}
	return out
}

// Table returns a line for each row: the address, the number of bytes, and their hex digits,
// with a text between them.
func (b *Block) Table(between string) Text {
	return b.text(len("0x0123456789ABCDEF,1234\n")+2*len(between), 0, func(out []byte, first uint64, data []byte, _ bool) []byte {
		out = append(memory.AppendAddress(out, first), between...)
		out = append(strconv.AppendUint(out, uint64(len(data)), 10), between...)
		return append(hexUpper(out, data), '\n')
	})
}

const upper = "0123456789ABCDEF"

// hexUpper appends hex digits, two a byte.
func hexUpper(out, data []byte) []byte {
	at := len(out)
	out = slices.Grow(out, 2*len(data))[:at+2*len(data)]
	for _, b := range data {
		out[at], out[at+1] = upper[b>>4], upper[b&15]
		at += 2
	}
	return out
}

// Lines returns a line for each row: a text, the address, and the words as [Row.List] has
// them, and after it the pause, where one follows.
func (b *Block) Lines(prefix, before, between string) Text {
	v, cells := b.values, b.values.cellsOf(before, between)
	return b.text(len(prefix)+len("0x0123456789ABCDEF \n"), len(before)+len(between),
		func(out []byte, first uint64, data []byte, pause bool) []byte {
			out = append(memory.AppendAddress(append(out, prefix...), first/v.unit), ' ')
			if out = append(cells.appendTo(out, data), '\n'); pause {
				out = append(append(out, v.Pause...), '\n')
			}
			return out
		})
}

// Row is a few bytes of a run.
type Row struct {
	Number uint64 // of the rows that the template goes through, from 0
	First  uint64
	Last   uint64
	At     uint64 // its first address, in bytes or in words
	Size   uint64
	Data   []byte
	Pause  bool // whether a pause follows

	values *Values
}

// Hex returns the bytes as hex digits.
func (r *Row) Hex() string { return string(hexUpper(nil, r.Data)) }

// Text returns the bytes as text, with dots for what cannot be printed.
func (r *Row) Text() string {
	text := make([]byte, len(r.Data))
	for i, b := range r.Data {
		if text[i] = '.'; b >= 0x20 && b <= 0x7E {
			text[i] = b
		}
	}
	return string(text)
}

// Words returns the row's words as numbers.
func (r *Row) Words() []uint64 {
	var list []uint64
	word := int(r.values.Word)
	for data := r.Data; len(data) >= word; data = data[word:] {
		list = append(list, r.values.order.Number(data[:word]))
	}
	return list
}

// List returns the row's words in hex, all digits, each with a text before it
// and one between them.
func (r *Row) List(before, between string) string {
	return string(r.values.cellsOf(before, between).appendTo(nil, r.Data))
}

// arithmetic is what templates compute with, on numbers of 64 bits without sign.
var arithmetic = map[string]func(a, b uint64) (uint64, error){
	"add": func(a, b uint64) (uint64, error) {
		if a+b < a {
			return 0, fmt.Errorf("add %d %d is above 64 bits", a, b)
		}
		return a + b, nil
	},
	"sub": func(a, b uint64) (uint64, error) {
		if b > a {
			return 0, fmt.Errorf("sub %d %d is below 0", a, b)
		}
		return a - b, nil
	},
	"mul": func(a, b uint64) (uint64, error) {
		if high, low := bits.Mul64(a, b); high == 0 {
			return low, nil
		}
		return 0, fmt.Errorf("mul %d %d is above 64 bits", a, b)
	},
	"div": func(a, b uint64) (uint64, error) {
		if b == 0 {
			return 0, fmt.Errorf("div %d by 0", a)
		}
		return a / b, nil
	},
	"mod": func(a, b uint64) (uint64, error) {
		if b == 0 {
			return 0, fmt.Errorf("mod %d by 0", a)
		}
		return a % b, nil
	},
}

// capitals returns what would be printed, in capitals.
func capitals(text any) string { return strings.ToUpper(fmt.Sprint(text)) }

// digits returns a number as so many hex digits, more where it needs them.
func digits(count int, n uint64) string { return fmt.Sprintf("%0*X", count, n) }
