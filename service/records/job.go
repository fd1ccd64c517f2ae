package records

import (
	"encoding/json"
	"time"
)

// Job is something that runs in the background.
type Job struct {
	ID            int64            `db:"id" json:"id"`
	Kind          string           `db:"kind" json:"kind" doc:"As audit, preview, fix, merge, fetch or trial"`
	TableID       *int64           `db:"table_id" json:"table_id"`
	DatasetID     int64            `db:"dataset_id" json:"-"`
	Dataset       string           `db:"dataset" json:"dataset"`
	DeclarationID *int64           `db:"declaration_id" json:"declaration_id"`
	Detail        json.RawMessage  `db:"detail" json:"-"`
	State         string           `db:"state" json:"state" enum:"queued,running,done,failed,stopped"`
	Attempt       int              `db:"attempt" json:"attempt" doc:"How often it was started; more than once where a node died"`
	BytesDone     int64            `db:"bytes_done" json:"bytes_done"`
	BytesTotal    int64            `db:"bytes_total" json:"bytes_total"`
	RowsRead      int64            `db:"rows_read" json:"rows_read"`
	Error         string           `db:"error" json:"error"`
	Result        *json.RawMessage `db:"result" json:"result" doc:"What a preview shows, or a trial found"`
	ResultTable   *int64           `db:"result_table_id" json:"result_table" doc:"The table that was made"`
	AuditID       *int64           `db:"audit_id" json:"audit_id" doc:"The audit that was made"`
	CreatedByID   int64            `db:"created_by_id" json:"-"`
	CreatedBy     string           `db:"created_by" json:"created_by"`
	CreatedAt     time.Time        `db:"created_at" json:"created_at"`
	StartedAt     *time.Time       `db:"started_at" json:"started_at"`
	EndedAt       *time.Time       `db:"ended_at" json:"ended_at"`
}

// Ended reports whether nothing more happens to the job.
func (j *Job) Ended() bool { return j.State == "done" || j.State == "failed" || j.State == "stopped" }
