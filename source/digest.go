package source

import (
	"bytes"
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
	chunks [][]byte
	queued int // bytes of copied chunks that wait
	ended  bool
	whole  bool
	sum    []byte
	done   chan struct{}
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
		b = bytes.Clone(b)
	}
	d.queued += len(b)
	d.chunks = append(d.chunks, b)
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
			h.Write(c)
			chunks[i] = nil
			d.mu.Lock()
			d.queued -= len(c)
			d.turned.Broadcast()
			d.mu.Unlock()
		}
	}
}
