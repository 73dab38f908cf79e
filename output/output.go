// Package output writes files whole: each is written beside where it belongs,
// and put there when it is complete; several appear together or not at all.
// Nothing that was read is ever written over, and an old file stays as it was
// until the new one is whole.
package output

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"mexalt/source"
)

// File is a file to write.
type File struct {
	Name  string
	Write func(io.Writer) error
	// Keep leaves a file alone that is the same already, with its time.
	Keep bool
	// Sum asks for a digest.
	Sum bool
	// Private lets nobody but its owner read the file, from the beginning.
	Private bool
	// Later leaves it to [Sync] to see that the file has reached the disk, where the system
	// can be asked for that.
	Later bool
}

// Written is what became of a file.
type Written struct {
	Name     string
	Replaced bool // there was one before
	// Same is whether the file that was there is the same, and was left alone.
	Same   bool
	Size   int64
	SHA256 [sha256.Size]byte // where it was asked for
}

// pendingFile is a file that is written beside where it belongs, and put there
// whole.
type pendingFile interface {
	io.Writer
	Name() string
	Sync() error
	Close() error
}

// system is what files are asked for. Tests let each of it fail.
var system = struct {
	create       func(name, token string, like os.FileInfo, private bool) (pendingFile, error)
	rename, link func(from, to string) error
	sync         func(folder string) error // see [Sync]
}{newPendingFile, rename, os.Link, Sync}

// ownToken is in the names of unfinished files that no journal tells of.
var ownToken = sync.OnceValue(newToken)

// place is where a file belongs.
type place struct {
	file    File
	path    string      // behind links
	info    os.FileInfo // of the file that is there; nil where none is
	through bool        // a device or a pipe, which has nothing that could be torn
}

// Write writes all files beside where they belong, and only when all are
// written whole puts them in their places, together or not at all. read are
// the files that must not be written over; an output that is one of them is a
// [source.KeyError], as are two outputs that are one file. What the system
// does not allow is a [source.SystemError].
func Write(read *source.Files, files []File) ([]Written, error) { return WriteWith(nil, read, files) }

// WriteWith writes files as [Write] does, with a journal; nil is none.
func WriteWith(j *Journal, read *source.Files, files []File) ([]Written, error) {
	return WriteThen(j, read, files, nil)
}

// mostSyncing is how many files wait for the disk at once.
const mostSyncing = 16

// manyFiles is from how many files on they are synced at once, where the system can: one by one
// that takes longer than all the rest. Fewer are not, as all that others have on the disk would be
// waited for. Tests make do with fewer.
var manyFiles = 1000

// WriteThen writes files as [WriteWith] does, and then those that tell of the
// others, once it is known what became of them; nil is none. Asked before that, last
// returns their names alone.
func WriteThen(j *Journal, read *source.Files, files []File, last func([]Written) []File) ([]Written, error) {
	return write(j, read, files, last)
}

// Prepared are files that are written whole beside their places, in a run whose journal takes
// away what is unfinished.
type Prepared struct {
	places []place
	made   []pendingOutput
}

// Prepare writes files beside their places, where nobody sees them yet. What it returns is
// committed or discarded.
func Prepare(j *Journal, read *source.Files, files []File) (*Prepared, error) {
	places, err := placesOf(read, files)
	if err != nil {
		return nil, err
	}
	p := &Prepared{places, writeBeside(j, read, places)}
	for i := range p.made {
		p.places[i].file.Write = nil // with all that it keeps
	}
	for i := range p.made {
		if err := p.made[i].err; err != nil {
			p.Discard()
			return nil, err
		}
	}
	return p, nil
}

// Written says what became of the files so far.
func (p *Prepared) Written() (list []Written) {
	for i := range p.made {
		list = append(list, p.made[i].written)
	}
	return list
}

// Commit puts the files in their places, together or not at all. It does not say in the journal
// what is renamed: what tells of the files does that.
func (p *Prepared) Commit() error {
	kept, to := pendingOf(p.made, p.places)
	err := pending.replaceAll(kept, to, nil)
	p.Discard()
	return err
}

// Discard takes away what is in no place.
func (p *Prepared) Discard() { removeAll(p.made) }

// removeAll takes away files that were not put in their places.
func removeAll(made []pendingOutput) {
	for i := range made {
		if f := made[i].file; f != nil {
			pending.remove(f)
		}
	}
}

// pendingOf returns the files that are to be put in places, and these.
func pendingOf(made []pendingOutput, places []place) (kept []pendingFile, to []place) {
	for i := range made {
		if made[i].file != nil {
			kept, to = append(kept, made[i].file), append(to, places[i])
		}
	}
	return kept, to
}

func write(j *Journal, read *source.Files, files []File, last func([]Written) []File) ([]Written, error) {
	first := len(files)
	if last != nil {
		files = append(slices.Clip(files), last(nil)...)
	}
	places, err := placesOf(read, files)
	if err != nil {
		return nil, err
	}
	made := append(writeBeside(j, read, places[:first]), make([]pendingOutput, len(places)-first)...)
	defer func() { removeAll(made) }()
	if last != nil && !slices.ContainsFunc(made, func(o pendingOutput) bool { return o.err != nil }) {
		others := make([]Written, first)
		for i := range others {
			others[i] = made[i].written
		}
		for i, file := range last(others) {
			places[first+i].file = file
			made[first+i].write(read, places[first+i], j)
			made[first+i].finish(places[first+i], true)
		}
	}
	written := make([]Written, len(made))
	for i := range made {
		if err := made[i].err; err != nil {
			return nil, err
		}
		written[i] = made[i].written
	}
	kept, to := pendingOf(made, places)
	return written, pending.replaceAll(kept, to, j)
}

// writeBeside writes files beside their places, side by side, as digests take longer than the
// disk.
func writeBeside(j *Journal, read *source.Files, places []place) []pendingOutput {
	made := make([]pendingOutput, len(places))
	together := syncsTogether && len(places) >= manyFiles
	var wait sync.WaitGroup
	var failed atomic.Bool // the rest need not be tried
	slots := make(chan bool, runtime.GOMAXPROCS(0))
	disk := make(chan bool, mostSyncing)
	for i, p := range places {
		slots <- true
		wait.Go(func() {
			if !failed.Load() {
				made[i].write(read, p, j)
			}
			disk <- true
			<-slots // the disk's time is not a processor's
			made[i].finish(p, !together && !(p.file.Later && syncsTogether))
			<-disk
			if made[i].err != nil {
				failed.Store(true)
			}
		})
	}
	wait.Wait()
	if together && !failed.Load() {
		syncFolders(made, places)
	}
	return made
}

// syncFolders waits until files have reached the disk, with all else on their file systems, but for
// those that are left to [Sync].
func syncFolders(made []pendingOutput, places []place) {
	synced := map[string]bool{}
	for i, p := range places {
		folder := filepath.Dir(p.path)
		if made[i].file == nil || p.file.Later || synced[folder] {
			continue
		}
		if err := system.sync(folder); err != nil {
			made[i].err = writeError(p, err)
			return
		}
		synced[folder] = true
	}
}

// pendingOutput is one file that is being made.
type pendingOutput struct {
	file    pendingFile // nil where nothing is to be put in a place
	written Written
	err     error
}

// write writes a file beside its place.
func (o *pendingOutput) write(read *source.Files, p place, j *Journal) {
	o.written = Written{Name: p.file.Name, Replaced: p.info != nil}
	if p.through {
		if err := writeThrough(read, p, &o.written); err != nil {
			o.err = &source.SystemError{File: p.file.Name, Doing: "write", Err: err}
		}
		return
	}
	f, err := pending.create(p, j, p.file.Private)
	if err != nil {
		o.err = writeError(p, err)
		return
	}
	o.file = f
	if err := fill(read, f, p.file, &o.written); err != nil {
		o.err = writeError(p, err)
	}
}

// finish closes a file, so that any number of them take no file handles, and syncs it first where it
// is to; one that is as it was is not kept.
func (o *pendingOutput) finish(p place, sync bool) {
	if o.file == nil || o.err != nil {
		return
	}
	if o.written.Same = p.file.Keep && p.info != nil && !(p.file.Private && readByOthers(p.info)) && p.info.Size() == o.written.Size &&
		sameContents(p.path, o.file.Name()); o.written.Same {
		pending.remove(o.file)
		o.file = nil
		return
	}
	if sync {
		if err := o.file.Sync(); err != nil {
			o.err = writeError(p, err)
			return
		}
	}
	if err := o.file.Close(); err != nil {
		o.err = writeError(p, err)
	}
}

// Check tells what keeps files from being written, without writing any.
func Check(read *source.Files, files []File) error {
	_, err := placesOf(read, files)
	return err
}

// placesOf finds where files belong.
func placesOf(read *source.Files, files []File) ([]place, error) {
	var places []place
	t := taken{byPath: map[string]string{}, byIdentity: map[[2]uint64]string{}}
	in := folders{}
	for _, file := range files {
		p, err := placeOf(read, file, in)
		if err != nil {
			return nil, err
		}
		if other, twice := t.take(p, in.of(p.path)); twice && !p.through {
			alike := ""
			if other != file.Name && strings.EqualFold(other, file.Name) {
				alike = " where upper and lower case are the same"
			}
			return nil, source.Keyf("", "the outputs %s and %s are one file%s", other, file.Name, alike)
		}
		places = append(places, p)
	}
	return places, nil
}

// placeOf finds where a file belongs, and what keeps it from there.
func placeOf(read *source.Files, file File, folders folders) (p place, err error) {
	p.file = file
	fail := func(err error) error { return &source.SystemError{File: file.Name, Doing: "write", Err: err} }
	if fault := NameFault(file.Name); fault != "" {
		return p, source.Keyf("", "the output name %s %s; choose another name", file.Name, fault)
	}
	p.path = file.Name
	info, err := os.Lstat(file.Name)
	if err == nil && !info.Mode().IsRegular() {
		if info, err := os.Stat(file.Name); err == nil && !info.IsDir() && !info.Mode().IsRegular() {
			p.through = true // what a link of the system's own leads to may have no path, as /dev/stdout
			return p, nil
		}
		if p.path, err = resolve(file.Name); err != nil {
			return p, fail(err)
		}
		info, err = os.Stat(p.path)
	}
	switch {
	case err == nil && info.IsDir():
		return p, fail(errors.New("it is a folder"))
	case err == nil:
		if r := read.Find(info); r != nil {
			return p, source.Keyf("", "the output %s is also an input (the %s); choose another output file", file.Name, r.Role)
		}
		if info.Mode().Perm()&0o222 == 0 {
			return p, fail(errors.New("it is read-only"))
		}
		p.info = info
	}
	if err := folders.of(p.path).err; err != nil {
		return p, fail(err)
	}
	return p, nil
}

// folders are the folders of a run's outputs, by their names there.
type folders map[string]folder

// folder is where outputs are.
type folder struct {
	path string // absolute, behind links
	err  error  // what keeps files from there
}

// of returns the folder that a file is in.
func (f folders) of(file string) folder {
	name := filepath.Dir(file)
	in, known := f[name]
	if known {
		return in
	}
	info, err := os.Stat(name)
	switch {
	case err != nil:
		in.err = err
	case !info.IsDir():
		in.err = syscall.ENOTDIR
	}
	in.path = name
	if absolute, err := filepath.Abs(name); err == nil {
		in.path = absolute
	}
	if behind, err := filepath.EvalSymlinks(in.path); err == nil {
		in.path = behind
	}
	f[name] = in
	return in
}

// taken are the places that other files of a run have, with their names.
type taken struct {
	byPath     map[string]string // where upper and lower case are the same
	byIdentity map[[2]uint64]string
}

// take takes a place in a folder, and reports whether another file has it, perhaps by a hard link.
func (t taken) take(p place, in folder) (other string, twice bool) {
	path := folded(filepath.Join(in.path, filepath.Base(p.path)))
	other, twice = t.byPath[path]
	if id, ok := identity(p.path, p.info); ok {
		if name, known := t.byIdentity[id]; known {
			other, twice = name, true
		}
		t.byIdentity[id] = p.file.Name
	}
	t.byPath[path] = p.file.Name
	return other, twice
}

// buffers are used again: an output may be one of ten thousand small ones.
var buffers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, 1<<16) }}

// fill writes a file.
func fill(read *source.Files, f io.Writer, file File, w *Written) error {
	counted := &counter{w: f, ctx: read.Context}
	if file.Sum {
		counted.sum = sha256.New()
	}
	buffered := buffers.Get().(*bufio.Writer)
	buffered.Reset(counted)
	defer func() {
		buffered.Reset(nil)
		buffers.Put(buffered)
	}()
	if err := file.Write(buffered); err != nil {
		return err
	}
	if err := buffered.Flush(); err != nil {
		return err
	}
	if w.Size = counted.n; file.Sum {
		counted.sum.Sum(w.SHA256[:0])
	}
	return nil
}

// counter counts what is written, and sums it up.
type counter struct {
	ctx context.Context // ends writing; nil is never
	w   io.Writer
	n   int64
	sum hash.Hash // nil is none
}

func (c *counter) Write(b []byte) (int, error) {
	if c.ctx != nil && c.ctx.Err() != nil {
		return 0, c.ctx.Err()
	}
	n, err := c.w.Write(b)
	c.n += int64(n)
	if c.sum != nil {
		c.sum.Write(b[:n])
	}
	return n, err
}

// sameContents reports whether two files hold the same; of files that cannot be
// read it is not known.
func sameContents(a, b string) bool {
	f, err := os.Open(a)
	if err != nil {
		return false
	}
	defer f.Close()
	g, err := os.Open(b)
	if err != nil {
		return false
	}
	defer g.Close()
	x, y := make([]byte, 64<<10), make([]byte, 64<<10)
	for {
		n, errX := io.ReadFull(f, x)
		m, errY := io.ReadFull(g, y)
		if n != m || !bytes.Equal(x[:n], y[:m]) {
			return false
		}
		if errX != nil || errY != nil {
			ended := func(err error) bool { return err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) }
			return ended(errX) && ended(errY)
		}
	}
}

// writeError adds to the system's answer that nothing was lost.
func writeError(p place, err error) error {
	err = &source.SystemError{File: p.file.Name, Doing: "write", Err: err}
	if p.info != nil {
		return fmt.Errorf("%w; the file is unchanged", err)
	}
	return err
}

func writeThrough(read *source.Files, p place, w *Written) error {
	f, err := os.OpenFile(p.path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	if err := fill(read, f, p.file, w); err != nil {
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
	files    map[pendingFile]bool
	journals map[*Journal]bool
}

var pending = pendingFiles{files: map[pendingFile]bool{}, journals: map[*Journal]bool{}}

func (p *pendingFiles) create(at place, j *Journal, private bool) (pendingFile, error) {
	if err := j.enter(at.path); err != nil {
		return nil, err
	}
	token := ""
	if j != nil {
		token = j.token
	} else {
		token = ownToken()
	}
	p.Lock()
	defer p.Unlock()
	f, err := system.create(at.path, token, at.info, private)
	if err == nil {
		p.files[f] = true
	}
	return f, err
}

// remove takes a file away that was not put in its place.
func (p *pendingFiles) remove(f pendingFile) {
	p.Lock()
	defer p.Unlock()
	if p.files[f] {
		f.Close()
		remove(f.Name())
		delete(p.files, f)
	}
}

// replaceAll puts the files in their places. Where one fails, those already
// in place are taken back: each old file was kept under a second name.
func (p *pendingFiles) replaceAll(files []pendingFile, to []place, j *Journal) error {
	p.Lock()
	defer p.Unlock()
	kept := make([]string, len(files))
	defer func() {
		for _, k := range kept {
			if k != "" {
				remove(k)
			}
		}
	}()
	for i := range to {
		if to[i].info != nil {
			if err := replaceable(to[i].path); err != nil {
				return writeError(to[i], err)
			}
		}
	}
	if len(files) > 1 {
		for i := range to {
			if to[i].info != nil {
				k := files[i].Name() + oldExtension
				if err := system.link(to[i].path, k); err != nil {
					return &source.SystemError{File: to[i].file.Name, Doing: "write", Err: err}
				}
				kept[i] = k
			}
		}
	}
	if j != nil && len(files) > 1 {
		if err := j.write(files, to); err != nil {
			return &source.SystemError{File: j.path, Doing: "write", Err: err}
		}
		defer j.renamed()
	}
	for i, f := range files {
		if err := system.rename(f.Name(), to[i].path); err != nil {
			for j := range i {
				if kept[j] != "" {
					rename(kept[j], to[j].path)
					kept[j] = ""
				} else {
					remove(to[j].path)
				}
			}
			return writeError(to[i], err)
		}
		delete(p.files, f)
	}
	return nil
}

// Abandon takes all unfinished files away, for a run that is ended at once. Who is about to
// write then waits for ever, so that no new one appears. Where a file cannot be taken away,
// the journal stays, by which the next run does so.
func Abandon() {
	pending.Lock()
	const patience = time.Second // of all together
	end, left := time.Now().Add(patience), false
	for f := range pending.files {
		f.Close()
		left = !removedBy(f.Name(), end) || left
	}
	for j := range pending.journals { // nothing is half renamed while pending is held
		j.file.Close()
		if !left {
			os.Remove(j.path)
		}
		release(j.lock)
	}
}

// removedBy removes a file, and reports whether it is away. Some systems do not remove one that
// is just being synced, so that it is tried again until a time.
func removedBy(name string, end time.Time) bool {
	const pause = 5 * time.Millisecond
	for {
		err := os.Remove(name)
		switch {
		case err == nil || errors.Is(err, fs.ErrNotExist):
			return true
		case time.Now().After(end):
			return false
		}
		time.Sleep(pause)
	}
}
