package work

import (
	"context"
	"encoding/json"
	"log/slog"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"

	"proudsieve/core/budget"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

func TestEachKindOfJobHasItsArguments(t *testing.T) {
	if len(kinds) == 0 {
		t.Fatal("no kind is registered")
	}
	for name, k := range kinds {
		args := k.args(17)
		raw, err := json.Marshal(args)
		if err != nil || string(raw) != `{"job_id":17}` || args.Kind() != name || k.name != name {
			t.Errorf("%s is queued as %s of kind %s, %v", name, raw, args.Kind(), err)
		}
		if k.bytes <= 0 || k.work == nil || k.queue == "" {
			t.Errorf("%s: %+v", name, k)
		}
		if len(name) > 30 || strings.ToLower(name) != name {
			t.Errorf("a kind is called %q", name)
		}
	}
	for name, k := range kinds {
		if want := map[bool]string{true: fetchQueue, false: river.QueueDefault}[name == fetchKind]; k.queue != want {
			t.Errorf("%s is queued in %s, want %s", name, k.queue, want)
		}
	}
}

func TestAJobOfNoKindIsRefusedBeforeItIsQueued(t *testing.T) {
	p, person, dataset := pool(t, slog.New(slog.DiscardHandler))
	ctx := context.Background()
	err := p.store.Do(ctx, func(tx *sqlx.Tx) error {
		_, err := p.Add(ctx, tx, store.NewJob{Kind: "polish", DatasetID: dataset.ID, CreatedBy: person.ID})
		return err
	})
	if err == nil || !strings.Contains(err.Error(), `there is no job of kind "polish"`) {
		t.Errorf("%v", err)
	}
	if jobs, err := store.Jobs(ctx, p.store.DB, 0, false, store.Cursor{Limit: 10}); err != nil || len(jobs.Items) != 0 {
		t.Errorf("%+v, %v", jobs, err)
	}
}

// A job that a newer version queued stays for its nodes, and keeps the others from nothing.
func TestAJobOfANewerVersionIsLeftToIt(t *testing.T) {
	p, person, dataset := pool(t, slog.New(slog.DiscardHandler))
	ctx := context.Background()
	newer, err := store.AddJob(ctx, p.store.DB, store.NewJob{Kind: "polish", DatasetID: dataset.ID,
		CreatedBy: person.ID})
	if err != nil {
		t.Fatal(err)
	}
	if err := p.beat(ctx); err != nil {
		t.Errorf("a beat fails at it: %v", err)
	}
	if j, err := store.FindJob(ctx, p.store.DB, newer.ID); err != nil || j.State != "queued" {
		t.Errorf("%+v, %v", j, err)
	}
	if err := p.run(ctx, newer.ID); err != nil {
		t.Fatal(err)
	}
	if j, err := store.FindJob(ctx, p.store.DB, newer.ID); err != nil || j.State != "failed" ||
		!strings.Contains(j.Error, `knows no job of kind "polish"`) {
		t.Errorf("%+v, %v", j, err)
	}
}

// What earlier versions queued is run by what the job's record says it is.
func TestWhatEarlierVersionsQueuedIsRun(t *testing.T) {
	p, person, dataset := pool(t, slog.New(slog.DiscardHandler))
	ctx := context.Background()
	job, err := store.AddJob(ctx, p.store.DB, store.NewJob{Kind: fetchKind, DatasetID: dataset.ID, Detail: fetchOf{999},
		CreatedBy: person.ID})
	if err != nil {
		t.Fatal(err)
	}
	w := &worker[earlierTask]{pool: p}
	if (earlierTask{}).Kind() != "proudsieve_job" || w.Timeout(nil) != -1 {
		t.Error("the queue does not know it by its name of then")
	}
	if err := w.Work(ctx, &river.Job[earlierTask]{Args: earlierTask{ofJob{job.ID}}}); err != nil {
		t.Fatal(err)
	}
	if j, err := store.FindJob(ctx, p.store.DB, job.ID); err != nil || j.State != "failed" ||
		!strings.Contains(j.Error, "fetch 999") {
		t.Errorf("%+v, %v", j, err)
	}
}

func TestAJobTakesItsShareOfMemory(t *testing.T) {
	before := budget.Process().Used()
	k := &kind{bytes: 5 << 20, work: func(_ context.Context, _ *attempt) error {
		if used := budget.Process().Used() - before; used != 5<<20 {
			t.Errorf("%d bytes are taken while it works", used)
		}
		return nil
	}}
	if err := k.takingRoom(context.Background(), &attempt{job: &records.Job{}}); err != nil {
		t.Fatal(err)
	}
	if used := budget.Process().Used(); used != before {
		t.Errorf("%d bytes are kept", used-before)
	}
}
