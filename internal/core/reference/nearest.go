package reference

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
