package store

import (
	"context"
	"encoding/json"
)

// Record adds a deed to the history; person 0 means the service itself.
func Record(ctx context.Context, q Querier, person int64, action, subject string, detail map[string]any) error {
	if detail == nil {
		detail = map[string]any{}
	}
	raw, err := json.Marshal(detail)
	if err != nil {
		return err
	}
	_, err = exec(ctx, q,
		"INSERT INTO history (person_id, action, subject, detail) VALUES (NULLIF($1::bigint, 0), $2, $3, $4)", person,
		action, subject, string(raw))
	return err
}

// History lists deeds.
func History(ctx context.Context, q Querier, c Cursor) (*Page[Deed], error) {
	return page(ctx, q, c, func(d *Deed) int64 { return d.ID },
		"SELECT h.id, h.at, p.name AS person, h.action, h.subject, h.detail FROM history h LEFT JOIN people p ON p.id = h.person_id WHERE h.id < $1 ORDER BY h.id DESC LIMIT $2")
}
