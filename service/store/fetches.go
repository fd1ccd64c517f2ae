package store

import (
	"context"
	"encoding/json"
	"fmt"

	"proudsieve/service/records"
)

const fetchColumns = `SELECT f.id, d.name AS dataset, f.dataset_id, f.address, f.every_minutes, f.source, f.etag, f.last_modified, f.next_at, f.checked_at,
	f.outcome, f.message, f.table_id, f.created_by AS created_by_id, p.name AS created_by, f.created_at, f.ended_at,
	f.database_id, coalesce((SELECT name FROM databases WHERE id = f.database_id), '') AS database, f.schema_name, f.table_name, f.query, f.in_place
	FROM fetches f JOIN datasets d ON d.id = f.dataset_id JOIN people p ON p.id = f.created_by`

// NewFetch is an address, or what is taken of a database.
type NewFetch struct {
	DatasetID    int64
	Address      string
	EveryMinutes *int
	Source       json.RawMessage
	PersonID     int64
	DatabaseID   *int64 // nil for a web address
	Of           records.Relation
}

// AddFetch records where deliveries are fetched from. What is fetched again and again is due from now on.
func AddFetch(ctx context.Context, q Querier, n *NewFetch) (*Fetch, error) {
	id, err := get[int64](ctx, q, "fetch", `INSERT INTO fetches (dataset_id, address, every_minutes, next_at, source, created_by, database_id, schema_name, table_name, query, in_place)
		VALUES ($1, $2, $3, CASE WHEN $3::int IS NOT NULL THEN now() + $3 * interval '1 minute' END, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
		n.DatasetID, n.Address, n.EveryMinutes, string(n.Source), n.PersonID, n.DatabaseID, n.Of.Schema, n.Of.Table, n.Of.Query, n.Of.InPlace)
	if err != nil {
		return nil, err
	}
	return FindFetch(ctx, q, *id)
}

// FindFetch returns a fetch by its id.
func FindFetch(ctx context.Context, q Querier, id int64) (*Fetch, error) {
	return get[Fetch](ctx, q, fmt.Sprintf("fetch %d", id), fetchColumns+" WHERE f.id = $1", id)
}

// Fetches lists the addresses of a dataset, those that ended last.
func Fetches(ctx context.Context, q Querier, dataset int64) ([]Fetch, error) {
	all := []Fetch{}
	err := q.SelectContext(ctx, &all, fetchColumns+
		" WHERE f.dataset_id = $1 ORDER BY f.ended_at IS NOT NULL, f.id DESC", dataset)
	return all, err
}

// DueFetches takes the fetches that are due, and sets when they are due again. A node
// that takes them in its transaction keeps other nodes from taking them too.
func DueFetches(ctx context.Context, q Querier) ([]Fetch, error) {
	var ids []int64
	if err := q.SelectContext(ctx, &ids, `UPDATE fetches SET next_at = now() + every_minutes * interval '1 minute'
		WHERE id IN (SELECT id FROM fetches WHERE ended_at IS NULL AND next_at <= now() FOR UPDATE SKIP LOCKED) RETURNING id`); err != nil {
		return nil, err
	}
	due := make([]Fetch, 0, len(ids))
	for _, id := range ids {
		f, err := FindFetch(ctx, q, id)
		if err != nil {
			return nil, err
		}
		due = append(due, *f)
	}
	return due, nil
}

// Fetched is what came of a fetch.
type Fetched struct {
	Outcome string // delivered, known, unchanged or failed
	Message string
	TableID *int64 // of the delivery; nil where there is none
	// What the address says of the bytes, by which it is asked whether they are still the same.
	ETag, LastModified string
}

// RecordFetch notes what came of a fetch.
func RecordFetch(ctx context.Context, q Querier, id int64, f *Fetched) error {
	_, err := exec(ctx, q, `UPDATE fetches SET checked_at = now(), outcome = $2, message = $3, table_id = coalesce($4, table_id),
		etag = CASE WHEN $2 IN ('delivered', 'known') THEN $5 ELSE etag END, last_modified = CASE WHEN $2 IN ('delivered', 'known') THEN $6 ELSE last_modified END
		WHERE id = $1`, id, f.Outcome, f.Message, f.TableID, f.ETag, f.LastModified)
	return err
}

// EndFetch ends a fetch: its address is not asked again.
func EndFetch(ctx context.Context, q Querier, id int64) (*Fetch, error) {
	if _, err := exec(ctx, q, "UPDATE fetches SET ended_at = coalesce(ended_at, now()), next_at = NULL WHERE id = $1",
		id); err != nil {
		return nil, err
	}
	return FindFetch(ctx, q, id)
}
