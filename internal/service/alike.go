package service

import (
	"strings"

	"tansu/internal/core/reference"
)

// alike lists the subjects of the same kind whose names can be taken for a subject's.
func (st *state) alike(subject string) (found []string) {
	kind, name, _ := strings.Cut(subject, ":")
	var names []string
	for _, other := range sortedKeys(st.subjects) {
		if otherName, same := strings.CutPrefix(other, kind+":"); same {
			names = append(names, otherName)
		}
	}
	for _, near := range reference.Alike(name, names) {
		found = append(found, kind+":"+near)
	}
	return found
}
