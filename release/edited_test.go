package release

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
	"mexalt/source"
)

// TestEditedReleases runs release files that differ from good ones in a few places, and holds
// what they made, or why not, against what came of them before.
func TestEditedReleases(t *testing.T) {
	dir := folder(t)
	more := small + `
[[output]]
file = "{variant}-{version}.s37"
header = "{name} {version}"
[[output]]
file = "{variant}-cal.c"
format = "c"
in = "part.calibration"
[[output]]
file = "{variant}.txt"
text = "{file:whole}: {sha256:whole} {size:whole} {crc:application_crc}\n"
[[variant]]
name = "harbour"
[[variant]]
name = "north"
set = { version = "2.4.2" }
input = { calibration = "calibration-north.bin" }
`
	steps := strings.Replace(strings.Replace(small, `[[step]]
do = "seal"`, `[[step]]
do = "patch"
at = "0x100"
with = "01 02 03"
if = "FF"
[[step]]
do = "place"
[[step]]
do = "checksum"
kind = "CRC-16/XMODEM"
in = "0..0x1FF"
store = "0x7700"
[[step]]
do = "cut"
drop = "calibration.first+16,4"
[[step]]
do = "seal"`, 1), "{version}.hex", "steps-{version}.hex", 1)
	golden.Edited(t, "testdata/edited.txt", 150, map[string]string{
		"small": small, "variants": strings.Replace(more, "{version}.hex", "{variant}-{version}.hex", 1), "steps": steps,
		"units": read(t, dir, "tg1-line.release.toml"),
	}, func(_, text string) string {
		r, _, err := run(t, dir, text, Options{Tool: "test"})
		var b strings.Builder
		b.WriteString(resultText(dir, r, err))
		if r == nil {
			return b.String()
		}
		if r.Manifest != "" {
			manifest, err := os.ReadFile(r.Manifest)
			require.NoError(t, err)
			b.Write(manifest)
		}
		return b.String()
	})
}

// resultText is all that a run says of its products.
func resultText(dir string, r *Result, err error) string {
	var b strings.Builder
	var problems *source.Problems
	if errors.As(err, &problems) {
		for _, p := range problems.Sorted() {
			fmt.Fprintln(&b, strings.ReplaceAll(p.Error(), dir, ""))
		}
	} else {
		fmt.Fprintln(&b, strings.ReplaceAll(fmt.Sprint(err), dir, ""))
	}
	if r == nil {
		return b.String()
	}
	for _, p := range r.Products {
		inputs, _ := json.Marshal([]any{p.Notes, p.Checksums, p.Sets()})
		fmt.Fprintf(&b, "%s %s\n", p.Variant, strings.ReplaceAll(string(inputs), dir, ""))
		for _, in := range p.Inputs {
			fmt.Fprintln(&b, " ", in.Name, strings.TrimPrefix(in.File, dir), in.Format.Name, in.Span, in.Mixed, in.Region, in.Version)
		}
		for _, u := range p.uses {
			name := "no region"
			if u.Region != nil {
				name = u.Region.Name
			}
			fmt.Fprintln(&b, " ", name, u.Used, u.Over, u.Depth)
		}
		for i, before := range []*Product{nil, r.Products[0], {Variant: p.Variant, uses: p.uses[:len(p.uses)/2]}} {
			fmt.Fprintln(&b, " ", i, strings.ReplaceAll(strings.Join(productText(p, before), "; "), dir, ""))
		}
		for _, o := range p.Outputs {
			fmt.Fprintln(&b, o.Name, strings.TrimPrefix(o.File, dir), o.What, o.Format, o.Raw, o.Size)
		}
		for _, s := range p.Steps {
			fmt.Fprintln(&b, s.Line, s.Do, s.Changes, strings.ReplaceAll(fmt.Sprint(s.Notes), dir, ""))
		}
		if p.Checked != nil {
			for _, f := range p.Checked.Findings {
				fmt.Fprintln(&b, f.Severity, f.Rule, f.Where, f.What, f.Accepted)
			}
		}
	}
	return b.String()
}
