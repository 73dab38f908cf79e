package release

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
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
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"mexalt/memory"
	"mexalt/output"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/span"

	"golang.org/x/sync/errgroup"
)

// Logged is a line of the log of units: JSON Lines, one object a line. A unit has
// a line before its outputs are put in their places, and one with the outputs
// when they are there.
type Logged struct {
	proof.Unit
	From *MadeFrom `json:"from,omitempty"`
	Salt string    `json:"salt,omitempty"` // of a line of its own: of digests of secrets
}

// MadeFrom is what a unit was made from, each as the beginning of a SHA-256, so that
// it is seen where that is something else today.
type MadeFrom struct {
	Tool    string `json:"tool"`
	Release string `json:"release"`          // the release file
	Device  string `json:"device,omitempty"` // the map, with what it is based on
	Variant string `json:"variant,omitempty"`
	Sets    string `json:"sets"`   // all of them
	Inputs  string `json:"inputs"` // and the other files that steps and outputs name
}

// differs names what is something else.
func (f *MadeFrom) differs(now *MadeFrom) (list []string) {
	if f == nil {
		return []string{"the version of Mexalt, which did not say from what it made them"}
	}
	for _, one := range []struct{ name, was, is string }{
		{"the version of Mexalt", f.Tool, now.Tool}, {"the release file", f.Release, now.Release}, {"the device map", f.Device, now.Device},
		{"the variant", f.Variant, now.Variant}, {"a variable", f.Sets, now.Sets}, {"an input", f.Inputs, now.Inputs},
	} {
		if one.was != one.is {
			list = append(list, one.name)
		}
	}
	return list
}

// Units is what came of a run with a table of units.
type Units struct {
	Made     int // in this run
	Before   int // that an earlier run had made
	Log      string
	Manifest string // "" where nothing was written
}

// row is a row of the table.
type row struct {
	table  string
	number int // from 1
	line   int // of the file
	sets   map[string]string
	shown  map[string]string // with digests in the place of secrets
	key    [16]byte          // of these
}

// table reads a table of units, row by row.
type table struct {
	name   string
	file   *source.File
	csv    *csv.Reader
	header []string
	number int
	of     *File
	salt   string
}

// tableRole is what tables are read as.
const tableRole = "table of units"

// openTable opens a table and reads its header.
func (f *File) openTable(files *source.Files, name, salt string) (*table, error) {
	file, err := files.Open(name, tableRole)
	if err != nil {
		return nil, err
	}
	t := &table{name: file.Name, file: file, of: f, salt: salt}
	buffered := bufio.NewReader(file)
	if mark, _ := buffered.Peek(3); string(mark) == "\xEF\xBB\xBF" {
		buffered.Discard(3)
	}
	const looked = 512
	if head, _ := buffered.Peek(looked); bytes.IndexByte(head, 0) >= 0 {
		file.Close()
		what := source.WhatIs(head)
		return nil, &source.Problem{File: t.name, What: "this is " + what, Expected: "a table in CSV"}
	}
	t.csv = csv.NewReader(buffered)
	t.csv.ReuseRecord = true
	header, err := t.csv.Read()
	if err != nil {
		file.Close()
		if errors.Is(err, io.EOF) {
			return nil, &source.Problem{
				File:     t.name,
				What:     "the table is empty",
				Expected: "a line with the names of variables, and a line for each unit",
			}
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
			wrong = fmt.Sprintf("%q is not a variable of [set] of %s; %s", h, f.Name,
				source.DidYouMean(h, slices.Sorted(maps.Keys(f.table.Set))))
		}
		if wrong != "" {
			file.Close()
			return nil, &source.Problem{File: t.name, Line: line, Column: column, What: wrong}
		}
		seen[h] = true
	}
	if slices.ContainsFunc(t.header, func(h string) bool { return slices.Contains(f.table.Secret, h) }) {
		if err := private(t.name, "a table with secrets"); err != nil {
			file.Close()
			return nil, err
		}
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
		return &source.Problem{
			File:     t.name,
			Line:     at.Line,
			What:     "the number of fields differs from the header",
			Expected: memory.FormatNumber(len(t.header), "field"),
		}
	case errors.As(err, &at):
		return &source.Problem{
			File:   t.name,
			Line:   at.Line,
			Column: at.Column,
			What:   "not valid CSV",
			Advice: source.Advise("look at the quotes of this line"),
		}
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
	r := &row{table: t.name, number: t.number, line: line, sets: map[string]string{}}
	for i, h := range t.header {
		r.sets[h] = strings.Clone(record[i])
	}
	r.shown = t.of.shown(r.sets, t.salt)
	r.key = keyOf(r.shown)
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
	mu   sync.Mutex
	salt string // of digests of secrets
	// newSalt is one that is still to be written.
	newSalt string
	name    string   // of a log that is not there yet
	file    *os.File // nil where it is not
	done    map[[16]byte]*logged
	begun   map[[16]byte]bool // and perhaps not done
}

// logged is what is known of a unit that was made.
type logged struct {
	from    *MadeFrom
	unit    *proof.Unit
	changed string // the one that is not what was made; "" is none
}

// openLog opens the log of a former run, or a new one; dry opens it for reading alone.
func openLog(name string, dry bool) (*log, error) {
	l := &log{done: map[[16]byte]*logged{}, begun: map[[16]byte]bool{}}
	doing, mode := "write", os.O_RDWR
	if dry {
		doing, mode = "read", os.O_RDONLY
	}
	fail := func(err error) error { return &source.SystemError{File: name, Doing: doing, Err: err} }
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		l.name = name // made with the first unit
		return l, nil
	}
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is not a regular file")
	}
	if err != nil {
		return nil, fail(err)
	}
	file, err := os.OpenFile(name, mode, 0)
	if err != nil {
		return nil, fail(err)
	}
	whole, err := l.read(name, file)
	if err == nil && !dry {
		if err = file.Truncate(whole); err == nil {
			_, err = file.Seek(whole, io.SeekStart)
		}
		if err != nil {
			err = fail(err)
		}
	}
	if err != nil || dry {
		file.Close()
		return l, err
	}
	l.file = file
	return l, nil
}

// read reads the lines of a log; whole is how many bytes the whole ones have.
func (l *log) read(name string, file io.Reader) (whole int64, err error) {
	lines := bufio.NewReader(file)
	same := map[MadeFrom]*MadeFrom{} // nearly all are alike
	for n := 1; ; n++ {
		text, err := lines.ReadBytes('\n')
		if err != nil { // what was cut off when the run was killed
			return whole, nil
		}
		var one Logged
		if err := json.Unmarshal(text, &one); err != nil {
			return 0, &source.Problem{
				File:   name,
				Line:   n,
				What:   "is not a line of a log of units",
				Advice: source.Advise("another file, or a damaged one; move it away"),
			}
		}
		for _, o := range one.Outputs {
			if !filepath.IsLocal(filepath.FromSlash(o.File)) {
				return 0, &source.Problem{
					File:     name,
					Line:     n,
					What:     fmt.Sprintf("names the output %q, outside its folder", o.File),
					Expected: "a file in it",
					Advice:   source.Advise("the log was changed; move it away"),
				}
			}
		}
		if one.Salt != "" {
			l.salt = one.Salt
			whole += int64(len(text))
			continue
		}
		key := keyOf(one.Sets)
		delete(l.done, key)
		if found, there := one.there(filepath.Dir(name)); len(one.Outputs) > 0 && there {
			found.unit = &one.Unit
			if one.From != nil {
				if same[*one.From] == nil {
					same[*one.From] = one.From
				}
				found.from = same[*one.From]
			}
			l.done[key] = found
			delete(l.begun, key)
		} else {
			l.begun[key] = true
		}
		whole += int64(len(text))
	}
}

// there reports whether a unit's outputs are there, as large as they were: after
// a power cut they may not be, although the log is. What is as large and something
// else was changed by somebody.
func (one *Logged) there(folder string) (l *logged, ok bool) {
	l = &logged{}
	for _, o := range one.Outputs {
		path := filepath.Join(folder, filepath.FromSlash(o.File))
		info, err := os.Stat(path)
		if err != nil || !info.Mode().IsRegular() || uint64(info.Size()) != o.Size {
			return nil, false
		}
		if _, sum, err := proof.FileDigest(path); err != nil || sum != o.SHA256 {
			l.changed = o.File
		}
	}
	return l, true
}

func (l *log) close() {
	if l.file != nil {
		l.file.Close()
	}
}

// add appends a line.
func (l *log) add(text []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	var err error
	if l.file == nil {
		if l.file, err = os.OpenFile(l.name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666); err != nil {
			return &source.SystemError{File: l.name, Doing: "write", Err: err}
		}
	}
	if l.newSalt != "" {
		first, err := json.Marshal(Logged{Salt: l.newSalt})
		if err != nil {
			return err
		}
		text, l.newSalt = slices.Concat(first, []byte("\n"), text), ""
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

// StaleError says that units which were made before would be something else today, or
// are no longer what was made.
type StaleError struct {
	Units []string // the first of them, with what is something else
	More  int
}

func (e *StaleError) Error() string {
	n := len(e.Units) + e.More
	if n == 1 {
		return "1 unit that was made before is not what this run would make; nothing was made"
	}
	return fmt.Sprintf("%s units that were made before are not what this run would make; nothing was made", memory.FormatCount(uint64(n)))
}

// RunUnits makes one set of outputs for each row of a table. What an earlier
// run has made, by the log, of just the same is not made again. Each unit is made and
// checked, and written beside its place; when all are, they are put in their places.
func (f *File) RunUnits(ctx context.Context, files *source.Files, tableName string, o Options) (*Units, error) {
	folder := f.outputFolder(o)
	u := &Units{Log: f.logName(o)}
	if tableName == "-" {
		return nil, source.Keyf("units", "the manifest names the table, and standard input has no name")
	}
	var j *output.Journal
	if !o.Dry {
		var err error
		if j, _, err = f.journal(o); err != nil {
			return nil, err
		}
		defer j.Close()
	}
	l, err := openLog(u.Log, o.Dry)
	if err != nil {
		return nil, err
	}
	defer func() { l.close() }()
	files.Digest = true
	if err := f.givenSecrets(&o); err != nil {
		return nil, err
	}
	if o.salt = l.salt; o.salt == "" {
		o.salt = f.newSalt(f.batchName(tableName, o))
		l.newSalt = o.salt
	}
	for _, name := range []string{u.Log, f.batchName(tableName, o), f.batchName(tableName, o) + proof.SignatureExtension, o.ToSign} {
		if err := o.stampIs(name); err != nil {
			return nil, err
		}
	}
	run := f.unitsRun(ctx, files, o)
	run.log, run.journal = l, j
	defer run.discard()
	if err := run.prove(tableName); err != nil {
		return nil, err
	}
	// What tells of all units is written last: where it cannot be, none is made.
	last := []output.File{{Name: f.batchName(tableName, o)}}
	for _, name := range []string{o.ToSign, o.Depfile, o.Stamp} {
		if name != "" {
			last = append(last, output.File{Name: name})
		}
	}
	if len(o.Sign) > 0 {
		last = append(last, output.File{Name: f.batchName(tableName, o) + proof.SignatureExtension})
	}
	if err := output.Check(files, last); err != nil {
		return nil, err
	}
	if o.Dry {
		u.Made, u.Before = run.chosen()-run.before, run.before
		return u, nil
	}
	// All of it has reached the disk before the first is in its place.
	sync := func() error {
		if err := output.Sync(folder); err != nil {
			return &source.SystemError{File: u.Log, Doing: "write", Err: err}
		}
		return nil
	}
	if len(run.prepared) > 0 {
		if err := sync(); err != nil {
			return u, err
		}
	}
	err = run.commit(tableName)
	u.Made, u.Before = run.made, run.before
	if err != nil {
		return u, err
	}
	if run.made > 0 {
		if err := sync(); err != nil {
			return u, err
		}
	}
	// Last: it says that all of them are there.
	u.Manifest, err = run.manifest(tableName)
	return u, err
}

// chosen is how many rows are to be made.
func (r *unitsRun) chosen() int {
	if w := r.options.Rows; w != (Rows{}) {
		return w.Last - w.First + 1
	}
	return r.count
}

// NeedsUnits tells that a release is made for units, each with values of its own, where
// none of these is set.
func (f *File) NeedsUnits(set map[string]string) error {
	for _, u := range f.Unique {
		if _, ok := set[u]; !ok {
			return source.Keyf("units",
				"missing; each unit has a %s of its own, as `unique` says: a table, or one value of it is needed", u)
		}
	}
	return nil
}

func (f *File) logName(o Options) string {
	return filepath.Join(f.outputFolder(o), f.stem()+o.Rows.suffix()+proof.LogExtension)
}

// unitsRun is one run with a table.
type unitsRun struct {
	ctx     context.Context
	file    *File
	files   *source.Files
	shared  *reader
	options Options
	folder  string
	log     *log
	journal *output.Journal // nil of a dry run

	count    int                   // of rows
	prepared map[int]*preparedUnit // by row
	entries  map[int][]byte        // of the manifest, by row

	mu           sync.Mutex
	made, before int
	digests      map[string]string // of files and maps, by name
}

func (f *File) unitsRun(ctx context.Context, files *source.Files, o Options) *unitsRun {
	const kept = 100 // inputs that units share
	return &unitsRun{
		ctx:      ctx,
		file:     f,
		files:    files,
		shared:   &reader{files: files, read: map[string]*readInput{}, most: kept},
		options:  o,
		folder:   f.outputFolder(o),
		digests:  map[string]string{},
		prepared: map[int]*preparedUnit{},
		entries:  map[int][]byte{},
	}
}

// variantOf returns the variant that a row asks for.
func (r *unitsRun) variantOf(one *row) (*variantTable, error) {
	wanted := r.options.Variants
	if name, ok := one.sets["variant"]; ok {
		wanted = []string{name}
	}
	list, err := r.file.chosen(wanted)
	if err == nil && len(list) > 1 {
		err = source.Keyf("variant", "name the variant of the units, or add a column named variant")
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
	return f.plan(r.files, v, r.given(one))
}

// seen remembers values by their digests, and those that came more than once.
type seen struct {
	first map[[16]byte]inLine
	more  map[[16]byte][]inLine
}

// inLine is a value in a line, as it is written there.
type inLine struct {
	line int
	text string
}

func newSeen() *seen { return &seen{map[[16]byte]inLine{}, map[[16]byte][]inLine{}} }

func (s *seen) add(value string, line int, text string) {
	sum := sha256.Sum256([]byte(value))
	key := [16]byte(sum[:16])
	if _, ok := s.first[key]; ok {
		s.more[key] = append(s.more[key], inLine{line, text})
		return
	}
	s.first[key] = inLine{line, text}
}

// doubles calls for each value that came before in another line. Rows come in any
// order.
func (s *seen) doubles(tell func(one inLine, before int)) {
	for key, more := range s.more {
		all := append(slices.Clone(more), s.first[key])
		slices.SortFunc(all, func(a, b inLine) int { return a.line - b.line })
		for _, one := range all[1:] {
			if one.line != all[0].line {
				tell(one, all[0].line)
			}
		}
	}
}

// prove looks through the whole table before anything is written: rows of the
// wrong form, doubles, values that are wrong, units that cannot be made, outputs that
// are there already or would be made twice.
func (r *unitsRun) prove(name string) error {
	if err := once(r.file.problems); err != nil {
		return err
	}
	l := &looking{unitsRun: r, problems: &source.Problems{}, outputs: newSeen(), unique: map[string]*seen{}}
	for _, u := range r.file.Unique {
		l.unique[u] = newSeen()
	}
	n, err := r.rows(name, "proving units", func(one *row) *ErrUnit {
		if !l.values(one) || !r.options.Rows.has(one.number) {
			return nil
		}
		return l.unit(one)
	})
	if err != nil {
		return err
	}
	if r.count = n; n == 0 {
		l.problems.Add(&source.Problem{File: name, What: "the table has no unit", Expected: "a line for each unit"})
	}
	if w := r.options.Rows; w.Last > n {
		return source.Keyf("rows", "%d..%d, and %s has %s", w.First, w.Last, name, memory.FormatNumber(n, "row"))
	}
	l.doubles(name)
	if err := l.problems.Err(); err != nil {
		return err
	}
	if len(l.stale) == 0 {
		return nil
	}
	slices.SortFunc(l.stale, func(a, b staleUnit) int { return a.line - b.line })
	const few = 5
	e := &StaleError{More: max(len(l.stale)-few, 0)}
	for _, s := range l.stale[:len(l.stale)-e.More] {
		e.Units = append(e.Units, s.text)
	}
	return e
}

// looking is a table that is looked through.
type looking struct {
	*unitsRun
	mu       sync.Mutex
	problems *source.Problems
	outputs  *seen
	unique   map[string]*seen
	stale    []staleUnit
}

// staleUnit is a unit that was made before, and is not what it would be today.
type staleUnit struct {
	line int
	text string
}

// problem adds what is wrong with a row.
func (l *looking) problem(table string, line int, what, expected string) {
	l.problems.Add(&source.Problem{File: table, Line: line, What: what, Expected: expected})
}

// values looks at the values of a row that must be there once.
func (l *looking) values(one *row) (ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	ok = true
	for _, u := range l.file.Unique {
		text := one.sets[u]
		if strings.TrimSpace(text) == "" {
			l.problem(one.table, one.line, fmt.Sprintf("%s is empty", u), "a value that no other unit has")
			ok = false
			continue
		}
		value := text
		if n, err := span.Number(text); err == nil && l.file.numeric(u) {
			value = fmt.Sprint(n) // 16, 0x10 and 016 are one number
		}
		if slices.Contains(l.file.table.Secret, u) {
			text = hidden
		}
		l.unique[u].add(value, one.line, text)
	}
	return ok
}

// unit makes a unit in memory, unless it was made before, and proves what would be
// written.
func (l *looking) unit(one *row) *ErrUnit {
	failed := func(err error, p *Product) *ErrUnit { return l.failed(one, err, p) }
	p, err := l.planned(one)
	if err != nil {
		return failed(err, nil)
	}
	if done := l.log.done[one.key]; done != nil && !l.options.Again {
		if err := l.before(one, p, done); err != nil {
			return failed(err, nil)
		}
		return nil
	}
	made, failure := l.built(one, p)
	if failure != nil {
		return failure
	}
	var names []string
	for i, f := range made.files {
		if err := l.options.stampIs(f.Name); err != nil {
			return failed(err, nil)
		}
		inside := proof.RelativeName(l.folder, f.Name)
		names = append(names, inside)
		text, _ := l.file.table.Outputs[i]["file"].(string)
		if base := path.Base(inside); strings.HasPrefix(base, ".") && !strings.HasPrefix(path.Base(filepath.ToSlash(text)), ".") {
			l.mu.Lock()
			l.problem(one.table, one.line, fmt.Sprintf("the unit would make %s, a name without its stem", inside),
				"values that are not empty")
			l.mu.Unlock()
		}
		if l.log.begun[one.key] || l.log.done[one.key] != nil {
			continue
		}
		if _, err := os.Lstat(f.Name); !errors.Is(err, fs.ErrNotExist) {
			l.mu.Lock()
			l.problem(one.table, one.line, inside+" exists, but the log does not list it for this unit",
				"no file of that name; move it away, or change the output name")
			l.mu.Unlock()
		}
	}
	l.names(one, names)
	l.mu.Lock()
	wrong := l.problems.Errors() > 0
	l.mu.Unlock()
	if l.options.Dry || wrong {
		err = output.Check(l.files, made.files)
	} else {
		err = l.prepare(one, p, made)
	}
	if err != nil {
		return failed(err, nil)
	}
	return nil
}

// before looks at a unit that was made before: whether it would be the same today,
// and is what was made.
func (l *looking) before(one *row, p *product, done *logged) error {
	now, err := l.madeFrom(p)
	if err != nil {
		return err
	}
	var names []string
	for _, o := range done.unit.Outputs {
		names = append(names, o.File)
	}
	l.names(one, names)
	u := *done.unit
	u.Row = one.number // of this table
	entry, err := u.Text()
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.entries[one.number] = entry
	l.unitsRun.before++
	why := done.from.differs(now)
	for i := range why {
		why[i] += " is another now"
	}
	if done.changed != "" {
		why = append(why, done.changed+" was changed since")
	}
	if len(why) > 0 {
		who := (&ErrUnit{Table: one.table, Line: one.line, Sets: one.shown}).Text()
		l.stale = append(l.stale, staleUnit{one.line, who + " was made before: " + strings.Join(why, ", ")})
	}
	return nil
}

// names remembers the outputs of a unit. Names that differ in case alone are one file
// on many systems.
func (l *looking) names(one *row, names []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, name := range names {
		l.outputs.add(strings.ToLower(path.Clean(name)), one.line, name)
	}
}

// doubles tells of values that two units have, and of outputs that two would make.
func (l *looking) doubles(table string) {
	for _, u := range l.file.Unique {
		l.unique[u].doubles(func(one inLine, before int) {
			l.problem(table, one.line, fmt.Sprintf("%s %s is given twice", u, one.text),
				fmt.Sprintf("another value than in line %d", before))
		})
	}
	l.outputs.doubles(func(one inLine, before int) {
		l.problem(table, one.line, fmt.Sprintf("the unit would make %s, as the one in line %d", one.text, before),
			"a file name of its own, such as \"x-{serial}.hex\"")
	})
}

// madeFrom says what a product is made from.
func (r *unitsRun) madeFrom(p *product) (*MadeFrom, error) {
	short := func(text []byte) string { sum := sha256.Sum256(text); return hex.EncodeToString(sum[:8]) }
	f := &MadeFrom{Tool: short([]byte(r.options.Tool)), Release: r.file.digest, Variant: p.variant}
	if p.dev != nil {
		f.Device = r.digest(fmt.Sprintf("map %p", p.dev), func() string { return short([]byte(p.dev.Text() + p.dev.Board.Text())) })
	}
	sets, err := json.Marshal(r.file.shown(p.names.values, r.options.salt))
	if err != nil {
		return nil, err
	}
	f.Sets = short(sets)
	var inputs []byte
	for _, in := range p.inputs {
		one := r.shared.get(p.path(in.file), in)
		if one.err != nil {
			return nil, one.err
		}
		inputs = append(inputs, one.recorded.SHA256()...)
	}
	for _, other := range p.otherFiles() {
		inputs = append(inputs, r.digest(other.path, func() string { return r.sum(other) })...)
	}
	f.Inputs = short(inputs)
	return f, nil
}

// digest returns a digest that is made once.
func (r *unitsRun) digest(name string, sum func() string) string {
	r.mu.Lock()
	known, ok := r.digests[name]
	r.mu.Unlock()
	if ok {
		return known
	}
	known = sum()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.digests[name] = known
	return known
}

// path returns where a file is that the release file names.
func (f *File) path(name string) string {
	if name == "-" || filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(f.folder, name)
}

// sum reads a file, and returns its digest; "" is that it cannot be read, which is said where it
// is used.
func (r *unitsRun) sum(other otherFile) string {
	file, err := r.files.Open(other.path, other.role)
	if err != nil {
		return ""
	}
	defer file.Close()
	if _, err := io.Copy(io.Discard, file); err != nil {
		return ""
	}
	return hex.EncodeToString(file.Recorded().SHA256())
}

// otherFile is a file that a step or an output names.
type otherFile struct {
	path string
	role string // value or template
}

// otherFiles returns the files that steps and outputs name.
func (p *product) otherFiles() (list []otherFile) {
	add := func(role, text string) {
		if name, err := p.names.expand(text); err == nil {
			list = append(list, otherFile{p.path(fileName(name)), role})
		}
	}
	for _, s := range slices.Concat(p.alone, p.steps) {
		for _, set := range s.list {
			if set.key == "file" {
				add("value", set.value)
			}
		}
	}
	for _, o := range p.outputs {
		for _, set := range o.settings {
			if set.Key == "template" && source.Exists(p.path(set.Value)) {
				add("template", set.Value)
			}
		}
	}
	return list
}

// numeric reports whether a number is made of a set, so that its value counts and not
// its text.
func (f *File) numeric(set string) bool {
	braces := "{" + set + "}"
	var walk func(key string, value any) bool
	walk = func(key string, value any) bool {
		switch x := value.(type) {
		case string:
			return slices.Contains([]string{"number", "at", "shift", "size"}, key) && strings.Contains(x, braces)
		case []any:
			return slices.ContainsFunc(x, func(y any) bool { return walk(key, y) })
		case map[string]any:
			for k, y := range x {
				if walk(k, y) {
					return true
				}
			}
		}
		return false
	}
	for _, s := range f.table.Steps {
		if walk("", s) {
			return true
		}
	}
	return false
}

// rows does something for each row of a table, several side by side, and returns how
// many there are. Of rows that fail, the first counts.
func (r *unitsRun) rows(name, what string, do func(*row) *ErrUnit) (count int, err error) {
	t, err := r.file.openTable(r.files, name, r.options.salt)
	if err != nil {
		return 0, err
	}
	defer t.file.Close()
	r.options.Progress.Begin(what, "units", int64(r.count))
	var mu sync.Mutex
	var failed *ErrUnit
	rows := make(chan *row)
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for one := range rows {
				err := do(one)
				if r.options.Progress.Add(1); err != nil {
					mu.Lock()
					if failed == nil || one.line < failed.Line {
						failed = err
					}
					mu.Unlock()
				}
			}
		})
	}
	for {
		one, err := t.next()
		mu.Lock()
		stop := failed != nil || r.ctx.Err() != nil
		mu.Unlock()
		if err == nil && !stop {
			rows <- one
			continue
		}
		close(rows)
		wait.Wait()
		switch {
		case failed != nil:
			return t.number, failed
		case stop:
			return t.number, r.ctx.Err()
		case err != io.EOF:
			return t.number, err
		}
		return t.number, nil
	}
}

// planned returns the product of a row, of which all is right so far.
func (r *unitsRun) planned(one *row) (*product, error) {
	problems := &source.Problems{}
	p, err := r.plan(one, problems)
	if err == nil {
		err = once(problems)
	}
	return p, err
}

// built builds the product of a row, and checks it.
func (r *unitsRun) built(one *row, p *product) (*Product, *ErrUnit) {
	made := p.build(r.ctx, r.shared, r.options)
	if err := once(made.problems); err != nil {
		if made.system != nil {
			err = &failedMaking{err, made.system}
		}
		return nil, r.failed(one, err, nil)
	}
	if err := r.ctx.Err(); err != nil {
		return nil, r.failed(one, err, nil)
	}
	if made.Checked != nil && len(made.Checked.Counting()) > 0 {
		return nil, r.failed(one, ErrFindings, made)
	}
	return made, nil
}

// failed says at which row the run ended.
func (r *unitsRun) failed(one *row, err error, p *Product) *ErrUnit {
	return &ErrUnit{File: r.file, Table: one.table, Line: one.line, Sets: one.shown, Err: err, Product: p}
}

// preparedUnit is a unit that is written, and not in its place.
type preparedUnit struct {
	line  int // of the table
	key   [16]byte
	files *output.Prepared
	// What the log says of it before and behind, and its line in the manifest.
	begun, done, entry []byte
}

// prepare writes a unit's outputs beside their places, with what will be said of them.
func (r *unitsRun) prepare(one *row, p *product, made *Product) error {
	from, err := r.madeFrom(p)
	if err != nil {
		return err
	}
	for i := range made.files {
		made.files[i].Later = true // together, at the end: one by one takes longer than all the rest
	}
	u := &preparedUnit{line: one.line, key: one.key}
	if u.files, err = output.Prepare(r.journal, r.files, made.files); err != nil {
		return err
	}
	line := Logged{Unit: proof.Unit{Row: one.number, Sets: one.shown}}
	if u.begun, err = json.Marshal(line); err == nil {
		line.From = from
		line.SetContents(made.Image)
		for _, w := range u.files.Written() {
			line.Outputs = append(line.Outputs,
				proof.UnitFile{File: proof.RelativeName(r.folder, w.Name), Size: uint64(w.Size), SHA256: hex.EncodeToString(w.SHA256[:])})
		}
		if u.done, err = json.Marshal(line); err == nil {
			u.entry, err = line.Text()
		}
	}
	if err != nil {
		u.files.Discard()
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.prepared[one.number] = u
	return nil
}

// discard takes away what was written and is in no place.
func (r *unitsRun) discard() {
	for _, u := range r.prepared {
		u.files.Discard()
	}
}

// commit puts all units in their places, several side by side.
func (r *unitsRun) commit(table string) error {
	r.options.Progress.Begin("making units", "units", int64(len(r.prepared)))
	group, ctx := errgroup.WithContext(r.ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, number := range slices.Sorted(maps.Keys(r.prepared)) {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			u := r.prepared[number]
			if err := r.unit(u); err != nil {
				var of Logged
				json.Unmarshal(u.begun, &of)
				return &ErrUnit{File: r.file, Table: table, Line: u.line, Sets: of.Sets, Err: err}
			}
			r.mu.Lock()
			defer r.mu.Unlock()
			r.entries[number] = u.entry
			r.made++
			r.options.Progress.Add(1)
			return nil
		})
	}
	return cmp.Or(group.Wait(), r.ctx.Err())
}

// unit puts one unit in its place: the log says before that it is begun, and behind that it is
// there.
func (r *unitsRun) unit(u *preparedUnit) error {
	if !r.log.begun[u.key] && r.log.done[u.key] == nil {
		for _, w := range u.files.Written() {
			if _, err := os.Lstat(w.Name); !errors.Is(err, fs.ErrNotExist) {
				return &source.SystemError{
					File:  w.Name,
					Doing: "write",
					Err: errors.New("the file exists, but the log does not list it for this unit; move it away, or change the " +
						"output name"),
				}
			}
		}
	}
	if err := r.log.add(u.begun); err != nil {
		return err
	}
	if err := u.files.Commit(); err != nil {
		return err
	}
	return r.log.add(u.done)
}
