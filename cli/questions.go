package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/core/question"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

func questionCommand() *cli.Command {
	return group("question", "what the owners of data are asked about issues, and what becomes of their answers",
		verb("ask", "ask about issues: a sheet of questions behind a link that needs no account", "ISSUE,ISSUE,... NAME", []cli.Flag{
			&cli.StringFlag{Name: "address", Usage: "their e-mail address: the link is mailed there where a mail server is set up"},
			&cli.StringFlag{Name: "title", Usage: "what the page is called"},
			&cli.StringFlag{Name: "says", Usage: "what is said before the questions"},
			&cli.StringSliceFlag{Name: "supposes", Usage: "what you take to be so, as ISSUE=TEXT; may be repeated"},
			&cli.IntFlag{Name: "days", Value: 14, Usage: "in how many days it is to be answered"},
		}, askQuestions),
		verb("list", "sheets of questions, newest first", "", []cli.Flag{&cli.BoolFlag{Name: "open", Usage: "only those of which something is waited for"}}, listSheets),
		verb("show", "a sheet with its questions and answers", "SHEET", nil, func(ctx context.Context, s *session, args []string) error {
			return s.sheetOf(args, func(id int64) (*records.SheetShown, error) { return s.ShowSheet(ctx, id) })
		}),
		verb("save", "write a sheet as a workbook, or as CSV where the file is called so, with room for the answers", "SHEET FILE", nil, saveSheet),
		verb("take", "take in a file of answers; a line that does not fit is refused", "FILE", []cli.Flag{&cli.StringFlag{Name: "by", Usage: "who gave them"}}, takeAnswers),
		verb("answer", "enter an answer that you were told", "CODE wrong|meant_so|unknown|comes_again", []cli.Flag{
			&cli.StringSliceFlag{Name: "right", Usage: "what is right instead, as COLUMN=TEXT; may be repeated"},
			&cli.StringFlag{Name: "remark"}, &cli.StringFlag{Name: "by", Usage: "who said so"},
		}, enterAnswer),
		verb("proposal", "what the answers of a sheet would become; nothing is done", "SHEET", []cli.Flag{
			&cli.StringFlag{Name: "dataset"}, &cli.StringFlag{Name: "fix-plan", Usage: "the fix plan that steps are added to"},
			&cli.BoolFlag{Name: "source", Usage: "print the text of the fix plan as it would be, and nothing else"},
		}, proposeAnswers),
		verb("take-up", "take answers up as they are proposed: all of them, or those that are named", "SHEET", []cli.Flag{
			&cli.StringSliceFlag{Name: "declare", Usage: "the code of an answer that is said in the rulebook, for every delivery, instead of being waived; may be given more than once"},
			&cli.StringFlag{Name: "dataset"}, &cli.StringFlag{Name: "fix-plan", Usage: "the fix plan that steps are added to"},
			&cli.StringSliceFlag{Name: "code", Usage: "only this answer; may be repeated"},
			&cli.StringSliceFlag{Name: "leave", Usage: "an answer that is left; may be repeated"},
			&cli.StringFlag{Name: "reason", Usage: "why they are left"},
		}, takeUpAnswers),
		verb("link", "make a new link to a sheet; those of before lead nowhere then", "SHEET", []cli.Flag{
			&cli.IntFlag{Name: "days", Value: 30, Usage: "for how many days it is good"}, &cli.BoolFlag{Name: "revoke", Usage: "take the link back, and make none"},
		}, func(ctx context.Context, s *session, args []string) error {
			return s.sheetOf(args, func(id int64) (*records.SheetShown, error) {
				if s.command.Bool("revoke") {
					return s.RevokeLink(ctx, id)
				}
				return s.RenewLink(ctx, id, client.LinkedBody{Days: int64(s.command.Int("days"))})
			})
		}),
		verb("close", "say that nothing of a sheet is waited for any more", "SHEET", nil, func(ctx context.Context, s *session, args []string) error {
			return s.sheetOf(args, func(id int64) (*records.SheetShown, error) { return s.CloseSheet(ctx, id) })
		}),
	)
}

// sheetOf does something with the sheet that is named, and shows it.
func (s *session) sheetOf(args []string, do func(id int64) (*records.SheetShown, error)) error {
	id, err := number(args[0], "a sheet")
	if err != nil {
		return err
	}
	sheet, err := do(id)
	return show(s, sheet, err, s.sheet)
}

func askQuestions(ctx context.Context, s *session, args []string) error {
	c := s.command
	body := client.NewSheet{Recipient: args[1], Address: c.String("address"), Title: c.String("title"), Says: c.String("says"), Days: int64(c.Int("days")), Supposes: map[string]string{}}
	for _, one := range strings.Split(args[0], ",") {
		id, err := number(one, "an issue")
		if err != nil {
			return err
		}
		body.Issues = append(body.Issues, id)
	}
	for _, one := range c.StringSlice("supposes") {
		issue, text, said := strings.Cut(one, "=")
		if !said {
			return fmt.Errorf("%q does not say of which issue; write it as ISSUE=TEXT", one)
		}
		body.Supposes[issue] = text
	}
	sheet, err := s.AddSheet(ctx, body)
	return show(s, sheet, err, s.sheet)
}

func listSheets(ctx context.Context, s *session, _ []string) error {
	all, err := client.All(func(after string, limit int64) (*records.Page[records.Sheet], error) {
		return s.ListSheets(ctx, &client.ListSheetsParams{After: after, Limit: limit, Open: s.command.Bool("open")})
	})
	return show(s, all, err, func(all []records.Sheet) {
		g := newGrid(">sheet", "asked", ">questions", ">answered", ">settled", "due", "by", "closed")
		for _, one := range all {
			due := one.Due
			if one.Overdue {
				due += ", overdue"
			}
			g.add(fmt.Sprint(one.ID), one.Recipient, count(one.Questions), count(one.Answered), count(one.Settled), due, one.CreatedBy, optional(one.ClosedAt, when))
		}
		s.grid(g, "Nobody was asked anything yet.")
	})
}

// sheet shows a sheet of questions.
func (s *session) sheet(one *records.SheetShown) {
	s.line("Sheet %d, %s asks %s, due on %s: %s, %d answered, %d taken up or left.", one.ID, one.CreatedBy, safe(one.Recipient), one.Due,
		document.Counted(one.Questions, "question", "questions"), one.Answered, one.Settled)
	if one.AskedAgainAt != nil {
		s.line("It was asked once more at %s.", when(*one.AskedAgainAt))
	}
	if one.Link != "" {
		s.line("The page, until %s: %s%s", when(one.LinkEnds), s.Server, one.Link)
	}
	g := newGrid("code", "about", "answer", "right", "by", "became")
	for _, q := range one.Asked {
		var item question.Item
		_ = json.Unmarshal(q.Item, &item)
		about := item.Says()
		if about == "" {
			about = q.Found
		}
		right := map[string]string{}
		if q.Right != nil {
			_ = json.Unmarshal(*q.Right, &right)
		}
		said := []string{}
		for _, column := range sortedKeys(right) {
			said = append(said, column+" "+right[column])
		}
		g.add(q.Code, shorten(about, 60), optional(q.Answer, same), strings.Join(said, ", "), optional(q.AnsweredBy, same), shorten(q.Became, 60))
	}
	s.grid(g, "")
}

func saveSheet(ctx context.Context, s *session, args []string) error {
	id, err := number(args[0], "a sheet")
	if err != nil {
		return err
	}
	format := client.DownloadSheetParamsFormatXlsx
	if strings.EqualFold(filepath.Ext(args[1]), ".csv") {
		format = client.DownloadSheetParamsFormatCsv
	}
	file, err := s.DownloadSheet(ctx, id, &client.DownloadSheetParams{Format: format})
	if err != nil {
		return err
	}
	return save(args[1], func(f *os.File) error { return client.Save(f, file, nil) })
}

func takeAnswers(ctx context.Context, s *session, args []string) error {
	f, err := os.Open(args[0])
	if err != nil {
		return err
	}
	defer f.Close()
	arrived, err := s.Arrive(ctx, filepath.Base(args[0]), f)
	if err != nil {
		return err
	}
	out, err := client.Decode[api.AnswersTaken](s.TakeAnswers(ctx, client.AnswersGiven{Arrival: arrived.ID, By: s.command.String("by")}))
	return s.answersTaken(out, err)
}

// answersTaken tells what became of answers; some that do not fit are the data's fault.
func (s *session) answersTaken(out *api.AnswersTaken, err error) error {
	if err := show(s, out, err, func(out *api.AnswersTaken) {
		s.line("%s taken, %d refused, %d without an answer.", document.Counted(int64(out.Taken), "answer was", "answers were"), len(out.Refused), out.Unanswered)
		for _, r := range out.Refused {
			s.line("line %d, %s: %s.", r.Line, safe(r.Code), safe(r.Says))
		}
	}); err != nil {
		return err
	}
	if len(out.Refused) > 0 {
		return errFellShort
	}
	return nil
}

func enterAnswer(ctx context.Context, s *session, args []string) error {
	g := client.Given{Code: args[0], Answer: client.GivenAnswer(args[1]), Note: s.command.String("remark")}
	for _, one := range s.command.StringSlice("right") {
		column, text, said := strings.Cut(one, "=")
		if !said {
			return fmt.Errorf("%q does not say of which column; write it as COLUMN=TEXT", one)
		}
		if g.Right == nil {
			g.Right = map[string]string{}
		}
		g.Right[column] = text
	}
	out, err := client.Decode[api.AnswersTaken](s.TakeAnswers(ctx, client.AnswersGiven{Given: []client.Given{g}, By: s.command.String("by")}))
	return s.answersTaken(out, err)
}

func (s *session) proposed(ctx context.Context, id int64) (*api.AnswersProposed, error) {
	return client.Decode[api.AnswersProposed](s.ProposeFromAnswers(ctx, id, &client.ProposeFromAnswersParams{Dataset: s.command.String("dataset"), FixPlan: s.command.String("fix-plan")}))
}

func proposeAnswers(ctx context.Context, s *session, args []string) error {
	id, err := number(args[0], "a sheet")
	if err != nil {
		return err
	}
	p, err := s.proposed(ctx, id)
	return show(s, p, err, func(p *api.AnswersProposed) {
		if s.command.Bool("source") {
			_ = s.raw(p.Source)
			return
		}
		s.answersProposed(p)
	})
}

// answersProposed tells what answers would become.
func (s *output) answersProposed(p *api.AnswersProposed) {
	s.line("For table %d of %s:", p.Table, p.Dataset)
	for _, one := range p.Steps {
		doubt := ""
		if one.Doubt != "" {
			doubt = " Look at it: " + one.Doubt + "."
		}
		s.line("  %s  a step of the fix plan %s: %s%s", one.Code, p.FixPlan, safe(one.Says), safe(doubt))
	}
	for _, one := range p.Accepted {
		s.line("  %s  a waiver for %s", one.Code, safe(one.Says))
	}
	for _, one := range p.Instead {
		s.line("  %s  or, with --declare %s, in the rulebook, for every delivery: %s", one.Code, one.Code, safe(one.Says))
	}
	for _, one := range p.Unused {
		s.line("  %s  nothing by itself: %s", one.Code, safe(one.Says))
	}
	if len(p.Steps)+len(p.Accepted)+len(p.Unused) == 0 {
		s.line("  No answer waits for being taken up.")
	}
}

func takeUpAnswers(ctx context.Context, s *session, args []string) error {
	id, err := number(args[0], "a sheet")
	if err != nil {
		return err
	}
	p, err := s.proposed(ctx, id)
	if err != nil {
		return err
	}
	up := client.TakenUp{Dataset: p.Dataset, FixPlan: p.FixPlan, Version: int64(p.Version), Table: p.Table, Take: s.command.StringSlice("code"),
		Declare: s.command.StringSlice("declare"), Rulebook: int64(p.Rulebook), Leave: s.command.StringSlice("leave"), Reason: s.command.String("reason")}
	if len(up.Take) == 0 {
		left := map[string]bool{}
		for _, code := range up.Leave {
			left[code] = true
		}
		for _, code := range p.Codes() {
			if !left[code] {
				up.Take = append(up.Take, code)
			}
		}
	}
	if len(up.Take)+len(up.Leave) == 0 {
		return errors.New("no answer of the sheet waits for being taken up")
	}
	sheet, err := s.TakeUpAnswers(ctx, id, up)
	return show(s, sheet, err, s.sheet)
}
