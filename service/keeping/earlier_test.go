package keeping_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/fix"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/durable"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/keeping"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// unpack puts an archive of testdata into a directory.
func unpack(t *testing.T, archive string) string {
	t.Helper()
	f, err := os.Open(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	packed, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	directory, in := t.TempDir(), tar.NewReader(packed)
	for {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return directory
		}
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(directory, filepath.Clean("/"+h.Name))
		if h.Typeflag == tar.TypeDir {
			err = os.MkdirAll(path, 0o700)
		} else {
			var content bytes.Buffer
			if _, err = io.Copy(&content, in); err == nil {
				err = os.WriteFile(path, content.Bytes(), 0o600)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// Each archive of testdata is what the program of that day made of the demo: what was saved opens.
func TestWhatEarlierProgramsMadeOpens(t *testing.T) {
	archives, err := filepath.Glob("testdata/*.tar.gz")
	if err != nil || len(archives) == 0 {
		t.Fatal(archives, err)
	}
	for _, archive := range archives {
		t.Run(filepath.Base(archive), func(t *testing.T) { opens(t, unpack(t, archive)) })
	}
}

func opens(t *testing.T, backup string) {
	place, database := t.TempDir(), postgrestest.Database(t)
	if _, err := keeping.Restore(ctx, backup, keeping.Place{Database: database, Data: place}); err != nil {
		t.Fatal(err)
	}
	s, err := service.Start(ctx, service.Options{DatabaseURL: database, Directory: place, Listen: "127.0.0.1:0",
		Log: servicetest.Quiet(t)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Stop() })
	token, err := durable.ReadSecret(filepath.Join(backup, "administrator-token"))
	if err != nil {
		t.Fatal(err)
	}
	admin := &client.Client{Server: s.URL(), Token: strings.TrimSpace(string(token))}
	datasets, err := servicetest.All[records.Dataset](ctx, admin, "/datasets")
	if err != nil || len(datasets) < 5 {
		t.Fatalf("%d datasets, %v", len(datasets), err)
	}
	for _, d := range datasets {
		book, err := servicetest.Get[records.Declaration](ctx, admin, "/rulebooks/"+d.Name+"/"+d.Name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := rulebook.Parse([]byte(book.Source)); err != nil {
			t.Errorf("the rulebook of %s: %v", d.Name, err)
		}
	}
	for _, kind := range []string{"fix-plans", "merges"} {
		if all, err := servicetest.All[records.Declaration](ctx, admin, "/"+kind); err != nil || len(all) == 0 {
			t.Errorf("%d %s, %v", len(all), kind, err)
		}
	}
	audits, err := servicetest.All[records.Audit](ctx, admin, "/audits")
	if err != nil || len(audits) < 8 {
		t.Fatalf("%d audits, %v", len(audits), err)
	}
	for _, a := range audits {
		shown, err := servicetest.Get[api.AuditShown](ctx, admin, fmt.Sprintf("/audits/%d", a.ID))
		if err != nil || shown.Result.Rows != a.Rows {
			t.Errorf("audit %d: %v", a.ID, err)
		}
		if _, err := servicetest.Get[api.RowsPage](ctx, admin,
			fmt.Sprintf("/tables/%d/rows?limit=5", a.TableID)); err != nil {
			t.Errorf("the rows of table %d: %v", a.TableID, err)
		}
	}
	// The same bytes and rulebook give the same verdict now.
	job, err := servicetest.Post[records.Job](ctx, admin,
		fmt.Sprintf("/tables/%d/audits", audits[len(audits)-1].TableID), nil)
	if err != nil {
		t.Fatal(err)
	}
	done, err := admin.Follow(ctx, job.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	again, err := servicetest.Get[api.AuditShown](ctx, admin, fmt.Sprintf("/audits/%d", *done.AuditID))
	if first := audits[len(audits)-1]; err != nil || *again.Score != *first.Score || *again.Passed != *first.Passed {
		t.Errorf("audited again: %v, was %v; %v", again.Score, first.Score, err)
	}
	certificates, err := servicetest.All[records.Certificate](ctx, admin, "/certificates")
	if err != nil || len(certificates) == 0 {
		t.Fatalf("%d certificates, %v", len(certificates), err)
	}
	var key bytes.Buffer
	if err := servicetest.Download(ctx, admin, "/signing-key", &key); err != nil {
		t.Fatal(err)
	}
	for _, c := range certificates {
		var table bytes.Buffer
		if err := servicetest.Download(ctx, admin, fmt.Sprintf("/tables/%d/bytes", c.TableID), &table); err != nil {
			t.Fatal(err)
		}
		if _, err := certify.Verify(&table, nil, c.Signature, key.Bytes()); err != nil {
			t.Errorf("certificate %d: %v", c.ID, err)
		}
	}
	appliesAsThen(t, admin, datasets)
	mergesAsThen(t, admin, certificates)
	if _, err := servicetest.All[records.Issue](ctx, admin, "/issues"); err != nil {
		t.Error(err)
	}
	if checked, err := keeping.Check(ctx, keeping.Place{Database: database, Data: place}); err != nil || !checked.Good() {
		t.Errorf("%+v, %v", checked, err)
	}
}

// appliesAsThen applies the fix plans of then once more: they make the same bytes, and what was a silent rewriting is told.
func appliesAsThen(t *testing.T, admin *client.Client, datasets []records.Dataset) {
	t.Helper()
	applied := 0
	for _, d := range datasets {
		tables, err := servicetest.All[records.Table](ctx, admin, "/datasets/"+d.Name+"/tables?origin=cleaned")
		if err != nil {
			t.Fatal(err)
		}
		for _, cleaned := range tables {
			name, version, _ := strings.Cut(*cleaned.Declaration, " version ")
			body := map[string]any{"fix_plan": name, "version": json.RawMessage(version)}
			job, err := servicetest.Post[records.Job](ctx, admin, fmt.Sprintf("/tables/%d/fixes", *cleaned.ParentID), body)
			if err != nil {
				t.Fatal(err)
			}
			done, err := admin.Follow(ctx, job.ID, nil)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if done.ResultTable == nil || *done.ResultTable != cleaned.ID {
				t.Errorf("%s makes table %v now, and made table %d", name, done.ResultTable, cleaned.ID)
			}
			if job, err = servicetest.Post[records.Job](ctx, admin, fmt.Sprintf("/tables/%d/previews", *cleaned.ParentID), body); err != nil {
				t.Fatal(err)
			}
			if done, err = admin.Follow(ctx, job.ID, nil); err != nil {
				t.Fatal(err)
			}
			var shown fix.Preview
			if err := json.Unmarshal(*done.Result, &shown); err != nil {
				t.Fatal(err)
			}
			parent, err := admin.ShowTable(ctx, *cleaned.ParentID)
			if err != nil {
				t.Fatal(err)
			}
			plan, err := admin.ShowFixPlans(ctx, parent.Dataset, name, nil)
			if err != nil {
				t.Fatal(err)
			}
			last := shown.Ledger.Steps[len(shown.Ledger.Steps)-1]
			if plan.Earlier && (last.Kind != fix.StandardForm || !strings.Contains(last.Reason, "this is a step now")) {
				t.Errorf("%s: the last step is %+v", name, last)
			}
			if page, err := servicetest.Get[api.ChangesPage](ctx, admin, fmt.Sprintf("/tables/%d/changes?limit=1000", cleaned.ID)); err != nil || len(page.Items) == 0 {
				t.Errorf("%s: %d changes, %v", name, len(page.Items), err)
			}
			applied++
		}
	}
	if applied == 0 {
		t.Error("no fix plan was applied")
	}
}

// mergesAsThen runs the merges of what was certified then once more: they make the same bytes, and accountings of then are understood.
func mergesAsThen(t *testing.T, admin *client.Client, certificates []records.Certificate) {
	t.Helper()
	for _, c := range certificates {
		was, err := admin.ShowTable(ctx, c.TableID)
		if err != nil {
			t.Fatal(err)
		}
		obstacles, err := client.Decode[api.Obstacles](admin.ListObstacles(ctx, c.TableID))
		if err != nil || strings.Contains(fmt.Sprint(obstacles.Obstacles), "accounting") {
			t.Errorf("table %d: %+v, %v", c.TableID, obstacles, err)
		}
		job, err := admin.RunMerge(ctx, was.Dataset, client.RunBody{})
		if err == nil {
			job, err = admin.Follow(ctx, job.ID, nil)
		}
		if err != nil {
			t.Fatal(err)
		}
		now, err := admin.ShowTable(ctx, *job.ResultTable)
		if err != nil || now.Digest != was.Digest {
			t.Errorf("the merge %s makes %v now, and made %s; %v", was.Dataset, now, was.Digest, err)
		}
		var then, again merge.Accounting
		if err := errors.Join(json.Unmarshal(*was.Accounting, &then), json.Unmarshal(*now.Accounting, &again)); err != nil || then.Rows != again.Rows || again.Stack.Shared == nil {
			t.Errorf("%+v\n%+v, %v", then, again, err)
		}
		_, err = admin.TraceRow(ctx, was.ID, 1, nil)
		if was.RowMap != nil { // merges of since then know of which rows each of theirs was made
			if err != nil {
				t.Error(err)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), "run the merge again") {
			t.Errorf("a row of a table that was merged then: %v", err)
		}
	}
}
