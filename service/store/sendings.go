package store

import (
	"context"
	"fmt"
	"time"
)

const sendingColumns = `SELECT s.id, s.key, s.notice_id, s.sheet_id, s.receiver_id, s.link_serial, s.again, coalesce(p.name, r.name, q.recipient) AS to,
	coalesce(p.address, r.address, q.address) AS address, coalesce(n.says, q.title) AS says, s.state, s.attempts, s.problem, s.created_at, s.ended_at
	FROM sendings s LEFT JOIN notices n ON n.id = s.notice_id LEFT JOIN people p ON p.id = s.person_id LEFT JOIN receivers r ON r.id = s.receiver_id
	LEFT JOIN sheets q ON q.id = s.sheet_id`

// AddSheetSending records that a sheet of questions is to be mailed with its link of now; 0 where that was done, or the sheet has no
// address.
func AddSheetSending(ctx context.Context, q Querier, sheet int64, again bool) (int64, error) {
	added, err := list[int64](ctx, q, `INSERT INTO sendings (sheet_id, link_serial, again) SELECT id, link_serial, $2 FROM sheets WHERE id = $1 AND address <> ''
		ON CONFLICT DO NOTHING RETURNING id`, sheet, again)
	if err != nil || len(added) == 0 {
		return 0, err
	}
	return added[0], nil
}

// Sendings lists what is sent, newest first; receiver 0 and an empty state stand for all.
func Sendings(ctx context.Context, q Querier, receiver int64, state string, c Cursor) (*Page[Sending], error) {
	return page(ctx, q, c, func(s *Sending) int64 { return s.ID }, sendingColumns+` WHERE s.id < $1 AND ($3 = 0 OR s.receiver_id = $3)
		AND ($4 = '' OR s.state = $4) ORDER BY s.id DESC LIMIT $2`, receiver, state)
}

// SheetSendings returns what was mailed of a sheet, newest first.
func SheetSendings(ctx context.Context, q Querier, sheet int64) ([]Sending, error) {
	return list[Sending](ctx, q, sendingColumns+" WHERE s.sheet_id = $1 ORDER BY s.id DESC", sheet)
}

// FindSending returns a sending by its id.
func FindSending(ctx context.Context, q Querier, id int64) (*Sending, error) {
	return get[Sending](ctx, q, fmt.Sprintf("sending %d", id), sendingColumns+" WHERE s.id = $1", id)
}

// TrySending notes that a task of the queue begins to send something. ok is false where it is not for that task to do.
func TrySending(ctx context.Context, q Querier, id, task int64) (ok bool, err error) {
	return changed(exec(ctx, q, "UPDATE sendings SET attempts = attempts + 1 WHERE id = $1 AND task_id = $2 AND state = 'waiting'", id, task))
}

// EndSending records what came of an attempt: sent, given_up, or waiting for the next one, with what went wrong.
func EndSending(ctx context.Context, q Querier, id int64, state, problem string) error {
	_, err := exec(ctx, q, "UPDATE sendings SET state = $2, problem = $3, ended_at = CASE WHEN $2 <> 'waiting' THEN now() END WHERE id = $1 AND state = 'waiting'",
		id, state, problem)
	return err
}

// SendAgain takes up again what was given up. ok is false where it was not.
func SendAgain(ctx context.Context, q Querier, id int64) (ok bool, err error) {
	return changed(exec(ctx, q, "UPDATE sendings SET state = 'waiting', attempts = 0, ended_at = NULL WHERE id = $1 AND state = 'given_up'", id))
}

// SetSendingTask notes which task in the queue stands for a sending, and takes away the one before.
func SetSendingTask(ctx context.Context, q Querier, sending, task int64) error {
	_, err := exec(ctx, q, `WITH before AS (SELECT task_id FROM sendings WHERE id = $1), gone AS (DELETE FROM river_job WHERE id = (SELECT task_id FROM before))
		UPDATE sendings SET task_id = $2 WHERE id = $1`, sending, task)
	return err
}

// LostSendings returns what waits and has no task in the queue that will be taken up: its node died, which is seen by a task that
// runs for longer than any may.
func LostSendings(ctx context.Context, q Querier, longest time.Duration) ([]int64, error) {
	return list[int64](ctx, q, `SELECT s.id FROM sendings s LEFT JOIN river_job r ON r.id = s.task_id WHERE s.state = 'waiting'
		AND (r.id IS NULL OR r.state IN ('completed', 'cancelled', 'discarded') OR r.state = 'running' AND r.attempted_at < now() - make_interval(secs => $1))
		FOR UPDATE OF s SKIP LOCKED`, longest.Seconds())
}
