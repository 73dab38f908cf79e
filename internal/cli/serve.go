package cli

import (
	"context"
	"strings"
	"time"

	"mexalt/internal/report"
	"mexalt/rehearsal"
	"mexalt/rehearsal/chip"
	"mexalt/target"
)

// serveContradictions tells of flags that have nothing to do with a chip that is served.
func (r *rehearseRun) serveContradictions() error {
	switch {
	case r.serve == "" && r.clients > 0:
		return usagef("-clients belongs to -serve")
	case r.serve == "":
		return nil
	case r.sweep || r.plan != "" || r.card != "" || r.baud > 0 || len(r.accept) > 0:
		return usagef("-serve lets a debugger program the chip; it takes none of -plan, -sweep, -card, -baud and -accept")
	}
	return nil
}

// runServe serves the chip to debuggers, and tells what they left.
func (r *rehearseRun) runServe(s *session, part *chip.Chip, in *input) error {
	manual := rehearsal.NewManual(part)
	if r.slow {
		manual.Each = func(takes time.Duration) {
			select {
			case <-time.After(takes):
			case <-s.ctx.Done():
			}
		}
	}
	served := &report.Served{Map: r.device, Image: in.Name, Faults: r.faults}
	server := &target.Server{Part: manual, Note: s.note}
	if in.Program != nil {
		server.Machine = in.Program.Machine
	}
	ready := func(address string) {
		quiet := s.quiet
		s.quiet = quiet && !strings.HasSuffix(r.serve, ":0") // a port that the system chose is wanted
		s.note("serving " + r.device.Name + " at " + address + "; Ctrl-C ends it")
		s.quiet = quiet
	}
	each := func(one *target.Session) {
		served.Sessions = append(served.Sessions, one)
		s.note("a debugger left: " + report.SessionText(one))
	}
	if err := server.Listen(s.ctx, r.serve, int(r.clients), ready, each); err != nil {
		return err
	}
	s.files.Context = context.WithoutCancel(s.ctx) // it was ended as it is meant to be
	served.Left, served.Steps = manual.Judge(in.Image), manual.Steps
	if cut := part.Faults.Cut; cut != nil && cut.Act > manual.Steps {
		served.NoCut = cut.Act
	}
	if err := r.keep(s, part); err != nil {
		return err
	}
	served.Kept, served.ReadBack, served.Unread = r.result.Kept, r.result.ReadBack, r.result.Unread
	if err := s.show(served); err != nil {
		return err
	}
	if !served.Left.Good() || served.Unread != nil || served.NoCut > 0 {
		return errFindings
	}
	return nil
}
