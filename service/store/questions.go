package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

const sheetColumns = `SELECT s.id, s.recipient, s.address, s.title, s.says, to_char(s.due, 'YYYY-MM-DD') AS due, s.asked_again_at, s.link_serial, s.link_ends, s.link_revoked,
	p.name AS created_by, s.created_at, s.closed_at, q.questions, q.answered, q.settled,
	(s.closed_at IS NULL AND q.answered < q.questions AND s.due < (now() AT TIME ZONE 'UTC')::date) AS overdue
	FROM sheets s JOIN people p ON p.id = s.created_by
	JOIN LATERAL (SELECT count(*) AS questions, count(*) FILTER (WHERE EXISTS (SELECT FROM answers a WHERE a.question_id = x.id)) AS answered, count(x.outcome) AS settled
		FROM questions x WHERE x.sheet_id = s.id) q ON true`

const questionColumns = `SELECT q.id, q.sheet_id, q.issue_id, q.audit_id, d.name AS dataset, q.code, q.found, q.reason, q.item, q.supposes, a.answer, a."right", a.note, a.by AS answered_by, a.at AS answered_at, a.via, a.came_from,
	q.outcome, q.became, p.name AS settled_by, q.settled_at
	FROM questions q JOIN issues i ON i.id = q.issue_id JOIN datasets d ON d.id = i.dataset_id LEFT JOIN people p ON p.id = q.settled_by
	LEFT JOIN LATERAL (SELECT * FROM answers WHERE question_id = q.id ORDER BY id DESC LIMIT 1) a ON true`

// NewSheet is what AddSheet records.
type NewSheet struct {
	Recipient, Address, Title, Says string
	Due                             time.Time
	Days                            int
	LinkEnds                        time.Time
	CreatedBy                       int64
	Questions                       []NewQuestion
}

// NewQuestion is a question of a new sheet.
type NewQuestion struct {
	IssueID, AuditID              int64
	Code, Found, Reason, Supposes string
	Item                          json.RawMessage
}

// AddSheet records a sheet with its questions.
func AddSheet(ctx context.Context, q Querier, n NewSheet) (*Sheet, error) {
	id, err := get[int64](ctx, q, "sheet", "INSERT INTO sheets (recipient, address, title, says, due, days, link_ends, created_by) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id",
		n.Recipient, n.Address, n.Title, n.Says, n.Due, n.Days, n.LinkEnds, n.CreatedBy)
	if err != nil {
		return nil, err
	}
	for _, one := range n.Questions {
		if _, err := exec(ctx, q, "INSERT INTO questions (sheet_id, issue_id, audit_id, code, found, reason, supposes, item) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
			*id, one.IssueID, one.AuditID, one.Code, one.Found, one.Reason, one.Supposes, string(one.Item)); err != nil {
			return nil, err
		}
	}
	return FindSheet(ctx, q, *id)
}

// FindSheet returns a sheet by its id.
func FindSheet(ctx context.Context, q Querier, id int64) (*Sheet, error) {
	return get[Sheet](ctx, q, fmt.Sprintf("sheet %d", id), sheetColumns+" WHERE s.id = $1", id)
}

// seenSheets leaves out the sheets that ask about a dataset which somebody may not see.
func seenSheets(ctx context.Context) string {
	may := seen(ctx, "i.dataset_id")
	if may == "" {
		return ""
	}
	return " AND NOT EXISTS (SELECT FROM questions x JOIN issues i ON i.id = x.issue_id WHERE x.sheet_id = s.id AND NOT (true" + may + "))"
}

// Sheets lists sheets, newest first; open only those of which something is waited for.
func Sheets(ctx context.Context, q Querier, open bool, c Cursor) (*Page[Sheet], error) {
	return page(ctx, q, c, func(s *Sheet) int64 { return s.ID }, sheetColumns+" WHERE s.id < $1 AND (NOT $3 OR s.closed_at IS NULL)"+seenSheets(ctx)+" ORDER BY s.id DESC LIMIT $2", open)
}

// QuestionsIn lists the questions of a sheet in their order, with the last answers.
func QuestionsIn(ctx context.Context, q Querier, sheet int64) ([]Question, error) {
	return list[Question](ctx, q, questionColumns+" WHERE q.sheet_id = $1 ORDER BY q.id", sheet)
}

// QuestionsAbout lists the questions that were asked about an issue, those of the newest sheet first.
func QuestionsAbout(ctx context.Context, q Querier, issue int64) ([]Question, error) {
	return list[Question](ctx, q, questionColumns+" WHERE q.issue_id = $1 ORDER BY q.sheet_id DESC, q.id", issue)
}

// QuestionsByCode lists the questions with some codes.
func QuestionsByCode(ctx context.Context, q Querier, codes []string) ([]Question, error) {
	return list[Question](ctx, q, questionColumns+" WHERE q.code = ANY($1) ORDER BY q.id", codes)
}

// QuestionsForDataset lists all questions that were asked about a dataset, in their order.
func QuestionsForDataset(ctx context.Context, q Querier, dataset int64) ([]Question, error) {
	return list[Question](ctx, q, questionColumns+" WHERE i.dataset_id = $1 ORDER BY q.id", dataset)
}

// NewAnswer is what AddAnswer records.
type NewAnswer struct {
	QuestionID int64
	Answer     string
	Right      json.RawMessage
	Note, By   string
	PersonID   int64 // who entered it; 0 for the link
	Via        string
	CameFrom   string
}

// AddAnswer records an answer, unless the one that is there was taken up or left: false says so. The same answer again adds none.
func AddAnswer(ctx context.Context, q Querier, n NewAnswer) (bool, error) {
	now, err := get[Question](ctx, q, "question", questionColumns+" WHERE q.id = $1 FOR UPDATE OF q", n.QuestionID)
	if err != nil || now.Outcome != nil {
		return false, err
	}
	if now.Answer != nil && *now.Answer == n.Answer && string(*now.Right) == string(n.Right) && *now.Note == n.Note {
		return true, nil
	}
	_, err = exec(ctx, q, `INSERT INTO answers (question_id, answer, "right", note, by, person_id, via, came_from) VALUES ($1, $2, $3, $4, $5, NULLIF($6::bigint, 0), $7, $8)`,
		n.QuestionID, n.Answer, string(n.Right), n.Note, n.By, n.PersonID, n.Via, n.CameFrom)
	return true, err
}

// Settle records what a steward made of an answer; false where somebody did before.
func Settle(ctx context.Context, q Querier, question, person int64, outcome, became string) (bool, error) {
	return changed(exec(ctx, q, "UPDATE questions SET outcome = $2, became = $3, settled_by = $4, settled_at = now() WHERE id = $1 AND outcome IS NULL",
		question, outcome, became, person))
}

// CloseSheet says that nothing of a sheet is waited for any more; false where that was said before.
func CloseSheet(ctx context.Context, q Querier, id int64) (bool, error) {
	return changed(exec(ctx, q, "UPDATE sheets SET closed_at = now() WHERE id = $1 AND closed_at IS NULL", id))
}

// CloseSettledSheets closes the sheets of questions of which every answer was taken up or left.
func CloseSettledSheets(ctx context.Context, q Querier) error {
	_, err := exec(ctx, q, "UPDATE sheets s SET closed_at = now() WHERE closed_at IS NULL AND NOT EXISTS (SELECT FROM questions x WHERE x.sheet_id = s.id AND x.outcome IS NULL)")
	return err
}

// RenewLink makes a new link to a sheet, which ends at a time, and all links of before worthless.
func RenewLink(ctx context.Context, q Querier, id int64, ends time.Time) error {
	_, err := exec(ctx, q, "UPDATE sheets SET link_serial = link_serial + 1, link_ends = $2, link_revoked = false WHERE id = $1", id, ends)
	return err
}

// RevokeLink makes the links to a sheet worthless.
func RevokeLink(ctx context.Context, q Querier, id int64) error {
	_, err := exec(ctx, q, "UPDATE sheets SET link_revoked = true, link_serial = link_serial + 1 WHERE id = $1", id)
	return err
}

// AskAgain marks the sheets whose day is over, of which something is not answered, and which were not asked again yet, and
// returns them: whoever marks one asks it again. They have as many days again.
func AskAgain(ctx context.Context, q Querier) ([]Sheet, error) {
	ids, err := list[int64](ctx, q, `UPDATE sheets s SET asked_again_at = now(), due = (now() AT TIME ZONE 'UTC')::date + days,
			link_ends = greatest(link_ends, now() + make_interval(days => days + 7))
		WHERE closed_at IS NULL AND asked_again_at IS NULL AND due < (now() AT TIME ZONE 'UTC')::date
		AND EXISTS (SELECT FROM questions x WHERE x.sheet_id = s.id AND NOT EXISTS (SELECT FROM answers a WHERE a.question_id = x.id)) RETURNING id`)
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return list[Sheet](ctx, q, sheetColumns+" WHERE s.id = ANY($1) ORDER BY s.id", ids)
}

// Unanswered lists the sheets that were asked again and whose day is over once more, the longest overdue first, at most so many.
func Unanswered(ctx context.Context, q Querier, most int) ([]Sheet, error) {
	return list[Sheet](ctx, q, sheetColumns+` WHERE s.closed_at IS NULL AND s.asked_again_at IS NOT NULL AND q.answered < q.questions
		AND s.due < (now() AT TIME ZONE 'UTC')::date`+seenSheets(ctx)+` ORDER BY s.due, s.id LIMIT $1`, most)
}

// AnsweredSheets lists the sheets with answers that nobody has taken up or left yet, at most so many.
func AnsweredSheets(ctx context.Context, q Querier, most int) ([]Sheet, error) {
	return list[Sheet](ctx, q, sheetColumns+` WHERE s.closed_at IS NULL AND EXISTS (SELECT FROM questions x WHERE x.sheet_id = s.id AND x.outcome IS NULL
		AND EXISTS (SELECT FROM answers a WHERE a.question_id = x.id))`+seenSheets(ctx)+` ORDER BY s.id LIMIT $1`, most)
}

// EnteredBy lists who entered answers to questions about a dataset, of those that were taken up since a time.
func EnteredBy(ctx context.Context, q Querier, dataset int64, since time.Time) ([]string, error) {
	return list[string](ctx, q, `SELECT DISTINCT p.name FROM answers a JOIN questions x ON x.id = a.question_id JOIN issues i ON i.id = x.issue_id JOIN people p ON p.id = a.person_id
		WHERE i.dataset_id = $1 AND a.at > $2 AND x.outcome = 'taken_up' ORDER BY p.name`, dataset, since)
}
