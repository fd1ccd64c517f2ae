package work

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/intake/content"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// TakenIn is what became of bytes that arrived.
type TakenIn struct {
	Table *records.Table
	Job   *records.Job // its audit; nil where the bytes were known
	Known bool         // the dataset had a delivery with these bytes already
}

// TakeIn records a delivery whose bytes are kept, and queues its audit. The same bytes
// twice are recognised.
func (p *Pool) TakeIn(ctx context.Context, person int64, t store.NewTable, dataset string) (*TakenIn, error) {
	known := func() (*TakenIn, error) {
		found, err := store.DeliveryWith(ctx, p.store.DB, t.DatasetID, t.Digest)
		if err != nil {
			return nil, err
		}
		return &TakenIn{Table: found, Known: true}, nil
	}
	if taken, err := known(); !errors.Is(err, store.ErrNotFound) {
		return taken, err
	}
	out := &TakenIn{}
	err := p.store.Do(ctx, func(tx *sqlx.Tx) (err error) {
		if out.Table, err = store.AddTable(ctx, tx, t); err != nil {
			return err
		}
		if out.Job, err = p.AddAudit(ctx, tx, out.Table, person); err != nil {
			return err
		}
		if err := p.Tell(ctx, tx, store.NewNotice{Key: fmt.Sprintf("arrived %d", out.Table.ID), Kind: store.NoticeArrived, DatasetID: t.DatasetID, PersonID: person,
			Says: fmt.Sprintf("Delivery %d of %s arrived: %s.", out.Table.ID, dataset, t.FileName), Path: fmt.Sprintf("/tables/%d", out.Table.ID),
			Facts: map[string]any{"table": out.Table.ID, "file": t.FileName, "sha256": t.Digest, "bytes": t.Bytes}}); err != nil {
			return err
		}
		return store.Record(ctx, tx, person, "took in a delivery", fmt.Sprintf("table %d of %s", out.Table.ID, dataset),
			map[string]any{"sha256": t.Digest, "file": t.FileName})
	})
	if errors.Is(err, store.ErrConflict) { // somebody sent the same bytes at the same time
		return known()
	}
	if err == nil {
		if err := p.Retain(ctx, t.DatasetID, "dataset "+dataset); err != nil {
			p.log.Warn("older deliveries could not be let go", "dataset", dataset, "error", err)
		}
	}
	return out, err
}

// Retain withdraws the deliveries that a dataset no longer keeps.
func (p *Pool) Retain(ctx context.Context, dataset int64, subject string) error {
	return p.store.Do(ctx, func(tx *sqlx.Tx) error {
		expired, err := store.Expired(ctx, tx, dataset)
		if err != nil {
			return err
		}
		for _, id := range expired {
			if _, err := store.Retire(ctx, tx, id, 0, "The dataset keeps its newest deliveries alone.",
				true); err != nil && !errors.Is(err, store.ErrConflict) {
				return err
			}
		}
		if len(expired) == 0 {
			return nil
		}
		return store.Record(ctx, tx, 0, "let go of deliveries that are no longer kept", subject,
			map[string]any{"tables": expired})
	})
}

// Receive keeps the bytes of a delivery, unless they are a web page, which is what one gets
// where an address has moved or wants to know who asks. The caller closes what was kept.
func (p *Pool) Receive(ctx context.Context, in io.Reader) (*files.Kept, error) {
	buffered := bufio.NewReaderSize(in, 4<<10)
	head, err := buffered.Peek(1 << 10)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, err
	}
	if content.IsWebPage(head) {
		return nil, content.ErrWebPage
	}
	return files.Put(ctx, p.files, buffered)
}
