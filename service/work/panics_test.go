package work

import (
	"bytes"
	"context"
	"log/slog"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"

	"proudsieve/postgres/postgrestest"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// pool is one that takes no jobs from the queue by itself.
func pool(t *testing.T, log *slog.Logger) (*Pool, *records.Person, *records.Dataset) {
	t.Helper()
	ctx := context.Background()
	s, err := store.Open(ctx, postgrestest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	kept, err := files.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	p, err := NewPool(s, kept, log)
	if err != nil {
		t.Fatal(err)
	}
	person, err := store.AddPerson(ctx, s.DB, "Mara", access.Steward)
	if err != nil {
		t.Fatal(err)
	}
	dataset, err := store.EnsureDataset(ctx, s.DB, "samples", "")
	if err != nil {
		t.Fatal(err)
	}
	return p, person, dataset
}

func TestAPanicEndsItsJobAloneWithANumberToQuote(t *testing.T) {
	var log bytes.Buffer
	p, person, dataset := pool(t, slog.New(slog.NewTextHandler(&log, nil)))
	ctx := context.Background()
	var job *records.Job
	if err := p.store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		// An audit of no table: what it points to is not there.
		job, err = p.Add(ctx, tx, store.NewJob{Kind: Audit, DatasetID: dataset.ID, CreatedBy: person.ID})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if err := p.run(ctx, job.ID); err != nil {
		t.Fatal(err)
	}
	ended, err := store.FindJob(ctx, p.store.DB, job.ID)
	if err != nil || ended.State != "failed" || !strings.Contains(ended.Error, "Quote job 1, attempt 1") {
		t.Errorf("%+v, %v", ended, err)
	}
	if text := log.String(); !strings.Contains(text, "a job panicked") || !strings.Contains(text, "auditTable") {
		t.Errorf("the log has no stack: %s", text)
	}
}
