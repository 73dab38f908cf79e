package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"mexalt/demo"
	"mexalt/key"
	"mexalt/output"
	"mexalt/source"
)

var demoCommand = &command{
	name: "demo", usage: "[-o FOLDER]", bare: true,
	short: "run the whole job on example files",
	long: `
Copies the firmware files of two invented products, the TG-1 tide gauge and the TG-4
harbour station, to a folder. Then it does the release engineer's job there step by
step, and shows each command line and its output. A folder that contains anything
else is left alone.`,
	setup: func(f *flags) func(*session, []string) error {
		folder := "mexalt-demo"
		f.add(key.Text(&folder, "o", "FOLDER", "work in FOLDER (./mexalt-demo)"))
		return func(s *session, args []string) error {
			if len(args) > 0 {
				return usagef("demo takes no files; -o names the folder")
			}
			return s.demo(folder)
		}
	},
}

// demoStep is one step of the demo: what is said of it, the command line, and
// the status that it must end with; or the title of the steps behind it.
type demoStep struct {
	title  string
	say    string
	line   string
	status int
	made   []string // the files that it makes
	// serves is whether it goes on beside the steps behind it, which name its address as
	// {served}; ends that it is waited for, and what it says shown.
	serves, ends bool
}

// serving is a step that goes on beside others.
type serving struct {
	mu      sync.Mutex
	text    bytes.Buffer
	address chan string
	status  chan int
}

// Write takes what the step says, and finds where it listens.
func (d *serving) Write(b []byte) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.text.Write(b)
	if _, rest, ok := strings.Cut(d.text.String(), " at "); ok {
		if address, _, ok := strings.Cut(rest, ";"); ok && len(d.address) == 0 {
			d.address <- address
		}
	}
	return len(b), nil
}

// serve begins a step that goes on beside others, and returns when it listens, or ended.
func (s *session) serve(line string) (d *serving, address string) {
	d = &serving{address: make(chan string, 1), status: make(chan int, 1)}
	go func() { d.status <- run(s.ctx, words(line), strings.NewReader(""), d, d) }()
	select {
	case address = <-d.address:
		d.address <- address // it is found once
	case status := <-d.status:
		d.status <- status
	}
	return d, address
}

// demoSteps are made when they are wanted, so that no other command waits for it.
func demoSteps() []demoStep {
	return []demoStep{
		{title: "The TG-1 tide gauge, release 2.4.1, for the Brindle B8-32"},
		{say: "Three files have come: a bootloader, an application, a calibration table.",
			line: "inspect bootloader.hex gauge-app.s19 calibration.bin"},
		{
			say:  "The whole job, as a release file: both variants merged, filled, sealed, checked, written.",
			line: "release tg1.release.toml",
			made: append(variants("tg1-%s-2.4.1.hex", "tg1-%s-2.4.1.s37", "tg1-%s-2.4.1-update.bin", "tg1-%s-2.4.1.png",
				"tg1-%s-2.4.1.html", "tg1-%s-2.4.1.txt"), "tg1.manifest.json"),
		},
		{say: "A year later: verify the files, and rebuild them.",
			line: "confirm tg1.manifest.json"},
		{say: "Show where these bytes came from.",
			line: "explain tg1-harbour-2.4.1.hex -at 0x77F8..0x7803"},
		{say: "Before you connect a cable: does programming work, and how long does it take?",
			line: "rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32"},
		{say: "A device with a dead page: what will the bench report?",
			line: `rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -fault "page-dead 0x4000"`, status: statusFindings},
		{
			say:  "The north's boards run from a crystal: its configuration words, for its board.",
			line: `config -board gauge-north -wish "run from a crystal" -set "boot_size=2 KiB" -o north-words.hex`,
			made: []string{"north-words.hex"},
		},
		{say: "What do they mean there, and which ways in remain?",
			line: "config north-words.hex -board gauge-north"},
		{say: "Refused: the same words on a board without a crystal, whose devices would never answer again.",
			line: "config north-words.hex -board gauge", status: statusFindings},
		{
			say:  "The production line: each unit with its own serial number and CRC.",
			line: "release tg1-line.release.toml -units units.csv",
			made: []string{"unit-10427.hex", "unit-10428.hex", "unit-10431.hex", "tg1-line.units.jsonl", "tg1-line.units.manifest.json"},
		},
		{say: "One of them comes back years later: is it what was made, and of what was it made?",
			line: "confirm tg1-line.units.manifest.json -unit 10428"},
		{say: "Refused: the next application has grown into the bootloader. Nothing is written.",
			line: "release tg1.release.toml -set application=gauge-app-2.s19 -set version=2.5.0-rc1", status: statusInput},

		{title: "The same, step by step"},
		{say: "Check the application alone, in its region of the device.",
			line: "check gauge-app.s19 -device brindle-b8-32 -region application"},
		{
			say:  "Merge the inputs. The table is raw bytes, so say where it goes.",
			line: "merge bootloader.hex gauge-app.s19 calibration.bin@calibration.first -device brindle-b8-32 -o merged.hex",
			made: []string{"merged.hex"},
		},
		{say: "Fill the rest of the application region with erased bytes.",
			line: "fill merged.hex -device brindle-b8-32 -in application -with FF -o filled.hex", made: []string{"filled.hex"}},
		{say: "Compute the CRC that the bootloader checks, and store it where the map says.",
			line: "seal filled.hex -device brindle-b8-32 -o factory.hex", made: []string{"factory.hex"}},
		{say: "Check the image with the device's map.",
			line: "check factory.hex -device brindle-b8-32"},
		{say: "It is what the release made.",
			line: "compare tg1-harbour-2.4.1.hex factory.hex"},
		{say: "The line's programmer wants S-records.",
			line: "convert factory.hex -to s37 -o factory.s37", made: []string{"factory.s37"}},
		{say: "Refused: the next application, once more.",
			line: "check gauge-app-2.s19 -device brindle-b8-32 -region application", status: statusFindings},
		{say: "Refused: so it clashes when merged, and nothing is written.",
			line: "merge bootloader.hex gauge-app-2.s19 -o factory-2.hex", status: statusInput},
		{say: "Refused: a bootloader that came by mail, damaged on the way.",
			line: "merge bootloader-damaged.hex gauge-app.s19 -o factory-3.hex", status: statusInput},

		{title: "The TG-4 harbour station, release 3.1.0, for the Brindle M32-512"},
		{say: "Its application is the linker's output, an ELF file.",
			line: "inspect station.elf -device brindle-m32-512"},
		{say: "One function of it, with the source line of each row.",
			line: "view station.elf -in symbol.tide_height -origin"},
		{
			say:  "The stations in the field have the release before.",
			line: "release tg4.release.toml -set version=3.0.0 -set station=station-3.0.0.elf -quiet",
			made: []string{"tg4-3.0.0.hex", "tg4-3.0.0-update.uf2"},
		},
		{say: "Loader, application, and tide tables in the second flash; and an update that is dragged onto the station.",
			line: "release tg4.release.toml", made: []string{"tg4-3.1.0.hex", "tg4-3.1.0-update.uf2", "tg4.manifest.json"}},
		{
			say:  "Cut the power at every step of a station's update. In this order the station can be lost; another order is safe.",
			line: "rehearse tg4-3.1.0.hex -from tg4-3.0.0.hex -device brindle-m32-512 -sweep -better tg4-safe.plan.toml",
			made: []string{"tg4-safe.plan.toml"},
		},
		{say: "The order that was found, in a build: a plan that is not safe would end with status 1.",
			line: "rehearse tg4-3.1.0.hex -from tg4-3.0.0.hex -device brindle-m32-512 -plan tg4-safe.plan.toml -sweep -expect safe"},

		{title: "The TG-1 on the bench"},
		{
			say:  "A simulated gauge is programmed, and kept.",
			line: "rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -chip gauge.chip",
			made: []string{"gauge.chip"},
		},
		{say: "It is served to debuggers, as a probe's server would a real one.",
			line: "rehearse tg1-harbour-2.4.1.hex -device brindle-b8-32 -chip gauge.chip -serve :0 -clients 2", serves: true},
		{say: "Before programming it again: is it the right device, and what would be lost?",
			line: "check tg1-harbour-2.4.1.hex -device brindle-b8-32 -on {served}"},
		{
			say:  "Read it back.",
			line: "read {served} -device brindle-b8-32 -in flash -in eeprom -o read-back.hex",
			made: []string{"read-back.hex"},
		},
		{say: "Both debuggers have left. What did they do, and what does the gauge start?", ends: true},
		{say: "Which release is it?",
			line: "match read-back.hex ."},
	}
}

// words are the words of a command line, as a shell takes them apart: quoted ones are
// one.
func words(line string) (list []string) {
	for i, part := range strings.Split(line, `"`) {
		if i%2 == 1 {
			list = append(list, part)
		} else {
			list = append(list, strings.Fields(part)...)
		}
	}
	return list
}

// variants returns names for both variants of the TG-1.
func variants(names ...string) []string {
	var all []string
	for _, v := range []string{"harbour", "north"} {
		for _, name := range names {
			all = append(all, fmt.Sprintf(name, v))
		}
	}
	return all
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
	s.print.Line("Working in %s", folder)
	n := 0
	var beside *serving
	served := ""
	for _, step := range demoSteps() {
		if step.title != "" {
			s.print.Printf("\n%s\n", s.print.Title(step.title))
			continue
		}
		if step.say != "" {
			n++
			s.print.Line("\n%s", s.print.Title(fmt.Sprintf("%d. %s", n, step.say)))
		}
		line := strings.ReplaceAll(step.line, "{served}", served)
		if line != "" {
			s.print.Line("$ mexalt %s", line)
		}
		s.out.Flush()
		status := 0
		switch {
		case step.serves:
			if beside, served = s.serve(line); served == "" {
				s.print.Line("this machine lets nobody listen, so the demo ends here")
				step.ends = true
			}
		case !step.ends:
			status = run(s.ctx, words(line), strings.NewReader(""), s.stdout, s.stdout)
		}
		if step.ends {
			status = <-beside.status
			s.out.Write(beside.text.Bytes())
			if served == "" {
				break
			}
		}
		if err := s.ctx.Err(); err != nil {
			return err
		}
		if status != statusDone {
			s.print.Line("(exit status %d)", status)
		}
		if status != step.status {
			return fmt.Errorf("step %d ended with status %d, not %d as it should", n, status, step.status)
		}
	}
	s.print.Printf("\n%s in %s:\n", s.print.Good("Made"), folder)
	for _, made := range []struct{ name, what string }{
		{"tg1-harbour-2.4.1.*", "the TG-1, as a release made it: factory image, update, picture, page"},
		{"tg1-north-2.4.1.*", "its variant for the north"},
		{"tg1.manifest.json", "what was made of what, byte by byte"},
		{"north-words.hex", "configuration words for the boards with a crystal"},
		{"unit-*.hex", "three units, with their manifest tg1-line.units.manifest.json"},
		{"factory.hex, .s37", "the same image, made step by step"},
		{"tg4-3.1.0.hex", "the whole of the TG-4, in both of its flashes"},
		{"tg4-3.1.0-update.uf2", "its application, to be dragged onto it"},
		{"read-back.hex", "what was read of a simulated TG-1 through its debug server"},
		{"tg4-safe.plan.toml", "the order of an update in which no power cut bricks it"},
	} {
		s.print.Line("  %-22s %s", made.name, made.what)
	}
	s.print.Line("Nothing was written for the refused ones.")
	return nil
}

// copyDemo copies the demo's files into the folder. A folder that is there
// already must hold nothing but an earlier demo.
func copyDemo(files fs.FS, folder string) error {
	ours := map[string]bool{}
	for _, step := range demoSteps() {
		for _, name := range step.made {
			ours[name] = true
		}
	}
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
			return &failure{statusSystem, fmt.Errorf("%s contains something else, %s; name another folder with -o", folder, e.Name())}
		}
	}
	for _, e := range there { // of an earlier run, which this one makes anew
		if err := os.Remove(filepath.Join(folder, e.Name())); err != nil {
			return &source.SystemError{File: filepath.Join(folder, e.Name()), Doing: "write", Err: err}
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
