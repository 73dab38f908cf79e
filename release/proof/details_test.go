package proof

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mexalt/source"
)

// TestVeryManyDetails keeps the symbols and lines of a section as far as they are not very many,
// and says where they are.
func TestVeryManyDetails(t *testing.T) {
	list := make([]source.Detail, mostDetails)
	for i := range list {
		list[i] = source.Detail{Position: uint64(i), Symbol: "s", Begins: uint64(i)}
	}
	kept := &OriginInput{}
	kept.setDetails(list)
	assert.Len(t, kept.Details, mostDetails)
	assert.Equal(t, "s", kept.detail()(7))
	many := &OriginInput{}
	many.setDetails(append(list, source.Detail{Position: mostDetails}))
	assert.Empty(t, many.Details)
	assert.Equal(t, mostDetails+1, many.LeftOut)
	assert.Contains(t, many.detail()(7), "20,001 entries, too many to be kept")
}
