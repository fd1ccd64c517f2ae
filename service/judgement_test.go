package service_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/audit"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

const stationsBook = "dataset: stations\ncolumns:\n  - {name: id}\n"

const visitsBook = `dataset: visits
columns:
  - {name: station, type: code, codes: stations}
  - {name: day, type: date}
  - {name: flow, type: decimal}
keys:
  - {id: one_visit, columns: [station, day]}
code_lists:
  stations: {codes: [{code: AV-1, spellings: [Ford]}], from: {dataset: stations, columns: [id]}}
references:
  - {id: known, columns: [station], to: {dataset: stations, columns: [id]}}
history:
  - {id: rows_stay, check: rows_steady, within: 10}
  - {id: fresh, check: not_older_than, column: day, days: 100000}
measures: [flow]
`

const visits = "station,day,flow\nAV-1,2024-05-01,5\nAV-1,2024-05-01,6\nav-1,2024-05-01,1\nAV-2,2024-05-02,1\nAV-2,2024-05-02,1\nAV2,2024-05-03,\nXX,2024-05-04,9\n"

// judged is a service with stations, and a delivery of visits that is audited.
func judged(t *testing.T) (*servicetest.Running, *api.AuditShown) {
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", stationsBook)
	audited(t, r.Steward, deliver(t, r.Steward, "stations", "id\nAV-1\nAV-2\nAV-3\n").Table.ID)
	declare(t, r.Steward, "rulebooks", visitsBook)
	return r, audited(t, r.Steward, deliver(t, r.Steward, "visits", visits).Table.ID)
}

func TestATableIsJudgedBesideOthers(t *testing.T) {
	r, a := judged(t)
	found := map[string]int64{}
	for _, f := range a.Result.Findings {
		found[f.Rule] = f.Rows
	}
	if want := map[string]int64{"station.codes": 2, "station.spelling": 1, "one_visit": 3,
		"known": 2}; fmt.Sprint(found) != fmt.Sprint(want) {
		t.Errorf("found %v, want %v", found, want)
	}
	if !strings.HasPrefix(a.Result.Beside["stations"], "table 1, SHA-256 ") {
		t.Errorf("held against %v", a.Result.Beside)
	}
	for _, j := range a.Result.Rules {
		if j.Rule == "rows_stay" && j.Unjudged != "there is no earlier delivery to compare with" || j.Rule == "fresh" &&
			j.Unjudged != "" {
			t.Errorf("%s: %s", j.Rule, j.Unjudged)
		}
	}
	next := audited(t, r.Steward, deliver(t, r.Steward, "visits", "station,day,flow\nAV-1,2024-06-01,5\n").Table.ID)
	if len(next.Result.Findings) != 1 ||
		next.Result.Findings[0].Found != "The table has 1 row; before it had 7, which is a change of -85.7 %." {
		t.Errorf("%+v", next.Result.Findings)
	}
	c, err := servicetest.Get[api.ComparisonShown](ctx, r.Reader, fmt.Sprintf("/audits/%d/comparison", next.ID))
	if err != nil || c.Before.ID != a.ID || c.Comparison.Rows.Before != 7 || len(c.Rules) != 5 ||
		c.Rules[0].Turn != audit.TurnUnasked && c.Rules[0].Turn != audit.TurnNew {
		t.Errorf("%+v, %v", c, err)
	}
	_, err = servicetest.Get[api.ComparisonShown](ctx, r.Reader, fmt.Sprintf("/audits/%d/comparison?with=1", next.ID))
	refused(t, "audits of two datasets", err, 422, "only audits of one dataset are compared")
	_, err = servicetest.Get[api.ComparisonShown](ctx, r.Reader, fmt.Sprintf("/audits/%d/comparison", a.ID))
	refused(t, "the first audit", err, 404, "earlier audit")
}

func TestGroupsAndCodesOfATable(t *testing.T) {
	r, a := judged(t)
	groups, err := servicetest.Get[api.GroupsPage](ctx, r.Reader,
		fmt.Sprintf("/tables/%d/groups?columns=station&columns=day", a.TableID))
	if err != nil || groups.Kind != "conflicting" || groups.Listed != 1 || len(groups.Page) != 1 ||
		fmt.Sprint(groups.Page[0].Differs) != "[station flow]" || groups.Of[relation.Equal].Groups != 1 ||
		groups.Of[relation.Conflicting].Surplus != 2 || groups.Of[relation.Conflicting].Impact["flow"] != "7" {
		t.Errorf("%+v, %v", groups, err)
	}
	_, err = servicetest.Get[api.GroupsPage](ctx, r.Reader, fmt.Sprintf("/tables/%d/groups?columns=place", a.TableID))
	refused(t, "groups by no column", err, 422, `The table has no column "place"`)
	codes, err := servicetest.Get[relation.Codes](ctx, r.Reader, fmt.Sprintf("/tables/%d/codes?column=station",
		a.TableID))
	if err != nil || codes.List != "stations" || len(codes.Texts) != 3 || len(codes.Absent) != 1 ||
		codes.Absent[0] != "AV-3" {
		t.Fatalf("%+v, %v", codes, err)
	}
	for _, text := range codes.Texts {
		if want := map[string]string{"av-1": "AV-1 upper and lower case", "AV2": "AV-2 accents or punctuation",
			"XX": " "}[text.Text]; text.Meaning.Code+" "+text.Meaning.How != want {
			t.Errorf("%s means %+v, want %s", text.Text, text.Meaning, want)
		}
	}
}

func TestWhatTheOwnerOfTheDataGets(t *testing.T) {
	r, a := judged(t)
	issues, err := servicetest.All[records.Issue](ctx, r.Steward, "/issues?dataset=visits")
	if err != nil || len(issues) == 0 {
		t.Fatal(err)
	}
	if _, err := r.Steward.CommentIssue(ctx, issues[0].ID,
		client.CommentBody{Text: "Which station is XX?"}); err != nil {
		t.Fatal(err)
	}
	asked := client.IssueChangedStateAsked
	if _, err := r.Steward.EditIssue(ctx, issues[0].ID, client.IssueChanged{State: &asked}); err != nil {
		t.Fatal(err)
	}
	var page, findings strings.Builder
	if err := servicetest.Download(ctx, r.Reader, fmt.Sprintf("/audits/%d/report", a.ID), &page); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Audit of visits.csv", "Which station is XX?", "rulebook, version 1",
		"the laboratory", "2 of 7 rows have something in station that is no code of its list."} {
		if !strings.Contains(page.String(), want) {
			t.Errorf("the report has no %q", want)
		}
	}
	if err := servicetest.Download(ctx, r.Reader, fmt.Sprintf("/audits/%d/findings", a.ID), &findings); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"line,row,column,value,rule,", "8,7,station,XX,station.codes,minor,",
		`"station=XX, day=2024-05-04"`} {
		if !strings.Contains(findings.String(), want) {
			t.Errorf("the findings have no %q:\n%s", want, findings.String())
		}
	}
}

func TestARulebookIsTriedBeforeItIsSaved(t *testing.T) {
	r, a := judged(t)
	stricter := visitsBook + "rules:\n  - {id: small, condition: flow < 6}\n"
	job, err := servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/trials", a.TableID),
		map[string]string{"source": stricter})
	if err != nil {
		t.Fatal(err)
	}
	done, err := r.Steward.Follow(ctx, job.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	var result audit.Result
	if err := json.Unmarshal(*done.Result, &result); err != nil {
		t.Fatal(err)
	}
	if f := result.Findings[len(result.Findings)-1]; f.Rule != "small" &&
		result.Findings[len(result.Findings)-2].Rule != "small" {
		t.Errorf("%+v", result.Findings)
	}
	audits, err := servicetest.All[records.Audit](ctx, r.Reader, "/datasets/visits/audits")
	if err != nil || len(audits) != 1 {
		t.Errorf("a trial is recorded as an audit: %+v, %v", audits, err)
	}
	_, err = servicetest.Post[records.Job](ctx, r.Steward, fmt.Sprintf("/tables/%d/trials", a.TableID),
		map[string]string{"source": stationsBook})
	refused(t, "another dataset's rulebook", err, 422, "belongs to visits")
	_, err = servicetest.Post[records.Job](ctx, r.Reader, fmt.Sprintf("/tables/%d/trials", a.TableID),
		map[string]string{"source": stricter})
	refused(t, "a reader", err, 403, "needs the right to")

	declareAfter(t, r.Steward, "rulebooks", stricter, 1)
	differences, err := servicetest.Get[[]rulebook.Difference](ctx, r.Reader, "/rulebooks/visits/comparison")
	if err != nil || len(*differences) != 1 || !strings.HasPrefix((*differences)[0].Says, "The rule small is new") {
		t.Errorf("%+v, %v", differences, err)
	}
}

func TestProposalsAndCSVWByTheService(t *testing.T) {
	r, _ := judged(t)
	proposed, err := servicetest.Get[api.Carried](ctx, r.Steward, "/datasets/visits/proposal")
	if err != nil || !strings.Contains(proposed.Source,
		"{name: flow, type: integer}   # 6 of 6 filled cells are of this type") {
		t.Fatalf("%+v, %v", proposed, err)
	}
	ease(t, r.Steward, proposed.Source, 1)
	out, err := servicetest.Get[api.Carried](ctx, r.Reader, "/rulebooks/visits/csvw")
	if err != nil || !strings.Contains(string(out.Metadata), "http://www.w3.org/ns/csvw") || len(out.Left) == 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	back, err := servicetest.Post[api.Carried](ctx, r.Steward, "/datasets/visits/csvw", out.Metadata)
	if err != nil {
		t.Fatal(err)
	}
	ease(t, r.Steward, back.Source, 2)
	_, err = servicetest.Post[api.Carried](ctx, r.Steward, "/datasets/visits/csvw", map[string]any{})
	refused(t, "metadata without columns", err, 422, "describe no columns")
	if _, err := servicetest.Post[records.Dataset](ctx, r.Steward, "/datasets",
		map[string]string{"name": "empty"}); err != nil {
		t.Fatal(err)
	}
	_, err = servicetest.Get[api.Carried](ctx, r.Steward, "/datasets/empty/proposal")
	refused(t, "nothing to propose from", err, 422, "bring a delivery of it, or run what makes it")
}

func TestPersonalDataInAReportNeedTheRightToWork(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	var b strings.Builder
	b.WriteString("contact,n\n")
	for i := range 20 {
		fmt.Fprintf(&b, "holder%d@alder-vale.example,%d\n", i%7, i)
	}
	if _, err := r.Steward.Declare(ctx, "rulebooks", []byte("dataset: holders\ncolumns: [{name: contact}, {name: n, type: integer}]\n")); err != nil {
		t.Fatal(err)
	}
	d, err := r.Steward.Deliver(ctx, "holders", "holders.csv", records.SourceNotes{}, strings.NewReader(b.String()))
	if err != nil {
		t.Fatal(err)
	}
	a, err := client.Decode[api.AuditShown](r.Steward.AuditOf(ctx, d.Table.ID, nil))
	if err != nil {
		t.Fatal(err)
	}
	report := func(c *client.Client, personal bool) (string, error) {
		var page strings.Builder
		body, err := c.ShowReport(ctx, a.ID, &client.ShowReportParams{Personal: personal})
		err = client.Save(&page, body, err)
		return page.String(), err
	}
	for _, c := range []*client.Client{r.Steward, r.Reader} {
		if page, err := report(c, false); err != nil || strings.Contains(page, "alder-vale") {
			t.Errorf("masked: %v\n%s", err, page)
		}
	}
	if page, err := report(r.Steward, true); err != nil || !strings.Contains(page, "holder0@alder-vale") {
		t.Errorf("shown to a steward: %v\n%s", err, page)
	}
	_, err = report(r.Reader, true)
	refused(t, "a reader who wants to see them", err, 403, "needs the right to work")
}

func TestAProposalRefersToOtherDatasets(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	var register, readings strings.Builder
	register.WriteString("id,name\n")
	readings.WriteString("reading,station\n")
	for i := range 30 {
		fmt.Fprintf(&register, "AV-%03d,Station %d\n", i, i)
		fmt.Fprintf(&readings, "R%d,AV-%03d\nS%d,AV-%03d\n", i, i, i, i)
	}
	if _, err := r.Steward.Declare(ctx, "rulebooks",
		[]byte("dataset: register\ncolumns: [{name: id}, {name: name}]\nkeys: [{id: one, columns: [id]}]\n")); err != nil {
		t.Fatal(err)
	}
	if _, err := servicetest.Post[records.Dataset](ctx, r.Steward, "/datasets", map[string]string{"name": "readings"}); err != nil {
		t.Fatal(err)
	}
	proposed := func() string {
		out, err := servicetest.Get[api.Carried](ctx, r.Steward, "/datasets/readings/proposal")
		if err != nil {
			t.Fatal(err)
		}
		return out.Source
	}
	deliver := func(dataset, content string) {
		if _, err := r.Steward.Deliver(ctx, dataset, dataset+".csv", records.SourceNotes{}, strings.NewReader(content)); err != nil {
			t.Fatal(err)
		}
	}
	deliver("readings", readings.String())
	if source := proposed(); strings.Contains(source, "references:") {
		t.Errorf("nothing of the register has arrived:\n%s", source)
	}
	deliver("register", register.String())
	if source := proposed(); !strings.Contains(source, "columns: [station], to: {dataset: register, columns: [id]}}   # every value is one") ||
		!strings.Contains(source, "check: covers, in: station, with: {dataset: register, columns: [id]}, severity: minor}   # all 30 occur") {
		t.Errorf("the register has arrived:\n%s", source)
	}
}

func TestARulebookIsChangedByForms(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	source := "dataset: d # ours\ncolumns:\n  - {name: a}\n"
	changed, err := servicetest.Post[api.Carried](ctx, r.Reader, "/rulebooks/edit", map[string]any{"source": source,
		"changes": []edit.Change{{Section: "columns", Item: "a", Field: "type", Value: "integer"}}})
	if err != nil || changed.Source != "dataset: d # ours\ncolumns:\n  - {name: a, type: integer}\n" {
		t.Fatalf("%+v, %v", changed, err)
	}
	_, err = servicetest.Post[api.Carried](ctx, r.Reader, "/rulebooks/edit",
		map[string]any{"source": source, "changes": []edit.Change{{Section: "columns", Item: "b", Field: "type"}}})
	refused(t, "a column that is not there", err, 422, `Columns has no "b".`)
	outlined, err := servicetest.Post[api.Outlined](ctx, r.Reader, "/rulebooks/outline",
		map[string]string{"source": changed.Source})
	if err != nil || len(outlined.Functions) < 15 {
		t.Fatalf("%+v, %v", outlined, err)
	}
	parts := []string{}
	for i, f := range outlined.Forms {
		parts = append(parts, f.Name)
		if s := outlined.Outline.Sections[i]; f.Name == "columns" && s.Items[0].Fields[1].Value != "integer" {
			t.Errorf("%+v", s)
		}
	}
	if text := strings.Join(parts, " "); text != "rulebook reading columns keys equal_rows rules table_rules references history meant_so" {
		t.Errorf("there are forms for %s", text)
	}
	_, err = servicetest.Post[api.Outlined](ctx, r.Reader, "/rulebooks/outline", map[string]string{"source": "a: ["})
	refused(t, "no YAML", err, 422, "The declaration has mistakes")
}
