package checksum

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/memory"
	"mexalt/source"
)

func TestSum(t *testing.T) {
	kind := KindOfName("crc-32/iso-hdlc")
	require.NotNil(t, kind)
	m, _ := memory.FromBytes(0x100, []byte("123456789"), &source.Input{Name: "f"})
	value, err := kind.Sum(m, memory.Span{First: 0x100, Last: 0x108})
	require.NoError(t, err)
	assert.Equal(t, uint64(0xCBF43926), value, "the catalogue's check value")

	value, err = kind.Sum(m, memory.Span{First: 0x100, Last: 0x103}, memory.Span{First: 0x104, Last: 0x108})
	require.NoError(t, err)
	assert.Equal(t, uint64(0xCBF43926), value, "spans in the order given")
	turned, err := kind.Sum(m, memory.Span{First: 0x104, Last: 0x108}, memory.Span{First: 0x100, Last: 0x103})
	require.NoError(t, err)
	assert.NotEqual(t, value, turned)

	_, err = kind.Sum(m, memory.Span{First: 0xFF, Last: 0x109})
	assert.EqualError(t, err, "there are no bytes at 0x00FF (1 byte), 0x0109 (1 byte)")
	assert.Nil(t, KindOfName("crc-31"))
}

func TestOrder(t *testing.T) {
	assert.Equal(t, []byte{0x26, 0x39, 0xF4, 0xCB}, Little.Bytes(0xCBF43926, 4))
	assert.Equal(t, []byte{0xCB, 0xF4, 0x39, 0x26}, Big.Bytes(0xCBF43926, 4))
}
