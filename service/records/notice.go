package records

import (
	"encoding/json"
	"time"
)

// Notice is something that people and programs are told of.
type Notice struct {
	ID      int64           `db:"id" json:"id"`
	Event   string          `db:"event" json:"event" doc:"By which those who are sent it know it again"`
	Kind    string          `db:"kind" json:"kind" enum:"delivery_arrived,delivery_late,fell_short,issue_came_back,question_answered,certificate_signed,certificate_revoked,job_failed"`
	Dataset string          `db:"dataset" json:"dataset"`
	Says    string          `db:"says" json:"says"`
	Path    string          `db:"path" json:"path" doc:"Of the page that shows it"`
	Facts   json.RawMessage `db:"facts" json:"facts"`
	By      string          `db:"by" json:"by" doc:"Whose deed it was; empty for the service's own"`
	At      time.Time       `db:"at" json:"at"`
}

// NoticeChoice is how a person wants to be told of a kind of notice.
type NoticeChoice struct {
	Kind   string `db:"kind" json:"kind" enum:"delivery_arrived,delivery_late,fell_short,issue_came_back,question_answered,certificate_signed,certificate_revoked,job_failed"`
	Listed bool   `db:"listed" json:"listed" doc:"It stands in their list"`
	Mailed bool   `db:"mailed" json:"mailed" doc:"It is mailed to them, unless it was their own deed"`
}

// Receiver is a program that is told, at a web address.
type Receiver struct {
	ID        int64           `db:"id" json:"id"`
	Name      string          `db:"name" json:"name"`
	Address   string          `db:"address" json:"address"`
	Kinds     json.RawMessage `db:"kinds" json:"kinds" doc:"The kinds of notice that it is told of; empty for all"`
	Serial    int             `db:"serial" json:"-"`
	CreatedBy string          `db:"created_by" json:"created_by"`
	CreatedAt time.Time       `db:"created_at" json:"created_at"`
	Sent      int64           `db:"sent" json:"sent"`
	Waiting   int64           `db:"waiting" json:"waiting"`
	GivenUp   int64           `db:"given_up" json:"given_up"`
	Problem   string          `db:"problem" json:"problem" doc:"What went wrong last, of what is not sent"`
}

// MadeReceiver is a receiver with the secret by which it knows the sender, which is shown once.
type MadeReceiver struct {
	Receiver
	Secret string `json:"secret"`
}

// Sending is something that is sent to somebody.
type Sending struct {
	ID         int64      `db:"id" json:"id"`
	Key        string     `db:"key" json:"key" doc:"The same each time it is tried"`
	NoticeID   *int64     `db:"notice_id" json:"notice"`
	SheetID    *int64     `db:"sheet_id" json:"sheet"`
	ReceiverID *int64     `db:"receiver_id" json:"receiver"`
	LinkSerial *int       `db:"link_serial" json:"-"`
	Again      bool       `db:"again" json:"again" doc:"A sheet that is asked once more"`
	To         string     `db:"to" json:"to" doc:"The name of who is told"`
	Address    string     `db:"address" json:"-"`
	Says       string     `db:"says" json:"says"`
	State      string     `db:"state" json:"state" enum:"waiting,sent,given_up"`
	Attempts   int        `db:"attempts" json:"attempts"`
	Problem    string     `db:"problem" json:"problem" doc:"What went wrong last"`
	CreatedAt  time.Time  `db:"created_at" json:"created_at"`
	EndedAt    *time.Time `db:"ended_at" json:"ended_at"`
}
