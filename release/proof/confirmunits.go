package proof

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/output"
	"mexalt/source"

	"golang.org/x/sync/errgroup"
)

// BatchMaker makes the units of a manifest again, and writes nothing: the release file and
// what it reads are named from a folder.
type BatchMaker func(b *Batch, folder string) (*BatchRemade, error)

// BatchRemade is what makes units again.
type BatchRemade struct {
	Title string // the name of the release
	// Unit makes a unit again.
	Unit func(u *Unit) (*UnitRemade, error)
	// Rows reads the table's rows.
	Rows func() ([]map[string]string, error)
	// Read returns what was read so far: by name, from the folder.
	Read func() []ReadFile
}

// UnitRemade is a unit that was made again.
type UnitRemade struct {
	*Remade      // of one product
	Unit    Unit // of its outputs, the names alone
}

// written writes the unit's outputs again, to nothing; it returns the unit with their sizes and
// digests.
func (r *UnitRemade) written() (u Unit, list []output.Written, err error) {
	u = r.Unit
	for i, o := range writeAgain(r.Remade)[0] {
		if o.err != nil {
			return u, nil, o.err
		}
		u.Outputs[i].Size, u.Outputs[i].SHA256 = uint64(o.Size), hex.EncodeToString(o.SHA256[:])
		list = append(list, o.Written)
	}
	return u, list, nil
}

// ConfirmBatch holds files against a manifest of units, as [Confirm] does against one of a
// release: all units, or the one that a text names.
func ConfirmBatch(files *source.Files, name, unit string, o Confirming, again BatchMaker) (*Confirmation, error) {
	b, err := LoadBatch(files, name)
	if err != nil {
		return nil, err
	}
	return b.confirm(files, name, unit, o, again)
}

func (b *Batch) confirm(files *source.Files, name, unit string, o Confirming, again BatchMaker) (*Confirmation, error) {
	c := &confirmer{Confirmation: &Confirmation{Manifest: &Manifest{Header: b.Header}}, folder: filepath.Dir(name)}
	units := b.Units
	if unit != "" {
		one, err := b.Unit(unit)
		if err != nil {
			return nil, err
		}
		units = []Unit{*one}
	}
	if ok, err := c.trusted(files, name, &o.Trust); err != nil || !ok {
		return c.Confirmation, err
	}
	c.tool(o.Tool)
	different := map[string]int{} // answers, by their files
	for i := range units {
		for _, f := range units[i].Outputs {
			if !c.same(outputAnswer, f.File, int64(f.Size), f.SHA256) {
				different[f.File] = len(c.Answers) - 1
			}
		}
	}
	switch {
	case c.Outputs() == 0:
		c.answer(false, "manifest", b.Name, "it names no output, so nothing is confirmed")
	case o.OutputsOnly:
	case unit == "" && !c.inputs():
		c.answer(false, Rebuild, b.Release, "skipped: the inputs have changed")
	default:
		c.unitsAgain(b, units, unit == "", different, again)
	}
	return c.Confirmation, nil
}

// ConfirmBatches confirms several manifests of units, each of other rows of one table, and
// whether they are one batch together: made of the same, every row once, no file twice.
func ConfirmBatches(files *source.Files, names []string, o Confirming, again BatchMaker) (*Confirmation, error) {
	all := &confirmer{Confirmation: &Confirmation{}}
	var batches []*Batch
	for _, name := range names {
		b, err := LoadBatch(files, name)
		if err != nil {
			return nil, err
		}
		c, err := b.confirm(files, name, "", o, again)
		if err != nil {
			return nil, err
		}
		if all.Manifest == nil {
			all.Manifest = c.Manifest
		}
		all.Answers = append(all.Answers, c.Answers...)
		batches = append(batches, b)
	}
	all.joined(names, batches)
	return all.Confirmation, nil
}

// joined answers whether manifests are one batch together.
func (c *confirmer) joined(names []string, batches []*Batch) {
	no := func(text string, args ...any) { c.answer(false, "table", batches[0].Table, text, args...) }
	order := make([]int, len(batches))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(batches[a].rows().First, batches[b].rows().First) })
	first, next := batches[0], 1
	made := map[string]int{} // in which manifest each file is
	for _, i := range order {
		b, rows := batches[i], batches[i].rows()
		if what := first.differs(b); what != "" {
			no("%s and %s are of different batches: %s", names[0], names[i], what)
			return
		}
		switch {
		case rows.First > next:
			no("no manifest has %s", rowsText(next, rows.First-1))
		case rows.First < next:
			no("%s also has %s, which another manifest has", names[i], rowsText(rows.First, min(next-1, rows.Last)))
		}
		next = max(next, rows.Last+1)
		for j := range b.Units {
			for _, o := range b.Units[j].Outputs {
				if k, twice := made[strings.ToLower(o.File)]; twice {
					no("%s is in %s and in %s", o.File, names[k], names[i])
				}
				made[strings.ToLower(o.File)] = i
			}
		}
	}
	if of := first.rows().Of; next <= of {
		no("no manifest has %s", rowsText(next, of))
	}
	if c.Confirmed() {
		c.answer(true, "table", first.Table, "each of its %s is in one of %d manifests", memory.FormatNumber(next-1, "row"), len(batches))
	}
}

func rowsText(first, last int) string {
	if first == last {
		return fmt.Sprintf("row %d", first)
	}
	return fmt.Sprintf("rows %d to %d", first, last)
}

// differs says in what another manifest cannot be of the same batch; "" is that it can.
func (b *Batch) differs(other *Batch) string {
	switch {
	case b.Release != other.Release || b.Name != other.Name:
		return "the release"
	case b.Table != other.Table:
		return "the table"
	case b.rows().Of != other.rows().Of:
		return "how many rows the table has"
	case b.Tool != other.Tool:
		return "the version of Mexalt"
	case !maps.Equal(b.Set, other.Set) || !slices.Equal(b.Variants, other.Variants):
		return "the variables"
	}
	read := map[string]ReadFile{}
	for _, r := range b.Read {
		read[r.File+"\x00"+r.Role] = r
	}
	for _, r := range other.Read {
		if was, ok := read[r.File+"\x00"+r.Role]; ok && was != r {
			return r.File
		}
	}
	return ""
}

// unitsAgain makes units again and holds them against the manifest. Of a whole batch, what
// the manifest says of rows and of what was read must be so too; of one unit, what was read
// for it.
func (c *confirmer) unitsAgain(b *Batch, units []Unit, whole bool, different map[string]int, again BatchMaker) {
	fail := func(err error) { c.answer(false, Rebuild, b.Release, "%s", err) }
	r, err := again(b, c.folder)
	if err != nil {
		fail(err)
		return
	}
	answers := make([][]Answer, len(units))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i := range units {
		group.Go(func() error {
			answers[i] = unitAgain(b, &units[i], r)
			return nil // each has answers of its own
		})
	}
	group.Wait()
	c.whereUnits(b, units, different, r)
	read := r.Read()
	if !whole {
		for _, f := range read {
			if i := slices.IndexFunc(b.Read, func(g ReadFile) bool { return g.File == f.File && g.Role == f.Role }); i < 0 {
				c.answer(false, "input", f.File, "the manifest does not list it")
			} else {
				c.input(&b.Read[i])
			}
		}
	}
	for _, list := range answers {
		c.Answers = append(c.Answers, list...)
	}
	if whole && c.Confirmed() {
		c.wholeBatch(b, r)
	}
}

// whereUnits says of the first outputs that differ where they do.
func (c *confirmer) whereUnits(b *Batch, units []Unit, different map[string]int, r *BatchRemade) {
	left := 20 // units of which it is said: each is made again for that
	for i := range units {
		u := &units[i]
		if left == 0 || len(different) == 0 {
			return
		}
		j := slices.IndexFunc(u.Outputs, func(o UnitFile) bool { _, ok := different[o.File]; return ok })
		if j < 0 {
			continue
		}
		left--
		made, err := r.Unit(u)
		if err != nil {
			continue // of which an answer tells
		}
		is, written, err := made.written()
		if err != nil || !slices.Equal(is.Outputs, u.Outputs) {
			continue
		}
		outputs := made.Manifest(b.Tool, b.Made, written).Products[0].Outputs
		for k, o := range u.Outputs {
			n, ok := different[o.File]
			var text bytes.Buffer
			if !ok || made.Products[0].Outputs[k].Write(&text) != nil {
				continue
			}
			if where := c.where(&outputs[k], text.Bytes(), made.Products[0].Map); where != "" {
				c.Answers[n].Text += ": " + where
			}
			delete(different, o.File)
		}
	}
}

// unitAgain makes a unit again, and answers for its outputs and for what the manifest says of
// its contents.
func unitAgain(b *Batch, u *Unit, r *BatchRemade) []Answer {
	no := func(name, text string, args ...any) []Answer {
		return []Answer{{What: Rebuild, Name: name, Text: fmt.Sprintf(text, args...)}}
	}
	name := fmt.Sprintf("unit %d", u.Row)
	made, err := r.Unit(u)
	if err != nil {
		return no(name, "%s", err)
	}
	is, _, err := made.written()
	if err != nil {
		return no(name, "%s", err)
	}
	if len(is.Outputs) != len(u.Outputs) {
		return no(name, "it makes %s; expected %d", memory.FormatNumber(len(is.Outputs), "output"), len(u.Outputs))
	}
	var list []Answer
	for i, o := range u.Outputs {
		one := Answer{What: Rebuild, Name: o.File, Yes: is.Outputs[i] == o, Text: "the same, byte for byte"}
		if !one.Yes {
			one.Text = fmt.Sprintf("SHA-256 %s; expected %s", is.Outputs[i].SHA256, o.SHA256)
		}
		list = append(list, one)
	}
	if !slices.Equal(is.Contents, u.Contents) {
		list = append(list, Answer{What: Rebuild, Name: name, Text: "its image has other runs than the manifest says"})
	}
	return list
}

// wholeBatch answers whether the manifest has the table's rows, each once, and names what was
// read.
func (c *confirmer) wholeBatch(b *Batch, r *BatchRemade) {
	rows, err := r.Rows()
	if err != nil {
		c.answer(false, "manifest", b.Name, "%s", err)
		return
	}
	of := b.rows()
	if of.Of != len(rows) || of.First < 1 || of.Last > of.Of || of.Last < of.First {
		c.answer(false, "manifest", b.Name, "modified: it has %s of %d, and %s has %d", rowsText(of.First, of.Last), of.Of, b.Table,
			len(rows))
		return
	}
	rows = rows[of.First-1 : of.Last]
	for i := range min(len(rows), len(b.Units)) {
		if u := &b.Units[i]; u.Row != of.First+i || !maps.Equal(u.Sets, rows[i]) {
			c.answer(false, "manifest", b.Name, "modified: its entry %d is not row %d of %s", i+1, of.First+i, b.Table)
			return
		}
	}
	if len(rows) != len(b.Units) {
		c.answer(false, "manifest", b.Name, "modified: it has %s of %s",
			memory.FormatNumber(len(b.Units), "unit"), memory.FormatNumber(len(rows), "row"))
		return
	}
	head := *b
	head.Units, head.Name, head.Read = nil, r.Title, r.Read()
	is, err := head.Text()
	head.Name, head.Read = b.Name, b.Read
	was, err2 := head.Text()
	switch {
	case err != nil || err2 != nil:
		c.answer(false, "manifest", b.Name, "%s", errors.Join(err, err2))
	case !bytes.Equal(is, was):
		c.answer(false, "manifest", b.Name, "modified: it does not name the release and the files that were read")
	default:
		c.answer(true, "manifest", b.Name, "matches the rebuild")
	}
}
