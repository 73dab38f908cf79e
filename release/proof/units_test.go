package proof_test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec"
	"mexalt/internal/golden"
	"mexalt/memory"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
)

const factory = "tg1-harbour-2.4.1.hex" // the line's input

// line makes the units of the demo's line in a folder and returns their manifest's name.
func line(t *testing.T, dir string, o release.Options) string {
	t.Helper()
	if !source.Exists(filepath.Join(dir, factory)) {
		made(t, dir, "tg1.release.toml", release.Options{})
	}
	o.Tool = "test"
	files := &source.Files{Digest: true}
	f, err := release.Load(files, filepath.Join(dir, "tg1-line.release.toml"))
	require.NoError(t, err)
	u, err := f.RunUnits(context.Background(), files, filepath.Join(dir, "units.csv"), o)
	require.NoError(t, err)
	return u.Manifest
}

// edit changes a manifest of units.
func edit(t *testing.T, name string, change func(b *proof.Batch)) {
	t.Helper()
	b, err := proof.LoadBatch(&source.Files{}, name)
	require.NoError(t, err)
	change(b)
	text, err := b.Text()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, text, 0o644))
}

// change changes a byte of a file.
func change(t *testing.T, name string, at int) {
	t.Helper()
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	if at < 0 {
		at += len(text)
	}
	text[at] ^= 1
	require.NoError(t, os.WriteFile(name, text, 0o644))
}

// said is what a confirmation answers, the answers that are yes by their number alone.
func said(c *proof.Confirmation, err error) string {
	if err != nil {
		return "  " + err.Error() + "\n"
	}
	yes := map[string]int{}
	var b strings.Builder
	for _, a := range c.Answers {
		if a.Yes {
			yes[a.What]++
		}
	}
	fmt.Fprintf(&b, "  confirmed %v, %v\n", c.Confirmed(), yes)
	for _, a := range c.Answers {
		if a.Yes && a.What == "table" {
			fmt.Fprintf(&b, "  yes: %s %s: %s\n", a.What, a.Name, a.Text)
		}
		if !a.Yes {
			fmt.Fprintf(&b, "  no (open %v): %s %s: %s\n", a.Open, a.What, a.Name, a.Text)
		}
	}
	return b.String()
}

// TestBatchesAreConfirmed says of units, made of rows of a table, whether they and their manifest
// are as they were made, whatever was changed.
func TestBatchesAreConfirmed(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	clean := folder(t)
	again := release.AgainUnits(context.Background(), release.Options{})
	name := filepath.Base(line(t, clean, release.Options{}))
	at := func(dir string) proof.Confirming { return proof.Confirming{Tool: "test"} }
	first := func(dir string) string {
		list, err := filepath.Glob(filepath.Join(dir, "unit-*.hex"))
		require.NoError(t, err)
		slices.Sort(list)
		return list[0]
	}
	serial := func(b *proof.Batch, i int) string { return b.Units[i].Sets["serial"] }
	for _, c := range []struct {
		name, unit string
		change     func(dir, manifest string)
		o          proof.Confirming
	}{
		{name: "as made"},
		{name: "one unit, by its row", unit: "row=2"},
		{name: "one unit, by its serial number", unit: "SERIAL"},
		{name: "no such unit", unit: "none"},
		{name: "no such row", unit: "row=999"},
		{name: "an output changed", change: func(dir, _ string) { change(t, first(dir), 20) }},
		{name: "an output changed, that alone", unit: "row=1", change: func(dir, _ string) { change(t, first(dir), 20) }},
		{name: "an output changed, another alone", unit: "row=2", change: func(dir, _ string) { change(t, first(dir), 20) }},
		{name: "an output of another unit", change: func(dir, _ string) {
			list, err := filepath.Glob(filepath.Join(dir, "unit-*.hex"))
			require.NoError(t, err)
			write(t, "", first(dir), read(t, "", list[1]))
		}},
		{name: "an output missing", change: func(dir, _ string) { require.NoError(t, os.Remove(first(dir))) }},
		{name: "an output missing, outputs only", o: proof.Confirming{OutputsOnly: true},
			change: func(dir, _ string) { require.NoError(t, os.Remove(first(dir))) }},
		{name: "outputs only", o: proof.Confirming{OutputsOnly: true},
			change: func(dir, _ string) { change(t, filepath.Join(dir, factory), 20) }},
		{name: "an input changed", change: func(dir, _ string) { change(t, filepath.Join(dir, factory), 20) }},
		{name: "an input changed, one unit", unit: "row=1", change: func(dir, _ string) { change(t, filepath.Join(dir, factory), 20) }},
		{name: "the release file is gone", unit: "row=1",
			change: func(dir, _ string) { require.NoError(t, os.Remove(filepath.Join(dir, "tg1-line.release.toml"))) }},
		{name: "the table has a row more", change: func(dir, m string) {
			write(t, dir, "units.csv", read(t, dir, "units.csv")+"99887766\n")
			edit(t, m, func(b *proof.Batch) { rehashed(t, dir, b) })
		}},
		{name: "a unit less", change: func(_, m string) { edit(t, m, func(b *proof.Batch) { b.Units = b.Units[1:] }) }},
		{name: "the last unit less, and so many rows", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Units = b.Units[:len(b.Units)-1] })
		}},
		{name: "rows said", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Rows = &proof.TableRows{First: 1, Last: len(b.Units), Of: len(b.Units)} })
		}},
		{name: "rows of more", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Rows = &proof.TableRows{First: 1, Last: len(b.Units), Of: len(b.Units) + 1} })
		}},
		{name: "rows from 0", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Rows = &proof.TableRows{First: 0, Last: len(b.Units), Of: len(b.Units)} })
		}},
		{name: "rows but the first", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Rows = &proof.TableRows{First: 2, Last: len(b.Units), Of: len(b.Units)} })
		}},
		{name: "rows the wrong way", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Rows = &proof.TableRows{First: 2, Last: 1, Of: len(b.Units)} })
		}},
		{name: "too many units", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Rows = &proof.TableRows{First: 1, Last: 1, Of: len(b.Units)} })
		}},
		{name: "two units exchanged", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Units[0], b.Units[1] = b.Units[1], b.Units[0] })
		}},
		{name: "two serial numbers exchanged", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Units[0].Sets, b.Units[1].Sets = b.Units[1].Sets, b.Units[0].Sets })
		}},
		{name: "other contents",
			change: func(_, m string) { edit(t, m, func(b *proof.Batch) { b.Units[0].Contents = b.Units[0].Contents[1:] }) }},
		{name: "no outputs", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) {
				for i := range b.Units {
					b.Units[i].Outputs = nil
				}
			})
		}},
		{name: "an output less", unit: "row=1", change: func(_, m string) {
			edit(t, m, func(b *proof.Batch) { b.Units[0].Outputs = append(b.Units[0].Outputs, b.Units[1].Outputs...) })
		}},
		{name: "another name", change: func(_, m string) { edit(t, m, func(b *proof.Batch) { b.Name = "TG-9" }) }},
		{name: "an input not listed", change: func(_, m string) { edit(t, m, func(b *proof.Batch) { b.Read = b.Read[:len(b.Read)-1] }) }},
		{name: "an input not listed, one unit", unit: "row=1",
			change: func(_, m string) { edit(t, m, func(b *proof.Batch) { b.Read = b.Read[:0] }) }},
		{name: "another variable",
			change: func(_, m string) { edit(t, m, func(b *proof.Batch) { b.Set = map[string]string{"version": "9"} }) }},
		{name: "another tool", change: func(_, m string) { edit(t, m, func(b *proof.Batch) { b.Tool = "other" }) }},
		{name: "its line ends", change: func(_, m string) {
			require.NoError(t, os.WriteFile(m, []byte(strings.ReplaceAll(read(t, "", m), "\n", "\r\n")), 0o644))
		}},
		{name: "not a manifest", change: func(_, m string) { require.NoError(t, os.WriteFile(m, []byte("{}"), 0o644)) }},
	} {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS(clean)))
		manifest := filepath.Join(dir, name)
		if c.unit == "SERIAL" {
			batch, err := proof.LoadBatch(&source.Files{}, manifest)
			require.NoError(t, err)
			c.unit = serial(batch, 1)
			one, err := batch.Unit("serial=" + c.unit)
			require.NoError(t, err)
			assert.Equal(t, 2, one.Row)
		}
		if c.change != nil {
			c.change(dir, manifest)
		}
		o := c.o
		o.Tool = at(dir).Tool
		fmt.Fprintf(&b, "%s\n%s", c.name,
			strings.ReplaceAll(said(proof.ConfirmBatch(&source.Files{Digest: true}, manifest, c.unit, o, again)),
				dir+string(filepath.Separator), ""))
	}
	golden.File(t, "testdata/batches.txt", b.String())
}

// rehashed lets a manifest name the table as it is now.
func rehashed(t *testing.T, dir string, b *proof.Batch) {
	other := folder(t)
	write(t, other, "units.csv", read(t, dir, "units.csv"))
	made, err := proof.LoadBatch(&source.Files{}, line(t, other, release.Options{}))
	require.NoError(t, err)
	b.Read = made.Read
}

// TestBatchesTogether makes a table's rows in parts and says whether these are one batch.
func TestBatchesTogether(t *testing.T) {
	t.Parallel()
	clean := folder(t)
	rows := strings.Count(strings.TrimSpace(read(t, clean, "units.csv")), "\n")
	require.GreaterOrEqual(t, rows, 3)
	again := release.AgainUnits(context.Background(), release.Options{})
	parts := []release.Rows{{First: 1, Last: 1}, {First: 2, Last: 2}, {First: 3, Last: rows}, {First: 1, Last: 2}}
	var names []string
	for i, p := range parts {
		dir := clean
		if i == len(parts)-1 { // whose files would be in the way
			dir = folder(t)
		}
		manifest := line(t, dir, release.Options{Rows: p})
		names = append(names, filepath.Base(manifest))
		if dir != clean {
			write(t, clean, names[i], read(t, "", manifest))
		}
	}
	var b strings.Builder
	for _, c := range []struct {
		name   string
		of     []int
		change func(dir string)
	}{
		{"all, in any order", []int{2, 0, 1}, nil},
		{"all, in two", []int{3, 2}, nil},
		{"the middle missing", []int{0, 2}, nil},
		{"the end missing", []int{0, 1}, nil},
		{"the beginning missing", []int{2, 1}, nil},
		{"one in two", []int{0, 3, 2}, nil},
		{"another release", []int{3, 2}, func(dir string) {
			edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Release = "x.release.toml" })
		}},
		{"another name", []int{3, 2}, func(dir string) { edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Name = "x" }) }},
		{"another table", []int{3, 2},
			func(dir string) { edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Table = "x.csv" }) }},
		{"another size", []int{3, 2}, func(dir string) { edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Rows.Of++ }) }},
		{"another tool", []int{3, 2}, func(dir string) { edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Tool = "x" }) }},
		{"another variable", []int{3, 2}, func(dir string) {
			edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Set = map[string]string{"x": "y"} })
		}},
		{"another input", []int{3, 2},
			func(dir string) { edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Read[1].Size++ }) }},
		{"a file of another", []int{3, 2}, func(dir string) {
			one, err := proof.LoadBatch(&source.Files{}, filepath.Join(dir, names[3]))
			require.NoError(t, err)
			edit(t, filepath.Join(dir, names[2]), func(b *proof.Batch) { b.Units[0].Outputs = one.Units[1].Outputs })
		}},
		{"one that is none", []int{3, 2}, func(dir string) { write(t, dir, names[2], "x") }},
	} {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS(clean)))
		if c.change != nil {
			c.change(dir)
		}
		var list []string
		for _, i := range c.of {
			list = append(list, filepath.Join(dir, names[i]))
		}
		all, err := proof.ConfirmBatches(&source.Files{Digest: true}, list, proof.Confirming{Tool: "test"}, again)
		assert.Equal(t, err == nil, all != nil && all.Manifest != nil, c.name)
		fmt.Fprintf(&b, "%s\n%s", c.name, strings.ReplaceAll(said(all, err), dir+string(filepath.Separator), ""))
	}
	golden.File(t, "testdata/together.txt", b.String())
}

// TestUnitsAreFound finds the unit of a file, and of what a device says when it is read, in
// manifests and in logs.
func TestUnitsAreFound(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	manifest := line(t, dir, release.Options{})
	log := strings.TrimSuffix(manifest, proof.BatchExtension) + proof.LogExtension
	require.FileExists(t, log)
	batch, err := proof.LoadBatch(&source.Files{}, manifest)
	require.NoError(t, err)
	load := func(o proof.UnitFile) *memory.Image {
		file, err := os.Open(filepath.Join(dir, o.File))
		require.NoError(t, err)
		defer file.Close()
		var problems source.Problems
		f, err := codec.Read(file, o.File, int64(o.Size), codec.ReadOptions{}, &problems)
		require.NoError(t, err)
		return f.Image
	}
	outputs := proof.OutputsIn([]string{manifest, log, "none"})
	total := 0
	for i := range batch.Units {
		u := &batch.Units[i]
		for _, o := range u.Outputs {
			total++
			assert.Equal(t, o.File, outputs[o.SHA256].File)
			assert.Equal(t, log, outputs[o.SHA256].In, "the last that has it")
			image := load(o)
			for _, where := range [][]string{{manifest}, {log}, {dir}, {log, manifest, dir}} {
				sum := make([]byte, 32)
				_, err := fmt.Sscanf(o.SHA256, "%x", &sum)
				require.NoError(t, err)
				list, unread := proof.UnitsWith(where, sum, image)
				require.Empty(t, unread)
				require.Len(t, list, 1)
				assert.Equal(t, []any{u.Row, o.File, u.Sets}, []any{list[0].Row, list[0].File, list[0].Sets})
				assert.Equal(t, where[0] == log && len(where) == 1, list[0].In == log, "a manifest says more than a log")
			}
			// Read from a device: the file is another.
			none := make([]byte, 32)
			list, _ := proof.UnitsWith([]string{dir}, none, image)
			require.Len(t, list, 1)
			assert.Equal(t, u.Row, list[0].Row)
			assert.Empty(t, list[0].File)
			// Not all memories were read, but the larger part; less than that says nothing.
			runs := image.Runs()
			largest := slices.MaxFunc(runs, func(a, b memory.Run) int { return len(a.Data) - len(b.Data) })
			if len(runs) > 1 {
				list, _ = proof.UnitsWith([]string{dir}, none, image.Cut(largest.Span()))
				assert.Equal(t, uint64(len(largest.Data))*2 > image.Bytes(), len(list) > 0)
				list, _ = proof.UnitsWith([]string{dir}, none, image.Drop(largest.Span()))
				assert.Equal(t, uint64(len(largest.Data))*2 < image.Bytes(), len(list) > 0)
			}
			// A byte that is another, or missing, is another unit.
			for _, other := range []*memory.Image{image.Drop(memory.Span{First: largest.First, Last: largest.First}),
				changed(t, image, largest.First)} {
				list, _ = proof.UnitsWith([]string{dir}, none, other)
				assert.Empty(t, list)
			}
		}
		one, err := batch.Unit(fmt.Sprintf("row=%d", u.Row))
		require.NoError(t, err)
		assert.Same(t, u, one)
		for name, value := range maps.All(u.Sets) {
			assert.Contains(t, u.SetsText(), name+" = "+value)
		}
	}
	assert.Len(t, outputs, total)
	batch.Units[1].Sets = batch.Units[0].Sets
	_, err = batch.Unit(batch.Units[0].Sets["serial"])
	assert.ErrorContains(t, err, "2 units have the value "+batch.Units[0].Sets["serial"]+
		", those of row 1 and 2 the first; name one by a value that it alone has, or by row=1")
	_, err = batch.Unit("serial=")
	assert.ErrorContains(t, err, "no unit has the value serial=")

	// The last line of a log may be cut off, no other.
	text := read(t, "", log)
	write(t, dir, "cut"+proof.LogExtension, text[:len(text)-9])
	count := 0
	require.NoError(t, proof.EachUnit(filepath.Join(dir, "cut"+proof.LogExtension), func(*proof.Unit) { count++ }))
	assert.Equal(t, strings.Count(text, "\n")-1, count)
	write(t, dir, "bad"+proof.LogExtension, text+"{\n{}\n")
	err = proof.EachUnit(filepath.Join(dir, "bad"+proof.LogExtension), func(*proof.Unit) {})
	assert.ErrorContains(t, err, fmt.Sprintf("%d: error: is not a line of a log of units", strings.Count(text, "\n")+1))
	assert.Error(t, proof.EachUnit(filepath.Join(dir, "none"+proof.LogExtension), nil))
	assert.Error(t, proof.EachUnit(filepath.Join(dir, "none"+proof.BatchExtension), nil))
	_, unread := proof.UnitsWith([]string{dir, filepath.Join(dir, "none")}, make([]byte, 32), &memory.Image{})
	assert.Len(t, unread, 2, "%v", unread)
	// A unit whose runs cannot be is none.
	var strange proof.Unit
	require.NoError(t, json.Unmarshal([]byte(`{"unit": 1, "sets": {}, "contents": [{"first": "0xFFFFFFFFFFFFFFFF", "size": 2, "sha256": ""}]}`), &strange))
	line, err := strange.Text()
	require.NoError(t, err)
	write(t, dir, "strange"+proof.LogExtension, string(line)+"\n")
	list, _ := proof.UnitsWith([]string{filepath.Join(dir, "strange"+proof.LogExtension)}, make([]byte, 32), &memory.Image{})
	assert.Empty(t, list)
}

func changed(t *testing.T, m *memory.Image, at uint64) *memory.Image {
	t.Helper()
	b := []byte{0}
	require.True(t, m.ReadAt(b, at))
	out, ok := m.Write(&source.Input{Name: "x"}, at, []byte{b[0] ^ 1})
	require.True(t, ok)
	return out
}

// TestUnitsAreExplained says where bytes of a unit came from: of one that its file tells, of one
// that is named, of a renamed and of a changed file; or why that cannot be said.
func TestUnitsAreExplained(t *testing.T) {
	t.Parallel()
	clean := folder(t)
	manifest := filepath.Base(line(t, clean, release.Options{}))
	var b strings.Builder
	for _, c := range []struct {
		name   string
		q      proof.Question
		change func(dir string)
	}{
		{"its file", proof.Question{Output: "unit-10428.hex"}, nil},
		{"its file, by the manifest", proof.Question{Output: "unit-10428.hex", Manifest: manifest}, nil},
		{"its file, and another unit", proof.Question{Output: "unit-10428.hex", Unit: "10427"}, nil},
		{"renamed", proof.Question{Output: "other.hex"}, func(dir string) { write(t, dir, "other.hex", read(t, dir, "unit-10431.hex")) }},
		{"renamed, by the manifest", proof.Question{Output: "other.hex", Manifest: manifest},
			func(dir string) { write(t, dir, "other.hex", read(t, dir, "unit-10431.hex")) }},
		{"read back, and not named", proof.Question{Output: "other.bin", Manifest: manifest},
			func(dir string) { write(t, dir, "other.bin", strings.Repeat("\xFF", 32<<10)) }},
		{"read back, and named", proof.Question{Output: "other.bin", Manifest: manifest, Unit: "row=3"},
			func(dir string) { write(t, dir, "other.bin", strings.Repeat("\xFF", 32<<10)) }},
		{"no such unit", proof.Question{Output: "unit-10428.hex", Unit: "7"}, nil},
		{"a unit of a release", proof.Question{Output: "tg1-harbour-2.4.1.hex", Manifest: "tg1.manifest.json", Unit: "7"}, nil},
		{"no manifest of units", proof.Question{Output: "unit-10428.hex", Unit: "10428"},
			func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, manifest))) }},
		{"a manifest that is none", proof.Question{Output: "unit-10428.hex", Manifest: manifest},
			func(dir string) { write(t, dir, manifest, "{}") }},
		{"beside one that is none", proof.Question{Output: "unit-10428.hex"},
			func(dir string) { write(t, dir, "a.units.manifest.json", "{}") }},
		{"named, beside one that is none", proof.Question{Output: "unit-10428.hex", Unit: "10428"},
			func(dir string) { write(t, dir, "a.units.manifest.json", "{}") }},
		{"made of something else now", proof.Question{Output: "unit-10428.hex"}, func(dir string) {
			edit(t, filepath.Join(dir, manifest), func(b *proof.Batch) { b.Units[1].Outputs[0].SHA256 = strings.Repeat("0", 64) })
		}},
		{"the release is gone", proof.Question{Output: "unit-10428.hex"},
			func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "tg1-line.release.toml"))) }},
		{"the input is gone", proof.Question{Output: "unit-10428.hex"},
			func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, factory))) }},
		{"no such file", proof.Question{Output: "unit-1.hex", Manifest: manifest}, nil},
	} {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS(clean)))
		if c.change != nil {
			c.change(dir)
		}
		c.q.Output = filepath.Join(dir, c.q.Output)
		if c.q.Manifest != "" {
			c.q.Manifest = filepath.Join(dir, c.q.Manifest)
		}
		c.q.At = []string{"calibration.first+4,4", "application.last-11,8", "0x0", "application.last-3,4",
			"calibration.first+2..calibration.first+9"}
		e, err := proof.Explain(&source.Files{}, c.q, release.Again(context.Background(), release.Options{}),
			release.AgainUnits(context.Background(), release.Options{}))
		fmt.Fprintf(&b, "%s\n", c.name)
		if err != nil {
			fmt.Fprintf(&b, "  %s\n", strings.ReplaceAll(err.Error(), dir+string(filepath.Separator), ""))
			continue
		}
		fmt.Fprintf(&b, "  %s, changed %v %s, more %v\n", filepath.Base(e.Manifest), e.Changed, e.Why, e.More)
		for _, row := range e.Rows {
			fmt.Fprintf(&b, "  %s %X %s %q %q %v %v %v %s %v %d %v\n", row.Span, row.Data, row.Region, row.From, row.To, row.Steps,
				row.Over, row.Covers, row.Is, row.Config, len(row.Differ), row.Within)
		}
	}
	golden.File(t, "testdata/explained.txt", b.String())
}

// TestWhatBeginsBesideIt tells, by the manifest beside a file, where bytes of other inputs begin.
func TestWhatBeginsBesideIt(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	made(t, dir, "tg1.release.toml", release.Options{})
	name := filepath.Join(dir, factory)
	file, err := os.Open(name)
	require.NoError(t, err)
	defer file.Close()
	var problems source.Problems
	f, err := codec.Read(file, name, -1, codec.ReadOptions{}, &problems)
	require.NoError(t, err)
	begins := proof.BeginsBeside(name, f.Image)
	var at []uint64
	for _, run := range f.Image.Runs() {
		for a := run.First; a <= run.Last(); a++ {
			if begins(a) {
				at = append(at, a)
			}
		}
	}
	assert.Contains(t, at, uint64(0x7800), "the bootloader")
	assert.NotContains(t, at, uint64(0))
	assert.Less(t, len(at), 20)
	for _, one := range []func(uint64) bool{
		proof.BeginsBeside(name, changed(t, f.Image, 0x100)), proof.BeginsBeside(source.StandardInput, f.Image),
		proof.BeginsBeside(filepath.Join(t.TempDir(), "x.hex"), f.Image),
	} {
		assert.False(t, one(0x7800), "no manifest tells of it")
	}
}

// TestWhatIsSignedBeside says of a manifest and of what stands beside it in the words of standards
// whether a key that is trusted has signed them, as they are.
func TestWhatIsSignedBeside(t *testing.T) {
	t.Parallel()
	clean := folder(t)
	for name, text := range map[string]string{"private.pem": testPrivate, "public.pem": testPublic} {
		write(t, clean, name, text)
	}
	write(t, clean, "x.release.toml", small)
	key, err := proof.LoadSigner(&source.Files{}, filepath.Join(clean, "private.pem"), "")
	require.NoError(t, err)
	public, err := proof.LoadTrusted(&source.Files{}, filepath.Join(clean, "public.pem"))
	require.NoError(t, err)
	name := filepath.Base(made(t, clean, "x.release.toml", release.Options{Sign: []*proof.Signer{key}, Provenance: true, Bill: true}))
	stem := strings.TrimSuffix(name, proof.Extension)
	provenance, bill := stem+proof.ProvenanceExtension, stem+proof.BillExtension
	replace := func(file, from, to string) func(dir string) {
		return func(dir string) {
			text := read(t, dir, file)
			require.Contains(t, text, from)
			write(t, dir, file, strings.Replace(text, from, to, 1))
		}
	}
	var b strings.Builder
	for _, c := range []struct {
		name   string
		change func(dir string)
	}{
		{"as made", func(string) {}},
		{"the manifest's line ends", func(dir string) { write(t, dir, name, strings.ReplaceAll(read(t, dir, name), "\n", "\r\n")) }},
		{"the manifest", replace(name, `"tool": "test"`, `"tool": "text"`)},
		{"the manifest, and its line ends", func(dir string) {
			replace(name, `"tool": "test"`, `"tool": "text"`)(dir)
			write(t, dir, name, strings.ReplaceAll(read(t, dir, name), "\n", "\r\n"))
		}},
		{"its envelope is gone", func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, name+proof.SignatureExtension))) }},
		{"the provenance", replace(provenance, `"name"`, `"nane"`)},
		{"the provenance is gone", func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, provenance))) }},
		{"its envelope is another's", func(dir string) {
			write(t, dir, provenance+proof.SignatureExtension, read(t, dir, bill+proof.SignatureExtension))
		}},
		{"the bill is of another manifest", func(dir string) {
			text := strings.Replace(read(t, dir, bill), "gauge", "gauze", 1)
			signed, err := proof.Sign([]*proof.Signer{key}, proof.BillType, []byte(text))
			require.NoError(t, err)
			write(t, dir, bill, text)
			write(t, dir, bill+proof.SignatureExtension, string(signed))
		}},
		{"the bill's envelope is gone",
			func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, bill+proof.SignatureExtension))) }},
	} {
		dir := t.TempDir()
		require.NoError(t, os.CopyFS(dir, os.DirFS(clean)))
		c.change(dir)
		o := proof.Confirming{OutputsOnly: true, Trust: proof.Trust{Keys: []*proof.PublicKey{public}}, Tool: "test"}
		fmt.Fprintf(&b, "%s\n%s", c.name,
			strings.ReplaceAll(said(proof.Confirm(&source.Files{}, filepath.Join(dir, name),
				o, release.Again(context.Background(), release.Options{}))), dir+string(filepath.Separator), ""))
	}
	golden.File(t, "testdata/signed.txt", b.String())
}

// TestUnitsByName names units by what they alone have, by more than one has, and by nothing.
func TestUnitsByName(t *testing.T) {
	b := &proof.Batch{Units: []proof.Unit{
		{Row: 4, Sets: map[string]string{"serial": "S1", "note": "5", "site": "pier"}},
		{Row: 5, Sets: map[string]string{"serial": "S2", "note": "", "site": "pier"}},
		{Row: 6, Sets: map[string]string{"serial": "S=3", "row": "4"}},
	}}
	for text, row := range map[string]int{
		"S1": 4, "S2": 5, "S=3": 6, "serial=S2": 5, "note=5": 4, "5": 4, "row=5": 5, "row=4": 4, "4": 6,
		"note=": 0, "serial=": 0, "site=": 0, "other=S1": 0, "serial": 0, "row=7": 0, "row=": 0, "S3": 0, "note=pier": 0,
	} {
		u, err := b.Unit(text)
		if row == 0 {
			assert.EqualError(t, err, "unit: no unit has the value "+text, text)
		} else if assert.NoError(t, err, text) {
			assert.Equal(t, row, u.Row, text)
		}
	}
	for _, text := range []string{"pier", "site=pier"} {
		_, err := b.Unit(text)
		assert.ErrorContains(t, err, "2 units have the value "+text+", those of row 4 and 5 the first; name one by a value that it alone has, or by row=4")
	}
}
