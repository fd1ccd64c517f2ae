package work

import (
	"context"
	"encoding/json"
	"log/slog"
	"strings"
	"testing"

	"proudsieve/core/merge"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// What a merge made is no sweep's to take until it is recorded, and is a sweep's afterwards where it was not.
func TestASweepLeavesWhatAMergeMadeUntilItIsRecorded(t *testing.T) {
	p, person, dataset := pool(t, slog.New(slog.DiscardHandler))
	ctx := context.Background()
	kept, err := files.Put(ctx, p.files, strings.NewReader("id,value\r\na,1\r\nb,2\r\n"))
	if err != nil {
		t.Fatal(err)
	}
	table, err := store.AddTable(ctx, p.store.DB, store.NewTable{DatasetID: dataset.ID, Origin: store.OriginDelivery, Digest: kept.Digest, Bytes: kept.Bytes,
		FileName: "samples.csv", CreatedBy: person.ID})
	kept.Close()
	if err != nil {
		t.Fatal(err)
	}
	plan, err := merge.Parse([]byte("merge: survey\nstack: [" + dataset.Name + "]\n"))
	if err != nil {
		t.Fatal(err)
	}
	a := &attempt{Pool: p, job: &records.Job{DatasetID: dataset.ID, CreatedByID: person.ID, Detail: json.RawMessage("{}")}}
	to, err := a.mergedFiles()
	if err != nil {
		t.Fatal(err)
	}
	made, _, _, err := a.merged(ctx, plan, mergeInputs{Tables: map[string][]int64{dataset.Name: {table.ID}}}, to)
	if err != nil {
		t.Fatal(err)
	}
	there := func() (n int) {
		for _, digest := range []string{made.Digest, *made.RowMap} {
			if f, err := p.files.Open(digest); err == nil {
				n++
				_ = f.Close()
			}
		}
		return n
	}
	if _, err := p.Sweep(ctx); err != nil || there() != 2 {
		t.Errorf("a sweep took what is about to be recorded: %d are left, %v", there(), err)
	}
	to.discard()
	if _, err := p.Sweep(ctx); err != nil || there() != 0 {
		t.Errorf("what nobody speaks of stays: %d, %v", there(), err)
	}
}
