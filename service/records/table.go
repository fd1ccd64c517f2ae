package records

import (
	"encoding/json"
	"time"
)

// Table is a delivery, a cleaned table or a merged one: immutable bytes with where they come from.
type Table struct {
	ID            int64            `db:"id" json:"id"`
	Dataset       string           `db:"dataset" json:"dataset"`
	DatasetID     int64            `db:"dataset_id" json:"-"`
	Origin        string           `db:"origin" json:"origin" enum:"delivery,cleaned,merged"`
	Digest        string           `db:"digest" json:"digest" doc:"SHA-256 of the bytes"`
	Bytes         int64            `db:"bytes" json:"bytes"`
	FileName      string           `db:"file_name" json:"file_name"`
	Source        json.RawMessage  `db:"source" json:"source" doc:"What is known of where a delivery comes from"`
	Reading       *json.RawMessage `db:"reading" json:"reading" doc:"How a person said that a delivery is read, where no rulebook does; of other tables, how the texts are read that are not in standard form"`
	ParentID      *int64           `db:"parent_id" json:"parent_id" doc:"The table that was cleaned"`
	DeclarationID *int64           `db:"declaration_id" json:"declaration_id" doc:"The fix plan or merge that made the table"`
	Declaration   *string          `db:"declaration" json:"declaration" doc:"Its name and version"`
	ChangeLog     *string          `db:"change_log_digest" json:"change_log_digest"`
	RowMap        *string          `db:"row_map_digest" json:"row_map_digest" doc:"Of which rows each row of a cleaned table was made, where steps made other rows, and each row of a merged one, as Parquet"`
	Marks         *string          `db:"marks_digest" json:"marks_digest" doc:"SHA-256 of the file that says which cells are estimates; null where none are"`
	Draws         *string          `db:"draws_digest" json:"draws_digest" doc:"SHA-256 of the Parquet file with the draws of the estimates beyond the first; null where there are none"`
	Unmet         *string          `db:"unmet_digest" json:"unmet_digest" doc:"SHA-256 of the table of the rows of a merge that found no partner in a join; null where there are none"`
	Accounting    *json.RawMessage `db:"accounting" json:"accounting" doc:"The ledger of a cleaned table, the accounting of a merged one"`
	CreatedBy     string           `db:"created_by" json:"created_by"`
	CreatedAt     time.Time        `db:"created_at" json:"created_at"`
	AuditID       *int64           `db:"audit_id" json:"audit_id" doc:"The newest audit"`
	Score         *float64         `db:"score" json:"score"`
	Passed        *bool            `db:"passed" json:"passed" doc:"The verdict of the newest audit; null where there is none"`
	Rows          *int64           `db:"rows" json:"rows"`
	CertificateID *int64           `db:"certificate_id" json:"certificate_id"`
	WithdrawnAt   *time.Time       `db:"withdrawn_at" json:"withdrawn_at" doc:"Since when it counts no more; null where it does"`
	Withdrawn     *string          `db:"withdrawn" json:"withdrawn" doc:"Why it was withdrawn"`
	WithdrawnBy   *string          `db:"withdrawn_by" json:"withdrawn_by" doc:"Null where the dataset's retention did it"`
	BytesLetGo    bool             `db:"bytes_let_go" json:"bytes_let_go" doc:"Its bytes are not kept any more"`
}

// Withdrawal says that a delivery was taken in by mistake, or is no longer kept.
type Withdrawal struct {
	TableID    int64     `db:"table_id" json:"table_id"`
	Person     *string   `db:"person" json:"person" doc:"Null where the dataset's retention did it"`
	Reason     string    `db:"reason" json:"reason"`
	BytesLetGo bool      `db:"bytes_let_go" json:"bytes_let_go" doc:"Whether the bytes are removed from the file store"`
	At         time.Time `db:"at" json:"at"`
}

// Delivered is the answer to an upload.
type Delivered struct {
	Table   Table  `json:"table"`
	Job     *Job   `json:"job" doc:"The audit that was queued; null where the bytes were known"`
	Known   bool   `json:"known" doc:"The dataset had a delivery with these bytes already; nothing was added"`
	Message string `json:"message"`
}

// Path is the way of a delivery through the work.
type Path struct {
	Stages []Stage `json:"stages"`
}

// Stage is one station of the path.
type Stage struct {
	Name  string `json:"name" enum:"received,read,judged,asked,put right,joined,certified"`
	State string `json:"state" enum:"done,here,held,ahead" doc:"held: something has to be done before it goes on"`
	Says  string `json:"says"`
	Table *int64 `json:"table" doc:"The table of this stage, where it is another one"`
	Audit *int64 `json:"audit"`
}
