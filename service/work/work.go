// Package work runs the background jobs: audits, previews, fixes, merges and fetches. A job
// is recorded and queued in one transaction. Any number of nodes take jobs from one
// database; a node that dies loses its jobs to another, and a node that was given
// up for dead can no longer record anything.
package work

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"

	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/store"
)

const (
	beatEvery     = 1500 * time.Millisecond
	silentIsDead  = 6 * time.Second
	progressEvery = 300 * time.Millisecond
	pollEvery     = 150 * time.Millisecond
	jobsAtOnce    = 2
)

// Pool takes jobs in and runs them.
type Pool struct {
	store  *store.Store
	files  *files.Directory
	log    *slog.Logger
	node   string
	queue  *river.Client[*sql.Tx]
	cancel context.CancelFunc
	beats  chan struct{}
	// Workers is how many goroutines one job reads a table with.
	Workers int
	// UploadLimit is the most bytes that are fetched from an address.
	UploadLimit int64
	// FetchPrivate says that addresses of this machine and of private networks may be fetched from.
	FetchPrivate bool
}

// task is what the queue carries: which of our jobs to run.
type task struct {
	JobID int64 `json:"job_id"`
}

// Kind implements river.JobArgs.
func (task) Kind() string { return "proudsieve_job" }

type worker struct {
	river.WorkerDefaults[task]
	pool *Pool
}

// Timeout implements river.Worker: a job takes as long as it takes.
func (w *worker) Timeout(*river.Job[task]) time.Duration { return -1 }

// Work implements river.Worker.
func (w *worker) Work(ctx context.Context, job *river.Job[task]) error {
	return w.pool.run(ctx, job.Args.JobID)
}

// NewPool returns a pool that is not yet taking jobs from the queue.
func NewPool(s *store.Store, f *files.Directory, log *slog.Logger) (*Pool, error) {
	name, err := access.NewSecret("node-")
	if err != nil {
		return nil, err
	}
	p := &Pool{store: s, files: f, log: log, node: name, Workers: runtime.NumCPU()}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{pool: p})
	p.queue, err = river.NewClient(riverdatabasesql.New(s.DB.DB), &river.Config{
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: jobsAtOnce}},
		Workers:           workers,
		FetchPollInterval: pollEvery,
		FetchCooldown:     100 * time.Millisecond,
		Logger:            slog.New(quiet{log.Handler(), &sync.Map{}}),
		MaxAttempts:       5,
		// Jobs that a dead node held are queued anew by release, long before this.
		RescueStuckJobsAfter: 24 * time.Hour,
	})
	return p, err
}

// quiet passes on warnings alone, each message once in repeatAfter: the queue reports
// its own housekeeping at info, and every failed poll while the database is away.
type quiet struct {
	slog.Handler
	said *sync.Map // message to time
}

const repeatAfter = 10 * time.Second

// Handle implements slog.Handler.
func (q quiet) Handle(ctx context.Context, record slog.Record) error {
	if last, ok := q.said.Load(record.Message); ok && record.Time.Sub(last.(time.Time)) < repeatAfter {
		return nil
	}
	q.said.Store(record.Message, record.Time)
	return q.Handler.Handle(ctx, record)
}

// WithAttrs implements slog.Handler.
func (q quiet) WithAttrs(attrs []slog.Attr) slog.Handler {
	return quiet{q.Handler.WithAttrs(attrs), q.said}
}

// WithGroup implements slog.Handler.
func (q quiet) WithGroup(name string) slog.Handler { return quiet{q.Handler.WithGroup(name), q.said} }

// Enabled implements slog.Handler.
func (q quiet) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && q.Handler.Enabled(ctx, level)
}

// Start begins to take jobs.
func (p *Pool) Start(ctx context.Context) error {
	ctx, p.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if err := store.Beat(ctx, p.store.DB, p.node); err != nil {
		return err
	}
	p.beats = make(chan struct{})
	go p.keepAlive(ctx)
	return p.queue.Start(ctx)
}

// Stop ends the jobs under way; they go back to the queue.
func (p *Pool) Stop(ctx context.Context) error {
	err := p.queue.StopAndCancel(ctx)
	p.cancel()
	<-p.beats
	return errors.Join(err, store.Leave(ctx, p.store.DB, p.node))
}

func (p *Pool) keepAlive(ctx context.Context) {
	defer close(p.beats)
	ticker := time.NewTicker(beatEvery)
	defer ticker.Stop()
	for {
		if err := p.beat(ctx); err != nil && ctx.Err() == nil {
			p.log.Warn("the node could not say that it is alive", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// beat says that the node is alive and queues the jobs of nodes that are not.
func (p *Pool) beat(ctx context.Context) error {
	if err := store.Beat(ctx, p.store.DB, p.node); err != nil {
		return err
	}
	if err := p.fetchDue(ctx); err != nil {
		return err
	}
	return p.store.Do(ctx, func(tx *sqlx.Tx) error {
		released, err := store.ReleaseJobs(ctx, tx, silentIsDead)
		if err != nil {
			return err
		}
		for _, id := range released {
			p.log.Info("a job of a node that is gone is taken up again", "job", id)
			if err := p.enqueue(ctx, tx, id); err != nil {
				return err
			}
		}
		return nil
	})
}

func (p *Pool) enqueue(ctx context.Context, tx *sqlx.Tx, id int64) error {
	_, err := p.queue.InsertTx(ctx, tx.Tx, task{id}, nil)
	return err
}

// Add records a job and queues it, in the caller's transaction.
func (p *Pool) Add(ctx context.Context, tx *sqlx.Tx, j store.NewJob) (*store.Job, error) {
	job, err := store.AddJob(ctx, tx, j)
	if err != nil {
		return nil, err
	}
	return job, p.enqueue(ctx, tx, job.ID)
}

// AddAudit records and queues the audit of a table by the newest rulebook of its dataset.
func (p *Pool) AddAudit(ctx context.Context, tx *sqlx.Tx, t *store.Table, person int64) (*store.Job, error) {
	j := store.NewJob{Kind: store.JobAudit, TableID: &t.ID, DatasetID: t.DatasetID, CreatedBy: person}
	book, err := store.NewestDeclaration(ctx, tx, store.KindRulebook, t.DatasetID, t.Dataset)
	switch {
	case err == nil:
		j.DeclarationID = &book.ID
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	}
	return p.Add(ctx, tx, j)
}

// errGivenUp says that the attempt no longer holds its job: it was stopped, or the
// node was taken for dead and another has the job now.
var errGivenUp = errors.New("the job was taken away")

// attempt is one run of one job.
type attempt struct {
	*Pool
	job    *store.Job
	number int
	done   atomic.Int64
	rows   atomic.Int64
	total  int64
	// base is what earlier passes over the table have read.
	base atomic.Int64
}

// run works on a job to its end. A job that cannot succeed is recorded as failed,
// which is an end too; an error means that the end could not be recorded.
func (p *Pool) run(ctx context.Context, id int64) error {
	number, ok, err := store.ClaimJob(ctx, p.store.DB, id, p.node)
	if err != nil || !ok {
		return err
	}
	job, err := store.FindJob(ctx, p.store.DB, id)
	if err != nil {
		return err
	}
	a := &attempt{Pool: p, job: job, number: number}
	working, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go a.report(working, cancel)
	err = a.dispatch(working)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, errGivenUp), errors.Is(context.Cause(working), errGivenUp):
		p.log.Info("a job was stopped", "job", id)
		return nil
	case ctx.Err() != nil: // the node stops; the job is released by the next one
		return ctx.Err()
	}
	p.log.Warn("a job failed", "job", id, "kind", job.Kind, "error", err)
	_, endErr := store.EndJob(ctx, p.store.DB, id, number, "failed", err.Error(), nil, nil)
	return endErr
}

func (a *attempt) dispatch(ctx context.Context) (err error) {
	defer func() {
		if problem := recover(); problem != nil {
			err = fmt.Errorf("internal error: %v", problem)
			a.log.Error("a job panicked", "job", a.job.ID, "problem", problem)
		}
	}()
	switch a.job.Kind {
	case store.JobAudit:
		return a.audit(ctx)
	case store.JobPreview:
		return a.preview(ctx)
	case store.JobFix:
		return a.fix(ctx)
	case store.JobMerge:
		return a.merge(ctx)
	case store.JobTrial:
		return a.trial(ctx)
	case store.JobFetch:
		return a.fetch(ctx)
	}
	return fmt.Errorf("there is no job of kind %q", a.job.Kind)
}

// report records progress and ends the work where the job is no longer ours.
func (a *attempt) report(ctx context.Context, cancel context.CancelCauseFunc) {
	ticker := time.NewTicker(progressEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		ok, err := store.ReportProgress(ctx, a.store.DB, a.job.ID, a.number, min(a.done.Load(), a.total), a.total, a.rows.Load())
		if err == nil && !ok {
			cancel(errGivenUp)
			return
		}
	}
}

// progress is told how far the reading of a table is.
func (a *attempt) progress(bytes, rows int64) {
	a.done.Store(a.base.Load() + bytes)
	a.rows.Store(rows)
}

// finish records the end of the job together with what more has to be recorded.
func (a *attempt) finish(ctx context.Context, record func(tx *sqlx.Tx) (result any, table *int64, err error)) error {
	return a.store.Do(ctx, func(tx *sqlx.Tx) error {
		result, table, err := record(tx)
		if err != nil {
			return err
		}
		ok, err := store.ReportProgress(ctx, tx, a.job.ID, a.number, a.total, a.total, a.rows.Load())
		if err == nil && ok {
			ok, err = store.EndJob(ctx, tx, a.job.ID, a.number, "done", "", result, table)
		}
		if err == nil && !ok {
			err = errGivenUp
		}
		return err
	})
}
