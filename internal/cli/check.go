package cli

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/pages"
	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/release/proof"
	"mexalt/source"
)

var checkCommand = &command{
	name: "check", usage: "-device MAP [flags] FILE...",
	short: "check an image against the device map",
	long: `
Checks an image against the map of its device, before you program it. Several files
are checked together as the inputs of one image, each in the region in which it
begins. With -region, the files must all be in that region. With -each they are
candidates, such as several builds: each is checked alone, and gets a row in a table.

Region sizes come from the configuration words in the image, otherwise from the
map's defaults. A finding is an error (do not program this), a warning (probably
wrong) or a note. Errors and warnings end with status 1 unless you accept them by
name: -accept RULE, or -accept RULE:NAME for one field or region. A file that cannot
be read is a finding too, and ends with status 3, or 4 if it does not exist.

Give -device several times to find the device that fits, or the closest one.

-on HOST:PORT judges the image and a running device together, before you program it: is it
the device that the image is for, is it locked, which release is on it now, which words would
change, and what would be lost. The verdict is go, or why not (mexalt help target).`,
	more: listRules,
	setup: func(f *flags) func(*session, []string) error {
		c := &checkRun{}
		f.add(key.List(&c.devices, "device", "MAP", "the device map: a file, or the name of a map; several to see which fits"),
			key.Text(&c.region, "region", "REGION", "check one input only; it must be in REGION"),
			key.List(&c.accept, "accept", "RULE", "accept findings of RULE, or RULE:NAME; repeatable"),
			key.Switch(&c.each, "each", "check each file alone, as a candidate; they are not parts of one image"), c.formatKey(),
			key.Text(&c.against, "against", "MANIFEST",
				"report how the use of each region has changed since the release of MANIFEST, NAME.manifest.json"),
			key.Number(&c.baud, 1, 1<<40, "baud", "N", "report the transfer time at N bit/s"),
			key.Text(&c.on, "on", "HOST:PORT", "judge the image for the device at the debug server HOST:PORT, before programming"))
		c.reporting = f.reports()
		f.add(c.fileKey())
		f.devices, f.board = &c.devices, &c.r.board
		f.share("input", append(c.r.fileKeys(), c.r.boardKey())...)
		return c.run
	},
}

// listRules lists the rules for help.
func listRules() string {
	var b strings.Builder
	b.WriteString("Rules:\n")
	for _, r := range check.Rules() {
		fmt.Fprintf(&b, "  %-17s %s\n", r.ID, r.Title)
	}
	return b.String()
}

// reportForm is a form in which a check is reported, and the file; "" is standard output.
type reportForm struct{ format, to string }

// formatKey adds a form of report each time that it is given.
func (c *checkRun) formatKey() *key.Key {
	k := key.New("format", "FORMAT", "report as FORMAT text, json, sarif, junit or html, a self-contained page (text); repeatable",
		func(format string) error { c.forms = append(c.forms, reportForm{format, ""}); return nil })
	k.Words, k.Many = []string{"text", "json", "sarif", "junit", "html"}, true
	return k
}

// fileKey names the file of the form before it, or of all, where there is no form.
func (c *checkRun) fileKey() *key.Key {
	k := key.New(
		"o",
		"FILE",
		"write the report to FILE; with several -format, each -o is the file of the -format before it",
		func(file string) error {
			switch n := len(c.forms); {
			case n > 0 && c.forms[n-1].to == "":
				c.forms[n-1].to = file
			case n > 0:
				return fmt.Errorf("%s already goes to %s; name another -format before -o", c.forms[n-1].format, c.forms[n-1].to)
			default:
				c.first = file
			}
			return nil
		},
	)
	k.Many = true
	return k
}

// use makes a form the one in which the report is written, and a failure told.
func (c *checkRun) use(form reportForm) {
	r := c.reporting
	r.to, r.failed, r.json = form.to, nil, form.format == "json"
	switch form.format {
	case "sarif":
		r.failed = func(to io.Writer, f report.Failure) error { return f.SARIF(to, version()) }
	case "junit":
		r.failed = func(to io.Writer, f report.Failure) error { return f.JUnit(to) }
	case "html":
		r.failed = func(to io.Writer, f report.Failure) error { return pages.WriteFailure(f, to) }
	}
}

// complete completes the forms, of which one at most goes to standard output.
func (c *checkRun) complete() error {
	if len(c.forms) == 0 {
		c.forms = []reportForm{{"text", ""}}
	}
	if c.forms[0].to == "" { // -o came before -format
		c.forms[0].to = c.first
	}
	if c.reporting.json {
		c.forms[0].format = "json"
	}
	free := 0
	for _, form := range c.forms {
		if form.to == "" || form.to == "-" {
			free++
		}
	}
	c.use(c.forms[0])
	c.reporting.others = func(each func() error) error {
		for _, form := range c.forms[1:] {
			c.use(form)
			if err := each(); err != nil {
				return err
			}
		}
		return nil
	}
	if free > 1 {
		return usagef("%d reports would go to standard output; give each -format but one a file with -o", free)
	}
	return nil
}

// checkRun holds the flags of check.
type checkRun struct {
	r         reading
	devices   []string
	region    string
	forms     []reportForm
	against   string
	each      bool
	accept    []string
	baud      uint64
	reporting *reporting
	on        string   // the debug server of a device
	taken     []string // of what is accepted, what concerns the device
	first     string   // the file of the first form, where it was named before
}

func (c *checkRun) run(s *session, args []string) error {
	if err := c.complete(); err != nil {
		return err
	}
	switch {
	case len(c.devices) == 0 && c.r.board == "":
		return s.nameDevice(args)
	case len(c.devices) > 1 && c.r.board != "":
		return usagef("-board names one device, and %d are named", len(c.devices))
	case len(c.devices) == 0:
		c.devices = []string{""} // the board's
	}
	var reports []string
	for _, form := range c.forms {
		reports = append(reports, form.to)
	}
	if err := s.writable(reports...); err != nil {
		return err
	}
	if err := c.onPartContradictions(); err != nil {
		return err
	}
	if err := check.CheckAccept(c.accept); err != nil {
		return err
	}
	args, err := s.operands(args)
	if err != nil {
		return err
	}
	var maps []*device.Map
	if c.devices, err = s.mapsLike(c.devices, args); err != nil {
		return err
	}
	for _, d := range c.devices {
		m, err := s.loadDevice(&reading{device: d, board: c.r.board}, args)
		if err != nil {
			return err
		}
		maps = append(maps, m)
	}
	// The page tells the files' digests.
	s.files.Digest = slices.ContainsFunc(c.forms, func(f reportForm) bool { return f.format == "html" })
	c.r.placed = true
	var inputs []*input
	worst := statusDone
	known := s.names(maps[0])
	for _, a := range args {
		in := s.open(&c.r, a, known)
		if err := in.failed(); err != nil {
			var key *source.KeyError
			if errors.As(err, &key) {
				return err // named wrongly, so that nothing is known of a file
			}
			worst = max(worst, statusOf(err))
		}
		inputs = append(inputs, in)
	}
	if c.each {
		return c.candidates(s, maps, inputs, worst)
	}
	results, err := c.check(maps, inputs)
	if err != nil {
		return err
	}
	best := check.Best(results)
	if c.on != "" && worst == statusDone {
		return c.onPart(s, best, inputs)
	}
	if err := c.report(s, best, results, inputs); err != nil {
		return err
	}
	if len(best.Unused) > 0 {
		return usagef("-accept: nothing was found for %s; leave it out", strings.Join(best.Unused, ", "))
	}
	if worst > statusDone {
		return &failure{worst, errShown}
	}
	if len(best.Counting()) == 0 {
		s.alikeBut(best.Map, maps, args)
		return nil
	}
	if c.region == "" {
		c.suggest(s, args, best)
	}
	if slices.ContainsFunc(best.Findings, func(f check.Finding) bool { return f.Rule == "clash" }) {
		s.note("if the files are candidates and not parts of one image: -each")
	}
	return errFindings
}

// candidates checks each input alone, and tells in a table which fit.
func (c *checkRun) candidates(s *session, maps []*device.Map, inputs []*input, worst int) error {
	if c.against != "" || c.baud > 0 {
		return usagef("-each takes neither -against nor -baud")
	}
	for _, form := range c.forms {
		if form.format != "text" && form.format != "json" {
			return usagef("-each reports as text or json, and not as %s", form.format)
		}
	}
	x := &report.Candidates{}
	unused := slices.Clone(c.accept)
	for _, in := range inputs {
		results, err := c.check(maps, []*input{in})
		if err != nil {
			return err
		}
		best := check.Best(results)
		x.All = append(x.All, report.Candidate{File: in.operand, Device: c.devices[slices.Index(results, best)], Result: best})
		if len(best.Counting()) > 0 {
			worst = max(worst, statusFindings)
		}
		unused = slices.DeleteFunc(unused, func(a string) bool { return !slices.Contains(best.Unused, a) })
	}
	for _, form := range c.forms {
		c.use(form)
		if err := s.show(x); err != nil {
			return err
		}
	}
	if len(unused) > 0 {
		return usagef("-accept: nothing was found for %s; leave it out", strings.Join(unused, ", "))
	}
	if worst > statusDone {
		return &failure{worst, errShown}
	}
	return nil
}

// check checks the inputs against each map.
func (c *checkRun) check(maps []*device.Map, inputs []*input) ([]*check.Result, error) {
	var results []*check.Result
	for _, m := range maps {
		o := check.Options{Accept: c.accept}
		if c.region != "" {
			var err error
			if o.Region, err = m.Find(c.region); err != nil {
				return nil, &source.KeyError{Key: "region", Err: err}
			}
		}
		results = append(results, check.Run(m, checkParts(inputs), o))
	}
	return results, nil
}

// suggest tells of a known map that was not asked for and that the image fits, or comes
// nearer to.
func (c *checkRun) suggest(s *session, args []string, best *check.Result) {
	if b := best.Map; b.IdentityAt != nil &&
		slices.ContainsFunc(best.Findings, func(f check.Finding) bool { return f.Rule == "wrong-identity" }) {
		answer := make([]byte, len(b.Identities[0].Bytes))
		best.Whole.ReadAt(answer, *b.IdentityAt)
		s.identified(answer, args)
	}
	but := c.devices
	if !slices.ContainsFunc(c.devices, func(d string) bool { return slices.Contains(device.Shipped(), d) }) {
		but = append(slices.Clone(but), s.notOwn(args)...) // a device that is invented is none of a user's own
	}
	fit, nearer := check.Others(best, c.accept, device.Each(s.mapFolders(args), but))
	for _, o := range fit {
		s.note(fmt.Sprintf("the image fits %s (-device %s)", o.Map.Name, o.Name))
	}
	if nearer == nil {
		return
	}
	f := nearer.Counting()[0]
	more, where := "", ""
	if n := len(nearer.Counting()) - 1; n > 0 {
		more = fmt.Sprintf(", and %d more", n)
	}
	if f.Where != nil {
		where = f.Where.Range() + ": "
	}
	s.note(fmt.Sprintf("the image comes nearer to %s (-device %s), but for %s%s; %s%s", nearer.Map.Name, nearer.Name, where, f.What,
		f.Expected, more))
}

// alikeBut names the user's own maps, but those that were named, which differ from one in
// identity only: the image fits them as well.
func (s *session) alikeBut(m *device.Map, but []*device.Map, args []string) {
	for _, name := range device.Own(s.mapFolders(args)) {
		other, err := device.Open(&source.Files{}, name, s.mapFolders(args))
		if err == nil && m.ByIdentityOnly(other) && !slices.ContainsFunc(but, func(o *device.Map) bool { return o.File == other.File }) {
			s.note(fmt.Sprintf("%s (%s) differs from %s (%s) in identity only: the image fits both (-device %s)",
				other.Name, device.IdentitiesText(other), m.Name, device.IdentitiesText(m), name))
		}
	}
}

// identified tells of the maps whose device identifies itself so.
func (s *session) identified(answer []byte, args []string) {
	for _, name := range device.Identified(answer, device.Each(s.mapFolders(args), nil)) {
		s.note(fmt.Sprintf("% X is the identity of %s (-device %s)", answer, name, name))
	}
}

// notOwn are the maps that come with mexalt, and that no folder has of the same name.
func (s *session) notOwn(operands []string) (list []string) {
	own := device.Own(s.mapFolders(operands))
	for _, name := range device.Shipped() {
		if !slices.Contains(own, name) {
			list = append(list, name)
		}
	}
	return list
}

// nameDevice says that no device is named, and which maps there are: in the folders of the
// run before those of invented devices.
func (s *session) nameDevice(operands []string) error {
	text := "name the device: -device MAP; "
	if own := device.Own(s.mapFolders(operands)); len(own) > 0 {
		text += "maps found: " + strings.Join(own, ", ")
	} else {
		text += "make a map of yours with mexalt device -new, or device -derive"
	}
	return usagef("%s (maps of invented devices, for examples: %s)", text, strings.Join(device.Shipped(), ", "))
}

// mapsLike puts the names of the known maps in the place of patterns: 'family-*'.
func (s *session) mapsLike(names, operands []string) (list []string, err error) {
	for _, name := range names {
		if !source.IsPattern(name) {
			list = append(list, name)
			continue
		}
		before := len(list)
		for _, known := range device.Known(s.mapFolders(operands)) {
			if source.Match(name, known) && !slices.Contains(list, known) {
				list = append(list, known)
			}
		}
		if len(list) == before {
			return nil, source.Keyf("device", "no device map matches %s; %s", name,
				source.DidYouMean(name, device.Known(s.mapFolders(operands))))
		}
	}
	return list, nil
}

// report prints the report of the best of the maps, to a file or to standard
// output.
func (c *checkRun) report(s *session, best *check.Result, all []*check.Result, inputs []*input) error {
	model := &report.Checked{Best: best, All: all, Baud: c.baud}
	if c.against != "" {
		var err error
		if model.Before, err = s.before(c.against, inputs, best.Map); err != nil {
			return err
		}
	}
	if f := inputs[0]; f.File != nil && f.Format != nil && !f.Format.Unplaced {
		model.Record = f.Format
	}
	model.Wording = func(part string) source.Wording {
		w := s.wording
		w.device = c.devices[slices.Index(all, best)]
		for _, in := range inputs {
			if len(inputs) == 1 || in.File != nil && in.Name == part {
				w.file = in.operand
			}
		}
		if w.file == "" {
			w.file, w.merged = "merged.hex", true
		}
		return w
	}
	s.reporting.written, s.reporting.verdict = true, ": "+report.Verdict(best)
	for _, form := range c.forms {
		c.use(form)
		if err := s.showAs(func(to io.Writer, p *render.Printer) error {
			switch form.format {
			case "json":
				return report.JSON(to, model.Model())
			case "sarif":
				return model.SARIF(to, version())
			case "junit":
				return model.JUnit(to)
			case "html":
				return c.page(model, inputs).Write(to)
			}
			model.Text(p)
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// page is the page of a check.
func (c *checkRun) page(model *report.Checked, inputs []*input) *pages.Check {
	p := &pages.Check{Checked: model}
	var names []string
	for _, in := range inputs {
		part := pages.Part{Name: in.operand, File: in.operand, Image: in.image()}
		if in.File != nil {
			part.Name, part.File, part.Format, part.Program = in.Name, in.Name, in.Format, in.Program
		}
		names = append(names, part.Name)
		p.Parts = append(p.Parts, part)
		if in.recorded != nil {
			file := pages.File{Role: "input", Name: part.File}
			if part.Format != nil {
				file.What = part.Format.Name
			}
			if sum := in.recorded.SHA256(); sum != nil {
				file.SHA256 = fmt.Sprintf("%x", sum)
			}
			p.Files = append(p.Files, file)
		}
	}
	p.Product, p.Sub = report.Together(names), "checked with "+model.Best.Map.Name
	for _, a := range c.accept {
		p.Accepted = append(p.Accepted, pages.Acceptance{Text: a, Where: "-accept " + a})
	}
	return p
}

// before loads the manifest of an earlier release.
func (s *session) before(name string, inputs []*input, m *device.Map) (*report.Before, error) {
	release, err := proof.Load(s.files, name)
	if err != nil {
		return nil, err
	}
	if len(release.Products) == 0 {
		return nil, &source.Problem{File: name, What: "the manifest has no product"}
	}
	b := &report.Before{Name: filepath.Base(name), Title: release.Name, Product: release.ProductFor(inputs[0].operand)}
	if of := b.Product.Device; of != "" && of != m.Name {
		if !slices.ContainsFunc(b.Product.Regions, func(r proof.Region) bool { return m.Region(r.Name) != nil }) {
			return nil, source.Keyf("against", "%s is a release for %s, and has no region of %s", name, of, m.Name)
		}
		s.note(fmt.Sprintf("%s is a release for %s", name, of))
	}
	return b, nil
}
