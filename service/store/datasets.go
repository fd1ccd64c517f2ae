package store

import (
	"context"
	"fmt"
	"time"
)

// Dataset is a table that arrives again and again under one name, with where it stands today.
type Dataset struct {
	ID         int64      `db:"id" json:"id"`
	Name       string     `db:"name" json:"name"`
	Title      string     `db:"title" json:"title"`
	CreatedAt  time.Time  `db:"created_at" json:"created_at"`
	Rulebook   int        `db:"rulebook" json:"rulebook" doc:"Newest version of the rulebook; 0 for none"`
	Deliveries int64      `db:"deliveries" json:"deliveries"`
	LastTable  *int64     `db:"last_table" json:"last_table" doc:"The newest delivery, cleaned or merged table"`
	LastAt     *time.Time `db:"last_at" json:"last_at"`
	Score      *float64   `db:"score" json:"score" doc:"Of the newest audit, 0 to 100"`
	Passed     *bool      `db:"passed" json:"passed"`
	OpenIssues int64      `db:"open_issues" json:"open_issues"`
	Stops      int64      `db:"stops" json:"stops" doc:"Open issues that stop the table"`
	Keep       *int       `db:"keep_deliveries" json:"keep_deliveries" doc:"How many deliveries are kept, besides those that something certified rests on; null for all"`
}

const datasetColumns = `SELECT d.id, d.name, d.title, d.created_at, d.keep_deliveries,
	COALESCE((SELECT max(version) FROM declarations WHERE kind = 'rulebook' AND dataset_id = d.id), 0) AS rulebook,
	(SELECT count(*) FROM tables WHERE dataset_id = d.id AND origin = 'delivery' AND id NOT IN (SELECT table_id FROM withdrawals)) AS deliveries,
	t.id AS last_table, t.created_at AS last_at, a.score, a.passed,
	(SELECT count(*) FROM issues WHERE dataset_id = d.id AND state IN ('open', 'asked')) AS open_issues,
	(SELECT count(*) FROM issues WHERE dataset_id = d.id AND state IN ('open', 'asked') AND severity = 'major') AS stops
	FROM datasets d
	LEFT JOIN LATERAL (SELECT id, created_at FROM tables WHERE dataset_id = d.id AND id NOT IN (SELECT table_id FROM withdrawals) ORDER BY id DESC LIMIT 1) t ON true
	LEFT JOIN LATERAL (SELECT score, passed FROM audits WHERE dataset_id = d.id AND table_id NOT IN (SELECT table_id FROM withdrawals) ORDER BY id DESC LIMIT 1) a ON true`

// Datasets lists the datasets.
func Datasets(ctx context.Context, q Querier, c Cursor) (*Page[Dataset], error) {
	return page(ctx, q, c, func(d *Dataset) int64 { return d.ID }, datasetColumns+" WHERE d.id < $1 ORDER BY d.id DESC LIMIT $2")
}

// FindDataset returns the dataset of a name.
func FindDataset(ctx context.Context, q Querier, name string) (*Dataset, error) {
	return get[Dataset](ctx, q, fmt.Sprintf("dataset %q", name), datasetColumns+" WHERE d.name = $1", name)
}

// EnsureDataset returns the dataset of a name, which it makes where there is none.
// A title that is given replaces the one that is there.
func EnsureDataset(ctx context.Context, q Querier, name, title string) (*Dataset, error) {
	_, err := exec(ctx, q, `INSERT INTO datasets (name, title) VALUES ($1, $2)
		ON CONFLICT (name) DO UPDATE SET title = CASE WHEN excluded.title = '' THEN datasets.title ELSE excluded.title END`, name, title)
	if err != nil {
		return nil, err
	}
	return FindDataset(ctx, q, name)
}
