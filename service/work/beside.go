package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// Beside gives a rulebook what a table is judged against besides its own rows: the newest
// tables of other datasets, cleaned or merged ones before deliveries, and the audits of
// the tables that came before it, of the same origin.
func Beside(ctx context.Context, s *store.Store, f files.Store, t *records.Table, book *rulebook.Rulebook,
	today time.Time) error {
	b := &rulebook.Beside{Today: today.Unix() / 86_400, Used: map[string]string{}}
	var mutex sync.Mutex
	b.Open = func(ctx context.Context, dataset string) (table.Source, *rulebook.Rulebook, error) {
		other, err := current(ctx, s, dataset)
		if err != nil {
			return nil, nil, err
		}
		theirs, err := rulebookOf(ctx, s.DB, other.DatasetID, dataset)
		if err != nil {
			return nil, nil, err
		}
		mutex.Lock()
		b.Used[dataset] = fmt.Sprintf("table %d, SHA-256 %s", other.ID, other.Digest)
		mutex.Unlock()
		return OpenTable(ctx, f, other, theirs)
	}
	past, err := store.PastResults(ctx, s.DB, t.DatasetID, t.ID, t.Origin, book.Deliveries())
	if err != nil {
		return err
	}
	for _, raw := range past {
		var result audit.Result
		if err := json.Unmarshal(raw, &result); err != nil {
			return err
		}
		b.Past = append(b.Past, result.Past())
	}
	book.Beside = b
	return nil
}

// current returns the table of a dataset that counts now.
func current(ctx context.Context, s *store.Store, dataset string) (*records.Table, error) {
	d, err := store.FindDataset(ctx, s.DB, dataset)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("there is no dataset %s", dataset)
	}
	if err != nil {
		return nil, err
	}
	t, err := Current(ctx, s, d)
	if errors.Is(err, store.ErrNotFound) {
		return nil, fmt.Errorf("nothing of the dataset %s has arrived yet", dataset)
	}
	return t, err
}

// Current returns the table of a dataset that counts now, a cleaned or merged one before a delivery, or store.ErrNotFound.
func Current(ctx context.Context, s *store.Store, d *records.Dataset) (*records.Table, error) {
	t, err := store.NewestCleaned(ctx, s.DB, d.ID, d.Name)
	if !errors.Is(err, store.ErrNotFound) {
		return t, err
	}
	return store.NewestDelivery(ctx, s.DB, d.ID, d.Name)
}
