package service_test

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/files"
	"proudsieve/service/keeping"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestNodesWithDirectoriesOfTheirOwnShareABucket(t *testing.T) {
	t.Parallel()
	server, bucket := servicetest.Bucket(t)
	server.Trouble(0.05, 3)
	database := postgrestest.Database(t)
	first := servicetest.Start(t, func(o *service.Options) { o.DatabaseURL, o.Bucket = database, bucket })
	options := service.Options{DatabaseURL: database, Directory: t.TempDir(), Bucket: bucket, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)}
	if _, err := service.Start(ctx, options); err == nil || !strings.Contains(err.Error(), "copy signing-key.json and") {
		t.Fatalf("a node with a key of its own: %v", err)
	}
	if err := keeping.CarrySecrets(first.Directory, options.Directory); err != nil {
		t.Fatal(err)
	}
	second, err := service.Start(ctx, options)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := second.Stop(); err != nil {
			t.Error(err)
		}
	})
	there := &client.Client{Server: second.URL(), Token: first.Steward.Token}
	declare(t, first.Steward, "rulebooks", book)
	declare(t, first.Steward, "fix-plans", "fix_plan: clean\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], keep: first, varies: true, reason: The first counts.}\n")
	for i := range 3 {
		d := deliver(t, first.Steward, "samples", "sample,value\n"+strings.Repeat(fmt.Sprintf("S%d,1\n", i), 1+i*40_000))
		if a := audited(t, there, d.Table.ID); a.Rows != int64(1+i*40_000) {
			t.Errorf("%+v", a.Audit)
		}
		job, err := there.ApplyFix(ctx, d.Table.ID, client.PlannedBody{FixPlan: "clean"})
		if err != nil {
			t.Fatal(err)
		}
		done, err := first.Steward.Follow(ctx, job.ID, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range []*client.Client{first.Reader, {Server: second.URL(), Token: first.Reader.Token}} {
			for _, path := range []string{fmt.Sprintf("/tables/%d/rows", d.Table.ID), fmt.Sprintf("/tables/%d/rows", *done.ResultTable)} {
				rows, err := servicetest.Get[api.RowsPage](ctx, c, path)
				if err != nil || rows.Rows[0].Cells[0] != fmt.Sprint("S", i) {
					t.Errorf("%+v, %v", rows, err)
				}
			}
			if log, err := servicetest.Get[api.ChangesPage](ctx, c, fmt.Sprintf("/tables/%d/changes", *done.ResultTable)); err != nil || i > 0 != (len(log.Items) > 0) {
				t.Errorf("%+v, %v", log, err)
			}
		}
	}
	if kept, err := filepath.Glob(filepath.Join(first.Directory, "files", "*")); err != nil || len(kept) > 0 {
		t.Errorf("files of the store are in the data directory: %v, %v", kept, err)
	}
	backedUpAndPutBack(t, keeping.Place{Database: database, Data: first.Directory, Bucket: bucket})
}

// backedUpAndPutBack makes a backup of a service on a bucket and puts it back into a directory, and into another bucket.
func backedUpAndPutBack(t *testing.T, place keeping.Place) {
	t.Helper()
	backup := filepath.Join(t.TempDir(), "backup")
	made, err := keeping.Make(ctx, place, backup)
	if err != nil {
		t.Fatal(err)
	}
	_, empty := servicetest.Bucket(t)
	for _, into := range []*files.BucketOptions{nil, empty} {
		to := keeping.Place{Database: postgrestest.Database(t), Data: filepath.Join(t.TempDir(), "data"), Bucket: into}
		if err := os.Mkdir(to.Data, 0o700); err != nil {
			t.Fatal(err)
		}
		if back, err := keeping.Restore(ctx, backup, to); err != nil || back.Copied != made.Files {
			t.Fatalf("%+v of %+v, %v", back, made, err)
		}
		if checked, err := keeping.Check(ctx, to); err != nil || !checked.Good() || checked.Files != made.Files {
			t.Errorf("%+v, %v", checked, err)
		}
	}
}

func TestAJobWaitsForAFileStoreThatIsAway(t *testing.T) {
	t.Parallel()
	server, bucket := servicetest.Bucket(t)
	r := servicetest.Start(t, func(o *service.Options) { o.Bucket = bucket })
	declare(t, r.Steward, "rulebooks", book)
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\n")
	audited(t, r.Steward, d.Table.ID)
	server.Down(true)
	var problem *client.Problem
	if _, err := r.Steward.Deliver(ctx, "samples", "more.csv", records.SourceNotes{}, strings.NewReader("sample,value\nS2,1\n")); !errors.As(err, &problem) ||
		problem.Status != 503 || problem.Detail != files.AwaySays {
		t.Errorf("delivering: %v", err)
	}
	job, err := r.Steward.StartAudit(ctx, d.Table.ID)
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(3 * time.Second)
	server.Down(false)
	done, err := r.Steward.Follow(ctx, job.ID, nil)
	if err != nil || done.State != "done" {
		t.Errorf("%+v, %v", done, err)
	}
}
