package reference

import "strings"

// Nearest returns the candidate within two edits of name that is closest to it, or "" when none is. It serves the
// "did you mean" of an error; the caller passes only names that the reader of the error may know.
func Nearest(name string, candidates []string) string {
	best, distance := "", 3
	for _, candidate := range candidates {
		if d := edits(name, candidate); d > 0 && d < distance {
			best, distance = candidate, d
		}
	}
	return best
}

// edits is the Levenshtein distance in bytes; names are ASCII.
func edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}

// Alike returns the candidates that can be taken for name on a screen or in a hurry: one edit apart, or the same once
// letters that look alike, case and separators are put aside. The name itself is not among them.
func Alike(name string, candidates []string) (alike []string) {
	skeleton := skeletonOf(name)
	for _, candidate := range candidates {
		if candidate != name && (skeletonOf(candidate) == skeleton || len(name) > 3 && edits(name, candidate) == 1) {
			alike = append(alike, candidate)
		}
	}
	return alike
}

// skeletonOf maps what looks alike to one form; names are ASCII, so that a short table is all it takes.
func skeletonOf(name string) string {
	return lookAlikes.Replace(strings.ToLower(name))
}

var lookAlikes = strings.NewReplacer("rn", "m", "vv", "w", "cl", "d", "0", "o", "1", "l", "i", "l", "5", "s", "2", "z", "8", "b", "-", "", "_", "", ".", "")
