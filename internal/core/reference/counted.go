package reference

import "strconv"

// Counted is a number of things in words: "1 item", "2 items", "2 entries". It serves every sentence that counts.
func Counted(n int, one string) string {
	text := strconv.Itoa(n) + " " + one
	switch {
	case n == 1:
		return text
	case len(one) > 1 && one[len(one)-1] == 'y' && one[len(one)-2] != 'a' && one[len(one)-2] != 'e':
		return text[:len(text)-1] + "ies"
	}
	return text + "s"
}
