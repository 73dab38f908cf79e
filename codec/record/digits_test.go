package record

import (
	"encoding/hex"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEight holds the decoding of eight digits at once against the table, for
// every character at every place.
func TestEight(t *testing.T) {
	for place := range 8 {
		for c := range 256 {
			text := []byte("0F9aA5c3")
			text[place] = byte(c)
			lanes, bad := Eight(text)
			want, err := hex.DecodeString(string(text))
			require.Equal(t, err != nil, bad != 0, "%q", text)
			if err != nil {
				continue
			}
			packed := Pack(lanes)
			require.Equal(t, want, []byte{byte(packed), byte(packed >> 8), byte(packed >> 16), byte(packed >> 24)}, "%q", text)
			require.Equal(t, want[0]+want[1]+want[2]+want[3], Sum(lanes), "%q", text)
		}
	}
}

func TestPair(t *testing.T) {
	for hi := range 256 {
		for lo := range 256 {
			want, err := hex.DecodeString(string([]byte{byte(hi), byte(lo)}))
			got := Pair(byte(hi), byte(lo))
			require.Equal(t, err != nil, got > 0xFF)
			if err == nil {
				require.Equal(t, uint(want[0]), got)
			}
		}
	}
}

func TestDataAndAppendData(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for n := range 256 {
		data, sum := make([]byte, n), byte(0)
		for i := range data {
			data[i] = byte(r.IntN(256))
			sum += data[i]
		}
		text, gotSum := AppendData(nil, data)
		require.Equal(t, strings.ToUpper(hex.EncodeToString(data)), string(text))
		require.Equal(t, sum, gotSum)
		got := make([]byte, n+4)
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
