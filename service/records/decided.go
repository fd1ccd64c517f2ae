package records

import "time"

// Decided is something that somebody decided of a dataset.
type Decided struct {
	Number int64     `db:"n" json:"number" doc:"In the order in which they were made, from 1"`
	At     time.Time `db:"at" json:"at"`
	Person *string   `db:"person" json:"person" doc:"null for the service itself"`
	Kind   string    `db:"kind" json:"kind" enum:"rulebook,fix plan,merge,less asked,agreed,refused,waived,waiver ended,issue closed,issue reopened,issue asked,answer taken up,answer left,withdrawn,certified,revoked"`
	About  int64     `db:"about" json:"about" doc:"The number of the issue, sheet, table, certificate, decision or version that it is about, by the kind"`
	Says   string    `db:"says" json:"says"`
	Why    string    `db:"why" json:"why" doc:"The reason that was given; empty where none was"`
}
