package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/internal/pages"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/survey"
)

var compareCommand = &command{
	name: "compare", usage: "[flags] EXPECTED FOUND | MANIFEST...",
	short: "show where two images differ",
	long: `
Compares two images byte by byte, whatever their formats: a release with a read-back,
or with the release before. The report lists the stretches that differ, with the bytes
expected and found, and what only one image contains. It also reports what happened to
the image, if a known damage explains what was found (help diagnosis).

A read-back usually contains erased bytes where the image has holes: -holes FF treats a
hole as FF. Different start addresses are reported but do not count as a difference.

-cost reports what an update from the first image to the second costs on a device. Give
two or more manifests to see how regions, inputs and symbols have grown.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		var in, skip, others []string
		var hole *byte
		var cost bool
		var baud uint64
		form := "text"
		f.add(key.List(&in, "in", "SPAN", "compare inside SPAN only; repeatable"),
			key.List(&skip, "skip", "SPAN", "ignore SPAN; repeatable"), key.Byte(&hole, "holes", "BYTE", "treat a hole as BYTE"),
			key.List(&others, "other", "FILE", "report if FOUND is FILE, or was programmed over it; repeatable"),
			key.Switch(&cost, "cost",
				"report what it costs to update the device from EXPECTED to FOUND: sectors, pages, time, moved functions"),
			key.Number(&baud, 1, 1<<40, "baud", "N", "with -cost: assume a link of N bit/s (default: the map's)"),
			key.Word(&form, []string{"text", "json", "html"}, "format", "FORMAT",
				"report as FORMAT text, json or html, a self-contained page (text)"))
		told := f.reportsTo()
		r.define(f)
		return func(s *session, args []string) error {
			if told.json = told.json || form == "json"; told.json {
				form, s.quiet = "json", true
			}
			if form == "html" {
				told.failed = func(to io.Writer, f report.Failure) error { return pages.WriteFailure(f, to) }
			}
			if manifests(args) {
				for _, k := range f.all() {
					if growthHas := []string{
						"format",
						"json",
						"o",
						"quiet",
						"color",
						"device",
					}; k.Given() && !slices.Contains(growthHas, k.Name) ||
						k.Name == "device" && s.deviceNamed {
						return source.Keyf(k.Name, "has no effect on manifests")
					}
				}
				return s.growth(args, form)
			}
			if len(args) != 2 {
				return usagef("usage: mexalt compare [flags] EXPECTED FOUND; %s", named(args))
			}
			if cost && !r.named() {
				return usagef("-cost needs the device's map: -device MAP")
			}
			if cost && len(in)+len(skip) > 0 {
				return usagef("-cost is of whole images; -in and -skip cannot be combined with it")
			}
			if baud > 0 && !cost {
				return usagef("-baud belongs to -cost")
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			s.wording.file = args[1]
			s.files.Digest = true // of a unit's file
			files, err := s.readAll(&r, slices.Concat(args, others), s.names(dev), nil)
			if err != nil {
				return err
			}
			dev = s.configured(dev, files[0].Image)
			known := withImage(s.names(dev), files[0].Image)
			within, err := s.spans("in", in, known)
			if err != nil {
				return err
			}
			without, err := s.spans("skip", skip, known)
			if err != nil {
				return err
			}
			where := memory.Without(within, without)
			if len(in) == 0 {
				where = memory.Complement(without)
			}
			var price *report.Costs
			if cost { // first, as it may be refused
				if price, err = costs(dev, files, baud); err != nil {
					return err
				}
			}
			parts := make([]memory.Part, len(files))
			for i, file := range files {
				parts[i] = memory.Part{Name: file.Name, Image: file.Image.Cut(where...)}
			}
			if parts[0].Image.Bytes()+parts[1].Image.Bytes() == 0 {
				return source.Keyf(map[bool]string{true: "in", false: "skip"}[len(in) > 0], "nothing is compared: no file contains a byte there")
			}
			ofNothing := func(texts []string, spans []memory.Span, effect string) {
				for i, span := range spans {
					if !slices.ContainsFunc(files, func(f *input) bool { return f.Image.Count(span) > 0 }) {
						s.note("no file contains a byte in " + texts[i] + effect)
					}
				}
			}
			ofNothing(in, within, "")
			ofNothing(skip, without, ", so that skipping it has no effect")
			c := report.Compare(parts[0], parts[1], dev, hole, where, parts[2:]...)
			c.Wording, c.Cost = s.wording, price
			if !c.Same() && len(in)+len(skip) == 0 {
				c.Release = released(files)
			}
			if form == "html" {
				s.reporting.written = true
				err = s.showAs(func(to io.Writer, _ *render.Printer) error { return pages.WriteComparison(c, to) })
			} else {
				err = s.show(c)
			}
			if err != nil {
				return err
			}
			if !c.Same() {
				return errFindings
			}
			return nil
		}
	},
}

// costs returns what it takes to make the second of the first.
func costs(dev *device.Map, files []*input, baud uint64) (*report.Costs, error) {
	cost, err := rehearsal.CostOf(dev, files[0].Image, files[1].Image, baud)
	if err != nil {
		return nil, err
	}
	price := &report.Costs{Cost: cost}
	for i := range dev.Checksums {
		if spec, err := dev.Checksums[i].Spec(dev, files[1].Image); err == nil {
			price.Guards = append(price.Guards, report.Guard{Name: dev.Checksums[i].Name, Place: *spec.Place})
		}
	}
	if a, b := files[0].Program, files[1].Program; a != nil && b != nil {
		price.Programs = true
		if price.Symbols, err = survey.SymbolChanges(a, b, files[0].Image, files[1].Image); err != nil {
			return nil, err
		}
	}
	return price, nil
}

// manifests reports whether all operands are manifests.
func manifests(args []string) bool {
	return len(args) > 1 && !slices.ContainsFunc(args, func(a string) bool { return !strings.HasSuffix(a, proof.Extension) })
}

// growth tells what became of regions, parts and symbols over several releases.
func (s *session) growth(args []string, form string) error {
	g := &pages.Growth{}
	var products []string
	for _, a := range args {
		m, err := proof.Load(s.files, a)
		if err != nil {
			return err
		}
		if !slices.Contains(products, m.Name) {
			products = append(products, m.Name)
		}
		g.Add(a, m)
	}
	if len(products) > 1 {
		s.note("these are releases of different products: " + strings.Join(products, ", "))
	}
	s.reporting.written = true
	if form == "html" {
		return s.showAs(func(to io.Writer, _ *render.Printer) error { return g.Write(to) })
	}
	return s.show(g)
}

// released says which release the second of two images is, by manifests in the folders of both,
// where it is another than the first; "" is none.
func released(files []*input) string {
	var names, units []string
	for _, f := range files[:2] {
		for _, ending := range []string{proof.Extension, proof.LogExtension} {
			found, _ := filepath.Glob(filepath.Join(filepath.Dir(f.Name), "*"+ending))
			for _, name := range found {
				if name = filepath.ToSlash(name); strings.HasSuffix(name, proof.BatchExtension) || ending == proof.LogExtension {
					units = append(units, name)
				} else {
					names = append(names, name)
				}
			}
		}
	}
	slices.Sort(names)
	slices.Sort(units)
	if found, _ := proof.UnitsWith(slices.Compact(units), files[1].recorded.SHA256(), files[1].Image); len(found) == 1 {
		u := &found[0]
		return fmt.Sprintf("%s is unit %d (%s) of %s", files[1].Name, u.Row, u.SetsText(), u.In)
	}
	if names = slices.Compact(names); len(names) == 0 {
		return ""
	}
	of := func(f *input) *proof.Matched { return proof.Match(f.Image, "", f.Format.Unplaced && !f.placed, names) }
	found := of(files[1])
	switch {
	case found.Exact():
		if was := of(files[0]); was.Exact() && was.Candidates[0].Name() == found.Candidates[0].Name() {
			return ""
		}
		c := &found.Candidates[0]
		return fmt.Sprintf("%s is %s (%s), every byte as released", files[1].Name, c.Name(), c.Manifest)
	case found.Torn != nil:
		t := found.Torn
		return fmt.Sprintf("%s is torn: %s below %s, %s from there on", files[1].Name, t.Below.Name(), memory.FormatAddress(t.At),
			t.From.Name())
	}
	return ""
}
