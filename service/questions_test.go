package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/core/fix"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

const askedBook = `dataset: samples
columns:
  - {name: id}
  - {name: taken_by}
  - {name: parameter, type: code, codes: parameters, severity: major}
  - {name: value, type: decimal, to: 14, reason: pH ends at 14.}
code_lists: {parameters: {codes: [{code: PH}, {code: NO3}]}}
keys: [{id: one, columns: [id]}]
pass_mark: 0
`

const askedRows = "id,taken_by,parameter,value\na,mara.quill@alder.example,PH,99\nb,jonas.fell@alder.example,Acidity,7\nc,ines.hay@alder.example,Acidity,6\nd,ines.hay@alder.example,Zink,140\n"

// askedAbout delivers samples and asks the laboratory about what was found: Acidity, Zink, and the rows a and d.
func askedAbout(t *testing.T, r *servicetest.Running) (delivered int64, sheet *records.SheetShown) {
	t.Helper()
	declare(t, r.Steward, "rulebooks", askedBook)
	d := deliver(t, r.Steward, "samples", askedRows)
	audited(t, r.Steward, d.Table.ID)
	issues := []int64{issueOfRule(t, r.Steward, "parameter.codes").ID, issueOfRule(t, r.Steward, "value.range").ID}
	sheet, err := r.Steward.AddSheet(ctx, client.NewSheet{Issues: issues, Recipient: "Highgarth laboratory", Says: "Good day.",
		Supposes: map[string]string{fmt.Sprint(issues[0]): "Acidity is PH."}})
	if err != nil {
		t.Fatal(err)
	}
	return d.Table.ID, sheet
}

// codeOf is the code of the question about a text or row.
func codeOf(t *testing.T, s *records.SheetShown, about string) string {
	t.Helper()
	for _, q := range s.Asked {
		if strings.Contains(string(q.Item), about) {
			return q.Code
		}
	}
	t.Fatalf("nothing is asked about %s", about)
	return ""
}

// page asks for a page as somebody without an account.
func page(t *testing.T, address string, form url.Values) (status int, says string, header http.Header) {
	t.Helper()
	var response *http.Response
	var err error
	if form == nil {
		response, err = http.Get(address)
	} else {
		response, err = http.PostForm(address, form)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	content, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, string(content), response.Header
}

func TestQuestionsAreAskedByALinkThatNeedsNoAccount(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	_, sheet := askedAbout(t, r)
	if sheet.Questions != 4 || sheet.Answered != 0 || !strings.HasPrefix(sheet.Link, "/answer/") {
		t.Fatalf("%+v", sheet)
	}
	if i := issueOfRule(t, r.Steward, "value.range"); i.State != "asked" || i.Owner != "Highgarth laboratory" || *i.Due != sheet.Due || last(i).Text != fmt.Sprintf("Highgarth laboratory, by sheet 1, until %s.", sheet.Due) {
		t.Errorf("%+v, %+v", i.Issue, last(i))
	}
	status, says, header := page(t, r.URL+sheet.Link, nil)
	for _, want := range []string{"Questions about your data", "Mara asks Highgarth laboratory", "Good day.", "<code>Acidity</code> stands in <b>parameter</b>, in 2 rows.", "We suppose: Acidity is PH.", "pH ends at 14.",
		codeOf(t, sheet, "Zink"), "It is meant so.", "m•••.•••••@•••••.•••••••"} {
		if !strings.Contains(says, want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	if status != http.StatusOK || header.Get("Referrer-Policy") != "no-referrer" || header.Get("Cache-Control") != "no-store" || strings.Contains(says, "mara.quill") || strings.Contains(says, "<script") {
		t.Errorf("%d %v", status, header)
	}
	if status, _, _ := page(t, r.URL+sheet.Link+"/questions.csv", nil); status != http.StatusOK {
		t.Errorf("as CSV: %d", status)
	}
	// Those who only read are told neither the link nor personal data.
	read, err := r.Reader.ShowSheet(ctx, sheet.ID)
	if err != nil || read.Link != "" || strings.Contains(string(read.Asked[2].Item), "mara.quill") {
		t.Errorf("%+v, %v", read, err)
	}
	_, err = r.Reader.AddSheet(ctx, client.NewSheet{Issues: []int64{1}, Recipient: "x"})
	refused(t, "a reader asks", err, http.StatusForbidden, "the right to discuss")
	// A link that was changed, taken back, or whose sheet is closed.
	if status, says, _ := page(t, r.URL+sheet.Link[:len(sheet.Link)-1], nil); status != http.StatusNotFound || !strings.Contains(says, "leads nowhere") {
		t.Errorf("a link that was cut short: %d %s", status, says)
	}
	renewed, err := r.Steward.RenewLink(ctx, sheet.ID, client.LinkedBody{Days: 7})
	if err != nil || renewed.Link == sheet.Link {
		t.Fatalf("%+v, %v", renewed, err)
	}
	if status, _, _ := page(t, r.URL+sheet.Link, nil); status != http.StatusNotFound {
		t.Errorf("the link of before a new one: %d", status)
	}
	if _, err := r.Steward.RevokeLink(ctx, sheet.ID); err != nil {
		t.Fatal(err)
	}
	if status, _, _ := page(t, r.URL+renewed.Link, nil); status != http.StatusNotFound {
		t.Errorf("a link that was taken back: %d", status)
	}
}

func TestAnswersByTheLink(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	_, sheet := askedAbout(t, r)
	acidity, zink, row := codeOf(t, sheet, "Acidity"), codeOf(t, sheet, `"text":"Zink"`), codeOf(t, sheet, `"99"`)
	status, says, _ := page(t, r.URL+sheet.Link, url.Values{"by": {"Ada Moss"}, "answer " + acidity: {"wrong"}, "right " + acidity + " parameter": {"PH"}, "note " + acidity: {"our old name"},
		"answer " + zink: {"wrong"}, "answer " + row: {"meant_so"}, "right " + row + " value": {"nobody reads this"}, "answer OTHER": {"wrong"}})
	if status != http.StatusUnprocessableEntity || !strings.Contains(says, "2 answers taken") || !strings.Contains(says, "1 answer could not be taken") || !strings.Contains(says, "It is said to be wrong, but not what is right; write that, or a remark.") {
		t.Errorf("%d %s", status, says)
	}
	shown, err := r.Steward.ShowSheet(ctx, sheet.ID)
	if err != nil || shown.Answered != 2 {
		t.Fatalf("%+v, %v", shown, err)
	}
	for _, q := range shown.Asked {
		if q.Code == acidity && (*q.Answer != "wrong" || string(*q.Right) != `{"parameter":"PH"}` || *q.AnsweredBy != "Ada Moss" || *q.Via != "link" || !strings.HasPrefix(*q.CameFrom, "127.")) {
			t.Errorf("%+v", q)
		}
	}
	i := issueOfRule(t, r.Steward, "parameter.codes")
	if i.State != "asked" || last(i).Kind != "answered" || last(i).Person != nil || !strings.Contains(last(i).Text, `Ada Moss, `+acidity+` ("Acidity" in parameter, in 2 rows): It is wrong; right is: "PH" in parameter. our old name`) {
		t.Errorf("%+v", last(i))
	}
	// They may think better of it, while nobody has acted on it; what is there stands in the page.
	if status, says, _ := page(t, r.URL+sheet.Link, url.Values{"by": {"Ada Moss"}, "answer " + zink: {"unknown"}}); status != http.StatusOK || !strings.Contains(says, "1 answer taken") || !strings.Contains(says, `value="PH"`) {
		t.Errorf("%d %s", status, says)
	}
	if i := issueOfRule(t, r.Steward, "parameter.codes"); i.State != "open" {
		t.Errorf("every question about it is answered, and it is %s", i.State)
	}
	if status, says, _ := page(t, r.URL+sheet.Link, url.Values{"answer " + zink: {"unknown"}}); status != http.StatusUnprocessableEntity || !strings.Contains(says, "Write your name") {
		t.Errorf("without a name: %d %s", status, says)
	}
	for range 20 {
		status, says, _ = page(t, r.URL+sheet.Link, url.Values{"by": {"x"}})
	}
	if status != http.StatusTooManyRequests || !strings.Contains(says, "too often") {
		t.Errorf("again and again: %d %s", status, says)
	}
}

func TestAnswersInAFileAreRefusedLineByLine(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	_, sheet := askedAbout(t, r)
	var workbook bytes.Buffer
	file, err := r.Steward.DownloadSheet(ctx, sheet.ID, nil)
	if err := client.Save(&workbook, file, err); err != nil || workbook.Len() < 4000 {
		t.Fatalf("%d bytes, %v", workbook.Len(), err)
	}
	send := func(name, content string) (*api.AnswersTaken, error) {
		a, err := r.Steward.Arrive(ctx, name, strings.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		return client.Decode[api.AnswersTaken](r.Steward.TakeAnswers(ctx, client.AnswersGiven{Arrival: a.ID, By: "Ada Moss"}))
	}
	if out, err := send("untouched.xlsx", workbook.String()); err != nil || out.Taken != 0 || out.Unanswered != 4 || len(out.Refused) != 0 {
		t.Errorf("%+v, %v", out, err)
	}
	content := fmt.Sprintf("code,answer,right value,remark\n%s,wrong,PH,\n%s,perhaps,,\n0000-0000,meant_so,,\n", codeOf(t, sheet, "Acidity"), codeOf(t, sheet, "Zink"))
	out, err := send("back.csv", content)
	if err != nil || out.Taken != 1 || len(out.Refused) != 2 || out.Refused[0].Line != 3 || out.Refused[1].Line != 4 {
		t.Errorf("%+v, %v", out, err)
	}
	if _, err := send("other.csv", "a,b\n1,2\n"); err == nil || !strings.Contains(err.Error(), "has the columns “code” and “answer”") {
		t.Errorf("%v", err)
	}
	told, err := client.Decode[api.AnswersTaken](r.Certifier.TakeAnswers(ctx, client.AnswersGiven{Given: []client.Given{{Code: codeOf(t, sheet, "Zink"), Answer: "unknown"}}}))
	if err != nil || told.Taken != 1 {
		t.Errorf("on the telephone: %+v, %v", told, err)
	}
	shown, err := r.Steward.ShowSheet(ctx, sheet.ID)
	if err != nil || shown.Answered != 2 || *shown.Asked[0].Via != "file" || *shown.Asked[1].Via != "entry" || *shown.Asked[1].AnsweredBy != "Highgarth laboratory" {
		t.Errorf("%+v, %v", shown, err)
	}
}

// The whole dialogue: what is wrong becomes a step, what is meant so is waived, and the next delivery shows whether it holds.
func TestAnswersAreTakenUpIntoPlanAndWaiver(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table, sheet := askedAbout(t, r)
	acidity, zink, first, second := codeOf(t, sheet, "Acidity"), codeOf(t, sheet, `"text":"Zink"`), codeOf(t, sheet, `"99"`), codeOf(t, sheet, `"140"`)
	if _, err := r.Steward.TakeAnswers(ctx, client.AnswersGiven{Given: []client.Given{
		{Code: acidity, Answer: "wrong", Right: map[string]string{"parameter": "PH"}}, {Code: zink, Answer: "wrong", Note: "is not ours"},
		{Code: first, Answer: "wrong", Right: map[string]string{"value": "9.9"}}, {Code: second, Answer: "meant_so", Note: "a spill"}}}); err != nil {
		t.Fatal(err)
	}
	desk, err := client.Decode[api.Desk](r.Steward.ShowDesk(ctx))
	if err != nil || len(desk.Answers) != 1 {
		t.Errorf("the desk does not tell that there are answers: %+v, %v", desk, err)
	}
	p, err := client.Decode[api.AnswersProposed](r.Steward.ProposeFromAnswers(ctx, sheet.ID, &client.ProposeFromAnswersParams{FixPlan: "clean"}))
	if err != nil || p.Table != table || p.Version != 0 || len(p.Steps) != 2 || len(p.Accepted) != 1 || len(p.Unused) != 1 || p.Accepted[0].Says != "the row id d, value 140" {
		t.Fatalf("%+v, %v", p, err)
	}
	// The effect is that of the plan as it would be.
	job, err := r.Steward.PreviewFix(ctx, table, client.PreviewedBody{Source: p.Source})
	if err == nil {
		job, err = r.Steward.Follow(ctx, job.ID, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	var preview fix.Preview
	if err := json.Unmarshal(*job.Result, &preview); err != nil || preview.ChangeCount != 3 {
		t.Errorf("%+v, %v", preview.ChangeCount, err)
	}
	up := client.TakenUp{Dataset: "samples", FixPlan: "clean", Table: table, Take: []string{acidity, first, second}, Leave: []string{zink}}
	_, err = r.Steward.TakeUpAnswers(ctx, sheet.ID, up)
	refused(t, "left without a reason", err, http.StatusUnprocessableEntity, "Say why these answers are left")
	up.Reason = "We ask the other laboratory."
	_, err = r.Certifier.TakeUpAnswers(ctx, sheet.ID, up)
	refused(t, "a certifier takes up", err, http.StatusForbidden, "the right to work")
	done, err := r.Steward.TakeUpAnswers(ctx, sheet.ID, up)
	if err != nil || done.Settled != 4 || done.ClosedAt == nil {
		t.Fatalf("%+v, %v", done, err)
	}
	plan, err := r.Steward.ShowFixPlans(ctx, "samples", "clean", nil)
	if err != nil || plan.Version != 1 || plan.Source != p.Source {
		t.Errorf("what was proposed is not what was saved: %v\n%s\n%s", err, plan.Source, p.Source)
	}
	high := issueOfRule(t, r.Steward, "value.range")
	if high.State != "open" || high.Waivers != 1 || high.Given[0].Covers != "1 row, by id and value" || !strings.Contains(high.Given[0].Reason, "says that it is meant so. a spill") {
		t.Errorf("%+v", high)
	}
	_, err = r.Steward.TakeUpAnswers(ctx, sheet.ID, up)
	refused(t, "twice", err, http.StatusConflict, "is no answer of the sheet that waits")
	made := applyPlan(t, r, table, "clean")
	if a := audited(t, r.Steward, made.ID); a.Result.Finding("value.range").Rows != 1 {
		t.Errorf("%+v", a.Result.Findings)
	}
	if high = issueOfRule(t, r.Steward, "value.range"); high.State != "waived" {
		t.Errorf("what is left is what was waived: %+v", high.Issue)
	}
	// The next delivery has the accepted row again, and one more.
	next := deliver(t, r.Steward, "samples", "id,taken_by,parameter,value\nd,x,NO3,140\ne,x,NO3,15\n")
	audited(t, r.Steward, next.Table.ID)
	if high = issueOfRule(t, r.Steward, "value.range"); high.State != "open" || !strings.HasPrefix(last(high).Text, "1 more than was waived.") {
		t.Errorf("%+v", last(high))
	}
}

// What is not answered is asked once more, and stands on the desk then.
func TestWhatIsNotAnsweredIsAskedOnceMore(t *testing.T) {
	t.Parallel()
	database := postgrestest.Database(t)
	r := servicetest.Start(t, func(o *service.Options) { o.DatabaseURL = database })
	_, sheet := askedAbout(t, r)
	s, err := store.Open(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	late := func() {
		t.Helper()
		if _, err := s.DB.Exec("UPDATE sheets SET due = due - 60"); err != nil {
			t.Fatal(err)
		}
		if _, err := s.DB.Exec("UPDATE issues SET due = due - 60"); err != nil {
			t.Fatal(err)
		}
	}
	again := func() *records.SheetShown {
		t.Helper()
		kept, err := files.OpenDirectory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		pool, err := work.NewPool(s, kept, servicetest.Quiet(t))
		if err == nil {
			err = pool.AskAgain(context.Background())
		}
		if err != nil {
			t.Fatal(err)
		}
		shown, err := r.Steward.ShowSheet(ctx, sheet.ID)
		if err != nil {
			t.Fatal(err)
		}
		return shown
	}
	if shown := again(); shown.AskedAgainAt != nil {
		t.Error("it was asked again before its day")
	}
	late()
	shown := again()
	if shown.AskedAgainAt == nil || shown.Overdue || shown.Due <= time.Now().UTC().Format(time.DateOnly) {
		t.Errorf("%+v", shown)
	}
	if i := issueOfRule(t, r.Steward, "value.range"); last(i).Kind != "asked" || !strings.Contains(last(i).Text, "Highgarth laboratory once more, by sheet 1") {
		t.Errorf("%+v", last(i))
	}
	late()
	if more := again(); !more.AskedAgainAt.Equal(*shown.AskedAgainAt) {
		t.Error("it was asked a third time")
	}
	desk, err := client.Decode[api.Desk](r.Steward.ShowDesk(ctx))
	if err != nil || len(desk.Unanswered) != 1 || desk.Overdue != 2 {
		t.Errorf("%+v, %v", desk, err)
	}
}

// What is meant so can be said in the rulebook, for every delivery, instead of being waived for this one: a decision of who takes the
// answer up, or one that waits for a second person.
func TestWhatIsMeantSoIsSaidInTheRulebookWhereAStewardWants(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	_, sheet := askedAbout(t, r)
	acidity, zink := codeOf(t, sheet, "Acidity"), codeOf(t, sheet, "Zink")
	if _, err := r.Steward.TakeAnswers(ctx, client.AnswersGiven{By: "Ada Moss", Given: []client.Given{{Code: acidity, Answer: "meant_so"}, {Code: zink, Answer: "meant_so"}}}); err != nil {
		t.Fatal(err)
	}
	propose := func() *api.AnswersProposed {
		t.Helper()
		p, err := client.Decode[api.AnswersProposed](r.Steward.ProposeFromAnswers(ctx, sheet.ID, &client.ProposeFromAnswersParams{}))
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	p := propose()
	if len(p.Instead) != 2 || len(p.Accepted) != 2 || p.Rulebook != 1 {
		t.Fatalf("%+v", p)
	}
	take := func(rulebook int, declare ...string) error {
		_, err := r.Steward.TakeUpAnswers(ctx, sheet.ID, client.TakenUp{Dataset: "samples", FixPlan: p.FixPlan, Version: int64(p.Version), Table: p.Table,
			Take: []string{acidity}, Declare: declare, Rulebook: int64(rulebook)})
		return err
	}
	refused(t, "a version of before", take(7, acidity), http.StatusConflict, "version 1 by now")
	refused(t, "an answer that is not taken up", take(1, zink), http.StatusUnprocessableEntity, "could be said in the rulebook")
	if err := take(1, acidity); err != nil {
		t.Fatal(err)
	}
	book, err := r.Reader.ShowRulebooks(ctx, "samples", "samples", nil)
	if err != nil || book.Version != 2 || !strings.Contains(book.Source, "Acidity") || strings.Contains(book.Source, "Zink") {
		t.Fatalf("%+v, %v", book, err)
	}
	decisions, err := r.Reader.ListDecisions(ctx, &client.ListDecisionsParams{Dataset: "samples"})
	if err != nil || len(decisions.Items) != 1 || decisions.Items[0].Reason != "Ada Moss says that it is meant so." {
		t.Errorf("%+v, %v", decisions, err)
	}
	if shown, err := r.Reader.ShowSheet(ctx, sheet.ID); err != nil || !strings.Contains(fmt.Sprintf("%+v", shown.Asked), `Version 2 of the rulebook: "Acidity" becomes a code of the list parameters`) {
		t.Errorf("%+v, %v", shown, err)
	}
	// The next one waits for somebody else, and nothing is waived meanwhile.
	if _, err := r.Admin.AskSecondPerson(ctx, "samples", client.SecondBody{Asked: true}); err != nil {
		t.Fatal(err)
	}
	p = propose()
	if _, err := r.Steward.TakeUpAnswers(ctx, sheet.ID, client.TakenUp{Dataset: "samples", FixPlan: p.FixPlan, Version: int64(p.Version), Table: p.Table,
		Take: []string{zink}, Declare: []string{zink}, Rulebook: int64(p.Rulebook)}); err != nil {
		t.Fatal(err)
	}
	if book, err := r.Reader.ShowRulebooks(ctx, "samples", "samples", nil); err != nil || book.Version != 2 {
		t.Errorf("it is saved without a second person: %+v, %v", book, err)
	}
	if waiting, err := r.Reader.ListDecisions(ctx, &client.ListDecisionsParams{Waiting: true}); err != nil || len(waiting.Items) != 1 {
		t.Errorf("%+v, %v", waiting, err)
	}
	// Of a delivery that comes now the code is none that is caught.
	found := audited(t, r.Steward, deliver(t, r.Steward, "samples", "id,taken_by,parameter,value\nx,a,Acidity,7\ny,b,Zink,7\n").Table.ID).Result.Finding("parameter.codes")
	if found == nil || found.Rows != 1 {
		t.Errorf("%+v", found)
	}
}
