package shelf

import (
	"tansu/internal/chest"
	"tansu/internal/core/secretvalue"
)

// fillKey makes a new version of a key, or takes one that was made elsewhere.
func (n NewVersion) fillKey() (f filled, err error) {
	if n.Content.Len() > 0 || n.Recipe != "" || len(n.Fields) > 0 {
		return f, chest.Invalid("value", "this item is a key: a version is made in the chest, or brought along (brought), and has no value")
	}
	stored, public, err := n.key.Make(n.Brought.Reveal())
	f.content, f.size, f.public = secretvalue.New(stored), len(stored), public
	return f, err
}
