package store

import (
	"context"
	"encoding/json"
	"fmt"
)

const receiverColumns = `SELECT r.id, r.name, r.address, r.kinds, r.serial, p.name AS created_by, r.created_at,
	(SELECT count(*) FROM sendings WHERE receiver_id = r.id AND state = 'sent') AS sent,
	(SELECT count(*) FROM sendings WHERE receiver_id = r.id AND state = 'waiting') AS waiting,
	(SELECT count(*) FROM sendings WHERE receiver_id = r.id AND state = 'given_up') AS given_up,
	coalesce((SELECT problem FROM sendings WHERE receiver_id = r.id AND state <> 'sent' AND problem <> '' ORDER BY id DESC LIMIT 1), '') AS problem
	FROM receivers r JOIN people p ON p.id = r.created_by WHERE r.removed_at IS NULL`

// AddReceiver records a program that is told; no kinds stand for all. A name that is taken is ErrConflict.
func AddReceiver(ctx context.Context, q Querier, name, address string, kinds []string, person int64) (*Receiver, error) {
	raw, err := json.Marshal(append([]string{}, kinds...))
	if err != nil {
		return nil, err
	}
	id, err := get[int64](ctx, q, "receiver", "INSERT INTO receivers (name, address, kinds, created_by) VALUES ($1, $2, $3, $4) RETURNING id",
		name, address, string(raw), person)
	if err != nil {
		return nil, conflict(err, "there is a receiver %q already", name)
	}
	return FindReceiver(ctx, q, *id)
}

// Receivers lists the programs that are told, by name.
func Receivers(ctx context.Context, q Querier) ([]Receiver, error) {
	return list[Receiver](ctx, q, receiverColumns+" ORDER BY r.name")
}

// FindReceiver returns a receiver by its id.
func FindReceiver(ctx context.Context, q Querier, id int64) (*Receiver, error) {
	return get[Receiver](ctx, q, fmt.Sprintf("receiver %d", id), receiverColumns+" AND r.id = $1", id)
}

// RenewReceiver makes the secret of a receiver another one.
func RenewReceiver(ctx context.Context, q Querier, id int64) error {
	_, err := exec(ctx, q, "UPDATE receivers SET serial = serial + 1 WHERE id = $1", id)
	return err
}

// RemoveReceiver says that a receiver is told no more; what waits for it is given up.
func RemoveReceiver(ctx context.Context, q Querier, id int64) error {
	if _, err := exec(ctx, q, "UPDATE receivers SET removed_at = now() WHERE id = $1", id); err != nil {
		return err
	}
	_, err := exec(ctx, q, `UPDATE sendings SET state = 'given_up', problem = 'The receiver was removed.', ended_at = now()
		WHERE receiver_id = $1 AND state = 'waiting'`, id)
	return err
}
