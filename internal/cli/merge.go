package cli

import (
	"errors"
	"flag"
	"fmt"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/span"
)

var mergeCommand = &command{
	name: "merge", usage: "[flags] INPUT...",
	short: "several images into one",
	long: `
The inputs are laid together into one image. Where two give the same address a
byte they clash, and -clash says what then:

  stop   every clash is an error that names both origins (the rule unless said)
  agree  bytes that are equal may be given twice; others are an error
  first  the input named first counts, and what it covers is told
  last   the input named last counts, and what it covers is told

With -lanes, the inputs are not laid over each other but put together byte by
byte, as parts beside each other on a wide bus hold them: the first input has
the first word of each group, and so on. It undoes split -by lanes.

With -device, a table says how much of which region each part uses, and what is
left there.

One start address is kept. Different ones are an error, unless -start says
which: that of an input FILE, an ADDRESS, or none.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		clash, start := "stop", ""
		r.define(fs)
		w.define(fs)
		fs.Var(choice{&clash, []string{"stop", "agree", "first", "last"}}, "clash", "where inputs clash: `RULE` stop, agree, first or last (stop)")
		lanes, laneWidth := false, uint64(1)
		fs.BoolVar(&lanes, "lanes", false, "put the inputs together as the lanes of a wide bus")
		fs.Func("lane-width", "with -lanes: words of `N` bytes, 1, 2 or 4 (1)", oneTwoFour(&laneWidth))
		fs.StringVar(&start, "start", "", "the start address: that of a `FILE` named as input, an address, or none")
		return func(s *session, args []string) error {
			args, err := s.operands(args)
			if err != nil {
				return err
			}
			dev, err := s.loadDevice(&r, args)
			if err != nil {
				return err
			}
			files, err := s.readAll(&r, args, names(dev))
			if err != nil {
				return err
			}
			images := make([]*memory.Image, len(files))
			for i, f := range files {
				images[i] = f.Image
			}
			var merged *memory.Image
			if lanes {
				if merged, err = memory.JoinLanes(images, laneWidth); err != nil {
					return inputf("%w", err)
				}
			} else {
				policy := memory.First
				if clash == "last" {
					policy = memory.Last
				}
				var clashes []memory.Clash
				merged, clashes = memory.Merge(images, policy)
				if err := s.clashes(clashes, clash); err != nil {
					return err
				}
			}
			dev = s.configured(dev, merged)
			if merged.Start, err = chooseStart(files, start, withImage(names(dev), merged)); err != nil {
				return err
			}
			if err := s.write(&w, &r, merged, files[0].Format); err != nil {
				return err
			}
			if dev != nil && !lanes {
				parts := make([]memory.Part, len(files))
				for i, f := range files {
					parts[i] = memory.Part{Name: f.Name, Image: f.Image}
				}
				s.printUses(dev, parts)
			}
			return nil
		}
	},
}

// oneTwoFour returns a flag's function that reads 1, 2 or 4.
func oneTwoFour(value *uint64) func(string) error {
	return func(v string) error {
		switch v {
		case "1", "2", "4":
			*value = uint64(v[0] - '0')
			return nil
		}
		return fmt.Errorf("%q is none of 1, 2, 4", v)
	}
}

// printUses tells on standard error which part uses how much of which region,
// and what all of them leave free there.
func (s *session) printUses(dev *device.Map, parts []memory.Part) {
	var rows [][]string
	whole := check.Uses(dev, parts)
	for _, p := range parts {
		for i, u := range check.Uses(dev, []memory.Part{p}) {
			if u.Used == 0 {
				continue
			}
			size := u.Region.Span.Size()
			rows = append(rows, []string{p.Name, u.Region.Name, memory.FormatCount(u.Used), memory.FormatCount(size - whole[i].Used),
				fmt.Sprintf("%.1f %%", 100*float64(u.Used)/float64(size))})
		}
	}
	if len(rows) > 0 {
		render.Table(s.err, []string{"part", "region", "bytes used", "left free", "used"}, rows, 3, 4, 5)
	}
}

// clashes tells what clashed, as an error unless the rule lets it pass.
func (s *session) clashes(clashes []memory.Clash, rule string) error {
	const most = 20
	var lines []error
	bad := 0
	for _, c := range clashes {
		// The later one is the one to look at: the earlier was there first.
		early, late := c.Kept, c.Other
		if c.KeptInput > c.OtherInput {
			early, late = late, early
		}
		differ := "all bytes are equal there"
		if c.Differ > 0 {
			differ = fmt.Sprintf("%s of %s bytes differ", memory.FormatCount(c.Differ), memory.FormatCount(c.Size()))
		}
		switch {
		case rule == "first" || rule == "last":
			s.note("note: %s covers %s over %s; %s", c.Kept, c.Other, c.Span, differ)
		case rule == "stop" || c.Differ > 0:
			if bad++; bad <= most {
				lines = append(lines, fmt.Errorf("%s: clashes with %s over %s; %s (move one, or choose: -clash agree, first or last)", late, early, c.Span, differ))
			}
		}
	}
	if bad == 0 {
		return nil
	}
	if bad > most {
		lines = append(lines, fmt.Errorf("and %d more clashes", bad-most))
	}
	return &failure{statusInput, errors.Join(lines...)}
}

// chooseStart returns the start address of the merged image.
func chooseStart(files []*codec.File, choice string, known span.Names) (memory.Start, error) {
	if choice == "none" {
		return memory.Start{}, nil
	}
	for _, f := range files {
		if f.Name == choice {
			if f.Image.Start.Kind == memory.NoStart {
				return memory.Start{}, usagef("-start: %s has no start address", f.Name)
			}
			return f.Image.Start, nil
		}
	}
	if choice != "" {
		a, err := span.Address(choice, known)
		if err != nil {
			return memory.Start{}, usagef("-start takes an input's file name, an address or none: %w", err)
		}
		return memory.Start{Kind: memory.LinearStart, Value: a}, nil
	}
	var start memory.Start
	var from string
	for _, f := range files {
		switch is := f.Image.Start; {
		case is.Kind == memory.NoStart || is == start:
		case start.Kind == memory.NoStart:
			start, from = is, f.Name
		default:
			return memory.Start{}, inputf("%s: start address %s differs from that of %s, %s; one image has one (-start %s, -start %s, -start ADDRESS or -start none)",
				f.Name, memory.FormatAddress(is.Address()), from, memory.FormatAddress(start.Address()), from, f.Name)
		}
	}
	return start, nil
}
