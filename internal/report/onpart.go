package report

import (
	"fmt"
	"strings"

	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/release/proof"
	"mexalt/target"
)

// OnPart is whether an image may be programmed into a running device.
type OnPart struct {
	Address string
	Image   string
	Map     *device.Map
	*target.Programming
	// Now is which release the device has now; nil is that none is known here.
	Now *proof.Matched
	// ButWords is whether that is so without its configuration words.
	ButWords bool
	// Reasons are what speaks against it; Accepted what was found and accepted; NotLookedAt
	// what a yes leaves open.
	Reasons, Accepted, NotLookedAt []string
}

// NowText says what is on the device now.
func (o *OnPart) NowText() string {
	switch {
	case o.Same:
		return "every byte of " + o.Image + " already"
	case o.Now == nil || len(o.Now.Candidates) == 0:
		return "no release that is known here"
	case o.Now.Torn != nil:
		t := o.Now.Torn
		return fmt.Sprintf("torn: %s below %s, %s from there on", t.Below.Name(), memory.FormatAddress(t.At), t.From.Name())
	}
	c := &o.Now.Candidates[0]
	if c.Whole() {
		text := fmt.Sprintf("%s (%s), every byte as released", c.Name(), c.Manifest)
		if o.ButWords {
			text += ", but for the configuration words, which are not of it"
		}
		return text
	}
	return fmt.Sprintf("nearest to %s (%s), but not the same", c.Name(), c.Manifest)
}

// Text prints it.
func (o *OnPart) Text(p *render.Printer) {
	row := func(name, format string, args ...any) { p.Hanging(fmt.Sprintf("  %-9s ", name), format, args...) }
	p.Line("%s, before %s is programmed", p.Title(o.Address), o.Image)
	if o.Architecture != "" {
		row("core", "%s, as the server describes it", o.Architecture)
	}
	row("identity", "%s", o.Identity.Text(o.Map))
	if o.Reading != nil {
		row("now", "%s", o.NowText())
		for _, l := range o.Changes {
			row("changes", "%s of %s in %s", memory.FormatBytes(l.Bytes), l.Where, l.Span)
		}
		for _, w := range o.Words {
			var fields []string
			for _, f := range w.Fields {
				fields = append(fields, fmt.Sprintf("%s: %s, then %s", f.Name, f.Now, f.Then))
			}
			row("word", "%s %s, then %s (%s)", w.Word.Name, w.Word.Format(w.Now), w.Word.Format(w.Then), strings.Join(fields, "; "))
		}
		for _, l := range o.Lost {
			row("lost", "%s of %s in %s: their sectors are erased", memory.FormatBytes(l.Bytes), l.Where, l.Span)
		}
		for _, l := range o.Kept {
			row("kept", "%s of %s in %s, unless all of the chip is erased", memory.FormatBytes(l.Bytes), l.Where, l.Span)
		}
		for _, d := range o.Reading.Doubts {
			row("doubt", "%s", d)
		}
		row("left", "%s", o.Left)
	}
	for _, a := range o.Accepted {
		row("accepted", "%s", a)
	}
	if len(o.Reasons) == 0 {
		p.Line("%s", p.Good("go"))
	}
	for _, r := range o.Reasons {
		p.Hanging(p.Bad("no go: "), "%s", r)
	}
	for _, n := range o.NotLookedAt {
		p.Hanging("not looked at: ", "%s", n)
	}
}

// OnPartModel is whether an image may be programmed into a running device, for programs.
type OnPartModel struct {
	Schema       string          `json:"schema"`
	Target       string          `json:"target"` // HOST:PORT
	Image        string          `json:"image"`
	Device       string          `json:"device"`
	Go           bool            `json:"go"`
	Reasons      []string        `json:"reasons"`                // that speak against it
	Accepted     []string        `json:"accepted"`               // that were found, and accepted
	NotLookedAt  []string        `json:"notLookedAt"`            // what a yes leaves open
	Architecture string          `json:"architecture,omitempty"` // of the core, as the server describes it
	Identity     string          `json:"identity,omitempty"`
	Known        bool            `json:"identified"` // whether the device said that it is what the map says
	Now          string          `json:"now,omitempty"`
	Same         bool            `json:"same"` // whether the device has every byte already
	Words        []PartWordModel `json:"words"`
	Changes      []LossModel     `json:"changes"` // bytes that are not as the image has them
	Lost         []LossModel     `json:"lost"`    // in sectors that are erased for the image
	Kept         []LossModel     `json:"kept"`    // lost only if all of the chip is erased
	Doubts       []string        `json:"doubts"`
	Left         string          `json:"left"` // how the device was left
}

// PartWordModel is a configuration word that would change.
type PartWordModel struct {
	Name   string           `json:"name"`
	Now    string           `json:"now"`
	Then   string           `json:"then"`
	Fields []PartFieldModel `json:"fields"`
}

// PartFieldModel is a field of it.
type PartFieldModel struct {
	Name string `json:"name"`
	Now  string `json:"now"`
	Then string `json:"then"`
}

// LossModel is bytes that are not erased.
type LossModel struct {
	Where string `json:"where"` // a region, or a memory
	Span  Span   `json:"span"`
	Bytes uint64 `json:"bytes"`
}

// Model makes the model for programs.
func (o *OnPart) Model() any {
	out := OnPartModel{
		Schema: SchemaName("on"), Target: o.Address, Architecture: o.Architecture, Image: o.Image, Device: o.Map.Name,
		Go:      len(o.Reasons) == 0,
		Reasons: append([]string{}, o.Reasons...), Accepted: append([]string{}, o.Accepted...),
		NotLookedAt: append([]string{}, o.NotLookedAt...),
		Known:       o.Identity.Is, Same: o.Same, Words: []PartWordModel{},
		Changes: lossModels(o.Changes), Lost: lossModels(o.Lost), Kept: lossModels(o.Kept),
		Doubts: []string{}, Left: o.Left,
	}
	if o.Identity.Answer != nil {
		out.Identity = fmt.Sprintf("% X", o.Identity.Answer)
	}
	if o.Reading != nil {
		out.Now = o.NowText()
		out.Doubts = append(out.Doubts, o.Reading.Doubts...)
	}
	for _, w := range o.Words {
		one := PartWordModel{w.Word.Name, w.Word.Format(w.Now), w.Word.Format(w.Then), []PartFieldModel{}}
		for _, f := range w.Fields {
			one.Fields = append(one.Fields, PartFieldModel(f))
		}
		out.Words = append(out.Words, one)
	}
	return out
}

func lossModels(list []target.Loss) []LossModel {
	out := []LossModel{}
	for _, l := range list {
		out = append(out, LossModel{l.Where, spanOf(l.Span), l.Bytes})
	}
	return out
}
