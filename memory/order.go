package memory

// Order says which byte of a number, or a word, is at its first address. The zero value is
// [Little].
type Order string

const (
	// Little is the order in which the lowest byte comes first.
	Little Order = "little"
	// Big is the order in which the highest byte comes first.
	Big Order = "big"
)

// OrderOf returns the order that is big, or little.
func OrderOf(big bool) Order {
	if big {
		return Big
	}
	return Little
}

// String returns the order's word.
func (o Order) String() string { return string(OrderOf(o == Big)) }

// Number returns the number that up to 8 bytes are.
func (o Order) Number(b []byte) (n uint64) {
	for i := range b {
		at := len(b) - 1 - i
		if o == Big {
			at = i
		}
		n = n<<8 | uint64(b[at])
	}
	return n
}

// Bytes returns the lowest bytes of a number, width of them, up to 8.
func (o Order) Bytes(n uint64, width int) []byte {
	b := make([]byte, width)
	for i := range b {
		at := i
		if o == Big {
			at = width - 1 - i
		}
		b[at] = byte(n >> (8 * i))
	}
	return b
}
