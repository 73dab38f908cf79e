package source

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Nearest returns the known word that a mistyped one most likely meant, or ""
// where none is near.
func Nearest(word string, known []string) string {
	return NearestWithin(word, known, max(1, utf8.RuneCountInString(word)/3))
}

// NearestWithin returns the known word that is like one that was typed, with so
// many slips at most, or "".
func NearestWithin(word string, known []string, slips int) string {
	const most = 1000 // words, so that many mistakes among many names are told in a moment
	known = known[:min(len(known), most)]
	best, least := "", slips+1
	typed := []rune(strings.ToLower(word))
	for _, k := range known {
		if d := distance(typed, []rune(strings.ToLower(k)), least); d < least {
			best, least = k, d
		}
	}
	return best
}

// distance returns how many characters must be put in, left out, changed, or
// swapped with their neighbour to make one word of the other (Damerau's
// distance of adjacent swaps), or most where it is that or more.
func distance(x, y []rune, most int) int {
	if d := len(x) - len(y); d >= most || -d >= most {
		return most
	}
	n := len(y) + 1
	rows := make([]int, 3*n)
	before, last, now := rows[:n], rows[n:2*n], rows[2*n:]
	for j := range last {
		last[j] = j
	}
	for i := range x {
		now[0] = i + 1
		for j := range y {
			cost := 1
			if x[i] == y[j] {
				cost = 0
			}
			now[j+1] = min(now[j]+1, last[j+1]+1, last[j]+cost)
			if i > 0 && j > 0 && x[i] == y[j-1] && x[i-1] == y[j] {
				now[j+1] = min(now[j+1], before[j-1]+1)
			}
		}
		before, last, now = last, now, before
	}
	return min(last[len(y)], most)
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
