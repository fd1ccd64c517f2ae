package store

import (
	"context"
	"fmt"
)

const datasetColumns = `SELECT d.id, d.name, d.title, d.created_at, d.keep_deliveries, d.standing_plan, d.kept_merged, d.second_person, d.expects,
	COALESCE((SELECT max(version) FROM declarations WHERE kind = 'rulebook' AND dataset_id = d.id), 0) AS rulebook,
	(SELECT count(*) FROM tables WHERE dataset_id = d.id AND origin = 'delivery' AND id NOT IN (SELECT table_id FROM withdrawals)) AS deliveries,
	t.id AS last_table, t.created_at AS last_at, CASE WHEN a.passed IS NOT NULL THEN a.score END AS score, a.passed,
	(SELECT count(*) FROM issues WHERE dataset_id = d.id AND state IN ('open', 'asked')) AS open_issues,
	(SELECT count(*) FROM issues WHERE dataset_id = d.id AND state IN ('open', 'asked') AND severity = 'major') AS stops
	FROM datasets d
	LEFT JOIN LATERAL (SELECT id, created_at FROM tables WHERE dataset_id = d.id AND id NOT IN (SELECT table_id FROM withdrawals) ORDER BY id DESC LIMIT 1) t ON true
	LEFT JOIN LATERAL (SELECT score, passed FROM audits WHERE dataset_id = d.id AND table_id NOT IN (SELECT table_id FROM withdrawals) ORDER BY id DESC LIMIT 1) a ON true`

// Datasets lists the datasets.
func Datasets(ctx context.Context, q Querier, c Cursor) (*Page[Dataset], error) {
	return page(ctx, q, c, func(d *Dataset) int64 { return d.ID }, datasetColumns+
		" WHERE d.id < $1"+seen(ctx, "d.id")+" ORDER BY d.id DESC LIMIT $2")
}

// FindDataset returns the dataset of a name.
func FindDataset(ctx context.Context, q Querier, name string) (*Dataset, error) {
	return get[Dataset](ctx, q, fmt.Sprintf("dataset %q", name), datasetColumns+" WHERE d.name = $1", name)
}

// SetStandingPlan says which fix plan is applied to every delivery of a dataset as it arrives; nil for none.
func SetStandingPlan(ctx context.Context, q Querier, dataset int64, plan *string) error {
	_, err := exec(ctx, q, "UPDATE datasets SET standing_plan = $2 WHERE id = $1", dataset, plan)
	return err
}

// StandingPlan returns the newest version of the fix plan that is to be applied to a delivery which was just audited, or
// ErrNotFound: where the dataset has none, or a plan was applied to the delivery already.
func StandingPlan(ctx context.Context, q Querier, t *Table) (*Declaration, error) {
	return get[Declaration](ctx, q, "standing fix plan", declarationColumns+` WHERE c.kind = 'fix_plan' AND c.dataset_id = $1
		AND c.name = d.standing_plan AND NOT EXISTS (SELECT FROM tables WHERE parent_id = $2)
		AND NOT EXISTS (SELECT FROM jobs WHERE table_id = $2 AND kind = 'fix') ORDER BY c.version DESC LIMIT 1`, t.DatasetID, t.ID)
}

// KeepMerged says whether the merge of a dataset runs again by itself with every table that it takes.
func KeepMerged(ctx context.Context, q Querier, dataset int64, kept bool) error {
	_, err := exec(ctx, q, "UPDATE datasets SET kept_merged = $2 WHERE id = $1", dataset, kept)
	return err
}

const newestMerges = ` WHERE c.kind = 'merge' AND c.version = (SELECT max(version) FROM declarations o
	WHERE o.kind = c.kind AND o.dataset_id = c.dataset_id AND o.name = c.name)`

// NewestMerges returns the newest version of each merge.
func NewestMerges(ctx context.Context, q Querier) ([]Declaration, error) {
	return list[Declaration](ctx, q, declarationColumns+newestMerges+" ORDER BY c.id")
}

// KeptMerges returns the newest versions of the merges that run again by themselves.
func KeptMerges(ctx context.Context, q Querier) ([]Declaration, error) {
	return list[Declaration](ctx, q, declarationColumns+newestMerges+" AND d.kept_merged ORDER BY c.id")
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
