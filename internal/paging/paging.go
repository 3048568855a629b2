// Package paging gives a list in parts.
package paging

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
)

// ErrGone says that the element that a cursor leads on from is not in the list any more.
var ErrGone = errors.New("what this cursor leads on from is not in the list any more: begin without a cursor")

// Part is what follows a cursor in a list, at most so many elements, and the cursor of the next part; empty at the end. No cursor is the
// begin, and 0 is all that follow. A cursor names the last element of the part before, wherever that is now.
func Part[T any](all []T, after string, most int) (part []T, next string, err error) {
	if after == "" && (most == 0 || most >= len(all)) {
		return all, "", nil
	}
	names, err := namesOf(all)
	if err != nil {
		return nil, "", err
	}
	from := 0
	if after != "" {
		for from < len(names) && names[from] != after {
			from++
		}
		if from == len(names) {
			return nil, "", ErrGone
		}
		from++
	}
	if most == 0 {
		most = len(all)
	}
	part = all[from:min(from+most, len(all))]
	if end := from + len(part); end < len(all) {
		next = names[end-1]
	}
	return part, next, nil
}

// naming are the members of elements, as JSON, by which they are told apart, whatever else of them changes.
var naming = []string{"id", "receipt", "name", "kind", "what", "subject", "reference", "action", "target", "version", "number", "size",
	"seq", "credential", "grant", "field", "reason", "hour", "first"}

// namesOf are the cursors of elements: a hash of what each is told apart by, and which of those with that it is.
func namesOf[T any](all []T) ([]string, error) {
	names, there := make([]string, len(all)), map[[32]byte]int{}
	for i, element := range all {
		encoded, err := json.Marshal(element)
		if err != nil {
			return nil, err
		}
		var members map[string]json.RawMessage
		if err := json.Unmarshal(encoded, &members); err != nil {
			return nil, err
		}
		h := sha256.New()
		for _, name := range naming {
			fmt.Fprintf(h, "%d %s", len(members[name]), members[name])
		}
		sum := [32]byte(h.Sum(nil))
		names[i] = base64.RawURLEncoding.EncodeToString(fmt.Appendf(sum[:12:12], "%d", there[sum]))
		there[sum]++
	}
	return names, nil
}
