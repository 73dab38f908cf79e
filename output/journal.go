package output

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"mexalt/source"
)

// Journal makes a run that writes several files one that can be finished: no
// file system renames several files at once, and a run that is killed between two
// of them leaves some files new and some old. Before the first is renamed, the
// journal says which are to be; the next run with it does what was left. It also
// keeps two runs from writing the same files at once, so that what an unfinished
// run left beside its outputs can be told and taken away.
type Journal struct {
	path string
	file *os.File
}

// ErrBusy says that another run has the journal.
var ErrBusy = errors.New("another run is writing these outputs; wait for it to end")

// moved is a line of a journal: a file that was written, and its place, both from
// the journal's folder.
type moved struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// OpenJournal opens a journal, and finishes what a run that was killed left
// undone; finished tells how many files that were. [Journal.Close] takes it away.
func OpenJournal(path string) (j *Journal, finished int, err error) {
	fail := func(err error) (*Journal, int, error) {
		return nil, 0, &source.SystemError{File: path, Doing: "write", Err: err}
	}
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o666)
	if err != nil {
		return fail(err)
	}
	if err := lock(file); err != nil {
		file.Close()
		return fail(err)
	}
	j = &Journal{path, file}
	if finished, err = j.finish(); err != nil {
		file.Close()
		return fail(err)
	}
	cleanUpOnSignal()
	pending.Lock()
	defer pending.Unlock()
	pending.journals[j] = true
	return j, finished, nil
}

// finish renames what the journal says and is still there.
func (j *Journal) finish() (finished int, err error) {
	var list []moved
	lines := bufio.NewReader(j.file)
	for {
		text, err := lines.ReadBytes('\n')
		if err == io.EOF {
			break // a line that was cut off was written before anything was renamed
		}
		if err != nil {
			return 0, err
		}
		var m moved
		if err := json.Unmarshal(text, &m); err != nil || m.From == "" && m.To != endOfJournal {
			return 0, fmt.Errorf("it is no journal of unfinished outputs; move it away")
		}
		list = append(list, m)
	}
	if n := len(list); n == 0 || list[n-1].To != endOfJournal {
		return 0, j.clear() // not whole, so that nothing was renamed yet
	}
	folder := filepath.Dir(j.path)
	for _, m := range list[:len(list)-1] {
		if !filepath.IsLocal(m.From) || !filepath.IsLocal(m.To) {
			return finished, fmt.Errorf("it names a file outside its folder; move it away")
		}
		err := os.Rename(filepath.Join(folder, m.From), filepath.Join(folder, m.To))
		switch {
		case err == nil:
			finished++
		case !errors.Is(err, os.ErrNotExist):
			return finished, err
		}
	}
	return finished, j.clear()
}

// endOfJournal is where the last line of a whole journal leads.
const endOfJournal = "/"

// write says which files are about to be renamed.
func (j *Journal) write(files []*pendingFile, to []place) error {
	folder := filepath.Dir(j.path)
	var text []byte
	add := func(m moved) error {
		line, err := json.Marshal(m)
		text = append(append(text, line...), '\n')
		return err
	}
	for i, f := range files {
		from, err := filepath.Rel(folder, f.Name())
		if err != nil {
			return err
		}
		target, err := filepath.Rel(folder, to[i].path)
		if err != nil {
			return err
		}
		if !filepath.IsLocal(from) || !filepath.IsLocal(target) {
			continue // of a folder elsewhere, which this journal does not finish
		}
		if err := add(moved{from, target}); err != nil {
			return err
		}
	}
	if err := add(moved{To: endOfJournal}); err != nil {
		return err
	}
	if _, err := j.file.WriteAt(text, 0); err != nil {
		return err
	}
	return j.file.Sync()
}

// clear empties the journal.
func (j *Journal) clear() error {
	if err := j.file.Truncate(0); err != nil {
		return err
	}
	_, err := j.file.Seek(0, io.SeekStart)
	return err
}

// Close takes the journal away.
func (j *Journal) Close() error {
	pending.Lock()
	defer pending.Unlock()
	delete(pending.journals, j)
	os.Remove(j.path)
	return j.file.Close()
}

// CleanUp takes away what a run that was killed left beside its outputs. Only who
// holds their journal may ask for it.
func CleanUp(names []string) {
	byFolder := map[string]map[string]bool{}
	for _, name := range names {
		folder := filepath.Dir(name)
		if byFolder[folder] == nil {
			byFolder[folder] = map[string]bool{}
		}
		byFolder[folder][filepath.Base(name)] = true
	}
	for folder, bases := range byFolder {
		entries, err := os.ReadDir(folder)
		if err != nil {
			continue
		}
		for _, e := range entries {
			rest, hidden := strings.CutPrefix(e.Name(), ".")
			base := strings.TrimRight(strings.TrimSuffix(rest, oldExtension), "0123456789")
			// A base that ends in digits itself is cut too short; what is left of
			// the name must then be digits.
			if !hidden || !e.Type().IsRegular() || base == rest {
				continue
			}
			for n := len(base); n < len(rest); n++ {
				if bases[rest[:n]] {
					os.Remove(filepath.Join(folder, e.Name()))
					break
				}
			}
		}
	}
}

// oldExtension ends the second name of a file that is about to be replaced.
const oldExtension = ".old"
