package store

import (
	"context"
	"fmt"
)

// previewsKept is how long what a preview made is kept, as PostgreSQL writes it.
const previewsKept = "1 day"

// Preview is what a preview made: the table that the plan would make, with its change log and its map of rows.
type Preview struct {
	JobID     int64   `db:"job_id"`
	Digest    string  `db:"digest"`
	ChangeLog string  `db:"change_log_digest"`
	RowMap    *string `db:"row_map_digest"` // nil where no step makes other rows
	Marks     *string `db:"marks_digest"`   // nil where no cell would be an estimate
}

// AddPreview records what a preview made, whose bytes are kept.
func AddPreview(ctx context.Context, q Querier, p Preview) error {
	_, err := exec(ctx, q, "INSERT INTO previews (job_id, digest, change_log_digest, row_map_digest, marks_digest) VALUES ($1, $2, $3, $4, $5)",
		p.JobID, p.Digest, p.ChangeLog, p.RowMap, p.Marks)
	return err
}

// FindPreview returns what a preview made, as long as it is kept.
func FindPreview(ctx context.Context, q Querier, job int64) (*Preview, error) {
	return get[Preview](ctx, q, fmt.Sprintf("preview by job %d (what a preview made is kept for %s)", job, previewsKept),
		"SELECT job_id, digest, change_log_digest, row_map_digest, marks_digest FROM previews WHERE job_id = $1 AND created_at > now() - interval '"+previewsKept+"'", job)
}

// ForgetPreviews removes the records of previews that are over; a sweep removes their bytes.
func ForgetPreviews(ctx context.Context, q Querier) error {
	_, err := exec(ctx, q, "DELETE FROM previews WHERE created_at <= now() - interval '"+previewsKept+"'")
	return err
}
