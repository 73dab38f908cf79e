package render

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"mexalt/memory"
	"mexalt/source"
)

// Progress shows how far a work is, as a bar on a terminal's line, once it has
// taken half a second. What is written to it takes the bar's place.
type Progress struct {
	to   *Printer
	work *source.Progress

	mu      sync.Mutex
	shown   int // columns of the line that is shown; 0 is none
	stopped bool
	stop    chan bool
}

// patience is how long a work takes before its bar is shown.
const patience = 500 * time.Millisecond

// ShowProgress shows a work from now on, on a terminal. It takes the printer's
// writer over.
func ShowProgress(to *Printer, work *source.Progress) *Progress {
	p := &Progress{to: &Printer{W: to.W, Colour: to.Colour, Terminal: to.Terminal, Width: to.Width}, work: work, stop: make(chan bool)}
	if !to.Terminal || os.Getenv("TERM") == "dumb" {
		p.stopped = true
		return p
	}
	to.W = p
	go p.run()
	return p
}

func (p *Progress) run() {
	const often = 100 * time.Millisecond
	select {
	case <-p.stop:
		return
	case <-time.After(patience):
	}
	var phase *source.Phase
	var since time.Time
	for {
		if now := p.work.Phase(); now != phase {
			phase, since = now, time.Now()
			if now != nil && now.Done() > 0 {
				since = since.Add(-patience) // it began before it was looked at
			}
		}
		if phase != nil {
			p.show(phase, time.Since(since))
		}
		select {
		case <-p.stop:
			return
		case <-time.After(often):
		}
	}
}

func (p *Progress) show(phase *source.Phase, since time.Duration) {
	line := progressLine(phase, since, p.to.Width-1)
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.stopped {
		// Blanks, as not every console knows how to clear a line.
		columns := columnsOf(line)
		fmt.Fprintf(p.to.W, "\r%s%s", line, strings.Repeat(" ", max(p.shown-columns, 0)))
		p.shown = max(columns, 1)
	}
}

// progressLine tells of a phase: what, a bar, how much, the rate, the time left.
func progressLine(phase *source.Phase, since time.Duration, wide int) string {
	done, seconds := phase.Done(), since.Seconds()
	rate := float64(done) / max(seconds, 0.001)
	tell := func(n float64) string {
		if phase.Unit != "" {
			return memory.FormatCount(uint64(n)) + " " + phase.Unit
		}
		const kibi, mebi = 1 << 10, 1 << 20
		if n < mebi/10 {
			return fmt.Sprintf("%.1f KiB", n/kibi)
		}
		return fmt.Sprintf("%.1f MiB", n/mebi)
	}
	if phase.Total > 0 && done >= phase.Total {
		return fmt.Sprintf("%s: done; working on it for %.0f s", source.Visible(phase.What), seconds)
	}
	text := tell(float64(done))
	if phase.Total > 0 {
		text = fmt.Sprintf("%s %3d %%", Bar(uint64(min(done, phase.Total)), uint64(phase.Total)), min(100*done/phase.Total, 100))
	}
	text += ", " + tell(rate) + " a second"
	if left := float64(phase.Total - done); phase.Total > 0 && rate > 0 && left >= 0 {
		text += ", " + timeLeft(left/rate)
	}
	what := source.Visible(phase.What)
	const least = 8
	for room := wide - columnsOf(text) - 1; columnsOf(what) > max(room, least); {
		runes := []rune(what)
		what = string(runes[:len(runes)-2]) + "…"
	}
	return what + " " + text
}

func timeLeft(seconds float64) string {
	switch {
	case seconds < 1:
		return "nearly done"
	case seconds < 100:
		return fmt.Sprintf("%.0f s left", seconds)
	}
	return fmt.Sprintf("%d min left", int(seconds+59)/60)
}

// Write takes the bar away and writes.
func (p *Progress) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.clear()
	return p.to.W.Write(b)
}

// Stop takes the bar away for good. It may be called again.
func (p *Progress) Stop() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.stopped {
		p.stopped = true
		close(p.stop)
	}
	p.clear()
}

func (p *Progress) clear() {
	if p.shown > 0 {
		io.WriteString(p.to.W, "\r"+strings.Repeat(" ", p.shown)+"\r")
		p.shown = 0
	}
}
