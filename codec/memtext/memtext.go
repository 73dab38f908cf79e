// Package memtext reads and writes memory text, which logic simulators load:
// $readmemh and $readmemb of IEEE 1364-2005, 17.2.9. A file holds words of one
// width in hex or binary digits, white space and comments between them, and
// @ADDRESS, in hex digits, where the words behind it go: addresses count words.
package memtext

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash"
	"hash/crc32"
	"strconv"
	"strings"

	"mexalt/codec/format"
	"mexalt/codec/record"
	"mexalt/key"
	"mexalt/memory"
)

// Hex and Binary are memory text in the table of formats.
var (
	Hex    = newFormat("memory text", "memh", 2, []format.Extension{{Ending: ".memh", Word: "memh"}, {Ending: ".mem", Word: "memh"}})
	Binary = newFormat("binary memory text", "memb", 8, []format.Extension{{Ending: ".memb", Word: "memb"}})
)

func newFormat(name, word string, digits int, extensions []format.Extension) *format.Format {
	return &format.Format{
		Name: name, Word: word, Words: []format.Word{{Word: word}}, Extensions: extensions,
		Units:  true,
		Begins: func(head []byte) bool { return digits == 2 && begins(head) },
		MayBe:  mayBe,
		Reader: func() format.Reader { return &Reader{PerByte: digits} },
		Writer: func(o format.WriteOptions) format.Writer {
			w := &Writer{PerByte: digits, Unit: o.Unit, Comments: true}
			if o.Unit != 0 {
				return o.AsRead(w, "word") // the unit says it
			}
			return o.AsRead(w)
		},
	}
}

// Reader reads memory text.
type Reader struct {
	PerByte int          // digits of a byte: 2, or 8
	Order   memory.Order // [memory.Little] or [memory.Big]; "" is what the text says, or little
}

// Keys returns the reader's keys.
func (t *Reader) Keys() []*key.Key { return []*key.Key{format.OrderKey(&t.Order)} }

// mostWord is how many bytes a word may have.
const mostWord = 64

func isSpace(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

// skip returns the text behind white space and whole comments.
func skip(text []byte) []byte {
	for {
		text = bytes.TrimLeft(text, " \t\n\v\f\r")
		end := -1
		switch {
		case bytes.HasPrefix(text, []byte("//")):
			end = bytes.IndexByte(text, '\n') + 1
		case bytes.HasPrefix(text, []byte("/*")):
			end = bytes.Index(text[2:], []byte("*/")) + 4
		default:
			return text
		}
		if end < 4 && (end < 1 || text[1] == '*') {
			return nil
		}
		text = text[end:]
	}
}

// begins reports whether a file begins, but for white space and comments, with
// an address and a word: the form that nothing else has.
func begins(head []byte) bool {
	if !format.IsText(head) {
		return false
	}
	text, ok := bytes.CutPrefix(skip(head), []byte("@"))
	word := bytes.TrimLeft(text, "0123456789ABCDEFabcdef_")
	behind := bytes.TrimLeft(word, " \t\n\r\f")
	return ok && len(word) < len(text) && text[0] != '_' && len(behind) > 0 && len(behind) < len(word) &&
		(record.IsDigit(behind[0]) || behind[0] == '@' || behind[0] == '/')
}

// mayBe reports whether a file that is said to be memory text may be it.
func mayBe(head []byte) bool {
	text := skip(head)
	return format.IsText(head) &&
		(len(text) == 0 || text[0] == '@' || record.IsDigit(text[0]) || text[0]|0x20 == 'x' || text[0]|0x20 == 'z')
}

// The first and the last line of what is written here are comments that say what
// the text itself cannot: the order of bytes, and a CRC-32, so that no changed
// digit goes unseen.
const (
	headText  = "// %d-byte words, %s-endian; a CRC-32 stands in the last line"
	checkText = "// CRC-32 0x%08X"
)

// sum is the CRC-32/ISO-HDLC over each run's first address and length, as
// 64-bit big-endian numbers, and its bytes.
func sum(m *memory.Image) uint32 {
	h := crc32.NewIEEE()
	for _, r := range m.Runs() {
		addRun(h, r)
	}
	return h.Sum32()
}

func addRun(h hash.Hash32, r memory.Run) {
	var head [16]byte
	binary.BigEndian.PutUint64(head[:8], r.First)
	binary.BigEndian.PutUint64(head[8:], uint64(len(r.Data)))
	h.Write(head[:])
	h.Write(r.Data)
}

// parseCheck reads the last line; ok is false for all others.
func parseCheck(comment []byte) (value uint32, ok bool) {
	before, _, _ := strings.Cut(checkText, "%")
	digits, found := strings.CutPrefix(string(comment), before)
	n, err := strconv.ParseUint(digits, 16, 32)
	return uint32(n), found && err == nil && fmt.Sprintf(checkText, n) == string(comment)
}

// parseHead reads the first line; ok is false for all others.
func parseHead(comment []byte) (width int, order memory.Order, ok bool) {
	rest, found := strings.CutPrefix(string(comment), "// ")
	digits, rest, _ := strings.Cut(rest, "-")
	_, rest, _ = strings.Cut(rest, ", ")
	word, _, _ := strings.Cut(rest, "-")
	order = memory.Order(word)
	width, err := strconv.Atoi(digits)
	const mostDigits = 2
	ok = found && err == nil && len(digits) <= mostDigits && (order == memory.Little || order == memory.Big) &&
		fmt.Sprintf(headText, width, order) == string(comment)
	return width, order, ok
}

// wordsText names words in a fact and a message.
func wordsText(width uint64, order memory.Order) string {
	if width == 1 {
		return "1 byte"
	}
	return fmt.Sprintf("%d bytes, %s-endian", width, order)
}
