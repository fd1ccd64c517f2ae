package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/question"
	"proudsieve/service/access"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/report"
	"proudsieve/service/store"
)

// AnswersGiven are answers that somebody who is signed in enters, or that a file holds.
type AnswersGiven struct {
	Arrival int64            `json:"arrival,omitempty" minimum:"0" maximum:"9007199254740991" doc:"A file of answers that was sent as an arrival"`
	Given   []question.Given `json:"given,omitempty" maxItems:"500" doc:"Or the answers themselves"`
	By      string           `json:"by,omitempty" maxLength:"200" doc:"Who gave them; who was asked where it is left out"`
}

// AnswersTaken says what became of answers.
type AnswersTaken struct {
	Taken      int                `json:"taken"`
	Refused    []question.Refusal `json:"refused" doc:"Lines that do not fit, each with why; nothing of them was taken"`
	Unanswered int64              `json:"unanswered" doc:"Lines without an answer"`
}

// answers adds the operation that takes answers in from those who have an account.
func (s *Server) answers() {
	type given struct{ Body AnswersGiven }
	register(s, operation{
		Right: access.Discuss, ID: "take-answers", Method: http.MethodPost, Path: "/answers",
		Summary: "Take in answers to questions, by their codes: those of a file that came back, or those that were told. What does not fit is refused line by line",
	}, func(ctx context.Context, in *given) (*body[AnswersTaken], error) {
		if (in.Body.Arrival == 0) == (len(in.Body.Given) == 0) {
			return nil, invalid("Send answers, or the number of a file that was sent as an arrival.")
		}
		if in.Body.Arrival > 0 {
			return answer(s.answersIn(ctx, in.Body))
		}
		return answer(s.entered(ctx, in.Body))
	})
}

// answersIn takes in a file of answers.
func (s *Server) answersIn(ctx context.Context, in AnswersGiven) (*AnswersTaken, error) {
	a, err := s.ownArrival(ctx, in.Arrival, "")
	if err != nil {
		return nil, err
	}
	d, err := detect.Detect(ctx, files.At(s.Files, a.Digest), intake.Reading{})
	if err != nil {
		return nil, invalid("%s cannot be read as a table: %v.", a.FileName, err)
	}
	defer d.File.Close()
	codes, err := question.Codes(ctx, d.File)
	if err != nil {
		return nil, invalid("%s", sentence(err))
	}
	all, err := store.QuestionsByCode(ctx, s.Store.DB, codes)
	if err != nil {
		return nil, err
	}
	questions, err := asQuestions(all)
	if err != nil {
		return nil, err
	}
	read, err := asked(question.ReadAnswers(ctx, d.File, questions))
	if err != nil {
		return nil, err
	}
	out := &AnswersTaken{Refused: read.Refused, Unanswered: read.Unanswered}
	return out, s.take(ctx, all, read.Given, store.NewAnswer{By: in.By, PersonID: caller(ctx).ID, Via: "file", CameFrom: addressIn(ctx)}, out)
}

// entered takes in answers that somebody was told, on the telephone.
func (s *Server) entered(ctx context.Context, in AnswersGiven) (*AnswersTaken, error) {
	codes := make([]string, len(in.Given))
	for i, g := range in.Given {
		codes[i] = g.Code
	}
	all, err := store.QuestionsByCode(ctx, s.Store.DB, codes)
	if err != nil {
		return nil, err
	}
	out := &AnswersTaken{Refused: []question.Refusal{}}
	return out, s.take(ctx, all, in.Given, store.NewAnswer{By: in.By, PersonID: caller(ctx).ID, Via: "entry", CameFrom: addressIn(ctx)}, out)
}

// take records answers that fit their questions, and tells which do not.
func (s *Server) take(ctx context.Context, all []records.Question, given []question.Given, as store.NewAnswer, out *AnswersTaken) error {
	if c := caller(ctx); c != nil && c.Confined { // a code of a dataset that they may not see is none to them
		var err error
		all = slices.DeleteFunc(slices.Clone(all), func(q records.Question) bool {
			refused := s.reachThing(ctx, c, access.Discuss, "sheets", fmt.Sprint(q.SheetID))
			if refused != nil && refused != errNothingThere {
				err = refused
			}
			return refused != nil
		})
		if err != nil {
			return err
		}
	}
	return s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		touched, sheets := map[int64]bool{}, map[int64]int{}
		for n, g := range given {
			at := slices.IndexFunc(all, func(q records.Question) bool { return q.Code == g.Code })
			refuse := func(says string) {
				out.Refused = append(out.Refused, question.Refusal{Line: int64(n + 1), Code: g.Code, Says: says})
			}
			if at < 0 {
				refuse(fmt.Sprintf("%q is the code of none of the questions that were asked", g.Code))
				continue
			}
			q, err := asQuestion(&all[at])
			if err != nil {
				return err
			}
			if err := g.Check(q); err != nil {
				refuse(err.Error())
				continue
			}
			taken, err := s.takeOne(ctx, tx, &all[at], q, g, as)
			if err != nil {
				return err
			}
			if !taken {
				refuse("its answer was acted on already; tell those who asked")
				continue
			}
			out.Taken++
			touched[all[at].IssueID] = true
			sheets[all[at].SheetID]++
		}
		for issue := range touched {
			if err := s.answeredAll(ctx, tx, issue); err != nil {
				return err
			}
		}
		for _, sheet := range slices.Sorted(maps.Keys(sheets)) {
			at := slices.IndexFunc(all, func(q records.Question) bool { return q.SheetID == sheet })
			if err := s.tellAnswered(ctx, tx, sheet, sheets[sheet], &all[at], as); err != nil {
				return err
			}
		}
		return nil
	})
}

// tellAnswered tells that questions of a sheet were answered.
func (s *Server) tellAnswered(ctx context.Context, tx *sqlx.Tx, id int64, answers int, of *records.Question, as store.NewAnswer) error {
	sheet, err := store.FindSheet(ctx, tx, id)
	if err != nil {
		return err
	}
	d, err := store.FindDataset(ctx, tx, of.Dataset)
	if err != nil {
		return err
	}
	key, err := access.NewSecret("answered ") // each time that somebody answers
	if err != nil {
		return err
	}
	return s.Pool.Tell(ctx, tx, store.NewNotice{Key: key, Kind: store.NoticeAnswered, DatasetID: d.ID, PersonID: as.PersonID,
		Says: fmt.Sprintf("%s answered %s of sheet %d about %s.", cmp.Or(as.By, sheet.Recipient), document.Counted(int64(answers), "question", "questions"), id, of.Dataset),
		Path: fmt.Sprintf("/questions/%d", id), Facts: map[string]any{"sheet": id, "answers": answers}})
}

func (s *Server) takeOne(ctx context.Context, tx *sqlx.Tx, r *records.Question, q *question.Question, g question.Given, as store.NewAnswer) (bool, error) {
	if as.By == "" {
		sheet, err := store.FindSheet(ctx, tx, r.SheetID)
		if err != nil {
			return false, err
		}
		as.By = sheet.Recipient
	}
	right := g.Right
	if right == nil {
		right = map[string]string{}
	}
	raw, err := json.Marshal(right)
	if err != nil {
		return false, err
	}
	as.QuestionID, as.Answer, as.Right, as.Note = r.ID, string(g.Answer), raw, g.Note
	taken, err := store.AddAnswer(ctx, tx, as)
	if err != nil || !taken {
		return false, err
	}
	return true, store.AddIssueEntry(ctx, tx, r.IssueID, as.PersonID, "answered", saysAnswer(q, g, as.By), nil)
}

// saysAnswer tells an answer in a sentence, as the record of its issue has it.
func saysAnswer(q *question.Question, g question.Given, by string) string {
	says := by + ", " + q.Code
	shown := q.Item.Shown() // whoever may read the record need not see personal data
	if about := shown.Says(); about != "" {
		says += " (" + about + ")"
	}
	says += ": " + g.Answer.Says()
	var right []string
	for _, column := range q.Item.Correctable() {
		if text, said := g.Right[column]; said {
			right = append(right, fmt.Sprintf("%q in %s", text, column))
		}
	}
	if len(right) > 0 {
		says += " " + document.Join(right) + "."
	}
	if g.Note != "" {
		says += " " + g.Note
	}
	return says
}

// answeredAll gives an issue back to those who work on it once every question about it has an answer but that it comes again.
func (s *Server) answeredAll(ctx context.Context, tx *sqlx.Tx, issue int64) error {
	all, err := store.QuestionsAbout(ctx, tx, issue)
	if err != nil {
		return err
	}
	for _, q := range all {
		if q.Answer == nil && q.Outcome == nil || q.Answer != nil && *q.Answer == string(question.ComesAgain) && q.Outcome == nil {
			return nil
		}
	}
	i, err := store.FindIssue(ctx, tx, issue)
	if err != nil || i.State != store.IssueAsked {
		return err
	}
	open := store.IssueOpen
	return store.ChangeIssue(ctx, tx, i.ID, i.Version, store.IssueChange{State: &open})
}

// answerPages are what somebody without an account sees: the page of a sheet, its files, and what takes their answers.
func (s *Server) answerPages(r chi.Router) {
	r.Get("/{link}", s.paced(s.showAnswerPage))
	r.Post("/{link}", s.paced(s.takeAnswerPage))
	r.Get("/{link}/questions.{format}", s.paced(func(w http.ResponseWriter, r *http.Request, sheet *records.Sheet) error {
		content, kind, disposition, err := s.sheetFile(r.Context(), sheet.ID, chi.URLParam(r, "format"))
		if err != nil {
			return err
		}
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Content-Disposition", disposition)
		_, _ = w.Write(content)
		return nil
	}))
}

const (
	// asksAMinute is how often an address may ask for pages of sheets in a minute, and sendsAMinute how often one sheet takes
	// answers.
	asksAMinute  = 120
	sendsAMinute = 20
	// answersBody bounds what is sent from the page of a sheet.
	answersBody = 8 << 20
)

// paced finds the sheet that a link leads to, for an address that has not asked too often.
func (s *Server) paced(next func(http.ResponseWriter, *http.Request, *records.Sheet) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Referrer-Policy", "no-referrer") // the address is what lets somebody in
		w.Header().Set("X-Robots-Tag", "noindex")
		err := func() error {
			if !s.pace.allows("ask "+s.addressOf(r), asksAMinute) {
				return tooOften
			}
			sheet, err := s.sheetBy(r)
			if err != nil {
				return err
			}
			if r.Method == http.MethodPost && !s.pace.allows(fmt.Sprintf("send %d", sheet.ID), sendsAMinute) {
				return tooOften
			}
			return next(w, r, sheet)
		}()
		if err == nil {
			return
		}
		var told huma.StatusError
		if !errors.As(s.refusal(err), &told) {
			told = huma.NewError(http.StatusInternalServerError, somethingWrong)
		}
		if told.GetStatus() == http.StatusTooManyRequests {
			w.Header().Set("Retry-After", "60")
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(told.GetStatus())
		_ = report.WriteNote(w, told.Error())
	}
}

var tooOften = huma.NewError(http.StatusTooManyRequests, "This page was asked for too often in the last minute; wait a minute, and try again.")

// sheetBy finds the sheet of a request's link, which must still count.
func (s *Server) sheetBy(r *http.Request) (*records.Sheet, error) {
	gone := huma.NewError(http.StatusNotFound, "This link leads nowhere. It may have been cut short on its way, or a newer one was made; ask who sent it to you.")
	link, err := access.ParseLink(chi.URLParam(r, "link"), s.Pool.Secret)
	if err != nil { // those of earlier versions were signed with the signing key
		earlier, reading := s.Signing.Private()
		if reading != nil {
			return nil, reading
		}
		if link, err = access.ParseLink(chi.URLParam(r, "link"), earlier); err != nil {
			return nil, gone
		}
	}
	sheet, err := store.OrNil(store.FindSheet(r.Context(), s.Store.DB, link.Sheet))
	if err != nil {
		return nil, err
	}
	if sheet == nil || sheet.LinkRevoked || sheet.LinkSerial != link.Serial {
		return nil, gone
	}
	if time.Now().After(link.Ends) && time.Now().After(sheet.LinkEnds) {
		return nil, huma.NewError(http.StatusGone, "This link has ended; ask who sent it to you for another.")
	}
	return sheet, nil
}

func (s *Server) showAnswerPage(w http.ResponseWriter, r *http.Request, sheet *records.Sheet) error {
	page, err := s.answerPage(r.Context(), r.URL.Path, sheet)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	return report.WriteSheet(w, page)
}

// answerPage is the page of a sheet as it stands.
func (s *Server) answerPage(ctx context.Context, here string, sheet *records.Sheet) (*report.Sheet, error) {
	due, err := time.Parse(time.DateOnly, sheet.Due)
	if err != nil {
		return nil, err
	}
	page := &report.Sheet{Title: sheet.Title, Recipient: sheet.Recipient, Says: sheet.Says, AskedBy: sheet.CreatedBy, Due: due, Ends: sheet.LinkEnds, Here: here, Closed: sheet.ClosedAt != nil}
	all, err := store.QuestionsIn(ctx, s.Store.DB, sheet.ID)
	if err != nil {
		return nil, err
	}
	for i := range all {
		q, err := asQuestion(&all[i])
		if err != nil {
			return nil, err
		}
		one := report.SheetQuestion{Question: *q, Shown: q.Item.Shown(), Right: map[string]string{}, Fixed: all[i].Outcome != nil || page.Closed}
		if all[i].Answer != nil {
			one.Answer, one.Note, page.By = question.Answer(*all[i].Answer), *all[i].Note, *all[i].AnsweredBy
			if err := json.Unmarshal(*all[i].Right, &one.Right); err != nil {
				return nil, err
			}
		}
		page.Questions = append(page.Questions, one)
	}
	return page, nil
}

func (s *Server) takeAnswerPage(w http.ResponseWriter, r *http.Request, sheet *records.Sheet) error {
	if sheet.ClosedAt != nil {
		return huma.NewError(http.StatusConflict, "Nothing of this is waited for any more. Thank you.")
	}
	r.Body = http.MaxBytesReader(w, r.Body, answersBody)
	if err := r.ParseForm(); err != nil {
		return huma.NewError(http.StatusBadRequest, "What was sent cannot be read; go back and send it again.")
	}
	by := strings.ToValidUTF8(strings.TrimSpace(r.PostForm.Get("by")), "")
	if by == "" || len(by) > 200 {
		return huma.NewError(http.StatusUnprocessableEntity, "Write your name beneath the questions; go back, and send the answers again.")
	}
	all, err := store.QuestionsIn(r.Context(), s.Store.DB, sheet.ID)
	if err != nil {
		return err
	}
	given, err := formAnswers(r, all)
	if err != nil {
		return err
	}
	out := &AnswersTaken{}
	if err := s.take(r.Context(), all, given, store.NewAnswer{By: by, Via: "link", CameFrom: s.addressOf(r)}, out); err != nil {
		return err
	}
	page, err := s.answerPage(r.Context(), r.URL.Path, sheet)
	if err != nil {
		return err
	}
	page.Saved, page.Refused, page.By = out.Taken, len(out.Refused), by
	for _, refused := range out.Refused {
		at := slices.IndexFunc(page.Questions, func(q report.SheetQuestion) bool { return q.Code == refused.Code })
		g := slices.IndexFunc(given, func(g question.Given) bool { return g.Code == refused.Code })
		if at < 0 || g < 0 {
			continue
		}
		q := &page.Questions[at]
		q.Wrong = document.Capital(refused.Says)
		if !q.Fixed { // what was written stays to be mended
			q.Answer, q.Note = given[g].Answer, given[g].Note
			for column, text := range given[g].Right {
				q.Right[column] = text
			}
		}
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	if page.Refused > 0 {
		w.WriteHeader(http.StatusUnprocessableEntity)
	}
	return report.WriteSheet(w, page)
}

// formAnswers reads the answers that a page sent. A field that says what is right counts only beside the answer that it is wrong.
func formAnswers(r *http.Request, all []records.Question) ([]question.Given, error) {
	var out []question.Given
	for i := range all {
		q, err := asQuestion(&all[i])
		if err != nil {
			return nil, err
		}
		field := func(name string) string {
			return strings.ReplaceAll(strings.ToValidUTF8(r.PostForm.Get(name+" "+q.Code), ""), "\x00", "")
		}
		g := question.Given{Code: q.Code, Answer: question.Answer(field("answer")), Note: strings.TrimSpace(field("note"))}
		if g.Answer == "" || all[i].Outcome != nil {
			continue
		}
		if g.Answer == question.Wrong {
			for _, column := range q.Item.Correctable() {
				text := strings.ToValidUTF8(r.PostForm.Get("right "+q.Code+" "+column), "")
				if was, _ := q.Item.Cell(column); text != "" && text != was {
					if g.Right == nil {
						g.Right = map[string]string{}
					}
					g.Right[column] = text
				}
			}
		}
		out = append(out, g)
	}
	return out, nil
}
