package records

import (
	"time"
)

// Audit is one finished run of a rulebook over a table.
type Audit struct {
	ID         int64     `db:"id" json:"id"`
	TableID    int64     `db:"table_id" json:"table_id"`
	Dataset    string    `db:"dataset" json:"dataset"`
	DatasetID  int64     `db:"dataset_id" json:"-"`
	Origin     string    `db:"origin" json:"origin" enum:"delivery,cleaned,merged"`
	FileName   string    `db:"file_name" json:"file_name"`
	RulebookID *int64    `db:"rulebook_id" json:"-"`
	Rulebook   *int      `db:"rulebook" json:"rulebook" doc:"Version of the rulebook; null where the dataset had none"`
	JobID      int64     `db:"job_id" json:"job_id"`
	Score      *float64  `db:"score" json:"score" doc:"0 to 100; null where nothing was declared"`
	PassMark   float64   `db:"pass_mark" json:"pass_mark"`
	Passed     *bool     `db:"passed" json:"passed" doc:"The verdict; null where nothing was declared"`
	Rows       int64     `db:"rows" json:"rows"`
	RowsDigest string    `db:"rows_digest" json:"-"`
	CreatedAt  time.Time `db:"created_at" json:"created_at"`
	Withdrawn  bool      `db:"withdrawn" json:"withdrawn" doc:"The table counts no more"`
}

// HasPassed reports whether there is a verdict, and it is good.
func (a *Audit) HasPassed() bool { return a.Passed != nil && *a.Passed }

// FellShort reports whether there is a verdict, and it is not good.
func (a *Audit) FellShort() bool { return a.Passed != nil && !*a.Passed }
