package main

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/internal/golden"
)

// programSystem returns the system that the program is of: MEXALT_PROGRAM may name one of
// another system than the tests'.
var programSystem = sync.OnceValue(func() string {
	out, _ := exec.Command(program, "version").Output()
	m := regexp.MustCompile(`, (\w+)/\w+\)`).FindStringSubmatch(string(out))
	if m == nil {
		panic("no version: " + string(out))
	}
	return m[1]
})

// noise is what the layer says of itself that runs programs of another system.
var noise = regexp.MustCompile(`(?m)^wine client error:.*\n`)

// quiet returns what a program said without what the layer says of itself, which goes to
// the log: it may have broken the program off.
func (f folder) quiet(text string) string {
	if said := noise.FindString(text); said != "" {
		f.t.Log(said)
	}
	return noise.ReplaceAllString(text, "")
}

// differences are what a program of another system says that is not as the sessions have it,
// in testdata/differences: below the name of each session its commands, each with the reason
// before it.
type differences struct {
	file string
	mu   sync.Mutex
	list map[string][]command // by session
	used map[string]int
	ran  map[string]bool
	now  map[string][]command // as found, to be written
}

// unexplained stands for a reason that nobody has given yet.
const unexplained = "# why?\n"

// differencesOf reads the differences of the program's system; nil is that it is Linux.
func differencesOf(t *testing.T) *differences {
	t.Helper()
	if programSystem() == "linux" {
		return nil
	}
	d := &differences{
		file: filepath.Join("testdata", "differences", programSystem()+".txt"),
		list: map[string][]command{},
		used: map[string]int{},
		ran:  map[string]bool{},
		now:  map[string][]command{},
	}
	text, err := os.ReadFile(d.file)
	if err != nil && !*golden.Update {
		require.NoError(t, err)
	}
	for part := range strings.SplitSeq("\n"+string(text), "\n## ") {
		name, rest, _ := strings.Cut(part, "\n")
		if name != "" {
			d.list[name] = parseSession(strings.TrimSuffix(rest, "\n") + "\n")
		}
	}
	return d
}

// run says that a session is run.
func (d *differences) run(session string) {
	if d == nil {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ran[session] = true
	d.used[session] = 0
}

// expected returns what comes back of a command on the program's system: as the session says,
// or else as the next of the differences of that command does.
func (d *differences) expected(session string, c command) string {
	if d == nil {
		return c.out
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	list := d.list[session]
	for i := d.used[session]; i < len(list); i++ {
		if list[i].line == c.line {
			d.used[session] = i + 1
			return list[i].out
		}
	}
	return c.out
}

// found remembers the differences of a session, with the reasons given before.
func (d *differences) found(session string, want, got []command) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := range got {
		if got[i].out == want[i].out {
			continue
		}
		one := command{unexplained, got[i].line, got[i].out}
		if k := slices.IndexFunc(d.list[session], func(c command) bool { return c.line == one.line }); k >= 0 {
			one.remarks = d.list[session][k].remarks
		}
		d.now[session] = append(d.now[session], one)
	}
}

// finish proves that each difference has a reason and is still one, or writes what was found.
func (d *differences) finish(t *testing.T) {
	t.Helper()
	if d == nil {
		return
	}
	if !*golden.Update {
		for session, list := range d.list {
			if !d.ran[session] {
				continue
			}
			assert.Equal(t, len(list), d.used[session], "%s has differences of %s that are none any more", d.file, session)
			for _, c := range list {
				assert.NotEmpty(t, strings.Trim(c.remarks, "# why?\n"), "no reason: %s", c.line)
			}
		}
		return
	}
	var b strings.Builder
	for _, session := range slices.Sorted(maps.Keys(d.now)) {
		b.WriteString("## " + session + "\n" + sessionText(d.now[session]))
	}
	require.NoError(t, os.MkdirAll(filepath.Dir(d.file), 0o777))
	require.NoError(t, os.WriteFile(d.file, []byte(b.String()), 0o644))
}

// notOn skips a test of what a system, or the layer that runs its programs, does not have.
func notOn(t *testing.T, system, reason string) {
	t.Helper()
	if programSystem() == system {
		t.Skip("not on " + system + ": " + reason)
	}
}
