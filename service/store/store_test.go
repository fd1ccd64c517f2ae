package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
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
	p, err := AddPerson(ctx, s.DB, name, access.Steward)
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
	made, err := AddTable(ctx, s.DB, NewTable{DatasetID: d.ID, Origin: OriginDelivery, Digest: digest, Bytes: 5,
		FileName: "f.csv", CreatedBy: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// audited records a finished audit and returns its id.
func audited(t *testing.T, s *Store, table *Table, p *Person) int64 {
	t.Helper()
	job, err := AddJob(ctx, s.DB, NewJob{Kind: "audit", TableID: &table.ID, DatasetID: table.DatasetID,
		CreatedBy: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	id, err := AddAudit(ctx, s.DB, NewAudit{TableID: table.ID, DatasetID: table.DatasetID, JobID: job.ID, Score: 90,
		PassMark: 95, Rows: 10, Result: []byte(`{"rows":10}`), RowsDigest: "d"})
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
	if _, err := Open(ctx, "postgres://nobody@127.0.0.1:1/none"); err == nil ||
		!strings.Contains(err.Error(), "connecting to the database") {
		t.Errorf("a database that is not there: %v", err)
	}
}

func TestPeopleAndTokens(t *testing.T) {
	s := open(t)
	p := person(t, s, "Mara")
	if _, err := AddPerson(ctx, s.DB, "Mara", access.Reader); !errors.Is(err, ErrConflict) {
		t.Errorf("a second person of the name: %v", err)
	}
	past, future := time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	for secret, expires := range map[string]*time.Time{"endless": nil, "past": &past, "future": &future} {
		if _, err := AddToken(ctx, s.DB, &NewToken{PersonID: p.ID, Hash: access.Hash(secret), Note: "", Expires: expires}); err != nil {
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
	for disabled, valid := range map[bool]bool{true: false, false: true} {
		if err := Disable(ctx, s.DB, p.ID, disabled); err != nil {
			t.Fatal(err)
		}
		if _, err := CallerByToken(ctx, s.DB, access.Hash("future")); (err == nil) != valid {
			t.Errorf("disabled %v: %v", disabled, err)
		}
	}
	if err := RevokeToken(ctx, s.DB, 999); !errors.Is(err, ErrNotFound) {
		t.Errorf("revoking no token: %v", err)
	}
}

func TestDeclarationsHaveVersions(t *testing.T) {
	s, versions := open(t), []int{}
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	for _, source := range []string{"one", "two", "two", "one"} {
		from := 0
		if len(versions) > 0 {
			from = versions[len(versions)-1]
		}
		made, err := AddDeclaration(ctx, s.DB, NewDeclaration{Kind: KindRulebook, DatasetID: d.ID, Name: "results",
			Source: source, Digest: "digest of " + source, From: from, AuthorID: p.ID})
		if err != nil {
			t.Fatal(err)
		}
		versions = append(versions, made.Version)
	}
	var outdated *OutdatedError
	if _, err := AddDeclaration(ctx, s.DB, NewDeclaration{Kind: KindRulebook, DatasetID: d.ID, Name: "results",
		Source: "three", Digest: "digest of three", From: 2, AuthorID: p.ID}); !errors.As(err, &outdated) ||
		outdated.Newest.Version != 3 ||
		!strings.Contains(err.Error(), "it was made from version 2, and Mara saved version 3 at") {
		t.Errorf("from an earlier version: %v", err)
	}
	if _, err := AddDeclaration(ctx, s.DB, NewDeclaration{Kind: KindRulebook, DatasetID: d.ID, Name: "others",
		Source: "three", Digest: "digest of three", From: 2, AuthorID: p.ID}); err != nil {
		t.Errorf("from a version of another name: %v", err)
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
	for i := range 8 { // at once, from the same version: one of them is first
		go func() {
			errs <- s.Do(ctx, func(tx *sqlx.Tx) error {
				_, err := AddDeclaration(ctx, tx, NewDeclaration{Kind: KindFixPlan, DatasetID: d.ID, Name: "clean",
					Source: fmt.Sprint(i), Digest: fmt.Sprint(i), From: 0, AuthorID: p.ID})
				return err
			})
		}()
	}
	first := 0
	for range 8 {
		if err := <-errs; err == nil {
			first++
		} else if !errors.As(err, &outdated) {
			t.Error(err)
		}
	}
	newest, err := NewestDeclaration(ctx, s.DB, KindFixPlan, d.ID, "clean")
	if err != nil || newest.Version != 1 || first != 1 {
		t.Errorf("%d were saved, %+v, %v", first, newest, err)
	}
}

func TestTheSameBytesTwiceAreOneDelivery(t *testing.T) {
	s := open(t)
	p, d, other := person(t, s, "Mara"), dataset(t, s, "results"), dataset(t, s, "visits")
	first := delivery(t, s, d, p, "aaa")
	if _, err := AddTable(ctx, s.DB, NewTable{DatasetID: d.ID, Origin: OriginDelivery, Digest: "aaa",
		FileName: "again.csv", CreatedBy: p.ID}); !errors.Is(err, ErrConflict) {
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
	if _, err := AddDeclaration(ctx, s.DB, NewDeclaration{Kind: KindRulebook, DatasetID: d.ID, Name: "results",
		Source: "x", Digest: "x", From: 0, AuthorID: p.ID}); err != nil {
		t.Fatal(err)
	}
	if err := Record(ctx, s.DB, p.ID, "did", "something", nil); err != nil {
		t.Fatal(err)
	}
	for _, change := range []string{"UPDATE history SET action = 'undid'", "DELETE FROM history",
		"UPDATE audits SET score = 100", "DELETE FROM audits",
		"UPDATE tables SET digest = 'bbb'", "DELETE FROM tables", "UPDATE declarations SET source = 'y'",
		"DELETE FROM declarations"} {
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

func TestAJobIsHeldByOneAttempt(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	job, err := AddJob(ctx, s.DB, NewJob{Kind: "merge", DatasetID: d.ID, CreatedBy: p.ID,
		Detail: map[string]int{"x": 1}})
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
	if released, _, err := Reconcile(ctx, s.DB, "node-b", nil, time.Minute); err != nil || len(released) != 0 {
		t.Errorf("jobs of a living node were released: %v, %v", released, err)
	}
	if _, err := s.DB.Exec("UPDATE nodes SET seen_at = now() - interval '1 hour'"); err != nil {
		t.Fatal(err)
	}
	if released, _, err := Reconcile(ctx, s.DB, "node-b", nil, time.Minute); err != nil || len(released) != 1 ||
		released[0].ID != job.ID {
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
	if ok, err := EndJob(ctx, s.DB, job.ID, 1, JobEnd{State: "done", Problem: "", Result: nil}); ok || err != nil {
		t.Errorf("the first attempt ends the job: %v, %v", ok, err)
	}
	if ok, err := EndJob(ctx, s.DB, job.ID, 2,
		JobEnd{State: "done", Problem: "", Result: map[string]int{"n": 1}}); !ok || err != nil {
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

func TestOurRecordAndTheQueueAgree(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	run := func(query string, args ...any) {
		t.Helper()
		if _, err := s.DB.Exec(query, args...); err != nil {
			t.Fatal(err)
		}
	}
	const task = "INSERT INTO river_job (args, kind, max_attempts, state, attempted_at, scheduled_at, finalized_at) VALUES ('{}', 'x', 5, $1::river_job_state, $2, $3, $4) RETURNING id"
	now := time.Now()
	long, ahead := now.Add(-time.Minute), now.Add(time.Hour)
	for _, c := range []struct {
		name, state string
		attempt     int
		node        string
		task        func() int64 // nil for none
		holding     bool
		released    bool
		becomes     string
	}{
		{"waiting in the queue", "queued", 0, "", queued(t, s, task, "available", nil, now, nil), false, false,
			"queued"},
		{"taken just now and not claimed yet", "queued", 0, "", queued(t, s, task, "running", &now, now, nil), false,
			false, "queued"},
		{"taken, and its node was ended before it claimed", "queued", 0, "", queued(t, s, task, "running", &long, long,
			nil), false, true, "queued"},
		{"being claimed here", "queued", 0, "", queued(t, s, task, "running", &long, long, nil), true, false, "queued"},
		{"its task ended without it", "queued", 0, "", queued(t, s, task, "completed", &long, long, &now), false, true,
			"queued"},
		{"its task was given up", "queued", 0, "", queued(t, s, task, "discarded", &long, long, &now), false, true,
			"queued"},
		{"its task is put off", "queued", 0, "", queued(t, s, task, "retryable", &long, ahead, nil), false, true,
			"queued"},
		{"it has no task", "queued", 0, "", nil, false, true, "queued"},
		{"running here", "running", 1, "here", nil, true, false, "running"},
		{"its end could not be recorded here", "running", 1, "here", nil, false, true, "queued"},
		{"running elsewhere", "running", 1, "elsewhere", nil, false, false, "running"},
		{"its node is dead", "running", 1, "dead", nil, false, true, "queued"},
		{"its node left", "running", 1, "gone", nil, false, true, "queued"},
		{"its node died again and again", "running", MostAttempts, "dead", nil, false, false, "failed"},
		{"done", "done", 1, "here", nil, false, false, "done"},
	} {
		run("DELETE FROM jobs")
		run("DELETE FROM nodes")
		run("INSERT INTO nodes (name, seen_at) VALUES ('here', now()), ('elsewhere', now()), ('dead', now() - interval '10 seconds')")
		job, err := AddJob(ctx, s.DB, NewJob{Kind: "merge", DatasetID: d.ID, CreatedBy: p.ID})
		if err != nil {
			t.Fatal(err)
		}
		run("UPDATE jobs SET state = $1, attempt = $2, node = NULLIF($3, '')", c.state, c.attempt, c.node)
		if c.task != nil {
			if err := SetTask(ctx, s.DB, job.ID, c.task()); err != nil {
				t.Fatal(err)
			}
		}
		holding := []int64{}
		if c.holding {
			holding = append(holding, job.ID)
		}
		released, _, err := Reconcile(ctx, s.DB, "here", holding, 4*time.Second)
		if err != nil || (len(released) == 1) != c.released {
			t.Errorf("%s: released %+v, %v", c.name, released, err)
		}
		found, err := FindJob(ctx, s.DB, job.ID)
		if err != nil || found.State != c.becomes || c.becomes == "failed" &&
			!strings.Contains(found.Error, "was started 5 times") {
			t.Errorf("%s: it is %s, want %s; %s, %v", c.name, found.State, c.becomes, found.Error, err)
		}
	}
}

// queued returns what puts a task into the queue and returns its number.
func queued(t *testing.T, s *Store, query, state string, attempted *time.Time, scheduled time.Time,
	finalized *time.Time) func() int64 {
	return func() (id int64) {
		t.Helper()
		if err := s.DB.Get(&id, query, state, attempted, scheduled, finalized); err != nil {
			t.Fatal(err)
		}
		return id
	}
}

func TestANewerDatabaseIsRefusedUnlessItSaysOtherwise(t *testing.T) {
	url := postgrestest.Database(t)
	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.DB.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)"); err != nil {
		t.Fatal(err)
	}
	for _, open := range []func(context.Context, string) (*Store, error){Open, Look} { // its migrations took nothing away
		beside, err := open(ctx, url)
		if err != nil {
			t.Fatal(err)
		}
		_ = beside.Close()
	}
	if _, err := s.DB.Exec("UPDATE forms SET oldest = 99998"); err != nil {
		t.Fatal(err)
	}
	for _, open := range []func(context.Context, string) (*Store, error){Open, Look} {
		if _, err := open(ctx, url); !errors.Is(err, ErrNewer) || !strings.Contains(err.Error(), "its records have the form 99999") {
			t.Errorf("%v", err)
		}
	}
}

func TestTextsOfFilesAreMadeFitForTheDatabase(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	job, err := AddJob(ctx, s.DB, NewJob{Kind: "merge", DatasetID: d.ID, CreatedBy: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := ClaimJob(ctx, s.DB, job.ID, "here"); err != nil {
		t.Fatal(err)
	}
	if ok, err := EndJob(ctx, s.DB, job.ID, 1, JobEnd{State: "failed", Problem: "the column a\x00b\xff",
		Result: nil}); !ok || err != nil {
		t.Fatal(ok, err)
	}
	if found, err := FindJob(ctx, s.DB, job.ID); err != nil || found.Error != "the column a\u2400b\uFFFD" {
		t.Errorf("%q, %v", found.Error, err)
	}
}

func TestAWithdrawnDeliveryLeavesEverythingButItsRecord(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	first, second := delivery(t, s, d, p, "aaa"), delivery(t, s, d, p, "bbb")
	audited(t, s, first, p)
	audit := audited(t, s, second, p)
	if err := s.Do(ctx, func(tx *sqlx.Tx) error {
		return FollowIssues(ctx, tx, Followed{DatasetID: d.ID, AuditID: audit, TableID: second.ID, Found: []FoundRule{{"one_result", "major", "2 rows", 2}}})
	}); err != nil {
		t.Fatal(err)
	}
	plan, err := AddDeclaration(ctx, s.DB, NewDeclaration{Kind: KindFixPlan, DatasetID: d.ID, Name: "clean",
		Source: "x", Digest: "x", From: 0, AuthorID: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	cleaned, err := AddTable(ctx, s.DB, NewTable{DatasetID: d.ID, Origin: OriginCleaned, Digest: "ccc",
		FileName: "c.csv", ParentID: &second.ID, DeclarationID: &plan.ID, Accounting: []byte("{}"), CreatedBy: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	w, err := Retire(ctx, s.DB, second.ID, p.ID, "the wrong file", true)
	if err != nil || *w.Person != "Mara" || !w.BytesLetGo {
		t.Fatalf("%+v, %v", w, err)
	}
	if _, err := Retire(ctx, s.DB, second.ID, p.ID, "again", false); !errors.Is(err, ErrConflict) {
		t.Errorf("withdrawn twice: %v", err)
	}
	now, err := FindDataset(ctx, s.DB, "results")
	if err != nil || now.Deliveries != 1 || *now.LastTable != first.ID || now.OpenIssues != 0 {
		t.Errorf("the dataset: %+v, %v", now, err)
	}
	if _, err := NewestCleaned(ctx, s.DB, d.ID, d.Name); !errors.Is(err, ErrNotFound) {
		t.Errorf("what was made of it is still the newest: %v", err)
	}
	made, err := FindTable(ctx, s.DB, cleaned.ID)
	if err != nil || made.Withdrawn == nil || !strings.Contains(*made.Withdrawn,
		fmt.Sprintf("It was made of table %d, which was withdrawn: the wrong file", second.ID)) {
		t.Errorf("what was made of it: %+v, %v", made, err)
	}
	issues, err := Issues(ctx, s.DB, IssueFilter{Dataset: "results"}, Cursor{})
	if err != nil || issues.Items[0].State != IssueClosed {
		t.Errorf("its issue: %+v, %v", issues.Items, err)
	}
	known, err := RecordedDigests(ctx, s.DB, []string{"aaa", "bbb", "ccc", "d", "zzz"})
	if want := map[string]bool{"aaa": true, "d": true}; err != nil || !maps.Equal(known, want) {
		t.Errorf("the bytes that are kept: %v, want %v; %v", known, want, err)
	}
	if _, err := AddTable(ctx, s.DB, NewTable{DatasetID: d.ID, Origin: OriginCleaned, Digest: "eee", FileName: "c.csv",
		ParentID: &second.ID, DeclarationID: &plan.ID, Accounting: []byte("{}"), CreatedBy: p.ID}); !errors.Is(err,
		ErrConflict) {
		t.Errorf("another table is made of it: %v", err)
	}
	delivery(t, s, d, p, "bbb") // the same bytes may come again
}

func TestRetentionKeepsTheNewestAndWhatIsCertified(t *testing.T) {
	s := open(t)
	p, d := person(t, s, "Mara"), dataset(t, s, "results")
	var tables []*Table
	for i := range 5 {
		tables = append(tables, delivery(t, s, d, p, fmt.Sprint("digest ", i)))
	}
	plan, err := AddDeclaration(ctx, s.DB, NewDeclaration{Kind: KindFixPlan, DatasetID: d.ID, Name: "clean",
		Source: "x", Digest: "x", From: 0, AuthorID: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	cleaned, err := AddTable(ctx, s.DB, NewTable{DatasetID: d.ID, Origin: OriginCleaned, Digest: "ccc",
		FileName: "c.csv", ParentID: &tables[1].ID, DeclarationID: &plan.ID, Accounting: []byte("{}"), CreatedBy: p.ID})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := AddCertificate(ctx, s.DB, cleaned.ID, audited(t, s, cleaned, p), []byte("{}"), "signed",
		p.ID); err != nil {
		t.Fatal(err)
	}
	if expired, err := Expired(ctx, s.DB, d.ID); err != nil || len(expired) != 0 {
		t.Errorf("all are kept: %v, %v", expired, err)
	}
	keep := 2
	if err := SetRetention(ctx, s.DB, d.ID, &keep); err != nil {
		t.Fatal(err)
	}
	if expired, err := Expired(ctx, s.DB, d.ID); err != nil ||
		!slices.Equal(expired, []int64{tables[0].ID, tables[2].ID}) {
		t.Errorf("%v, want %v; %v", expired, []int64{tables[0].ID, tables[2].ID}, err)
	}
}

// A declaration that is saved while an audit of the dataset is being recorded waits for nothing that waits for it.
func TestADeclarationAndAnAuditDoNotWaitForEachOther(t *testing.T) {
	s := open(t)
	mara, d := person(t, s, "Mara"), dataset(t, s, "samples")
	table := delivery(t, s, d, mara, "abc")
	job, err := AddJob(ctx, s.DB, NewJob{Kind: "audit", TableID: &table.ID, DatasetID: d.ID, CreatedBy: mara.ID})
	if err != nil {
		t.Fatal(err)
	}
	saved := make(chan error, 1)
	err = s.Do(ctx, func(tx *sqlx.Tx) error {
		audit, err := AddAudit(ctx, tx, NewAudit{TableID: table.ID, DatasetID: d.ID, JobID: job.ID, Score: 50, PassMark: 95, Rows: 10,
			Result: []byte(`{"rows":10}`), RowsDigest: "d"})
		if err != nil {
			return err
		}
		go func() {
			saved <- s.Do(ctx, func(tx *sqlx.Tx) error {
				if _, err := EnsureDataset(ctx, tx, d.Name, "Samples of the year"); err != nil {
					return err
				}
				_, err := AddDeclaration(ctx, tx, NewDeclaration{Kind: KindFixPlan, DatasetID: d.ID, Name: "clean", Source: "x",
					Digest: "x", AuthorID: mara.ID})
				return err
			})
		}()
		time.Sleep(300 * time.Millisecond) // the declaration has its lock, or waits for it
		return FollowIssues(ctx, tx, Followed{DatasetID: d.ID, AuditID: audit, Found: []FoundRule{{Rule: "r", Severity: "major", Title: "r", Rows: 1}}})
	})
	if err != nil {
		t.Errorf("recording the audit: %v", err)
	}
	if err := <-saved; err != nil {
		t.Errorf("saving the declaration: %v", err)
	}
}
