package chest

import "tansu/internal/core/reference"

// LabelText writes labels as rows hold them; they were checked when they were read.
func LabelText(labels map[string]string) string {
	parsed, _ := reference.LabelsOf(labels)
	return parsed.String()
}
