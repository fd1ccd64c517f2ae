package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// inForce holds of a waiver whose days are not over and that nobody ended.
const inForce = "w.ended_at IS NULL AND (w.until IS NULL OR w.until >= (now() AT TIME ZONE 'UTC')::date)"

const waiverColumns = `SELECT w.id, w.issue_id, d.name AS dataset, i.rule, i.subject, i.about, w.scope, w.covers, w.reason, p.name AS by, w.at, to_char(w.until, 'YYYY-MM-DD') AS until,
	w.table_id, (` + inForce + `) AS in_force, w.ended_at, e.name AS ended_by
	FROM waivers w JOIN issues i ON i.id = w.issue_id JOIN datasets d ON d.id = i.dataset_id JOIN people p ON p.id = w.person_id LEFT JOIN people e ON e.id = w.ended_by`

// NewWaiver is what AddWaiver records.
type NewWaiver struct {
	IssueID  int64
	Scope    json.RawMessage
	Covers   string // the scope in words
	Reason   string
	PersonID int64
	Until    *time.Time // the last day; nil for none
	TableID  *int64     // of the only delivery that it holds for; nil for all
}

// AddWaiver records what somebody accepts of an issue.
func AddWaiver(ctx context.Context, q Querier, n NewWaiver) (*Waiver, error) {
	id, err := get[int64](ctx, q, "waiver", "INSERT INTO waivers (issue_id, scope, covers, reason, person_id, until, table_id) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id",
		n.IssueID, string(n.Scope), n.Covers, n.Reason, n.PersonID, n.Until, n.TableID)
	if err != nil {
		return nil, err
	}
	return FindWaiver(ctx, q, *id)
}

// FindWaiver returns a waiver by its id.
func FindWaiver(ctx context.Context, q Querier, id int64) (*Waiver, error) {
	return get[Waiver](ctx, q, fmt.Sprintf("waiver %d", id), waiverColumns+" WHERE w.id = $1", id)
}

// WaiversOf lists the waivers of an issue, the newest first.
func WaiversOf(ctx context.Context, q Querier, issue int64) ([]Waiver, error) {
	return list[Waiver](ctx, q, waiverColumns+" WHERE w.issue_id = $1 ORDER BY w.id DESC", issue)
}

// WaiversFor lists the waivers of a dataset's issues that are in force for a table, the oldest first: those of one delivery
// hold for the tables that it was made of and that were made of it.
func WaiversFor(ctx context.Context, q Querier, dataset, table int64) ([]Waiver, error) {
	return list[Waiver](ctx, q, `WITH RECURSIVE links AS (SELECT parent_id AS of, id AS made FROM tables WHERE parent_id IS NOT NULL UNION ALL SELECT input_id, table_id FROM table_inputs),
		up AS (SELECT $2::bigint AS id UNION SELECT l.of FROM up JOIN links l ON l.made = up.id),
		down AS (SELECT $2::bigint AS id UNION SELECT l.made FROM down JOIN links l ON l.of = down.id) `+waiverColumns+`
		WHERE i.dataset_id = $1 AND `+inForce+` AND (w.table_id IS NULL OR w.table_id IN (SELECT id FROM up UNION SELECT id FROM down)) ORDER BY w.id`, dataset, table)
}

// ByIssue puts waivers together that are of one issue.
func ByIssue(all []Waiver) map[int64][]Waiver {
	out := map[int64][]Waiver{}
	for _, w := range all {
		out[w.IssueID] = append(out[w.IssueID], w)
	}
	return out
}

// EndWaivers ends the waivers of an issue that are in force, or one of them, and returns how many those were.
func EndWaivers(ctx context.Context, q Querier, issue, waiver, person int64) (int64, error) {
	done, err := exec(ctx, q, `UPDATE waivers w SET ended_at = now(), ended_by = $3 WHERE w.issue_id = $1 AND ($2 = 0 OR w.id = $2) AND `+inForce, issue, waiver, person)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}
