package memory

import "runtime/debug"

const (
	// bufferChunk is how much a [Buffer] takes at a time once it is long.
	bufferChunk = 4 << 20
	// bufferRelease is how much is joined before what it was joined from is
	// given back to the system.
	bufferRelease = 16 << 20
)

// Buffer collects bytes of which nobody knows beforehand how many will come. It
// grows by chunks and joins them once, giving them back as it goes: doubling
// would need three times the memory that the bytes take, and most inputs that
// come through a pipe are large for the machine that builds them.
type Buffer struct {
	full [][]byte
	last []byte
	size int // of all that is full
}

// Len returns how many bytes it holds.
func (b *Buffer) Len() int { return b.size + len(b.last) }

// Room returns room for more bytes, one at least; [Buffer.Took] says how many
// were put there.
func (b *Buffer) Room() []byte {
	if len(b.last) == cap(b.last) {
		if len(b.last) < bufferChunk {
			more := make([]byte, len(b.last), min(max(4*len(b.last), 64<<10), bufferChunk))
			copy(more, b.last)
			b.last = more
		} else {
			b.push(b.last)
			b.last = make([]byte, 0, bufferChunk)
		}
	}
	return b.last[len(b.last):cap(b.last)]
}

// Took says that n bytes were put into the room.
func (b *Buffer) Took(n int) { b.last = b.last[:len(b.last)+n] }

func (b *Buffer) push(chunk []byte) {
	b.full = append(b.full, chunk)
	b.size += len(chunk)
}

// Bytes returns all bytes in one piece; the buffer must not be used further.
func (b *Buffer) Bytes() []byte {
	if len(b.full) == 0 {
		return b.last
	}
	all, released := make([]byte, 0, b.Len()), 0
	for i, chunk := range b.full {
		all = append(all, chunk...)
		b.full[i] = nil
		if len(all)-released >= bufferRelease {
			released = len(all)
			debug.FreeOSMemory()
		}
	}
	all = append(all, b.last...)
	*b = Buffer{}
	return all
}
