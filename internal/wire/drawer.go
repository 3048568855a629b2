package wire

import (
	"tansu/client"
	"tansu/internal/shelf"
)

// Drawer is what is told of a drawer.
func Drawer(d shelf.Drawer) client.Drawer {
	var next *client.Rules
	if !d.RulesFrom.IsZero() {
		rules := Rules(d.NextRules)
		next = &rules
	}
	return client.Drawer{Notes: d.Notes, Rules: Rules(d.Rules), NextRules: next, RulesFrom: d.RulesFrom, Name: d.Name,
		Environment: d.Environment, Description: d.Description, Owner: d.Owner, Labels: d.Labels,
		KeysOpen: d.KeysOpen, MasterKey: d.MasterKey, MasterKeyState: d.KeyState,
		Approval:  client.Approval{Items: append([]string{}, d.Approval.Items...), Of: d.Approval.Of},
		CreatedAt: d.CreatedAt, CreatedBy: d.CreatedBy, Revision: d.Revision, Items: d.Items, Due: d.Due, Overdue: d.Overdue}
}

// ShreddedDrawer is what is told of what is left of one.
func ShreddedDrawer(r shelf.ShreddedDrawer) client.ShreddedDrawer {
	answer := client.ShreddedDrawer{Name: r.Name, At: r.At, By: r.By, Items: r.Items, Grants: append([]string{}, r.Grants...)}
	for _, old := range r.OldNames {
		answer.OldNames = append(answer.OldNames, client.OldName(old))
	}
	return answer
}
