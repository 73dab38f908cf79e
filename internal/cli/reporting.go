package cli

import (
	"errors"
	"fmt"
	"io"

	"mexalt/internal/render"
	"mexalt/internal/report"
	"mexalt/key"
	"mexalt/operation"
	"mexalt/output"
	"mexalt/source"
)

// reporting holds the flags that say how a command tells what came of it.
type reporting struct {
	json bool
	to   string // a file; "" is standard output
	// imageOnOutput reports whether an image goes to standard output, so that JSON must go
	// elsewhere; nil is never.
	imageOnOutput func() bool
	// failed prints a failure in a form of its own; nil prints JSON.
	failed func(io.Writer, report.Failure) error
	// others has the same written in further forms, each to a place of its own; nil is none.
	others  func(each func() error) error
	verdict string // said of a report that was written to a file
	written bool
}

// forProgram reports whether a program waits for the report.
func (r *reporting) forProgram() bool { return r.json || r.failed != nil }

// reports adds the flags of a command that reports.
func (f *flags) reports() *reporting {
	f.reporting = &reporting{}
	f.add(key.Switch(&f.reporting.json, "json", "print the result as JSON (mexalt help json)"))
	return f.reporting
}

// reportsTo adds the flags of a command whose report may go to a file.
func (f *flags) reportsTo() *reporting {
	r := f.reports()
	f.add(key.Text(&r.to, "o", "FILE", "write the report to FILE"))
	return r
}

// show prints a result: as text or as JSON, to the file of -o or to standard
// output.
func (s *session) show(r report.Result) error {
	s.reporting.written = true
	return s.showAs(func(to io.Writer, p *render.Printer) error {
		if s.reporting.json {
			return report.Write(to, r)
		}
		r.Text(p)
		return nil
	})
}

// showAs prints what write writes to where results go.
func (s *session) showAs(write func(io.Writer, *render.Printer) error) error {
	s.stopProgress()
	r := s.reporting
	switch {
	case r.to != "" && r.to != "-":
		_, err := output.Write(s.files, []output.File{{Name: r.to, Write: func(to io.Writer) error { return write(to, render.Plain(to)) }}})
		if err == nil {
			s.reportDone("wrote %s%s", r.to, r.verdict)
		}
		return err
	case s.imageOnOutput():
		return stdoutError(write(s.err, s.messages))
	}
	return stdoutError(write(s.out, s.print))
}

// writable tells, before any work, what keeps files from being written, and of two that are
// one; standard output and what is not asked for are left out.
func (s *session) writable(names ...string) error {
	var files []output.File
	for _, name := range names {
		if name != "" && name != "-" {
			files = append(files, output.File{Name: name})
		}
	}
	err := output.Check(s.files, files)
	if err != nil && s.reporting != nil && s.reporting.to != "" {
		s.reporting.written = true // no report of the failure goes there either
	}
	return err
}

// imageOnOutput reports whether JSON goes to standard error, as an image goes to standard
// output.
func (s *session) imageOnOutput() bool {
	return s.reporting.json && s.reporting.imageOnOutput != nil && s.reporting.imageOnOutput()
}

// showFailure prints what kept a command from its work, where a program waits
// for its result: a job that failed early must not look like one that never ran.
func (s *session) showFailure(err error, status int) error {
	out := report.Failure{Schema: report.SchemaName(s.command.name), Failed: true, Status: status, Problems: []report.Problem{}}
	for _, p := range s.problemsOf(err) {
		out.Problems = append(out.Problems, report.ProblemOf(p, s.wording))
	}
	s.reporting.written = true
	show := func() error {
		if !s.reporting.forProgram() {
			return nil // people were told
		}
		return s.showAs(func(to io.Writer, _ *render.Printer) error {
			if s.reporting.failed != nil {
				return s.reporting.failed(to, out)
			}
			return report.JSON(to, out)
		})
	}
	failed := show()
	if others := s.reporting.others; others != nil {
		return errors.Join(failed, others(show))
	}
	return failed
}

// problemsOf returns all that an error says, as problems.
func (s *session) problemsOf(err error) []*source.Problem {
	var several *failures
	var problems *source.Problems
	var clash *operation.ClashError
	var problem *source.Problem
	var key *source.KeyError
	switch {
	case errors.As(err, &several):
		var list []*source.Problem
		for _, one := range several.list {
			list = append(list, s.problemsOf(one)...)
		}
		return list
	case errors.As(err, &problems):
		return problems.Sorted()
	case errors.As(err, &clash):
		list := clash.Problems
		if clash.More > 0 {
			list = append(list[:len(list):len(list)], &source.Problem{What: fmt.Sprintf("and %d more clashes", clash.More)})
		}
		return list
	case errors.As(err, &key) && errors.As(key.Err, &problem) && problem.File != "":
		return []*source.Problem{problem}
	case errors.As(err, &key):
		return []*source.Problem{{What: s.wording.keyError(key)}}
	case errors.As(err, &problem):
		return []*source.Problem{problem}
	case err.Error() == "":
		return nil
	}
	return []*source.Problem{{What: err.Error()}}
}

// failures are several errors of one run.
type failures struct{ list []error }

func (f *failures) Error() string { return errors.Join(f.list...).Error() }

// Unwrap returns the gravest, which gives the exit status.
func (f *failures) Unwrap() error {
	worst := f.list[0]
	for _, err := range f.list {
		if statusOf(err) > statusOf(worst) {
			worst = err
		}
	}
	return worst
}

// joined returns several errors as one.
func joined(list []error) error {
	switch len(list) {
	case 0:
		return nil
	case 1:
		return list[0]
	}
	return &failures{list}
}
