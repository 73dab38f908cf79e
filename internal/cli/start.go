package cli

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/codec"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release"
	"mexalt/source"
)

// start writes a release file to start from, of the inputs that are named, or of the image
// files in this folder.
func (r *releaseRun) start(s *session, args []string) error {
	if s.reporting.json {
		return usagef("-json has no effect on -new")
	}
	to := r.options.Folder
	switch {
	case to != "" && to != "-" && !strings.HasSuffix(to, release.Extension):
		return source.Keyf("o", "%s does not end in %s", to, release.Extension)
	case to != "" && to != "-" && source.Exists(to):
		return &source.SystemError{File: to, Doing: "write",
			Err: errors.New("the file exists; an existing release file is not overwritten")}
	}
	found := len(args) == 0
	if found {
		args = imageFiles()
	}
	if len(args) == 0 {
		return usagef("no image files here; name the inputs: mexalt release -new INPUT... -device MAP")
	}
	start := &release.Start{Device: r.device, Name: strings.TrimSuffix(filepath.Base(to), release.Extension),
		Run: "mexalt release FILE", Keys: "mexalt help releases", Override: "-set NAME=VALUE",
		Units: "mexalt release FILE -units units.csv"}
	if to == "" || to == "-" {
		folder, err := os.Getwd()
		if err != nil {
			return err
		}
		start.Name = filepath.Base(folder)
	}
	if r.device != "" {
		m, err := s.loadDevice(&reading{device: r.device}, args)
		if err != nil {
			return err
		}
		start.Map = m
	}
	merged := &memory.Image{}
	for _, arg := range args {
		in := s.open(&reading{placed: true}, arg, s.names(start.Map))
		if in.File == nil { // it cannot be read at all
			if !found {
				return in.failed()
			}
			start.Inputs = append(start.Inputs, release.StartInput{File: arg, Why: "left out: it cannot be read"})
			continue
		}
		one := release.StartInput{File: in.Name, Image: in.Image}
		if _, at, ok := strings.Cut(strings.TrimPrefix(arg, in.Name), "@"); ok {
			one.At = at
		}
		if err := in.failed(); err != nil {
			one.Why = r.placeIt(s, in, &one, found)
			if one.Why != "" && !found {
				return err
			}
		}
		if one.Why == "" {
			all, clashes := memory.Merge([]*memory.Image{merged, one.Image}, memory.First)
			if clashes.Count > 0 {
				one.Why = "left out: it has bytes for the same addresses as an input above"
			} else {
				merged = all
			}
		}
		start.Inputs = append(start.Inputs, one)
	}
	s.reporting.to = to
	return s.showAs(func(to io.Writer, _ *render.Printer) error { _, err := io.WriteString(to, start.Text()); return err })
}

// placeIt gives raw bytes the one place in which they fit; else it says why the input is
// left out.
func (r *releaseRun) placeIt(s *session, in *input, one *release.StartInput, found bool) string {
	if in.Format == nil || !in.Format.Unplaced || in.Image == nil || in.problems.Errors() > 0 {
		return "left out: it is damaged, or not an image"
	}
	all, ok := in.Image.Span()
	if !ok {
		return "left out: it is empty"
	}
	places := check.Places(s.dev, in.Name, all.Size())
	if len(places) != 1 {
		return "left out: raw bytes; add it as an [[input]] with at = \"ADDRESS\""
	}
	region := s.dev.Region(places[0])
	if region == nil {
		return "left out: raw bytes; add it as an [[input]] with at = \"ADDRESS\""
	}
	moved, ok := in.Image.Move(region.Span.First-all.First, false, &source.Input{Name: "place", Counting: source.Operation})
	if !ok {
		return "left out: it does not fit"
	}
	one.At, one.Image = region.Name+".first", moved
	return ""
}

// imageFiles are the files in this folder whose names end as those of images do.
func imageFiles() (list []string) {
	there, err := os.ReadDir(".")
	if err != nil {
		return nil
	}
	endings := codec.Extensions()
	for _, f := range there {
		if !f.IsDir() && slices.Contains(endings, strings.ToLower(filepath.Ext(f.Name()))) {
			list = append(list, f.Name())
		}
	}
	return list
}
