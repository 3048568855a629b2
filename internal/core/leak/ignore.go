package leak

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"go.yaml.in/yaml/v3"

	"tansu/internal/core/reference"
)

// IgnoreName is what an ignore list is called when nobody says otherwise.
const IgnoreName = "tansu-leaks.yaml"

// Ignore is the list of accepted findings: places that are not searched and values that are not searched for, each with a reason.
type Ignore struct {
	Places []Ignored `yaml:"places"`
	Values []Ignored `yaml:"values"`
}

// Ignored is one of them: a place, in which "*" stands for anything, or the reference of an item with "*" for anything.
type Ignored struct {
	What   string `yaml:"what"`
	Reason string `yaml:"reason"`
}

// ReadIgnore reads an ignore list.
func ReadIgnore(content []byte) (list Ignore, err error) {
	decoder := yaml.NewDecoder(bytes.NewReader(content))
	decoder.KnownFields(true)
	if err := decoder.Decode(&list); err != nil && !errors.Is(err, io.EOF) {
		return list, fmt.Errorf("%s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	for _, one := range append(append([]Ignored{}, list.Places...), list.Values...) {
		if one.What == "" || strings.TrimSpace(one.Reason) == "" {
			return list, fmt.Errorf("%.60q: each has what is ignored, and the reason", one.What)
		}
	}
	return list, nil
}

// Place reports whether something at a place is ignored.
func (i Ignore) Place(place string) bool {
	place = path.Clean(place)
	for _, one := range i.Places {
		if reference.Like(path.Clean(one.What), place) {
			return true
		}
	}
	return false
}

// Value reports whether a value is ignored, by its reference, with or without a version.
func (i Ignore) Value(name string) bool {
	item, _, _ := strings.Cut(name, "@")
	for _, one := range i.Values {
		if reference.Like(one.What, item) || one.What == name {
			return true
		}
	}
	return false
}
