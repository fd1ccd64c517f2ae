package service_test

import (
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/stdlib" // database/sql's driver
	"github.com/jmoiron/sqlx"

	"proudsieve/client"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestTwoNodesShareADatabaseAndAFileStore(t *testing.T) {
	servicetest.NeedsDirectory(t)
	t.Parallel()
	database := postgrestest.Database(t)
	first := servicetest.Start(t, func(o *service.Options) { o.DatabaseURL = database })
	second, err := service.Start(ctx, service.Options{DatabaseURL: database, Directory: first.Directory,
		Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = second.Stop() })
	there := &client.Client{Server: second.URL(), Token: first.Steward.Token}
	declare(t, first.Steward, "rulebooks", book)
	for i := range 6 {
		d := deliver(t, first.Steward, "samples", fmt.Sprintf("sample,value\nS%d,1\n", i))
		if a := audited(t, there, d.Table.ID); a.Rows != 1 || !a.HasPassed() {
			t.Errorf("%+v", a.Audit)
		}
		rows, err := servicetest.Get[api.RowsPage](ctx, there, fmt.Sprintf("/tables/%d/rows", d.Table.ID))
		if err != nil || rows.Rows[0].Cells[0] != fmt.Sprint("S", i) {
			t.Errorf("%+v, %v", rows, err)
		}
	}
	audits, err := servicetest.All[records.Audit](ctx, there, "/audits")
	if err != nil || len(audits) != 6 {
		t.Errorf("%d audits of 6 deliveries, %v", len(audits), err)
	}
	keys := map[string]bool{}
	for _, c := range []*client.Client{first.Reader, {Server: second.URL(), Token: first.Reader.Token}} {
		key, err := servicetest.Get[map[string]any](ctx, c, "/signing-key")
		if err != nil {
			t.Fatal(err)
		}
		keys[fmt.Sprint((*key)["x"])] = true
	}
	if len(keys) != 1 {
		t.Error("the nodes sign with different keys")
	}
}

// A node of the next release may have migrated the records: by the rule, it added what a program that does not know of it leaves out.
func TestANodeWorksBesideOneOfTheNextRelease(t *testing.T) {
	t.Parallel()
	database := postgrestest.Database(t)
	running := servicetest.Start(t, func(o *service.Options) { o.DatabaseURL = database })
	db, err := sqlx.Open("pgx", database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var tables []string
	if err := db.Select(&tables, "SELECT table_name FROM information_schema.tables WHERE table_schema = 'public' AND table_type = 'BASE TABLE' AND table_name NOT LIKE 'goose%' AND table_name NOT LIKE 'river%'"); err != nil || len(tables) < 30 {
		t.Fatalf("%d tables, %v", len(tables), err)
	}
	for _, name := range tables { // one of each kind that the rule allows
		if _, err := db.Exec("ALTER TABLE " + pgx.Identifier{name}.Sanitize() + " ADD COLUMN next_release text, ADD COLUMN next_counts bigint NOT NULL DEFAULT 7"); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)"); err != nil {
		t.Fatal(err)
	}
	started, err := service.Start(ctx, service.Options{DatabaseURL: database, Directory: running.Directory, Listen: "127.0.0.1:0", Log: servicetest.Quiet(t)})
	if err != nil {
		t.Fatal(err) // it was killed in the middle of the upgrade, say, and comes up again
	}
	t.Cleanup(func() {
		if err := started.Stop(); err != nil {
			t.Error(err)
		}
	})
	for _, url := range []string{running.URL, started.URL()} {
		worksFromEndToEnd(t, &client.Client{Server: url, Token: running.Steward.Token}, &client.Client{Server: url, Token: running.Certifier.Token})
	}
}

// worksFromEndToEnd takes a delivery to a certified table.
func worksFromEndToEnd(t *testing.T, steward, certifier *client.Client) {
	t.Helper()
	declare(t, steward, "rulebooks", book)
	declare(t, steward, "fix-plans", "fix_plan: clean\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], keep: first, varies: true, reason: The first counts.}\n")
	d := deliver(t, steward, "samples", fmt.Sprintf("sample,value\nS1,%d\nS1,2\n", time.Now().UnixNano()))
	audited(t, steward, d.Table.ID)
	job, err := steward.ApplyFix(ctx, d.Table.ID, client.PlannedBody{FixPlan: "clean"})
	if err != nil {
		t.Fatal(err)
	}
	done, err := steward.Follow(ctx, job.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	audited(t, steward, *done.ResultTable)
	if _, err := certifier.CertifyTable(ctx, *done.ResultTable, client.Certifying{}); err != nil {
		t.Error(err)
	}
	for _, path := range []string{"/desk", "/issues", "/history", "/jobs", "/datasets", "/certificates", "/datasets/samples/audits", "/rulebooks", "/notices", "/decisions", "/audits", "/tokens", "/search?text=samples"} {
		if _, err := certifier.Call(ctx, "GET", path, nil); err != nil {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func TestANodeThatStopsHandsItsJobsOver(t *testing.T) {
	servicetest.NeedsDirectory(t)
	t.Parallel()
	database, directory := postgrestest.Database(t), t.TempDir()
	options := service.Options{DatabaseURL: database, Directory: directory, Listen: "127.0.0.1:0",
		Log: slog.New(slog.DiscardHandler)}
	stopping, err := service.Start(ctx, options)
	if err != nil {
		t.Fatal(err)
	}
	watching := servicetest.Start(t, func(o *service.Options) { o.DatabaseURL, o.Directory = database, directory })
	declare(t, watching.Steward, "rulebooks", book)
	jobs := map[int64]bool{}
	for i := range 4 { // both nodes get some
		d := deliver(t, watching.Steward, "samples", "sample,value\n"+strings.Repeat(fmt.Sprintf("S1,%d\nS2,2.5\n", i),
			400_000))
		jobs[d.Job.ID] = true
	}
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(5 * time.Millisecond) { // until one is under way
		page, err := watching.Steward.ListJobs(ctx, &client.ListJobsParams{Running: true})
		if err != nil || time.Now().After(deadline) {
			t.Fatalf("no job has begun: %v", err)
		}
		if slices.ContainsFunc(page.Items, func(j records.Job) bool { return j.State == "running" }) {
			break
		}
	}
	if err := stopping.Stop(); err != nil {
		t.Logf("the stopping node: %v", err) // a job that was under way ends with its context
	}
	for id := range jobs {
		if _, err := watching.Steward.Follow(ctx, id, nil); err != nil {
			t.Error(err)
		}
	}
	audits, err := servicetest.All[records.Audit](ctx, watching.Reader, "/audits")
	if err != nil || len(audits) != 4 {
		t.Errorf("%d audits of 4 deliveries, %v", len(audits), err)
	}
}

func TestWhereADeliveryStandsOnItsPath(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,2\n")
	audited(t, r.Steward, d.Table.ID)
	states := func(table int64) string {
		t.Helper()
		p, err := servicetest.Get[records.Path](ctx, r.Reader, fmt.Sprintf("/tables/%d/path", table))
		if err != nil {
			t.Fatal(err)
		}
		parts := []string{}
		for _, s := range p.Stages {
			parts = append(parts, s.Name+" "+s.State)
		}
		return strings.Join(parts, ", ")
	}
	if got, want := states(d.Table.ID),
		"received done, read done, judged done, asked held, put right here, joined ahead, certified ahead"; got != want {
		t.Errorf("with an issue that stops it: %s, want %s", got, want)
	}
	declare(t, r.Steward, "fix-plans",
		"fix_plan: clean\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], survivor: latest_row, reason: r}\n")
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", d.Table.ID),
		map[string]string{"fix_plan": "clean"})
	if err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	audited(t, r.Steward, *job.ResultTable)
	if got, want := states(d.Table.ID),
		"received done, read done, judged done, asked done, put right done, joined here, certified ahead"; got != want {
		t.Errorf("cleaned: %s, want %s", got, want)
	}
	if got, want := states(*job.ResultTable),
		"received done, read done, judged done, asked done, put right done, joined here, certified ahead"; got != want {
		t.Errorf("from the cleaned table: %s, want %s", got, want)
	}
	if _, err := servicetest.Post[records.Certificate](ctx, r.Certifier,
		fmt.Sprintf("/tables/%d/certificates", *job.ResultTable), nil); err != nil {
		t.Fatal(err)
	}
	if got := states(d.Table.ID); !strings.HasSuffix(got, "certified done") {
		t.Errorf("certified: %s", got)
	}
}

func TestTheDeskPutsTheGravestFirst(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", `dataset: samples
columns:
  - {name: sample, pattern: "S[0-9]+", severity: note}
  - {name: value, type: decimal, required: true}
keys:
  - {id: one_sample, columns: [sample]}
pass_mark: 0
`)
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS1,\nx,\ny,z\n").Table.ID)
	issues, err := servicetest.All[records.Issue](ctx, r.Steward, "/issues?state=open")
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range issues { // the lesser of the two warnings is the caller's own
		if i.Rule == "value.type" {
			mara := "Mara"
			if _, err := r.Steward.EditIssue(ctx, i.ID, client.IssueChanged{Assignee: &mara}); err != nil {
				t.Fatal(err)
			}
		}
	}
	desk, err := servicetest.Get[api.Desk](ctx, r.Steward, "/desk")
	if err != nil {
		t.Fatal(err)
	}
	rules := []string{}
	for _, i := range desk.Issues {
		rules = append(rules, i.Rule)
	}
	if got, want := strings.Join(rules, " "), "one_sample value.required value.type sample.pattern"; got != want {
		t.Errorf("the desk has %s, want %s", got, want)
	}
	if len(desk.Mine) != 1 || desk.Mine[0].Rule != "value.type" || desk.MineCount != 1 || desk.Unsettled != int64(len(desk.Issues)) {
		t.Errorf("Mara's own are %+v (%d), of %d", desk.Mine, desk.MineCount, desk.Unsettled)
	}
	if len(desk.Short) != 1 || desk.Short[0].Dataset != "samples" {
		t.Errorf("what fell short is %+v", desk.Short)
	}
	if len(desk.Running)+len(desk.Failed)+len(desk.Waiting)+len(desk.Ready) != 0 {
		t.Errorf("%+v", desk)
	}
}

func TestANewRulebookVersionIsWhatTheNextAuditGoesBy(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\nS2,\n")
	if a := audited(t, r.Steward, d.Table.ID); *a.Score != 50 || *a.Rulebook != 1 {
		t.Errorf("%+v", a.Audit)
	}
	if v := ease(t, r.Steward, strings.Replace(book, ", required: true", "", 1), 1); v.Version != 2 {
		t.Errorf("%+v", v)
	}
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/audits", d.Table.ID), nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	if a := audited(t, r.Steward, d.Table.ID); *a.Score != 100 || *a.Rulebook != 2 {
		t.Errorf("%+v", a.Audit)
	}
	audits, err := servicetest.All[records.Audit](ctx, r.Reader, "/datasets/samples/audits")
	if err != nil || len(audits) != 2 || *audits[1].Score != 50 {
		t.Errorf("the first audit stays as it was: %+v, %v", audits, err)
	}
	first, err := servicetest.Get[records.Declaration](ctx, r.Reader, "/rulebooks/samples/samples?version=1")
	if err != nil || first.Source != book {
		t.Errorf("the first version stays as it was: %+v, %v", first, err)
	}
}

func TestAMergeSaysWhyItFails(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", book)
	declare(t, r.Steward, "rulebooks", "dataset: places\ncolumns: [{name: sample}, {name: place}]\n")
	clean := func(dataset, content string) {
		t.Helper()
		d := deliver(t, r.Steward, dataset, content)
		declare(t, r.Steward, "fix-plans", "fix_plan: as_it_is\ndataset: "+dataset+"\nsteps: []\n")
		job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/fixes", d.Table.ID),
			map[string]string{"fix_plan": "as_it_is"})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Steward.Follow(ctx, job.ID, nil); err != nil {
			t.Fatal(err)
		}
	}
	version := 0
	merge := func(unmatched string, body map[string]any) (*records.Job, error) {
		t.Helper()
		version = declareAfter(t, r.Steward, "merges",
			"merge: joined\nstack: [samples]\njoin:\n  - {with: places, match: [sample], take: [place], unmatched: "+
				unmatched+"}\n", version).Version
		job, err := servicetest.Post[records.Job](ctx, r.Steward, "/merges/joined/runs", body)
		if err != nil {
			return nil, err
		}
		return r.Steward.Follow(ctx, job.ID, nil)
	}
	clean("samples", "sample,value\nS1,1\nS2,2\n")
	clean("places", "sample,place\nS1,Alder\nS3,Corrow\n")
	if _, err := merge("refuse", map[string]any{}); err == nil ||
		!strings.Contains(err.Error(), `row 2: places has no row with the key "S2"`) {
		t.Errorf("%v", err)
	}
	tables, err := servicetest.All[records.Table](ctx, r.Reader, "/datasets/joined/tables")
	if err != nil || len(tables) != 0 {
		t.Errorf("a merge that failed left %+v, %v", tables, err)
	}
	job, err := merge("set_aside", map[string]any{})
	if err != nil {
		t.Fatal(err)
	}
	if a := audited(t, r.Steward, *job.ResultTable); a.Rows != 1 || a.Rulebook != nil {
		t.Errorf("%+v", a.Audit)
	}
	_, err = merge("keep", map[string]any{"tables": map[string][]int64{"samples": {1}}})
	refused(t, "merging a delivery", err, 422, "Table 1 is not a cleaned table of samples")
	_, err = merge("keep", map[string]any{"tables": map[string][]int64{"visits": {1}}})
	refused(t, "a dataset that is not in the merge", err, 422, `does not read the dataset "visits"`)
}
