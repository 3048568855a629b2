package httpapi

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"

	"tansu/internal/chest"
)

// listed answers with the part of a list that is asked for, under a name, and with the cursor of the next one.
func listed[T any](c *call, name string, all []T) error {
	part, next, err := partOf(c, all)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{name: part, "next_cursor": next})
}

// partOf is the part of a list that is asked for, what follows a cursor and at most so many, and the cursor of the next one; empty at the
// end. A cursor names the last element of the part before, wherever that is now.
func partOf[T any](c *call, all []T) (part []T, next string, err error) {
	after, most, err := page(c)
	if err != nil || after == "" && (most == 0 || most >= len(all)) {
		return all, "", err
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
			return nil, "", chest.Invalid("cursor", "what this cursor leads on from is not in the list any more: begin without a cursor")
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

// naming are the members of elements by which they are told apart, whatever else of them changes.
var naming = []string{"id", "receipt", "name", "kind", "what", "subject", "reference", "action", "target", "version", "number", "size",
	"seq", "credential", "grant", "field", "reason", "hour", "first"}

// namesOf are the cursors of elements: a hash of what each is told apart by, and the how manieth with that it is.
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
