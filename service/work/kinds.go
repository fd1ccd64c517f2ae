package work

import (
	"context"
	"time"

	"github.com/riverqueue/river"

	"proudsieve/core/budget"
)

// kind is a kind of job: where it is queued, what it takes, and what it does. Each kind has a
// file of its own, with the arguments that the queue carries for it, and registers itself
// there (audit.go is a short one).
type kind struct {
	name  string
	queue string // river.QueueDefault where it is left out
	bytes int64  // of memory, before it asks for more; jobBytes where it is left out
	work  func(ctx context.Context, a *attempt) error

	args   func(job int64) river.JobArgs
	worker func(workers *river.Workers, p *Pool)
}

var kinds = map[string]*kind{}

// ofJob says which of our jobs a task of the queue stands for. The arguments of each kind embed it.
type ofJob struct {
	JobID int64 `json:"job_id"`
}

func (j ofJob) id() int64 { return j.JobID }

// jobArgs are the arguments of one kind; Kind is its name.
type jobArgs interface {
	river.JobArgs
	id() int64
}

// register adds a kind of job, whose arguments args makes. It is called as the program starts.
func register[A jobArgs](k kind, args func(ofJob) A) {
	k.name = args(ofJob{}).Kind()
	if k.queue == "" {
		k.queue = river.QueueDefault
	}
	if k.bytes == 0 {
		k.bytes = jobBytes
	}
	k.args = func(job int64) river.JobArgs { return args(ofJob{job}) }
	k.worker = func(workers *river.Workers, p *Pool) { river.AddWorker(workers, &worker[A]{pool: p}) }
	kinds[k.name] = &k
}

// worker runs the jobs of one kind.
type worker[A jobArgs] struct {
	river.WorkerDefaults[A]
	pool *Pool
}

// Timeout implements river.Worker: a job takes as long as it takes.
func (w *worker[A]) Timeout(*river.Job[A]) time.Duration { return -1 }

// Work implements river.Worker.
func (w *worker[A]) Work(ctx context.Context, job *river.Job[A]) error {
	return w.pool.run(ctx, job.Args.id())
}

// takingRoom does the work of the kind within the process's budget of memory.
func (k *kind) takingRoom(ctx context.Context, a *attempt) error {
	share, err := budget.Process().Take(ctx, k.bytes)
	if err != nil {
		return err
	}
	defer share.Free()
	return k.work(budget.With(ctx, share), a)
}

// earlierTask is what the queue carried for jobs of every kind in earlier versions; those
// that were queued then are run still.
type earlierTask struct{ ofJob }

// Kind implements river.JobArgs.
func (earlierTask) Kind() string { return "proudsieve_job" }
