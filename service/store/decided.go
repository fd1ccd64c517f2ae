package store

import (
	"context"

	"proudsieve/service/records"
)

// decided are all decisions of a dataset ($3), each with what it is about; they are told in the order in which they were made.
const decided = `SELECT row_number() OVER (ORDER BY at, kind, about) AS n, all_of.at, p.name AS person, kind, about, says, why FROM (
	SELECT created_at AS at, author_id AS person_id, CASE kind WHEN 'fix_plan' THEN 'fix plan' ELSE kind END AS kind, id AS about,
		name || ', version ' || version AS says, COALESCE((SELECT reason FROM decisions WHERE declaration_id = d.id LIMIT 1), '') AS why FROM declarations d WHERE dataset_id = $3
	UNION ALL SELECT asked_at, asked_by, 'less asked', id, 'a rulebook that asks less than version ' || from_version, reason FROM decisions WHERE dataset_id = $3
	UNION ALL SELECT decided_at, decided_by, outcome, id, 'decision ' || id, remark FROM decisions WHERE dataset_id = $3 AND outcome IS NOT NULL
	UNION ALL SELECT w.at, w.person_id, 'waived', i.id, i.title || ' (' || w.covers || COALESCE(', until ' || w.until, '') || ')', w.reason FROM waivers w JOIN issues i ON i.id = w.issue_id WHERE i.dataset_id = $3
	UNION ALL SELECT w.ended_at, w.ended_by, 'waiver ended', i.id, i.title || ' (' || w.covers || ')', '' FROM waivers w JOIN issues i ON i.id = w.issue_id WHERE i.dataset_id = $3 AND w.ended_at IS NOT NULL
	UNION ALL SELECT e.at, e.person_id, 'issue ' || e.kind, i.id, i.title, e.text FROM issue_entries e JOIN issues i ON i.id = e.issue_id
		WHERE i.dataset_id = $3 AND e.person_id IS NOT NULL AND e.kind IN ('closed', 'reopened', 'asked')
	UNION ALL SELECT q.settled_at, q.settled_by, CASE q.outcome WHEN 'taken_up' THEN 'answer taken up' ELSE 'answer left' END, s.id, q.found || ' (' || q.code || ')', q.became
		FROM questions q JOIN sheets s ON s.id = q.sheet_id JOIN issues i ON i.id = q.issue_id WHERE i.dataset_id = $3 AND q.settled_at IS NOT NULL
	UNION ALL SELECT w.at, w.person_id, 'withdrawn', t.id, 'table ' || t.id || ', ' || t.file_name, w.reason FROM withdrawals w JOIN tables t ON t.id = w.table_id WHERE t.dataset_id = $3
	UNION ALL SELECT c.created_at, c.created_by, 'certified', c.id, 'table ' || t.id || ', ' || t.file_name, COALESCE(c.statement->>'conditions', '')
		FROM certificates c JOIN tables t ON t.id = c.table_id WHERE t.dataset_id = $3
	UNION ALL SELECT r.at, r.person_id, 'revoked', c.id, 'certificate ' || c.id, r.reason FROM revocations r JOIN certificates c ON c.id = r.certificate_id JOIN tables t ON t.id = c.table_id WHERE t.dataset_id = $3
) all_of LEFT JOIN people p ON p.id = person_id`

// Decided lists what was decided of a dataset, newest first.
func Decided(ctx context.Context, q Querier, dataset int64, c Cursor) (*Page[records.Decided], error) {
	return page(ctx, q, c, func(d *records.Decided) int64 { return d.Number }, "SELECT * FROM ("+decided+") decided WHERE n < $1 ORDER BY n DESC LIMIT $2", dataset)
}
