package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/release/proof"
	"mexalt/target"
)

// onPartContradictions tells of flags that do not go with a running device.
func (c *checkRun) onPartContradictions() error {
	switch {
	case c.on == "":
		return nil
	case c.each || c.region != "" || c.against != "" || c.baud > 0:
		return usagef("-on judges one image for one device; it takes none of -each, -region, -against and -baud")
	case len(c.devices) > 1:
		return usagef("-on is for one device; name one device")
	}
	for _, form := range c.forms {
		if form.format != "text" && form.format != "json" {
			return usagef("-on reports as text or json, and not as %s", form.format)
		}
	}
	c.accept = slices.DeleteFunc(c.accept, func(a string) bool {
		rule, _, _ := strings.Cut(a, ":")
		if rule != target.ErasedData && a != target.Unidentified {
			return false
		}
		c.taken = append(c.taken, a)
		return true
	})
	return nil
}

// onPart tells whether the image that was checked may be programmed into the device.
func (c *checkRun) onPart(s *session, best *check.Result, inputs []*input) error {
	var names []string
	for _, in := range inputs {
		names = append(names, in.Name)
	}
	o := &report.OnPart{Address: c.on, Image: report.Together(names), Map: best.Map}
	const mostFindings = 5
	for i, f := range best.Counting() {
		if i == mostFindings {
			o.Reasons = append(o.Reasons,
				fmt.Sprintf("the image: and %d more; check it without a device to see all", len(best.Counting())-i))
			break
		}
		text := f.What
		if f.Where != nil {
			text = f.Where.Range() + ": " + text
		}
		o.Reasons = append(o.Reasons, "the image: "+text)
	}
	t, err := target.Open(s.ctx, c.on, target.Waits{})
	if err != nil {
		return err
	}
	o.Programming, err = t.Before(best.Whole, best.Map, s.files.Progress)
	left := t.Close()
	if err != nil {
		s.note(left)
		return err
	}
	o.Left = left
	if o.Reading != nil {
		if manifests, err := proof.ManifestsIn([]string{filepath.Dir(inputs[0].Name)}); err == nil && len(manifests) > 0 {
			o.Now = proof.Match(o.Reading.Image, "", false, manifests)
			if !o.Now.Exact() { // words may have been set by hand
				if but := proof.Match(o.Reading.Image.Drop(configurationOf(best.Map)...), "", false, manifests); but.Exact() {
					o.Now, o.ButWords = but, true
				}
			}
		}
	}
	unused := c.weigh(o)
	c.use(c.forms[0])
	if err := s.show(o); err != nil {
		return err
	}
	if len(unused) > 0 {
		return usagef("-accept: nothing was found for %s; leave it out", strings.Join(unused, ", "))
	}
	if len(o.Reasons) > 0 {
		if id := o.Identity; id.Answer != nil && !id.Is {
			s.identified(id.Answer, nil)
		}
		return errFindings
	}
	return nil
}

// configurationOf are the memories of configuration words.
func configurationOf(m *device.Map) (list []memory.Span) {
	for i := range m.Memories {
		if m.Memories[i].Kind == device.Config {
			list = append(list, m.Memories[i].Span)
		}
	}
	return list
}

// weigh makes reasons of what speaks against programming, but for what is accepted. It returns
// what of that was not found.
func (c *checkRun) weigh(o *report.OnPart) (unused []string) {
	unused = slices.Clone(c.taken)
	for _, r := range o.Programming.Reasons(o.Map) {
		rule, _, _ := strings.Cut(r.Accept, ":")
		i := slices.IndexFunc(c.taken, func(a string) bool { return r.Accept != "" && (a == r.Accept || a == rule) })
		switch {
		case i >= 0:
			o.Accepted = append(o.Accepted, r.What)
			unused = slices.DeleteFunc(unused, func(a string) bool { return a == c.taken[i] })
		case r.Accept != "":
			o.Reasons = append(o.Reasons, fmt.Sprintf("%s (-accept %s, if it is meant)", r.What, r.Accept))
		default:
			o.Reasons = append(o.Reasons, r.What)
		}
	}
	for _, s := range o.Programming.NotLookedAt() {
		o.NotLookedAt = append(o.NotLookedAt, s.String()+", which the server does not let be read")
	}
	return unused
}
