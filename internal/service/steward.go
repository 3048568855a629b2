package service

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/credential"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// stateSetAside is that of a steward who has handed the duties over. Only the machine itself changes it back.
const stateSetAside = "set_aside"

// SetStewardsAside ends the time of every steward: they cannot sign in any more, and nothing that comes over the
// network brings them back. Somebody else must be able to give access and register first.
func (s *Service) SetStewardsAside(c Caller) (aside []string, err error) {
	a := s.attempt(c, "set_steward_aside", "")
	s.changing.Lock()
	defer s.changing.Unlock()
	var before []store.Identity
	var tokens []store.Token
	var steward, handedOver bool
	err = s.view(func(st *state) error {
		steward = st.isSteward(c, a.entry.At)
		for _, id := range st.stewards(a.entry.At) {
			if row := st.identities[id]; row.State != stateSetAside {
				before = append(before, row)
			}
		}
		slices.SortFunc(before, func(x, y store.Identity) int { return cmp.Compare(x.Name, y.Name) })
		isSteward := func(id string) bool {
			return slices.ContainsFunc(before, func(row store.Identity) bool { return row.ID == id })
		}
		for _, t := range st.tokens {
			if isSteward(t.Identity) {
				tokens = append(tokens, t)
			}
		}
		for id := range st.identities {
			handedOver = handedOver || !isSteward(id) && st.canRun(id, a.entry.At)
		}
		return nil
	})
	switch {
	case err != nil:
		return nil, err
	case !steward:
		return nil, a.refuse(&Error{Code: Refused, Reason: stewardOnly, Detail: "only a steward sets the steward aside"})
	case !handedOver:
		return nil, a.fail(&Error{Code: NotHandedOver, Detail: "nobody else could run the chest: first make a person gatekeeper on ** and let them enrol"})
	}
	after := make([]store.Identity, len(before))
	for i, row := range before {
		after[i] = row
		after[i].State = stateSetAside
		aside = append(aside, subjectOf(row))
	}
	a.entry.Detail = fmt.Sprintf("set aside: %v", aside)
	err = a.change("the steward", func(tx *store.Tx) (err error) {
		for i := range after {
			if after[i], err = store.Update(tx, before[i], after[i]); err != nil {
				return err
			}
		}
		return deleteAll(tx, tokens)
	}, func(st *state) {
		for _, row := range after {
			st.putIdentity(row)
		}
		st.dropTokens(tokens)
	})
	return aside, err
}

// stewards lists whoever a grant of the steward's role reaches, whatever its conditions.
func (st *state) stewards(now time.Time) (ids []string) {
	for _, row := range st.grants {
		if row.Role == access.Steward && row.Effect == string(access.Allow) && describeGrant(st, row).inForce(now).InForce {
			ids = append(ids, st.holders(row.Subject)...)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// canRun reports whether a person who is active and has a password can give access to everything and register.
func (st *state) canRun(id string, now time.Time) bool {
	row := st.identities[id]
	return row.Kind == reference.Person && row.State == stateActive && row.Password != "" && st.policy.Surely(id, access.GrantAccess|access.Register, everything, now)
}

// BringStewardBack makes the founding person steward again, with a new enrolment code, in a data directory that no
// service runs on. It takes the unlock material, so that only who holds it and the machine can do it.
func BringStewardBack(records *store.Store, material secretvalue.Value, now time.Time) (secretvalue.Value, error) {
	var none secretvalue.Value
	chest, root, snapshot, err := openOffline(records, material)
	if err != nil {
		return none, err
	}
	defer root.Erase()
	defer records.Unbind()
	at := slices.IndexFunc(snapshot.Identities, func(row store.Identity) bool { return row.Kind == reference.Person && row.Name == Founder })
	if at < 0 {
		return none, errors.New("the chest has no founding person")
	}
	before := snapshot.Identities[at]
	after := before
	after.State, after.Password = stateActive, ""
	code, hash := credential.New(credential.Enrolment)
	enrolment := store.Credential{ID: newID("cr_"), Identity: before.ID, Kind: kindEnrolment, Hash: hash[:],
		NotAfter: micros(now.Add(enrolmentLife)), CreatedAt: micros(now), CreatedBy: machine}
	grant := store.Grant{ID: newID("gr_"), Subject: before.ID, Effect: string(access.Allow), Role: access.Steward, Scope: everything.String(),
		Reason: "brought back from the machine", CreatedAt: micros(now), CreatedBy: machine}
	holds := slices.ContainsFunc(snapshot.Grants, func(g store.Grant) bool {
		return g.Subject == before.ID && g.Role == access.Steward && g.EndedAt == 0 && g.NotAfter == 0
	})
	err = records.Submit(&store.Work{
		Entry: trail.Entry{At: now, Subject: machine, Via: chest.SlotMethod, Action: "bring_steward_back", Target: subjectOf(before), Outcome: trail.Allowed},
		Change: func(tx *store.Tx) error {
			for _, t := range snapshot.Tokens {
				if t.Identity == before.ID {
					if err := store.Delete(tx, t); err != nil {
						return err
					}
				}
			}
			for _, cr := range snapshot.Credentials {
				if cr.Identity == before.ID {
					if err := store.Delete(tx, cr); err != nil {
						return err
					}
				}
			}
			if !holds {
				if _, err := store.Insert(tx, grant); err != nil {
					return err
				}
			}
			if _, err := store.Insert(tx, enrolment); err != nil {
				return err
			}
			_, err := store.Update(tx, before, after)
			return err
		},
	})
	return code, err
}

// machine is the subject of entries about what was done on the machine itself, without an identity.
const machine = "machine"

// openOffline opens a chest that no service runs on.
func openOffline(records *store.Store, material secretvalue.Value) (chest store.Chest, root *envelope.Root, snapshot *store.Snapshot, err error) {
	if chest, err = records.Chest(); err != nil {
		return chest, nil, nil, err
	}
	if root, err = slotOf(chest).Open(chest.ID, material); err != nil {
		return chest, nil, nil, err
	}
	if snapshot, err = records.Bind(root); err != nil {
		root.Erase()
		return chest, nil, nil, err
	}
	return chest, root, snapshot, nil
}

// Examine checks every row that decides access, in a data directory that no service runs on. What was changed outside
// Tansu is a [*store.TamperedError].
func Examine(records *store.Store, material secretvalue.Value) error {
	_, root, _, err := openOffline(records, material)
	if err != nil {
		return err
	}
	records.Unbind()
	root.Erase()
	return nil
}

// Examine checks every row that decides access as it is in the file now. It returns what was changed outside Tansu, a
// sentence each; none when all is as it was stored.
func (s *Service) Examine(c Caller) (touched []string, err error) {
	a, err := s.allow(c, access.Operate)
	if err != nil {
		return nil, err
	}
	a.entry.Action = "examine"
	s.unlocking.Lock() // so that the keys stay where they are
	defer s.unlocking.Unlock()
	var root *envelope.Root
	if err := s.view(func(st *state) error { root = st.root; return nil }); err != nil {
		return nil, err
	}
	err = s.records.Check(root)
	var tampered *store.TamperedError
	switch {
	case errors.As(err, &tampered):
		touched = tampered.Sentences()
		a.entry.Detail = tampered.Error()
		s.options.Log.Error("the database was changed outside Tansu", "error", err)
	case err != nil:
		return nil, a.fail(err)
	}
	problems, err := s.examineTrail()
	if err != nil {
		return nil, a.fail(err)
	}
	if len(problems) > 0 {
		a.entry.Detail += " " + strings.Join(problems, "; ")
		s.options.Log.Error("the trail was changed outside Tansu", "problems", problems)
	}
	return answer(a, append(touched, problems...))
}
