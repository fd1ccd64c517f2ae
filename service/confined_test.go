package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/service/access"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// confined makes somebody who may do something with some datasets alone.
func confined(t *testing.T, r *servicetest.Running, name string, role access.Role, rights ...records.DatasetRight) *client.Client {
	t.Helper()
	made, err := r.Admin.AddPerson(ctx, client.NewPersonBody{Name: name, Role: client.NewPersonBodyRole(role)})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Admin.SetRights(ctx, name, records.Confinement{Confined: true, Rights: append([]records.DatasetRight{}, rights...)}); err != nil {
		t.Fatal(err)
	}
	return &client.Client{Server: r.URL, Token: made.Secret}
}

// laboratory declares and judges a dataset of a laboratory with an issue, a sheet about it, a cleaned table, a decision and a fetch;
// it returns the addresses of all that there is of it.
func laboratory(t *testing.T, r *servicetest.Running, name string) []string {
	t.Helper()
	declare(t, r.Steward, "rulebooks", strings.ReplaceAll(toldBook, "samples", name))
	table := deliver(t, r.Steward, name, "id,value\n"+name+"_1,9\nb,1\n").Table.ID
	a := audited(t, r.Steward, table)
	issues, err := r.Steward.ListIssues(ctx, &client.ListIssuesParams{Dataset: name})
	if err != nil || len(issues.Items) != 1 {
		t.Fatalf("%+v, %v", issues, err)
	}
	sheet, err := r.Steward.AddSheet(ctx, client.NewSheet{Issues: []int64{issues.Items[0].ID}, Recipient: name + " laboratory"})
	if err != nil {
		t.Fatal(err)
	}
	declare(t, r.Steward, "fix-plans", "fix_plan: as_is_"+name+"\ndataset: "+name+"\nsteps: []\n")
	job, err := r.Steward.ApplyFix(ctx, table, client.PlannedBody{FixPlan: "as_is_" + name})
	if err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	audited(t, r.Steward, *job.ResultTable)
	return []string{"datasets/" + name, fmt.Sprintf("tables/%d", table), fmt.Sprintf("tables/%d", *job.ResultTable), fmt.Sprintf("audits/%d", a.ID),
		fmt.Sprintf("issues/%d", issues.Items[0].ID), fmt.Sprintf("sheets/%d", sheet.ID), fmt.Sprintf("jobs/%d", job.ID),
		"rulebooks/" + name + "/" + name, "fix-plans/" + name + "/as_is_" + name}
}

var parameters = regexp.MustCompile(`\{[a-z]+\}`)

// Whoever is confined is told nothing of what is elsewhere, by no operation: what names something else is not there, and what names
// nothing either leaves out what is elsewhere, or is refused.
func TestWhoIsConfinedIsToldNothingOfOtherDatasets(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	laboratory(t, r, "millrace")
	theirs := laboratory(t, r, "highgarth")
	c := confined(t, r, "Petra", access.Steward, records.DatasetRight{Dataset: "millrace", May: "work"})
	ask := func(method, path string) (int, string) {
		t.Helper()
		body := ""
		if method != http.MethodGet {
			body = "{}"
		}
		response, said := send(t, method, r.URL+api.Prefix+path, c.Token, body, "Content-Type", "application/json")
		return response.StatusCode, said
	}
	for _, one := range operations(t) {
		method, path := one[0], one[1]
		if strings.Contains(path, "/events") || path == "/session" {
			continue // these do not end, or end what is asked here
		}
		tells := func(path string) {
			t.Helper()
			status, said := ask(method, path)
			if strings.Contains(said, "highgarth") || strings.Contains(said, "Highgarth") {
				t.Errorf("%s %s tells of another dataset (%d): %.300s", method, path, status, said)
			}
			if status >= 500 {
				t.Errorf("%s %s: %d %s", method, path, status, said)
			}
		}
		parts := strings.Split(strings.Trim(path, "/"), "/")
		noun := parts[0]
		if named := len(parts) > 1 && (parts[1] == "1" || parts[1] == "samples"); !named { // the list of operations has these for what is named
			tells(parameters.ReplaceAllString(path, "1"))
			continue
		}
		for _, thing := range theirs {
			of, key, _ := strings.Cut(thing, "/")
			if of != noun {
				continue
			}
			at := path
			if parts := strings.Split(strings.Trim(path, "/"), "/"); len(parts) > 2 && noun != "rulebooks" && noun != "fix-plans" {
				at = "/" + noun + "/{id}/" + strings.Join(parts[2:], "/")
			} else if noun != "rulebooks" && noun != "fix-plans" {
				at = "/" + noun + "/{id}"
			} else {
				at = strings.NewReplacer("/samples/{", "/{dataset}/{", "/samples/samples", "/{dataset}/{name}", "/samples/", "/{dataset}/").Replace(path)
			}
			if noun == "rulebooks" || noun == "fix-plans" {
				dataset, name, _ := strings.Cut(key, "/")
				at = strings.ReplaceAll(strings.ReplaceAll(at, "{dataset}", dataset), "{name}", name)
			} else {
				at = strings.Replace(at, parameters.FindString(at), key, 1)
			}
			at = parameters.ReplaceAllString(at, "1")
			status, said := ask(method, at)
			if status == http.StatusForbidden && strings.Contains(said, "Petra is a steward, and this needs the right to") {
				continue // nor may her role
			}
			if status != http.StatusNotFound || !strings.Contains(said, "There is nothing at this address that you may see.") {
				t.Errorf("%s %s of another dataset: %d %.200s", method, at, status, said)
			}
		}
	}
	// What others made of one's own tables is not there either: a merge of both, in lineage, path and previews.
	declare(t, r.Steward, "merges", "merge: highgarth_and_more\nstack: [millrace, highgarth]\n")
	run, err := r.Steward.RunMerge(ctx, "highgarth_and_more", client.RunBody{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Follow(ctx, run.ID, nil); err != nil {
		t.Fatal(err)
	}
	preview, err := c.PreviewFix(ctx, theirsOf(t, c, "millrace"), client.PreviewedBody{FixPlan: "as_is_millrace"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Follow(ctx, preview.ID, nil); err != nil {
		t.Fatal(err)
	}
	cleaned, err := c.ListTables(ctx, "millrace", &client.ListTablesParams{Origin: "cleaned"})
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{fmt.Sprintf("/jobs/%d", preview.ID), "/jobs", fmt.Sprintf("/tables/%d/lineage", cleaned.Items[0].ID), fmt.Sprintf("/tables/%d/provenance", cleaned.Items[0].ID),
		fmt.Sprintf("/tables/%d/path", cleaned.Items[0].ID), fmt.Sprintf("/tables/%d", cleaned.Items[0].ID), "/datasets/millrace", "/datasets/millrace/decided", "/desk", "/notices", "/certificates"} {
		if status, said := ask(http.MethodGet, path); status != http.StatusOK || strings.Contains(said, "highgarth") {
			t.Errorf("%s: %d %.1500s", path, status, said)
		}
	}
	// What is named beside is held against the grants as well.
	mine := theirsOf(t, c, "millrace")
	for _, path := range []string{fmt.Sprintf("/tables/%d/revision?with=3&key=id", mine), fmt.Sprintf("/tables/%d/rows?audit=3", mine),
		"/issues?dataset=highgarth", "/rulebooks?dataset=highgarth", "/jobs?table=3", "/search?text=highgarth"} {
		status, said := ask(http.MethodGet, path)
		if strings.Contains(said, "highgarth_1") || strings.Contains(said, `"dataset":"highgarth"`) || status == http.StatusOK && !strings.Contains(path, "search") {
			t.Errorf("%s: %d %.200s", path, status, said)
		}
	}
}

// theirsOf is the first delivery of a dataset that somebody sees.
func theirsOf(t *testing.T, c *client.Client, dataset string) int64 {
	t.Helper()
	tables, err := c.ListTables(ctx, dataset, &client.ListTablesParams{Origin: "delivery"})
	if err != nil || len(tables.Items) == 0 {
		t.Fatalf("%+v, %v", tables, err)
	}
	return tables.Items[0].ID
}

func TestAStewardOfOneLaboratoryWorksOnTheirsAlone(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	laboratory(t, r, "millrace")
	laboratory(t, r, "highgarth")
	c := confined(t, r, "Petra", access.Steward, records.DatasetRight{Dataset: "millrace", May: "work"})
	all, err := c.ListDatasets(ctx, nil)
	if err != nil || len(all.Items) != 1 || all.Items[0].Name != "millrace" {
		t.Fatalf("%+v, %v", all, err)
	}
	desk, err := client.Decode[api.Desk](c.ShowDesk(ctx))
	if err != nil || len(desk.Issues) > 1 || desk.Asked != 1 || len(desk.Running) != 0 {
		t.Errorf("%+v, %v", desk, err)
	}
	notices := kindsOf(t, c)
	if whole := kindsOf(t, r.Steward); len(notices) == 0 || len(notices)*2 != len(whole) {
		t.Errorf("told of %q, and all is %q", notices, whole)
	}
	// They work: deliver, declare, ask, put right.
	d := deliver(t, c, "millrace", "id,value\nc,3\n")
	audited(t, c, d.Table.ID)
	declareAfter(t, c, "rulebooks", strings.ReplaceAll(toldBook, "samples", "millrace")+"title: Ours\n", 1)
	_, err = c.Deliver(ctx, "highgarth", "x.csv", records.SourceNotes{}, strings.NewReader("id,value\nc,3\n"))
	refused(t, "a delivery of others", err, http.StatusNotFound, "that you may see")
	_, err = c.DeclareAfter(ctx, "rulebooks", []byte(strings.ReplaceAll(toldBook, "samples", "highgarth")), 1)
	refused(t, "the rulebook of others", err, http.StatusForbidden, "names the dataset highgarth")
	_, err = c.Declare(ctx, "rulebooks", []byte(strings.ReplaceAll(toldBook, "samples", "a_new_one")))
	refused(t, "a new dataset", err, http.StatusForbidden, "a_new_one")
	book := strings.ReplaceAll(toldBook, "samples", "millrace") + "rules: [{id: known, do: reference, columns: [id], to: {dataset: highgarth, columns: [id]}}]\n"
	book = strings.Replace(book, "do: reference", "kind: reference", 1)
	_, err = c.DeclareAfter(ctx, "rulebooks", []byte(book), 2)
	if err == nil {
		t.Error("a rulebook may look into the dataset of others")
	}
	_, err = c.PreviewMerge(ctx, client.PreviewMergeJSONRequestBody{Source: "merge: both\nstack: [millrace, highgarth]\n"})
	refused(t, "a merge", err, http.StatusForbidden, "those who see all datasets")
	_, err = c.ListHistory(ctx, nil)
	refused(t, "the history of all", err, http.StatusForbidden, "those who see all datasets")
	issues, err := r.Steward.ListIssues(ctx, &client.ListIssuesParams{Dataset: "highgarth"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = c.AddSheet(ctx, client.NewSheet{Issues: []int64{issues.Items[0].ID}, Recipient: "somebody"})
	refused(t, "to ask about others'", err, http.StatusNotFound, "that you may see")
	// An arrival of somebody else is not there.
	arrival, err := r.Steward.Arrive(ctx, "x.csv", strings.NewReader("id,value\nq,1\n"))
	if err != nil {
		t.Fatal(err)
	}
	_, err = c.DeliverArrival(ctx, arrival.ID, client.BecomingBody{Dataset: "millrace"})
	refused(t, "somebody else's file", err, http.StatusNotFound, "that you may see")
	own, err := c.Arrive(ctx, "x.csv", strings.NewReader("id,value\nq,2\n"))
	if err != nil {
		t.Fatal(err)
	}
	_, err = c.DeliverArrival(ctx, own.ID, client.BecomingBody{Dataset: "highgarth"})
	refused(t, "to deliver to others", err, http.StatusForbidden, "highgarth")
	if _, err := c.DeliverArrival(ctx, own.ID, client.BecomingBody{Dataset: "millrace"}); err != nil {
		t.Error(err)
	}
}

func TestGrantsGoNoFurtherThanRolesAndEndAtOnce(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	laboratory(t, r, "millrace")
	laboratory(t, r, "highgarth")
	reader := confined(t, r, "Rolf", access.Reader, records.DatasetRight{Dataset: "millrace", May: "work"})
	steward := confined(t, r, "Petra", access.Steward, records.DatasetRight{Dataset: "millrace", May: "read"})
	certifier := confined(t, r, "Nils", access.Certifier, records.DatasetRight{Dataset: "millrace", May: "certify"})
	for says, c := range map[string]*client.Client{"Rolf is a reader": reader, "Petra may read this dataset": steward} {
		_, err := c.Deliver(ctx, "millrace", "x.csv", records.SourceNotes{}, strings.NewReader("id,value\nc,3\n"))
		refused(t, "a delivery", err, http.StatusForbidden, says)
	}
	cleaned, err := r.Steward.ListTables(ctx, "millrace", &client.ListTablesParams{Origin: "cleaned"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := certifier.ShowCertificateDraft(ctx, cleaned.Items[0].ID); err != nil {
		t.Error(err)
	}
	if _, err := r.Admin.SetRights(ctx, "Petra", records.Confinement{Confined: true, Rights: []records.DatasetRight{}}); err != nil {
		t.Fatal(err)
	}
	if all, err := steward.ListDatasets(ctx, nil); err != nil || len(all.Items) != 0 {
		t.Errorf("%+v, %v", all, err)
	}
	if _, err := r.Admin.SetRights(ctx, "Petra", records.Confinement{Rights: []records.DatasetRight{}}); err != nil {
		t.Fatal(err)
	}
	if all, err := steward.ListDatasets(ctx, nil); err != nil || len(all.Items) != 2 {
		t.Errorf("%+v, %v", all, err)
	}
	_, err = r.Admin.SetRights(ctx, "administrator", records.Confinement{Confined: true, Rights: []records.DatasetRight{}})
	refused(t, "an administrator who is confined", err, http.StatusConflict, "is an administrator")
	_, err = r.Admin.SetRights(ctx, "Petra", records.Confinement{Confined: true, Rights: []records.DatasetRight{{Dataset: "springs", May: "read"}}})
	refused(t, "a dataset that is not there", err, http.StatusNotFound, "springs")
	twice := records.DatasetRight{Dataset: "millrace", May: "read"}
	_, err = r.Admin.SetRights(ctx, "Petra", records.Confinement{Confined: true, Rights: []records.DatasetRight{twice, twice}})
	refused(t, "a dataset twice", err, http.StatusUnprocessableEntity, "named twice")
	_, err = steward.SetRights(ctx, "Rolf", records.Confinement{Rights: []records.DatasetRight{}})
	refused(t, "by a steward", err, http.StatusForbidden, "the right to administer")
}

func TestPersonalDataAreMaskedForWhoMayNotSeeThem(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", askedBook)
	table := deliver(t, r.Steward, "samples", askedRows).Table.ID
	a := audited(t, r.Steward, table)
	masked := confined(t, r, "Rolf", access.Reader, records.DatasetRight{Dataset: "samples", May: "read"})
	sees := confined(t, r, "Nils", access.Reader, records.DatasetRight{Dataset: "samples", May: "read", Personal: true})
	told := func(c *client.Client, path string) (int, string) {
		t.Helper()
		response, said := send(t, http.MethodGet, r.URL+api.Prefix+path, c.Token, "")
		return response.StatusCode, said
	}
	for _, path := range []string{fmt.Sprintf("/tables/%d/rows", table), fmt.Sprintf("/audits/%d", a.ID), fmt.Sprintf("/audits/%d/report", a.ID)} {
		if status, said := told(masked, path); status != http.StatusOK || strings.Contains(said, "mara.quill@") || strings.Contains(said, "jonas.fell") || !strings.Contains(said, "•") {
			t.Errorf("%s: %d %.600s", path, status, said)
		}
		if status, said := told(sees, path); status != http.StatusOK || !strings.Contains(said, "@") {
			t.Errorf("%s: %d %.200s", path, status, said)
		}
	}
	for _, path := range []string{"rows?find=mara", "rows?where=id%3D%27a%27", "rows?sort=taken_by", "chosen-rows", "bytes", "export?format=csv", "codes?column=taken_by",
		"groups?columns=taken_by", "tally?by=taken_by&measure=rows"} {
		if status, said := told(masked, fmt.Sprintf("/tables/%d/%s", table, path)); status != http.StatusForbidden || !strings.Contains(said, "taken_by") {
			t.Errorf("%s: %d %.300s", path, status, said)
		}
	}
	// Of what was never audited nobody knows.
	unread, err := r.Steward.Deliver(ctx, "samples", "samples.xlsx", records.SourceNotes{}, strings.NewReader("PK\x03\x04 this is no workbook"))
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"bytes", "chosen-rows"} {
		if status, said := told(masked, fmt.Sprintf("/tables/%d/%s", unread.Table.ID, path)); status != http.StatusForbidden || !strings.Contains(said, "not audited yet") {
			t.Errorf("%s of a table without an audit: %d %.300s", path, status, said)
		}
	}
	// What is held beside shows cells as well, and so does the result of a job in a list.
	declare(t, r.Steward, "rulebooks", "dataset: plain\ncolumns: [{name: id}, {name: n, type: integer}]\npass_mark: 0\n")
	plain := deliver(t, r.Steward, "plain", "id,n\na,1\n").Table.ID
	audited(t, r.Steward, plain)
	both := confined(t, r, "Lena", access.Reader, records.DatasetRight{Dataset: "samples", May: "read"}, records.DatasetRight{Dataset: "plain", May: "read", Personal: true})
	if status, said := told(both, fmt.Sprintf("/tables/%d/totals/rows?with=%d&by=id&by_there=id&of=n&of_there=value", plain, table)); status != http.StatusForbidden || !strings.Contains(said, "taken_by") {
		t.Errorf("a table held beside: %d %.300s", status, said)
	}
	declare(t, r.Steward, "fix-plans", "fix_plan: as_is\ndataset: samples\nsteps: []\n")
	preview, err := r.Steward.PreviewFix(ctx, table, client.PreviewedBody{FixPlan: "as_is"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Follow(ctx, preview.ID, nil); err != nil {
		t.Fatal(err)
	}
	if status, said := told(masked, "/jobs"); status != http.StatusOK || strings.Contains(said, "@") {
		t.Errorf("the list of jobs: %d %.300s", status, said)
	}
	if status, _ := told(sees, fmt.Sprintf("/tables/%d/bytes", table)); status != http.StatusOK {
		t.Errorf("whoever may see personal data gets %d", status)
	}
	var page api.RowsPage
	_, said := told(masked, fmt.Sprintf("/tables/%d/rows", table))
	if err := json.Unmarshal([]byte(said), &page); err != nil || !slices.Equal(page.Rows[0].Cells, []string{"a", "m•••.•••••@•••••.•••••••", "PH", "99"}) {
		t.Errorf("%+v, %v", page.Rows, err)
	}
}
