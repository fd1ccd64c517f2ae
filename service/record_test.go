package service_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func daysAgo(n int) string { return time.Now().UTC().AddDate(0, 0, -n).Format(time.DateOnly) }

func TestADeliveryThatDoesNotComeIsAMatterOfTheDesk(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: samples\ncolumns: [{name: id, required: true, severity: major}]\npass_mark: 90\n")
	daily := func(every, since string) client.ExpectingBody {
		return client.ExpectingBody{Expects: &client.ExpectedDeliveries{Every: client.ExpectedDeliveriesEvery(every), By: 1, Since: since}}
	}
	_, err := r.Reader.ExpectDeliveries(ctx, "samples", daily("day", daysAgo(2)))
	refused(t, "by a reader", err, http.StatusForbidden, "the right to work")
	_, err = r.Steward.ExpectDeliveries(ctx, "samples", daily("moon", daysAgo(2)))
	refused(t, "by the moon", err, http.StatusUnprocessableEntity, "every")
	_, err = r.Steward.ExpectDeliveries(ctx, "samples", daily("day", "1999-01-01"))
	refused(t, "since long ago", err, http.StatusUnprocessableEntity, "10 years ago at the earliest")
	if _, err := r.Steward.ExpectDeliveries(ctx, "samples", daily("day", daysAgo(2))); err != nil {
		t.Fatal(err)
	}
	desk, err := client.Decode[api.Desk](r.Steward.ShowDesk(ctx))
	if err != nil || len(desk.Late) != 1 || desk.Late[0].Dataset != "samples" || desk.Late[0].Day != daysAgo(2) || desk.Late[0].Missed != 2 || desk.Late[0].Days != 2 {
		t.Fatalf("%+v, %v", desk, err)
	}
	first := deliveredBy(t, r.Steward, "Highgarth laboratory", "id\na\n")
	audited(t, r.Steward, first)
	record, err := client.Decode[api.DatasetRecord](r.Reader.ShowRecord(ctx, "samples"))
	if err != nil || record.Late != 1 || record.Missed != 1 || record.Dues[0].Table != first || record.Dues[0].Late != 2 || record.Dues[1].Table != 0 || record.Dues[2].Late != 0 {
		t.Fatalf("%+v, %v", record, err)
	}
	audited(t, r.Steward, deliveredBy(t, r.Steward, "Millrace laboratory", "id,x\n,1\n,2\n"))
	record, err = client.Decode[api.DatasetRecord](r.Reader.ShowRecord(ctx, "samples"))
	if err != nil || record.Late != 2 || record.Missed != 0 || len(record.Providers) != 2 {
		t.Fatalf("%+v, %v", record, err)
	}
	if good, bad := record.Providers[0], record.Providers[1]; good.Provider != "Highgarth laboratory" || good.Short != 0 || good.Late != 1 || bad.Judged != 1 || bad.Short != 1 {
		t.Errorf("%+v", record.Providers)
	}
	if _, err := r.Steward.ExpectDeliveries(ctx, "samples", client.ExpectingBody{}); err != nil {
		t.Fatal(err)
	}
	if record, err = client.Decode[api.DatasetRecord](r.Reader.ShowRecord(ctx, "samples")); err != nil || record.Expects != nil || len(record.Dues) != 0 {
		t.Errorf("%+v, %v", record, err)
	}
}

// deliveredBy delivers a file of samples and says whose it is.
func deliveredBy(t *testing.T, c *client.Client, provider, content string) int64 {
	t.Helper()
	taken, err := c.Deliver(ctx, "samples", "samples.csv", records.SourceNotes{Provider: provider}, strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	return taken.Table.ID
}

func TestARecordTellsWhichRulesComeBackAndTheCourseOfEach(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: samples\ncolumns: [{name: id}, {name: value, type: decimal, to: 5, required: true, severity: minor}]\nmeasures: [value]\npass_mark: 10\n")
	var tables []int64
	for _, content := range []string{"id,value\na,1\nb,9\n", "id,value\na,1\nb,2\n", "id,value\na,1.5\nb,\nc,8\nd,7\n"} {
		d := deliver(t, r.Steward, "samples", content)
		audited(t, r.Steward, d.Table.ID)
		tables = append(tables, d.Table.ID)
	}
	course, err := client.Decode[api.Course](r.Reader.ShowCourse(ctx, "samples", &client.ShowCourseParams{}))
	if err != nil || len(course.Points) != 3 || course.Earlier != 0 {
		t.Fatalf("%+v, %v", course, err)
	}
	for i, want := range []struct {
		rows, high, gaps int64
		sum              string
		score            float64
	}{{2, 1, 0, "10", 50}, {2, 0, 0, "3", 100}, {4, 2, 1, "16.5", 25}} {
		p := course.Points[i]
		if p.Table != tables[i] || p.Rows != want.rows || p.Rules["value.range"] != want.high || p.Gaps["value"] != want.gaps || p.Sums["value"] != want.sum || p.Score == nil || *p.Score != want.score {
			t.Errorf("delivery %d: %+v", i+1, p)
		}
	}
	record, err := client.Decode[api.DatasetRecord](r.Reader.ShowRecord(ctx, "samples"))
	if err != nil || len(record.ComeBack) != 1 || record.ComeBack[0].Rule != "value.range" || record.ComeBack[0].Times != 1 {
		t.Errorf("%+v, %v", record, err)
	}
	cleaned, err := client.Decode[api.Course](r.Reader.ShowCourse(ctx, "samples", &client.ShowCourseParams{Origin: "cleaned"}))
	if err != nil || len(cleaned.Points) != 0 {
		t.Errorf("what was cleaned is told among what arrived: %+v, %v", cleaned, err)
	}
}
