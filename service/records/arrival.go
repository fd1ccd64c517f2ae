package records

import "time"

// Arrival is a file that was sent to be looked at before it becomes a delivery. It is kept for a day.
type Arrival struct {
	ID        int64     `db:"id" json:"id"`
	Digest    string    `db:"digest" json:"digest" doc:"SHA-256 of the bytes"`
	Bytes     int64     `db:"bytes" json:"bytes"`
	FileName  string    `db:"file_name" json:"file_name"`
	CreatedBy string    `db:"created_by" json:"created_by"`
	CreatedAt time.Time `db:"created_at" json:"created_at"`
}
