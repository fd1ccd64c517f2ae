package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"

	"proudsieve/core/document"
	"proudsieve/core/expect"
	"proudsieve/core/guard"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/telling"
)

const (
	sendQueue = "sendings"
	// sendsAtOnce is how many things a node sends at once; they wait for others most of the time.
	sendsAtOnce = 4
	// sendLongest is how long one attempt may take, and sendLost after how long one that is said to go on is taken for lost.
	sendLongest = 12 * time.Second
	sendLost    = sendLongest + 3*time.Second
	// sendFirst is the pause after the first attempt that failed; it doubles with each, up to sendPause.
	sendFirst = 5 * time.Second
	sendPause = 2 * time.Hour
	// sendTries is after how many attempts something is given up: after about three days.
	sendTries = 45
	lookLate  = time.Minute
)

// sendArgs are what the queue carries for something that is sent.
type sendArgs struct {
	Sending int64 `json:"sending"`
}

// Kind implements river.JobArgs.
func (sendArgs) Kind() string { return "send" }

// sender sends what was told.
type sender struct {
	river.WorkerDefaults[sendArgs]
	pool *Pool
}

// Timeout implements river.Worker.
func (*sender) Timeout(*river.Job[sendArgs]) time.Duration { return sendLongest }

// NextRetry implements river.Worker.
func (*sender) NextRetry(job *river.Job[sendArgs]) time.Time {
	return time.Now().Add(min(sendFirst<<min(job.Attempt-1, 20), sendPause))
}

// Work implements river.Worker.
func (w *sender) Work(ctx context.Context, job *river.Job[sendArgs]) error {
	ok, err := store.TrySending(ctx, w.pool.store.DB, job.Args.Sending, job.ID)
	if err != nil || !ok {
		return err
	}
	s, err := store.FindSending(ctx, w.pool.store.DB, job.Args.Sending)
	if err != nil {
		return err
	}
	problem := guard.Do(func() error { return w.pool.send(ctx, s) })
	recording := context.WithoutCancel(ctx) // what was sent is recorded, though the time is over
	if problem == nil {
		return store.EndSending(recording, w.pool.store.DB, s.ID, "sent", "")
	}
	if errors.Is(ctx.Err(), context.Canceled) {
		return problem // another node, or the next start, takes it up
	}
	state := "waiting"
	var permanent *telling.PermanentError
	if errors.As(problem, &permanent) || s.Attempts >= sendTries {
		state = "given_up"
	}
	w.pool.log.Warn("something could not be sent", "sending", s.ID, "to", s.To, "attempt", s.Attempts, "error", problem, "then", state)
	if err := store.EndSending(recording, w.pool.store.DB, s.ID, state, problem.Error()); err != nil {
		return err
	}
	if state == "given_up" {
		return nil
	}
	return problem
}

// send sends one thing to where it goes.
func (p *Pool) send(ctx context.Context, s *records.Sending) error {
	if p.Teller == nil {
		return errors.New("this node sends nothing")
	}
	if s.SheetID != nil {
		sheet, err := store.FindSheet(ctx, p.store.DB, *s.SheetID)
		if err != nil {
			return err
		}
		if sheet.ClosedAt != nil || sheet.LinkRevoked || sheet.LinkSerial != *s.LinkSerial {
			return &telling.PermanentError{Problem: errors.New("the link was taken back before it was sent")}
		}
		return p.Teller.Questions(ctx, s.Key, s.Address, sheet, telling.LinkTo(sheet, p.Secret), s.Again)
	}
	n, err := store.FindNotice(ctx, p.store.DB, *s.NoticeID)
	if err != nil {
		return err
	}
	if s.ReceiverID == nil {
		return p.Teller.Letter(ctx, s.Key, s.Address, n)
	}
	r, err := store.FindReceiver(ctx, p.store.DB, *s.ReceiverID)
	if err != nil {
		return err
	}
	return p.Teller.Post(ctx, n, r.Address, telling.Secret(p.Secret, r.ID, r.Serial))
}

// TryReceiver sends a receiver an event that says nothing.
func (p *Pool) TryReceiver(ctx context.Context, r *records.Receiver) error {
	if p.Teller == nil {
		return errors.New("this node sends nothing")
	}
	ctx, cancel := context.WithTimeout(ctx, sendLongest)
	defer cancel()
	return p.Teller.Try(ctx, r.Address, telling.Secret(p.Secret, r.ID, r.Serial))
}

// Tell records a notice, in the caller's transaction, and queues what is to be sent of it.
func (p *Pool) Tell(ctx context.Context, tx *sqlx.Tx, n store.NewNotice) error {
	sendings, err := store.AddNotice(ctx, tx, n, p.Teller != nil && p.Teller.Mail != nil)
	if err != nil {
		return err
	}
	return p.queueSendings(ctx, tx, sendings)
}

// SendSheet queues that a sheet is mailed to who is asked, in the caller's transaction. It says whether it is.
func (p *Pool) SendSheet(ctx context.Context, tx *sqlx.Tx, sheet int64, again bool) (bool, error) {
	if p.Teller == nil || p.Teller.Mail == nil {
		return false, nil
	}
	id, err := store.AddSheetSending(ctx, tx, sheet, again)
	if err != nil || id == 0 {
		return false, err
	}
	return true, p.queueSendings(ctx, tx, []int64{id})
}

// SendAgain queues what was given up once more, in the caller's transaction.
func (p *Pool) SendAgain(ctx context.Context, tx *sqlx.Tx, sending int64) (bool, error) {
	ok, err := store.SendAgain(ctx, tx, sending)
	if err != nil || !ok {
		return false, err
	}
	return true, p.queueSendings(ctx, tx, []int64{sending})
}

func (p *Pool) queueSendings(ctx context.Context, tx *sqlx.Tx, sendings []int64) error {
	for _, id := range sendings {
		inserted, err := p.queue.InsertTx(ctx, tx.Tx, sendArgs{id}, &river.InsertOpts{Queue: sendQueue, MaxAttempts: sendTries})
		if err != nil {
			return err
		}
		if err := store.SetSendingTask(ctx, tx, id, inserted.Job.ID); err != nil {
			return err
		}
	}
	return nil
}

// resendLost queues anew what waits though no task stands for it, as after the death of a node.
func (p *Pool) resendLost(ctx context.Context) error {
	return p.store.Do(ctx, func(tx *sqlx.Tx) error {
		lost, err := store.LostSendings(ctx, tx, sendLost)
		if err != nil {
			return err
		}
		return p.queueSendings(ctx, tx, lost)
	})
}

// keepLookingOut tells of deliveries that were expected and did not come.
func (p *Pool) keepLookingOut(ctx context.Context) error {
	return p.every(ctx, lookLate, "deliveries that did not come could not be told", func(ctx context.Context) error {
		return p.TellLate(ctx, time.Now())
	})
}

// TellLate tells of each delivery that should have come by now and did not, once, whichever node does it.
func (p *Pool) TellLate(ctx context.Context, now time.Time) error {
	all, err := store.Expecting(ctx, p.store.DB)
	if err != nil || len(all) == 0 {
		return err
	}
	came, err := store.Expected(ctx, p.store.DB)
	if err != nil {
		return err
	}
	return p.store.Do(ctx, func(tx *sqlx.Tx) error {
		for i := range all {
			d := &all[i]
			dues, err := expect.Of(*d.Expects, came[d.ID], now)
			if err != nil {
				return err
			}
			// The last one alone, so that nobody is told of years at once when something begins to be expected.
			missed := slices.DeleteFunc(dues, func(due expect.Due) bool { return !due.Missed() })
			if len(missed) == 0 {
				continue
			}
			due := missed[len(missed)-1].Day
			if err := p.Tell(ctx, tx, store.NewNotice{Key: fmt.Sprintf("late %d %s", d.ID, due), Kind: store.NoticeLate, DatasetID: d.ID,
				Says: fmt.Sprintf("The delivery of %s that was expected by %s has not come.", d.Name, due), Path: "/datasets/" + d.Name,
				Facts: map[string]any{"expected_by": due, "missing": len(missed)}}); err != nil {
				return err
			}
		}
		return nil
	})
}

// tellAudit tells what an audit of a table came to: that it fell short, and which issues came back.
func (a *attempt) tellAudit(ctx context.Context, tx *sqlx.Tx, t *records.Table, audit int64, passed *bool, score float64, back []records.Issue) error {
	if passed != nil && !*passed {
		if err := a.Tell(ctx, tx, store.NewNotice{Key: fmt.Sprintf("short %d", audit), Kind: store.NoticeShort, DatasetID: t.DatasetID, PersonID: a.job.CreatedByID,
			Says: fmt.Sprintf("%s fell short with a score of %s.", nameOf(t), document.Score(score)), Path: fmt.Sprintf("/tables/%d?view=findings", t.ID),
			Facts: map[string]any{"table": t.ID, "audit": audit, "score": score}}); err != nil {
			return err
		}
	}
	for i := range back {
		if err := a.Tell(ctx, tx, store.NewNotice{Key: fmt.Sprintf("back %d %d", back[i].ID, audit), Kind: store.NoticeCameBack, DatasetID: t.DatasetID,
			Says: fmt.Sprintf("Issue %d of %s came back with %s.", back[i].ID, t.Dataset, nameOf(t)), Path: fmt.Sprintf("/issues/%d", back[i].ID),
			Facts: map[string]any{"issue": back[i].ID, "table": t.ID, "audit": audit, "rows": back[i].Rows}}); err != nil {
			return err
		}
	}
	return nil
}

func nameOf(t *records.Table) string {
	switch t.Origin {
	case store.OriginDelivery:
		return fmt.Sprintf("Delivery %d of %s", t.ID, t.Dataset)
	case store.OriginCleaned:
		return fmt.Sprintf("Cleaned table %d of %s", t.ID, t.Dataset)
	}
	return fmt.Sprintf("Merged table %d of %s", t.ID, t.Dataset)
}

// tellFailed tells that a job failed.
func (p *Pool) tellFailed(ctx context.Context, tx *sqlx.Tx, job int64) error {
	j, err := store.FindJob(ctx, tx, job)
	if err != nil {
		return err
	}
	path := "/datasets/" + j.Dataset
	if j.TableID != nil {
		path = fmt.Sprintf("/tables/%d", *j.TableID)
	}
	return p.Tell(ctx, tx, store.NewNotice{Key: fmt.Sprintf("failed %d", j.ID), Kind: store.NoticeFailed, DatasetID: j.DatasetID,
		Says: fmt.Sprintf("Job %d of %s (%s) failed: %s", j.ID, j.Dataset, j.Kind, j.Error), Path: path,
		Facts: map[string]any{"job": j.ID, "kind": j.Kind, "asked_by": j.CreatedBy}})
}
