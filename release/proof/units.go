package proof

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// LogExtension ends the name of a log of units: JSON Lines, of which each is a [Unit] and
// what else its release keeps there.
const LogExtension = ".units.jsonl"

// BatchExtension ends the name of a manifest of units.
const BatchExtension = ".units" + Extension

// BatchSchema names the form of a manifest of units.
const BatchSchema = "mexalt.units.manifest/1"

// Batch is a manifest of units: what was made of what, for each row of a table. All that a
// manifest of a release says of a product can be worked out again from it.
type Batch struct {
	Header
	Table string     `json:"table"`
	Rows  *TableRows `json:"rows,omitempty"` // of a part of the table; nil is all of it
	Units []Unit     `json:"units"`          // in the order of the table
}

// TableRows are rows of a table, from 1, both included, and how many it has.
type TableRows struct {
	First int `json:"first"`
	Last  int `json:"last"`
	Of    int `json:"of"`
}

// rows returns the rows whose units a manifest has.
func (b *Batch) rows() TableRows {
	if b.Rows != nil {
		return *b.Rows
	}
	return TableRows{1, len(b.Units), len(b.Units)}
}

// Unit is a row of a table, and what was made for it.
type Unit struct {
	Row     int               `json:"unit"` // from 1
	Sets    map[string]string `json:"sets"`
	Outputs []UnitFile        `json:"outputs,omitempty"`
	// Contents are the runs of the unit's image, so that what a device says when it is read is
	// recognized.
	Contents []RunDigest `json:"contents,omitempty"`
}

// UnitFile is an output of a unit.
type UnitFile struct {
	File   string `json:"file"` // from the folder of the outputs
	Size   uint64 `json:"size"`
	SHA256 string `json:"sha256"`
}

// RunDigest is a run of a unit's image.
type RunDigest struct {
	First  string `json:"first"`
	Size   uint64 `json:"size"`
	SHA256 string `json:"sha256"` // of its bytes, the beginning
}

// SetContents says what the unit's image contains.
func (u *Unit) SetContents(m *memory.Image) {
	for _, run := range m.Runs() {
		u.Contents = append(u.Contents, RunDigest{memory.PlainAddress(run.First), uint64(len(run.Data)), runDigest(run.Data)})
	}
}

// runDigest is the beginning of a SHA-256, in hex digits.
func runDigest(data []byte) string {
	const bytes = 16
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:bytes])
}

// Text returns the unit as its line in a manifest.
func (u *Unit) Text() ([]byte, error) {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	err := e.Encode(u)
	return bytes.TrimSpace(text.Bytes()), err
}

// SetsText says by what a unit differs from others.
func (u *Unit) SetsText() string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(u.Sets)) {
		list = append(list, name+" = "+u.Sets[name])
	}
	return strings.Join(list, ", ")
}

// output returns the unit's file of that name.
func (u *Unit) output(name string) *UnitFile {
	return u.find(func(o UnitFile) bool { return o.File == name })
}

// outputWith returns the unit's file with a digest.
func (u *Unit) outputWith(sum string) *UnitFile {
	return u.find(func(o UnitFile) bool { return o.SHA256 == sum })
}

func (u *Unit) find(is func(UnitFile) bool) *UnitFile {
	i := slices.IndexFunc(u.Outputs, is)
	if i < 0 {
		return nil
	}
	return &u.Outputs[i]
}

// Text returns the manifest as it is written: always the same for the same run, with a line
// for each unit.
func (b *Batch) Text() ([]byte, error) {
	lines := make([][]byte, len(b.Units))
	for i := range b.Units {
		var err error
		if lines[i], err = b.Units[i].Text(); err != nil {
			return nil, err
		}
	}
	return b.TextOf(lines)
}

func (b *Batch) isWritten(text []byte) (bool, error) {
	is, err := b.Text()
	return bytes.Equal(is, text), err
}

// TextOf returns the text of a manifest whose units have these lines.
func (b *Batch) TextOf(lines [][]byte) ([]byte, error) {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	if err := e.Encode(struct {
		Header
		Table string     `json:"table"`
		Rows  *TableRows `json:"rows,omitempty"`
	}{b.Header, b.Table, b.Rows}); err != nil {
		return nil, err
	}
	head := bytes.TrimSuffix(layOut(nil, bytes.TrimSpace(text.Bytes()), 0), []byte("\n}"))
	size := len(head)
	for _, line := range lines {
		size += len(line) + len(",\n  ")
	}
	const around = 32
	out := append(append(make([]byte, 0, size+around), head...), ",\n \"units\": ["...)
	for i, line := range lines {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(append(out, "\n  "...), line...)
	}
	return append(out, "\n ]\n}\n"...), nil
}

// LoadBatch reads a manifest of units strictly.
func LoadBatch(files *source.Files, name string) (*Batch, error) {
	text, err := files.ReadAll(name, "manifest", MostManifest)
	if err != nil {
		return nil, err
	}
	b := &Batch{}
	if err := loadStrictly(name, text, BatchSchema, b); err != nil {
		return nil, err
	}
	return b, nil
}

// Unit returns the unit that a text names: a value that it alone has, such as its serial
// number, NAME=VALUE, or its row as row=N.
func (b *Batch) Unit(text string) (*Unit, error) {
	name, value, named := strings.Cut(text, "=")
	if n, err := strconv.Atoi(value); err == nil && name == "row" {
		if i := slices.IndexFunc(b.Units, func(u Unit) bool { return u.Row == n }); i >= 0 {
			return &b.Units[i], nil
		}
	}
	var found []*Unit
	for i := range b.Units {
		u := &b.Units[i]
		is := named && u.Sets[name] == value && value != ""
		for _, v := range u.Sets {
			is = is || v == text
		}
		if is {
			found = append(found, u)
		}
	}
	switch len(found) {
	case 0:
		return nil, source.Keyf("unit", "no unit has the value %s", text)
	case 1:
		return found[0], nil
	}
	return nil, source.Keyf("unit",
		"%s units have the value %s, those of row %d and %d the first; name one by a value that it alone has, or by row=%d",
		memory.FormatCount(uint64(len(found))), text, found[0].Row, found[1].Row, found[0].Row)
}

// UnitOutput is an output of a unit, as a manifest of units or a log has it.
type UnitOutput struct {
	In string // the manifest or the log
	Unit
	File string // "" where the whole image is the unit's, and not the file
}

// EachUnit calls for each unit that a manifest of units or a log has; of a log, the last line
// may be cut off.
func EachUnit(name string, do func(u *Unit)) error {
	if !strings.HasSuffix(name, LogExtension) {
		b, err := LoadBatch(&source.Files{}, name)
		if err != nil {
			return err
		}
		for i := range b.Units {
			do(&b.Units[i])
		}
		return nil
	}
	file, err := os.Open(name)
	if err != nil {
		return &source.SystemError{File: name, Doing: "read", Err: err}
	}
	defer file.Close()
	lines := bufio.NewReader(file)
	for n := 1; ; n++ {
		text, err := lines.ReadBytes('\n')
		if err != nil {
			return nil
		}
		var one Unit
		if err := json.Unmarshal(text, &one); err != nil {
			return &source.Problem{File: name, Line: n, What: "is not a line of a log of units"}
		}
		do(&one)
	}
}

// UnitsWith finds the units whose output a file is, by its SHA-256, or of whose image the file's
// has all runs that it has anything of: in manifests of units and logs, and in all of them in
// folders. Those that cannot be read are returned as errors.
func UnitsWith(where []string, sum []byte, image *memory.Image) (list []UnitOutput, unread []error) {
	var names []string
	for _, name := range where {
		err := filepath.WalkDir(name, func(path string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() && (strings.HasSuffix(path, BatchExtension) || strings.HasSuffix(path, LogExtension)) {
				names = append(names, filepath.ToSlash(path))
			}
			return err
		})
		if err != nil {
			unread = append(unread, &source.SystemError{File: name, Doing: "read", Err: err})
		}
	}
	// What a manifest says, a log says too.
	slices.SortStableFunc(names, func(a, b string) int {
		order := map[bool]int{true: 1}
		return order[strings.HasSuffix(a, LogExtension)] - order[strings.HasSuffix(b, LogExtension)]
	})
	u := &unitSearch{sum: hex.EncodeToString(sum), image: image, runs: map[memory.Span]string{}, seen: map[string]bool{}}
	for _, name := range names {
		if err := EachUnit(name, func(one *Unit) { u.add(name, one) }); err != nil {
			unread = append(unread, err)
		}
	}
	if len(u.outputs) > 0 {
		return u.outputs, unread
	}
	return u.alike, unread
}

// unitSearch looks for a file in manifests of units and logs.
type unitSearch struct {
	sum     string
	image   *memory.Image
	runs    map[memory.Span]string // digests of what the image has there
	seen    map[string]bool        // units and files that were found
	outputs []UnitOutput
	alike   []UnitOutput
}

// add adds a unit that has the file, or the image.
func (s *unitSearch) add(name string, u *Unit) {
	file, list := "", &s.alike
	if o := u.outputWith(s.sum); o != nil {
		file, list = o.File, &s.outputs
	} else if !s.has(u.Contents) {
		return
	}
	if key := filepath.Dir(name) + "\x00" + u.SetsText() + "\x00" + file; !s.seen[key] {
		s.seen[key] = true
		*list = append(*list, UnitOutput{name, *u, file})
	}
}

// has reports whether the image has all runs of a unit of which it has anything, and the larger
// part of its bytes.
func (s *unitSearch) has(contents []RunDigest) bool {
	var there, missing uint64
	for _, run := range contents {
		first, err := strconv.ParseUint(strings.TrimPrefix(run.First, "0x"), 16, 64)
		span, ok := memory.SpanOf(first, run.Size)
		if err != nil || !ok {
			return false
		}
		digest, known := s.runs[span]
		if !known {
			switch s.image.Count(span) {
			case 0:
				digest = "none"
			case span.Size():
				data := make([]byte, span.Size())
				s.image.ReadAt(data, span.First)
				digest = runDigest(data)
			}
			s.runs[span] = digest
		}
		switch digest {
		case "none":
			missing += run.Size
		case run.SHA256:
			there += run.Size
		default:
			return false
		}
	}
	return there > missing
}

// OutputsIn returns all outputs that manifests of units and logs have, by the SHA-256 of the
// file in hex digits. What cannot be read is passed over.
func OutputsIn(names []string) map[string]UnitOutput {
	outputs := map[string]UnitOutput{}
	for _, name := range names {
		_ = EachUnit(name, func(u *Unit) {
			for _, o := range u.Outputs {
				outputs[o.SHA256] = UnitOutput{name, *u, o.File}
			}
		})
	}
	return outputs
}
