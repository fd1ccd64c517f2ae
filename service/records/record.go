package records

import "time"

// JudgedDelivery is a delivery of a dataset with how its newest audit went.
type JudgedDelivery struct {
	Table    int64     `db:"id" json:"table"`
	At       time.Time `db:"created_at" json:"at"`
	FileName string    `db:"file_name" json:"file_name"`
	Provider string    `db:"provider" json:"provider" doc:"As its source says; empty where it does not"`
	Audit    *int64    `db:"audit_id" json:"audit"`
	Passed   *bool     `db:"passed" json:"passed" doc:"null where no rulebook judged it"`
}

// ComesBack is a rule whose issue was settled and came again.
type ComesBack struct {
	Rule  string `db:"rule" json:"rule"`
	Issue int64  `db:"issue" json:"issue"`
	Times int64  `db:"times" json:"times" doc:"How often it was opened again"`
}

// AnswerTime is how long somebody took to answer.
type AnswerTime struct {
	Recipient string   `db:"recipient" json:"recipient"`
	Asked     int64    `db:"asked" json:"asked" doc:"Questions"`
	Answered  int64    `db:"answered" json:"answered"`
	Days      *float64 `db:"days" json:"days" doc:"The median of the days from a question to its first answer; null where there is none"`
}
