package source

import (
	"strings"

	"github.com/agnivade/levenshtein"
)

// Nearest returns the known word that a mistyped one most likely meant, or ""
// where none is near.
func Nearest(word string, known []string) string {
	best, least := "", max(1, len(word)/3)+1
	for _, k := range known {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(k)); d < least {
			best, least = k, d
		}
	}
	return best
}

// DidYouMean returns the advice for a mistyped word: the nearest known one,
// else all there are.
func DidYouMean(word string, known []string) string {
	if near := Nearest(word, known); near != "" {
		return near + "?"
	}
	if len(known) == 0 {
		return ""
	}
	return "known: " + strings.Join(known, ", ")
}
