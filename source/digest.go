package source

import (
	"crypto/sha256"
	"sync"
)

// mostQueued is how many bytes that the reader may use again wait, copied, for
// a digest that is slower than the reading.
const mostQueued = 8 << 20

// digester makes a SHA-256 beside the reading: it takes as long as decoding a
// file, so that one after the other would cost twice the time.
type digester struct {
	mu     sync.Mutex
	turned sync.Cond // a chunk came, went, or was the last
	chunks []digested
	free   [][]byte // copies that were gone through
	queued int      // bytes of chunks that wait
	ended  bool
	whole  bool
	sum    []byte
	done   chan struct{}
}

// digested is bytes that wait for the digest; copied says that they are its own.
type digested struct {
	data   []byte
	copied bool
}

func newDigester() *digester {
	d := &digester{done: make(chan struct{})}
	d.turned.L = &d.mu
	go d.run()
	return d
}

// add takes more bytes; kept says that they stay as they are.
func (d *digester) add(b []byte, kept bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !kept {
		for d.queued > mostQueued {
			d.turned.Wait()
		}
		var copied []byte
		if last := len(d.free) - 1; last >= 0 {
			copied, d.free = d.free[last][:0], d.free[:last]
		}
		b = append(copied, b...)
	}
	d.queued += len(b)
	d.chunks = append(d.chunks, digested{b, !kept})
	d.turned.Broadcast()
}

// end says, once, that no more bytes come; whole says that these were all.
func (d *digester) end(whole bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ended = true
	d.whole = whole
	d.turned.Broadcast()
}

func (d *digester) run() {
	defer close(d.done)
	h := sha256.New()
	for {
		d.mu.Lock()
		for len(d.chunks) == 0 && !d.ended {
			d.turned.Wait()
		}
		chunks := d.chunks
		d.chunks = nil
		d.mu.Unlock()
		if chunks == nil {
			if d.whole {
				d.sum = h.Sum(nil)
			}
			return
		}
		for i, c := range chunks {
			h.Write(c.data)
			chunks[i] = digested{}
			d.mu.Lock()
			d.queued -= len(c.data)
			if c.copied {
				d.free = append(d.free, c.data)
			}
			d.turned.Broadcast()
			d.mu.Unlock()
		}
	}
}
