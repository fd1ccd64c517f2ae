package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	"proudsieve/core/export"
	"proudsieve/core/question"
	"proudsieve/core/table"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/telling"
)

// NewSheet is what somebody is asked.
type NewSheet struct {
	Issues    []int64           `json:"issues" minItems:"1" maxItems:"100" minimum:"1" maximum:"9007199254740991"`
	Recipient string            `json:"recipient" minLength:"1" maxLength:"200" doc:"Who is asked; they need no account"`
	Address   string            `json:"address,omitempty" maxLength:"200" doc:"Their e-mail address: the link is mailed there where a mail server is set up"`
	Title     string            `json:"title,omitempty" maxLength:"200" doc:"What the page is called"`
	Says      string            `json:"says,omitempty" maxLength:"4000" doc:"What is said before the questions"`
	Supposes  map[string]string `json:"supposes,omitempty" doc:"What you take to be so, by the number of the issue"`
	Days      int               `json:"days,omitempty" minimum:"0" maximum:"365" doc:"In how many days it is to be answered; 14 where it is left out"`
}

const (
	daysToAnswer = 14
	// linkOutlives is how many days a link is good after the day on which an answer is due.
	linkOutlives = 30
	// questionsMost is how many questions a sheet has.
	questionsMost = 500
)

// sheets adds the operations on what the owners of data are asked.
func (s *Server) sheets() {
	type made struct{ Body NewSheet }
	register(s, operation{
		Right: access.Discuss, ID: "add-sheet", Method: http.MethodPost, Path: "/sheets",
		Summary: "Ask the owner of the data about issues: a sheet of questions, each with a code, behind a link that needs no account",
	}, func(ctx context.Context, in *made) (*body[records.SheetShown], error) {
		return answer(s.ask(ctx, in.Body))
	})
	type listed struct {
		Paging
		Open bool `query:"open" doc:"Only those of which something is waited for"`
	}
	register(s, operation{
		Right: access.Read, ID: "list-sheets", Method: http.MethodGet, Path: "/sheets",
		Summary: "What was asked, newest first",
	}, func(ctx context.Context, in *listed) (*body[records.Page[records.Sheet]], error) {
		return answer(store.Sheets(seen(ctx), s.Store.DB, in.Open, in.cursor()))
	})
	register(s, operation{
		Right: access.Read, ID: "show-sheet", Method: http.MethodGet, Path: "/sheets/{id}",
		Summary: "A sheet with its questions and the last answer to each. The link is told to those who may discuss; without the right to work, personal data are masked",
	}, func(ctx context.Context, in *ByID) (*body[records.SheetShown], error) {
		return answer(s.sheet(ctx, in.ID))
	})
	type asFile struct {
		ByID
		Format string `query:"format" enum:"csv,xlsx" default:"xlsx"`
	}
	register(s, operation{
		Right: access.Read, ID: "download-sheet", Method: http.MethodGet, Path: "/sheets/{id}/file",
		Summary: "A sheet as a workbook or CSV with room for the answers, a line for each question; personal data are masked",
	}, func(ctx context.Context, in *asFile) (*huma.StreamResponse, error) {
		content, kind, disposition, err := s.sheetFile(ctx, in.ID, in.Format)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			out.SetHeader("Content-Type", kind)
			out.SetHeader("Content-Disposition", disposition)
			_, _ = out.BodyWriter().Write(content)
		}}, nil
	})
	type linked struct {
		ByID
		Body struct {
			Days int `json:"days" minimum:"1" maximum:"365" doc:"For how many days the link is good"`
		}
	}
	register(s, operation{
		Right: access.Discuss, ID: "renew-link", Method: http.MethodPost, Path: "/sheets/{id}/link",
		Summary: "Make a new link to a sheet; those of before lead nowhere then",
	}, func(ctx context.Context, in *linked) (*body[records.SheetShown], error) {
		return s.changeLink(ctx, in.ID, "made a new link to a sheet of questions", func(tx *sqlx.Tx) error {
			sheet, err := store.FindSheet(ctx, tx, in.ID)
			if err == nil && sheet.ClosedAt != nil {
				err = huma.NewError(http.StatusConflict, fmt.Sprintf("Sheet %d is closed: nothing of it is waited for any more.", in.ID))
			}
			if err != nil {
				return err
			}
			if err := store.RenewLink(ctx, tx, in.ID, time.Now().AddDate(0, 0, in.Body.Days)); err != nil {
				return err
			}
			_, err = s.Pool.SendSheet(ctx, tx, in.ID, false)
			return err
		})
	})
	register(s, operation{
		Right: access.Discuss, ID: "revoke-link", Method: http.MethodDelete, Path: "/sheets/{id}/link",
		Summary: "Take back the link to a sheet",
	}, func(ctx context.Context, in *ByID) (*body[records.SheetShown], error) {
		return s.changeLink(ctx, in.ID, "took back the link to a sheet of questions", func(tx *sqlx.Tx) error { return store.RevokeLink(ctx, tx, in.ID) })
	})
	register(s, operation{
		Right: access.Discuss, ID: "close-sheet", Method: http.MethodPost, Path: "/sheets/{id}/closing",
		Summary: "Say that nothing of a sheet is waited for any more; its link leads nowhere then",
	}, func(ctx context.Context, in *ByID) (*body[records.SheetShown], error) {
		return s.changeLink(ctx, in.ID, "closed a sheet of questions", func(tx *sqlx.Tx) error {
			closed, err := store.CloseSheet(ctx, tx, in.ID)
			if err == nil && !closed {
				err = huma.NewError(http.StatusConflict, fmt.Sprintf("Sheet %d is closed already.", in.ID))
			}
			return err
		})
	})
	s.answers()
	s.takingUp()
}

// changeLink changes something of a sheet and returns it.
func (s *Server) changeLink(ctx context.Context, id int64, action string, change func(tx *sqlx.Tx) error) (*body[records.SheetShown], error) {
	err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		if _, err := store.FindSheet(ctx, tx, id); err != nil {
			return err
		}
		if err := change(tx); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, action, fmt.Sprintf("sheet %d", id), nil)
	})
	if err != nil {
		return nil, err
	}
	return answer(s.sheet(ctx, id))
}

// sheet is a sheet as the caller may see it.
func (s *Server) sheet(ctx context.Context, id int64) (*records.SheetShown, error) {
	found, err := store.FindSheet(ctx, s.Store.DB, id)
	if err != nil {
		return nil, err
	}
	out := &records.SheetShown{Sheet: *found}
	if out.Asked, err = store.QuestionsIn(ctx, s.Store.DB, id); err != nil {
		return nil, err
	}
	if access.Role(caller(ctx).Role).May(access.Discuss) && !found.LinkRevoked && found.ClosedAt == nil {
		out.Link = s.linkTo(found)
	}
	if out.Sent, err = store.SheetSendings(ctx, s.Store.DB, id); err != nil {
		return nil, err
	}
	return out, maskFor(caller(ctx), out.Asked)
}

// maskFor masks personal data in questions for a caller who does not work with them.
func maskFor(c *store.Caller, all []records.Question) error {
	if access.Role(c.Role).May(access.Work) {
		return nil
	}
	for i := range all {
		q, err := asQuestion(&all[i])
		if err != nil {
			return err
		}
		if all[i].Item, err = json.Marshal(q.Item.Shown()); err != nil {
			return err
		}
	}
	return nil
}

// linkTo is the way to the page of a sheet, from the beginning of the service's address.
func (s *Server) linkTo(sheet *records.Sheet) string { return telling.LinkTo(sheet, s.Pool.Secret) }

// asQuestion is a question as it is asked.
func asQuestion(q *records.Question) (*question.Question, error) {
	out := &question.Question{Code: q.Code, Dataset: q.Dataset, Found: q.Found, Reason: q.Reason, Supposes: q.Supposes}
	return out, json.Unmarshal(q.Item, &out.Item)
}

func asQuestions(all []records.Question) ([]question.Question, error) {
	out := make([]question.Question, len(all))
	for i := range all {
		q, err := asQuestion(&all[i])
		if err != nil {
			return nil, err
		}
		out[i] = *q
	}
	return out, nil
}

// sheetFiles are the forms in which a sheet is written as a file, with room for the answers.
var sheetFiles = map[string]func(io.Writer, []question.Question) error{"csv": question.WriteCSV, "xlsx": question.WriteWorkbook}

// sheetFile writes the questions of a sheet as a file, and what says of it what it is.
func (s *Server) sheetFile(ctx context.Context, sheet int64, format string) (content []byte, kind, disposition string, err error) {
	write := sheetFiles[format]
	if write == nil {
		return nil, "", "", huma.NewError(http.StatusNotFound, "There is nothing at this address.")
	}
	all, err := store.QuestionsIn(ctx, s.Store.DB, sheet)
	if err != nil {
		return nil, "", "", err
	}
	questions, err := asQuestions(all)
	if err != nil {
		return nil, "", "", err
	}
	var out bytes.Buffer
	err = write(&out, questions)
	return out.Bytes(), export.FormatOf(format).MediaType, fmt.Sprintf(`attachment; filename="questions-%d.%s"`, sheet, format), err
}

// ask makes a sheet of questions out of issues, which wait for their answers then.
func (s *Server) ask(ctx context.Context, in NewSheet) (*records.SheetShown, error) {
	if in.Days == 0 {
		in.Days = daysToAnswer
	}
	if in.Address != "" {
		if err := telling.CheckAddress(in.Address); err != nil {
			return nil, invalid("%s", sentence(err))
		}
	}
	if in.Title == "" {
		in.Title = "Questions about your data"
	}
	n := store.NewSheet{Recipient: in.Recipient, Address: in.Address, Title: in.Title, Says: in.Says, Days: in.Days, CreatedBy: caller(ctx).ID,
		Due: time.Now().UTC().AddDate(0, 0, in.Days), LinkEnds: time.Now().AddDate(0, 0, in.Days+linkOutlives)}
	slices.Sort(in.Issues)
	var issues []*records.Issue
	for _, id := range slices.Compact(in.Issues) {
		i, err := store.FindIssue(ctx, s.Store.DB, id)
		if err != nil {
			return nil, err
		}
		if err := mayIn(caller(ctx), access.Discuss, i.DatasetID); err != nil {
			return nil, err
		}
		if i.State == store.IssueClosed || i.AuditID == nil {
			return nil, huma.NewError(http.StatusConflict, fmt.Sprintf("Issue %d is closed, and there is nothing to ask about it.", id))
		}
		asked, err := s.questionsOf(ctx, i, in.Supposes[fmt.Sprint(id)])
		if err != nil {
			return nil, err
		}
		n.Questions = append(n.Questions, asked...)
		issues = append(issues, i)
	}
	if len(n.Questions) > questionsMost {
		return nil, invalid("These issues make %s, and nobody answers more than %d at once; ask about fewer of them.", document.Counted(int64(len(n.Questions)), "question", "questions"), questionsMost)
	}
	var id int64
	err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		made, err := store.AddSheet(ctx, tx, n)
		if err != nil {
			return err
		}
		id = made.ID
		asked, due := store.IssueAsked, made.Due
		for _, i := range issues {
			if err := s.settled(ctx, tx, i, "asked about an issue", store.IssueChange{State: &asked, Owner: &in.Recipient, Due: &due}); err != nil {
				return err
			}
			if err := store.AddIssueEntry(ctx, tx, i.ID, caller(ctx).ID, "asked", fmt.Sprintf("%s, by sheet %d, until %s.", in.Recipient, id, due), nil); err != nil {
				return err
			}
		}
		if _, err := s.Pool.SendSheet(ctx, tx, id, false); err != nil {
			return err
		}
		return store.Record(ctx, tx, caller(ctx).ID, "asked the owner of the data", fmt.Sprintf("sheet %d", id), map[string]any{"recipient": in.Recipient, "questions": len(n.Questions)})
	})
	if err != nil {
		return nil, err
	}
	return s.sheet(ctx, id)
}

// questionsOf makes questions of an issue, of what was last found of it.
func (s *Server) questionsOf(ctx context.Context, i *records.Issue, supposes string) ([]store.NewQuestion, error) {
	a, err := store.FindAudit(ctx, s.Store.DB, *i.AuditID)
	if err != nil {
		return nil, err
	}
	accepted, done, err := s.accepted(ctx, a)
	if err != nil {
		return nil, err
	}
	defer done()
	asked := &question.Asked{Items: []question.Item{{Kind: question.OfWhole}}}
	personal := question.Personal(accepted.Result)
	reason, found := "", i.Title
	var about records.IssueSubject
	if err := json.Unmarshal(i.About, &about); err != nil {
		return nil, err
	}
	switch i.Subject {
	case "rule":
		f := accepted.Result.Finding(i.Rule)
		if f == nil {
			return nil, huma.NewError(http.StatusConflict, fmt.Sprintf("Audit %d found nothing of the rule %s.", a.ID, i.Rule))
		}
		reason = f.Reason
		t, err := accepted.Open()
		if err != nil {
			return nil, err
		}
		if asked, err = question.OfFinding(ctx, t, f, func() (*table.RowSet, error) { return accepted.Rows(i.Rule) }, personal); err != nil {
			return nil, err
		}
	case "text":
		asked.Items = []question.Item{{Kind: question.OfText, Column: about.Columns[0], Text: about.Text, Rows: i.Rows, Masked: personal}}
	case "rows":
		t, err := accepted.Open()
		if err != nil {
			return nil, err
		}
		set := table.NewRowSet()
		set.AddMany(about.Rows)
		if asked.Items, err = question.OfRows(ctx, t, set, about.Columns, personal); err != nil {
			return nil, err
		}
		asked.Left = int64(len(about.Rows) - len(asked.Items))
	}
	if asked.Left > 0 {
		found = fmt.Sprintf("%s %s of these are not asked about here.", found, document.Grouped(asked.Left))
	}
	out := make([]store.NewQuestion, len(asked.Items))
	for k, item := range asked.Items {
		out[k] = store.NewQuestion{IssueID: i.ID, AuditID: a.ID, Found: found, Reason: reason, Supposes: supposes}
		if out[k].Code, err = access.NewCode(); err != nil {
			return nil, err
		}
		if out[k].Item, err = json.Marshal(item); err != nil {
			return nil, err
		}
	}
	return out, nil
}
