package release

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"mexalt/output"
	"mexalt/release/proof"
	"mexalt/source"
)

// Rows are rows of a table, both included, from 1; the zero value is all of them.
type Rows struct{ First, Last int }

// has reports whether a row is one of them.
func (w Rows) has(number int) bool { return w == Rows{} || number >= w.First && number <= w.Last }

// suffix is what the names of their log, their manifest and their journal have behind that of
// the release, so that runs with others go on beside.
func (w Rows) suffix() string {
	if w == (Rows{}) {
		return ""
	}
	return fmt.Sprintf("-%d-%d", w.First, w.Last)
}

// usualTable is what a table of units is called where a manifest of units need not say which
// it is of.
const usualTable = "units"

// batchName is the name of the manifest of a table's units.
func (f *File) batchName(table string, o Options) string {
	name := f.stem()
	base := filepath.Base(table)
	if stem := strings.TrimSuffix(base, filepath.Ext(base)); stem != usualTable {
		name += "-" + stem
	}
	name += o.Rows.suffix()
	return filepath.Join(f.outputFolder(o), name+proof.BatchExtension)
}

// manifest writes the manifest of a run's units, and its signature.
func (r *unitsRun) manifest(table string) (string, error) {
	name := r.file.batchName(table, r.options)
	b := &proof.Batch{Header: r.file.header(r.files, r.options, proof.BatchSchema), Table: proof.RelativeName(r.folder, table)}
	if w := r.options.Rows; w != (Rows{}) {
		b.Rows = &proof.TableRows{First: w.First, Last: w.Last, Of: r.count}
	}
	lines := make([][]byte, 0, len(r.entries))
	for _, row := range slices.Sorted(maps.Keys(r.entries)) {
		lines = append(lines, r.entries[row])
	}
	text, err := b.TextOf(lines)
	if err != nil {
		return "", err
	}
	var list []output.File
	add := func(name string, text []byte) {
		list = append(list, output.File{Name: name, Keep: true, Write: func(w io.Writer) error { _, err := w.Write(text); return err }})
	}
	add(name, text)
	if len(r.options.Sign) > 0 {
		signed, err := proof.Sign(r.options.Sign, proof.PayloadType, text)
		if err != nil {
			return "", err
		}
		add(name+proof.SignatureExtension, signed)
	}
	if r.options.ToSign != "" {
		add(r.options.ToSign, proof.ToSign(proof.PayloadType, text))
	}
	if r.options.Depfile != "" {
		rule, err := r.options.rule(r.files, []string{name})
		if err != nil {
			return "", err
		}
		list = append(list, *rule)
	}
	if _, err = output.WriteWith(r.journal, r.files, list); err != nil {
		return "", err
	}
	return name, r.options.stamped(r.files)
}

// AgainUnits returns what makes units again, to be held against their manifest; of the options
// count what draws, and whether results may be large.
func AgainUnits(ctx context.Context, o Options) proof.BatchMaker {
	return func(b *proof.Batch, folder string) (*proof.BatchRemade, error) {
		files := &source.Files{Digest: true, Regular: true, Context: ctx}
		named := func(name string) string {
			name = filepath.FromSlash(name)
			if name == "" || filepath.IsAbs(name) {
				return name
			}
			return filepath.Join(folder, name)
		}
		f, err := Load(files, named(b.Release))
		if err != nil {
			return nil, err
		}
		if err := once(f.problems); err != nil {
			return nil, err
		}
		o := o
		o.Set, o.Variants, o.Folder, o.Dry, o.unwritten, o.salt = b.Set, b.Variants, folder, true, true, b.Salt
		run := f.unitsRun(ctx, files, o)
		rows := sync.OnceValues(func() ([]*row, error) { return run.rowsOf(named(b.Table)) })
		return &proof.BatchRemade{
			Title: f.Title,
			Unit: func(u *proof.Unit) (*proof.UnitRemade, error) {
				one := &row{table: b.Table, number: u.Row, sets: u.Sets, shown: u.Sets}
				if f.hasSecret(u.Sets) { // which the table alone has
					list, err := rows()
					if err != nil {
						return nil, err
					}
					if u.Row > len(list) || !maps.Equal(list[u.Row-1].shown, u.Sets) {
						return nil, fmt.Errorf("row %d of %s is another now", u.Row, b.Table)
					}
					one = list[u.Row-1]
				}
				return run.again(one)
			},
			Rows: func() (list []map[string]string, err error) {
				all, err := rows()
				for _, one := range all {
					list = append(list, one.shown)
				}
				return list, err
			},
			Read: func() []proof.ReadFile { return f.readFiles(files, folder) },
		}, nil
	}
}

// rowsOf reads all rows of a table.
func (r *unitsRun) rowsOf(name string) (list []*row, err error) {
	t, err := r.file.openTable(r.files, name, r.options.salt)
	if err != nil {
		return nil, err
	}
	defer t.file.Close()
	for {
		one, err := t.next()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
}

// again makes a unit again.
func (r *unitsRun) again(one *row) (*proof.UnitRemade, error) {
	p, err := r.planned(one)
	if err != nil {
		return nil, err
	}
	made, failure := r.built(one, p)
	if failure != nil {
		return nil, failure.Err
	}
	o := r.options
	o.Set = r.file.shown(r.given(one), o.salt)
	if made.Variant != "" {
		o.Variants = []string{made.Variant}
	}
	again := &proof.UnitRemade{
		Remade: (&Result{File: r.file, Products: []*Product{made}}).remade(r.files, o),
		Unit:   proof.Unit{Row: one.number, Sets: one.shown},
	}
	again.Unit.SetContents(made.Image)
	for _, f := range made.files {
		again.Unit.Outputs = append(again.Unit.Outputs, proof.UnitFile{File: proof.RelativeName(r.folder, f.Name)})
	}
	return again, nil
}

// given are the variables that a row gives, and those of the command line.
func (r *unitsRun) given(one *row) map[string]string {
	given := r.options.given()
	for name, text := range one.sets {
		if name != "variant" {
			given[name] = text
		}
	}
	return given
}
