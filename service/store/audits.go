package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"time"
)

const auditColumns = `SELECT a.id, a.table_id, d.name AS dataset, a.dataset_id, t.origin, t.file_name, a.rulebook_id,
	(SELECT version FROM declarations WHERE id = a.rulebook_id) AS rulebook,
	a.job_id, CASE WHEN a.passed IS NOT NULL THEN a.score END AS score, a.pass_mark, a.passed, a.rows, a.rows_digest, a.created_at,
	EXISTS (SELECT FROM withdrawals WHERE table_id = a.table_id) AS withdrawn
	FROM audits a JOIN datasets d ON d.id = a.dataset_id JOIN tables t ON t.id = a.table_id`

// NewAudit is what AddAudit records.
type NewAudit struct {
	TableID, DatasetID int64
	RulebookID         *int64
	JobID              int64
	Score, PassMark    float64
	Passed             *bool // nil where there is no verdict, and thus no score
	Rows               int64
	Result             json.RawMessage
	RowsDigest         string
}

// AddAudit records a finished audit and returns its id.
func AddAudit(ctx context.Context, q Querier, a NewAudit) (int64, error) {
	id, err := get[int64](ctx, q, "audit", `INSERT INTO audits (table_id, dataset_id, rulebook_id, job_id, score, pass_mark, passed, rows, result, rows_digest)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
		a.TableID, a.DatasetID, a.RulebookID, a.JobID, a.Score, a.PassMark, a.Passed, a.Rows, string(a.Result),
		a.RowsDigest)
	if err != nil {
		return 0, err
	}
	return *id, nil
}

// FindAudit returns an audit by its id.
func FindAudit(ctx context.Context, q Querier, id int64) (*Audit, error) {
	return get[Audit](ctx, q, fmt.Sprintf("audit %d", id), auditColumns+" WHERE a.id = $1", id)
}

// TableAsOf returns a table with the audit that was its newest at a time.
func TableAsOf(ctx context.Context, q Querier, id int64, at time.Time) (*Table, error) {
	t, err := FindTable(ctx, q, id)
	if err != nil {
		return nil, err
	}
	newest, err := get[sql.NullInt64](ctx, q, "audit", "SELECT max(id) FROM audits WHERE table_id = $1 AND created_at <= $2", id, at)
	if t.AuditID = nil; err == nil && newest.Valid {
		t.AuditID = &newest.Int64
	}
	return t, err
}

// AuditResult returns what an audit found, as JSON.
func AuditResult(ctx context.Context, q Querier, id int64) (json.RawMessage, error) {
	raw, err := get[json.RawMessage](ctx, q, fmt.Sprintf("audit %d", id), "SELECT result FROM audits WHERE id = $1", id)
	if err != nil {
		return nil, err
	}
	return *raw, nil
}

// Audits lists audits; dataset 0 and table 0 mean all.
func Audits(ctx context.Context, q Querier, dataset, table int64, c Cursor) (*Page[Audit], error) {
	return page(ctx, q, c, func(a *Audit) int64 { return a.ID }, auditColumns+
		" WHERE a.id < $1 AND ($3 = 0 OR a.dataset_id = $3) AND ($4 = 0 OR a.table_id = $4)"+seen(ctx, "a.dataset_id")+" ORDER BY a.id DESC LIMIT $2", dataset, table)
}

// PastResults returns what the newest audits found of the tables of a dataset that came before
// one, of the same origin, at most so many, the last one first.
func PastResults(ctx context.Context, q Querier, dataset, before int64, origin string,
	most int) ([]json.RawMessage, error) {
	return list[json.RawMessage](ctx, q, `SELECT a.result FROM tables t JOIN LATERAL (SELECT result FROM audits WHERE table_id = t.id ORDER BY id DESC LIMIT 1) a ON true
		WHERE t.dataset_id = $1 AND t.id < $2 AND t.origin = $3 AND t.id NOT IN (SELECT table_id FROM withdrawals) ORDER BY t.id DESC LIMIT $4`, dataset, before, origin, most)
}

// AuditBefore returns the newest audit of a dataset, of tables of one origin, that came before another.
func AuditBefore(ctx context.Context, q Querier, a *Audit) (*Audit, error) {
	return get[Audit](ctx, q, "earlier audit", auditColumns+
		" WHERE a.id < $1 AND a.dataset_id = $2 AND t.origin = $3 AND t.id NOT IN (SELECT table_id FROM withdrawals) ORDER BY a.id DESC LIMIT 1", a.ID, a.DatasetID, a.Origin)
}

// NewestAudits returns the newest audits of the newest tables of a dataset of one origin that were not withdrawn, the first table
// first, and how many more such tables there are.
func NewestAudits(ctx context.Context, q Querier, dataset int64, origin string, most int) (audits []Audit, earlier int64, err error) {
	const of = ` WHERE a.dataset_id = $1 AND t.origin = $2 AND t.id NOT IN (SELECT table_id FROM withdrawals) AND a.id = (SELECT max(id) FROM audits WHERE table_id = t.id)`
	if audits, err = list[Audit](ctx, q, auditColumns+of+" ORDER BY t.id DESC LIMIT $3", dataset, origin, most); err != nil || len(audits) < most {
		slices.Reverse(audits)
		return audits, 0, err
	}
	slices.Reverse(audits)
	all, err := get[int64](ctx, q, "number of audits", "SELECT count(*) FROM audits a JOIN tables t ON t.id = a.table_id"+of, dataset, origin)
	if err != nil {
		return nil, 0, err
	}
	return audits, *all - int64(len(audits)), nil
}
