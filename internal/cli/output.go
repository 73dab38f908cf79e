package cli

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"

	"mexalt/codec"
	"mexalt/internal/render"
	"mexalt/memory"
)

// writing holds the flags that say where an image goes and how it is written.
type writing struct {
	to      string
	format  string
	header  string
	dry     bool
	options codec.WriteOptions
}

var formatWords = []string{"hex", "srec", "s19", "s28", "s37", "raw"}

// define adds the flags.
func (w *writing) define(fs *flag.FlagSet) {
	w.defineBase(fs)
	w.defineHoles(fs)
	fs.Func("width", "record formats: `N` data bytes in a record (16)", func(v string) error {
		n, err := strconv.Atoi(v)
		if err != nil || n < 1 || n > 255 {
			return fmt.Errorf("%q is no number of data bytes in a record; 1 to 255", v)
		}
		w.options.Width = n
		return nil
	})
}

func (w *writing) defineHoles(fs *flag.FlagSet) {
	fs.Func("holes", "raw: write holes as `BYTE`", oneByte(&w.options.Holes))
}

// defineBase adds the flags that mean the same to all commands; -width and
// -holes do not.
func (w *writing) defineBase(fs *flag.FlagSet) {
	fs.StringVar(&w.to, "o", "", "write to `FILE`, not to standard output")
	fs.BoolVar(&w.dry, "dry", false, "say what would be done, and write nothing")
	fs.Var(choice{&w.format, formatWords}, "to", "write as `FORMAT` hex, srec, s19, s28, s37 or raw")
	fs.BoolVar(&w.options.CRLF, "crlf", false, "record formats: end lines in CR LF")
	fs.BoolVar(&w.options.Segmented, "segmented", false, "Intel HEX: write segment base records, type 02")
	fs.StringVar(&w.header, "header", "", "S-record: the header's `TEXT`")
}

// optionsFor returns how to write to a name: in the format that the flags, the
// name or the first input's format give, in this order.
func (w *writing) optionsFor(name string, r *reading, first codec.Format) codec.WriteOptions {
	o := w.options
	o.AddressUnit = r.options.AddressUnit
	switch {
	case w.format == "s19" || w.format == "s28" || w.format == "s37":
		o.Format, o.Kind = codec.Srec, map[string]int{"s19": 1, "s28": 2, "s37": 3}[w.format]
	case w.format != "":
		o.Format = codec.FormatOfWord(w.format)
	case codec.FormatOfName(name) != codec.Unknown:
		o.Format = codec.FormatOfName(name)
	case first == codec.Srec:
		o.Format = codec.Srec
	default:
		o.Format = codec.Hex
	}
	return o
}

// write writes the image where the flags say.
func (s *session) write(w *writing, r *reading, m *memory.Image, first codec.Format) error {
	return s.writeAll(w, r, []memory.Part{{Name: w.to, Image: m}}, first)
}

// writeAll writes images to files named as the parts are, all or none; "" and
// - are standard output.
func (s *session) writeAll(w *writing, r *reading, parts []memory.Part, first codec.Format) error {
	var outputs []output
	var told []string
	for _, p := range parts {
		m, o := p.Image, w.optionsFor(p.Name, r, first)
		if w.header != "" {
			headed := *m
			headed.Header = []byte(w.header)
			m = &headed
		}
		notes, err := o.Check(m)
		if err != nil {
			if len(parts) > 1 {
				err = fmt.Errorf("%s: %w", p.Name, err)
			}
			return usagef("%w", err)
		}
		for _, n := range notes {
			s.note("note: %s", n)
		}
		name := p.Name
		if name == "" || name == "-" {
			if w.dry {
				s.note("dry run: would write to standard output: %s", imageText(o, m))
				return nil
			}
			if o.Format == codec.Raw && isTerminal(s.out) {
				return usagef("raw bytes are not written to a terminal; name a file with -o, or pipe them on")
			}
			if err := codec.Write(s.out, m, o); err != nil {
				return systemError("written", "standard output", err)
			}
			return nil
		}
		told = append(told, name+": "+imageText(o, m))
		outputs = append(outputs, output{name, func(to io.Writer) error { return codec.Write(to, m, o) }})
	}
	did := "wrote"
	if w.dry {
		did = "dry run: would write"
	} else if err := s.replace(outputs); err != nil {
		return err
	}
	for _, t := range told {
		s.note("%s %s", did, t)
	}
	return nil
}

// imageText says what is written, in few words.
func imageText(o codec.WriteOptions, m *memory.Image) string {
	return fmt.Sprintf("%s, %s bytes in %s", o.Format, memory.FormatCount(m.Bytes()), render.Count(len(m.Runs()), "run"))
}

// output is a file to write whole.
type output struct {
	name  string
	write func(io.Writer) error
}

// replace writes all outputs beside where they belong, and only when all are
// written whole puts them in their places, together or not at all.
func (s *session) replace(outputs []output) (err error) {
	var files []*pendingFile
	var names []string
	defer func() {
		for _, f := range files {
			pending.remove(f)
		}
	}()
	for _, o := range outputs {
		name, err := resolve(o.name)
		if err != nil {
			return systemError("written", o.name, err)
		}
		info, err := os.Stat(name)
		switch {
		case err == nil && info.IsDir():
			return systemError("written", o.name, errors.New("it is a folder"))
		case err == nil && !info.Mode().IsRegular():
			// A device or a pipe has nothing that could be torn.
			if err := writeThrough(name, o); err != nil {
				return systemError("written", o.name, err)
			}
			continue
		case err == nil:
			for _, in := range s.inputs {
				if os.SameFile(in, info) {
					return usagef("the output %s is also an input; write to another file", o.name)
				}
			}
		}
		f, err := pending.create(name)
		if err != nil {
			return writeError(o.name, err)
		}
		files, names = append(files, f), append(names, name)
		buffered := bufio.NewWriterSize(f, 1<<16)
		if err := o.write(buffered); err != nil {
			return writeError(o.name, err)
		}
		if err := buffered.Flush(); err != nil {
			return writeError(o.name, err)
		}
		if err := f.Sync(); err != nil {
			return writeError(o.name, err)
		}
	}
	return pending.replaceAll(files, names)
}

// writeError adds to the system's answer that nothing was lost.
func writeError(name string, err error) error {
	if _, statErr := os.Stat(name); statErr == nil {
		return fmt.Errorf("%w; the file is as it was", systemError("written", name, err))
	}
	if _, statErr := os.Stat(filepath.Dir(name)); errors.Is(statErr, fs.ErrNotExist) {
		return fmt.Errorf("%w; there is no folder %s", systemError("written", name, fs.ErrNotExist), filepath.Dir(name))
	}
	return systemError("written", name, err)
}

func writeThrough(name string, o output) error {
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	if err := o.write(f); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// resolve follows links, so that a link stays one and the file behind it is
// replaced.
func resolve(name string) (string, error) {
	const mostLinks = 40
	for range mostLinks {
		info, err := os.Lstat(name)
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			return name, nil
		}
		target, err := os.Readlink(name)
		if err != nil {
			return "", err
		}
		if !filepath.IsAbs(target) {
			target = filepath.Join(filepath.Dir(name), target)
		}
		name = target
	}
	return "", syscall.ELOOP
}

// pendingFiles are the files being written, so that an interrupted run can
// take them away.
type pendingFiles struct {
	sync.Mutex
	files map[*pendingFile]bool
}

var pending = pendingFiles{files: map[*pendingFile]bool{}}

func (p *pendingFiles) create(name string) (*pendingFile, error) {
	cleanUpOnSignal()
	p.Lock()
	defer p.Unlock()
	f, err := newPendingFile(name)
	if err == nil {
		p.files[f] = true
	}
	return f, err
}

func (p *pendingFiles) remove(f *pendingFile) {
	p.Lock()
	defer p.Unlock()
	f.Cleanup()
	delete(p.files, f)
}

// replaceAll puts the files in their places. Where one fails, those already
// in place are taken back: each old file was kept under a second name.
func (p *pendingFiles) replaceAll(files []*pendingFile, names []string) error {
	p.Lock()
	defer p.Unlock()
	kept := make([]string, len(files))
	defer func() {
		for _, k := range kept {
			if k != "" {
				os.Remove(k)
			}
		}
	}()
	if len(files) > 1 {
		for i, name := range names {
			if _, err := os.Lstat(name); err == nil {
				k := files[i].Name() + "-old"
				if err := os.Link(name, k); err != nil {
					return systemError("written", name, err)
				}
				kept[i] = k
			}
		}
	}
	for i, f := range files {
		if err := f.CloseAtomicallyReplace(); err != nil {
			for j := range i {
				if kept[j] != "" {
					os.Rename(kept[j], names[j])
					kept[j] = ""
				} else {
					os.Remove(names[j])
				}
			}
			return writeError(names[i], err)
		}
		delete(p.files, f)
	}
	return nil
}

// cleanUpOnSignal takes unfinished files away when the run is interrupted,
// and then lets the signal end the program as it would have. Runs that write
// no file do without.
var cleanUpOnSignal = sync.OnceFunc(func() {
	signals := make(chan os.Signal, 1)
	for _, sig := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP} {
		if !signal.Ignored(sig) { // as under nohup
			signal.Notify(signals, sig)
		}
	}
	go func() {
		sig := <-signals
		pending.Lock() // kept, so that no new one appears
		for f := range pending.files {
			f.Cleanup()
		}
		signal.Reset()
		if self, err := os.FindProcess(os.Getpid()); err == nil {
			self.Signal(sig)
		}
		time.Sleep(time.Second) // for the signal to arrive
		os.Exit(statusSystem)
	}()
})
