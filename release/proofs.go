package release

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/output"
	"mexalt/release/proof"
	"mexalt/source"
)

// manifest makes the manifest of a run, written are its outputs.
func (r *Result) manifest(files *source.Files, o Options, written []output.Written) *proof.Manifest {
	f := r.File
	folder := f.outputFolder(o)
	m := &proof.Manifest{Header: f.header(files, o, proof.Schema), Products: []proof.Product{}}
	for _, p := range r.Products {
		m.Products = append(m.Products, p.proof(folder, written[:len(p.Outputs)]))
		written = written[len(p.Outputs):]
	}
	return m
}

// header says of a run what it was.
func (f *File) header(files *source.Files, o Options, schema string) proof.Header {
	folder := f.outputFolder(o)
	return proof.Header{
		Schema:   schema,
		Tool:     o.Tool,
		Made:     o.Made,
		Name:     f.Title,
		Release:  proof.RelativeName(folder, f.Name),
		Set:      o.Set,
		Salt:     o.salt,
		Variants: o.Variants,
		Read:     f.readFiles(files, folder),
	}
}

// readFiles are the files that were read, by name. A table that may hold secrets is not among
// them: of a short table, its digest would tell them.
func (f *File) readFiles(files *source.Files, folder string) []proof.ReadFile {
	list := []proof.ReadFile{}
	for _, one := range files.Recorded() {
		if one.Role == tableRole && len(f.table.Secret) > 0 {
			continue
		}
		if sum := one.SHA256(); sum != nil {
			name := one.Name
			if !one.Embedded {
				name = proof.RelativeName(folder, name)
			}
			list = append(list, proof.ReadFile{File: name, Role: one.Role, Size: one.Size, SHA256: hex.EncodeToString(sum)})
		}
	}
	slices.SortFunc(list, func(a, b proof.ReadFile) int { return strings.Compare(a.File+"\x00"+a.Role, b.File+"\x00"+b.Role) })
	return slices.Compact(list)
}

// proof returns what the manifest says of the product, written are its outputs.
func (p *Product) proof(folder string, written []output.Written) proof.Product {
	var out proof.Product
	if p.let != nil {
		out = p.let.proof
	} else {
		out = p.imageProof(folder)
	}
	for i, o := range p.Outputs {
		one := proof.Output{
			Name:   o.Name,
			File:   proof.RelativeName(folder, o.File),
			Format: o.Format,
			Size:   written[i].Size,
			SHA256: hex.EncodeToString(written[i].SHA256[:]),
		}
		if o.Raw != nil {
			one.First = memory.PlainAddress(o.Raw.First)
		}
		out.Outputs = append(out.Outputs, one)
	}
	return out
}

// imageProof returns all that the manifest says of the product but for its outputs.
func (p *Product) imageProof(folder string) proof.Product {
	out := proof.Product{Variant: p.Variant, Set: p.sets, Inputs: []proof.Input{}, Steps: []proof.Step{}, Outputs: []proof.Output{}}
	if p.Map != nil {
		out.Device = p.Map.Name
	}
	for _, in := range p.Inputs {
		one := proof.Input{
			Name:    in.Name,
			File:    proof.RelativeName(folder, in.File),
			Format:  in.Format.Word,
			Bytes:   in.Image.Bytes(),
			Region:  in.Region,
			Version: in.Version,
		}
		if in.Span != nil {
			s := proof.SpanOf(*in.Span)
			one.Span = &s
		}
		out.Inputs = append(out.Inputs, one)
	}
	for _, s := range p.Steps {
		out.Steps = append(out.Steps, proof.Step(s))
	}
	digest := p.digest()
	out.Contents = proof.Contents{Bytes: p.Image.Bytes(), Runs: []proof.Span{}, SHA256: hex.EncodeToString(digest[:])}
	for _, run := range p.Image.Runs() {
		out.Contents.Runs = append(out.Contents.Runs, proof.SpanOf(run.Span()))
	}
	if s := p.Image.Start(); s.Kind != memory.NoStart {
		out.Contents.Start = memory.PlainAddress(s.Address())
	}
	if !p.Image.Empty() {
		out.Contents.SetBlocks(p.Image)
	}
	p.checkedProof(&out, folder)
	placed := map[string]uint64{} // where sections of programs went
	for _, in := range p.Inputs {
		if in.Program == nil || in.Mixed {
			continue
		}
		for _, s := range in.Program.Sections {
			if s.Loads {
				placed[in.File+"\x00"+s.Name] = in.Program.Placed(s.Load)
			}
		}
	}
	out.Origins = proof.OriginsIn(folder, p.Image.Origins(), placed)
	return out
}

// checkedProof says what the map and the check say.
func (p *Product) checkedProof(out *proof.Product, folder string) {
	p.findingProofs(out, folder)
	if p.Map == nil {
		return
	}
	for i := range p.Map.Regions {
		r := &p.Map.Regions[i]
		one := proof.Region{Name: r.Name, Span: proof.SpanOf(r.Span), Used: p.Image.Count(r.Span)}
		parts := p.Image.FromFiles(r.Span)
		one.Parts = &parts
		if mem := p.Map.MemoryAt(r.Span.First); mem != nil && mem.Unit > 1 && p.Map.WordsText(r.Span) != "" {
			one.Words = &proof.Words{First: memory.PlainAddress(mem.InPart(r.Span.First)), Unit: mem.Unit}
		}
		out.Regions = append(out.Regions, one)
	}
	values := map[string]string{}
	for _, c := range p.Checksums {
		values[c.Name] = c.Value
	}
	for i := range p.Map.Checksums {
		c := &p.Map.Checksums[i]
		spec, err := c.Spec(p.Map, p.Image)
		if values[c.Name] == "" || err != nil {
			continue
		}
		over := spec.Feed.Parts()
		one := proof.Checksum{
			Name:  c.Name,
			Kind:  c.Kind.Name,
			In:    proof.SpanOf(over[0]),
			At:    memory.PlainAddress(spec.Place.First),
			Value: values[c.Name],
		}
		for _, s := range over[1:] {
			one.Further = append(one.Further, proof.SpanOf(s))
		}
		out.Checksums = append(out.Checksums, one)
	}
	for i := range p.Map.Config {
		w := &p.Map.Config[i]
		v, ok := w.In(p.Image)
		if !ok {
			continue
		}
		one := proof.Config{Name: w.Name, Span: proof.SpanOf(w.Span()), Value: w.Format(v), Fields: []string{}}
		for j := range w.Fields {
			f := &w.Fields[j]
			meaning := "not defined"
			if value := f.Value(f.Of(v)); value != nil {
				meaning = value.Meaning
			}
			one.Fields = append(one.Fields, f.Name+": "+meaning)
		}
		out.Config = append(out.Config, one)
	}
}

// findingProofs says what was found, and what of it was accepted.
func (p *Product) findingProofs(out *proof.Product, folder string) {
	for _, f := range p.Checked.Findings {
		origin := f.Place.Text
		if f.Place.File != "" {
			origin = strings.ReplaceAll(origin, f.Place.File, proof.RelativeName(folder, f.Place.File))
		}
		one := proof.Finding{
			Severity: f.Severity.String(),
			Rule:     f.Rule,
			Name:     f.Name,
			Accepted: f.Accepted,
			Origin:   origin,
			What:     f.What,
			Expected: f.Expected,
		}
		if f.Where != nil {
			s := proof.SpanOf(*f.Where)
			one.Span = &s
		}
		out.Findings = append(out.Findings, one)
	}
}

// proofs returns the files that tell of the outputs: the manifest and its
// signature, and the same facts in the words of standards.
func (r *Result) proofs(files *source.Files, o Options, written []output.Written) []output.File {
	name := r.File.manifestName(o)
	stem := strings.TrimSuffix(name, proof.Extension)
	made := map[string][]byte{}
	manifest := func(io.Writer) error { return nil } // what writes it, once it can be known
	sign := func(name, kind string) (err error) {
		if len(o.Sign) > 0 {
			made[name+proof.SignatureExtension], err = proof.Sign(o.Sign, kind, made[name])
		}
		return err
	}
	provenance, bill := stem+proof.ProvenanceExtension, stem+proof.BillExtension
	if written != nil {
		m := r.manifest(files, o, written)
		manifest = m.Write
		var text []byte
		steps := []func() error{
			func() (err error) {
				if len(o.Sign) > 0 || o.ToSign != "" || o.Provenance { // a long one is not kept for nothing
					text, err = m.Text()
				}
				return err
			},
			func() (err error) {
				if o.Provenance {
					sum := sha256.Sum256(text)
					if made[provenance], err = m.Provenance(filepath.Base(name), hex.EncodeToString(sum[:])); err == nil {
						err = sign(provenance, proof.ProvenanceType)
					}
				}
				return err
			},
			func() (err error) {
				if o.Bill {
					if made[bill], err = m.Bill(); err == nil {
						err = sign(bill, proof.BillType)
					}
				}
				return err
			},
			func() error {
				made[name] = text
				if o.ToSign != "" {
					made[o.ToSign] = proof.ToSign(proof.PayloadType, text)
				}
				return sign(name, proof.PayloadType)
			},
		}
		for _, step := range steps {
			if err := step(); err != nil {
				return []output.File{{Name: name, Write: func(io.Writer) error { return err }}}
			}
		}
	}
	var list []output.File
	add := func(name string, wanted bool) {
		if wanted {
			list = append(list,
				output.File{Name: name, Keep: true, Write: func(w io.Writer) error { _, err := w.Write(made[name]); return err }})
		}
	}
	signed := len(o.Sign) > 0
	list = append(list, output.File{Name: name, Keep: true, Write: func(w io.Writer) error { return manifest(w) }})
	add(name+proof.SignatureExtension, signed)
	add(o.ToSign, o.ToSign != "")
	add(provenance, o.Provenance)
	add(provenance+proof.SignatureExtension, o.Provenance && signed)
	add(bill, o.Bill)
	add(bill+proof.SignatureExtension, o.Bill && signed)
	return list
}

// manifestName is the name of a run's manifest; a run of some of the variants has
// one of its own.
func (f *File) manifestName(o Options) string {
	name := f.stem()
	if len(o.Variants) > 0 {
		variants := slices.Clone(o.Variants)
		slices.Sort(variants)
		name += "-" + strings.Join(slices.Compact(variants), "-")
	}
	return filepath.Join(f.outputFolder(o), name+proof.Extension)
}

// Again returns what makes a release again, to be held against its manifest; of the
// options count what draws, and whether results may be large.
func Again(ctx context.Context, o Options) proof.Maker {
	return func(m *proof.Manifest, folder string) (*proof.Remade, error) {
		files := &source.Files{Digest: true, Regular: true, Context: ctx}
		name := filepath.FromSlash(m.Release)
		if name != "" && !filepath.IsAbs(name) {
			name = filepath.Join(folder, name)
		}
		f, err := Load(files, name)
		if err != nil {
			return nil, err
		}
		o.Set, o.Variants, o.Folder, o.Dry, o.unwritten, o.salt = m.Set, m.Variants, folder, true, true, m.Salt
		o.like = m
		r, err := f.Run(ctx, files, o)
		if err != nil {
			return nil, err
		}
		return r.remade(files, o), nil
	}
}

// remade returns a run's products to be held against a manifest.
func (r *Result) remade(files *source.Files, o Options) *proof.Remade {
	made := &proof.Remade{Manifest: func(tool, time string, written []output.Written) *proof.Manifest {
		o.Tool, o.Made = tool, time
		return r.manifest(files, o, written)
	}}
	for _, p := range r.Products {
		made.Products = append(made.Products, proof.RemadeProduct{Variant: p.Variant, Image: p.image, Map: p.Map, Outputs: p.files})
	}
	return made
}
