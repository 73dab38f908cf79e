package rehearsal

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestOrdersOfActs holds what becomes of a plan's acts in each other order that is tried.
func TestOrdersOfActs(t *testing.T) {
	acts := []Act{{Do: Identify}, {Do: Words}, {Do: Erase, What: "chip", Skip: []string{"log"}}, {Do: StartPart}, {Do: Program},
		{Do: Verify, In: []string{"a", "b"}}, {Do: ResetPart}}
	short := func(acts []Act) string {
		var list []string
		for _, a := range acts {
			text := string(a.Do)
			for _, more := range []struct {
				word string
				list []string
			}{{"", strings.Fields(a.What)}, {"in ", a.In}, {"but ", a.Skip}} {
				if len(more.list) > 0 {
					text += " " + more.word + strings.Join(more.list, "+")
				}
			}
			list = append(list, text)
		}
		return strings.Join(list, ", ")
	}
	was := short(acts)
	guards := []string{"crc"}
	for name, order := range map[string]func([]Act) []Act{
		"identify, words, erase touched but log+x, start, program but x, verify in a+b but x, reset":                               leaveOut("x"),
		"identify, void in crc, words, erase chip but log, start, program, verify in a+b, reset":                                   voidFirst(guards),
		"identify, words, erase chip but log, start, program but crc, verify in a+b but crc, program in crc, verify in crc, reset": guardsLast(guards),
		"identify, words, erase touched in crc, erase touched but log+crc, start, program, verify in a+b, reset":                   guardsFirst(guards),
		"identify, words, erase touched in a but log, program in a, verify in a, erase touched but log+a, start, program but a, " +
			"verify in a+b but a, reset": oneAfterOther([]string{"a", "b"}),
		"identify, erase chip but log, start, program, verify in a+b, words, reset": wordsLast,
	} {
		assert.Equal(t, name, short(order(acts)))
		assert.Equal(t, was, short(acts), "the plan itself is as it was")
	}
	assert.Equal(t, "program but crc, program in crc", short(guardsLast(guards)(acts[4:5])), "nothing was verified")
	assert.Equal(t, "program, words", short(wordsLast([]Act{{Do: Program}, {Do: Words}})))
}
