package work

import (
	"context"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"

	"proudsieve/service/store"
)

// A job waits in a queue for one of its places on some node. What takes long has places of its own, so that whoever asks for little
// does not wait for it: the processors are shared by all jobs of a node, part by part of their tables.
const (
	// largeQueue is for jobs on tables of LargeBytes and more, thereQueue for those on tables that are judged where they lie, which wait
	// for a database most of the time.
	largeQueue = "large_tables"
	thereQueue = "in_place"

	jobsAtOnce    = 2
	largeAtOnce   = 1
	thereAtOnce   = 2
	fetchesAtOnce = 4 // they wait for others most of the time, and keep no job from its place

	// DefaultLargeBytes is from how many bytes on the tables of a job are large.
	DefaultLargeBytes = 256 << 20
)

// queues are all of them, with their places on each node.
func queues() map[string]river.QueueConfig {
	return map[string]river.QueueConfig{
		river.QueueDefault: {MaxWorkers: jobsAtOnce},
		largeQueue:         {MaxWorkers: largeAtOnce},
		thereQueue:         {MaxWorkers: thereAtOnce},
		fetchQueue:         {MaxWorkers: fetchesAtOnce},
		sendQueue:          {MaxWorkers: sendsAtOnce},
	}
}

// queueOf returns the queue of a job that is recorded.
func (p *Pool) queueOf(ctx context.Context, tx *sqlx.Tx, id int64, k *kind) (string, error) {
	if k.queue != river.QueueDefault {
		return k.queue, nil
	}
	tables, err := store.TablesOfJob(ctx, tx, id)
	switch {
	case err != nil:
		return "", err
	case tables.There:
		return thereQueue, nil
	case tables.Bytes >= p.LargeBytes:
		return largeQueue, nil
	}
	return k.queue, nil
}
