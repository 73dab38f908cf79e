package proof_test

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"mexalt/internal/golden"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
)

// TestEditedManifests confirms and explains by manifests that differ from a release's in a few
// places, and holds what is said against what was said before.
func TestEditedManifests(t *testing.T) {
	dir := folder(t)
	write(t, dir, "x.release.toml", small)
	manifest := read(t, "", made(t, dir, "x.release.toml", release.Options{}))
	again := release.Again(context.Background(), release.Options{Tool: "test"})
	name := filepath.Join(dir, "edited.manifest.json")
	golden.Edited(t, "testdata/edited.txt", 120, map[string]string{"small": manifest}, func(_, text string) string {
		var b strings.Builder
		say := func(what any, err error) {
			made, failed := json.Marshal(what)
			fmt.Fprintln(&b, strings.ReplaceAll(fmt.Sprintf("%s %v %v", made, err, failed), dir, ""))
		}
		write(t, dir, "edited.manifest.json", text)
		m, err := proof.Load(&source.Files{}, name)
		if say(m, err); err != nil {
			return b.String()
		}
		c, err := proof.Confirm(&source.Files{}, name, proof.Confirming{}, again)
		say(c, err)
		for _, q := range []proof.Question{
			{At: []string{"0x77FA..0x7801", "part.calibration.first"}},
			{From: "gauge-app.s19:400"},
		} {
			q.Output, q.Manifest = filepath.Join(dir, "2.4.1.hex"), name
			e, err := proof.Explain(&source.Files{}, q, again, nil)
			say(e, err)
		}
		return b.String()
	})
}
