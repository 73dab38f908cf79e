package checksum

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"mexalt/memory"
	"mexalt/source"
)

// Search is what is known of a check value whose algorithm is to be found.
type Search struct {
	Images []*memory.Image
	// Values are what the other side computes, one for each image; nil where
	// they stand in the images, at Place.
	Values []Value
	// Place returns where an image holds a value of so many bytes.
	Place     func(m *memory.Image, size int) (memory.Span, error)
	PlaceText string // as it was given
	Size      int    // of stored values, in bytes; 0 tries all sizes
	// Spans are those over which the values may have been computed.
	Spans []NamedSpans
	// Given is whether the spans were asked for, so that runs are not tried too.
	Given  bool
	Erased func(address uint64) byte
	Cores  int
	// Progress is told how many ways are tried; nil is nobody.
	Progress *source.Progress
}

// Answer is what a search for values of one size gave.
type Answer struct {
	Values    []Value
	Hits      []Hit
	Recovered []Recovered // CRCs that are in no catalogue
	Tried     int
	Notes     []string
	Settings  [][]source.Setting // of each hit, those that prove it
	recovered [][]source.Setting
}

// RecoveredSettings returns the settings that prove a recovered CRC.
func (a *Answer) RecoveredSettings(i int) []source.Setting { return a.recovered[i] }

// Expected is how many hits chance gives among all ways that were tried.
func (a *Answer) Expected() float64 {
	if len(a.Hits) == 0 {
		return 0
	}
	return a.Hits[0].Kind.chance(a.Tried, len(a.Values))
}

// usualSizes are the sizes of stored values that are tried: those first that
// agree least with something by chance, and are used most.
var usualSizes = []int{4, 8, 2, 3, 5, 16, 20, 28, 32, 48, 64, 1}

// certain is the chance below which what narrower values agree with is no news.
const certain = 0.01

// Run searches.
func (s *Search) Run(ctx context.Context) ([]Answer, error) {
	sizes := []int{s.Size}
	switch {
	case s.Values != nil:
		if err := known(len(s.Values[0]), "value"); err != nil {
			return nil, err
		}
	case s.Size == 0:
		sizes = usualSizes
	default:
		if err := known(s.Size, "size"); err != nil {
			return nil, err
		}
	}
	if !s.Given {
		s.addRuns()
	}
	var answers []Answer
	for _, size := range sizes {
		q, ok, err := s.query(size, len(sizes) > 1)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		a := Answer{}
		for _, p := range q.Pairs {
			a.Values = append(a.Values, p.Value)
		}
		a.Hits, a.Tried = Identify(ctx, q)
		// Where an image has the value itself, it may cover that place or not; and a short
		// value is found somewhere by chance: both are tried.
		elsewhere, notes := s.storedElsewhere(q)
		a.Notes = notes
		if elsewhere != nil {
			a.also(Identify(ctx, *elsewhere))
			q = *elsewhere
		}
		if size := len(a.Values[0]); size > 1 && (len(a.Hits) == 0 || a.Hits[0].Chance >= certain) { // a byte has too many
			a.alsoCut(q.Cut(ctx))
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for i := range a.Hits {
			a.Settings = append(a.Settings, s.proof(&a.Hits[i].Settings, a.Hits[i].Order, a.Values[0]))
		}
		if len(a.Hits) == 0 {
			s.recover(&a, q)
		}
		answers = append(answers, a)
		if len(a.Hits) > 0 && a.Hits[0].Chance < certain {
			break
		}
	}
	return answers, nil
}

// known reports a length of values that no algorithm has.
func known(size int, key string) error {
	var sizes []int
	for _, k := range Kinds() {
		sizes = append(sizes, k.Size())
	}
	slices.Sort(sizes)
	if sizes = slices.Compact(sizes); slices.Contains(sizes, size) {
		return nil
	}
	var list []string
	for _, n := range sizes {
		list = append(list, fmt.Sprint(n))
	}
	return source.Keyf(key,
		"no algorithm has values of %s, but of %s; the rest of a longer place is something else: a length, zeros, or another value",
		memory.FormatNumber(size, "byte"), strings.Join(list, ", "))
}

// also adds the hits of another search for the same values.
func (a *Answer) also(hits []Hit, tried int) {
	for _, h := range hits {
		if !slices.ContainsFunc(a.Hits, func(g Hit) bool {
			return g.Kind == h.Kind && g.Order == h.Order && slices.Equal(g.Settings, h.Settings)
		}) {
			a.Hits = append(a.Hits, h)
		}
	}
	a.Tried += tried
	for i := range a.Hits {
		h := &a.Hits[i]
		h.Chance, h.tried = h.Kind.chance(a.Tried, len(a.Values)), a.Tried
	}
	slices.SortStableFunc(a.Hits, func(a, b Hit) int { return cmp.Compare(a.oddity, b.oddity) })
}

// alsoCut adds the hits of parts of the spans. They are found among more ways, so that chance
// gives more of them than of the usual ones.
func (a *Answer) alsoCut(hits []Hit, tried int) {
	a.Tried += tried
	for _, h := range hits {
		h.Chance, h.tried = h.Kind.chance(a.Tried, len(a.Values)), a.Tried
		a.Hits = append(a.Hits, h)
	}
	slices.SortStableFunc(a.Hits, func(a, b Hit) int { return cmp.Compare(a.oddity, b.oddity) })
}

// query makes the query for one size; ok is false where an image does not hold
// that many bytes at the place, and others are tried too.
func (s *Search) query(size int, others bool) (q Query, ok bool, err error) {
	q = Query{
		Progress: s.Progress,
		Erased:   s.Erased(0),
		Cores:    s.Cores,
		Pages:    []uint64{128, 256, 512, 1 << 10, 2 << 10, 4 << 10},
		Spans:    s.Spans,
	}
	for i, m := range s.Images {
		p := Pair{Image: m}
		if s.Values != nil {
			p.Value = s.Values[i]
			q.Pairs = append(q.Pairs, p)
			continue
		}
		place, err := s.Place(m, size)
		if err != nil {
			return q, false, err
		}
		p.Place, p.Value = &place, make(Value, size)
		if !m.ReadAt(p.Value, place.First) {
			if others {
				return q, false, nil
			}
			return q, false, fmt.Errorf("image %d does not contain the bytes %s", i+1, place.Range())
		}
		q.Erased = s.Erased(place.First)
		q.Pairs = append(q.Pairs, p)
	}
	return q, true, nil
}

// addRuns adds the runs of a single image, where they are few, to the spans.
func (s *Search) addRuns() {
	const few = 6
	if len(s.Images) != 1 {
		return
	}
	runs := s.Images[0].Runs()
	if len(runs) < 2 || len(runs) > few {
		return
	}
	for _, r := range runs {
		s.Spans = append(s.Spans, NamedSpans{r.Span().Range(), []memory.Span{r.Span()}})
	}
}

// storedElsewhere returns the query with the places where the images hold their values
// themselves, which then may be inside what they were computed over; nil where not all do.
func (s *Search) storedElsewhere(q Query) (elsewhere *Query, notes []string) {
	if s.Values == nil || len(q.Pairs[0].Value) < 2 {
		return nil, nil // a single byte is found everywhere
	}
	q.Pairs = slices.Clone(q.Pairs)
	for i := range q.Pairs {
		p := &q.Pairs[i]
		reversed := slices.Clone(p.Value)
		slices.Reverse(reversed)
		var places []memory.Span
		for _, r := range p.Image.Runs() {
			for _, needle := range [][]byte{p.Value, reversed} {
				if at := bytes.Index(r.Data, needle); at >= 0 {
					first := r.First + uint64(at)
					places = append(places, memory.Span{First: first, Last: first + uint64(len(needle)) - 1})
				}
			}
		}
		if len(places) > 0 {
			p.Place = &places[0]
			notes = append(notes, fmt.Sprintf("the image contains the value %s itself at %s", p.Value, places[0].Range()))
		}
	}
	for _, p := range q.Pairs {
		if p.Place == nil {
			return nil, notes // some do and some do not: that is chance
		}
	}
	return &q, notes
}

// proof returns the settings that prove a hit.
func (s *Search) proof(found *[]source.Setting, order memory.Order, value Value) []source.Setting {
	settings := slices.Clone(*found)
	if s.Values != nil {
		stored, _ := value.Stored(order, 0) // of its own width, which fits
		return append(settings, source.Setting{Key: "expect", Value: Value(stored).String()})
	}
	settings = append(settings, source.Setting{Key: "expect-at", Value: s.PlaceText},
		source.Setting{Key: "size", Value: fmt.Sprint(len(value))})
	if len(value) > 1 && len(value) <= mostNumber {
		settings = append(settings, source.Setting{Key: "order", Value: order.String()})
	}
	return settings
}

// recover searches for a CRC that is in no catalogue, over each of the spans.
func (s *Search) recover(a *Answer, q Query) {
	const fewest = 3 // images that show an unknown polynomial
	if len(q.Pairs) < fewest {
		if len(a.Values[0]) <= 4 {
			a.Notes = append(a.Notes,
				fmt.Sprintf("with %d images of one length and their values, a polynomial in no catalogue is searched for too", fewest))
		}
		return
	}
	for _, candidate := range q.Spans {
		var messages [][]byte
		for i, p := range q.Pairs {
			f := Feed{Spans: []memory.Span{candidate.Spans[i]}, Hole: &q.Erased}
			if p.Place != nil {
				if _, inside := candidate.Spans[i].Meet(*p.Place); inside {
					// Most likely the value covers what stands before it.
					if p.Place.First <= candidate.Spans[i].First {
						break
					}
					f.Spans[0].Last = p.Place.First - 1
				}
			}
			if f.Spans[0].Size()-p.Image.Count(f.Spans[0]) > 1<<20 {
				break
			}
			pieces, err := f.Bytes(p.Image)
			if err != nil {
				break
			}
			messages = append(messages, slices.Concat(pieces...))
		}
		if len(messages) < len(q.Pairs) {
			continue
		}
		found, err := Recover(messages, a.Values)
		if err != nil {
			a.Notes = append(a.Notes, fmt.Sprintf("no polynomial is searched for over %s: %s", candidate.Text, err))
			continue
		}
		text := candidate.Text
		if p := q.Pairs[0].Place; p != nil {
			if _, inside := candidate.Spans[0].Meet(*p); inside {
				text = memory.Span{First: candidate.Spans[0].First, Last: p.First - 1}.Range()
			}
		}
		for _, r := range found {
			settings := []source.Setting{{Key: "kind", Value: r.CRC.String()}, {Key: "in", Value: text}}
			a.Recovered = append(a.Recovered, r)
			a.recovered = append(a.recovered, s.proof(&settings, r.Order, a.Values[0]))
		}
		if len(found) > 0 {
			return
		}
	}
}
