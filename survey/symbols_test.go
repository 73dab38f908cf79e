package survey

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/codec/format"
	"mexalt/memory"
	"mexalt/source"
)

// program makes a program and its image of functions, one behind the other: a name, a
// size, and what it is filled with.
func program(t *testing.T, functions ...any) (*format.Program, *memory.Image) {
	var list []format.Symbol
	var data []byte
	for i := 0; i < len(functions); i += 3 {
		size := functions[i+1].(int)
		list = append(list,
			format.Symbol{Name: functions[i].(string), First: 0x1000 + uint64(len(data)), Size: uint64(size), Loads: true, Data: true})
		data = append(data, bytes.Repeat([]byte{byte(functions[i+2].(int))}, size)...)
	}
	list = append(list, format.Symbol{Name: "counter", First: 0x2800_0000, Size: 4, Data: true},
		format.Symbol{Name: "label", First: 0x1000, Loads: true})
	image, ok := memory.FromBytes(0x1000, data, &source.Input{Name: "program"})
	require.True(t, ok)
	return &format.Program{Table: format.NewSymbolTable(func() ([]format.Symbol, error) { return list, nil })}, image
}

func TestSymbolChanges(t *testing.T) {
	old, oldImage := program(t, "begin", 8, 1, "tide", 16, 2, "report", 8, 3, "old_way", 4, 4, "table", 8, 5, "helper", 4, 6, "helper", 4,
		7, "last", 4, 8)
	new, newImage := program(t, "begin", 8, 1, "tide", 20, 2, "report", 8, 3, "fresh", 2, 9, "table", 8, 0x55, "helper", 4, 6, "helper",
		2, 7, "last", 4, 8)
	list, err := SymbolChanges(old, new, oldImage, newImage)
	require.NoError(t, err)
	var told []string
	for _, c := range list {
		told = append(told, string(c.Fate)+" "+c.Name)
	}
	assert.Equal(t, []string{"grown tide", "gone old_way", "new fresh", "shrunk helper", "moved report", "moved table", "moved helper"},
		told)
	assert.Equal(t, int64(4), list[0].By())
	assert.Equal(t, int64(-4), list[1].By())

	same, err := SymbolChanges(old, old, oldImage, oldImage)
	require.NoError(t, err)
	assert.Empty(t, same)
	changed, ok := oldImage.Write(&source.Input{Name: "patch"}, 0x100A, []byte{0, 0})
	require.True(t, ok)
	list, err = SymbolChanges(old, old, oldImage, changed)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, SymbolChange{"tide", Changed, memory.Span{First: 0x1008, Last: 0x1017}, memory.Span{First: 0x1008, Last: 0x1017}, 2},
		list[0])
}

// TestSymbolsOfDamagedPrograms names sizes that no image has.
func TestSymbolsOfDamagedPrograms(t *testing.T) {
	_, image := program(t, "begin", 8, 1, "tide", 16, 2)
	of := func(list ...format.Symbol) *format.Program {
		return &format.Program{Table: format.NewSymbolTable(func() ([]format.Symbol, error) { return list, nil })}
	}
	huge := of(format.Symbol{Name: "huge", First: 0x1000, Size: 1 << 62, Loads: true, Data: true},
		format.Symbol{Name: "past", First: 0x1010, Size: 16, Loads: true, Data: true},
		format.Symbol{Name: "end", First: 1<<64 - 8, Size: 16, Loads: true, Data: true})
	list, err := SymbolChanges(huge, huge, image, image)
	require.NoError(t, err)
	assert.Empty(t, list)
	_, other := program(t, "begin", 8, 1, "tide", 16, 3)
	list, err = SymbolChanges(huge, huge, image, other)
	require.NoError(t, err)
	assert.Empty(t, list, "the rest of what it names is not known")
	var many []format.Symbol
	for range 1000 {
		many = append(many, format.Symbol{Name: "again", First: 0x1000, Size: 24, Loads: true, Data: true})
	}
	few := of(many[:1]...)
	for _, c := range [][2]*format.Program{{of(many...), few}, {few, of(many...)}} {
		_, err = SymbolChanges(c[0], c[1], image, image)
		assert.ErrorContains(t, err, "the symbols cover the image more than 64 times")
	}
}
