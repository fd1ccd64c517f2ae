package records

import (
	"encoding/json"
	"time"
)

// Sheet is what the owner of the data is asked at once.
type Sheet struct {
	ID           int64      `db:"id" json:"id"`
	Recipient    string     `db:"recipient" json:"recipient" doc:"Who is asked"`
	Address      string     `db:"address" json:"address" doc:"The e-mail address that it is sent to; empty for none"`
	Title        string     `db:"title" json:"title"`
	Says         string     `db:"says" json:"says" doc:"What is said before the questions"`
	Due          string     `db:"due" json:"due" doc:"Until when it is to be answered, yyyy-MM-dd"`
	Overdue      bool       `db:"overdue" json:"overdue" doc:"That day is over, and something is not answered"`
	AskedAgainAt *time.Time `db:"asked_again_at" json:"asked_again_at" doc:"When what was not answered was asked once more"`
	LinkSerial   int        `db:"link_serial" json:"-"`
	LinkEnds     time.Time  `db:"link_ends" json:"link_ends"`
	LinkRevoked  bool       `db:"link_revoked" json:"link_revoked"`
	CreatedBy    string     `db:"created_by" json:"created_by"`
	CreatedAt    time.Time  `db:"created_at" json:"created_at"`
	ClosedAt     *time.Time `db:"closed_at" json:"closed_at" doc:"Since when nothing of it is waited for"`
	Questions    int64      `db:"questions" json:"questions"`
	Answered     int64      `db:"answered" json:"answered"`
	Settled      int64      `db:"settled" json:"settled" doc:"How many answers were taken up, or left"`
	Link         string     `db:"-" json:"link,omitempty" doc:"The way to its page, which needs no account"`
}

// Question is one thing that the owner of the data is asked, with the last answer to it.
type Question struct {
	ID         int64            `db:"id" json:"id"`
	SheetID    int64            `db:"sheet_id" json:"sheet_id"`
	IssueID    int64            `db:"issue_id" json:"issue_id"`
	AuditID    int64            `db:"audit_id" json:"audit_id"`
	Dataset    string           `db:"dataset" json:"dataset"`
	Code       string           `db:"code" json:"code"`
	Found      string           `db:"found" json:"found"`
	Reason     string           `db:"reason" json:"reason"`
	Item       json.RawMessage  `db:"item" json:"item" doc:"What it is about: a text, a row, or the finding as a whole"`
	Supposes   string           `db:"supposes" json:"supposes"`
	Answer     *string          `db:"answer" json:"answer" enum:"wrong,meant_so,unknown,comes_again"`
	Right      *json.RawMessage `db:"right" json:"right" doc:"What is right instead, by column"`
	Note       *string          `db:"note" json:"note"`
	AnsweredBy *string          `db:"answered_by" json:"answered_by"`
	AnsweredAt *time.Time       `db:"answered_at" json:"answered_at"`
	Via        *string          `db:"via" json:"via" enum:"link,file,entry"`
	CameFrom   *string          `db:"came_from" json:"came_from" doc:"The address of the network that the answer came from"`
	Outcome    *string          `db:"outcome" json:"outcome" enum:"taken_up,left"`
	Became     string           `db:"became" json:"became" doc:"What it was taken up as"`
	SettledBy  *string          `db:"settled_by" json:"settled_by"`
	SettledAt  *time.Time       `db:"settled_at" json:"settled_at"`
}

// SheetShown is a sheet with its questions.
type SheetShown struct {
	Sheet
	Asked []Question `json:"asked"`
	Sent  []Sending  `json:"sent" doc:"The letters with its link, newest first"`
}
