package record

import (
	"strconv"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/keyrow"
)

// exposing are the actions by which a version of an item gets to somebody: it is read, or, of a key that stays in the chest, used. Of these
// the first is the one that does the most harm.
func exposing(it *chest.Item) (actions []access.Action, used bool) {
	facts := keyrow.Of(it.Row)
	if it.Row.Kind == entity.KindAuthority || it.Row.Kind == entity.KindProfile {
		return nil, false // the one signs as its profiles say, and the other says it
	}
	if facts == nil || facts.GivenOut {
		return []access.Action{access.ReadValue}, false
	}
	for _, one := range []struct {
		operation cryptokey.Operations
		action    access.Action
	}{{cryptokey.Sign, access.Sign}, {cryptokey.Decrypt | cryptokey.UnwrapKey | cryptokey.DeriveBits, access.Decrypt},
		{cryptokey.Encrypt | cryptokey.WrapKey, access.Encrypt}} {
		if facts.Operations&one.operation != 0 {
			actions = append(actions, one.action)
		}
	}
	return actions, true
}

// certified lists what to do about what others believe of a version: a certificate is good until it ends, or is revoked, whatever is served
// by then; and an authority keeps its key, so that it cannot be replaced by a version.
func certified(a *chest.Attempt, it *chest.Item, name string, version int) (list []Replacement) {
	facts := certrow.Of(it.Versions[version-1].Facts)
	if facts == nil || facts.Serial == "" || facts.Revoked != "" || !facts.NotAfter.After(a.Entry.At) {
		return nil
	}
	until := facts.NotAfter.UTC().Format(time.DateOnly)
	if it.Row.Kind == entity.KindAuthority {
		good := 0
		for _, row := range a.St.IssuedBy(it.Row.ID) {
			if row.RevokedAt == 0 && chest.FromMicros(row.NotAfter).After(a.Entry.At) {
				good++
			}
		}
		return []Replacement{
			{name, "whoever has its key signs as this authority until " + until + ": make another one, and let profiles name that",
				"tansu authority create " + name + "-new"},
			{name, "take it out of what trusts it, or have the authority above revoke it, and have issued anew what it has signed: " +
				reference.Counted(good, "good certificate"), "tansu authority issued " + name + " --state good"},
		}
	}
	step := Replacement{name + "@" + strconv.Itoa(version), "its certificate is good until " + until + ", whatever is served: have whoever " +
		"issued it revoke it", ""}
	if by := issuerOf(a, facts); by != "" {
		step.Why = "its certificate is good until " + until + ", whatever is served: revoke it"
		step.Command = "tansu authority revoke " + by + " " + facts.Serial + " --why key_compromise"
	}
	return []Replacement{step}
}

// issuerOf is the authority of this chest that issued a certificate, by its name; empty for another one, and one that the caller may not
// list.
func issuerOf(a *chest.Attempt, facts *certrow.Facts) string {
	profile, _, is := certrow.Where(a.St, facts.Made)
	if !is {
		return ""
	}
	for _, v := range profile.Item.Versions { // which may have named several
		said := certrow.Of(v.Facts)
		if said == nil {
			continue
		}
		if _, known := a.St.IssuedAs(said.Signer, facts.Serial); known {
			spot, ref, is := certrow.Where(a.St, said.Signer)
			if !is || !a.St.MayList(a.Caller, spot.Home, spot.Item, a.Entry.At) {
				return ""
			}
			return ref.String()
		}
	}
	return ""
}
