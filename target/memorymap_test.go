package target

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
)

// TestMemoryMaps reads what servers say of memories, by the DTD of memory maps.
func TestMemoryMaps(t *testing.T) {
	of := func(memories string) ([]Memory, error) {
		return parseMap([]byte("<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><memory-map>" + memories + "</memory-map>"))
	}
	list, err := of(`<memory type="flash" start="0x1000" length="0x2000"><property name="blocksize"> 0x400 </property><property name="other">x</property></memory>` +
		`<memory type="ram" start="4095" length="1"/><memory type="rom" start="x" length="0"/><memory type="rom" start="0xFFFFFFFFFFFFFFFF" length="0x1"/>`)
	require.NoError(t, err)
	assert.Equal(t, []Memory{{Kind: RAM, Span: memory.Span{First: 0xFFF, Last: 0xFFF}},
		{Kind: Flash, Span: memory.Span{First: 0x1000, Last: 0x2FFF}, Block: 0x400},
		{Kind: ROM, Span: memory.Span{First: 1<<64 - 1, Last: 1<<64 - 1}}}, list)
	for memories, want := range map[string]string{
		`<memory type="rom" start="0xFFFFFFFFFFFFFFFF" length="0x2"/>`:                                  "are no memory",
		`<memory type="rom" start="0x10000000000000000" length="0x2"/>`:                                 "are no memory",
		`<memory type="rom" start="" length="1"/>`:                                                      "are no memory",
		`<memory type="rom" start="1" length="-1"/>`:                                                    "are no memory",
		`<memory type="disk" start="1" length="1"/>`:                                                    `a memory of the unknown type "disk"`,
		`<memory type="flash" start="1" length="1"><property name="blocksize">many</property></memory>`: `a block size of "many"`,
		`<memory type="ram" start="1" length="2"/><memory type="ram" start="2" length="2"/>`:            "is in two memories",
		`<memory type="flash" start="1" length="1">`:                                                    "XML",
	} {
		_, err := of(memories)
		assert.ErrorContains(t, err, want, memories)
	}
	for n, ok := range map[int]bool{4096: true, 4097: false} {
		var text strings.Builder
		for i := range n {
			fmt.Fprintf(&text, `<memory type="ram" start="%d" length="1"/>`, i)
		}
		list, err := of(text.String())
		assert.Equal(t, ok, err == nil, n)
		assert.Equal(t, ok, len(list) == n)
	}
}
