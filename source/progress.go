package source

import "sync/atomic"

// Progress is how far a long work is. Its methods may be called from anywhere, and
// do nothing on nil.
type Progress struct {
	phase atomic.Pointer[Phase]
}

// Phase is a part of a work of which is known how much it is.
type Phase struct {
	What  string // "reading app.hex"
	Unit  string // what is counted; "" is bytes
	Total int64  // 0 or below is not known
	done  atomic.Int64
}

// Done is how much of it is done.
func (p *Phase) Done() int64 { return p.done.Load() }

// Begin begins a phase, which is the work from now on.
func (p *Progress) Begin(what, unit string, total int64) {
	if p != nil {
		p.phase.Store(&Phase{What: what, Unit: unit, Total: total})
	}
}

// Add says that more of the phase is done.
func (p *Progress) Add(n int64) {
	if p == nil {
		return
	}
	if phase := p.phase.Load(); phase != nil {
		phase.done.Add(n)
	}
}

// Phase returns the work that is going on; nil is none yet.
func (p *Progress) Phase() *Phase { return p.phase.Load() }
