package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"proudsieve/client"
	"proudsieve/core/fix"
	"proudsieve/core/question"
	"proudsieve/demo"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

// demoOwner is who made the field visits of the demo; they have no account.
const demoOwner = "Tarn Ellery"

// What the owner of the visits says of each text that is no station: what was meant, that it is meant so, or neither.
var demoStations = map[string]question.Given{
	"AV-090": {Answer: question.Wrong, Right: map[string]string{"station": "AV-009"}, Note: "two digits changed places"},
	"AV-091": {Answer: question.Unknown, Note: "the sheet is lost"},
	"AV-092": {Answer: question.ComesAgain},
	"AV-093": {Answer: question.MeantSo, Note: "a new station, which the register does not have yet"},
}

// ask asks the owner of the visits about what was found in them.
func (d *demoRun) ask(ctx context.Context) (*records.SheetShown, error) {
	issues, err := client.All(func(after string, limit int64) (*records.Page[records.Issue], error) {
		return d.steward.ListIssues(ctx, &client.ListIssuesParams{After: after, Limit: limit, Dataset: "visits"})
	})
	if err != nil {
		return nil, err
	}
	body := client.NewSheet{Recipient: demoOwner, Address: "tarn.ellery@alder-vale.example", Supposes: map[string]string{},
		Title: "Questions about your field visits", Says: "Good day. While we judged the visits of 2024 we met these. What you say is right is put right in what we hand on; your file stays as it is."}
	for _, i := range issues {
		switch i.Rule {
		case "station.codes", "visited.type":
		case "water_temperature.range":
			body.Supposes[fmt.Sprint(i.ID)] = "The point was left out."
		default:
			continue
		}
		body.Issues = append(body.Issues, i.ID)
	}
	return d.steward.AddSheet(ctx, body)
}

// itemsOf are what the questions of a sheet are about.
func itemsOf(s *records.SheetShown) ([]question.Item, error) {
	items := make([]question.Item, len(s.Asked))
	for i, q := range s.Asked {
		if err := json.Unmarshal(q.Item, &items[i]); err != nil {
			return nil, err
		}
	}
	return items, nil
}

// answerByLink answers, as somebody without an account, what is asked about stations and temperatures.
func (d *demoRun) answerByLink(ctx context.Context, s *records.SheetShown) error {
	items, err := itemsOf(s)
	if err != nil {
		return err
	}
	form := url.Values{"by": {demoOwner}}
	for i, item := range items {
		code := s.Asked[i].Code
		given, known := demoStations[item.Text]
		if item.Kind == question.OfRow { // the point was left out before the last two digits
			text, _ := item.Cell("water_temperature")
			given, known = question.Given{Answer: question.Wrong, Right: map[string]string{"water_temperature": text[:len(text)-2] + "." + text[len(text)-2:]}}, true
		}
		if !known {
			continue
		}
		form.Set("answer "+code, string(given.Answer))
		form.Set("note "+code, given.Note)
		for column, right := range given.Right {
			form.Set("right "+code+" "+column, right)
		}
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, d.steward.Server+s.Link, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	sender := d.steward.HTTP
	if sender == nil {
		sender = http.DefaultClient
	}
	response, err := sender.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err := io.Copy(io.Discard, response.Body); err != nil || response.StatusCode != http.StatusOK {
		return fmt.Errorf("the page of the questions answered %s: %w", response.Status, err)
	}
	return nil
}

// answerByWorkbook fills in the workbook of the sheet as the owner would, with one line that does not fit, and sends it back.
func (d *demoRun) answerByWorkbook(ctx context.Context, s *records.SheetShown) error {
	var sent bytes.Buffer
	file, err := d.steward.DownloadSheet(ctx, s.ID, nil)
	if err := client.Save(&sent, file, err); err != nil {
		return err
	}
	book, err := excelize.OpenReader(&sent)
	if err != nil {
		return err
	}
	defer book.Close()
	lines, err := book.GetRows("questions")
	if err != nil {
		return err
	}
	items, err := itemsOf(s)
	if err != nil {
		return err
	}
	filled := 0
	for n, line := range lines[1:] {
		at := slices.IndexFunc(s.Asked, func(q records.Question) bool { return q.Code == line[0] })
		if at < 0 || items[at].Column != "visited" {
			continue
		}
		parts := strings.Split(items[at].Text, "-") // day and month changed places
		answer := string(question.Wrong)
		if filled++; filled == 1 {
			answer = "maybe"
		}
		for column, text := range map[string]string{"F": answer, "H": parts[0] + "-" + parts[2] + "-" + parts[1]} {
			if err := book.SetCellStr("questions", fmt.Sprintf("%s%d", column, n+2), text); err != nil {
				return err
			}
		}
	}
	var back bytes.Buffer
	if err := book.Write(&back); err != nil {
		return err
	}
	arrived, err := d.steward.Arrive(ctx, "answers.xlsx", &back)
	if err != nil {
		return err
	}
	out, err := client.Decode[api.AnswersTaken](d.steward.TakeAnswers(ctx, client.AnswersGiven{Arrival: arrived.ID, By: demoOwner}))
	if err != nil {
		return err
	}
	d.line("The workbook came back: %d answers taken, %d lines without one, and refused:", out.Taken, out.Unanswered)
	for _, r := range out.Refused {
		d.line("  line %d, %s: %s.", r.Line, r.Code, r.Says)
	}
	if out.Taken != filled-1 || len(out.Refused) != 1 {
		return fmt.Errorf("%d answers were filled in, one of them as maybe; %d were taken and %d refused", filled, out.Taken, len(out.Refused))
	}
	return nil
}

// asked walks the whole dialogue: asked, answered by the link and in a workbook, taken up into a fix plan and waivers, and held
// against the next delivery.
func (d *demoRun) asked(ctx context.Context) error {
	d.heading("10. Ask the owner of the data, and take up the answers")
	s, err := d.ask(ctx)
	if err != nil {
		return err
	}
	d.line("%s is asked %d questions about the visits, by a link that needs no account, until %s.", s.Recipient, s.Questions, s.Due)
	if err := d.answerByLink(ctx, s); err != nil {
		return err
	}
	if err := d.answerByWorkbook(ctx, s); err != nil {
		return err
	}
	p, err := client.Decode[api.AnswersProposed](d.steward.ProposeFromAnswers(ctx, s.ID, &client.ProposeFromAnswersParams{FixPlan: "visits_answers"}))
	if err != nil {
		return err
	}
	d.answersProposed(p)
	job, err := d.steward.PreviewFix(ctx, p.Table, client.PreviewedBody{Source: p.Source})
	if err == nil {
		job, err = d.steward.Follow(ctx, job.ID, nil)
	}
	if err != nil {
		return err
	}
	var seen fix.Preview
	if err := json.Unmarshal(*job.Result, &seen); err != nil {
		return err
	}
	d.line("With these steps %d cells would change, and the score would go from %s to %s.", seen.ChangeCount, percent(seen.Before.Score), percent(seen.After.Score))
	if _, err := d.steward.TakeUpAnswers(ctx, s.ID, client.TakenUp{Dataset: p.Dataset, FixPlan: p.FixPlan, Version: int64(p.Version), Table: p.Table, Take: p.Codes()}); err != nil {
		return err
	}
	job, err = d.steward.ApplyFix(ctx, p.Table, client.PlannedBody{FixPlan: p.FixPlan})
	t, err := d.made(ctx, job, err)
	if err != nil {
		return err
	}
	a, err := client.Decode[api.AuditShown](d.steward.AuditOf(ctx, t.ID, nil))
	if err != nil {
		return err
	}
	d.line("They are taken up, and the plan is applied: the cleaned table has a score of %s.", percent(a.Result.Score))
	if seen.After.Score != a.Result.Score {
		return fmt.Errorf("the preview said a score of %v, and it is %v", seen.After.Score, a.Result.Score)
	}
	return d.comesAgain(ctx)
}

// comesAgain takes in the next delivery of the visits: it has what was said to be right, what was accepted, and one row more that is
// neither.
func (d *demoRun) comesAgain(ctx context.Context) error {
	content, err := demo.Files.ReadFile("data/visits.csv")
	if err != nil {
		return err
	}
	lines, err := csv.NewReader(bytes.NewReader(content)).ReadAll()
	if err != nil {
		return err
	}
	station := slices.Index(lines[0], "station")
	for _, line := range lines[1:] {
		if given := demoStations[line[station]]; given.Answer != question.MeantSo && given.Answer != "" {
			line[station] = "AV-009"
		}
	}
	var next bytes.Buffer
	more := slices.Clone(lines[1])
	more[0], more[station] = "V09999", "AV-094"
	if err := csv.NewWriter(&next).WriteAll(append(lines, more)); err != nil {
		return err
	}
	delivered, err := d.steward.Deliver(ctx, "visits", "visits_again.csv", records.SourceNotes{Provider: "Alder Vale river survey"}, &next)
	if err != nil {
		return err
	}
	if _, err := d.steward.AuditOf(ctx, delivered.Table.ID, nil); err != nil {
		return err
	}
	issues, err := d.steward.ListIssues(ctx, &client.ListIssuesParams{Dataset: "visits", Text: "station.codes"})
	if err != nil || len(issues.Items) != 1 {
		return fmt.Errorf("the issue of stations: %+v, %w", issues, err)
	}
	i, err := d.steward.ShowIssue(ctx, issues.Items[0].ID)
	if err != nil {
		return err
	}
	says := i.Entries[len(i.Entries)-1].Text
	d.line("The next delivery has them again, and a station more that nobody accepted: issue %d is %s, %s", i.ID, i.State, says)
	if !strings.HasPrefix(says, "1 more than were waived.") {
		return fmt.Errorf("one row more than was accepted is in the delivery, and told is: %s", says)
	}
	return nil
}
