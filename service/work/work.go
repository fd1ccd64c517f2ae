// Package work runs the background jobs: audits, previews, fixes, merges and fetches. A job
// is recorded and queued in one transaction. Any number of nodes take jobs from one
// database; a node that dies loses its jobs to another, and a node that was given
// up for dead can no longer record anything.
package work

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"

	"proudsieve/core/fix"
	"proudsieve/core/guard"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/telemetry"
	"proudsieve/service/telling"
)

const (
	// A node is dead, and its jobs are another's, six seconds after it was last heard of at the latest.
	beatEvery     = time.Second
	silentIsDead  = 4500 * time.Millisecond
	progressEvery = 300 * time.Millisecond
	pollEvery     = 150 * time.Millisecond
	fetchQueue    = "fetches"
	sweepEvery    = time.Hour
	sweepAgain    = 5 * time.Second // where a sweep could not do all
	endTries      = 20              // to record the end of a job, a second apart
	// jobBytes is what reading and judging a table takes; what grows beyond that is taken besides.
	jobBytes   = 150 << 20
	fetchBytes = 1 << 20
)

// DefaultStall is how long a job may make no progress before it fails.
const DefaultStall = 15 * time.Minute

// Pool takes jobs in and runs them.
type Pool struct {
	store  *store.Store
	files  files.Store
	log    *slog.Logger
	node   string
	queue  *river.Client[*sql.Tx]
	cancel context.CancelFunc
	ending guard.Group // what runs beside the jobs
	mutex  sync.Mutex
	held   map[int64]bool // jobs that this node claims or works on
	// Workers is how many goroutines one job reads a table with.
	Workers int
	// LargeBytes is from how many bytes on the tables of a job are large, which has a place of its own.
	LargeBytes int64
	// UploadLimit is the most bytes that are fetched from an address.
	UploadLimit int64
	// FetchPrivate says that addresses of this machine and of private networks may be fetched from.
	FetchPrivate bool
	// Secrets is the folder of this node's secrets, each in a file of its name.
	Secrets string
	// Stall is how long a job may make no progress before it fails; 0 means DefaultStall.
	Stall time.Duration

	// Teller sends what people and programs are told of; nil where nothing is sent.
	Teller *telling.Teller
	// Secret is what links to sheets and messages to receivers are signed with.
	Secret []byte

	fetching fetching
	stages   fix.Stages // of previews on this node
}

// NewPool returns a pool that is not yet taking jobs from the queue.
func NewPool(s *store.Store, f files.Store, log *slog.Logger) (*Pool, error) {
	name, err := access.NewSecret("node-")
	if err != nil {
		return nil, err
	}
	tellDisk(f)
	p := &Pool{store: s, files: f, log: log, node: name, Workers: runtime.NumCPU(), LargeBytes: DefaultLargeBytes, held: map[int64]bool{}}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker[earlierTask]{pool: p})
	river.AddWorker(workers, &sender{pool: p})
	for _, k := range kinds {
		k.worker(workers, p)
	}
	p.queue, err = river.NewClient(riverdatabasesql.New(s.DB.DB), &river.Config{
		Queues:            queues(),
		Workers:           workers,
		FetchPollInterval: pollEvery,
		FetchCooldown:     100 * time.Millisecond,
		Logger:            slog.New(quiet{log.Handler(), &sync.Map{}}),
		MaxAttempts:       5,
		// Jobs that a dead node held are queued anew by reconcile, long before this.
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
	p.ending.Go(func() error { return p.keepAlive(ctx) })
	p.ending.Go(func() error { return p.keepTidy(ctx) })
	p.ending.Go(func() error { return p.keepAsking(ctx) })
	p.ending.Go(func() error { return p.keepLookingOut(ctx) })
	return p.queue.Start(ctx)
}

// Stop ends the jobs under way; they go back to the queue.
func (p *Pool) Stop(ctx context.Context) error {
	err := p.queue.StopAndCancel(ctx)
	p.cancel()
	p.stages.Close()
	return errors.Join(err, p.ending.Wait(), store.Leave(ctx, p.store.DB, p.node))
}

// every calls f at once and then again and again until ctx ends. What f fails at, it tries again.
func (p *Pool) every(ctx context.Context, pause time.Duration, what string, f func(context.Context) error) error {
	ticker := time.NewTicker(pause)
	defer ticker.Stop()
	for {
		if err := guard.Do(func() error { return f(ctx) }); err != nil && ctx.Err() == nil {
			p.log.Warn(what, "error", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
	}
}

func (p *Pool) keepAlive(ctx context.Context) error {
	return p.every(ctx, beatEvery, "the node could not say that it is alive", p.beat)
}

// keepTidy removes from the file store what nobody speaks of, at the start and every hour.
func (p *Pool) keepTidy(ctx context.Context) error {
	next := time.Time{}
	return p.every(ctx, sweepAgain, "the file store could not be swept", func(ctx context.Context) error {
		if time.Now().Before(next) {
			return nil
		}
		swept, err := p.Sweep(ctx)
		if swept.Files > 0 {
			p.log.Info("the file store was swept", "files", swept.Files, "bytes", swept.Bytes)
		}
		storeBytes.Set(float64(swept.Kept))
		tellDisk(p.files)
		if disk, err := p.files.Disk(); err == nil && disk.NearlyFull() {
			p.log.Warn("the disk of the file store is nearly full", "free", disk.Free, "total", disk.Total)
		}
		if err == nil && swept.Busy == 0 {
			next = time.Now().Add(sweepEvery)
		}
		return err
	})
}

// Sweep removes from the file store what no record speaks of and nobody writes.
func (p *Pool) Sweep(ctx context.Context) (files.Swept, error) {
	if err := errors.Join(store.ForgetArrivals(ctx, p.store.DB), store.ForgetPreviews(ctx, p.store.DB)); err != nil {
		return files.Swept{}, err
	}
	return p.files.Sweep(ctx, func(ctx context.Context, digests []string) (map[string]bool, error) {
		return store.RecordedDigests(ctx, p.store.DB, digests)
	})
}

// beat says that the node is alive and queues the jobs that nobody works on and the queue does not know.
func (p *Pool) beat(ctx context.Context) error {
	if err := store.Beat(ctx, p.store.DB, p.node); err != nil {
		return err
	}
	if err := p.fetchDue(ctx); err != nil {
		return err
	}
	if err := p.resendLost(ctx); err != nil {
		return err
	}
	return p.store.Do(ctx, func(tx *sqlx.Tx) error {
		released, failed, err := store.Reconcile(ctx, tx, p.node, p.holding(), silentIsDead)
		if err != nil {
			return err
		}
		for _, id := range failed {
			if err := p.tellFailed(ctx, tx, id); err != nil {
				return err
			}
		}
		for _, one := range released {
			if kinds[one.Kind] == nil {
				continue // of a newer version, whose nodes know it
			}
			p.log.Info("a job is queued anew", "job", one.ID, "because", one.Why)
			if err := p.enqueue(ctx, tx, one.ID, one.Kind); err != nil {
				return err
			}
		}
		return nil
	})
}

// hold notes that this node is about to claim a job, before it does; free undoes it.
func (p *Pool) hold(id int64) (free func()) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.held[id] = true
	return func() {
		p.mutex.Lock()
		defer p.mutex.Unlock()
		delete(p.held, id)
	}
}

func (p *Pool) holding() []int64 {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return slices.Collect(maps.Keys(p.held))
}

func (p *Pool) enqueue(ctx context.Context, tx *sqlx.Tx, id int64, name string) error {
	k := kinds[name]
	if k == nil {
		return fmt.Errorf("there is no job of kind %q", name)
	}
	queue, err := p.queueOf(ctx, tx, id, k)
	if err != nil {
		return err
	}
	inserted, err := p.queue.InsertTx(ctx, tx.Tx, k.args(id), &river.InsertOpts{Queue: queue})
	if err != nil {
		return err
	}
	return store.SetTask(ctx, tx, id, inserted.Job.ID)
}

// Add records a job and queues it, in the caller's transaction.
func (p *Pool) Add(ctx context.Context, tx *sqlx.Tx, j store.NewJob) (*records.Job, error) {
	job, err := store.AddJob(ctx, tx, j)
	if err != nil {
		return nil, err
	}
	return job, p.enqueue(ctx, tx, job.ID, job.Kind)
}

// errGivenUp says that the attempt no longer holds its job: it was stopped, or the
// node was taken for dead and another has the job now.
var errGivenUp = errors.New("the job was taken away")

// attempt is one run of one job.
type attempt struct {
	*Pool
	job    *records.Job
	number int
	done   atomic.Int64
	rows   atomic.Int64
	ticks  atomic.Int64 // progress that is neither
	total  atomic.Int64
	// base is what earlier passes over the table have read.
	base atomic.Int64
}

// errStalled says that an attempt made no progress for too long.
var errStalled = errors.New("it made no progress")

// run works on a job to its end. A job that cannot succeed is recorded as failed,
// which is an end too; an error means that the end could not be recorded.
func (p *Pool) run(ctx context.Context, id int64) error {
	defer p.hold(id)()
	number, ok, err := store.ClaimJob(ctx, p.store.DB, id, p.node)
	if err != nil || !ok {
		return err
	}
	job, err := store.FindJob(ctx, p.store.DB, id)
	if err != nil {
		return err
	}
	a := &attempt{Pool: p, job: job, number: number}
	ctx, traced := telemetry.Attempt(ctx, job.Kind, id)
	working, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	started := time.Now()
	var reporting guard.Group
	reporting.Go(func() error { return a.report(working, cancel) })
	err = guard.Do(func() error {
		k := kinds[job.Kind]
		if k == nil {
			return fmt.Errorf("this version of the service knows no job of kind %q", job.Kind)
		}
		return k.takingRoom(guard.Background(working), a)
	})
	cause := context.Cause(working)
	cancel(nil)
	_ = reporting.Wait()
	outcome := "failed"
	defer func() {
		jobEnded(job, outcome, started, a.rows.Load(), a.done.Load())
		traced(outcome)
	}()
	switch {
	case err == nil:
		outcome = "done"
		return nil
	case errors.Is(err, errGivenUp), errors.Is(cause, errGivenUp):
		outcome = "stopped"
		p.log.Info("a job was stopped", "job", id)
		return nil
	case ctx.Err() != nil: // the node stops; the job is released by the next one
		outcome = "interrupted"
		return ctx.Err()
	case store.Passing(err): // the database was away; the next beat queues the job anew
		outcome = "interrupted"
		return err
	case errors.Is(err, files.ErrAway): // so was the file store; a beat queues the job anew, which does not count as an attempt
		outcome = "interrupted"
		p.log.Warn("a job waits for the file store", "job", id, "kind", job.Kind, "error", err)
		_, err := store.PutBackJob(ctx, p.store.DB, id, number)
		return err
	}
	return a.fail(ctx, err, cause)
}

// fail records that the attempt ended in an error, in words for those who read it.
func (a *attempt) fail(ctx context.Context, err, cause error) error {
	says := err.Error()
	var caught *guard.Panic
	switch {
	case errors.As(err, &caught):
		says = fmt.Sprintf("Something went wrong inside the service. Quote job %d, attempt %d, to whoever runs it: its log says what.", a.job.ID, a.number)
		a.log.Error("a job panicked", "job", a.job.ID, "attempt", a.number, "kind", a.job.Kind, "problem", caught.Value,
			"stack", caught.Stack)
	case errors.Is(cause, errStalled):
		says = fmt.Sprintf("It made no progress for %s and was ended. What it reads may be made to take for ever, or the disk does not answer.", a.Pool.stall())
	case files.Full(err): // the log says which file
		says = files.FullSays
	}
	a.log.Warn("a job failed", "job", a.job.ID, "kind", a.job.Kind, "error", err)
	var endErr error
	for range endTries {
		endErr = a.store.Do(ctx, func(tx *sqlx.Tx) error {
			ok, err := store.EndJob(ctx, tx, a.job.ID, a.number, store.JobEnd{State: "failed", Problem: says})
			if err != nil || !ok {
				return err
			}
			return a.tellFailed(ctx, tx, a.job.ID)
		})
		if endErr == nil || ctx.Err() != nil {
			return endErr
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
	return endErr
}

func (p *Pool) stall() time.Duration { return cmp.Or(p.Stall, DefaultStall) }

// report records progress, and ends the work where the job is no longer ours or stands still.
func (a *attempt) report(ctx context.Context, cancel context.CancelCauseFunc) error {
	ticker := time.NewTicker(progressEvery)
	defer ticker.Stop()
	moved, last := time.Now(), int64(-1)
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
		if now := a.done.Load() + a.rows.Load() + a.ticks.Load(); now != last {
			moved, last = time.Now(), now
		} else if time.Since(moved) > a.Pool.stall() {
			cancel(errStalled)
			return nil
		}
		ok, err := store.ReportProgress(ctx, a.store.DB, a.job.ID, a.number, min(a.done.Load(), a.total.Load()),
			a.total.Load(), a.rows.Load())
		if err == nil && !ok {
			cancel(errGivenUp)
			return nil
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
		ok, err := store.ReportProgress(ctx, tx, a.job.ID, a.number, a.total.Load(), a.total.Load(), a.rows.Load())
		if err == nil && ok {
			ok, err = store.EndJob(ctx, tx, a.job.ID, a.number, store.JobEnd{State: "done", Result: result,
				TableID: table})
		}
		if err == nil && !ok {
			err = errGivenUp
		}
		return err
	})
}
