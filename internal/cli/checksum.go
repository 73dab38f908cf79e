package cli

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"

	"mexalt/checksum"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var checksumCommand = &command{
	name: "checksum", usage: "[flags] FILE",
	short: "computes a check value, and stores it",
	long: `
Computes the check value over the spans, in the order given, and prints it.
Every byte of them must be there: fill holes first, so that the device, which
reads them too, comes to the same value.

With -store the value is written into the image, which is then the result; the
value is told on standard error. The place must lie outside the spans. Bytes
that are there already are not written over unless they are erased (FF), hold
the same value, or -replace is given.`,
	setup: func(fs *flag.FlagSet) func(*session, []string) error {
		var r reading
		var w writing
		var in list
		c := checksumRun{kindName: "CRC-32/ISO-HDLC", order: "little"}
		r.define(fs)
		w.define(fs)
		fs.Var(choice{&c.kindName, checksum.KindNames()}, "kind", "the algorithm's `NAME` (CRC-32/ISO-HDLC)")
		fs.Var(&in, "in", "compute over `SPAN`; may be given several times (image)")
		fs.StringVar(&c.store, "store", "", "store the value at `ADDRESS`")
		fs.Var(choice{&c.order, []string{"little", "big"}}, "order", "store the bytes in `ORDER` little or big (little)")
		fs.BoolVar(&c.replace, "replace", false, "store even over other bytes")
		fs.BoolVar(&c.json, "json", false, "print the result as JSON")
		return func(s *session, args []string) error {
			dev, f, err := s.readOne(&r, args)
			if err != nil {
				return err
			}
			if len(in) == 0 {
				in = list{"image"}
			}
			known := withImage(names(dev), f.Image)
			where, err := spans("in", in, known)
			if err != nil {
				return err
			}
			kind := checksum.KindOfName(c.kindName)
			value, err := kind.Sum(f.Image, where...)
			if err != nil {
				return inputf("%s: %w; fill them first, or name spans without holes (-in)", f.Name, err)
			}
			if c.store == "" {
				return c.print(s, s.out, kind, value, where, nil)
			}
			image, at, err := c.storeIn(f.Image, kind, value, where, known)
			if err != nil {
				return err
			}
			if err := c.print(s, s.err, kind, value, where, &at); err != nil {
				return err
			}
			return s.write(&w, &r, image, f.Format)
		}
	},
}

type checksumRun struct {
	kindName, store, order string
	replace, json          bool
}

// storeIn writes the value into the image.
func (c *checksumRun) storeIn(m *memory.Image, kind *checksum.Kind, value uint64, fed []memory.Span, known span.Names) (*memory.Image, memory.Span, error) {
	address, err := span.Address(c.store, known)
	if err != nil {
		return nil, memory.Span{}, usagef("-store %w", err)
	}
	at, ok := memory.SpanOf(address, uint64(kind.Width))
	if !ok {
		return nil, at, usagef("-store %s: %d bytes there run past the last 64-bit address", c.store, kind.Width)
	}
	for _, f := range fed {
		if both, ok := f.Meet(at); ok {
			return nil, at, usagef("the place of the value, %s, lies inside the span %s that it is computed over, and storing it would change it; end the span before %s",
				at.Range(), f.Range(), memory.FormatAddress(both.First))
		}
	}
	order := checksum.Little
	if c.order == "big" {
		order = checksum.Big
	}
	bytes := order.Bytes(value, kind.Width)
	for old := range m.In(at) {
		for i, b := range old.Data {
			a := old.First + uint64(i)
			if b != 0xFF && b != bytes[a-at.First] && !c.replace {
				from, _ := m.Origin(a)
				return nil, at, inputf("%s: there is a byte %02X at %s, where the value should be stored; it is neither erased nor the same (-replace writes over it)",
					from, b, memory.FormatAddress(a))
			}
		}
	}
	stored, ok := m.Write(&source.Input{Name: "checksum", Counting: source.Operation}, address, bytes)
	if !ok {
		return nil, at, errors.New("the value does not fit into 64-bit addresses")
	}
	return stored, at, nil
}

func (c *checksumRun) print(s *session, to io.Writer, kind *checksum.Kind, value uint64, fed []memory.Span, at *memory.Span) error {
	if c.json {
		result := checksumResult{Kind: kind.Name, Value: fmt.Sprintf("0x%0*X", 2*kind.Width, value)}
		for _, f := range fed {
			result.Spans = append(result.Spans, jsonSpanOf(f))
		}
		if at != nil {
			stored := jsonSpanOf(*at)
			result.Stored, result.Order = &stored, c.order
		}
		return printJSON(to, checksumJSON{Schema: "mexalt.checksum/1", Results: []checksumResult{result}})
	}
	over := ""
	for i, f := range fed {
		if i > 0 {
			over += ", "
		}
		over += f.String()
	}
	line := fmt.Sprintf("%s 0x%0*X over %s", kind.Name, 2*kind.Width, value, over)
	if at == nil {
		fmt.Fprintln(to, line)
		return nil
	}
	s.note("%s, stored at %s, %s-endian", line, at.Range(), c.order)
	return nil
}

type checksumJSON struct {
	Schema  string           `json:"schema"`
	Results []checksumResult `json:"results"`
}

type checksumResult struct {
	Kind   string     `json:"kind"`
	Value  string     `json:"value"`
	Spans  []jsonSpan `json:"spans"`
	Stored *jsonSpan  `json:"stored,omitempty"`
	Order  string     `json:"order,omitempty"`
}

// jsonSpan is a span in JSON: addresses are strings without _, since JSON
// numbers do not hold 64 bits everywhere.
type jsonSpan struct {
	First string `json:"first"`
	Last  string `json:"last"`
	Size  uint64 `json:"size"`
}

func jsonSpanOf(s memory.Span) jsonSpan {
	return jsonSpan{jsonAddress(s.First), jsonAddress(s.Last), s.Size()}
}

func jsonAddress(a uint64) string { return fmt.Sprintf("0x%X", a) }

func printJSON(to io.Writer, v any) error {
	e := json.NewEncoder(to)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}
