package policytext

import (
	_ "embed" // for the schema
	"slices"
)

//go:embed policy.schema.json
var schema []byte

// Schema returns the JSON Schema (draft 2020-12) of policy files, for editors.
func Schema() []byte { return slices.Clone(schema) }
