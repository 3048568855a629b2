package trail

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"
)

func full() Entry {
	return Entry{Seq: 7, At: time.Date(2026, 11, 23, 8, 0, 0, 123456000, time.UTC), Subject: "app:ticket-api", Via: "app_token",
		Action: "read_value",
		Target: "ticketing-prod/db-password", Version: 3, Outcome: Allowed, Reason: "r", Grant: "gr_1", Detail: "d", RequestID: "q",
		Receipt: "c", Addr: "192.0.2.1", Count: 12}
}

// These bytes are what hashes will be over: they may never change.
func TestEncodingStaysWhatItWas(t *testing.T) {
	e := full()
	const want = `{"action":"read_value","addr":"192.0.2.1","at":"2026-11-23T08:00:00.123456Z","count":12,"detail":"d","grant":"gr_1","outcome":"allowed","reason":"r","receipt":"c","request_id":"q","seq":7,"subject":"app:ticket-api","target":"ticketing-prod/db-password","version":3,"via":"app_token"}`
	if got := string(e.AppendCanonical(nil)); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}

func TestEncodingIsCanonical(t *testing.T) {
	e := full()
	var members map[string]json.RawMessage
	if err := json.Unmarshal(e.AppendCanonical(nil), &members); err != nil {
		t.Fatal(err)
	}
	decoder := json.NewDecoder(strings.NewReader(string(e.AppendCanonical(nil))))
	var names []string
	for depth := 0; ; {
		token, err := decoder.Token()
		if err != nil {
			break
		}
		if name, ok := token.(string); ok && depth%2 == 0 {
			names = append(names, name)
		}
		if _, delimiter := token.(json.Delim); !delimiter {
			depth++
		}
	}
	if !slices.IsSorted(names) || len(names) != len(members) {
		t.Errorf("members are not sorted or repeat: %v", names)
	}
}

func FuzzEncodingReadsBack(f *testing.F) {
	f.Add("a\"\\\x00\x1f\u2028é\b\t", "ticketing-prod")
	f.Fuzz(func(t *testing.T, detail, target string) {
		e := Entry{Seq: 1, At: time.Unix(1, 0).UTC(), Subject: "s", Action: "a", Outcome: Failed, Detail: detail, Target: target}
		got, err := Decode(e.AppendCanonical(nil))
		if err != nil {
			t.Fatal(err)
		}
		if want := string([]rune(detail)); got.Detail != want { // every byte that is not UTF-8 becomes U+FFFD
			t.Fatalf("got %q, want %q", got.Detail, want)
		}
		got.At = got.At.UTC()
		again, err := Decode(got.AppendCanonical(nil))
		if err != nil || again != got {
			t.Fatalf("read again: got %+v, %v; want %+v", again, err, got)
		}
	})
}

func TestDecodeReadsEveryField(t *testing.T) {
	e := full()
	got, err := Decode(e.AppendCanonical(nil))
	if err != nil || got != e {
		t.Errorf("got %+v, %v; want %+v", got, err, e)
	}
}

func TestTimesAreWrittenAsTheLayoutSays(t *testing.T) {
	for _, at := range []time.Time{{}, time.Unix(0, 999), time.Unix(0, 1000), time.Unix(1795459200, 999_999_999),
		time.Unix(1795459200, 45_000_000).In(time.FixedZone("", 3600))} {
		if got, want := FormatTime(at), at.UTC().Format(timeLayout); got != want {
			t.Errorf("got %s, want %s", got, want)
		}
	}
}

// Who restores a chest ends again what was ended and stayed so: what was begun again is not ended, what was both suspended and retired is
// ended until it is neither, and nothing that was refused, or that keeps somebody out, counts.
func TestWhatLastsOfWhatWasEnded(t *testing.T) {
	did := func(action, target, detail string, more func(*Entry)) Entry {
		e := Entry{Action: action, Target: target, Detail: detail, Outcome: Allowed}
		if more != nil {
			more(&e)
		}
		return e
	}
	item := func(id string, version int) func(*Entry) {
		return func(e *Entry) { e.ItemID, e.Version = id, version }
	}
	given := func(id string) func(*Entry) { return func(e *Entry) { e.Given = id } }
	var since Since
	for i, e := range []Entry{
		did("register", "app:gone", "state suspended", nil),
		did("register", "app:back", "state suspended", nil),
		did("register", "app:back", "state active", nil),
		did("register", "app:refused", "state suspended", func(e *Entry) { e.Outcome = Refused }),
		did("register", "team:crew", "leave app:gone", nil),
		did("register", "team:crew", "leave app:back", nil),
		did("register", "team:crew", "join app:back", nil),
		did("register", "app:gone", "revoke credential cr_1", func(e *Entry) { e.Credential = "cr_1" }),
		did("register", "app:gone", "issue credential cr_2, a secret", func(e *Entry) { e.Credential = "cr_2" }),
		did("grant", "a/*", "end grant gr_1", given("gr_1")),
		did("grant", "a/*", "end grant gr_2, which denied", given("gr_2")),
		did("suspend_item", "a/x", "", item("it_x", 0)),
		did("retire_item", "a/x", "", item("it_x", 0)),
		did("restore_item", "a/x", "", item("it_x", 0)),
		did("suspend_item", "a/y", "", item("it_y", 0)),
		did("resume_item", "a/y", "", item("it_y", 0)),
		did("shred_version", "a/y", "", item("it_y", 2)),
		did("resume_version", "a/y", "", item("it_y", 2)),
		did("read_value", "a/y", "", item("it_y", 1)),
		did("end_calendar", "", "calendar ca_1", nil),
	} {
		e.Seq = uint64(i + 1)
		since.Add(&e)
	}
	want := []End{{1, OfIdentity, "app:gone", 0}, {5, OfMembership, "team:crew app:gone", 0},
		{8, OfCredential, "cr_1", 0}, {10, OfGrant, "gr_1", 0}, {12, OfItem, "it_x", 0}, {17, OfVersion, "it_y", 2},
		{20, OfCalendar, "ca_1", 0}}
	if got := since.Ends(); !slices.Equal(got, want) {
		t.Errorf("what lasts is %v, and should be %v", got, want)
	}
}
