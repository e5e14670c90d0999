// Package nearest finds the word that was probably meant. In: a word that is not known, and those that are. Out: the one that is most like it.
package nearest

import (
	"fmt"
	"strings"
)

// Word gives the known word that is most like an unknown one; "": none is like it. Case does not count.
func Word(unknown string, known []string) string {
	best, least := "", 4
	for _, k := range known {
		if d := distance(strings.ToLower(unknown), strings.ToLower(k)); d < least && d < len(k) {
			best, least = k, d
		}
	}
	return best
}

// Meant asks whether the known word that is most like an unknown one was meant, for the end of a sentence; "": none is like it.
func Meant(unknown string, known []string) string {
	if w := Word(unknown, known); w != "" {
		return fmt.Sprintf("; was %s meant?", w)
	}
	return ""
}

// longest is up to how many bytes words are compared.
const longest = 40

// distance is the number of letters that must be changed to make b of a (Levenshtein 1966).
func distance(a, b string) int {
	if len(a) > longest || len(b) > longest {
		return longest
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			change := before
			if a[i] != b[j] {
				change++
			}
			before = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
