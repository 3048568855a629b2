package chest

import (
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/entity"
)

// Conditions are what must hold besides a grant's subject, role and scope, as text; empty ones always hold.
type Conditions struct {
	Networks    []string // CIDR
	Hours       string   // "mon-fri 08:00-18:00 Europe/Lisbon"
	Via         []string // ways of proof, as in access.Ways
	NeedsReason bool
}

// Parse checks conditions.
func (n Conditions) Parse() (parsed access.Conditions, err error) {
	if parsed.Networks, err = access.ParseNetworks(n.Networks); err != nil {
		return parsed, Invalid("networks", "%s", err)
	}
	if parsed.Hours, err = access.ParseHours(n.Hours, time.LoadLocation); err != nil {
		return parsed, Invalid("hours", "%s", err)
	}
	for _, way := range n.Via {
		if !slices.Contains(access.Ways, way) {
			return parsed, Invalid("via", "%.40q is not a way of proof; the ways are %v", way, access.Ways)
		}
	}
	parsed.Via, parsed.NeedsReason = n.Via, n.NeedsReason
	return parsed, nil
}

// ConditionsOf reads a row's.
func ConditionsOf(row entity.Grant) Conditions {
	return Conditions{Networks: strings.Fields(row.Networks), Hours: row.Hours, Via: strings.Fields(row.Via), NeedsReason: row.NeedsReason}
}
