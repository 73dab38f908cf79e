package release

import (
	"bufio"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"mexalt/output"
	"mexalt/source"
)

// LogExtension ends the name of a log of units.
const LogExtension = ".units.jsonl"

// Logged is a line of the log of units: JSON Lines, one object a line. A unit has
// a line before its outputs are put in their places, and one with the outputs
// when they are there.
type Logged struct {
	Unit    int               `json:"unit"` // its row in the table, from 1
	Sets    map[string]string `json:"sets"`
	Outputs []LoggedOutput    `json:"outputs,omitempty"`
}

// LoggedOutput is an output of a unit.
type LoggedOutput struct {
	File   string `json:"file"` // from the folder of the outputs
	Size   uint64 `json:"size"`
	SHA256 string `json:"sha256"`
}

// Units is what came of a run with a table of units.
type Units struct {
	Made   int // in this run
	Before int // that an earlier run had made
	Log    string
}

// row is a row of the table.
type row struct {
	number int // from 1
	line   int // of the file
	sets   map[string]string
	key    [16]byte
}

// table reads a table of units, row by row.
type table struct {
	name   string
	file   *source.File
	csv    *csv.Reader
	header []string
	number int
}

// openTable opens a table and reads its header.
func (f *File) openTable(files *source.Files, name string) (*table, error) {
	file, err := files.Open(name, "table of units")
	if err != nil {
		return nil, err
	}
	t := &table{name: file.Name, file: file}
	buffered := bufio.NewReader(file)
	if mark, _ := buffered.Peek(3); string(mark) == "\xEF\xBB\xBF" {
		buffered.Discard(3)
	}
	t.csv = csv.NewReader(buffered)
	t.csv.ReuseRecord = true
	header, err := t.csv.Read()
	if err != nil {
		file.Close()
		if errors.Is(err, io.EOF) {
			return nil, &source.Problem{File: t.name, What: "the table is empty", Expected: "a line with the names of sets, and a line for each unit"}
		}
		return nil, t.problem(err)
	}
	t.header = slices.Clone(header)
	seen := map[string]bool{}
	for i, h := range t.header {
		line, column := t.csv.FieldPos(i)
		wrong := ""
		switch _, known := f.table.Set[h]; {
		case seen[h]:
			wrong = fmt.Sprintf("two columns are called %s", h)
		case !known && h != "variant":
			wrong = fmt.Sprintf("%q is not set in [set] of %s; %s", h, f.Name, source.DidYouMean(h, slices.Sorted(maps.Keys(f.table.Set))))
		}
		if wrong != "" {
			file.Close()
			return nil, &source.Problem{File: t.name, Line: line, Column: column, What: wrong}
		}
		seen[h] = true
	}
	for _, u := range f.Unique {
		if !seen[u] {
			file.Close()
			return nil, &source.Problem{File: t.name, Line: 1, What: fmt.Sprintf("the table has no column %s, which must be unique", u)}
		}
	}
	return t, nil
}

func (t *table) problem(err error) error {
	var at *csv.ParseError
	switch {
	case errors.Is(err, csv.ErrFieldCount) && errors.As(err, &at):
		return &source.Problem{File: t.name, Line: at.Line, What: "the line has another number of fields than the header", Expected: fmt.Sprintf("%d expected", len(t.header))}
	case errors.As(err, &at):
		return &source.Problem{File: t.name, Line: at.Line, Column: at.Column, What: at.Err.Error()}
	}
	return err
}

// next returns the next row; io.EOF is the end.
func (t *table) next() (*row, error) {
	record, err := t.csv.Read()
	if err != nil {
		if err != io.EOF {
			err = t.problem(err)
		}
		return nil, err
	}
	t.number++
	line, _ := t.csv.FieldPos(0)
	r := &row{number: t.number, line: line, sets: map[string]string{}}
	for i, h := range t.header {
		r.sets[h] = strings.Clone(record[i])
	}
	r.key = keyOf(r.sets)
	return r, nil
}

// keyOf returns a digest of sets.
func keyOf(sets map[string]string) (key [16]byte) {
	text, _ := json.Marshal(sets) // sorted by name
	sum := sha256.Sum256(text)
	copy(key[:], sum[:])
	return key
}

// log is the log of units.
type log struct {
	mu    sync.Mutex
	name  string   // of a log that is not there yet
	file  *os.File // nil where it is not
	done  map[[16]byte]bool
	begun map[[16]byte]bool // and perhaps not done
}

// openLog opens the log of a former run, or a new one.
func openLog(name string) (*log, error) {
	l := &log{done: map[[16]byte]bool{}, begun: map[[16]byte]bool{}}
	file, err := os.OpenFile(name, os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		l.name = name // made with the first unit
		return l, nil
	}
	if err != nil {
		return nil, &source.SystemError{File: name, Doing: "write", Err: err}
	}
	lines := bufio.NewReader(file)
	whole := int64(0)
	for n := 1; ; n++ {
		text, err := lines.ReadBytes('\n')
		if err != nil { // what was cut off when the run was killed
			break
		}
		var one Logged
		if err := json.Unmarshal(text, &one); err != nil {
			file.Close()
			return nil, &source.Problem{File: name, Line: n, What: "is no line of a log of units", Advice: source.Advise("another file, or a damaged one; move it away")}
		}
		if key := keyOf(one.Sets); len(one.Outputs) > 0 && one.there(filepath.Dir(name)) {
			l.done[key] = true
			delete(l.begun, key)
		} else {
			l.begun[key] = true
		}
		whole += int64(len(text))
	}
	if err = file.Truncate(whole); err == nil {
		_, err = file.Seek(whole, io.SeekStart)
	}
	if err != nil {
		file.Close()
		return nil, &source.SystemError{File: name, Doing: "write", Err: err}
	}
	l.file = file
	return l, nil
}

// there reports whether a unit's outputs are there, as large as they were: after
// a power cut they may not be, although the log is.
func (one *Logged) there(folder string) bool {
	for _, o := range one.Outputs {
		info, err := os.Stat(filepath.Join(folder, filepath.FromSlash(o.File)))
		if err != nil || uint64(info.Size()) != o.Size {
			return false
		}
	}
	return true
}

func (l *log) close() {
	if l.file != nil {
		l.file.Close()
	}
}

// add appends a line.
func (l *log) add(one Logged) error {
	text, err := json.Marshal(one)
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file == nil {
		if l.file, err = os.OpenFile(l.name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666); err != nil {
			return &source.SystemError{File: l.name, Doing: "write", Err: err}
		}
	}
	if _, err := l.file.Write(append(text, '\n')); err != nil {
		return &source.SystemError{File: l.file.Name(), Doing: "write", Err: err}
	}
	return nil
}

// ErrUnit says at which row of a table a run ended.
type ErrUnit struct {
	File  *File
	Table string
	Line  int
	Sets  map[string]string
	Err   error // [source.Problems], [ErrFindings] or the system's
	// Product is what came of the unit, where its check found something.
	Product *Product
}

func (e *ErrUnit) Error() string { return fmt.Sprintf("%s:%d: %s", e.Table, e.Line, e.Err) }
func (e *ErrUnit) Unwrap() error { return e.Err }

// Text names the unit: "units.csv:17: the unit with serial 10443".
func (e *ErrUnit) Text() string {
	var sets []string
	for _, name := range slices.Sorted(maps.Keys(e.Sets)) {
		sets = append(sets, name+" "+e.Sets[name])
	}
	return fmt.Sprintf("%s:%d: the unit with %s", e.Table, e.Line, strings.Join(sets, ", "))
}

// RunUnits makes one set of outputs for each row of a table. What an earlier
// run has made, by the log, is not made again. The table is read twice: all that
// can be known of it is looked at before anything is written.
func (f *File) RunUnits(files *source.Files, tableName string, o Options) (*Units, error) {
	folder := f.outputFolder(o)
	u := &Units{Log: filepath.Join(folder, f.stem()+LogExtension)}
	if tableName == "-" {
		return nil, source.Keyf("units", "a table is read twice, and standard input can be read once only")
	}
	var l *log
	if o.Dry {
		l = &log{done: map[[16]byte]bool{}, begun: map[[16]byte]bool{}}
	} else {
		j, _, err := f.journal(o)
		if err != nil {
			return nil, err
		}
		defer j.Close()
		if l, err = openLog(u.Log); err != nil {
			return nil, err
		}
		defer func() { l.close() }()
	}
	files.Digest = true
	shared := &reader{files: files, read: map[string]*readInput{}}
	run := &unitsRun{file: f, files: files, shared: shared, options: o, folder: folder, log: l}
	if err := run.look(tableName); err != nil {
		return nil, err
	}
	output.CleanUp(run.unfinished)
	err := run.all(tableName)
	u.Made, u.Before = run.made, run.before
	if err == nil && l.file != nil {
		if err := output.Sync(folder); err != nil {
			return u, &source.SystemError{File: u.Log, Doing: "write", Err: err}
		}
	}
	return u, err
}

// unitsRun is one run with a table.
type unitsRun struct {
	file    *File
	files   *source.Files
	shared  *reader
	options Options
	folder  string
	log     *log

	count      int      // of rows
	unfinished []string // outputs of units that were begun

	mu           sync.Mutex
	made, before int
	failed       *ErrUnit
}

// variantOf returns the variant that a row asks for.
func (r *unitsRun) variantOf(one *row) (*variantTable, error) {
	wanted := r.options.Variants
	if name, ok := one.sets["variant"]; ok {
		wanted = []string{name}
	}
	list, err := r.file.chosen(wanted)
	if err == nil && len(list) > 1 {
		err = source.Keyf("variant", "which variant is a unit? Name one, or give the table a column variant")
	}
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

// plan returns the product of a row. Problems go to a list of its own.
func (r *unitsRun) plan(one *row, problems *source.Problems) (*product, error) {
	v, err := r.variantOf(one)
	if err != nil {
		return nil, err
	}
	f := *r.file
	f.problems = problems
	f.settings = f.settings.Into(problems)
	given := maps.Clone(r.options.Set)
	if given == nil {
		given = map[string]string{}
	}
	for name, text := range one.sets {
		if name != "variant" {
			given[name] = text
		}
	}
	return f.plan(r.files, v, given)
}

// seen remembers digests of values, with the line of each.
type seen map[[16]byte]int

func (s seen) add(text string, line int) (before int) {
	sum := sha256.Sum256([]byte(text))
	key := [16]byte(sum[:16])
	if at, ok := s[key]; ok {
		return at
	}
	s[key] = line
	return 0
}

// look looks through the whole table before anything is written: rows of the
// wrong form, doubles, outputs that are there already or would be made twice,
// values that are wrong.
func (r *unitsRun) look(name string) error {
	t, err := r.file.openTable(r.files, name)
	if err != nil {
		return err
	}
	defer t.file.Close()
	problems := &source.Problems{}
	if err := once(r.file.problems); err != nil {
		return err
	}
	unique := map[string]seen{}
	for _, u := range r.file.Unique {
		unique[u] = seen{}
	}
	outputs := seen{}
	for {
		one, err := t.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		at := func(what, expected string) {
			problems.Add(&source.Problem{File: t.name, Line: one.line, What: what, Expected: expected})
		}
		for _, u := range r.file.Unique {
			if before := unique[u].add(one.sets[u], one.line); before > 0 {
				at(fmt.Sprintf("%s %s is given twice", u, one.sets[u]), fmt.Sprintf("it stands in line %d already", before))
			}
		}
		mine := &source.Problems{}
		p, err := r.plan(one, mine)
		if err != nil {
			return &ErrUnit{File: r.file, Table: t.name, Line: one.line, Sets: one.sets, Err: err}
		}
		if err := once(mine); err != nil {
			return &ErrUnit{File: r.file, Table: t.name, Line: one.line, Sets: one.sets, Err: err}
		}
		r.lookOutputs(p, one, outputs, at)
	}
	if r.count = t.number; r.count == 0 {
		problems.Add(&source.Problem{File: t.name, What: "the table has no unit", Expected: "a line for each unit"})
	}
	return problems.Err()
}

// lookOutputs tells of outputs that are there, or that two units would make.
func (r *unitsRun) lookOutputs(p *product, one *row, outputs seen, at func(what, expected string)) {
	for i, o := range p.outputs {
		text, _ := p.table.Outputs[i]["file"].(string)
		if _, err := p.names.expand(text); err != nil {
			continue // known later
		}
		if before := outputs.add(o.file, one.line); before > 0 {
			at(fmt.Sprintf("the unit would make %s, as the one in line %d", o.file, before), "a file name of its own, such as \"x-{serial}.hex\"")
			continue
		}
		if r.log.begun[one.key] {
			r.unfinished = append(r.unfinished, filepath.Join(r.folder, o.file))
		}
		if r.log.done[one.key] || r.log.begun[one.key] {
			continue
		}
		if _, err := os.Lstat(filepath.Join(r.folder, o.file)); !errors.Is(err, fs.ErrNotExist) {
			at(o.file+" is there already, and no log says that it is this unit's", "no file of that name")
		}
	}
}

// all makes the units, several side by side.
func (r *unitsRun) all(name string) error {
	t, err := r.file.openTable(r.files, name)
	if err != nil {
		return err
	}
	defer t.file.Close()
	r.options.Progress.Begin("making units", "units", int64(r.count))
	rows := make(chan *row)
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for one := range rows {
				err := r.one(t.name, one)
				if r.options.Progress.Add(1); err != nil {
					r.mu.Lock()
					if r.failed == nil || one.line < r.failed.Line {
						r.failed = err
					}
					r.mu.Unlock()
				}
			}
		})
	}
	for {
		one, err := t.next()
		if err != nil {
			close(rows)
			wait.Wait()
			if r.failed != nil {
				return r.failed
			}
			if err == io.EOF {
				return nil
			}
			return err
		}
		r.mu.Lock()
		stop := r.failed != nil
		if r.log.done[one.key] {
			r.before++
		}
		r.mu.Unlock()
		switch {
		case stop:
			close(rows)
			wait.Wait()
			return r.failed
		case !r.log.done[one.key]:
			rows <- one
		}
	}
}

// one makes one unit.
func (r *unitsRun) one(table string, one *row) *ErrUnit {
	failed := func(err error, p *Product) *ErrUnit {
		return &ErrUnit{File: r.file, Table: table, Line: one.line, Sets: one.sets, Err: err, Product: p}
	}
	problems := &source.Problems{}
	p, err := r.plan(one, problems)
	if err != nil {
		return failed(err, nil)
	}
	made := p.make(r.shared, r.options)
	for _, q := range made.problems.Sorted() {
		problems.Add(q)
	}
	if err := once(problems); err != nil {
		return failed(err, nil)
	}
	if made.Checked != nil && len(made.Checked.Counting()) > 0 {
		return failed(ErrFindings, made)
	}
	if r.options.Dry {
		r.mu.Lock()
		r.made++
		r.mu.Unlock()
		return nil
	}
	if !r.log.begun[one.key] {
		for _, f := range made.files {
			if _, err := os.Lstat(f.Name); !errors.Is(err, fs.ErrNotExist) {
				return failed(&source.SystemError{File: f.Name, Doing: "write", Err: errors.New("it is there already, and no log says that it is this unit's")}, nil)
			}
		}
	}
	if err := r.log.add(Logged{Unit: one.number, Sets: one.sets}); err != nil {
		return failed(err, nil)
	}
	for i := range made.files {
		made.files[i].Later = true // together, at the end: one by one takes longer than all the rest
	}
	written, err := output.Write(r.files, made.files)
	if err != nil {
		return failed(err, nil)
	}
	line := Logged{Unit: one.number, Sets: one.sets}
	for _, w := range written {
		inside, err := filepath.Rel(r.folder, w.Name)
		if err != nil {
			inside = w.Name
		}
		line.Outputs = append(line.Outputs, LoggedOutput{File: filepath.ToSlash(inside), Size: uint64(w.Size), SHA256: hex.EncodeToString(w.SHA256[:])})
	}
	if err := r.log.add(line); err != nil {
		return failed(err, nil)
	}
	r.mu.Lock()
	r.made++
	r.mu.Unlock()
	return nil
}
