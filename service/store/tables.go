package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"proudsieve/service/lineage"
)

// The origins of tables.
const (
	OriginDelivery = "delivery"
	OriginCleaned  = "cleaned"
	OriginMerged   = "merged"
)

const tableColumns = `SELECT t.id, d.name AS dataset, t.dataset_id, t.origin, t.digest, t.bytes, t.file_name, t.source, t.reading, t.parent_id, t.declaration_id,
	(SELECT c.name || ' version ' || c.version FROM declarations c WHERE c.id = t.declaration_id) AS declaration,
	t.change_log_digest, t.row_map_digest, t.marks_digest, t.draws_digest, t.unmet_digest, t.accounting, p.name AS created_by, t.created_at, a.id AS audit_id, CASE WHEN a.passed IS NOT NULL THEN a.score END AS score, a.passed, a.rows,
	(SELECT max(id) FROM certificates WHERE table_id = t.id) AS certificate_id,
	w.at AS withdrawn_at, w.reason AS withdrawn, (SELECT name FROM people WHERE id = w.person_id) AS withdrawn_by, coalesce(w.bytes_let_go, false) AS bytes_let_go
	FROM tables t JOIN datasets d ON d.id = t.dataset_id JOIN people p ON p.id = t.created_by LEFT JOIN withdrawals w ON w.table_id = t.id
	LEFT JOIN LATERAL (SELECT id, score, passed, rows FROM audits WHERE table_id = t.id ORDER BY id DESC LIMIT 1) a ON true`

// NewTable is what AddTable records.
type NewTable struct {
	DatasetID     int64
	Origin        string
	Digest        string
	Bytes         int64
	FileName      string
	Source        json.RawMessage // nil for none
	Reading       json.RawMessage // nil where nobody said how it is read
	ParentID      *int64
	DeclarationID *int64
	ChangeLog     *string
	RowMap        *string         // nil where no step made other rows
	Marks         *string         // nil where no cell is an estimate
	Draws         *string         // nil where no estimate was drawn more than once
	Unmet         *string         // nil where it is no merge, or every row found its partners
	Accounting    json.RawMessage // nil for none
	CreatedBy     int64
	Inputs        []int64
}

// AddTable records a table. A delivery with bytes that the dataset has already is ErrConflict,
// and so is a table made of one that was withdrawn in the meantime.
func AddTable(ctx context.Context, q Querier, t NewTable) (*Table, error) {
	// Deliveries of the same bytes follow one another.
	if err := LockDataset(ctx, q, t.DatasetID); err != nil {
		return nil, err
	}
	if t.Origin == OriginDelivery {
		if _, err := DeliveryWith(ctx, q, t.DatasetID, t.Digest); !errors.Is(err, ErrNotFound) {
			return nil, errors.Join(err, fmt.Errorf("%w: the dataset has a delivery with these bytes already",
				ErrConflict))
		}
	}
	from := slices.Clone(t.Inputs)
	if t.ParentID != nil {
		from = append(from, *t.ParentID)
	}
	for _, id := range from {
		if made, err := FindTable(ctx, q, id); err != nil {
			return nil, err
		} else if made.WithdrawnAt != nil {
			return nil, fmt.Errorf("%w: table %d, of which this one was made, was withdrawn: %s", ErrConflict, id,
				*made.Withdrawn)
		}
	}
	if t.Source == nil {
		t.Source = json.RawMessage("{}")
	}
	orNull := func(raw json.RawMessage) *string {
		if raw == nil {
			return nil
		}
		text := string(raw)
		return &text
	}
	id, err := get[int64](ctx, q, "table", `INSERT INTO tables (dataset_id, origin, digest, bytes, file_name, source, parent_id, declaration_id, change_log_digest, accounting, created_by, reading, row_map_digest, marks_digest, draws_digest, unmet_digest)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16) RETURNING id`,
		t.DatasetID, t.Origin, t.Digest, t.Bytes, t.FileName, string(t.Source), t.ParentID, t.DeclarationID,
		t.ChangeLog, orNull(t.Accounting), t.CreatedBy, orNull(t.Reading), t.RowMap, t.Marks, t.Draws, t.Unmet)
	if err != nil {
		return nil, err
	}
	for _, input := range t.Inputs {
		if _, err := exec(ctx, q, "INSERT INTO table_inputs (table_id, input_id) VALUES ($1, $2)", *id,
			input); err != nil {
			return nil, err
		}
	}
	return FindTable(ctx, q, *id)
}

// LockDataset makes those who add tables to a dataset follow one another, until the transaction ends.
func LockDataset(ctx context.Context, q Querier, dataset int64) error {
	_, err := exec(ctx, q, "SELECT id FROM datasets WHERE id = $1 FOR NO KEY UPDATE", dataset)
	return err
}

// FindTable returns a table by its id.
func FindTable(ctx context.Context, q Querier, id int64) (*Table, error) {
	return get[Table](ctx, q, fmt.Sprintf("table %d", id), tableColumns+" WHERE t.id = $1", id)
}

// CleanedWith returns the table with these bytes that a version of a fix plan made of a delivery before.
func CleanedWith(ctx context.Context, q Querier, parent, declaration int64, digest string) (*Table, error) {
	return get[Table](ctx, q, "cleaned table with these bytes", tableColumns+
		" WHERE t.parent_id = $1 AND t.declaration_id = $2 AND t.digest = $3 AND w.table_id IS NULL ORDER BY t.id DESC LIMIT 1", parent, declaration, digest)
}

// LastLedger returns the ledger of the newest table that any version of a fix plan made of a delivery before some table, or
// ErrNotFound.
func LastLedger(ctx context.Context, q Querier, dataset int64, plan string, before int64) (*json.RawMessage, error) {
	return get[json.RawMessage](ctx, q, "ledger of the delivery before", `SELECT t.accounting FROM tables t JOIN declarations c ON c.id = t.declaration_id
		WHERE c.kind = 'fix_plan' AND c.dataset_id = $1 AND c.name = $2 AND t.parent_id < $3
		AND NOT EXISTS (SELECT FROM withdrawals w WHERE w.table_id = t.id) ORDER BY t.parent_id DESC, t.id DESC LIMIT 1`, dataset, plan, before)
}

// DeliveryWith returns the delivery of a dataset that has these bytes and was not withdrawn.
func DeliveryWith(ctx context.Context, q Querier, dataset int64, digest string) (*Table, error) {
	return get[Table](ctx, q, "delivery with these bytes", tableColumns+
		" WHERE t.dataset_id = $1 AND t.digest = $2 AND t.origin = 'delivery' AND w.table_id IS NULL", dataset, digest)
}

// NewestDelivery returns the newest delivery of a dataset that was not withdrawn.
func NewestDelivery(ctx context.Context, q Querier, dataset int64, name string) (*Table, error) {
	return get[Table](ctx, q, fmt.Sprintf("delivery of %q", name), tableColumns+
		" WHERE t.dataset_id = $1 AND t.origin = 'delivery' AND w.table_id IS NULL ORDER BY t.id DESC LIMIT 1", dataset)
}

// TableBefore returns the table of the same dataset and origin that came before one and was not withdrawn; of the tables made of
// one delivery the newest is meant.
func TableBefore(ctx context.Context, q Querier, t *Table) (*Table, error) {
	return get[Table](ctx, q, fmt.Sprintf("table of %q before table %d", t.Dataset, t.ID), tableColumns+
		` WHERE t.dataset_id = $1 AND t.origin = $2 AND t.id < $3 AND (t.parent_id IS NULL OR t.parent_id <> $4) AND w.table_id IS NULL ORDER BY t.id DESC LIMIT 1`,
		t.DatasetID, t.Origin, t.ID, t.ParentID)
}

// Deliveries lists the newest deliveries of a dataset that were not withdrawn, at most so many.
func Deliveries(ctx context.Context, q Querier, dataset int64, most int) ([]Table, error) {
	return list[Table](ctx, q, tableColumns+
		" WHERE t.dataset_id = $1 AND t.origin = 'delivery' AND w.table_id IS NULL ORDER BY t.id DESC LIMIT $2",
		dataset, most)
}

// lineageLimit is how many tables a lineage may have.
const lineageLimit = 5000

// LineageOf returns a table with all that it was made of, and all that was made of it. It is ErrConflict where that is too much
// to be told at once.
func LineageOf(ctx context.Context, q Querier, id int64) (*lineage.Lineage, error) {
	const around = `WITH RECURSIVE links AS (SELECT parent_id AS of, id AS made FROM tables WHERE parent_id IS NOT NULL UNION ALL SELECT input_id, table_id FROM table_inputs),
		up AS (SELECT $1::bigint AS id UNION SELECT l.of FROM up JOIN links l ON l.made = up.id),
		down AS (SELECT $1::bigint AS id UNION SELECT l.made FROM down JOIN links l ON l.of = down.id),
		around AS (SELECT id FROM up UNION SELECT id FROM down) `
	if _, err := FindTable(ctx, q, id); err != nil {
		return nil, err
	}
	l := &lineage.Lineage{Table: id}
	var err error
	if l.Tables, err = list[Table](ctx, q, around+tableColumns+fmt.Sprintf(" WHERE t.id IN (SELECT id FROM around) ORDER BY t.id LIMIT %d", lineageLimit+1), id); err != nil {
		return nil, err
	}
	if len(l.Tables) > lineageLimit {
		return nil, fmt.Errorf("%w: more than %d tables are related to table %d; ask for one that fewer rest on", ErrConflict, lineageLimit, id)
	}
	for i := range l.Tables {
		l.Tables[i].Accounting, l.Tables[i].Reading = nil, nil
	}
	if l.Links, err = list[lineage.Link](ctx, q, around+"SELECT DISTINCT of, made FROM links WHERE of IN (SELECT id FROM around) AND made IN (SELECT id FROM around) ORDER BY made, of", id); err != nil {
		return nil, err
	}
	l.Certificates, err = list[Certificate](ctx, q, around+certificateColumns+" WHERE c.table_id IN (SELECT id FROM around) ORDER BY c.id", id)
	return l, err
}

// Descendants lists what was made of a table, of what was made of it, and so on.
func Descendants(ctx context.Context, q Querier, id int64) ([]int64, error) {
	return list[int64](ctx, q, `WITH RECURSIVE edges AS (SELECT parent_id AS source, id AS made FROM tables WHERE parent_id IS NOT NULL
			UNION ALL SELECT input_id, table_id FROM table_inputs),
		made AS (SELECT $1::bigint AS id UNION SELECT e.made FROM made m JOIN edges e ON e.source = m.id)
		SELECT id FROM made WHERE id <> $1 ORDER BY id`, id)
}

// Tables lists the tables of a dataset; an empty origin means all.
func Tables(ctx context.Context, q Querier, dataset int64, origin string, c Cursor) (*Page[Table], error) {
	return page(ctx, q, c, func(t *Table) int64 { return t.ID }, tableColumns+
		" WHERE t.id < $1 AND t.dataset_id = $3 AND ($4 = '' OR t.origin = $4) ORDER BY t.id DESC LIMIT $2", dataset,
		origin)
}

// NewestCleaned returns the newest cleaned or merged table of a dataset.
func NewestCleaned(ctx context.Context, q Querier, dataset int64, name string) (*Table, error) {
	return get[Table](ctx, q, fmt.Sprintf("cleaned table of %q; apply a fix plan to its newest delivery first", name),
		tableColumns+
			" WHERE t.dataset_id = $1 AND t.origin <> 'delivery' AND w.table_id IS NULL ORDER BY t.id DESC LIMIT 1",
		dataset)
}

// NewestMerged returns the newest table that the merge of a dataset made.
func NewestMerged(ctx context.Context, q Querier, dataset int64, name string) (*Table, error) {
	return get[Table](ctx, q, fmt.Sprintf("merged table of %q", name), tableColumns+
		" WHERE t.dataset_id = $1 AND t.origin = 'merged' AND w.table_id IS NULL ORDER BY t.id DESC LIMIT 1", dataset)
}

// Cleaning is a delivery with the newest table that a fix plan made of it; nil where there is none.
type Cleaning struct {
	Delivery int64     `db:"id"`
	File     string    `db:"file_name"`
	Arrived  time.Time `db:"created_at"`
	Table    *int64    `db:"cleaned"`
}

// Cleanings lists the deliveries that tables of a dataset are made of, its own and those of others, in the order in which they
// arrived, but for withdrawn ones.
func Cleanings(ctx context.Context, q Querier, dataset int64) ([]Cleaning, error) {
	return list[Cleaning](ctx, q, `SELECT p.id, p.file_name, p.created_at, (SELECT max(c.id) FROM tables c WHERE c.parent_id = p.id AND c.dataset_id = $1
			AND c.origin = 'cleaned' AND NOT EXISTS (SELECT FROM withdrawals w WHERE w.table_id = c.id)) AS cleaned
		FROM tables p WHERE p.origin = 'delivery' AND NOT EXISTS (SELECT FROM withdrawals w WHERE w.table_id = p.id)
		AND (p.dataset_id = $1 OR p.dataset_id IN (SELECT o.dataset_id FROM tables c JOIN tables o ON o.id = c.parent_id WHERE c.dataset_id = $1 AND c.origin = 'cleaned'))
		ORDER BY p.id`, dataset)
}

// MadeOf reports whether a version of a merge made a table of exactly these tables before.
func MadeOf(ctx context.Context, q Querier, declaration int64, inputs []int64) (bool, error) {
	made, err := get[bool](ctx, q, "merged table", `SELECT EXISTS (SELECT FROM tables t WHERE t.declaration_id = $1 AND t.origin = 'merged'
		AND NOT EXISTS (SELECT FROM withdrawals w WHERE w.table_id = t.id)
		AND (SELECT array_agg(input_id ORDER BY input_id) FROM table_inputs WHERE table_id = t.id) = (SELECT array_agg(i ORDER BY i) FROM unnest($2::bigint[]) i))`, declaration, inputs)
	if err != nil {
		return false, err
	}
	return *made, nil
}

// InputsOf lists the tables that a merged one was made of.
func InputsOf(ctx context.Context, q Querier, id int64) ([]Table, error) {
	return list[Table](ctx, q, tableColumns+
		" WHERE t.id IN (SELECT input_id FROM table_inputs WHERE table_id = $1) ORDER BY t.id", id)
}

// CleanedFrom returns the newest table that was cleaned from another.
func CleanedFrom(ctx context.Context, q Querier, parent int64) (*Table, error) {
	return get[Table](ctx, q, fmt.Sprintf("table cleaned from table %d", parent), tableColumns+
		" WHERE t.parent_id = $1 AND (w.table_id IS NULL OR EXISTS (SELECT FROM withdrawals WHERE table_id = $1)) ORDER BY t.id DESC LIMIT 1", parent)
}

// MergedFrom returns the newest table that was merged from another.
func MergedFrom(ctx context.Context, q Querier, input int64) (*Table, error) {
	return get[Table](ctx, q, fmt.Sprintf("table merged from table %d", input), tableColumns+
		" WHERE t.id IN (SELECT table_id FROM table_inputs WHERE input_id = $1) AND (w.table_id IS NULL OR EXISTS (SELECT FROM withdrawals WHERE table_id = $1)) ORDER BY t.id DESC LIMIT 1", input)
}

// Short lists the datasets' newest tables where they fell short, the newest first.
func Short(ctx context.Context, q Querier) ([]Table, error) {
	return list[Table](ctx, q, tableColumns+` WHERE NOT a.passed AND t.id IN (SELECT max(id) FROM tables
			WHERE id NOT IN (SELECT table_id FROM withdrawals) GROUP BY dataset_id)`+seen(ctx, "t.dataset_id")+` ORDER BY t.id DESC LIMIT 100`)
}

// Uncertified lists the newest cleaned or merged table of each dataset, where it passes or something of it is waived, has no
// certificate, and no merge took it up: what rests on it is certified then.
func Uncertified(ctx context.Context, q Querier) ([]Table, error) {
	return list[Table](ctx, q, tableColumns+` WHERE t.origin <> 'delivery' AND w.table_id IS NULL
		AND (a.passed OR NOT a.passed AND EXISTS (SELECT FROM waivers w JOIN issues i ON i.id = w.issue_id WHERE i.dataset_id = t.dataset_id AND `+inForce+`)) AND t.id IN (SELECT max(id) FROM tables WHERE origin <> 'delivery'
			AND id NOT IN (SELECT table_id FROM withdrawals) GROUP BY dataset_id)
		AND NOT EXISTS (SELECT FROM certificates WHERE table_id = t.id) AND NOT EXISTS (SELECT FROM table_inputs WHERE input_id = t.id)`+seen(ctx, "t.dataset_id")+` ORDER BY t.id DESC`)
}
