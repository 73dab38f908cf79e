package target

import (
	"bufio"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPackets takes packets apart: run lengths of 3 (a space) to 97 (a tilde), escapes, sums.
func TestPackets(t *testing.T) {
	for packet, want := range map[string]string{
		"":                "",
		"abc":             "abc",
		"0* ":             "0000",
		"0*~":             "0" + strings.Repeat("0", 97),
		"a0*\"b":          "a000000b",
		"}\x03}\x04}]}\n": "#$}*",
		"x}\n* ":          "x****",
		"ab* c*!d":        "abbbbcccccd",
	} {
		got, err := plain([]byte(packet))
		require.NoError(t, err, packet)
		assert.Equal(t, want, string(got), packet)
	}
	for _, packet := range []string{"*", "* ", "0*", "0*\x1F", "0*\x7F", "}", "ab}"} {
		_, err := plain([]byte(packet))
		assert.ErrorContains(t, err, "is no whole packet", packet)
	}
	_, err := plain([]byte("0" + strings.Repeat("*~", mostPacket/97)))
	require.NoError(t, err)
	_, err = plain([]byte("0" + strings.Repeat("*~", mostPacket/97+1)))
	assert.ErrorIs(t, err, errLong)

	assert.Equal(t, "$OK#9a", string(framed([]byte("OK"))))
	assert.Equal(t, "a}\x03}\x04}]}\nb", string(escapedBytes([]byte("a#$}*b"))))
	for sent, want := range map[string][]item{
		"$OK#9a":           {{begin, []byte("OK")}},
		"junk+-\x03$#00":   {{kind: acknowledged}, {kind: repeat}, {kind: interrupt}, {begin, nil}},
		"%Stop#a6$a$OK#9A": {{notification, []byte("Stop")}, {begin, []byte("OK")}},
		"$" + strings.Repeat("a", mostPacket) + "#01": nil,
	} {
		r := bufio.NewReader(strings.NewReader(sent))
		var got []item
		var err error
		for err == nil {
			var it item
			if it, err = next(r); err == nil {
				if len(it.data) == 0 {
					it.data = nil
				}
				got = append(got, it)
			}
		}
		assert.Equal(t, want, got, sent[:min(len(sent), 20)])
	}
	for sent, want := range map[string]string{
		"$OK#9b": errUnsound.Error(), "$OK#zz": errUnsound.Error(), "$OK#9": "unexpected EOF", "$OK": "unexpected EOF", "": "EOF",
		"$" + strings.Repeat("a", mostPacket+1): errLong.Error(),
	} {
		_, err := next(bufio.NewReader(strings.NewReader(sent)))
		assert.EqualError(t, err, want, sent[:min(len(sent), 20)])
	}
	assert.Equal(t, "12345678901234567890123456789012345678901234567890123456789\\n... (61 bytes)",
		shown([]byte(strings.Repeat("1234567890", 6)[:59]+"\nx")))
	assert.Equal(t, strings.Repeat("a", 60), shown([]byte(strings.Repeat("a", 60))))
	for state, want := range map[string]string{
		"T05thread:p01.01;": "1", "T05thread:p0a.1;": "a", "T05thread:p10.-1;": "10", "T05thread:p0.0;": "0", "T05thread:01;": "",
		"S05": "", "T05thread:p1;": "",
		"T05thread:pzz.1;": "", "T05thread:p.1;": "",
	} {
		assert.Equal(t, want, processOf([]byte(state)), state)
	}
	for text, want := range map[string]bool{"localhost:3333": true, "[::1]:1": true, ":65535": true, "host:0": false, "host:65536": false,
		"host": false, "C:\\x": false, "a:b:3": false} {
		assert.Equal(t, want, IsAddress(text), text)
	}
	assert.Equal(t, Waits{10 * time.Second, 300 * time.Millisecond, 2 * time.Second, 5 * time.Second, time.Second}, Waits{}.complete())
	assert.Equal(t, Waits{10 * time.Second, 1, 2 * time.Second, 5 * time.Second, time.Second}, Waits{Quiet: 1}.complete())
	assert.True(t, answeredError([]byte("E14")) && answeredError([]byte("E.locked")))
	assert.False(t, answeredError([]byte("E1")) || answeredError([]byte("E1234567")) || answeredError(nil))
	assert.EqualValues(t, 0x0376E6E7, crcOf([]byte("123456789")), "the catalogue's check value")
}
