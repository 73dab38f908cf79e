package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"mexalt/internal/pages"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
)

var releaseCommand = &command{
	name: "release", usage: "[flags] NAME.release.toml | -new [INPUT...] -device MAP",
	short: "run a release file: from inputs to checked outputs",
	long: `
A release file describes what you ship: the inputs, the steps, the device, the
outputs and their variants. Mexalt reads all inputs, builds each product's image,
checks it with its device's map, and writes all outputs, or none. An output that is
identical to the existing file keeps its timestamp. mexalt help releases describes
the file.

-new writes a release file to start from: give it the inputs and -device MAP. It
runs as it stands.`,
	setup: func(f *flags) func(*session, []string) error {
		r := &releaseRun{}
		f.add(
			key.List(&r.variants, "variant", "NAME", "build the variant NAME only; repeatable (all)"),
			key.List(&r.sets, "set", "NAME=VALUE", "override variable NAME of [set]; repeatable"),
			secretKey(&r.secrets),
			key.Text(&r.units, "units", "TABLE",
				"make one set of outputs for each row of the CSV file TABLE; columns are variables of [set]"),
			key.New("rows", "A..B", "units: only rows A to B of the table, with a log and a manifest of their own", r.setRows),
			key.Switch(&r.options.Again, "again", "units: rebuild units whose inputs or outputs have changed since"),
			key.Text(&r.options.Folder, "o", "FOLDER",
				"put the outputs into FOLDER (that of the release file); with -new, the release file to write"),
			key.Switch(&r.options.Dry, "dry-run", "do everything except write"),
			key.Text(&r.options.Depfile, "depfile", "FILE", "write which files the outputs depend on to FILE, as a rule for make"),
			key.Text(&r.options.Stamp, "stamp", "FILE",
				"write FILE after all outputs, as the target of make (outputs that are the same keep their time)"),
			key.List(&r.sign, "sign", "FILE", "sign the manifest with the private key in FILE, PKCS #8 in PEM; repeatable"),
			key.Text(&r.passphrase, "passphrase", "FILE", "the passphrase of encrypted keys is in FILE, which nobody else can read"),
			key.Text(&r.options.ToSign, "to-sign", "FILE", "write to FILE what a token, or another program, is to sign"),
			key.Switch(&r.options.Provenance, "provenance", "also write an in-toto statement with SLSA provenance, NAME.provenance.json"),
			key.Switch(&r.options.Bill, "bom", "also write a bill of materials in CycloneDX, NAME.bom.json"),
			key.Switch(&r.fresh, "new", "write a release file to start from, made for the inputs given, to the file that -o names"),
			key.Text(&r.device, "device", "MAP", "-new: the device map that the release is for"),
			key.Switch(&r.watch, "watch", "run again whenever a file that was read has changed"),
			key.Switch(&r.options.Huge, "huge", "allow a result much larger than its inputs"),
		)
		f.reports()
		return r.run
	},
}

// signers reads the keys that sign.
func (r *releaseRun) signers() (list []*proof.Signer, err error) {
	passphrase := ""
	if r.passphrase != "" && len(r.sign) == 0 {
		return nil, source.Keyf("passphrase", "has no effect without -sign")
	}
	if r.passphrase != "" {
		if passphrase, err = release.ReadSecret(r.passphrase); err != nil {
			return nil, err
		}
	}
	for _, name := range r.sign {
		one, err := proof.LoadSigner(&source.Files{}, name, passphrase)
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	return list, nil
}

// setRows reads rows of a table.
func (r *releaseRun) setRows(text string) error {
	first, last, ok := strings.Cut(text, "..")
	a, err := strconv.Atoi(first)
	b, err2 := strconv.Atoi(last)
	if !ok || err != nil || err2 != nil || a < 1 || b < a {
		return fmt.Errorf("%q is not rows of a table, such as 1..2500", text)
	}
	r.options.Rows = release.Rows{First: a, Last: b}
	return nil
}

// secretKey is the flag that gives secrets.
func secretKey(list *[]string) *key.Key {
	return key.List(list, "secret", "NAME=FILE", "read the secret NAME from FILE, which nobody else can read; repeatable")
}

// readSecrets reads the secrets that flags name.
func readSecrets(list []string) (map[string]string, error) {
	secrets := map[string]string{}
	for _, text := range list {
		name, file, ok := strings.Cut(text, "=")
		if !ok || file == "" {
			return nil, source.Keyf("secret", "%q is not NAME=FILE", text)
		}
		value, err := release.ReadSecret(file)
		if err != nil {
			return nil, err
		}
		secrets[name] = value
	}
	return secrets, nil
}

// releaseRun holds the flags of release.
type releaseRun struct {
	variants, sets []string
	secrets        []string
	sign           []string
	units          string
	passphrase     string
	watch, fresh   bool
	device         string
	options        release.Options
}

func (r *releaseRun) run(s *session, args []string) error {
	switch {
	case r.fresh:
		return r.start(s, args)
	case r.device != "":
		return source.Keyf("device", "has no effect without -new: the release file names its device")
	case len(args) != 1:
		return usagef("usage: mexalt release [flags] NAME.release.toml; %s", named(args))
	}
	if r.units == "" {
		keepsImages()
	}
	r.options.Tool = "mexalt " + version()
	if text := os.Getenv("SOURCE_DATE_EPOCH"); text != "" {
		seconds, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return usagef("SOURCE_DATE_EPOCH is %q; expected seconds since 1970", text)
		}
		r.options.Made = time.Unix(seconds, 0).UTC().Format(time.RFC3339)
	}
	r.options.Variants, r.options.Set, r.options.Picture = r.variants, map[string]string{}, pages.Drawing
	for _, text := range r.sets {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return source.Keyf("set", "%q is not NAME=VALUE", text)
		}
		r.options.Set[name] = value
	}
	var err error
	if r.options.Secrets, err = readSecrets(r.secrets); err != nil {
		return err
	}
	if r.options.Sign, err = r.signers(); err != nil {
		return err
	}
	switch {
	case r.units != "" && (r.options.Provenance || r.options.Bill):
		return usagef("-provenance and -bom have no effect with -units: the manifest of units says what they would")
	case r.watch && r.options.Dry:
		return usagef("-watch cannot be combined with -dry-run")
	case r.options.Rows != (release.Rows{}) && r.units == "":
		return source.Keyf("rows", "has no effect without -units")
	case r.options.Again && r.units == "":
		return source.Keyf("again", "has no effect without -units")
	case r.watch && s.reporting.json:
		return usagef("-watch cannot be combined with -json")
	case r.watch:
		return r.runWatch(s, args[0])
	}
	s.files.Digest, s.files.Regular, s.recipe = true, true, true
	// Before anything else: a bad input, or a dry run, must not keep it from that.
	finished, err := release.Finish(args[0], r.options)
	if finished > 0 {
		s.note(fmt.Sprintf("first completed %s from an interrupted run", memory.FormatNumber(finished, "output")))
	}
	if err != nil {
		return err
	}
	f, err := release.Load(s.files, args[0])
	if err != nil {
		return err
	}
	if r.units != "" {
		return r.runUnits(s, f)
	}
	if err := f.NeedsUnits(r.options.Set); err != nil {
		return err
	}
	result, err := f.Run(s.ctx, s.files, r.options)
	if found := errors.Is(err, release.ErrFindings); found || err == nil && (!s.quiet || s.reporting.json) {
		if err := s.show(&report.Released{Result: result, Dry: r.options.Dry || found, Wording: release.Wording}); err != nil {
			return err
		}
	}
	if errors.Is(err, release.ErrFindings) {
		s.errorLine("the check found something, so nothing was written")
		return errFindings
	}
	return err
}

// runUnits makes the units of a table.
func (r *releaseRun) runUnits(s *session, f *release.File) error {
	r.options.Progress, s.files.Progress = s.files.Progress, nil // units are counted, not bytes
	units, err := f.RunUnits(s.ctx, s.files, r.units, r.options)
	var unit *release.ErrUnit
	if stale := (*release.StaleError)(nil); errors.As(err, &stale) {
		s.staleUnits(stale)
		return errFindings
	}
	if errors.As(err, &unit) {
		s.failedUnit(unit)
		err = &failure{max(statusOf(unit.Err), statusFindings), errShown}
		if errors.Is(unit.Err, release.ErrFindings) {
			err = errFindings
		}
	}
	if units != nil {
		if err := s.show(&report.Units{Title: f.Title, Units: units, Dry: r.options.Dry}); err != nil {
			return err
		}
	}
	return err
}

// staleUnits says which units are not what this run would make.
func (s *session) staleUnits(e *release.StaleError) {
	for _, text := range e.Units {
		s.errorLine(text)
	}
	if e.More > 0 {
		s.errorLine(fmt.Sprintf("and %s more", memory.FormatCount(uint64(e.More))))
	}
	s.errorLine(e.Error() + " (-again makes them again)")
}

// failedUnit says why a unit cannot be made.
func (s *session) failedUnit(unit *release.ErrUnit) {
	s.errorLine(unit.Text() + " cannot be made:")
	if unit.Product != nil {
		one := &release.Result{File: unit.File, Products: []*release.Product{unit.Product}}
		(&report.Released{Result: one, Dry: true, Wording: release.Wording}).Text(s.messages)
	} else {
		s.printError(unit.Err)
	}
}

// runWatch runs the release file whenever something changes, until it is
// interrupted.
func (r *releaseRun) runWatch(s *session, name string) error {
	s.stopProgress()
	if _, err := release.Finish(name, r.options); err != nil {
		return err
	}
	return release.Watch(s.ctx, name, r.units, r.options, func(w *release.Watched) {
		switch {
		case w.Missing != nil:
			s.print.Line("waiting for %s", strings.Join(w.Missing, ", "))
		case w.Err == nil:
			s.print.Line("%s: %s", s.print.Good("done"), w.Text())
		default:
			r.failedWatch(s, w)
		}
		s.out.Flush()
	})
}

// failedWatch says why a run failed, and that the last good outputs are there.
func (r *releaseRun) failedWatch(s *session, w *release.Watched) {
	kept := ""
	if w.Before != nil {
		kept = "; the last good outputs are unchanged"
	}
	for _, name := range w.Changed {
		kept = "; " + name + " changed" + kept
	}
	var unit *release.ErrUnit
	if stale := (*release.StaleError)(nil); errors.As(w.Err, &stale) {
		s.staleUnits(stale)
	} else if errors.As(w.Err, &unit) {
		s.failedUnit(unit)
	} else if errors.Is(w.Err, release.ErrFindings) {
		(&report.Released{Result: w.Result, Dry: true, Wording: release.Wording}).Text(s.messages)
	} else {
		s.printError(w.Err)
	}
	s.print.Line("%s%s", s.print.Bad("failed"), kept)
}
