package cli

import (
	"errors"
	"flag"
	"fmt"

	"mexalt/codec"
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

One start address is kept. Different ones are an error, unless -start says
which: that of an input FILE, an ADDRESS, or none.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		clash, start := "stop", ""
		r.define(fs)
		w.define(fs)
		fs.Var(choice{&clash, []string{"stop", "agree", "first", "last"}}, "clash", "where inputs clash: `RULE` stop, agree, first or last (stop)")
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
			policy := memory.First
			if clash == "last" {
				policy = memory.Last
			}
			merged, clashes := memory.Merge(images, policy)
			if err := s.clashes(clashes, clash); err != nil {
				return err
			}
			if merged.Start, err = chooseStart(files, start, withImage(names(dev), merged)); err != nil {
				return err
			}
			return s.write(&w, &r, merged, files[0].Format)
		}
	},
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
