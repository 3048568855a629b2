package chest

import (
	"strings"

	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
)

// LabelText writes labels as rows hold them; they were checked when they were read.
func LabelText(labels map[string]string) string {
	parsed, _ := reference.LabelsOf(labels)
	return parsed.String()
}

// ApprovalText writes a rule about approvals as rows hold it.
func ApprovalText(rule *policytext.Approval) (items, of string) {
	if len(rule.Items) == 0 {
		return "", ""
	}
	of = rule.Of
	if of == "" {
		of = policytext.OfEveryone
	}
	return strings.Join(rule.Items, " "), of
}
