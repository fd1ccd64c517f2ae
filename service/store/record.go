package store

import (
	"context"
	"time"

	"proudsieve/service/records"
)

// SetExpects says by when deliveries of a dataset are expected, as JSON; nil for nothing.
func SetExpects(ctx context.Context, q Querier, dataset int64, expects []byte) error {
	_, err := exec(ctx, q, "UPDATE datasets SET expects = $2 WHERE id = $1", dataset, expects)
	return err
}

// JudgedDeliveries returns the deliveries of a dataset that were not withdrawn, the first one first, with how the newest audit of each
// went.
func JudgedDeliveries(ctx context.Context, q Querier, dataset int64) ([]records.JudgedDelivery, error) {
	return list[records.JudgedDelivery](ctx, q, `SELECT t.id, t.created_at, t.file_name, COALESCE(t.source->>'provider', '') AS provider, a.id AS audit_id, a.passed
		FROM tables t LEFT JOIN LATERAL (SELECT id, passed FROM audits WHERE table_id = t.id ORDER BY id DESC LIMIT 1) a ON true
		WHERE t.dataset_id = $1 AND t.origin = 'delivery' AND t.id NOT IN (SELECT table_id FROM withdrawals) ORDER BY t.id`, dataset)
}

// comeBackMost is how many rules are told that come back.
const comeBackMost = 50

// ComeBack returns the rules of a dataset whose issues were settled and came again, the most frequent first.
func ComeBack(ctx context.Context, q Querier, dataset int64) ([]records.ComesBack, error) {
	return list[records.ComesBack](ctx, q, `SELECT i.rule, i.id AS issue, count(*) AS times FROM issue_entries e JOIN issues i ON i.id = e.issue_id
		WHERE i.dataset_id = $1 AND e.kind = 'reopened' GROUP BY i.rule, i.id ORDER BY times DESC, i.id LIMIT $2`, dataset, comeBackMost)
}

// AnswerTimes returns how long those took who were asked about a dataset.
func AnswerTimes(ctx context.Context, q Querier, dataset int64) ([]records.AnswerTime, error) {
	return list[records.AnswerTime](ctx, q, `SELECT s.recipient, count(*) AS asked, count(f.at) AS answered,
		percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM f.at - s.created_at) / 86400) FILTER (WHERE f.at IS NOT NULL) AS days
		FROM questions q JOIN sheets s ON s.id = q.sheet_id JOIN issues i ON i.id = q.issue_id
		LEFT JOIN LATERAL (SELECT min(at) AS at FROM answers WHERE question_id = q.id) f ON true
		WHERE i.dataset_id = $1 GROUP BY s.recipient ORDER BY s.recipient`, dataset)
}

// Expecting returns the datasets of which deliveries are expected.
func Expecting(ctx context.Context, q Querier) ([]Dataset, error) {
	return list[Dataset](ctx, q, datasetColumns+" WHERE d.expects IS NOT NULL"+seen(ctx, "d.id")+" ORDER BY d.name")
}

// Expected returns when the deliveries of all datasets came of which some are expected, by their datasets, the first one first.
func Expected(ctx context.Context, q Querier) (map[int64][]time.Time, error) {
	type arrival struct {
		Dataset int64     `db:"dataset_id"`
		At      time.Time `db:"created_at"`
	}
	all, err := list[arrival](ctx, q, `SELECT t.dataset_id, t.created_at FROM tables t JOIN datasets d ON d.id = t.dataset_id
		WHERE d.expects IS NOT NULL AND t.origin = 'delivery' AND t.id NOT IN (SELECT table_id FROM withdrawals) ORDER BY t.id`)
	out := map[int64][]time.Time{}
	for _, one := range all {
		out[one.Dataset] = append(out[one.Dataset], one.At)
	}
	return out, err
}
