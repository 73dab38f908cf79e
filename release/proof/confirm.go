package proof

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"mexalt/codec"
	"mexalt/codec/format"
	"mexalt/device"
	"mexalt/memory"
	"mexalt/output"
	"mexalt/source"
	"mexalt/survey"

	"golang.org/x/sync/errgroup"
)

// Answer is what a confirmation says of one thing.
type Answer struct {
	Yes  bool
	Open bool   // it cannot be known here; neither yes nor no
	What string // output, input, rebuild
	Name string // the file
	Text string // how it is, or what differs
}

// Rebuild is what an answer is about that says whether an output can be made again.
const Rebuild = "rebuild"

// Confirmation is what came of confirming a manifest.
type Confirmation struct {
	Manifest *Manifest
	Answers  []Answer
}

// Confirmed reports whether all is as the manifest says, and an output is among it.
func (c *Confirmation) Confirmed() bool {
	return c.Outputs() > 0 && !slices.ContainsFunc(c.Answers, func(a Answer) bool { return !a.Yes && !a.Open })
}

// Outputs is how many outputs were looked at.
func (c *Confirmation) Outputs() (n int) {
	for _, a := range c.Answers {
		if a.What == outputAnswer {
			n++
		}
	}
	return n
}

const outputAnswer = "output"

func (c *Confirmation) answer(yes bool, what, name, text string, args ...any) {
	c.Answers = append(c.Answers, Answer{Yes: yes, What: what, Name: name, Text: fmt.Sprintf(text, args...)})
}

// tool answers whether the version of Mexalt that made the outputs is this one. Of
// another one it is not known whether the manifest names it rightly.
func (c *confirmer) tool(is string) {
	was := c.Manifest.Tool
	if was == is {
		c.answer(true, "tool", c.Manifest.Name, "made by this version, %s", was)
		return
	}
	c.Answers = append(
		c.Answers,
		Answer{
			Open: true,
			What: "tool",
			Name: c.Manifest.Name,
			Text: fmt.Sprintf("the manifest says %s; this is %s, which cannot know that", was, is),
		},
	)
}

// Maker makes a release again, as its manifest says, and writes nothing: the release file
// and what it reads are named from a folder.
type Maker func(m *Manifest, folder string) (*Remade, error)

// Remade is a release that was made again.
type Remade struct {
	Products []RemadeProduct
	// Manifest returns the manifest of the run, where a tool's version, a time and the
	// sizes and digests of the outputs are given.
	Manifest func(tool, made string, written []output.Written) *Manifest
}

// RemadeProduct is a product that was made again.
type RemadeProduct struct {
	Variant string               // "" is none
	Image   func() *memory.Image // builds it where it is not kept
	Map     *device.Map          // nil without one
	Outputs []output.File
}

// Confirming says how files are held against a manifest.
type Confirming struct {
	OutputsOnly bool
	// Trust says by which keys the manifest must be signed, or nothing else is looked at.
	Trust Trust
	Tool  string // this program and its version
}

// Confirm holds files against a manifest: whether the outputs are what was made,
// whether the inputs are what was read, and whether the outputs can be made of
// these again, byte for byte; with OutputsOnly, the first alone.
func Confirm(files *source.Files, name string, o Confirming, again Maker) (*Confirmation, error) {
	m, err := Load(files, name)
	if err != nil {
		return nil, err
	}
	c := &confirmer{Confirmation: &Confirmation{Manifest: m}, folder: filepath.Dir(name)}
	if ok, err := c.trusted(files, name, &o.Trust); err != nil || !ok {
		return c.Confirmation, err
	}
	c.tool(o.Tool)
	there := c.outputs(o.OutputsOnly)
	if c.Outputs() == 0 {
		c.answer(false, "manifest", m.Name, "it names no output, so nothing is confirmed")
		return c.Confirmation, nil
	}
	if o.OutputsOnly {
		return c.Confirmation, nil
	}
	if c.inputs() {
		c.again(again, there)
	} else {
		c.answer(false, Rebuild, m.Release, "skipped: the inputs have changed")
	}
	return c.Confirmation, nil
}

// mostEnvelope is how large an envelope may be.
const mostEnvelope = 2 * MostManifest

// trusted answers whether a manifest is signed as it must be.
func (c *confirmer) trusted(files *source.Files, name string, trust *Trust) (bool, error) {
	if len(trust.Keys) == 0 {
		return true, nil
	}
	manifest, err := files.ReadAll(name, "manifest", MostManifest)
	if err != nil {
		return false, err
	}
	base := filepath.Base(name) + SignatureExtension
	text, err := files.ReadAll(name+SignatureExtension, "signature", mostEnvelope)
	if errors.Is(err, fs.ErrNotExist) {
		c.answer(false, "signature", base, "no such file: the manifest is not signed")
		return false, nil
	}
	if err != nil {
		return false, err
	}
	by, err := trust.verify(text, PayloadType, manifest)
	if err != nil {
		c.answer(false, "signature", base, "%s", err)
		return false, nil
	}
	which := "the key that is trusted"
	if len(by) > 1 {
		which = "keys that are trusted"
	}
	c.answer(true, "signature", base, "by %s, %s", which, names(by))
	return c.signedBeside(files, name, manifest, trust)
}

// signedBeside answers whether what stands beside a manifest in the words of standards is signed
// as the manifest is, where there is an envelope of it, and says what this manifest does: that of
// another release may be signed as well.
func (c *confirmer) signedBeside(files *source.Files, manifest string, text []byte, trust *Trust) (all bool, err error) {
	all = true
	stem := strings.TrimSuffix(manifest, Extension)
	provenance := func() ([]byte, error) {
		sum := sha256.Sum256(text)
		return c.Manifest.Provenance(filepath.Base(manifest), hex.EncodeToString(sum[:]))
	}
	for _, one := range []struct {
		name, kind string
		again      func() ([]byte, error)
	}{{stem + ProvenanceExtension, ProvenanceType, provenance}, {stem + BillExtension, BillType, c.Manifest.Bill}} {
		name := one.name + SignatureExtension
		if !source.Exists(name) {
			continue
		}
		payload, err := files.ReadAll(one.name, "signed file", MostManifest)
		if err != nil {
			return false, err
		}
		text, err := files.ReadAll(name, "signature", mostEnvelope)
		if err != nil {
			return false, err
		}
		by, err := trust.verify(text, one.kind, payload)
		if err == nil {
			var again []byte
			if again, err = one.again(); err == nil && !bytes.Equal(again, payload) {
				err = errors.New("it is signed, and is not of this manifest")
			}
		}
		if err != nil {
			all = false
			c.answer(false, "signature", filepath.Base(name), "%s", err)
			continue
		}
		c.answer(true, "signature", filepath.Base(name), "by %s", names(by))
	}
	return all, nil
}

type confirmer struct {
	*Confirmation
	folder string
}

// path returns where a file of the manifest is.
func (c *confirmer) path(name string) string {
	if name == "" || filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(c.folder, filepath.FromSlash(name))
}

// FileDigest returns size and SHA-256 of a file.
func FileDigest(name string) (size int64, sum string, err error) {
	files := &source.Files{}
	f, err := files.Open(name, "file")
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := sha256.New()
	size, err = io.Copy(h, f)
	return size, hex.EncodeToString(h.Sum(nil)), err
}

// changed says in what a file is not as it was.
func changed(path string, gotSize, size int64, got, sum string) string {
	if ends := source.LineEndsChanged(path, sum); ends != "" {
		return ends + " (" + source.LineEndAdvice + ")"
	}
	if gotSize != size {
		return fmt.Sprintf("%s; expected %s", memory.FormatBytes(uint64(gotSize)), memory.FormatBytes(uint64(size)))
	}
	return fmt.Sprintf("SHA-256 %s; expected %s", got, sum)
}

// same answers whether a file is as it was.
func (c *confirmer) same(what, name string, size int64, sum string) bool {
	gotSize, got, err := FileDigest(c.path(name))
	var system *source.SystemError
	switch {
	case errors.As(err, &system):
		c.answer(false, what, name, "%s", system.Reason())
	case err != nil:
		c.answer(false, what, name, "%s", err)
	case gotSize == size && got == sum:
		c.answer(true, what, name, "unchanged, SHA-256 %s", sum)
		return true
	default:
		c.answer(false, what, name, "%s", changed(c.path(name), gotSize, size, got, sum))
	}
	return false
}

// outputs answers for the outputs, and returns the numbers of the answers of
// those that differ.
func (c *confirmer) outputs(outputsOnly bool) map[string]int {
	different := map[string]int{}
	for _, p := range c.Manifest.Products {
		for _, o := range p.Outputs {
			if !c.same(outputAnswer, o.File, o.Size, o.SHA256) {
				different[o.File] = len(c.Answers) - 1
				if blocks := c.blocks(&o, &p.Contents); outputsOnly && blocks != "" {
					c.Answers[len(c.Answers)-1].Text += ": " + blocks
				}
			}
		}
	}
	return different
}

func (c *confirmer) inputs() bool {
	all := true
	for i := range c.Manifest.Read {
		all = c.input(&c.Manifest.Read[i]) && all
	}
	return all
}

// input answers whether a file that was read is as it was.
func (c *confirmer) input(r *ReadFile) bool {
	if r.Role == device.ShippedRole {
		return c.shipped(r)
	}
	return c.same("input", r.File, r.Size, r.SHA256)
}

// shipped answers whether a map that came with the program is as it was.
func (c *confirmer) shipped(r *ReadFile) bool {
	text := device.ShippedText(r.File)
	sum := sha256.Sum256(text)
	switch got := hex.EncodeToString(sum[:]); {
	case text == nil:
		c.answer(false, "input", r.File, "this version of Mexalt ships no such map")
	case got != r.SHA256:
		c.answer(false, "input", r.File, "this version of Mexalt ships another, SHA-256 %s; expected %s", got, r.SHA256)
	default:
		c.answer(true, "input", r.File, "as shipped, SHA-256 %s", got)
		return true
	}
	return false
}

// again makes the outputs anew and holds them against the manifest. Of those at
// hand that differ, it says where.
func (c *confirmer) again(again Maker, different map[string]int) {
	r, err := again(c.Manifest, c.folder)
	if err != nil {
		c.answer(false, Rebuild, c.Manifest.Release, "%s", err)
		return
	}
	if len(r.Products) != len(c.Manifest.Products) {
		made := memory.FormatNumber(len(r.Products), "product")
		c.answer(false, Rebuild, c.Manifest.Release, "it makes %s; expected %d", made, len(c.Manifest.Products))
		return
	}
	var written []output.Written
	remade := writeAgain(r)
	for i, p := range r.Products {
		outputs := c.Manifest.Products[i].Outputs
		if len(p.Outputs) != len(outputs) {
			c.answer(false, Rebuild, c.Manifest.Release, "it makes %s; expected %d", memory.FormatNumber(len(p.Outputs), "output"),
				len(outputs))
			continue
		}
		for j, out := range outputs {
			one := remade[i][j]
			if one.err != nil {
				c.answer(false, Rebuild, out.File, "%s", one.err)
				continue
			}
			written = append(written, one.Written)
			if got := hex.EncodeToString(one.SHA256[:]); got != out.SHA256 {
				c.answer(false, Rebuild, out.File, "SHA-256 %s; expected %s", got, out.SHA256)
				continue
			}
			c.answer(true, Rebuild, out.File, "the same, byte for byte")
			if n, ok := different[out.File]; ok {
				var text bytes.Buffer
				if err := p.Outputs[j].Write(&text); err != nil {
					continue // it was written a moment ago
				}
				if where := c.where(&out, text.Bytes(), p.Map); where != "" {
					c.Answers[n].Text += ": " + where
				}
			}
		}
	}
	if c.Confirmed() {
		c.unchanged(r, written)
	}
}

// remadeOutput is an output that was written again: how large it is, and its digest.
type remadeOutput struct {
	output.Written
	err error
}

// writeAgain writes all outputs again, to nothing, on all cores: by product.
func writeAgain(r *Remade) [][]remadeOutput {
	list := make([][]remadeOutput, len(r.Products))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range r.Products {
		list[i] = make([]remadeOutput, len(p.Outputs))
		for j := range p.Outputs {
			group.Go(func() error {
				to := &digester{Hash: sha256.New()}
				one := &list[i][j]
				one.err = p.Outputs[j].Write(to)
				one.Size = to.size
				to.Sum(one.SHA256[:0])
				return nil // each has an error of its own
			})
		}
	}
	group.Wait()
	return list
}

// digester takes the digest of what is written.
type digester struct {
	hash.Hash
	size int64
}

func (d *digester) Write(b []byte) (int, error) {
	d.size += int64(len(b))
	return d.Hash.Write(b)
}

// unchanged answers whether the manifest says what a run says now: nothing in it was
// changed.
func (c *confirmer) unchanged(r *Remade, written []output.Written) {
	now := r.Manifest(c.Manifest.Tool, c.Manifest.Made, written)
	if same, err := now.writtenAs(c.Manifest); err == nil && same {
		c.answer(true, "manifest", c.Manifest.Name, "matches the rebuild")
		return
	}
	is, err := now.Text()
	was, err2 := c.Manifest.Text()
	if err := errors.Join(err, err2); err != nil {
		c.answer(false, "manifest", c.Manifest.Name, "%s", err)
		return
	}
	a, b := bytes.Split(was, []byte("\n")), bytes.Split(is, []byte("\n"))
	for i := range min(len(a), len(b)) {
		if !bytes.Equal(a[i], b[i]) {
			c.answer(false, "manifest", c.Manifest.Name, "modified: found %s; expected %s", shorten(a[i]), shorten(b[i]))
			return
		}
	}
	c.answer(false, "manifest", c.Manifest.Name, "modified: it has %d lines; expected %d", len(a), len(b))
}

// shorten cuts a line of a manifest for a message.
func shorten(line []byte) string {
	const most = 200
	line = bytes.TrimSuffix(bytes.TrimSpace(line), []byte(","))
	if len(line) > most {
		return string(line[:most]) + "..."
	}
	return string(line)
}

// image reads an output as the manifest says; nil where it cannot be read.
func (o *Output) image(r io.Reader, size int64) *memory.Image {
	var problems source.Problems
	choice, err := codec.ParseChoice(o.Format, false)
	if err != nil {
		return nil
	}
	f, err := codec.Read(r, o.File, size, codec.ReadOptions{From: choice, Lenient: true, Cores: runtime.GOMAXPROCS(0)}, &problems)
	if err != nil || problems.Errors() > 0 || f.Image == nil {
		return nil
	}
	image := f.Image
	if first, err := parseAddress(o.First); o.First != "" && err == nil {
		image, _ = image.Move(first, false, &source.Input{Name: "place", Counting: source.Operation})
	}
	return image
}

// atHand reads an output that is at hand.
func (c *confirmer) atHand(o *Output) *memory.Image {
	files := &source.Files{}
	f, err := files.Open(c.path(o.File), "output")
	if err != nil {
		return nil
	}
	defer f.Close()
	return o.image(io.LimitReader(f, format.Most), f.Size)
}

// blocks says in which blocks an output differs from what it should be.
func (c *confirmer) blocks(o *Output, contents *Contents) string {
	image := c.atHand(o)
	if image == nil {
		return ""
	}
	const few = 4
	var names []string
	for _, s := range contents.changed(image) {
		if len(names) == few {
			names = append(names, "...")
			break
		}
		names = append(names, s.Range())
	}
	if names == nil {
		return ""
	}
	return "changed within " + strings.Join(names, ", ")
}

// where says where an output at hand differs from what it should be.
func (c *confirmer) where(o *Output, want []byte, m *device.Map) string {
	expected, found := o.image(bytes.NewReader(want), int64(len(want))), c.atHand(o)
	if expected == nil || found == nil {
		return ""
	}
	cmp := survey.Compare(expected, found, nil, memory.Complement(nil)...)
	if cmp.Same() {
		return "the image is the same; only the file differs"
	}
	d := cmp.Differences[0]
	region := ""
	if m != nil {
		if r := m.RegionAt(d.First); r != nil {
			region = " in " + r.Name
		}
	}
	return fmt.Sprintf("%s changed, %s missing, %s added; first at %s%s", memory.FormatBytes(cmp.Differ),
		memory.FormatCount(cmp.OnlyFirst), memory.FormatCount(cmp.OnlySecond), memory.FormatAddress(d.First), region)
}
