package record

import (
	"encoding/hex"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPair(t *testing.T) {
	BuildPairs()
	for hi := range 256 {
		for lo := range 256 {
			want, err := hex.DecodeString(string([]byte{byte(hi), byte(lo)}))
			got := Pair(byte(hi), byte(lo))
			at := At([]byte{byte(hi), byte(lo)})
			require.Equal(t, err != nil, got > 0xFF)
			require.Equal(t, err != nil, at == 0)
			if err == nil {
				require.Equal(t, uint(want[0]), got)
				require.Equal(t, Digits|uint16(want[0]), at)
			}
		}
	}
}

func TestDataAndPutData(t *testing.T) {
	BuildPairs()
	r := rand.New(rand.NewPCG(1, 1))
	for n := range 256 {
		data, sum := make([]byte, n), byte(0)
		for i := range data {
			data[i] = byte(r.IntN(256))
			sum += data[i]
		}
		text := make([]byte, 2*n)
		gotSum := PutData(text, data)
		require.Equal(t, strings.ToUpper(hex.EncodeToString(data)), string(text))
		require.Equal(t, sum, gotSum)
		got := make([]byte, n)
		gotSum, ok := Data(got, text, n)
		require.True(t, ok)
		require.Equal(t, sum, gotSum)
		require.Equal(t, data, got[:n])
		if n > 0 {
			text[r.IntN(len(text))] = 'g'
			_, ok = Data(got, text, n)
			require.False(t, ok)
		}
	}
}
