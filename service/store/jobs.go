package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

const jobColumns = `SELECT j.id, j.kind, j.table_id, j.dataset_id, d.name AS dataset, j.declaration_id, j.detail, j.state, j.attempt, j.bytes_done, j.bytes_total,
	j.rows_read, j.error, j.result, j.result_table_id, (SELECT id FROM audits WHERE job_id = j.id) AS audit_id,
	j.created_by AS created_by_id, p.name AS created_by, j.created_at, j.started_at, j.ended_at
	FROM jobs j JOIN datasets d ON d.id = j.dataset_id JOIN people p ON p.id = j.created_by`

// NewJob is what AddJob records.
type NewJob struct {
	Kind          string
	TableID       *int64
	DatasetID     int64
	DeclarationID *int64
	Detail        any // nil for none
	CreatedBy     int64
}

// AddJob records a job; the caller queues it in the same transaction.
func AddJob(ctx context.Context, q Querier, j NewJob) (*Job, error) {
	detail := []byte("{}")
	if j.Detail != nil {
		var err error
		if detail, err = json.Marshal(j.Detail); err != nil {
			return nil, err
		}
	}
	id, err := get[int64](ctx, q, "job",
		"INSERT INTO jobs (kind, table_id, dataset_id, declaration_id, detail, created_by) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id",
		j.Kind, j.TableID, j.DatasetID, j.DeclarationID, string(detail), j.CreatedBy)
	if err != nil {
		return nil, err
	}
	return FindJob(ctx, q, *id)
}

// JobTables are the tables that a job works on: the one that it speaks of, and those that take part in a merge.
type JobTables struct {
	Bytes int64 `db:"bytes"`
	There bool  `db:"there"` // one of them lies in a database
}

// TablesOfJob returns what is known of the tables of a job; nothing of one without any.
func TablesOfJob(ctx context.Context, q Querier, job int64) (*JobTables, error) {
	return get[JobTables](ctx, q, fmt.Sprintf("job %d", job), `SELECT coalesce(sum(t.bytes), 0)::bigint AS bytes, coalesce(bool_or(t.source::jsonb ? 'in_place'), false) AS there
		FROM jobs j JOIN tables t ON t.id = j.table_id OR t.id IN (SELECT part::text::bigint FROM jsonb_path_query(j.detail::jsonb, '$.tables.*[*] ? (@.type() == "number")') part) WHERE j.id = $1`, job)
}

// FindJob returns a job by its id.
func FindJob(ctx context.Context, q Querier, id int64) (*Job, error) {
	return get[Job](ctx, q, fmt.Sprintf("job %d", id), jobColumns+" WHERE j.id = $1", id)
}

// Jobs lists jobs; table 0 means all tables, running true only those not ended.
func Jobs(ctx context.Context, q Querier, table int64, running bool, c Cursor) (*Page[Job], error) {
	return page(ctx, q, c, func(j *Job) int64 { return j.ID }, jobColumns+` WHERE j.id < $1 AND ($3 = 0 OR j.table_id = $3)
		AND (NOT $4 OR j.state IN ('queued', 'running'))`+seen(ctx, "j.dataset_id")+` ORDER BY j.id DESC LIMIT $2`, table, running)
}

// ClaimJob makes node the one that works on a queued job and returns the number of
// the attempt. ok is false where the job is not there for the taking.
func ClaimJob(ctx context.Context, q Querier, id int64, node string) (attempt int, ok bool, err error) {
	attempts, err := list[int](ctx, q, `UPDATE jobs SET state = 'running', node = $2, attempt = attempt + 1, started_at = now(), bytes_done = 0, rows_read = 0
		WHERE id = $1 AND state = 'queued' RETURNING attempt`, id, node)
	if err != nil || len(attempts) == 0 {
		return 0, false, err
	}
	return attempts[0], true, nil
}

// held restricts a change to the attempt that holds the job, so that a node given up for dead changes nothing.
const held = " WHERE id = $1 AND attempt = $2 AND state = 'running'"

// ReportProgress records how far an attempt is. ok is false where it no longer holds the job.
func ReportProgress(ctx context.Context, q Querier, id int64, attempt int,
	done, total, rows int64) (ok bool, err error) {
	return changed(exec(ctx, q, "UPDATE jobs SET bytes_done = $3, bytes_total = $4, rows_read = $5"+held, id, attempt,
		done, total, rows))
}

// PutBackJob queues a job as if the attempt had not been. ok is false where the attempt no longer holds the job.
func PutBackJob(ctx context.Context, q Querier, id int64, attempt int) (ok bool, err error) {
	return changed(exec(ctx, q, "UPDATE jobs SET state = 'queued', node = NULL, attempt = attempt - 1, bytes_done = 0, rows_read = 0"+held, id, attempt))
}

// JobEnd is how an attempt ended.
type JobEnd struct {
	State   string // done or failed
	Problem string // why it failed
	Result  any    // nil for none
	TableID *int64 // the table that was made; nil for none
}

// EndJob records the end of an attempt. ok is false where it no longer holds the
// job; the caller then rolls back what it was about to record.
func EndJob(ctx context.Context, q Querier, id int64, attempt int, end JobEnd) (ok bool, err error) {
	var text *string
	if end.Result != nil {
		raw, err := json.Marshal(end.Result)
		if err != nil {
			return false, err
		}
		s := string(raw)
		text = &s
	}
	return changed(exec(ctx, q,
		"UPDATE jobs SET state = $3, error = $4, result = $5, result_table_id = $6, ended_at = now()"+held,
		id, attempt, end.State, end.Problem, text, end.TableID))
}

// StopJob ends a job from outside. ok is false where it had ended.
func StopJob(ctx context.Context, q Querier, id int64) (ok bool, err error) {
	return changed(exec(ctx, q,
		"UPDATE jobs SET state = 'stopped', ended_at = now() WHERE id = $1 AND state IN ('queued', 'running')", id))
}

func changed(result interface{ RowsAffected() (int64, error) }, err error) (bool, error) {
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n > 0, err
}

// Beat says that a node is alive.
func Beat(ctx context.Context, q Querier, node string) error {
	_, err := exec(ctx, q,
		"INSERT INTO nodes (name, seen_at) VALUES ($1, now()) ON CONFLICT (name) DO UPDATE SET seen_at = now()", node)
	return err
}

// Leave says that a node stops.
func Leave(ctx context.Context, q Querier, node string) error {
	_, err := exec(ctx, q, "DELETE FROM nodes WHERE name = $1", node)
	return err
}

// MostAttempts is how often a job is started. One whose node dies each time is not tried for ever.
const MostAttempts = 5

// Released is a job that goes back to the queue.
type Released struct {
	ID   int64  `db:"id"`
	Kind string `db:"kind"`
	Why  string `db:"why"`
}

// Reconcile holds our record of jobs against what is so, and returns those that are to be
// queued anew, which the caller does in the same transaction. They are the running jobs of
// nodes that were not heard of for so long; those that this node is recorded to run and does
// not, since their end could not be recorded; and queued ones for which the queue has no
// task that will be taken up soon. A job that was started MostAttempts times fails instead; those are returned beside.
func Reconcile(ctx context.Context, q Querier, node string, holding []int64,
	silence time.Duration) (released []Released, failed []int64, err error) {
	if holding == nil {
		holding = []int64{}
	}
	if _, err := exec(ctx, q, "DELETE FROM nodes WHERE seen_at < now() - make_interval(secs => $1)",
		silence.Seconds()*10); err != nil {
		return nil, nil, err
	}
	// A task that is running in the queue was taken and not claimed here: its node is between
	// the two, or was ended there.
	untaken, err := list[Released](ctx, q, `SELECT j.id, j.kind, coalesce('its task in the queue is ' || r.state, 'it has no task in the queue') AS why
		FROM jobs j LEFT JOIN river_job r ON r.id = j.task_id WHERE j.state = 'queued' AND NOT j.id = ANY($2)
		AND (r.id IS NULL OR r.state IN ('completed', 'cancelled', 'discarded')
			OR r.state = 'running' AND r.attempted_at < now() - make_interval(secs => $1)
			OR r.state IN ('retryable', 'scheduled') AND r.scheduled_at > now() + make_interval(secs => $1))
		FOR UPDATE OF j SKIP LOCKED`, silence.Seconds()/2, holding)
	if err != nil {
		return nil, nil, err
	}
	lost, err := list[Released](ctx, q, `UPDATE jobs SET node = NULL,
			state = CASE WHEN attempt >= $4 THEN 'failed' ELSE 'queued' END,
			error = CASE WHEN attempt >= $4 THEN 'It was started ' || attempt || ' times, and each time what ran it ended before it did. It may be too large for this machine; the log of the service says more.' ELSE error END,
			ended_at = CASE WHEN attempt >= $4 THEN now() END
		WHERE id IN (SELECT j.id FROM jobs j LEFT JOIN nodes n ON n.name = j.node WHERE j.state = 'running'
			AND (n.name IS NULL OR n.seen_at < now() - make_interval(secs => $1) OR j.node = $2 AND NOT j.id = ANY($3)) FOR UPDATE OF j SKIP LOCKED)
		RETURNING id, kind, CASE WHEN state = 'failed' THEN 'failed' ELSE 'its node is gone' END AS why`, silence.Seconds(), node, holding, MostAttempts)
	if err != nil {
		return nil, nil, err
	}
	released = untaken
	for _, one := range lost {
		if one.Why == "failed" {
			failed = append(failed, one.ID)
		} else {
			released = append(released, one)
		}
	}
	return released, failed, nil
}

// SetTask notes which task in the queue stands for a job, and takes away the one before.
func SetTask(ctx context.Context, q Querier, job, task int64) error {
	_, err := exec(ctx, q, `WITH before AS (SELECT task_id FROM jobs WHERE id = $1), gone AS (DELETE FROM river_job WHERE id = (SELECT task_id FROM before))
		UPDATE jobs SET task_id = $2 WHERE id = $1`, job, task)
	return err
}
