package cli

import (
	"io"
	"slices"
	"strings"

	"mexalt/internal/pages"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/output"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
)

var confirmCommand = &command{
	name: "confirm", usage: "[flags] NAME.manifest.json | NAME.units.manifest.json...",
	short: "verify outputs against their manifest and rebuild them",
	long: `
Answers yes or no for each file that the manifest of a release names: are the
outputs unchanged, are the inputs unchanged, and does rebuilding give the same
bytes? If an output differs, it says where, by address and region.

A manifest of units, NAME.units.manifest.json, is confirmed likewise: all its units, or
the one that -unit names. Several of them, each of other rows of one table, must be the
whole table together, each row once.`,
	setup: func(f *flags) func(*session, []string) error {
		var outputsOnly bool
		var unit, attach string
		var trust []string
		threshold := uint64(1)
		var secrets []string
		f.add(key.Switch(&outputsOnly, "outputs-only", "check the outputs only (you do not need the inputs)"),
			key.Text(&unit, "unit", "VALUE", "of units, only the one with VALUE, such as its serial number, NAME=VALUE, or row=N"),
			secretKey(&secrets),
			key.List(&trust, "trust", "FILE", "require a signature by the key whose public half is in FILE, PEM; repeatable"),
			key.Number(&threshold, 1, 64, "threshold", "N", "require signatures by N of the trusted keys (1)"),
			key.Text(&attach, "attach", "FILE", "put the signature in FILE, made elsewhere by a trusted key, into the manifest's envelope"))
		f.reportsTo()
		return func(s *session, args []string) error {
			keepsImages()
			ofUnits := func(name string) bool { return strings.HasSuffix(name, proof.BatchExtension) }
			switch {
			case len(args) > 1 && unit == "" && !slices.ContainsFunc(args, func(name string) bool { return !ofUnits(name) }):
			case len(args) != 1:
				return usagef("usage: mexalt confirm [flags] NAME.manifest.json, or several NAME.units.manifest.json; %s", named(args))
			}
			o := proof.Confirming{OutputsOnly: outputsOnly, Tool: "mexalt " + version()}
			for _, name := range trust {
				one, err := proof.LoadTrusted(s.files, name)
				if err != nil {
					return err
				}
				o.Trust.Keys = append(o.Trust.Keys, one)
			}
			o.Trust.Of = int(threshold)
			switch {
			case threshold > uint64(max(len(trust), 1)): // one key may be named twice; that it counts once is seen later
				return source.Keyf("threshold", "%d of %d trusted keys", threshold, len(trust))
			case attach != "" && (len(args) != 1 || len(trust) == 0):
				return source.Keyf("attach", "needs one manifest, and `trust` with the key that signed it")
			case attach != "":
				return s.attach(args[0], attach, o.Trust.Keys)
			}
			drawn := release.Options{Picture: pages.Drawing, Huge: true}
			var err error
			if drawn.Secrets, err = readSecrets(secrets); err != nil {
				return err
			}
			var c *proof.Confirmation
			switch {
			case len(args) > 1:
				c, err = proof.ConfirmBatches(s.files, args, o, release.AgainUnits(s.ctx, drawn))
			case ofUnits(args[0]):
				c, err = proof.ConfirmBatch(s.files, args[0], unit, o, release.AgainUnits(s.ctx, drawn))
			case unit != "":
				return source.Keyf("unit", "has no effect with %s; units have NAME%s", args[0], proof.BatchExtension)
			default:
				c, err = proof.Confirm(s.files, args[0], o, release.Again(s.ctx, drawn))
			}
			if err != nil {
				return err
			}
			if err := s.show(report.Confirmed{Confirmation: c, Quiet: s.quiet}); err != nil {
				return err
			}
			if !c.Confirmed() {
				return errFindings
			}
			return nil
		}
	},
}

// attach puts a signature that was made elsewhere into a manifest's envelope.
func (s *session) attach(manifest, signature string, keys []*proof.PublicKey) error {
	name, text, err := proof.Attach(s.files, manifest, signature, keys)
	if err != nil {
		return err
	}
	write := func(w io.Writer) error { _, err := w.Write(text); return err }
	if _, err := output.Write(&source.Files{}, []output.File{{Name: name, Keep: true, Write: write}}); err != nil {
		return err
	}
	s.note("the signature is good, and is in " + name)
	return nil
}
