package store

import (
	"context"
	"encoding/json"

	"proudsieve/service/records"
)

// The kinds of what people and programs are told of.
const (
	NoticeArrived  = "delivery_arrived"
	NoticeLate     = "delivery_late"
	NoticeShort    = "fell_short"
	NoticeCameBack = "issue_came_back"
	NoticeAnswered = "question_answered"
	NoticeSigned   = "certificate_signed"
	NoticeRevoked  = "certificate_revoked"
	NoticeFailed   = "job_failed"
)

// NoticeKinds lists them in the order in which they are shown.
var NoticeKinds = []string{NoticeArrived, NoticeLate, NoticeShort, NoticeCameBack, NoticeAnswered, NoticeSigned, NoticeRevoked, NoticeFailed}

// NewNotice is what AddNotice records.
type NewNotice struct {
	Key       string // what it is about; told once
	Kind      string
	DatasetID int64
	Says      string
	Path      string         // of the page that shows it
	Facts     map[string]any // nil for none
	PersonID  int64          // whose deed it was; 0 for the service's own
}

// AddNotice records a notice and what is to be sent of it, of which it returns the ids: to the receivers, and by mail to those who
// want it unless it was their own deed. One whose key is known is not told again.
func AddNotice(ctx context.Context, q Querier, n NewNotice, byMail bool) (sendings []int64, err error) {
	if n.Facts == nil {
		n.Facts = map[string]any{}
	}
	facts, err := json.Marshal(n.Facts)
	if err != nil {
		return nil, err
	}
	return list[int64](ctx, q, `WITH told AS (INSERT INTO notices (key, kind, dataset_id, says, path, facts, person_id)
			VALUES ($1, $2, $3, $4, $5, $6, nullif($7::bigint, 0)) ON CONFLICT (key) DO NOTHING RETURNING id)
		INSERT INTO sendings (notice_id, person_id, receiver_id)
		SELECT told.id, p.id, NULL::bigint FROM told, people p JOIN notice_choices c ON c.person_id = p.id AND c.kind = $2 AND c.mailed
			WHERE $8 AND p.address <> '' AND p.disabled_at IS NULL AND p.id <> $7 AND `+inScope("p.id", "$3")+`
		UNION ALL SELECT told.id, NULL, r.id FROM told, receivers r WHERE r.removed_at IS NULL AND (r.kinds = '[]' OR r.kinds @> to_jsonb($2::text))
		RETURNING id`, n.Key, n.Kind, n.DatasetID, n.Says, n.Path, string(facts), n.PersonID, byMail)
}

// inScope holds for a person who may be told of a dataset, and wants to be.
func inScope(person, dataset string) string {
	return "(NOT (SELECT confined FROM people WHERE id = " + person + ") OR EXISTS (SELECT 1 FROM dataset_rights r WHERE r.person_id = " + person + " AND r.dataset_id = " +
		dataset + ")) AND (NOT EXISTS (SELECT 1 FROM notice_datasets s WHERE s.person_id = " + person + ") OR EXISTS (SELECT 1 FROM notice_datasets s WHERE s.person_id = " +
		person + " AND s.dataset_id = " + dataset + "))"
}

const noticeColumns = `SELECT n.id, n.event, n.kind, d.name AS dataset, n.says, n.path, n.facts, coalesce(p.name, '') AS by, n.at
	FROM notices n JOIN datasets d ON d.id = n.dataset_id LEFT JOIN people p ON p.id = n.person_id`

// listed holds for the notices that a person wants in their list.
func listed(ctx context.Context, person string) string {
	return "NOT EXISTS (SELECT 1 FROM notice_choices c WHERE c.person_id = " + person + " AND c.kind = n.kind AND NOT c.listed) AND " + inScope(person, "n.dataset_id") +
		seen(ctx, "n.dataset_id")
}

// Notices lists what a person wants to be told of, newest first; kind and dataset may be left empty.
func Notices(ctx context.Context, q Querier, person int64, kind, dataset string, c Cursor) (*Page[Notice], error) {
	return page(ctx, q, c, func(n *Notice) int64 { return n.ID }, noticeColumns+` WHERE n.id < $1 AND ($4 = '' OR n.kind = $4) AND ($5 = '' OR d.name = $5)
		AND `+listed(ctx, "$3")+` ORDER BY n.id DESC LIMIT $2`, person, kind, dataset)
}

// FindNotice returns a notice by its id.
func FindNotice(ctx context.Context, q Querier, id int64) (*Notice, error) {
	return get[Notice](ctx, q, "such notice", noticeColumns+" WHERE n.id = $1", id)
}

// NoticeState is how far the notices are. Those of transactions that end late come with earlier numbers, so that the last number
// alone does not tell.
type NoticeState struct {
	At   int64 `db:"at"`   // the last one
	Late int64 `db:"late"` // how many there are among the last hundred numbers
}

// NoticesNow returns how far the notices are.
func NoticesNow(ctx context.Context, q Querier) (*NoticeState, error) {
	return get[NoticeState](ctx, q, "state", `SELECT coalesce(max(id), 0) AS at, count(*) AS late FROM notices WHERE id > (SELECT coalesce(max(id), 0) FROM notices) - 100`)
}

// UnseenNotices counts the notices in a person's list that they have not seen, up to most.
func UnseenNotices(ctx context.Context, q Querier, person int64, most int) (int64, error) {
	n, err := get[int64](ctx, q, "count", `SELECT count(*) FROM (SELECT 1 FROM notices n WHERE n.id > (SELECT notices_seen FROM people WHERE id = $1)
		AND n.person_id IS DISTINCT FROM $1 AND `+listed(ctx, "$1")+` LIMIT $2) seen`, person, most)
	if err != nil {
		return 0, err
	}
	return *n, nil
}

// SeeNotices notes that a person has seen the notices up to one.
func SeeNotices(ctx context.Context, q Querier, person, last int64) error {
	_, err := exec(ctx, q, "UPDATE people SET notices_seen = greatest(notices_seen, least($2, (SELECT coalesce(max(id), 0) FROM notices))) WHERE id = $1", person, last)
	return err
}

// NoticeChoices returns how a person wants to be told, by every kind, where the mail goes, and of which datasets: of all where there
// is none.
func NoticeChoices(ctx context.Context, q Querier, person int64) (choices []records.NoticeChoice, address string, datasets []string, err error) {
	made, err := list[records.NoticeChoice](ctx, q, "SELECT kind, listed, mailed FROM notice_choices WHERE person_id = $1", person)
	if err != nil {
		return nil, "", nil, err
	}
	for _, kind := range NoticeKinds {
		one := records.NoticeChoice{Kind: kind, Listed: true}
		for _, c := range made {
			if c.Kind == kind {
				one = c
			}
		}
		choices = append(choices, one)
	}
	at, err := get[string](ctx, q, "person", "SELECT address FROM people WHERE id = $1", person)
	if err != nil {
		return nil, "", nil, err
	}
	datasets, err = list[string](ctx, q, "SELECT d.name FROM notice_datasets s JOIN datasets d ON d.id = s.dataset_id WHERE s.person_id = $1 ORDER BY d.name", person)
	return choices, *at, datasets, err
}

// Choose notes how a person wants to be told of the kinds that are given, at which address, and of which datasets.
func Choose(ctx context.Context, q Querier, person int64, choices []records.NoticeChoice, address string, datasets []int64) error {
	for _, c := range choices {
		if _, err := exec(ctx, q, `INSERT INTO notice_choices (person_id, kind, listed, mailed) VALUES ($1, $2, $3, $4)
			ON CONFLICT (person_id, kind) DO UPDATE SET listed = $3, mailed = $4`, person, c.Kind, c.Listed, c.Mailed); err != nil {
			return err
		}
	}
	if _, err := exec(ctx, q, "UPDATE people SET address = $2 WHERE id = $1", person, address); err != nil {
		return err
	}
	if _, err := exec(ctx, q, "DELETE FROM notice_datasets WHERE person_id = $1", person); err != nil {
		return err
	}
	_, err := exec(ctx, q, "INSERT INTO notice_datasets (person_id, dataset_id) SELECT $1, unnest($2::bigint[])", person, datasets)
	return err
}
