package records

import (
	"time"
)

// Declaration is one version of a rulebook, fix plan or merge.
type Declaration struct {
	ID        int64     `db:"id" json:"id"`
	Kind      string    `db:"kind" json:"kind" enum:"rulebook,fix_plan,merge"`
	Dataset   string    `db:"dataset" json:"dataset"`
	DatasetID int64     `db:"dataset_id" json:"-"`
	Name      string    `db:"name" json:"name"`
	Version   int       `db:"version" json:"version"`
	Source    string    `db:"source" json:"source" doc:"The text as it was declared, YAML"`
	Digest    string    `db:"digest" json:"digest" doc:"SHA-256 of the text"`
	Author    string    `db:"author" json:"author"`
	CreatedAt time.Time `db:"created_at" json:"created_at"`
	Earlier   bool      `db:"earlier" json:"earlier" doc:"A fix plan that was saved when every cleaned table was put in standard form; it still is, as its last step"`
	// Waits is the decision that the text waits for.
	Waits *int64 `db:"-" json:"waits,omitempty" doc:"The decision that it waits for, of a rulebook that becomes weaker where a second person has to agree; it is no version then"`
	// OldWords tells, where a text was saved just now, of words of earlier versions in it.
	OldWords []string `db:"-" json:"old_words,omitempty" doc:"Words of earlier versions in the text that was saved, each with its place and what is said now"`
}
