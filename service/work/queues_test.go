package work

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"testing"

	"github.com/jmoiron/sqlx"

	"proudsieve/service/records"
	"proudsieve/service/store"
)

// A job waits where others of its kind and its size do: one on a large table, or on several that are large together, keeps no place
// from one on a small table, and one on a table in a database from neither.
func TestAJobIsQueuedWhereOthersLikeItHaveTheirPlaces(t *testing.T) {
	p, person, dataset := pool(t, slog.New(slog.DiscardHandler))
	p.LargeBytes = 1000
	ctx := context.Background()
	tableOf := func(digest string, bytes int64, source string) *records.Table {
		t.Helper()
		var made *records.Table
		if err := p.store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			made, err = store.AddTable(ctx, tx, store.NewTable{DatasetID: dataset.ID, Origin: store.OriginDelivery, Digest: digest, Bytes: bytes, FileName: digest + ".csv", Source: json.RawMessage(source), CreatedBy: person.ID})
			return err
		}); err != nil {
			t.Fatal(err)
		}
		return made
	}
	small, other := tableOf("small", 600, "{}"), tableOf("other", 400, "{}")
	large, there := tableOf("large", 1000, "{}"), tableOf("there", 300, `{"in_place": {"table": "results"}}`)
	taking := func(tables ...*records.Table) mergeInputs {
		in := mergeInputs{Tables: MergeTables{}}
		for _, one := range tables {
			in.Tables[one.FileName] = []int64{one.ID}
		}
		return in
	}
	for _, c := range []struct {
		name string
		job  store.NewJob
		want string
	}{
		{"of no table", store.NewJob{Kind: Audit}, "default"},
		{"a small table", store.NewJob{Kind: Audit, TableID: &small.ID}, "default"},
		{"a large table", store.NewJob{Kind: Audit, TableID: &large.ID}, largeQueue},
		{"a preview of a large table", store.NewJob{Kind: previewKind, TableID: &large.ID}, largeQueue},
		{"a table in a database", store.NewJob{Kind: Audit, TableID: &there.ID}, thereQueue},
		{"a merge of a small table", store.NewJob{Kind: Merge, Detail: taking(small)}, "default"},
		{"a merge of two that are large together", store.NewJob{Kind: Merge, Detail: taking(small, other)}, largeQueue},
		{"a merge as earlier versions recorded it", store.NewJob{Kind: Merge, Detail: map[string]any{"tables": map[string]any{"samples": large.ID}}}, largeQueue},
		{"tables that are named otherwise", store.NewJob{Kind: Merge, Detail: map[string]any{"tables": map[string]any{"samples": "large"}}}, "default"},
		{"a fetch", store.NewJob{Kind: fetchKind}, fetchQueue},
	} {
		c.job.DatasetID, c.job.CreatedBy = dataset.ID, person.ID
		var job *records.Job
		if err := p.store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			job, err = p.Add(ctx, tx, c.job)
			return err
		}); err != nil {
			t.Fatal(c.name, err)
		}
		var queue string
		if err := p.store.DB.Get(&queue, "SELECT r.queue FROM jobs j JOIN river_job r ON r.id = j.task_id WHERE j.id = $1", job.ID); err != nil || queue != c.want {
			t.Errorf("%s is in the queue %q, want %q; %v", c.name, queue, c.want, err)
		}
	}
	served := []string{}
	for name, config := range queues() {
		if config.MaxWorkers > 0 {
			served = append(served, name)
		}
	}
	slices.Sort(served)
	if want := []string{"default", fetchQueue, thereQueue, largeQueue, sendQueue}; !slices.Equal(served, want) {
		t.Errorf("served are %v, want %v", served, want)
	}
}
