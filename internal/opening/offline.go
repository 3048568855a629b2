package opening

import (
	"errors"
	"slices"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/credential"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/store"
	"time"
)

// BringStewardBack makes the founding person steward again, with a new enrolment code, in a data directory that no
// service runs on. It takes the unlock material, so that only who holds it and the machine can do it.
func BringStewardBack(records *store.Store, material secretvalue.Value, now time.Time) (secretvalue.Value, error) {
	var none secretvalue.Value
	found, snapshot, err := openOffline(records, material, now)
	if err != nil {
		return none, err
	}
	defer found.root.Erase()
	defer records.Unbind()
	at := slices.IndexFunc(snapshot.Identities, func(row entity.Identity) bool {
		return row.Kind == reference.Person &&
			row.Name == chest.Founder
	})
	if at < 0 {
		return none, errors.New("the chest has no founding person")
	}
	before := snapshot.Identities[at]
	after := before
	after.State, after.Password = chest.Active, ""
	code, hash := credential.New(credential.Enrolment)
	enrolment := entity.Credential{ID: chest.NewID("cr_"), Identity: before.ID, Kind: string(credential.Enrolment), Hash: hash[:],
		NotAfter: chest.Micros(now.Add(chest.EnrolmentLife)), CreatedAt: chest.Micros(now), CreatedBy: machine}
	grant := entity.Grant{ID: chest.NewID("gr_"), Subject: before.ID, Effect: string(access.Allow), Role: access.Steward,
		Scope:  chest.Everything.String(),
		Reason: "brought back from the machine", CreatedAt: chest.Micros(now), CreatedBy: machine}
	holds := slices.ContainsFunc(snapshot.Grants, func(g entity.Grant) bool {
		return g.Subject == before.ID && g.Role == access.Steward && g.EndedAt == 0 && g.NotAfter == 0
	})
	made := &store.Change{}
	for _, t := range snapshot.Tokens {
		if t.Identity == before.ID {
			made.Delete(t)
		}
	}
	for _, cr := range snapshot.Credentials {
		if cr.Identity == before.ID {
			made.Delete(cr)
		}
	}
	if !holds {
		made.Insert(grant)
	}
	made.Insert(enrolment)
	made.Update(before, after)
	err = records.Submit(&store.Work{
		Entry: trail.Entry{At: now, Subject: machine, SubjectID: before.ID, Via: found.slot.Method, Credential: found.slot.ID,
			Action: "bring_steward_back", Target: chest.SubjectOf(before), Outcome: trail.Allowed},
		Change: made,
	})
	return code, err
}

// machine is the subject of entries about what was done on the machine itself, without an identity.
const machine = "machine"

// openOffline opens a chest that no service runs on.
func openOffline(records *store.Store, material secretvalue.Value, now time.Time) (found opened, snapshot *store.Snapshot, err error) {
	row, err := records.Chest()
	if err != nil {
		return found, nil, err
	}
	slots, _, err := records.Slots()
	if err != nil {
		return found, nil, err
	}
	if found, err = openWith(row, inTime(slots, now), envelope.MethodOf(material), material); err != nil {
		return found, nil, err
	}
	found.erase()
	if snapshot, err = records.Bind(found.root); err != nil {
		found.root.Erase()
		return found, nil, err
	}
	return found, snapshot, nil
}
