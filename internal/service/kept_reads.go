package service

import (
	"fmt"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/trail"
)

// KeptRead is a read that an agent on a host served from what it keeps.
type KeptRead struct {
	Number    uint64
	Reference reference.Reference
	Version   int
	At        time.Time
	By        string // the user of the host, and the program
	Away      bool   // whether the agent could not reach the chest
}

// MaxKeptReads is how many are reported at once.
const MaxKeptReads = 500

// byAgent begins the detail of entries about reads that were not recorded here before they were served.
const byAgent = "kept on host "

// ReportReads records reads that an agent served as the caller, from what it keeps. They happened, whatever the caller may read
// by now; an app can only say it of itself. One that is reported twice, because the answer was lost, has the same number twice.
func (s *Service) ReportReads(c Caller, host string, reads []KeptRead) error {
	if len(reads) == 0 || len(reads) > MaxKeptReads {
		return invalid("reads", "reads are 1 to %d", MaxKeptReads)
	}
	if err := checkName("host", host); err != nil {
		return err
	}
	for _, read := range reads {
		if err := checkText("by", read.By, MaxDescription); err != nil {
			return err
		}
		if read.Version < 1 {
			return invalid("reads", "each read has the version that was served")
		}
	}
	var kind string
	if err := s.view(func(st *state) error { kind = st.identities[c.id].Kind; return nil }); err != nil {
		return err
	}
	a := s.attempt(c, "report_reads", "")
	if kind != reference.App {
		return a.refuse(&Error{Code: Refused, Reason: "apps_only", Detail: "only an app's reads are kept on hosts, and reported"})
	}
	b := &batch{}
	for _, read := range reads {
		one := s.attempt(c, access.ReadValue.String(), read.Reference.Drawer+"/"+read.Reference.Item)
		one.entry.Version, one.entry.Outcome = read.Version, trail.Allowed
		one.entry.Detail = fmt.Sprintf("%s%s, number %d, at %s by %s", byAgent, host, read.Number, read.At.UTC().Format(time.RFC3339), read.By)
		if read.Away {
			one.entry.Detail += ", while the chest was away"
		}
		if read.Reference.Field != "" {
			one.entry.Detail += ", field " + read.Reference.Field
		}
		if read.Reference.Version != 0 {
			one.entry.Detail = byNumber + " " + one.entry.Detail
		}
		b.entries = append(b.entries, one.entry)
	}
	return s.flush(b)
}

// HostKey returns the key under which the host of an app may keep values on its disk, for who signed in with a credential of the
// app. Whoever cannot sign in with that credential any more does not get it again, and each time is in the trail.
func (s *Service) HostKey(c Caller) (key [envelope.KeySize]byte, err error) {
	a := s.attempt(c, "host_key", c.name)
	credential := ""
	err = s.view(func(st *state) error {
		credential = st.credentials[st.tokens[c.token].Credential].ID
		key = st.root.HostKey(credential)
		return nil
	})
	if err != nil {
		return key, err
	}
	if credential == "" {
		clear(key[:])
		return key, a.refuse(&Error{Code: Refused, Reason: "apps_only", Detail: "a key for what a host keeps is for apps, which sign in with a credential of their own"})
	}
	a.entry.Detail = "for credential " + credential
	if err := a.done(); err != nil {
		clear(key[:])
		return key, err
	}
	return key, nil
}
