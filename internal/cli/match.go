package cli

import (
	"encoding/hex"
	"path/filepath"

	"mexalt/internal/report"
	"mexalt/release/proof"
)

var matchCommand = &command{
	name: "match", usage: "[flags] FILE [MANIFEST|FOLDER]...",
	short: "find which release, variant and unit a file or a read-back is",
	long: `
Finds out which release an image or a read-back is, byte for byte, or which it is
nearest to: where it differs, what lies there, and whether another release has these
bytes, as after an update that was interrupted. It compares the digests of blocks that
manifests contain, so neither the outputs nor the inputs of a release are needed. In a
FOLDER all manifests and logs of units count, also those in the folders in it; by
default, those in the folder of FILE.

Raw bytes without a place are tried where a release, its outputs and its regions begin.
Memories of which FILE has nothing do not count; memory that is erased in FILE and not in
the release is no difference. The exit status is 0 if FILE is an output, a unit's file, or
has every byte of a release, and 1 if not.`,
	setup: func(f *flags) func(*session, []string) error {
		var r reading
		f.reportsTo()
		r.define(f)
		return func(s *session, args []string) error {
			keepsImages()
			if len(args) == 0 {
				return usagef("usage: mexalt match [flags] FILE [MANIFEST|FOLDER]...; no file is named")
			}
			dev, err := s.loadDevice(&r, args[:1])
			if err != nil {
				return err
			}
			s.files.Digest = true
			files, err := s.readAll(&r, args[:1], s.names(dev), nil)
			if err != nil {
				return err
			}
			in := files[0]
			where := args[1:]
			if len(where) == 0 {
				where = []string{filepath.Dir(in.Name)}
			}
			manifests, err := proof.ManifestsIn(where)
			if err != nil {
				return err
			}
			x := &report.Matched{File: in.Name}
			sum := in.recorded.SHA256()
			x.Units, x.Unread = proof.UnitsWith(where, sum, in.Image)
			if len(manifests) == 0 && len(x.Units) == 0 {
				return usagef("no manifest in %s; name manifests, or a folder that has some", where[0])
			}
			x.Matched = proof.Match(in.Image, hex.EncodeToString(sum), in.Format.Unplaced && !in.placed, manifests)
			x.Unread = append(x.Unread, x.Matched.Unread...)
			if err := s.show(x); err != nil {
				return err
			}
			status := statusFindings
			for _, err := range x.Unread { // the file may be of one of these
				s.printError(err)
				status = max(status, statusOf(err))
			}
			if x.Found() {
				return nil
			}
			return &failure{status, errShown}
		}
	},
}
