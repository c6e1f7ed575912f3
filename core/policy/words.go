package policy

import "strings"

// DidYouMean returns "did you mean `x`? " for the nearest of the words, or "".
func DidYouMean(s string, words []string) string {
	best, at := 1+min(3, len(s)/2), ""
	for _, w := range words {
		if d := editDistance(s, w); d < best {
			best, at = d, w
		}
	}
	if at == "" {
		return ""
	}
	return "did you mean `" + at + "`? "
}

// editDistance is the number of letters to insert, delete, replace or swap with
// their neighbour; long words count as far from everything.
func editDistance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 64
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		before, last, row = last, row, before
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
	}
	return row[len(b)]
}

// OrList joins words as "a, b or c".
func OrList(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
