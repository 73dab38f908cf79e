package cli

import (
	"mexalt/internal/pages"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/release"
	"mexalt/release/proof"
)

var explainCommand = &command{
	name: "explain", usage: "[flags] OUTPUT",
	short: "show where the bytes of an output came from",
	long: `
Shows where bytes of a release's output came from, according to its manifest: the
input and the line, or the section and the offset; the steps that made or changed
them, with their lines in the release file; the declared checksums that cover them.
Names are regions, image, part.NAME for an input, and symbol.NAME of ELF inputs.
-from asks the other way round: where did a line of an input go? You can also
explain a read-back: give -manifest. If the inputs exist, each byte that differs
from the release is listed; otherwise the blocks that differ.`,
	setup: func(f *flags) func(*session, []string) error {
		var q proof.Question
		f.add(key.List(&q.At, "at", "SPAN", "explain SPAN, an address or a name; repeatable"),
			key.Text(&q.Offset, "offset", "SPAN", "explain these places of a raw output's file, counted from 0"),
			key.Text(&q.From, "from", "FILE:LINE", "where this line of an input went, or FILE+OFFSET of raw bytes"),
			key.Text(&q.Variant, "variant", "NAME", "the variant on the device that was read back"),
			key.Text(&q.Unit, "unit", "VALUE", "likewise the unit, by a value that it alone has, NAME=VALUE, or row=N"),
			key.Text(&q.Manifest, "manifest", "FILE", "the manifest (default: the one next to OUTPUT that lists it)"))
		f.reportsTo()
		return func(s *session, args []string) error {
			keepsImages()
			if len(args) != 1 {
				return usagef("usage: mexalt explain [flags] OUTPUT; %s", named(args))
			}
			q.Output = args[0]
			drawn := release.Options{Picture: pages.Drawing, Huge: true}
			e, err := proof.Explain(s.files, q, release.Again(s.ctx, drawn), release.AgainUnits(s.ctx, drawn))
			if err != nil {
				return err
			}
			return s.show(&report.Explained{Output: args[0], Explained: e})
		}
	},
}
