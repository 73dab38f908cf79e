package source

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/hbollon/go-edlib"
)

// Nearest returns the known word that a mistyped one most likely meant, or ""
// where none is near.
func Nearest(word string, known []string) string {
	return NearestWithin(word, known, max(1, utf8.RuneCountInString(word)/3))
}

// NearestWithin returns the known word that is like one that was typed, with so
// many slips at most, or "".
func NearestWithin(word string, known []string, slips int) string {
	// So that many mistakes among many names, and long ones, are told in a moment.
	const most, longest = 1000, 200 // words, and characters in one
	if len(word) > longest {
		return ""
	}
	known = known[:min(len(known), most)]
	best, least := "", slips+1
	typed := strings.ToLower(word)
	const beginning = 3 // characters of a word that is not finished
	if utf8.RuneCountInString(word) >= beginning {
		begins := func(k string) bool { return len(k) <= longest && strings.HasPrefix(strings.ToLower(k), typed) }
		if i := slices.IndexFunc(known, begins); i >= 0 && !slices.ContainsFunc(known[i+1:], begins) {
			return known[i]
		}
	}
	for _, k := range known {
		if len(k) > longest {
			continue
		}
		if apart := utf8.RuneCountInString(k) - utf8.RuneCountInString(word); apart >= least || -apart >= least {
			continue // as many must be put in or left out
		}
		// Characters are put in, left out, changed, or swapped with their neighbour.
		if d := edlib.OSADamerauLevenshteinDistance(typed, strings.ToLower(k)); d < least {
			best, least = k, d
		}
	}
	return best
}

// DidYouMean returns the advice for a mistyped word: the nearest known one,
// else all there are.
func DidYouMean(word string, known []string) string {
	if near := Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	if len(known) == 0 {
		return ""
	}
	const most = 32
	if len(known) > most {
		return fmt.Sprintf("known: %s and %d more", strings.Join(known[:most], ", "), len(known)-most)
	}
	return "known: " + strings.Join(known, ", ")
}
