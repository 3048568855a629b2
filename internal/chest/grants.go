package chest

import (
	"time"

	"tansu/internal/store"
)

// GrantInfo is a grant as others see it.
type GrantInfo struct {
	ID        string
	Subject   string
	Effect    string
	Role      string
	Scope     string
	Reason    string
	CreatedAt time.Time
	CreatedBy string
	NotAfter  time.Time // zero for never
	EndedAt   time.Time // zero while nobody has ended it
	EndedBy   string
	InForce   bool
	Conditions
}

// DescribeGrant describes a grant as it is at a moment.
func (st *Snapshot) DescribeGrant(row store.Grant, now time.Time) GrantInfo {
	g := GrantInfo{ID: row.ID, Subject: SubjectOf(st.Identity(row.Subject)), Effect: row.Effect, Role: row.Role, Scope: row.Scope,
		Reason: row.Reason, CreatedAt: FromMicros(row.CreatedAt), CreatedBy: row.CreatedBy, NotAfter: FromMicros(row.NotAfter),
		EndedAt: FromMicros(row.EndedAt), EndedBy: row.EndedBy, Conditions: ConditionsOf(row)}
	g.InForce = InForce(row, now)
	return g
}

// InForce reports whether a grant gives or denies something at a moment, if its conditions hold.
func InForce(row store.Grant, now time.Time) bool {
	return row.EndedAt == 0 && (row.NotAfter == 0 || Micros(now) < row.NotAfter)
}

// DescribeGrants describes grants by their ids.
func (st *Snapshot) DescribeGrants(ids []string, now time.Time) (list []GrantInfo) {
	for _, id := range ids {
		list = append(list, st.DescribeGrant(st.Grant(id), now))
	}
	return list
}
