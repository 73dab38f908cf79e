package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"mexalt/demo"
	"mexalt/output"
	"mexalt/source"
	"mexalt/span"
)

var demoCommand = &command{
	name: "demo", usage: "[-o FOLDER]",
	short: "the whole job on shipped data",
	long: `
Copies the firmware parts of the made-up TG-1 tide gauge to a folder, then does
the release engineer's job there step by step, and shows each command line and
what it answered. A folder that holds anything else is left alone.`,
	setup: func(f *flags) func(*session, []string) error {
		folder := "mexalt-demo"
		f.add(span.TextKey(&folder, "o", "FOLDER", "work in FOLDER (./mexalt-demo)"))
		return func(s *session, args []string) error {
			if len(args) > 0 {
				return usagef("demo takes no files; -o names the folder")
			}
			return s.demo(folder)
		}
	},
}

// demoStep is one step of the demo: what is said of it, the command line, and
// the status that it must end with.
type demoStep struct {
	say    string
	line   string
	status int
}

var demoSteps = []demoStep{
	{"What did we get? Three files: a bootloader, an application, a calibration table.",
		"inspect bootloader.hex gauge-app.s19 calibration.bin", statusDone},
	{"Is each part fit for its region of the device?",
		"check gauge-app.s19 -device brindle-b8-32 -region application", statusDone},
	{"Lay them together. The table is raw bytes, so it is told where it belongs.",
		"merge bootloader.hex gauge-app.s19 calibration.bin@calibration.first -device brindle-b8-32 -o merged.hex", statusDone},
	{"Fill what the application leaves free with what an erased cell holds.",
		"fill merged.hex -device brindle-b8-32 -in application -with FF -o filled.hex", statusDone},
	{"Compute the CRC that the bootloader checks, and store it where the map says.",
		"seal filled.hex -device brindle-b8-32 -o factory.hex", statusDone},
	{"Check the whole against the device's map.",
		"check factory.hex -device brindle-b8-32", statusDone},
	{"The line's programmer wants S-records.",
		"convert factory.hex -to s37 -o factory.s37", statusDone},
	{"Refused: the next application has grown into the bootloader.",
		"check gauge-app-2.s19 -device brindle-b8-32 -region application", statusFindings},
	{"Refused: so it clashes when merged, and nothing is written.",
		"merge bootloader.hex gauge-app-2.s19 -o factory-2.hex", statusInput},
	{"Refused: a bootloader that came by mail, damaged on the way.",
		"merge bootloader-damaged.hex gauge-app.s19 -o factory-3.hex", statusInput},
}

func (s *session) demo(folder string) error {
	files := demo.Files()
	if err := copyDemo(files, folder); err != nil {
		return err
	}
	back, err := os.Getwd()
	if err != nil {
		return &source.SystemError{File: "the current folder", Doing: "find", Err: err}
	}
	if err := os.Chdir(folder); err != nil {
		return &source.SystemError{File: folder, Doing: "enter", Err: err}
	}
	defer os.Chdir(back)
	s.print.Printf("The TG-1 tide gauge, release 2.4.1, for the Brindle B8-32. Working in %s\n", folder)
	for i, step := range demoSteps {
		s.print.Printf("\n%s\n$ mexalt %s\n", s.print.Title(fmt.Sprintf("%d. %s", i+1, step.say)), step.line)
		s.out.Flush()
		status := run(strings.Fields(step.line), strings.NewReader(""), s.stdout, s.stdout)
		if status != statusDone {
			s.print.Printf("(exit status %d)\n", status)
		}
		if status != step.status {
			return fmt.Errorf("step %d ended with status %d, not %d as it should", i+1, status, step.status)
		}
	}
	s.print.Printf("\n%s in %s:\n", s.print.Good("Made"), folder)
	for _, made := range []struct{ name, what string }{
		{"factory.hex", "the factory image: bootloader, application, calibration, CRC; checked"},
		{"factory.s37", "the same as S-records"},
		{"merged.hex, filled.hex", "the steps between"},
	} {
		s.print.Printf("  %-23s %s\n", made.name, made.what)
	}
	s.print.Printf("Nothing was written for the refused ones.\n")
	return nil
}

// copyDemo copies the demo's files into the folder. A folder that is there
// already must hold nothing but an earlier demo.
func copyDemo(files fs.FS, folder string) error {
	ours := map[string]bool{"merged.hex": true, "filled.hex": true, "factory.hex": true, "factory.s37": true}
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		return err
	}
	for _, e := range entries {
		ours[e.Name()] = true
	}
	there, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return &source.SystemError{File: folder, Doing: "use", Err: err}
	}
	for _, e := range there {
		if !ours[e.Name()] {
			return &failure{statusSystem, fmt.Errorf("%s holds something else already, %s; name another folder with -o", folder, e.Name())}
		}
	}
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return &source.SystemError{File: folder, Doing: "make", Err: err}
	}
	var outputs []output.File
	for _, e := range entries {
		text, err := fs.ReadFile(files, e.Name())
		if err != nil {
			return err
		}
		outputs = append(outputs, output.File{Name: filepath.Join(folder, e.Name()), Write: func(to io.Writer) error {
			_, err := to.Write(text)
			return err
		}})
	}
	_, err = output.Write(&source.Files{}, outputs)
	return err
}
