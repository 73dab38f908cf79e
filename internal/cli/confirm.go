package cli

import (
	"mexalt/internal/report"
	"mexalt/release"
	"mexalt/span"
)

var confirmCommand = &command{
	name: "confirm", usage: "[flags] NAME.manifest.json",
	short: "proves that outputs are what a manifest says, and can be made again",
	long: `
Answers yes or no for each file that the manifest of a release names: whether the
outputs are what was made, whether the inputs are what was read, and whether the
outputs can be made of these again, byte for byte. Where an output differs, it
says where, by address and region.`,
	setup: func(f *flags) func(*session, []string) error {
		var outputsOnly, asJSON bool
		f.add(span.SwitchKey(&outputsOnly, "outputs-only", "look at the outputs alone, for who has only these"),
			span.SwitchKey(&asJSON, "json", "print the result as JSON"))
		return func(s *session, args []string) error {
			if len(args) != 1 {
				return usagef("usage: mexalt confirm [flags] NAME.manifest.json; %d files are named", len(args))
			}
			c, err := release.Confirm(s.files, args[0], outputsOnly, release.Options{Draw: report.Drawing, Huge: true})
			if err != nil {
				return err
			}
			if asJSON {
				err = report.JSON(s.out, report.ConfirmationOf(c))
			} else {
				report.Confirmed(s.print, c)
			}
			if err == nil && !c.Confirmed() {
				return errFindings
			}
			return err
		}
	},
}
