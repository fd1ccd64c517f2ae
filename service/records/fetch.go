package records

import (
	"encoding/json"
	"time"
)

// Fetch is an address, or a table in a database, from which a dataset's deliveries are fetched, once or again and again.
type Fetch struct {
	ID         int64  `db:"id" json:"id"`
	Dataset    string `db:"dataset" json:"dataset"`
	DatasetID  int64  `db:"dataset_id" json:"-"`
	DatabaseID *int64 `db:"database_id" json:"-"`
	Address    string `db:"address" json:"address" doc:"A web address; of a database its name, and what is taken of it"`
	Relation
	EveryMinutes *int            `db:"every_minutes" json:"every_minutes" doc:"How often it is fetched; null for on request alone"`
	Source       json.RawMessage `db:"source" json:"source" doc:"What is known of where the deliveries come from"`
	ETag         string          `db:"etag" json:"-"`
	LastModified string          `db:"last_modified" json:"-"`
	NextAt       *time.Time      `db:"next_at" json:"next_at"`
	CheckedAt    *time.Time      `db:"checked_at" json:"checked_at"`
	Outcome      string          `db:"outcome" json:"outcome" enum:",delivered,known,unchanged,failed" doc:"Of the last time: a new delivery, bytes that had arrived before, nothing new, or a failure"`
	Message      string          `db:"message" json:"message"`
	TableID      *int64          `db:"table_id" json:"table_id" doc:"The newest delivery that came from there"`
	CreatedByID  int64           `db:"created_by_id" json:"-"`
	CreatedBy    string          `db:"created_by" json:"created_by"`
	CreatedAt    time.Time       `db:"created_at" json:"created_at"`
	EndedAt      *time.Time      `db:"ended_at" json:"ended_at"`
}

// SourceNotes are what is known of where a delivery comes from.
type SourceNotes struct {
	Provider string `json:"provider,omitempty" doc:"Who sent it"`
	Contact  string `json:"contact,omitempty" doc:"Who can be asked about it"`
	Period   string `json:"period,omitempty" doc:"The period it covers"`
	Method   string `json:"method,omitempty" doc:"How the numbers were made"`
	Limits   string `json:"limits,omitempty" doc:"Known limits"`
	Note     string `json:"note,omitempty" doc:"Anything else"`
}

// NewFetch is an address, or a table in a database, from which deliveries are to be fetched.
type NewFetch struct {
	Address string `json:"address,omitempty" doc:"An http or https address; left out for a database"`
	Relation
	EveryMinutes *int `json:"every_minutes,omitempty" minimum:"1" maximum:"5256000" doc:"How often it is fetched; left out for once, and again on request"`
	SourceNotes
}

// Fetching is a fetch with the job that has been queued for it.
type Fetching struct {
	Fetch
	Job *Job `json:"job"`
}
