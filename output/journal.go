package output

import (
	"bufio"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/gofrs/flock"

	"mexalt/source"
)

// Journal makes a run that writes several files one that can be finished: no
// file system renames several files at once, and a run that is killed between two
// of them leaves some files new and some old. Before the first is renamed, the
// journal says which are to be; the next run with it does what was left.
//
// It also names what the run calls its unfinished files, so that those of a run that
// was killed can be told from all others and taken away, and keeps two runs from
// writing the same files at once.
type Journal struct {
	path string
	file *os.File
	lock *flock.Flock // of a file beside it

	mu      sync.Mutex
	token   string // in the names of the run's unfinished files
	folders map[string]bool
}

// ErrBusy says that another run has the journal.
var ErrBusy = errors.New("another run is writing these outputs; wait for it to end")

// entry is a line of a journal: a file that was written, and its place; or that all
// were put there; or the token of unfinished files; or a folder in which such are. All
// are named from the journal's folder.
type entry struct {
	From   string `json:"from,omitempty"`
	To     string `json:"to,omitempty"`
	Done   bool   `json:"done,omitempty"`
	Token  string `json:"token,omitempty"`
	Folder string `json:"folder,omitempty"`
}

// endOfJournal is where the last of the moves leads: those before it are all.
const endOfJournal = "/"

// newToken returns a name for the unfinished files of one run, which no file has that
// is not one of them.
func newToken() string {
	var b [8]byte
	rand.Read(b[:]) // never fails
	return "mexalt-" + hex.EncodeToString(b[:])
}

// OpenJournal opens a journal, and finishes what a run that was killed left
// undone; finished tells how many files that were. [Journal.Close] takes it away.
func OpenJournal(path string) (j *Journal, finished int, err error) {
	fail := func(err error) (*Journal, int, error) {
		return nil, 0, &source.SystemError{File: path, Doing: "write", Err: err}
	}
	if folder := filepath.Dir(path); !isFolder(folder) { // the journal is nothing that people know of
		return nil, 0, &source.SystemError{File: folder, Doing: "write to", Err: errors.New("no such folder; make it first")}
	}
	lock, err := lockOf(path)
	if err != nil {
		return fail(err)
	}
	file, err := openJournal(path)
	if err != nil {
		release(lock)
		return fail(err)
	}
	j = &Journal{path: path, file: file, lock: lock, token: newToken(), folders: map[string]bool{}}
	if finished, err = j.finish(); err == nil {
		err = j.begin()
	}
	if err != nil {
		file.Close()
		release(lock)
		return fail(err)
	}
	pending.Lock()
	defer pending.Unlock()
	pending.journals[j] = true
	return j, finished, nil
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// FinishJournal finishes what a run that was killed left undone, where there is a
// journal of it, and takes that away.
func FinishJournal(path string) (finished int, err error) {
	if info, err := os.Lstat(path); err != nil || !info.Mode().IsRegular() {
		return 0, nil
	}
	j, finished, err := OpenJournal(path)
	if err != nil {
		return finished, err
	}
	return finished, j.Close()
}

// LockExtension ends the name of the file by which a journal is one run's alone. It is a
// file of its own: some systems let nobody write what is locked, not even who locked it.
const LockExtension = ".lock"

// lockOf locks a journal for this run alone. The run that has the lock takes its file away
// when it ends: what was opened before that is no lock any more.
func lockOf(path string) (*flock.Flock, error) {
	for {
		lock := flock.New(path+LockExtension, flock.SetPermissions(0o666))
		got, err := lock.TryLock()
		if err == nil && !got {
			err = ErrBusy
		}
		if err != nil {
			lock.Close()
			return nil, err
		}
		mine, err := lock.Stat()
		if there, errThere := os.Stat(lock.Path()); err == nil && errThere == nil && os.SameFile(mine, there) {
			return lock, nil
		}
		lock.Close()
	}
}

// release takes a lock's file away, and lets another run have the journal.
func release(lock *flock.Flock) error {
	os.Remove(lock.Path())
	err := lock.Close()
	if runtime.GOOS == "windows" { // where a file that is open stays
		os.Remove(lock.Path())
	}
	return err
}

func openJournal(path string) (*os.File, error) {
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() {
		return nil, errors.New("it is not a regular file; move it away")
	}
	return os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o666)
}

// finish renames what the journal says and is still there, and takes away what else
// the run left that wrote it.
func (j *Journal) finish() (finished int, err error) {
	var moves []entry
	var tokens, folders []string
	lines := bufio.NewReader(j.file)
	for {
		text, err := lines.ReadBytes('\n')
		if err == io.EOF {
			break // a line that was cut off was written before anything was renamed
		}
		if err != nil {
			return 0, err
		}
		var e entry
		switch err := json.Unmarshal(text, &e); {
		case err != nil:
			return 0, fmt.Errorf("it is not a journal of unfinished outputs; move it away")
		case e.Token != "":
			tokens = append(tokens, e.Token)
		case e.Folder != "":
			folders = append(folders, e.Folder)
		case e.Done:
			moves = nil
		case e.From != "" || e.To == endOfJournal:
			moves = append(moves, e)
		default:
			return 0, fmt.Errorf("it is not a journal of unfinished outputs; move it away")
		}
	}
	folder := filepath.Dir(j.path)
	for _, e := range moves {
		if e.From != "" && (!filepath.IsLocal(e.From) || !filepath.IsLocal(e.To)) {
			return finished, fmt.Errorf("it names a file outside its folder; move it away")
		}
	}
	if n := len(moves); n > 0 && moves[n-1].To == endOfJournal {
		for _, e := range moves[:n-1] {
			err := os.Rename(filepath.Join(folder, e.From), filepath.Join(folder, e.To))
			switch {
			case err == nil:
				finished++
			case !errors.Is(err, os.ErrNotExist):
				return finished, err
			}
		}
	}
	for _, name := range folders {
		if filepath.IsLocal(name) {
			removeUnfinished(filepath.Join(folder, name), tokens)
		}
	}
	return finished, nil
}

// removeUnfinished takes away what runs with these tokens left in a folder.
func removeUnfinished(folder string, tokens []string) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	for _, e := range entries {
		if e.Type().IsRegular() && slices.ContainsFunc(tokens, func(token string) bool { return unfinished(e.Name(), token) }) {
			os.Remove(filepath.Join(folder, e.Name()))
		}
	}
}

// unfinished reports whether a name is that of an unfinished file of the run with a token.
func unfinished(name, token string) bool {
	_, rest, found := strings.Cut(name, "."+token)
	return found && len(token) > len("mexalt-") && strings.HasPrefix(name, ".") &&
		strings.Trim(strings.TrimSuffix(rest, oldExtension), "0123456789") == ""
}

// begin writes what the run calls its unfinished files.
func (j *Journal) begin() error {
	if err := j.file.Truncate(0); err != nil {
		return err
	}
	if _, err := j.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	list := []entry{{Token: j.token}}
	for folder := range j.folders {
		list = append(list, entry{Folder: folder})
	}
	return j.add(list...)
}

func (j *Journal) add(list ...entry) error {
	var text []byte
	for _, e := range list {
		line, err := json.Marshal(e)
		if err != nil {
			return err
		}
		text = append(append(text, line...), '\n')
	}
	_, err := j.file.Write(text)
	return err
}

// inside names a path from the journal's folder, wherever links lead.
func (j *Journal) inside(path string) (name string, ok bool) {
	real := func(path string) (string, error) {
		path, err := filepath.Abs(path)
		if err != nil {
			return "", err
		}
		return filepath.EvalSymlinks(path)
	}
	folder, err := real(filepath.Dir(j.path))
	if err != nil {
		return "", false
	}
	at, err := real(filepath.Dir(path))
	if err != nil {
		return "", false
	}
	name, err = filepath.Rel(folder, filepath.Join(at, filepath.Base(path)))
	return name, err == nil && filepath.IsLocal(name)
}

// enter says that unfinished files will be in the folder of a path.
func (j *Journal) enter(path string) error {
	if j == nil {
		return nil
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	folder := filepath.Dir(path)
	if j.folders[folder] {
		return nil
	}
	name, ok := j.inside(filepath.Join(folder, "x"))
	if !ok {
		return nil // of a folder elsewhere, which this journal does not finish
	}
	j.folders[folder] = true
	return j.add(entry{Folder: filepath.Dir(name)})
}

// write says which files are about to be renamed.
func (j *Journal) write(files []pendingFile, to []place) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var list []entry
	for i, f := range files {
		from, ok := j.inside(f.Name())
		target, okTarget := j.inside(to[i].path)
		if ok && okTarget { // else of a folder elsewhere, which this journal does not finish
			list = append(list, entry{From: from, To: target})
		}
	}
	if err := j.add(append(list, entry{To: endOfJournal})...); err != nil {
		return err
	}
	return j.file.Sync()
}

// renamed says that all was renamed.
func (j *Journal) renamed() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.add(entry{Done: true})
}

// Close takes the journal away.
func (j *Journal) Close() error {
	pending.Lock()
	defer pending.Unlock()
	delete(pending.journals, j)
	err := j.file.Close()
	os.Remove(j.path)
	return errors.Join(err, release(j.lock))
}

// oldExtension ends the second name of a file that is about to be replaced.
const oldExtension = ".old"
