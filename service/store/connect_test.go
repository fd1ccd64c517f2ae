package store

import (
	"errors"
	"net/url"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"proudsieve/postgres/postgrestest"
)

// A database that has no place for one more connection is waited for, not said to be away.
func TestAPlaceInTheDatabaseIsWaitedFor(t *testing.T) {
	address := postgrestest.Database(t)
	everything := postgrestest.Connect(t, address)
	if _, err := everything.Exec(ctx, "CREATE ROLE narrow LOGIN PASSWORD 'narrow' CONNECTION LIMIT 1"); err != nil {
		t.Fatal(err)
	}
	narrow, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	narrow.User = url.UserPassword("narrow", "narrow")
	first, err := connect(ctx, narrow.String())
	if err != nil {
		t.Fatal(err)
	}
	stop := time.AfterFunc(300*time.Millisecond, func() { _ = first.Close() })
	defer stop.Stop()
	began := time.Now()
	second, err := connect(ctx, narrow.String())
	if err != nil {
		t.Fatalf("a database that was full for a moment: %v", err)
	}
	defer second.Close()
	if time.Since(began) < 200*time.Millisecond {
		t.Error("the database had a place; the test proves nothing")
	}
}

func TestOnlyAFullOrStartingDatabaseIsWaitedFor(t *testing.T) {
	for code, want := range map[string]bool{"53300": true, "57P03": true, "28P01": false, "3D000": false} {
		if full(&pgconn.PgError{Code: code}) != want {
			t.Errorf("%s: waited for is %v", code, !want)
		}
	}
	if full(errors.New("connection refused")) {
		t.Error("a database that is not there is not waited for")
	}
}
