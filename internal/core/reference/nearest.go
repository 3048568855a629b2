package reference

import "strings"

// Nearest returns the candidate within two edits of name that is closest to it, or "" when none is. It serves the
// "did you mean" of an error; the caller passes only names that the reader of the error may know.
func Nearest(name string, candidates []string) string {
	best, distance := "", 3
	for _, candidate := range candidates {
		if d := Edits(name, candidate); d > 0 && d < distance {
			best, distance = candidate, d
		}
	}
	return best
}

// Near returns the candidates within two edits of name, among which Nearest chooses.
func Near(name string, candidates []string) (near []string) {
	for _, candidate := range candidates {
		if Edits(name, candidate) < 3 {
			near = append(near, candidate)
		}
	}
	return near
}

// Edits is the Levenshtein distance in bytes, as far as it is less than 3; names are ASCII.
func Edits(a, b string) int {
	if len(a)-len(b) > 2 || len(b)-len(a) > 2 {
		return 3
	}
	var small [MaxName + 1]int
	row := small[:]
	if len(b) >= len(small) {
		row = make([]int, len(b)+1)
	}
	row = row[:len(b)+1]
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal, least := row[0], i
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
			least = min(least, row[j])
		}
		if least > 2 {
			return 3
		}
	}
	return row[len(b)]
}

// OneEdit reports whether one byte more, less or other makes one name of the other.
func OneEdit(a, b string) bool {
	if len(a) < len(b) {
		a, b = b, a
	}
	if len(a)-len(b) > 1 || a == b {
		return false
	}
	i := 0
	for i < len(b) && a[i] == b[i] {
		i++
	}
	if len(a) == len(b) {
		return a[i+1:] == b[i+1:]
	}
	return a[i+1:] == b[i:]
}

// Skeleton maps what looks alike on a screen or in a hurry to one form: letters that look alike, case and separators are put aside.
// Names are ASCII, so that a short table is all it takes.
func Skeleton(name string) string { return lookAlikes.Replace(strings.ToLower(name)) }

var lookAlikes = strings.NewReplacer("rn", "m", "vv", "w", "cl", "d", "0", "o", "1", "l", "i", "l", "5", "s", "2", "z", "8", "b", "-", "",
	"_", "", ".", "")
