package service

import (
	"net/netip"
	"strconv"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// What is counted of the entries of the trail, so that nobody has to read all of it to know. A use with the same kind, key
// and other is counted together.
const (
	useGrant       = "grant"        // a grant, and the action that it was used for
	useGrantTarget = "grant_target" // a grant, and what it was used on
	useSeen        = "seen"         // a subject; the detail is how it came and from where
	useCredential  = "credential"   // a credential that a token was issued for
	useRead        = store.UseRead  // an item by the name it was read by, and the reader; the detail is which version
	useNetwork     = "network"      // a reader, and the network it read from
	useClock       = "clock"        // a reader, and the hour of the day in UTC: "07"
	useHour        = "hour"         // a drawer, and an hour of one day with a reader: "2026-11-23T07 app:ticket-api"
)

// usesOf is what an entry tells about uses. It looks at nothing else, so that counting again gives the same.
func usesOf(e trail.Entry) (list []store.Use) {
	if e.Outcome != trail.Allowed {
		return nil
	}
	add := func(kind, key, other, detail string) {
		list = append(list, store.Use{Kind: kind, Key: key, Other: other, Detail: detail})
	}
	if e.Via != "" && e.Subject != unknown && e.Addr != "" {
		add(useSeen, e.Subject, "", e.Via+" "+e.Addr)
	}
	if id, found := strings.CutPrefix(e.Detail, "with cr_"); found && e.Action == "issue_token" {
		add(useCredential, "cr_"+id, "", "")
	}
	if e.Action == access.ReadValue.String() {
		add(useRead, e.Target, e.Subject, readingDetail(e))
		add(useNetwork, e.Subject, networkOf(e.Addr), "")
		add(useClock, e.Subject, e.At.UTC().Format("15"), "")
		drawer, _, _ := strings.Cut(e.Target, "/")
		add(useHour, drawer, e.At.UTC().Format("2006-01-02T15")+" "+e.Subject, "")
	}
	if e.Grant != "" {
		add(useGrant, e.Grant, actionUsed(e), "")
		add(useGrantTarget, e.Grant, e.Target, "")
	}
	return list
}

// networkOf is the network around an address that counts as the same place: 256 IPv4 addresses, or one IPv6 subnet.
func networkOf(addr string) string {
	ip, err := netip.ParseAddr(addr)
	if err != nil {
		return addr
	}
	bits := 64
	if ip = ip.Unmap(); ip.Is4() {
		bits = 24
	}
	prefix, err := ip.WithZone("").Prefix(bits)
	if err != nil {
		return addr
	}
	return prefix.String()
}

// readingDetail is a version's number, with a mark if it was asked for by that.
func readingDetail(e trail.Entry) string {
	detail := strconv.Itoa(e.Version)
	if strings.HasPrefix(e.Detail, byNumber) {
		detail += pinnedMark
	}
	return detail
}

const pinnedMark = "!"

// readingOf reads a use of kind read.
func readingOf(use store.Use) Reader {
	number, pinned := strings.CutSuffix(use.Detail, pinnedMark)
	version, _ := strconv.Atoi(number)
	return Reader{Subject: use.Other, Version: version, Last: fromMicros(use.At), Pinned: pinned}
}

// Seen is when and how somebody was last there; the zero Seen is never.
type Seen struct {
	At   time.Time
	Addr string
	Via  string
}

// seenOf reads a use of kind seen.
func seenOf(use store.Use) Seen {
	via, addr, _ := strings.Cut(use.Detail, " ")
	return Seen{At: fromMicros(use.At), Addr: addr, Via: via}
}

// actionUsed is the access action that an entry used: overviews and whole-chest acts have names of their own.
func actionUsed(e trail.Entry) string {
	switch e.Action {
	case "list_drawers":
		return access.List.String()
	case "list_identities", "list_refusals", "read_policy":
		return "" // any of several actions allows it, so that it proves the use of none
	case "lock", "examine":
		return access.Operate.String()
	case "apply_policy", "answer_request":
		return access.GrantAccess.String()
	}
	if act, what, isAct := strings.Cut(e.Action, "_"); isAct && (what == "item" || what == "version") && rights[lifecycle.Act(act)] != 0 {
		return rights[lifecycle.Act(act)].String()
	}
	return e.Action
}

// uses lists what is counted of a kind, up to the newest entry.
func (s *Service) uses(f store.UseFilter) ([]store.Use, error) {
	if err := s.records.CatchUp(); err != nil {
		return nil, err
	}
	return s.records.Uses(f)
}

// lastRead is when an item was last read under a name, as far as reads are counted; zero for never.
func lastRead(records Records, target string) (last time.Time, err error) {
	uses, err := records.Uses(store.UseFilter{Kind: useRead, Keys: []string{target}})
	for _, use := range uses {
		if at := fromMicros(use.At); at.After(last) {
			last = at
		}
	}
	return last, err
}
