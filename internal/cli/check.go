package cli

import (
	"flag"
	"fmt"
	"strings"

	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/source"
)

var checkCommand = &command{
	name: "check", usage: "-device MAP [flags] FILE...",
	short: "findings of an image against a device map",
	long: `
Holds an image against the map of the device that it is meant for. Several
files are checked as the parts of one image, each in the region in which it
begins. With -region, the files are one part alone, which must lie in that
region whole.

Rules:
  outside-memory  bytes where the device has no memory
  outside-region  bytes in a memory, but in none of its regions
  region-overrun  a part that runs over the end of its region
  missing-part    a required region that is empty`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var region string
		var json bool
		r.define(fs)
		fs.StringVar(&region, "region", "", "check one part alone, which must lie in region `NAME`")
		fs.BoolVar(&json, "json", false, "print the findings as JSON")
		return func(s *session, args []string) error {
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			if r.device == "" {
				return usagef("which device? -device MAP; maps that come with mexalt: %s", strings.Join(device.Shipped(), ", "))
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			var o check.Options
			if region != "" {
				if o.Region = dev.Region(region); o.Region == nil {
					return usagef("-region: %s has no region %q; %s", dev.Name, region, source.DidYouMean(region, dev.RegionNames()))
				}
			}
			files, err := s.readAll(&r, args, names(dev))
			if err != nil {
				return err
			}
			var parts []memory.Part
			images := make([]*memory.Image, len(files))
			for i, f := range files {
				parts = append(parts, memory.Part{Name: f.Name, Image: f.Image})
				images[i] = f.Image
			}
			_, clashes := memory.Merge(images, memory.First)
			if err := s.clashes(clashes, "stop"); err != nil {
				return err
			}
			findings := check.Run(dev, parts, o)
			if json {
				err = printJSON(s.out, checkJSONOf(dev, findings))
			} else {
				s.printFindings(dev, parts, o.Region, findings)
			}
			if err == nil && len(findings) > 0 {
				return errFindings
			}
			return err
		}
	},
}

func (s *session) printFindings(dev *device.Map, parts []memory.Part, only *device.Region, findings []check.Finding) {
	for _, f := range findings {
		colour := render.Bad
		if f.Severity != check.Error {
			colour = render.Doubt
		}
		at := f.Origin
		if at == "" {
			at = f.Input
		}
		if at == "" {
			at = dev.Name
		}
		fmt.Fprintf(s.out, "%s: %s %s at %s: %s; %s (%s)\n", at, colour.Sprint(f.Severity.String()), f.Rule, f.Where, f.What, f.Expected, f.Advice)
	}
	if len(findings) > 0 {
		fmt.Fprintln(s.out)
	}
	var rows [][]string
	for _, u := range check.Uses(dev, parts) {
		if only != nil && u.Region.Name != only.Name {
			continue
		}
		size := u.Region.Span.Size()
		rows = append(rows, []string{
			u.Region.Name, u.Region.Span.String(), memory.FormatCount(u.Used), memory.FormatCount(size - u.Used),
			fmt.Sprintf("%.1f %%", 100*float64(u.Used)/float64(size)),
		})
	}
	render.Table(s.out, []string{"region", "span", "bytes used", "bytes free", "used"}, rows, 3, 4, 5)
	fmt.Fprintln(s.out)
	var names []string
	for _, p := range parts {
		names = append(names, p.Name)
	}
	what := strings.Join(names, " + ")
	if len(findings) == 0 {
		fmt.Fprintf(s.out, "%s: %s against %s (%s)\n", render.Good.Sprint("nothing found"), what, dev.Name, dev.File)
		return
	}
	fmt.Fprintf(s.out, "%s: %s against %s (%s)\n", render.Bad.Sprint(countFindings(findings)), what, dev.Name, dev.File)
}

// countFindings counts them by severity: "2 errors, 1 note".
func countFindings(findings []check.Finding) string {
	var counts [check.Note + 1]int
	for _, f := range findings {
		counts[f.Severity]++
	}
	var words []string
	for severity, n := range counts {
		if n > 0 {
			words = append(words, render.Count(n, check.Severity(severity).String()))
		}
	}
	return strings.Join(words, ", ")
}

type checkJSON struct {
	Schema   string        `json:"schema"`
	Device   string        `json:"device"`
	Findings []findingJSON `json:"findings"`
}

type findingJSON struct {
	Severity string   `json:"severity"`
	Rule     string   `json:"rule"`
	Span     jsonSpan `json:"span"`
	Region   string   `json:"region,omitempty"`
	Input    string   `json:"input,omitempty"`
	Origin   string   `json:"origin,omitempty"`
	What     string   `json:"what"`
	Expected string   `json:"expected"`
	Advice   string   `json:"advice"`
}

func checkJSONOf(dev *device.Map, findings []check.Finding) checkJSON {
	out := checkJSON{Schema: "mexalt.check/1", Device: dev.Name, Findings: []findingJSON{}}
	for _, f := range findings {
		out.Findings = append(out.Findings, findingJSON{
			f.Severity.String(), f.Rule, jsonSpanOf(f.Where), f.Region, f.Input, f.Origin, f.What, f.Expected, f.Advice,
		})
	}
	return out
}
