package records

import "time"

// SignInRequest is a command line that asks to come in as somebody.
type SignInRequest struct {
	ID      int64     `db:"id" json:"id"`
	Machine string    `db:"machine" json:"machine" doc:"What the command line says it runs on"`
	From    string    `db:"address" json:"from" doc:"The address that it asks from"`
	Until   time.Time `db:"until" json:"until"`
}

// SignInAsked is what a command line is told that asks to come in.
type SignInAsked struct {
	Code   string    `json:"code" doc:"What the person types into the console"`
	Secret string    `json:"secret" doc:"By which the command line learns what came of it"`
	Path   string    `json:"path" doc:"Of the console's page for it"`
	Until  time.Time `json:"until"`
}

// SignInOutcome is what came of it.
type SignInOutcome struct {
	State string `json:"state" enum:"waiting,let in,refused,over"`
	Name  string `json:"name,omitempty" doc:"Whom the command line is let in as"`
	Token string `json:"token,omitempty"`
	// TokenID is its number, by which it is ended.
	TokenID int64 `json:"token_id,omitempty"`
	// Expires is when the token is no longer in force.
	Expires *time.Time `json:"expires,omitempty"`
}
