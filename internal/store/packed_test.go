package store

import (
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"

	"github.com/jmoiron/sqlx"

	"tansu/internal/datadir"
)

// Entries that are committed together are packed. They are read back to the byte; and whatever somebody does to the packed
// bytes, the entries that come out differently are named, and nothing ends for it.
func TestPackedEntriesAreWhatWasRecorded(t *testing.T) {
	s, dir := newStore(t)
	random := rand.New(rand.NewPCG(10, 11))
	list := many(random, 600)
	must(t, s.Submit(&Work{Entry: list[0], More: list[1:]}))
	must(t, s.CatchUp())
	read := func() (bodies []string) {
		must(t, s.Bodies(1, func(_ uint64, body string) bool { bodies = append(bodies, body); return true }))
		return bodies
	}
	recorded := read()
	for i := range list {
		at := len(recorded) - len(list) + i
		list[i].Seq = uint64(at + 1)
		if want := string(list[i].AppendCanonical(nil)); recorded[at] != want {
			t.Fatalf("recorded %s, read %s", want, recorded[at])
		}
	}
	db, err := sqlx.Open("sqlite", filepath.Join(dir, datadir.DatabaseName))
	must(t, err)
	defer func() { _ = db.Close() }()
	var packed []byte
	var first uint64
	must(t, db.QueryRow("SELECT first, packed FROM entries WHERE packed IS NOT NULL ORDER BY first LIMIT 1").Scan(&first, &packed))
	var text int
	must(t, db.Get(&text, "SELECT count(*) FROM entries WHERE packed IS NOT NULL AND bodies != ''"))
	if text != 0 {
		t.Error("a row is there packed and as it is")
	}
	for range 200 {
		damaged := slices.Clone(packed)
		switch place := random.IntN(len(damaged)); random.IntN(3) {
		case 0:
			damaged[place] ^= 1 << random.IntN(8)
		case 1:
			damaged = damaged[:place]
		default:
			damaged = slices.Insert(damaged, place, byte(random.IntN(256)))
		}
		_, err := db.Exec("UPDATE entries SET packed = ? WHERE first = ?", damaged, first)
		must(t, err)
		changed, err := s.ChangedEntries(1000)
		must(t, err)
		if len(changed) == 0 && !slices.Equal(read(), recorded) {
			t.Fatalf("packed bytes were changed, and nothing is noticed: % x", damaged[:min(len(damaged), 40)])
		}
	}
}
