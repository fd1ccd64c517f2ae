package work

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/service/store"
)

// askEvery is how often it is looked whether something is to be asked once more.
const askEvery = time.Minute

// keepAsking asks once more what was not answered in time. What is not answered then stands on the desk.
func (p *Pool) keepAsking(ctx context.Context) error {
	return p.every(ctx, askEvery, "what was not answered could not be asked again", p.AskAgain)
}

// AskAgain asks once more what is overdue, each sheet once, whichever node does it.
func (p *Pool) AskAgain(ctx context.Context) error {
	return p.store.Do(ctx, func(tx *sqlx.Tx) error {
		sheets, err := store.AskAgain(ctx, tx)
		if err != nil {
			return err
		}
		for _, s := range sheets {
			if _, err := p.SendSheet(ctx, tx, s.ID, true); err != nil {
				return err
			}
			issues := map[int64]bool{}
			all, err := store.QuestionsIn(ctx, tx, s.ID)
			if err != nil {
				return err
			}
			for _, q := range all {
				if q.Answer != nil || issues[q.IssueID] {
					continue
				}
				issues[q.IssueID] = true
				if err := store.AddIssueEntry(ctx, tx, q.IssueID, 0, "asked", fmt.Sprintf("%s once more, by sheet %d, until %s.", s.Recipient, s.ID, s.Due), nil); err != nil {
					return err
				}
			}
			if err := store.Record(ctx, tx, 0, "asked once more", fmt.Sprintf("sheet %d", s.ID), map[string]any{"recipient": s.Recipient}); err != nil {
				return err
			}
		}
		return nil
	})
}
