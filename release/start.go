package release

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"mexalt/device"
	"mexalt/memory"
	"mexalt/survey"
)

// Start is what a release file to start from is made of.
type Start struct {
	Name   string      // of the product
	Device string      // as the release file names the map
	Map    *device.Map // nil is no device
	Inputs []StartInput
	// How an interface has it run, where all keys are described, how a variable is given
	// another value, and how units are made: for the comments.
	Run, Keys, Override, Units string
}

// StartInput is an input of a release file to start from.
type StartInput struct {
	File  string
	At    string        // where raw bytes go; "" is as the file says
	Image *memory.Image // nil where it cannot be read
	Why   string        // why it is only a comment; "" is that it is an input
}

var notName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[^A-Za-z0-9_]+`) })

// nameOf makes a name of a file's, of letters, digits and _, that no other has.
func nameOf(file string, taken map[string]bool) string {
	base := strings.ToLower(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)))
	base = strings.Trim(notName().ReplaceAllString(base, "_"), "_")
	if base == "" || base[0] >= '0' && base[0] <= '9' {
		base = "input_" + base
	}
	name := base
	for n := 2; taken[name]; n++ {
		name = fmt.Sprintf("%s_%d", base, n)
	}
	taken[name] = true
	return name
}

// regionOf returns the region in which all bytes of an image are; nil is that there is none.
func (s *Start) regionOf(m *memory.Image) *device.Region {
	all, ok := m.Span()
	if s.Map == nil || !ok {
		return nil
	}
	for i := range s.Map.Regions {
		if r := &s.Map.Regions[i]; r.Span.Covers(all) {
			return r
		}
	}
	return nil
}

var versionNumber = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\d+\.\d+(\.\d+)?(-[A-Za-z0-9.]+)?`) })

// version finds the version that an image tells, and where; the last input with one counts,
// and an application before all others.
func (s *Start) version() (input int, version string, at uint64) {
	input, version = -1, "0.1.0"
	rank := -1
	for i, in := range s.Inputs {
		if in.Why != "" {
			continue
		}
		mine := 0
		if r := s.regionOf(in.Image); r != nil && r.Role == device.Application {
			mine = 1
		}
		const most = 4
		for _, text := range survey.Versions(in.Image, most) {
			if found := versionNumber().FindString(text.Text); found != "" && mine > rank {
				input, version, at, rank = i, found, text.Address, mine
			}
		}
	}
	return input, version, at
}

// Text returns the release file.
func (s *Start) Text() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	versioned, version, at := s.version()
	line("# %s: what goes in, what is done to it, what comes out. Run it with: %s", s.Name, s.Run)
	line("# All keys: %s\n", s.Keys)
	line("name = %q", s.Name)
	if s.Map != nil {
		line("device = %q", s.Device)
	}
	line("\n[set]                        # variables, for {NAME} in texts; %s overrides one", s.Override)
	line("version = %q", version)
	taken, names := map[string]bool{}, make([]string, len(s.Inputs))
	for i, in := range s.Inputs {
		if in.Why != "" {
			line("\n# %s: %s", in.File, in.Why)
			continue
		}
		name := nameOf(in.File, taken)
		names[i] = name
		line("\n[[input]]\nname = %q\nfile = %q", name, filepath.ToSlash(in.File))
		if in.At != "" {
			line("at = %q", in.At)
		}
		region := s.regionOf(in.Image)
		if region != nil {
			line("region = %-20q # all its bytes must be in this region", region.Name)
		}
		if i == versioned {
			place := memory.FormatAddress(at)
			if region != nil && at > region.Span.First {
				place = fmt.Sprintf("%s.first + 0x%X", region.Name, at-region.Span.First)
			} else if region != nil {
				place = region.Name + ".first"
			}
			line("version-at = %-16q # the text there must contain the version", place)
		}
	}
	s.steps(line, names)
	line("\n[[output]]\nname = \"image\"\nfile = \"%s-{version}.hex\"      # the ending chooses the format: .hex .s37 .bin "+
		".uf2 .png .html", strings.ToLower(notName().ReplaceAllString(s.Name, "-")))
	line("\n# A variant has other files or variables; {variant} is its name.")
	line("# [[variant]]\n# name = \"north\"\n# set = { version = %q }", version)
	line("\n# Units: %s makes one set of outputs for each row of", s.Units)
	line("# a table, whose columns are variables. A step writes them; seal comes after it.")
	line("# [set]\n# serial = \"0\"\n# [[step]]\n# do = \"patch\"\n# at = \"ADDRESS\"\n# values = [{ number = \"{serial}\", size = 4 }]")
	return b.String()
}

// startOf returns the number of the input whose start address the image keeps, where they
// have different ones and the map decides for none; else -1.
func (s *Start) startOf() int {
	first, differ := -1, false
	for i, in := range s.Inputs {
		if in.Why != "" || in.Image.Start().Kind == memory.NoStart {
			continue
		}
		if s.Map != nil && slices.Contains(s.Map.StartAddresses(in.Image), in.Image.Start().Address()) {
			return -1
		}
		if first >= 0 && in.Image.Start() != s.Inputs[first].Image.Start() {
			differ = true
		}
		if r := s.regionOf(in.Image); first < 0 || r != nil && r.Role == device.Bootloader {
			first = i
		}
	}
	if !differ {
		return -1
	}
	return first
}

// steps writes the steps that the inputs and the map ask for.
func (s *Start) steps(line func(format string, args ...any), names []string) {
	if i := s.startOf(); i >= 0 {
		line("\n[[step]]\ndo = \"merge\"\nstart = %-21q # the start address that the image keeps", names[i])
	}
	if s.Map == nil || len(s.Map.Checksums) == 0 {
		line("\n# Steps run in order: place cut fill patch convert checksum seal config.")
		line("# [[step]]\n# do = \"fill\"\n# in = \"FIRST..LAST\"\n# with = \"FF\"")
		return
	}
	var covered []string
	for _, k := range s.Map.Checksums {
		if k.Guards != "" && !slices.Contains(covered, k.Guards) && s.used(k.Guards) {
			covered = append(covered, k.Guards)
		}
	}
	if len(covered) > 0 {
		line("\n[[step]]\ndo = \"fill\"\nin = [\"%s\"]\nerased = true", strings.Join(covered, "\", \""))
	}
	if slices.ContainsFunc(s.Map.Memories, func(m device.Memory) bool { return m.Page > 0 || m.Granule > 1 }) {
		line(
			"\n[[step]]                     # complete pages, so that every device gets the same bytes\ndo = \"fill\"\npages = " +
				"true\nerased = true",
		)
	}
	line("\n[[step]]\ndo = \"seal\"                  # the checksums that the map declares")
}

// used reports whether an input has bytes in a region.
func (s *Start) used(region string) bool {
	r := s.Map.Region(region)
	return r != nil && slices.ContainsFunc(s.Inputs, func(in StartInput) bool {
		return in.Why == "" && in.Image.Count(r.Span) > 0
	})
}
