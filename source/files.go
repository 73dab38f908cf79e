package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// StandardInput is what standard input is called in messages; it is named - by
// who wants it read.
const StandardInput = "standard input"

// SystemError says that the system would not read or write a file.
type SystemError struct {
	File  string
	Doing string // read, write
	Err   error
	Near  string // a file that is there and may have been meant; may be empty
}

// Error says it in the system's words.
func (e *SystemError) Error() string {
	text := fmt.Sprintf("cannot %s %s: %s", e.Doing, e.File, e.Reason())
	if e.Near != "" {
		text += "; did you mean " + e.Near + "?"
	}
	return text
}

// Reason returns why, without the file's name.
func (e *SystemError) Reason() string {
	err := e.Err
	var path *os.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	var link *os.LinkError
	if errors.As(err, &link) {
		err = link.Err
	}
	if errors.Is(err, fs.ErrNotExist) {
		if folder := filepath.Dir(e.File); folder != "." {
			if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
				return "no folder " + folder
			}
		}
		return "no such file"
	}
	return err.Error()
}

func (e *SystemError) Unwrap() error { return e.Err }

// Read is one file that was read.
type Read struct {
	Name string // as it was named
	Role string // what it was read as: image, device map, ...
	Size int64  // bytes read
	// Embedded is whether it comes with the program, and is no file.
	Embedded bool

	sum    []byte      // of what is embedded
	digest *digester   // nil where none was asked for
	info   os.FileInfo // tells its identity, device and inode; nil for what is no file
}

// SHA256 returns the file's digest, once the file is closed; nil where none was
// asked for or the file was not read to its end.
func (r *Read) SHA256() []byte {
	if r.digest == nil {
		return r.sum
	}
	<-r.digest.done
	return r.digest.sum
}

// Files opens the files of one run, and records each, so that none of them is
// ever written over and all of them can be told. The zero value reads from no
// standard input.
type Files struct {
	Stdin  io.Reader // what - is read from
	Digest bool      // a SHA-256 of each is made while it is read
	// Regular refuses pipes as images too, as all else that is read does: who waits for
	// one waits for ever where nobody writes to it.
	Regular bool
	// Context ends reading, and waiting for what a pipe or a terminal gives; nil is never.
	Context context.Context
	// Progress is told how much is read; nil is nobody.
	Progress *Progress

	mu       sync.Mutex
	recorded []*Read
	stdin    bool
}

// ErrStdinTwice says that standard input was named twice.
var ErrStdinTwice = errors.New("standard input is named twice; it can be read once")

// File is a file being read.
type File struct {
	Name string // as messages name it
	Size int64  // how much there is to read; below 0 where that cannot be told

	// Kept says that what is read from now on stays where it was read to, so
	// that a digest needs no copy of it.
	Kept bool

	ctx      context.Context
	read     *Read
	progress *Progress
	in       io.Reader
	file     *os.File // nil for standard input
	ended    bool     // it was read to its end
}

// Open opens a file, or standard input for -. role says what it is read as.
func (f *Files) Open(name, role string) (*File, error) {
	r := &Read{Name: name, Role: role}
	out := &File{Name: name, read: r, ctx: f.Context}
	if name == "-" {
		f.mu.Lock()
		twice := f.stdin
		f.stdin = true
		f.mu.Unlock()
		if twice {
			return nil, &KeyError{"", ErrStdinTwice}
		}
		out.Name, r.Name = StandardInput, StandardInput
		out.in = f.Stdin
		if out.in == nil {
			out.in = bytes.NewReader(nil)
		}
		out.Size = sizeOf(out.in)
		if file, ok := out.in.(*os.File); ok {
			r.info, _ = file.Stat()
		}
	} else {
		if err := f.waits(name, role); err != nil {
			return nil, &SystemError{File: name, Doing: "read", Err: err}
		}
		file, err := os.Open(name)
		if err != nil {
			return nil, &SystemError{name, "read", err, nearFile(name, err)}
		}
		if r.info, err = file.Stat(); err == nil && r.info.IsDir() {
			err = errors.New("it is a folder, a file is needed")
		}
		if err != nil {
			file.Close()
			return nil, &SystemError{File: name, Doing: "read", Err: err}
		}
		out.file, out.in, out.Size = file, file, sizeOf(file)
	}
	if f.Progress != nil {
		out.progress = f.Progress
		f.Progress.Begin("reading "+out.Name, "", out.Size)
	}
	if f.Digest {
		r.digest = newDigester()
	}
	f.mu.Lock()
	f.recorded = append(f.recorded, r)
	f.mu.Unlock()
	return out, nil
}

// waits refuses a pipe that has a name, where opening it would wait for who writes to
// it. What a shell makes of <(command) is written to already.
func (f *Files) waits(name, role string) error {
	info, err := os.Stat(name)
	if err != nil || info.Mode()&fs.ModeNamedPipe == 0 || role == imageRole && !f.Regular || strings.HasPrefix(name, "/dev/") ||
		strings.HasPrefix(name, "/proc/") {
		return nil
	}
	return errors.New("it is a pipe, a regular file is needed")
}

// imageRole is what images are read as.
const imageRole = "image"

// Embed records what was taken from the program itself in the place of a file.
func (f *Files) Embed(name, role string, text []byte) {
	sum := sha256.Sum256(text)
	f.mu.Lock()
	defer f.mu.Unlock()
	f.recorded = append(f.recorded, &Read{Name: name, Role: role, Size: int64(len(text)), Embedded: true, sum: sum[:]})
}

// wait reads from what may never give anything, until the context ends.
func (f *File) wait(b []byte) (int, error) {
	type result struct {
		n   int
		err error
	}
	const most = 64 << 10
	read := make([]byte, min(len(b), most))
	done := make(chan result, 1)
	go func() {
		n, err := f.in.Read(read)
		done <- result{n, err}
	}()
	select {
	case <-f.ctx.Done():
		return 0, f.ctx.Err()
	case r := <-done:
		return copy(b, read[:r.n]), r.err
	}
}

// Read reads from the file; errors but io.EOF are [SystemError].
func (f *File) Read(b []byte) (int, error) {
	if f.ended {
		return 0, io.EOF // a terminal would give more
	}
	read := f.in.Read
	if f.ctx != nil {
		if err := f.ctx.Err(); err != nil {
			return 0, err
		}
		if f.Size < 0 {
			read = f.wait
		}
	}
	n, err := read(b)
	f.read.Size += int64(n)
	f.progress.Add(int64(n))
	if f.read.digest != nil && n > 0 {
		f.read.digest.add(b[:n], f.Kept)
	}
	if err == io.EOF {
		f.ended = true
		if f.read.digest != nil {
			f.read.digest.end(true)
		}
	}
	if err != nil && err != io.EOF && !errors.Is(err, context.Canceled) {
		err = &SystemError{File: f.Name, Doing: "read", Err: err}
	}
	return n, err
}

// Recorded returns what is recorded of the file.
func (f *File) Recorded() *Read { return f.read }

// Close closes the file; standard input stays open.
func (f *File) Close() error {
	if f.read.digest != nil && !f.ended {
		f.read.digest.end(false)
	}
	if f.file == nil {
		return nil
	}
	return f.file.Close()
}

// ErrTooLarge says that a file is larger than what may be read of its kind.
var ErrTooLarge = errors.New("too large")

// ReadAll reads a whole file of up to most bytes.
func (f *Files) ReadAll(name, role string, most int64) ([]byte, error) {
	file, err := f.Open(name, role)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	var all bytes.Buffer
	all.Grow(int(min(max(file.Size, 0), most)) + bytes.MinRead) // which is not read into when the end comes
	_, err = all.ReadFrom(io.LimitReader(file, most+1))
	text := all.Bytes()
	if err == nil && int64(len(text)) > most {
		return nil, &Problem{File: file.Name, What: fmt.Sprintf("larger than the %d bytes that a %s may have", most, role)}
	}
	return text, err
}

// Recorded returns the files read so far, in the order in which they were
// opened.
func (f *Files) Recorded() []*Read {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]*Read{}, f.recorded...)
}

// TotalRead returns how many bytes were read of files in a role so far.
func (f *Files) TotalRead() uint64 {
	total := uint64(0)
	for _, r := range f.Recorded() {
		total += uint64(r.Size)
	}
	return total
}

// Find returns the file read that info is of, or nil.
func (f *Files) Find(info os.FileInfo) *Read {
	for _, r := range f.Recorded() {
		if r.info != nil && os.SameFile(r.info, info) {
			return r
		}
	}
	return nil
}

// sizeOf returns how much is left to read where that can be told, else -1.
func sizeOf(in io.Reader) int64 {
	f, ok := in.(*os.File)
	if !ok {
		return -1
	}
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return -1
	}
	at, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return -1
	}
	return info.Size() - at
}

// nearFile returns a file that is there and may have been meant.
func nearFile(name string, err error) string {
	if !errors.Is(err, fs.ErrNotExist) || strings.ContainsAny(name, patternSigns) {
		return ""
	}
	folder, base := filepath.Split(name)
	entries, err := os.ReadDir(filepath.Clean(folder))
	if err != nil {
		return ""
	}
	var there []string
	for _, e := range entries {
		there = append(there, e.Name())
	}
	if n := Nearest(base, there); n != "" {
		return filepath.Join(folder, n)
	}
	return ""
}

// Exists reports whether there is a file, folder or link of a name.
func Exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}
