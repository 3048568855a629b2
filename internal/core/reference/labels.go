package reference

import (
	"cmp"
	"slices"
	"strings"
)

// MaxLabels is the most labels that one thing has.
const MaxLabels = 16

// Label is a word about a drawer or an item: a key and a value, both names.
type Label struct{ Key, Value string }

// Labels are sorted by key and have each key once. They are immutable and safe for concurrent use.
type Labels []Label

const labelForm = "key=value, several separated by commas, each key once and at most 16 of them; keys and values are names"

// ParseLabels reads "team=ticketing,tier=database"; empty text has no labels. The error is an [*InvalidError].
func ParseLabels(text string) (Labels, error) {
	if text == "" {
		return nil, nil
	}
	bad := func(problem string) (Labels, error) {
		return nil, &InvalidError{What: "labels", Text: text, Problem: problem, Form: labelForm}
	}
	var labels Labels
	for part := range strings.SplitSeq(text, ",") {
		key, value, found := strings.Cut(part, "=")
		if !found {
			return bad(`have a part without "="`)
		}
		if problem := cmp.Or(nameProblem(key), nameProblem(value)); problem != "" {
			return bad("have a key or a value that " + problem)
		}
		labels = append(labels, Label{key, value})
	}
	slices.SortFunc(labels, func(a, b Label) int { return cmp.Compare(a.Key, b.Key) })
	for i := 1; i < len(labels); i++ {
		if labels[i].Key == labels[i-1].Key {
			return bad("have the key " + labels[i].Key + " twice")
		}
	}
	if len(labels) > MaxLabels {
		return bad("are too many")
	}
	return labels, nil
}

// LabelsOf makes labels of a map; the error is that of ParseLabels.
func LabelsOf(m map[string]string) (Labels, error) {
	parts := make([]string, 0, len(m))
	for key, value := range m {
		parts = append(parts, key+"="+value)
	}
	return ParseLabels(strings.Join(parts, ","))
}

// Map returns the labels as a map that the caller may change; never nil.
func (l Labels) Map() map[string]string {
	m := make(map[string]string, len(l))
	for _, label := range l {
		m[label.Key] = label.Value
	}
	return m
}

// String writes labels so that ParseLabels reads them back.
func (l Labels) String() string {
	parts := make([]string, len(l))
	for i, label := range l {
		parts[i] = label.Key + "=" + label.Value
	}
	return strings.Join(parts, ",")
}

// Over returns the labels of something inside something else: its own, and those of the outer that it does not have.
func (l Labels) Over(outer Labels) Labels {
	if len(l) == 0 {
		return outer
	}
	merged := slices.Clone(l)
	for _, label := range outer {
		if !slices.ContainsFunc(l, func(own Label) bool { return own.Key == label.Key }) {
			merged = append(merged, label)
		}
	}
	slices.SortFunc(merged, func(a, b Label) int { return cmp.Compare(a.Key, b.Key) })
	return merged
}

// Has reports whether all of the wanted labels are there; it allocates nothing.
func (l Labels) Has(wanted Labels) bool {
	for _, label := range wanted {
		if !slices.Contains(l, label) {
			return false
		}
	}
	return true
}

// Excludes reports whether nothing can have both sets of labels: one key has two values.
func (l Labels) Excludes(other Labels) bool {
	for _, a := range l {
		for _, b := range other {
			if a.Key == b.Key && a.Value != b.Value {
				return true
			}
		}
	}
	return false
}
