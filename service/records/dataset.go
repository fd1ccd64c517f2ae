package records

import (
	"encoding/json"
	"time"
)

// Dataset is a table that arrives again and again under one name, with where it stands today.
type Dataset struct {
	ID         int64      `db:"id" json:"id"`
	Name       string     `db:"name" json:"name"`
	Title      string     `db:"title" json:"title"`
	CreatedAt  time.Time  `db:"created_at" json:"created_at"`
	Rulebook   int        `db:"rulebook" json:"rulebook" doc:"Newest version of the rulebook; 0 for none"`
	Deliveries int64      `db:"deliveries" json:"deliveries"`
	LastTable  *int64     `db:"last_table" json:"last_table" doc:"The newest delivery, cleaned or merged table"`
	LastAt     *time.Time `db:"last_at" json:"last_at"`
	Score      *float64   `db:"score" json:"score" doc:"Of the newest audit, 0 to 100"`
	Passed     *bool      `db:"passed" json:"passed"`
	OpenIssues int64      `db:"open_issues" json:"open_issues"`
	Stops      int64      `db:"stops" json:"stops" doc:"Open issues that stop the table"`
	// KeptMerged says that its merge runs again by itself with every table that it takes.
	KeptMerged bool `db:"kept_merged" json:"kept_merged" doc:"Whether its merge runs again by itself with every table that it takes"`
	// StandingPlan is the fix plan that is applied to every delivery as it arrives.
	StandingPlan *string          `db:"standing_plan" json:"standing_plan" doc:"The fix plan that is applied to every delivery once it was audited; null for none"`
	SecondPerson bool             `db:"second_person" json:"second_person" doc:"Whether its rulebook becomes weaker only where a second person agrees"`
	Expects      *json.RawMessage `db:"expects" json:"expects" doc:"By when deliveries are expected: every, by and since; null where nothing is"`
	Keep         *int             `db:"keep_deliveries" json:"keep_deliveries" doc:"How many deliveries are kept, besides those that something certified rests on; null for all"`
}
