package cli

import (
	"runtime"

	"mexalt/checksum"
	"mexalt/device"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var identifyCommand = &command{
	name: "identify", usage: "-value VALUE | -at ADDRESS [flags] FILE...",
	short: "find the algorithm that gives a known checksum",
	long: `
Finds out how a checksum is computed. It tries all algorithms that checksum -list
shows, and the known polynomials with other inits and xorouts; both byte orders;
spans whose ends differ in the usual ways; and all rules for words, holes and the
checksum's own place. The most usual ones come first, with the flags that reproduce
them.

-value gives the value that the other side computes, once for each file. -at is
where the files contain it. Several files narrow the search. With three or more
files of equal length, the polynomial of a CRC in no catalogue is found too.`,
	setup: func(f *flags) func(*session, []string) error {
		i := &identifyRun{}
		f.add(key.List(&i.values, "value", "VALUE", "find the algorithm that gives VALUE; once for each file"),
			key.Text(&i.at, "at", "ADDRESS", "find the algorithm that gives the value stored at ADDRESS"),
			key.Number(&i.size, 1, 64, "size", "N", "the stored value has N bytes (default: all usual sizes)"),
			key.List(&i.in, "in", "SPAN", "search around SPAN; repeatable"))
		f.reportsTo()
		i.r.define(f)
		return i.run
	},
}

type identifyRun struct {
	r      reading
	values []string
	at     string
	size   uint64
	in     []string
}

func (i *identifyRun) run(s *session, args []string) error {
	switch {
	case i.at == "" && len(i.values) == 0:
		return usagef("name the value: -value VALUE, or -at ADDRESS")
	case i.at != "" && len(i.values) > 0:
		return usagef("-value and -at both give the value; give one")
	case i.size != 0 && i.at == "":
		return usagef("-size applies to -at only; the digits of -value give its size")
	}
	args, err := s.operands(args)
	if err != nil {
		return err
	}
	if i.at == "" && len(i.values) != len(args) {
		return usagef("%s and %s: each file needs a -value of its own", memory.FormatNumber(len(args), "file"),
			memory.FormatNumber(len(i.values), "value"))
	}
	q := checksum.Search{Size: int(i.size), Cores: runtime.GOMAXPROCS(0), Given: len(i.in) > 0, PlaceText: i.at, Progress: s.files.Progress}
	for _, text := range i.values {
		v, err := checksum.ParseValue(text)
		if err != nil {
			return &source.KeyError{Key: "value", Err: err}
		}
		q.Values = append(q.Values, v)
	}
	dev, err := s.loadDevice(&i.r, args)
	if err != nil {
		return err
	}
	inputs, err := s.readAll(&i.r, args, s.names(dev), nil)
	if err != nil {
		return err
	}
	dev = s.configured(dev, inputs[0].Image)
	for _, in := range inputs {
		if in.Image.Empty() {
			return &source.Problem{File: in.Name, What: "contains no bytes"}
		}
		q.Images = append(q.Images, in.Image)
	}
	q.Erased = dev.ErasedAt
	q.Place = func(m *memory.Image, size int) (memory.Span, error) {
		first, err := span.Address(i.at, withImage(s.names(dev), m))
		if err != nil {
			return memory.Span{}, &source.KeyError{Key: "at", Err: err}
		}
		at, ok := memory.SpanOf(first, uint64(size))
		if !ok {
			return at, source.Keyf("at", "%d bytes there run past the last 64-bit address", size)
		}
		return at, nil
	}
	if q.Spans, err = i.spans(s.names(dev), q.Images, dev); err != nil {
		return err
	}
	for _, m := range q.Images {
		if i.at == "" {
			break
		}
		if at, err := q.Place(m, 1); err != nil {
			return err
		} else if m.Count(at) == 0 {
			return source.Keyf("at", "the image contains no bytes at %s", memory.FormatAddress(at.First))
		}
	}
	answers, err := q.Run(s.ctx)
	if err != nil {
		return err
	}
	found := &report.Identified{Answers: answers, Given: i.at == "", Settings: s.wording.settings}
	if err := s.show(found); err != nil {
		return err
	}
	if !found.Found() {
		return errFindings
	}
	return nil
}

// spans lists the spans to search: those of -in, else the image and the regions
// that hold something.
func (i *identifyRun) spans(known span.Names, images []*memory.Image, dev *device.Map) ([]checksum.NamedSpans, error) {
	texts := i.in
	if len(texts) == 0 {
		texts = []string{"image"}
		if dev != nil {
			for _, r := range dev.Regions {
				if images[0].Count(r.Span) > 0 {
					texts = append(texts, r.Name)
				}
			}
		}
	}
	var list []checksum.NamedSpans
	for _, t := range texts {
		n := checksum.NamedSpans{Text: t}
		for _, m := range images {
			sp, err := span.Span(t, withImage(known, m))
			if err != nil {
				return nil, &source.KeyError{Key: "in", Err: err}
			}
			if m.Count(sp) == 0 {
				return nil, source.Keyf("in", "%s: nothing to search: a file contains no byte there", t)
			}
			n.Spans = append(n.Spans, sp)
		}
		list = append(list, n)
	}
	return list, nil
}
