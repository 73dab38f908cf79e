package cli

import (
	"crypto/ed25519"

	"mexalt/internal/pages"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/release"
	"mexalt/release/proof"
)

var confirmCommand = &command{
	name: "confirm", usage: "[flags] NAME.manifest.json",
	short: "verify outputs against their manifest and rebuild them",
	long: `
Answers yes or no for each file that the manifest of a release names: are the
outputs unchanged, are the inputs unchanged, and does rebuilding give the same
bytes? If an output differs, it says where, by address and region.`,
	setup: func(f *flags) func(*session, []string) error {
		var outputsOnly bool
		var trust string
		f.add(key.Switch(&outputsOnly, "outputs-only", "check the outputs only (you do not need the inputs)"),
			key.Text(&trust, "trust", "FILE", "require a signature by the key whose public half is in FILE (Ed25519, PEM)"))
		f.reportsTo()
		return func(s *session, args []string) error {
			if len(args) != 1 {
				return usagef("usage: mexalt confirm [flags] NAME.manifest.json; %s", named(args))
			}
			var trusted ed25519.PublicKey
			if trust != "" {
				var err error
				if trusted, err = proof.LoadTrusted(s.files, trust); err != nil {
					return err
				}
			}
			c, err := proof.Confirm(
				s.files,
				args[0],
				outputsOnly,
				trusted,
				"mexalt "+version(),
				release.Again(s.ctx, release.Options{Picture: pages.Drawing, Huge: true}),
			)
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
