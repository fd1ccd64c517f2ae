package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/postgres/postgrestest"
	"proudsieve/service/access"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

var ctx = context.Background()

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(ctx, postgrestest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func person(t *testing.T, s *Store, name string) *Person {
	t.Helper()
	p, err := PersonNamed(ctx, s.DB, name, access.Steward)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func dataset(t *testing.T, s *Store, name string) *Dataset {
	t.Helper()
	d, err := EnsureDataset(ctx, s.DB, name, "")
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func delivery(t *testing.T, s *Store, d *Dataset, p *Person, digest string) *Table {
	t.Helper()
	made, err := AddTable(ctx, s.DB, NewTable{DatasetID: d.ID, Origin: OriginDelivery, Digest: digest, Bytes: 5, FileName: "f.csv", CreatedBy: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// audited records a finished audit and returns its id.
func audited(t *testing.T, s *Store, table *Table, p *Person) int64 {
	t.Helper()
	job, err := AddJob(ctx, s.DB, NewJob{Kind: JobAudit, TableID: &table.ID, DatasetID: table.DatasetID, CreatedBy: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	id, err := AddAudit(ctx, s.DB, NewAudit{TableID: table.ID, DatasetID: table.DatasetID, JobID: job.ID, Score: 90, PassMark: 95, Rows: 10, Result: []byte(`{"rows":10}`), RowsDigest: "d"})
	if err != nil {
		t.Fatal(err)
	}
	return id
}

func TestOpeningADatabaseTwiceAndAtOnce(t *testing.T) {
	url := postgrestest.Database(t)
	errs := make(chan error, 3)
	for range 3 {
		go func() {
			s, err := Open(ctx, url)
			if err == nil {
				err = s.Close()
			}
			errs <- err
		}()
	}
	for range 3 {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
	if _, err := Open(ctx, "postgres://nobody@127.0.0.1:1/none"); err == nil || !strings.Contains(err.Error(), "connecting to the database") {
		t.Errorf("a database that is not there: %v", err)
	}
}

func TestPeopleAndTokens(t *testing.T) {
	s := open(t)
	p := person(t, s, "Mara")
	again, err := PersonNamed(ctx, s.DB, "Mara", access.Reader)
	if err != nil || again.Role != access.Steward || again.ID != p.ID {
		t.Errorf("%+v, %v", again, err)
	}
	past, future := time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	for secret, expires := range map[string]*time.Time{"endless": nil, "past": &past, "future": &future} {
		if _, err := AddToken(ctx, s.DB, p.ID, access.Hash(secret), "", expires); err != nil {
			t.Fatal(err)
		}
	}
	for secret, valid := range map[string]bool{"endless": true, "past": false, "future": true, "guessed": false} {
		c, err := CallerByToken(ctx, s.DB, access.Hash(secret))
		if valid != (err == nil) || valid && c.Name != "Mara" || !valid && !errors.Is(err, ErrNotFound) {
			t.Errorf("%s: %+v, %v", secret, c, err)
		}
	}
	c, err := CallerByToken(ctx, s.DB, access.Hash("endless"))
	if err != nil {
		t.Fatal(err)
	}
	for secret, expires := range map[string]time.Time{"s1": future, "s2": past} {
		if err := AddSession(ctx, s.DB, access.Hash(secret), c.TokenID, expires); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := CallerBySession(ctx, s.DB, access.Hash("s1")); err != nil {
		t.Error(err)
	}
	if _, err := CallerBySession(ctx, s.DB, access.Hash("s2")); !errors.Is(err, ErrNotFound) {
		t.Errorf("an expired session: %v", err)
	}
	if err := RevokeToken(ctx, s.DB, c.TokenID); err != nil {
		t.Fatal(err)
	}
	_, byToken := CallerByToken(ctx, s.DB, access.Hash("endless"))
	_, bySession := CallerBySession(ctx, s.DB, access.Hash("s1"))
	if !errors.Is(byToken, ErrNotFound) || !errors.Is(bySession, ErrNotFound) {
		t.Errorf("after revoking: %v, %v", byToken, bySession)
	}
	if err := RevokeToken(ctx, s.DB, 999); !errors.Is(err, ErrNotFound) {
		t.Errorf("revoking no token: %v", err)
	}
}

func TestDeclarationsHaveVersions(t *testing.T) {
	s, versions := open(t), []int{}
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	for _, source := range []string{"one", "two", "two", "one"} {
		made, err := AddDeclaration(ctx, s.DB, KindRulebook, d.ID, "results", source, "digest of "+source, p.ID)
		if err != nil {
			t.Fatal(err)
		}
		versions = append(versions, made.Version)
	}
	if want := []int{1, 2, 2, 3}; !slices.Equal(versions, want) {
		t.Errorf("versions %v, want %v", versions, want)
	}
	second, err := DeclarationVersion(ctx, s.DB, KindRulebook, d.ID, "results", 2)
	if err != nil || second.Source != "two" || second.Author != "Mara" {
		t.Errorf("%+v, %v", second, err)
	}
	if _, err := DeclarationVersion(ctx, s.DB, KindRulebook, d.ID, "results", 4); !errors.Is(err, ErrNotFound) {
		t.Errorf("version 4: %v", err)
	}
	errs := make(chan error, 8)
	for i := range 8 { // at once: every version is one of a kind
		go func() {
			errs <- s.Do(ctx, func(tx *sqlx.Tx) error {
				_, err := AddDeclaration(ctx, tx, KindFixPlan, d.ID, "clean", fmt.Sprint(i), fmt.Sprint(i), p.ID)
				return err
			})
		}()
	}
	for range 8 {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
	newest, err := NewestDeclaration(ctx, s.DB, KindFixPlan, d.ID, "clean")
	if err != nil || newest.Version != 8 {
		t.Errorf("%+v, %v", newest, err)
	}
}

func TestTheSameBytesTwiceAreOneDelivery(t *testing.T) {
	s := open(t)
	p, d, other := person(t, s, "Mara"), dataset(t, s, "results"), dataset(t, s, "visits")
	first := delivery(t, s, d, p, "aaa")
	if _, err := AddTable(ctx, s.DB, NewTable{DatasetID: d.ID, Origin: OriginDelivery, Digest: "aaa", FileName: "again.csv", CreatedBy: p.ID}); !errors.Is(err, ErrConflict) {
		t.Errorf("%v, want %v", err, ErrConflict)
	}
	known, err := DeliveryWith(ctx, s.DB, d.ID, "aaa")
	if err != nil || known.ID != first.ID {
		t.Errorf("%+v, %v", known, err)
	}
	delivery(t, s, other, p, "aaa") // in another dataset it is another delivery
}

func TestWhatMayNeverChangeCannotBeChanged(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	table := delivery(t, s, d, p, "aaa")
	audited(t, s, table, p)
	if _, err := AddDeclaration(ctx, s.DB, KindRulebook, d.ID, "results", "x", "x", p.ID); err != nil {
		t.Fatal(err)
	}
	if err := Record(ctx, s.DB, p.ID, "did", "something", nil); err != nil {
		t.Fatal(err)
	}
	for _, change := range []string{"UPDATE history SET action = 'undid'", "DELETE FROM history", "UPDATE audits SET score = 100", "DELETE FROM audits",
		"UPDATE tables SET digest = 'bbb'", "DELETE FROM tables", "UPDATE declarations SET source = 'y'", "DELETE FROM declarations"} {
		if _, err := s.DB.Exec(change); err == nil || !strings.Contains(err.Error(), "is only ever added to") {
			t.Errorf("%s: %v", change, err)
		}
	}
	page, err := History(ctx, s.DB, Cursor{})
	if err != nil || len(page.Items) != 1 || *page.Items[0].Person != "Mara" {
		t.Errorf("%+v, %v", page, err)
	}
}

func TestPagesMeetWithoutGapOrOverlap(t *testing.T) {
	s := open(t)
	for i := range 25 {
		if err := Record(ctx, s.DB, 0, "did", fmt.Sprint(i), nil); err != nil {
			t.Fatal(err)
		}
	}
	seen, pages := []string{}, 0
	for c := (Cursor{Limit: 10}); ; pages++ {
		page, err := History(ctx, s.DB, c)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range page.Items {
			seen = append(seen, d.Subject)
		}
		if c.After = page.Next; c.After == "" {
			break
		}
	}
	if len(seen) != 25 || seen[0] != "24" || seen[24] != "0" || pages != 2 {
		t.Errorf("%d in %d pages: %v", len(seen), pages+1, seen)
	}
	if _, err := History(ctx, s.DB, Cursor{After: "invented"}); !errors.Is(err, ErrNotFound) {
		t.Errorf("an invented cursor: %v", err)
	}
}

func TestAnIssueIsFollowedAcrossAudits(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	follow := func(digest string, found []FoundRule, held ...string) {
		t.Helper()
		table := delivery(t, s, d, p, digest)
		id := audited(t, s, table, p)
		if err := s.Do(ctx, func(tx *sqlx.Tx) error { return FollowIssues(ctx, tx, d.ID, id, found, held) }); err != nil {
			t.Fatal(err)
		}
	}
	state := func() *Issue {
		t.Helper()
		page, err := Issues(ctx, s.DB, IssueFilter{Dataset: "results"}, Cursor{})
		if err != nil || len(page.Items) != 1 {
			t.Fatalf("%+v, %v", page, err)
		}
		return &page.Items[0]
	}
	key := func(rows int64) []FoundRule {
		return []FoundRule{{Rule: "one_result", Severity: "stop", Title: fmt.Sprint(rows, " rows"), Rows: rows}}
	}
	waive := func(until time.Time) {
		t.Helper()
		waived, reason := IssueWaived, "it is meant that way"
		if err := ChangeIssue(ctx, s.DB, state().ID, state().Version, IssueChange{State: &waived, WaiverReason: &reason, WaiverUntil: &until, WaiverBy: &p.ID}); err != nil {
			t.Fatal(err)
		}
	}
	want := func(step, expected string, rows int64) {
		t.Helper()
		if i := state(); i.State != expected || i.Rows != rows {
			t.Errorf("%s: the issue is %s with %d rows, want %s with %d", step, i.State, i.Rows, expected, rows)
		}
	}
	follow("1", key(5))
	want("found", IssueOpen, 5)
	follow("2", key(7))
	want("found again", IssueOpen, 7)
	follow("3", nil, "one_result")
	want("held", IssueClosed, 7)
	follow("4", nil, "one_result")
	want("held again", IssueClosed, 7)
	follow("5", nil)
	want("not judged", IssueClosed, 7)
	follow("6", key(2))
	want("found anew", IssueOpen, 2)
	waive(time.Now().AddDate(0, 1, 0))
	want("waived", IssueWaived, 2)
	follow("7", key(3))
	want("found while waived", IssueWaived, 3)
	follow("8", nil, "one_result")
	want("held while waived", IssueClosed, 3)
	follow("9", key(4))
	want("found within the waiver", IssueWaived, 4)
	waive(time.Now().AddDate(0, 0, -2))
	follow("10", key(4))
	want("found after the waiver", IssueOpen, 4)
	entries, err := IssueEntries(ctx, s.DB, state().ID)
	if err != nil {
		t.Fatal(err)
	}
	kinds := []string{}
	for _, e := range entries {
		kinds = append(kinds, e.Kind)
	}
	if expected := []string{"opened", "seen", "closed", "reopened", "seen", "closed", "seen", "expired"}; !slices.Equal(kinds, expected) {
		t.Errorf("what happened: %v, want %v", kinds, expected)
	}
	if err := ChangeIssue(ctx, s.DB, state().ID, state().Version-1, IssueChange{}); !errors.Is(err, ErrConflict) {
		t.Errorf("a change of an older version: %v", err)
	}
}

func TestAJobIsHeldByOneAttempt(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	job, err := AddJob(ctx, s.DB, NewJob{Kind: JobMerge, DatasetID: d.ID, CreatedBy: p.ID, Detail: map[string]int{"x": 1}})
	if err != nil {
		t.Fatal(err)
	}
	if err := Beat(ctx, s.DB, "node-a"); err != nil {
		t.Fatal(err)
	}
	attempt, ok, err := ClaimJob(ctx, s.DB, job.ID, "node-a")
	if err != nil || !ok || attempt != 1 {
		t.Fatalf("attempt %d, %v, %v", attempt, ok, err)
	}
	if _, ok, _ := ClaimJob(ctx, s.DB, job.ID, "node-b"); ok {
		t.Error("two nodes hold one job")
	}
	if released, err := ReleaseJobs(ctx, s.DB, time.Minute); err != nil || len(released) != 0 {
		t.Errorf("jobs of a living node were released: %v, %v", released, err)
	}
	if _, err := s.DB.Exec("UPDATE nodes SET seen_at = now() - interval '1 hour'"); err != nil {
		t.Fatal(err)
	}
	if released, err := ReleaseJobs(ctx, s.DB, time.Minute); err != nil || !slices.Equal(released, []int64{job.ID}) {
		t.Errorf("released %v, %v", released, err)
	}
	second, ok, err := ClaimJob(ctx, s.DB, job.ID, "node-b")
	if err != nil || !ok || second != 2 {
		t.Fatalf("attempt %d, %v, %v", second, ok, err)
	}
	// The first node was not dead but slow; nothing it says counts any more.
	if ok, err := ReportProgress(ctx, s.DB, job.ID, 1, 5, 10, 3); ok || err != nil {
		t.Errorf("the first attempt reports progress: %v, %v", ok, err)
	}
	if ok, err := EndJob(ctx, s.DB, job.ID, 1, "done", "", nil, nil); ok || err != nil {
		t.Errorf("the first attempt ends the job: %v, %v", ok, err)
	}
	if ok, err := EndJob(ctx, s.DB, job.ID, 2, "done", "", map[string]int{"n": 1}, nil); !ok || err != nil {
		t.Errorf("the second attempt cannot end the job: %v, %v", ok, err)
	}
	if ok, err := StopJob(ctx, s.DB, job.ID); ok || err != nil {
		t.Errorf("a job that ended was stopped: %v, %v", ok, err)
	}
	found, err := FindJob(ctx, s.DB, job.ID)
	if err != nil || !found.Ended() || found.Attempt != 2 || string(*found.Result) != `{"n":1}` {
		t.Errorf("%+v, %v", found, err)
	}
	if err := Leave(ctx, s.DB, "node-b"); err != nil {
		t.Error(err)
	}
}

func TestAFailedTransactionLeavesNothing(t *testing.T) {
	s := open(t)
	failure := errors.New("thought better of it")
	err := s.Do(ctx, func(tx *sqlx.Tx) error {
		if _, err := EnsureDataset(ctx, tx, "results", "Results"); err != nil {
			return err
		}
		return failure
	})
	if !errors.Is(err, failure) {
		t.Errorf("%v", err)
	}
	if _, err := FindDataset(ctx, s.DB, "results"); !errors.Is(err, ErrNotFound) {
		t.Errorf("the dataset is there: %v", err)
	}
}
