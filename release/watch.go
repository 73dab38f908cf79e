package release

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"mexalt/memory"
	"mexalt/source"
)

// Watched is what came of one run of a watch.
type Watched struct {
	Changed []string // files that changed since the run before; nil for the first
	Result  *Result  // nil where the release file could not be run, or units were made
	Units   *Units   // of a run with a table
	Before  *Result  // the last good one; nil for the first
	Files   *source.Files
	Err     error
	// Missing are files that are waited for; nothing was run then.
	Missing []string
}

// Watch runs a release file, and again whenever a file that it read has changed,
// until the context ends. Editors that put a new file in the old one's place,
// files that are written slowly and folders that vanish and come back are waited
// for. With a table of units, the units are made that are new in it; "" is none.
// tell is told of each run.
func Watch(ctx context.Context, name, units string, o Options, tell func(*Watched)) error {
	w, err := newWatcher(name)
	if err != nil {
		return err
	}
	defer w.notify.Close()
	var good *Result
	var changed []string
	for {
		files := &source.Files{Digest: true, Regular: true, Context: ctx}
		run := &Watched{Changed: changed, Before: good, Files: files}
		before := w.states() // of what was read so far: a change while it runs is one
		f, err := Load(files, name)
		switch run.Err = err; {
		case err != nil:
		case units != "":
			run.Units, run.Err = f.RunUnits(ctx, files, units, o)
		default:
			run.Result, run.Err = f.Run(ctx, files, o)
		}
		if ctx.Err() != nil {
			return nil
		}
		if run.Err == nil && run.Result != nil {
			good = run.Result
		}
		w.follow(files, before)
		tell(run)
		if changed, err = w.wait(ctx, tell); err != nil {
			return nil
		}
	}
}

// state tells whether a file is as it was.
type state struct {
	size int64
	time time.Time
	info os.FileInfo
}

func (s state) same(t state) bool {
	if s.info == nil || t.info == nil {
		return s.info == nil && t.info == nil
	}
	return s.size == t.size && s.time.Equal(t.time) && os.SameFile(s.info, t.info)
}

type watcher struct {
	notify  *fsnotify.Watcher
	names   []string
	last    map[string]state // when it was run last
	folders map[string]bool  // that are watched
}

func newWatcher(name string) (*watcher, error) {
	notify, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, &source.SystemError{File: name, Doing: "watch", Err: err}
	}
	return &watcher{notify: notify, names: []string{name}, folders: map[string]bool{}}, nil
}

func stateOf(name string) state {
	info, err := os.Stat(name)
	if err != nil || info.IsDir() {
		return state{}
	}
	return state{info.Size(), info.ModTime(), info}
}

func (w *watcher) states() map[string]state {
	all := map[string]state{}
	for _, name := range w.names {
		all[name] = stateOf(name)
	}
	return all
}

// follow watches what a run has read. Of files that were watched before, before
// says what they were when it began.
func (w *watcher) follow(files *source.Files, before map[string]state) {
	names := w.names[:1:1]
	known := map[string]bool{names[0]: true}
	for _, r := range files.Recorded() {
		if r.Name != source.StandardInput && !r.Embedded && !known[r.Name] {
			known[r.Name] = true
			names = append(names, r.Name)
		}
	}
	// What could not be read is waited for as well.
	for _, name := range w.names {
		if !known[name] && stateOf(name).info == nil {
			names = append(names, name)
		}
	}
	w.names, w.last = names, map[string]state{}
	for _, name := range names {
		known, ok := before[name]
		if !ok {
			known = stateOf(name)
		}
		w.last[name] = known
	}
	w.watchFolders()
}

// watchFolders watches the folders of all files, or what is left of their paths:
// who replaces a file changes its folder.
func (w *watcher) watchFolders() {
	for _, name := range w.names {
		folder := filepath.Dir(name)
		for folder != filepath.Dir(folder) {
			if info, err := os.Stat(folder); err == nil && info.IsDir() {
				break
			}
			folder = filepath.Dir(folder)
		}
		if !w.folders[folder] && w.notify.Add(folder) == nil {
			w.folders[folder] = true
		}
	}
}

const (
	quiet   = 25 * time.Millisecond // how long a file must stay as it is to be whole
	observe = time.Second           // how often files are looked at where no news of them comes
)

// wait waits until files have changed, are there, and are quiet. It returns
// which; the error is the context's.
func (w *watcher) wait(ctx context.Context, tell func(*Watched)) (changed []string, err error) {
	tick := time.NewTicker(observe)
	defer tick.Stop()
	told := ""
	for {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-w.notify.Events:
		case <-w.notify.Errors:
		case <-tick.C:
		}
		w.drop()
		for {
			now := w.states()
			if changed = w.changed(now); changed == nil {
				break
			}
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(quiet):
			}
			again := w.states()
			if !slices.EqualFunc(w.names, w.names, func(a, _ string) bool { return now[a].same(again[a]) }) {
				continue
			}
			missing := slices.DeleteFunc(slices.Clone(w.names), func(name string) bool { return again[name].info != nil })
			if len(missing) == 0 {
				return changed, nil
			}
			if text := strings.Join(missing, ", "); text != told {
				told = text
				tell(&Watched{Missing: missing})
			}
			break
		}
		w.watchFolders()
	}
}

// drop forgets folders that are no longer there: one of the same name must be
// watched anew.
func (w *watcher) drop() {
	for folder := range w.folders {
		if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			w.notify.Remove(folder)
			delete(w.folders, folder)
		}
	}
	listed := w.notify.WatchList()
	for folder := range w.folders {
		if !slices.Contains(listed, folder) {
			delete(w.folders, folder)
		}
	}
}

func (w *watcher) changed(now map[string]state) (list []string) {
	for _, name := range w.names {
		if !now[name].same(w.last[name]) {
			list = append(list, name)
		}
	}
	return list
}

// Text says of a run in one line what changed: the files, what the inputs use of
// each region, the declared checksums, the outputs.
func (w *Watched) Text() string {
	var parts []string
	for _, name := range w.Changed {
		parts = append(parts, name+" changed")
	}
	if u := w.Units; u != nil {
		parts = append(parts,
			fmt.Sprintf("units made %s, before %s", memory.FormatCount(uint64(u.Made)), memory.FormatCount(uint64(u.Before))))
		return strings.Join(parts, "; ")
	}
	for i, p := range w.Result.Products {
		var before *Product
		if w.Before != nil && len(w.Before.Products) == len(w.Result.Products) {
			before = w.Before.Products[i]
		}
		prefix := ""
		if p.Variant != "" {
			prefix = p.Variant + ": "
		}
		for _, text := range productText(p, before) {
			parts = append(parts, prefix+text)
		}
	}
	return strings.Join(parts, "; ")
}

func productText(p, before *Product) (parts []string) {
	if p.Map != nil {
		old := map[string]uint64{}
		if before != nil {
			for _, u := range before.uses {
				if u.Region != nil {
					old[u.Region.Name] = u.Used
				}
			}
		}
		for _, u := range p.uses {
			if u.Region == nil || u.Used == 0 || before != nil && old[u.Region.Name] == u.Used {
				continue
			}
			size := memory.FormatCount(u.Used)
			if before != nil {
				size = memory.FormatCount(old[u.Region.Name]) + " → " + size
			}
			free := "full"
			if n := u.Region.Span.Size() - min(u.Used, u.Region.Span.Size()); n > 0 {
				free = memory.FormatCount(n) + " free"
			}
			parts = append(parts, fmt.Sprintf("%s %s, %s", u.Region.Name, size, free))
		}
	}
	for _, c := range p.Checksums {
		parts = append(parts, c.Name+" "+c.Value)
	}
	var written []string
	for _, o := range p.Outputs {
		if !o.Same {
			written = append(written, o.File)
		}
	}
	return append(parts, cmp.Or(strings.Join(written, ", "), "all outputs as they were"))
}
