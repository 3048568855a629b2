package service_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/secretvalue"
	"tansu/internal/service"
	"tansu/internal/shelf"
	"tansu/internal/store"
)

// shelve moves the values of some numbers into a drawer, ten thousand at a time; they end at a time.
func shelve(b testing.TB, s *service.Service, steward chest.Caller, drawer string, from, to int, until time.Time) {
	for at := from; at < to; at += 10_000 {
		report, err := s.Import(steward, drawer, shelf.NewImport{Format: importfile.Dotenv, Content: plaintext(at, min(to, at+10_000)),
			Window: lifecycle.Window{NotAfter: until}})
		if err != nil || !report.Done {
			b.Fatal(report, err)
		}
	}
}

// plaintext is a dotenv file with one line for each number.
func plaintext(from, to int) secretvalue.Value {
	var text bytes.Buffer
	for n := from; n < to; n++ {
		fmt.Fprintf(&text, "BERTH_%07d_KEY=value of thirty-two bytes %07d\n", n, n)
	}
	return secretvalue.New(text.Bytes())
}

// The benchmarks behind import_over_raw_insert: 10 000 values through the service, and the very rows that this made
// copied into another database with the same tables, one statement a row in one transaction.
func BenchmarkImport10k(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		s, _, steward := open(b)
		b.StartTimer()
		shelve(b, s, steward, "d", 0, 10_000, time.Time{})
	}
}

func BenchmarkRawInsert10k(b *testing.B) {
	s, records, steward := open(b)
	shelve(b, s, steward, "d", 0, 10_000, time.Time{})
	source, err := sql.Open("sqlite", "file:"+filepath.Join(records.Dir(), "chest.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = source.Close() }()
	tables := map[string][][]any{}
	for _, table := range []string{"items", "versions", "contents"} {
		tables[table] = rowsOf(b, source, table)
	}
	for b.Loop() {
		b.StopTimer()
		dir := b.TempDir()
		other, err := store.Create(filepath.Join(dir, "chest"))
		if err != nil {
			b.Fatal(err)
		}
		if err := other.Close(); err != nil {
			b.Fatal(err)
		}
		db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "chest",
			"chest.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=secure_delete(1)")
		if err != nil {
			b.Fatal(err)
		}
		db.SetMaxOpenConns(1)
		b.StartTimer()
		insertRows(b, db, tables)
		_ = db.Close()
	}
}

func rowsOf(b *testing.B, db *sql.DB, table string) (list [][]any) {
	rows, err := db.Query("SELECT * FROM " + table)
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = rows.Close() }()
	columns, err := rows.Columns()
	if err != nil {
		b.Fatal(err)
	}
	for rows.Next() {
		values, places := make([]any, len(columns)), make([]any, len(columns))
		for i := range values {
			places[i] = &values[i]
		}
		if err := rows.Scan(places...); err != nil {
			b.Fatal(err)
		}
		list = append(list, values)
	}
	return list
}

func insertRows(b *testing.B, db *sql.DB, tables map[string][][]any) {
	tx, err := db.Begin()
	if err != nil {
		b.Fatal(err)
	}
	for _, table := range []string{"items", "versions", "contents"} {
		statement, err := tx.Prepare("INSERT INTO " + table + " VALUES (?" + string(bytes.Repeat([]byte(", ?"), len(tables[table][0])-1)) + ")")
		if err != nil {
			b.Fatal(err)
		}
		for _, row := range tables[table] {
			if _, err := statement.Exec(row...); err != nil {
				b.Fatal(err)
			}
		}
	}
	if err := tx.Commit(); err != nil {
		b.Fatal(err)
	}
}

// The benchmarks behind search_ms_100k and due_query_ms_100k: 100 000 items in one drawer, each with a window, every
// thousandth of which ends within two weeks. The searches are for a word that one item has, for one that none has, and a page of all.
func Benchmark100k(b *testing.B) {
	s, _, steward := open(b)
	now := time.Now()
	shelve(b, s, steward, "d", 0, 99_900, now.AddDate(1, 0, 0))
	shelve(b, s, steward, "d", 99_900, 100_000, now.AddDate(0, 0, 7))
	for name, query := range map[string]string{"SearchRare": "berth-0077777", "SearchNone": "no-such-berth",
		"SearchOwner": "owner:person:nobody-at-all", "SearchPage": "berth", "SearchDue": "state:due"} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := s.Search(steward, query, "", 50); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	b.Run("List", func(b *testing.B) {
		for b.Loop() {
			if _, err := s.Search(steward, "drawer:d", "d/berth-0050000-key", 50); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("Due", func(b *testing.B) {
		for b.Loop() {
			list, err := s.DueItems(steward, 14*24*time.Hour)
			if err != nil || len(list) != 100 {
				b.Fatal(len(list), err)
			}
		}
	})
}
