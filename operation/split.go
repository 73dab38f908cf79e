package operation

import (
	"fmt"
	"slices"
	"strings"

	"mexalt/device"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/source"
	"mexalt/span"
)

var splitKind = &Kind{
	Name: "split", Usage: "`by` WAY FILE",
	Short: "split one image into several",
	Long: `
Writes each part of an image to its own file. WAY is one of

  regions    by the regions of the device map
  memories   by the memories of the device map
  runs       by its runs
  size N     into blocks of N addresses, which begin at multiples of N
  lanes N    into N lanes, for memory chips side by side on a wide bus:
             of every N words of ` + "`lane-width`" + ` bytes, each lane gets one

Parts without bytes are left out. A template names the files: {name} is the name of
the region, memory or part, {n} its number from 0, {first} and {last} its first and
last address. Bytes outside all regions or memories are an error, unless ` + "`rest`" + `
names the part that gets them.

With ` + "`from-zero`" + `, each part's addresses count from the first address of its region,
memory, block or run.

A raw file has no addresses: a part whose first byte is missing in its region,
memory or block is an error, unless ` + "`holes`" + ` gives the byte to write there. The file
then begins at the first address of the region, memory or block.`,
	New: func() Operation { return &Split{LaneWidth: 1} },
}

// Split makes parts of one image.
type Split struct {
	By        string // regions, memories, runs, size or lanes
	Number    uint64 // of size and lanes
	Rest      string // what the part is called that lies in no region or memory; "" makes it an error
	LaneWidth uint64
	FromZero  bool

	incomplete bool // a number is still to come
}

const splitWays = "regions, memories, runs, size N, lanes N"

// mostLanes is how many lanes there may be.
const mostLanes = 64

// Keys returns the operation's keys.
func (op *Split) Keys() []*key.Key {
	by := key.New("by", "WAY", "split by WAY "+splitWays, op.setBy)
	by.NeedsNumber = func() bool { return op.incomplete }
	by.More = op.setNumber
	return []*key.Key{
		by,
		key.Text(&op.Rest, "rest", "NAME", "write bytes outside all regions (or memories) to a part called NAME"),
		laneWidthKey(&op.LaneWidth),
		key.Switch(&op.FromZero, "from-zero", "count each part's addresses from its region, memory, block or run"),
	}
}

func (op *Split) setBy(text string) error {
	way, number, _ := strings.Cut(strings.Replace(text, "=", " ", 1), " ")
	op.By = way
	switch way {
	case "regions", "memories", "runs":
		if number != "" {
			return fmt.Errorf("%q: %s takes no number", text, way)
		}
	case "size", "lanes":
		if op.incomplete = number == ""; !op.incomplete {
			return op.setNumber(number)
		}
	default:
		return fmt.Errorf("%q is not valid; choose one of %s", text, splitWays)
	}
	return nil
}

func (op *Split) setNumber(text string) error {
	n, err := span.Number(text)
	switch {
	case err != nil:
	case op.By == "lanes" && (n == 0 || n > mostLanes):
		err = fmt.Errorf("lanes %d; expected 1 to %d", n, mostLanes)
	case n == 0:
		err = fmt.Errorf("%s 0; expected 1 or more", op.By)
	}
	op.Number, op.incomplete = n, false
	return err
}

// Check tells of keys that are missing or do not go together.
func (op *Split) Check(withMap bool) error {
	named := op.By == "regions" || op.By == "memories"
	switch {
	case op.By == "":
		return source.Keyf("by", "missing; %s", splitWays)
	case op.Number == 0 && (op.By == "size" || op.By == "lanes"):
		example := map[string]string{"size": "size 16K", "lanes": "lanes 2"}[op.By]
		return source.Keyf("by", "%s needs a number, as in %q", op.By, example)
	case named && !withMap:
		return source.Keyf("by", "%s needs a device map", op.By)
	case op.Rest != "" && !named:
		return source.Keyf("rest", "has no effect where an image is split by %s", op.By)
	case op.LaneWidth != 1 && op.By != "lanes":
		return source.Keyf("lane-width", "has no effect where an image is not split by lanes")
	}
	return nil
}

// Apply splits an image.
func (op *Split) Apply(e *Environment, images []memory.Part) (*Outcome, error) {
	in := single(images)
	o, _ := e.begin(in.Image)
	if op.By == "regions" {
		for _, said := range o.decided() {
			o.Assumed = append(o.Assumed, said)
		}
		slices.Sort(o.Assumed)
	}
	if in.Image.Empty() {
		return nil, fileProblem(in.Name, "contains no bytes, so there is nothing to split")
	}
	var named []memory.NamedSpan
	switch op.By {
	case "regions":
		for _, r := range o.Map.Regions {
			named = append(named, memory.NamedSpan{Span: r.Span, Name: r.Name})
		}
	case "memories":
		for _, m := range o.Map.Memories {
			named = append(named, memory.NamedSpan{Span: m.Span, Name: m.Name})
		}
	case "runs":
		o.Parts = in.Image.SplitRuns()
	case "size":
		o.Parts = in.Image.SplitSize(op.Number)
	case "lanes":
		o.Parts = in.Image.SplitLanes(op.Number, op.LaneWidth, e.input("split"))
		if s := in.Image.Start(); s.Kind != memory.NoStart {
			o.note("the start address %s is left out; no lane has it alone", memory.FormatAddress(s.Address()))
		}
	}
	if op.By == "regions" || op.By == "memories" {
		if err := op.named(o, in, named); err != nil {
			return nil, err
		}
	}
	if op.FromZero {
		for i := range o.Parts {
			p := &o.Parts[i]
			p.Image, _ = p.Image.Move(p.Block.First, true, e.input("split"))
			if place, by := p.Place, p.Block.First; place != nil {
				p.Place = func(s memory.Span) string { return place(memory.Span{First: s.First + by, Last: s.Last + by}) }
			}
			p.Block = memory.Span{Last: p.Block.Last - p.Block.First}
		}
	}
	return o, nil
}

// named splits an image by regions or memories.
func (op *Split) named(o *Outcome, in memory.Part, spans []memory.NamedSpan) error {
	if len(spans) == 0 {
		return source.Keyf("by", "%w, or split by memories", device.ErrNoRegions)
	}
	var left *memory.Image
	o.Parts, left = in.Image.Split(spans)
	if left.Empty() {
		return nil
	}
	all, _ := left.Span()
	if op.Rest == "" {
		at := left.Runs()[0]
		from, _ := left.Origin(at.First)
		p := problem(from, "%s in none of the %s, the first at %s", memory.FormatSize(left.Bytes()), op.By, at.Span())
		p.Advice.AnyOf = []source.Setting{{Key: "rest", Value: "NAME", Does: "puts them into a part"}}
		return p
	}
	for _, p := range o.Parts {
		if p.Name == op.Rest {
			return source.Keyf("rest", "a part called %s already exists", op.Rest)
		}
	}
	o.Parts = append(o.Parts, memory.Part{Name: op.Rest, Image: left, Block: all})
	return nil
}

// NameParts names parts by a template, in which {name}, {n}, {first} and {last}
// stand for what they have; with byBlock, {first} is the first address of the part's
// block, with which files begin that have no addresses.
func NameParts(parts []memory.Part, template string, byBlock bool) ([]memory.Part, error) {
	var named []memory.Part
	owner := map[string]string{}
	for i, p := range parts {
		all, _ := p.Image.Span()
		if byBlock && p.Block != (memory.Span{}) {
			all.First = p.Block.First
		}
		name, err := expand(template, map[string]string{
			"name": p.Name, "n": fmt.Sprint(i), "first": fmt.Sprintf("0x%X", all.First), "last": fmt.Sprintf("0x%X", all.Last),
		})
		if err != nil {
			return nil, err
		}
		if other, taken := owner[name]; taken {
			return nil, fmt.Errorf("%s names the parts %s and %s alike, %s; put {name} or {n} into it", template, other, p.Name, name)
		}
		owner[name] = p.Name
		p.Name = name
		named = append(named, p)
	}
	return named, nil
}

// expand puts values for the words in braces.
func expand(template string, values map[string]string) (string, error) {
	var out strings.Builder
	for left := template; ; {
		before, after, found := strings.Cut(left, "{")
		out.WriteString(before)
		if !found {
			return out.String(), nil
		}
		word, behind, closed := strings.Cut(after, "}")
		value, known := values[word]
		if !closed || !known {
			return "", fmt.Errorf("%s: {%s} is not known; {name}, {n}, {first} and {last} are", template, word)
		}
		out.WriteString(value)
		left = behind
	}
}
