package store

import (
	"context"
	"encoding/json"
	"fmt"
)

// arrivalsKept is how long a file is kept that did not become a delivery, as PostgreSQL writes it.
const arrivalsKept = "1 day"

// AddArrival records a file whose bytes are kept.
func AddArrival(ctx context.Context, q Querier, digest string, bytes int64, fileName string, person int64) (*Arrival, error) {
	id, err := get[int64](ctx, q, "arrival",
		"INSERT INTO arrivals (digest, bytes, file_name, created_by) VALUES ($1, $2, $3, $4) RETURNING id", digest, bytes, fileName, person)
	if err != nil {
		return nil, err
	}
	return FindArrival(ctx, q, *id)
}

// FindArrival returns a file that is still kept.
func FindArrival(ctx context.Context, q Querier, id int64) (*Arrival, error) {
	return get[Arrival](ctx, q, fmt.Sprintf("arrival %d (a file that became no delivery is kept for %s)", id, arrivalsKept),
		`SELECT a.id, a.digest, a.bytes, a.file_name, p.name AS created_by, a.created_at
		FROM arrivals a JOIN people p ON p.id = a.created_by WHERE a.id = $1 AND a.created_at > now() - interval '`+arrivalsKept+`'`, id)
}

// RenewArrival keeps a file for another day, so that it cannot be forgotten while it becomes a delivery.
func RenewArrival(ctx context.Context, q Querier, id int64) error {
	_, err := get[int64](ctx, q, fmt.Sprintf("arrival %d", id),
		"UPDATE arrivals SET created_at = now() WHERE id = $1 AND created_at > now() - interval '"+arrivalsKept+"' RETURNING id", id)
	return err
}

// ForgetArrivals removes the records of files that became no delivery in time; a sweep removes their bytes.
func ForgetArrivals(ctx context.Context, q Querier) error {
	_, err := exec(ctx, q, "DELETE FROM arrivals WHERE created_at <= now() - interval '"+arrivalsKept+"'")
	return err
}

// DatasetColumns are the columns that the newest audited delivery of a dataset has.
type DatasetColumns struct {
	Dataset string          `db:"dataset"`
	Title   string          `db:"title"`
	Ruled   bool            `db:"ruled"`   // it has a rulebook
	Names   json.RawMessage `db:"columns"` // an array of texts
}

// ColumnsOfDatasets lists them for the newest datasets, at most so many.
func ColumnsOfDatasets(ctx context.Context, q Querier, most int) ([]DatasetColumns, error) {
	return list[DatasetColumns](ctx, q, `SELECT d.name AS dataset, d.title,
		EXISTS (SELECT FROM declarations WHERE dataset_id = d.id AND kind = 'rulebook') AS ruled,
		(SELECT json_agg(c->>'name') FROM json_array_elements(a.result->'columns') c) AS columns
		FROM datasets d JOIN `+newestAudited+` a ON a.dataset_id = d.id
		WHERE json_array_length(a.result->'columns') > 0`+seen(ctx, "d.id")+` ORDER BY d.id DESC LIMIT $1`, most)
}
