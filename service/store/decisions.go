package store

import (
	"context"
	"encoding/json"
	"fmt"
)

const decisionColumns = `SELECT n.id, d.name AS dataset, n.dataset_id, n.from_version, n.source, n.digest, n.weaker, n.lost, n.reason,
	p.name AS asked_by, n.asked_by AS asked_by_id, n.asked_at, n.outcome, o.name AS decided_by, n.decided_at, n.remark, c.version
	FROM decisions n JOIN datasets d ON d.id = n.dataset_id JOIN people p ON p.id = n.asked_by
	LEFT JOIN people o ON o.id = n.decided_by LEFT JOIN declarations c ON c.id = n.declaration_id`

// NewDecision is what AddDecision records.
type NewDecision struct {
	DatasetID    int64
	FromVersion  int
	Source       string
	Digest       string // SHA-256 of the source
	Weaker, Lost json.RawMessage
	Reason       string
	AskedBy      int64
}

// AddDecision records that somebody wants a rulebook to become weaker.
func AddDecision(ctx context.Context, q Querier, n NewDecision) (*Decision, error) {
	id, err := get[int64](ctx, q, "decision", `INSERT INTO decisions (dataset_id, from_version, source, digest, weaker, lost, reason, asked_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id`, n.DatasetID, n.FromVersion, n.Source, n.Digest, string(n.Weaker), string(n.Lost), n.Reason, n.AskedBy)
	if err != nil {
		return nil, err
	}
	return FindDecision(ctx, q, *id)
}

// FindDecision returns a decision by its id.
func FindDecision(ctx context.Context, q Querier, id int64) (*Decision, error) {
	return get[Decision](ctx, q, fmt.Sprintf("decision %d", id), decisionColumns+" WHERE n.id = $1", id)
}

// Decide records the outcome of a decision, which is agreed where it became a version of the rulebook. It is ErrConflict where
// it has one already.
func Decide(ctx context.Context, q Querier, id, person int64, declaration *int64, remark string) error {
	outcome := "agreed"
	if declaration == nil {
		outcome = "refused"
	}
	ok, err := changed(exec(ctx, q, "UPDATE decisions SET outcome = $2, decided_by = $3, decided_at = now(), declaration_id = $4, remark = $5 WHERE id = $1 AND outcome IS NULL",
		id, outcome, person, declaration, remark))
	if err == nil && !ok {
		err = fmt.Errorf("%w: decision %d was taken already", ErrConflict, id)
	}
	return err
}

// Decisions lists decisions, newest first; dataset 0 means all, waiting only those without an outcome.
func Decisions(ctx context.Context, q Querier, dataset int64, waiting bool, c Cursor) (*Page[Decision], error) {
	return page(ctx, q, c, func(d *Decision) int64 { return d.ID }, decisionColumns+
		" WHERE n.id < $1 AND ($3 = 0 OR n.dataset_id = $3) AND (NOT $4 OR n.outcome IS NULL)"+seen(ctx, "n.dataset_id")+" ORDER BY n.id DESC LIMIT $2", dataset, waiting)
}

// SetSecondPerson says whether a rulebook of a dataset becomes weaker only where a second person agrees.
func SetSecondPerson(ctx context.Context, q Querier, dataset int64, asked bool) error {
	_, err := exec(ctx, q, "UPDATE datasets SET second_person = $2 WHERE id = $1", dataset, asked)
	return err
}
