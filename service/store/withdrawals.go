package store

import (
	"context"
	"fmt"
)

// Withdraw records that a table counts no more; person 0 means the service itself. Bytes are
// let go of by the next sweep, where no other table has them. It is ErrConflict for a table
// that was withdrawn before.
func Withdraw(ctx context.Context, q Querier, table, person int64, reason string, letGo bool) (*Withdrawal, error) {
	_, err := exec(ctx, q,
		"INSERT INTO withdrawals (table_id, person_id, reason, bytes_let_go) VALUES ($1, NULLIF($2::bigint, 0), $3, $4)", table, person, reason, letGo)
	if err := conflict(err, "table %d was withdrawn before", table); err != nil {
		return nil, err
	}
	return get[Withdrawal](ctx, q, fmt.Sprintf("withdrawal of table %d", table), `SELECT w.table_id, p.name AS person, w.reason, w.bytes_let_go, w.at
		FROM withdrawals w LEFT JOIN people p ON p.id = w.person_id WHERE w.table_id = $1`, table)
}

// Retire withdraws a table with all that was made of it, and takes them out of issues: what
// was last found in one of them is what the newest audit that counts still finds, or closed.
func Retire(ctx context.Context, q Querier, table, person int64, reason string, letGo bool) (*Withdrawal, error) {
	w, err := Withdraw(ctx, q, table, person, reason, letGo)
	if err != nil {
		return nil, err
	}
	made, err := Descendants(ctx, q, table)
	if err != nil {
		return nil, err
	}
	for _, id := range made {
		_, err := exec(ctx, q,
			"INSERT INTO withdrawals (table_id, person_id, reason, bytes_let_go) VALUES ($1, NULLIF($2::bigint, 0), $3, $4) ON CONFLICT DO NOTHING",
			id, person, fmt.Sprintf("It was made of table %d, which was withdrawn: %s", table, reason), letGo)
		if err != nil {
			return nil, err
		}
	}
	return w, leaveIssues(ctx, q, append(made, table), person, reason)
}

func leaveIssues(ctx context.Context, q Querier, tables []int64, person int64, reason string) error {
	issues, err := list[Issue](ctx, q, issueColumns+
		" WHERE i.audit_id IN (SELECT id FROM audits WHERE table_id = ANY($1)) ORDER BY i.id", tables)
	if err != nil {
		return err
	}
	type still struct {
		AuditID int64  `db:"audit_id"`
		Title   string `db:"title"`
		Rows    int64  `db:"rows"`
		Found   bool   `db:"found"`
	}
	for _, i := range issues {
		newest, err := list[still](ctx, q, `SELECT a.id AS audit_id, coalesce(f->>'found', '') AS title, coalesce((f->>'rows')::bigint, 0) AS rows, f IS NOT NULL AS found
			FROM (SELECT a.id, a.result FROM audits a WHERE a.dataset_id = $1 AND a.rulebook_id IS NOT NULL AND a.table_id NOT IN (SELECT table_id FROM withdrawals) ORDER BY a.id DESC LIMIT 1) a
			LEFT JOIN LATERAL (SELECT f FROM json_array_elements(a.result->'findings') f WHERE f->>'rule' = $2 LIMIT 1) f ON true`, i.DatasetID, i.Rule)
		if err != nil {
			return err
		}
		if len(newest) > 0 && newest[0].Found {
			n := newest[0]
			if _, err := exec(ctx, q,
				"UPDATE issues SET title = $2, rows = $3, audit_id = $4, version = version + 1, changed_at = now() WHERE id = $1", i.ID, n.Title, n.Rows, n.AuditID); err != nil {
				return err
			}
			if err := AddIssueEntry(ctx, q, i.ID, 0, "seen", n.Title, &n.AuditID); err != nil {
				return err
			}
			continue
		}
		if i.State == IssueClosed {
			continue
		}
		if _, err := exec(ctx, q,
			"UPDATE issues SET state = 'closed', ended = 'withdrawn', version = version + 1, changed_at = now() WHERE id = $1",
			i.ID); err != nil {
			return err
		}
		if err := AddIssueEntry(ctx, q, i.ID, person, "closed", "What it was found in was withdrawn: "+reason,
			nil); err != nil {
			return err
		}
	}
	return nil
}

// SetRetention sets how many deliveries of a dataset are kept; nil for all.
func SetRetention(ctx context.Context, q Querier, dataset int64, keep *int) error {
	_, err := exec(ctx, q, "UPDATE datasets SET keep_deliveries = $2 WHERE id = $1", dataset, keep)
	return err
}

// Expired lists the deliveries of a dataset that its retention no longer keeps: all but the
// newest so many, of those that nothing certified rests on.
func Expired(ctx context.Context, q Querier, dataset int64) ([]int64, error) {
	return list[int64](ctx, q, `WITH RECURSIVE edges AS (SELECT parent_id AS source, id AS made FROM tables WHERE parent_id IS NOT NULL
			UNION ALL SELECT input_id, table_id FROM table_inputs),
		certified AS (SELECT table_id AS id FROM certificates UNION SELECT e.source FROM certified c JOIN edges e ON e.made = c.id),
		ranked AS (SELECT t.id, row_number() OVER (ORDER BY t.id DESC) AS place FROM tables t
			WHERE t.dataset_id = $1 AND t.origin = 'delivery' AND NOT EXISTS (SELECT FROM withdrawals WHERE table_id = t.id))
		SELECT r.id FROM ranked r JOIN datasets d ON d.id = $1 WHERE d.keep_deliveries IS NOT NULL AND r.place > d.keep_deliveries
			AND r.id NOT IN (SELECT id FROM certified) ORDER BY r.id`, dataset)
}

// recorded are the digests that records speak of whose bytes are kept, with what they are of. A sweep keeps them, a backup
// carries them and a check misses them: a new kind of bytes belongs here.
const recorded = `(SELECT digest, 'table ' || id AS of FROM tables t WHERE NOT EXISTS (SELECT FROM withdrawals w WHERE w.table_id = t.id AND w.bytes_let_go)
	UNION ALL SELECT change_log_digest, 'the change log of table ' || id FROM tables WHERE change_log_digest IS NOT NULL
	UNION ALL SELECT row_map_digest, 'the map of rows of table ' || id FROM tables WHERE row_map_digest IS NOT NULL
	UNION ALL SELECT marks_digest, 'the marks of table ' || id FROM tables WHERE marks_digest IS NOT NULL
	UNION ALL SELECT draws_digest, 'the draws of table ' || id FROM tables WHERE draws_digest IS NOT NULL
	UNION ALL SELECT unmet_digest, 'the rows without a partner of table ' || id FROM tables WHERE unmet_digest IS NOT NULL
	UNION ALL SELECT digest, 'the preview by job ' || job_id FROM previews
	UNION ALL SELECT change_log_digest, 'the change log of the preview by job ' || job_id FROM previews
	UNION ALL SELECT row_map_digest, 'the map of rows of the preview by job ' || job_id FROM previews WHERE row_map_digest IS NOT NULL
	UNION ALL SELECT marks_digest, 'the marks of the preview by job ' || job_id FROM previews WHERE marks_digest IS NOT NULL
	UNION ALL SELECT rows_digest, 'the rows of audit ' || id FROM audits
	UNION ALL SELECT digest, 'arrival ' || id FROM arrivals)`

// RecordedDigests says which of some digests a record speaks of whose bytes are kept.
func RecordedDigests(ctx context.Context, q Querier, digests []string) (map[string]bool, error) {
	known, err := list[string](ctx, q, "SELECT DISTINCT digest FROM "+recorded+" r WHERE digest = ANY($1)", digests)
	if err != nil {
		return nil, err
	}
	out := make(map[string]bool, len(known))
	for _, digest := range known {
		out[digest] = true
	}
	return out, nil
}

// AllDigests calls f for every digest that a record speaks of whose bytes are kept, with what it is of.
func AllDigests(ctx context.Context, q Querier, f func(digest, of string) error) error {
	rows, err := q.QueryxContext(ctx, "SELECT digest, of FROM "+recorded+" r")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var digest, of string
		if err := rows.Scan(&digest, &of); err != nil {
			return err
		}
		if err := f(digest, of); err != nil {
			return err
		}
	}
	return rows.Err()
}
