package trail

import (
	"cmp"
	"slices"
	"strings"
)

// Kind is what an entry says was ended.
type Kind string

// The kinds.
const (
	OfIdentity   Kind = "identity"   // was suspended; ID is its name, which nobody else ever has
	OfMembership Kind = "membership" // ID is the name of the team and of the member, with a space between
	OfGrant      Kind = "grant"
	OfCredential Kind = "credential"
	OfCalendar   Kind = "calendar" // a private address
	// A certificate was revoked; ID is that of its authority and its serial number.
	OfCertificate Kind = "certificate"
	OfMasterKey   Kind = "master_key" // was withdrawn
	OfItem        Kind = "item"       // was suspended, retired or shredded
	OfVersion     Kind = "version"    // was suspended or shredded; ID is that of its item
)

// End is something that an entry says was ended.
type End struct {
	Seq     uint64 `db:"seq"`
	Kind    Kind   `db:"kind"`
	ID      string `db:"id"`
	Version int    `db:"version"` // of an item; 0 for what is no version
}

// Since gathers what entries say was ended, and was not begun again after that: each is to be given to it in its order. The zero Since is
// ready.
type Since struct{ ends map[ended]uint64 }

// ended is one way in which something is ended: what is suspended and retired is ended until it is neither.
type ended struct {
	End
	act string
}

// Add takes an entry, and reports whether it says that something was ended or begun again.
func (s *Since) Add(e *Entry) bool {
	end, begins := endIn(e)
	if end.ID == "" || e.Outcome != Allowed {
		return false
	}
	if s.ends == nil {
		s.ends = map[ended]uint64{}
	}
	if begins {
		delete(s.ends, end)
	} else {
		s.ends[end] = e.Seq
	}
	return true
}

// Ends are those that lasted, in the order of their entries.
func (s *Since) Ends() (list []End) {
	byWhat := map[End]uint64{}
	for end, seq := range s.ends {
		byWhat[end.End] = max(byWhat[end.End], seq)
	}
	for end, seq := range byWhat {
		end.Seq = seq
		list = append(list, end)
	}
	slices.SortFunc(list, func(x, y End) int {
		return cmp.Or(cmp.Compare(x.Seq, y.Seq), strings.Compare(x.ID, y.ID))
	})
	return list
}

// endIn is what an entry says was ended, or, if it begins again, that. That somebody is not kept out any more is no end: the end of a
// grant that denies is for whoever reads the list to do again.
func endIn(e *Entry) (end ended, begins bool) {
	word, rest, _ := strings.Cut(e.Detail, " ")
	one := func(kind Kind, id string) ended { return ended{End: End{Kind: kind, ID: id}} }
	switch e.Action {
	case "register":
		switch {
		case e.Detail == "state suspended" || e.Detail == "state active":
			return one(OfIdentity, e.Target), rest == "active"
		case word == "leave" || word == "join":
			return one(OfMembership, e.Target+" "+rest), word == "join"
		case word == "revoke" && e.Credential != "":
			return one(OfCredential, e.Credential), false
		}
	case "grant":
		if e.Detail == "end grant "+e.Given {
			return one(OfGrant, e.Given), false
		}
	case "revoke_certificate":
		if e.ItemID != "" {
			return one(OfCertificate, e.ItemID+"/"+strings.TrimSuffix(word, ":")), false
		}
	case "withdraw_master_key", "give_back_master_key":
		if e.ItemID != "" {
			return one(OfMasterKey, e.ItemID), e.Action == "give_back_master_key"
		}
	case "end_calendar":
		return one(OfCalendar, rest), false
	}
	act, of, _ := strings.Cut(e.Action, "_")
	if undone, is := map[string]string{"resume": "suspend", "restore": "retire"}[act]; is {
		act, begins = undone, true
	} else if act != "suspend" && act != "retire" && act != "shred" {
		return end, false
	}
	switch {
	case e.ItemID != "" && of == "item":
		end = ended{End{Kind: OfItem, ID: e.ItemID}, act}
	case e.ItemID != "" && of == "version":
		end = ended{End{Kind: OfVersion, ID: e.ItemID, Version: e.Version}, act}
	}
	return end, begins
}
