package chest

import (
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/entity"
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
	MayEnd    bool // whether whoever asked may end it, and MayRenew whether they may let it last longer; set where grants are listed
	MayRenew  bool
	Conditions
}

// DescribeGrant describes a grant as it is at a moment.
func (st *Snapshot) DescribeGrant(row entity.Grant, now time.Time) GrantInfo {
	g := GrantInfo{ID: row.ID, Subject: SubjectOf(st.Identity(row.Subject)), Effect: row.Effect, Role: row.Role, Scope: row.Scope,
		Reason: row.Reason, CreatedAt: FromMicros(row.CreatedAt), CreatedBy: row.CreatedBy, NotAfter: FromMicros(row.NotAfter),
		EndedAt: FromMicros(row.EndedAt), EndedBy: row.EndedBy, Conditions: ConditionsOf(row)}
	g.InForce = InForce(row, now)
	return g
}

// KnowsGrant reports whether a caller may know of a grant: one of their own or of a team that they are in, one that they may give or
// whose scope they may read the trail of, and any for whoever reads the whole trail.
func (st *Snapshot) KnowsGrant(c Caller, row entity.Grant, now time.Time) bool {
	if row.Subject == c.ID || st.isIn(row.Subject, c.ID) {
		return true
	}
	ctx := c.Context(now)
	if st.Decide(c.ID, access.ReadTrail, ctx).Allowed {
		return true
	}
	scope, err := access.ParseScope(row.Scope)
	return err == nil && (st.Policy.DecideScope(c.ID, access.GrantAccess, scope, ctx).Allowed ||
		st.Policy.DecideScope(c.ID, access.ReadTrail, scope, ctx).Allowed)
}

// isIn reports whether an identity is in a team, directly or through another.
func (st *Snapshot) isIn(team, identity string) bool {
	return slices.ContainsFunc(st.MembershipsOf(identity), func(m entity.Member) bool { return m.Team == team || st.isIn(team, m.Team) })
}

// InForce reports whether a grant gives or denies something at a moment, if its conditions hold.
func InForce(row entity.Grant, now time.Time) bool {
	return row.EndedAt == 0 && (row.NotAfter == 0 || Micros(now) < row.NotAfter)
}

// DescribeGrants describes grants by their ids.
func (st *Snapshot) DescribeGrants(ids []string, now time.Time) (list []GrantInfo) {
	for _, id := range ids {
		list = append(list, st.DescribeGrant(st.Grant(id), now))
	}
	return list
}
