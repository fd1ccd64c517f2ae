package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/client"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
	"proudsieve/service/store"
	"proudsieve/service/telling"
	"proudsieve/service/telling/standin"
	"proudsieve/service/work"
)

const toldBook = "dataset: samples\ncolumns: [{name: id}, {name: value, type: decimal, to: 5, severity: major}]\npass_mark: 90\n"

// telling starts a service that tells a stand-in of everything, with a mail server that is one.
func tellingService(t *testing.T) (*servicetest.Running, *standin.Mail, *standin.Receiver, *sqlx.DB) {
	t.Helper()
	m, err := standin.StartMail("127.0.0.1:0", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = m.Stop() })
	to, err := standin.StartReceiver("127.0.0.1:0", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = to.Stop() })
	database := postgrestest.Database(t)
	r := servicetest.Start(t, func(o *service.Options) {
		o.DatabaseURL, o.TellPrivate, o.Address = database, true, "https://sieve.example"
		o.Mail = &telling.MailServer{Address: m.Address, From: "sieve@alder-vale.example", TLS: "offered"}
	})
	s, err := store.Look(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	made, err := r.Admin.AddReceiver(ctx, client.NewReceiver{Name: "archive", Address: to.Address})
	if err != nil {
		t.Fatal(err)
	}
	to.SetSecret(made.Secret)
	return r, m, to, s.DB
}

// settled waits until nothing is waiting to be sent.
func settledSendings(t *testing.T, r *servicetest.Running) []records.Sending {
	t.Helper()
	for deadline := time.Now().Add(40 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		all, err := r.Admin.ListSendings(ctx, &client.ListSendingsParams{Limit: 500})
		if err != nil {
			t.Fatal(err)
		}
		if !slices.ContainsFunc(all.Items, func(s records.Sending) bool { return s.State == "waiting" }) {
			return all.Items
		}
		if time.Now().After(deadline) {
			t.Fatalf("still waiting: %+v", all.Items)
		}
	}
}

func kindsOf(t *testing.T, c *client.Client) (out []string) {
	t.Helper()
	page, err := c.ListNotices(ctx, &client.ListNoticesParams{})
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range page.Items {
		out = append(out, n.Kind)
	}
	slices.Reverse(out)
	return out
}

func TestWhatHappensIsToldToThoseWhoChoseSo(t *testing.T) {
	t.Parallel()
	r, letters, events, _ := tellingService(t)
	mailed := func(kinds ...string) []client.NoticeChoice {
		out := []client.NoticeChoice{}
		for _, k := range kinds {
			out = append(out, client.NoticeChoice{Kind: k, Listed: true, Mailed: true})
		}
		return out
	}
	_, err := r.Certifier.ChangeChoices(ctx, client.Told{Choices: mailed("fell_short"), Datasets: []string{}})
	refused(t, "letters to nowhere", err, http.StatusUnprocessableEntity, "an address to go to")
	_, err = r.Certifier.ChangeChoices(ctx, client.Told{Address: "a@b\r\nBcc: c@d", Choices: mailed(), Datasets: []string{}})
	refused(t, "an address with a line of its own", err, http.StatusUnprocessableEntity, "no e-mail address")
	for c, address := range map[*client.Client]string{r.Certifier: "jonas@alder-vale.example", r.Steward: "mara@alder-vale.example"} {
		if _, err := c.ChangeChoices(ctx, client.Told{Address: address, Choices: mailed("fell_short", "issue_came_back"), Datasets: []string{}}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := r.Reader.ChangeChoices(ctx, client.Told{Choices: []client.NoticeChoice{{Kind: "delivery_arrived"}}, Datasets: []string{}}); err != nil {
		t.Fatal(err)
	}
	declare(t, r.Steward, "rulebooks", toldBook)
	for _, content := range []string{"id,value\na,9\nb,1\n", "id,value\na,1\nb,2\n", "id,value\na,8\nb,2\nc,3\n"} {
		audited(t, r.Steward, deliver(t, r.Steward, "samples", content).Table.ID)
	}
	want := []string{"delivery_arrived", "fell_short", "delivery_arrived", "delivery_arrived", "fell_short", "issue_came_back"}
	if got := kindsOf(t, r.Steward); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := kindsOf(t, r.Reader); slices.Contains(got, "delivery_arrived") || len(got) != 3 {
		t.Errorf("somebody who wants no arrivals is told of %q", got)
	}
	settledSendings(t, r)
	if got, _ := events.All(); len(got) != len(want) || !strings.Contains(strings.Join(got, "\n"), `"type":"proudsieve.issue.came_back"`) {
		t.Errorf("%q", got)
	}
	got, repeats := letters.All()
	to := map[string]int{}
	for _, letter := range got {
		for _, name := range []string{"jonas", "mara"} {
			if strings.Contains(letter, "To: <"+name+"@") {
				to[name]++
			}
		}
		if !strings.Contains(letter, "https://sieve.example/") {
			t.Errorf("a letter leads nowhere:\n%s", letter)
		}
	}
	// Mara delivered herself, so that a letter tells her of what came back alone.
	if to["jonas"] != 3 || to["mara"] != 1 || repeats != 0 {
		t.Errorf("%v letters, %d repeats:\n%s", to, repeats, strings.Join(got, "\n"))
	}
}

func TestOneIsToldOfOnesOwnDatasetsAlone(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", toldBook)
	declare(t, r.Steward, "rulebooks", strings.ReplaceAll(toldBook, "samples", "stations"))
	_, err := r.Reader.ChangeChoices(ctx, client.Told{Choices: []client.NoticeChoice{}, Datasets: []string{"springs"}})
	refused(t, "an unknown dataset", err, http.StatusNotFound, "springs")
	if _, err := r.Reader.ChangeChoices(ctx, client.Told{Choices: []client.NoticeChoice{}, Datasets: []string{"stations"}}); err != nil {
		t.Fatal(err)
	}
	for _, dataset := range []string{"samples", "stations"} {
		audited(t, r.Steward, deliver(t, r.Steward, dataset, "id,value\na,1\n").Table.ID)
	}
	if got := kindsOf(t, r.Reader); len(got) != 1 {
		t.Errorf("%q", got)
	}
	seen, err := client.Decode[api.Unseen](r.Reader.SeeNotices(ctx, client.SeenBody{}))
	if err != nil || seen.Unseen != 1 {
		t.Fatalf("%+v, %v", seen, err)
	}
	own, err := client.Decode[api.Unseen](r.Steward.SeeNotices(ctx, client.SeenBody{}))
	if err != nil || own.Unseen != 0 {
		t.Errorf("one's own deeds are news: %+v, %v", own, err)
	}
	if seen, err = client.Decode[api.Unseen](r.Reader.SeeNotices(ctx, client.SeenBody{Last: seen.Newest})); err != nil || seen.Unseen != 0 {
		t.Errorf("%+v, %v", seen, err)
	}
}

func TestWhatCannotBeSentIsTriedAgainAndSentOnce(t *testing.T) {
	t.Parallel()
	r, _, events, db := tellingService(t)
	events.SetOut(true)
	declare(t, r.Steward, "rulebooks", toldBook)
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "id,value\na,9\n").Table.ID)
	problem := func() records.Receiver {
		t.Helper()
		all, err := r.Admin.ListReceivers(ctx)
		if err != nil || len(*all) != 1 {
			t.Fatalf("%+v, %v", all, err)
		}
		return (*all)[0]
	}
	for deadline := time.Now().Add(20 * time.Second); !strings.Contains(problem().Problem, "come again later"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%+v", problem())
		}
	}
	// One of the two loses its task, as when a node dies at a bad moment; the other one is tried again by its own.
	if _, err := db.Exec("DELETE FROM river_job WHERE id = (SELECT min(task_id) FROM sendings)"); err != nil {
		t.Fatal(err)
	}
	events.SetOut(false)
	all := settledSendings(t, r)
	got, repeats := events.All()
	if len(all) != 2 || len(got) != 2 || repeats != 0 || problem().Sent != 2 || problem().Waiting != 0 {
		t.Errorf("%+v\n%q, %d repeats, %+v", all, got, repeats, problem())
	}
}

func TestWhatIsGivenUpCanBeSentAgain(t *testing.T) {
	t.Parallel()
	r, letters, _, _ := tellingService(t)
	choice := func(address string) {
		t.Helper()
		if _, err := r.Certifier.ChangeChoices(ctx, client.Told{Address: address, Choices: []client.NoticeChoice{{Kind: "delivery_arrived", Mailed: true}}, Datasets: []string{}}); err != nil {
			t.Fatal(err)
		}
	}
	choice("nobody@alder-vale.example")
	declare(t, r.Steward, "rulebooks", toldBook)
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "id,value\na,1\n").Table.ID)
	settledSendings(t, r)
	lost, err := r.Admin.ListSendings(ctx, &client.ListSendingsParams{State: "given_up"})
	if err != nil || len(lost.Items) != 1 || lost.Items[0].To != "Jonas" || !strings.Contains(lost.Items[0].Problem, "nobody is here") || lost.Items[0].Attempts != 1 {
		t.Fatalf("%+v, %v", lost, err)
	}
	choice("jonas@alder-vale.example")
	if _, err := r.Admin.SendAgain(ctx, lost.Items[0].ID); err != nil {
		t.Fatal(err)
	}
	settledSendings(t, r)
	if got, _ := letters.All(); len(got) != 1 {
		t.Errorf("%q", got)
	}
	_, err = r.Admin.SendAgain(ctx, lost.Items[0].ID)
	refused(t, "what was sent", err, http.StatusConflict, "was not given up")
}

func TestReceiversAreTheAdministratorsAndKeepAwayFromPrivateNetworks(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	add := func(c *client.Client, name, address string) (*records.MadeReceiver, error) {
		return c.AddReceiver(ctx, client.NewReceiver{Name: name, Address: address})
	}
	_, err := add(r.Steward, "archive", "https://archive.example/events")
	refused(t, "by a steward", err, http.StatusForbidden, "the right to administer")
	_, err = add(r.Admin, "archive", "ftp://archive.example/events")
	refused(t, "another protocol", err, http.StatusUnprocessableEntity, "only http and https")
	to, err := standin.StartReceiver("127.0.0.1:0", "")
	if err != nil {
		t.Fatal(err)
	}
	defer to.Stop()
	made, err := add(r.Admin, "archive", to.Address)
	if err != nil || !strings.HasPrefix(made.Secret, "whsec_") {
		t.Fatalf("%+v, %v", made, err)
	}
	_, err = add(r.Admin, "archive", to.Address)
	refused(t, "a second of the name", err, http.StatusConflict, "there is a receiver")
	tried, err := client.Decode[api.Tried](r.Admin.TryReceiver(ctx, made.ID))
	if err != nil || tried.Took || !strings.Contains(tried.Says, "--tell-private") {
		t.Errorf("the service reaches into its own machine: %+v, %v", tried, err)
	}
	renewed, err := r.Admin.RenewReceiver(ctx, made.ID)
	if err != nil || renewed.Secret == made.Secret {
		t.Errorf("%+v, %v", renewed, err)
	}
	if err := r.Admin.RemoveReceiver(ctx, made.ID); err != nil {
		t.Fatal(err)
	}
	err = r.Admin.RemoveReceiver(ctx, made.ID)
	refused(t, "what was removed", err, http.StatusNotFound, "no receiver")
}

func TestASheetIsMailedToWhoIsAsked(t *testing.T) {
	t.Parallel()
	r, letters, _, _ := tellingService(t)
	declare(t, r.Steward, "rulebooks", askedBook)
	audited(t, r.Steward, deliver(t, r.Steward, "samples", askedRows).Table.ID)
	issue := issueOfRule(t, r.Steward, "value.range").ID
	_, err := r.Steward.AddSheet(ctx, client.NewSheet{Issues: []int64{issue}, Recipient: "Highgarth laboratory", Address: "desk"})
	refused(t, "an address that is none", err, http.StatusUnprocessableEntity, "no e-mail address")
	sheet, err := r.Steward.AddSheet(ctx, client.NewSheet{Issues: []int64{issue}, Recipient: "Highgarth laboratory", Address: "desk@highgarth.example"})
	if err != nil {
		t.Fatal(err)
	}
	settledSendings(t, r)
	got, _ := letters.All()
	plain := strings.ReplaceAll(strings.Join(got, ""), "=\r\n", "")
	if len(got) != 1 || !strings.Contains(plain, "https://sieve.example"+sheet.Link) {
		t.Fatalf("%s has no %s", plain, sheet.Link)
	}
	if strings.Contains(plain, "@alder.example") {
		t.Errorf("a letter tells personal data:\n%s", plain)
	}
	if sheet, err = r.Steward.RenewLink(ctx, sheet.ID, client.LinkedBody{Days: 3}); err != nil {
		t.Fatal(err)
	}
	settledSendings(t, r)
	if got, _ = letters.All(); len(got) != 2 {
		t.Errorf("a new link is not mailed: %q", got)
	}
	if sheet, err = r.Steward.ShowSheet(ctx, sheet.ID); err != nil || len(sheet.Sent) != 2 || sheet.Sent[0].State != "sent" {
		t.Errorf("%+v, %v", sheet.Sent, err)
	}
	// What is answered is told, with whose answer it was.
	if status, _, _ := page(t, r.URL+sheet.Link, map[string][]string{"by": {"Ines Hay"}, "answer " + sheet.Asked[0].Code: {"unknown"}}); status != http.StatusOK {
		t.Fatalf("the page answers %d", status)
	}
	if got := kindsOf(t, r.Steward); !slices.Contains(got, "question_answered") {
		t.Errorf("%q", got)
	}
}

func TestADeliveryThatIsLateIsToldOnce(t *testing.T) {
	t.Parallel()
	database := postgrestest.Database(t)
	r := servicetest.Start(t, func(o *service.Options) { o.DatabaseURL = database })
	declare(t, r.Steward, "rulebooks", toldBook)
	if _, err := r.Steward.ExpectDeliveries(ctx, "samples", client.ExpectingBody{Expects: &client.ExpectedDeliveries{Every: "day", By: 1, Since: daysAgo(3)}}); err != nil {
		t.Fatal(err)
	}
	s, err := store.Look(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	kept, err := files.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	pool, err := work.NewPool(s, kept, servicetest.Quiet(t))
	if err != nil {
		t.Fatal(err)
	}
	for _, now := range []time.Time{time.Now(), time.Now(), time.Now().AddDate(0, 0, 1)} {
		if err := pool.TellLate(ctx, now); err != nil {
			t.Fatal(err)
		}
	}
	page, err := r.Reader.ListNotices(ctx, &client.ListNoticesParams{Kind: "delivery_late"})
	if err != nil || len(page.Items) != 2 || !strings.Contains(page.Items[1].Says, "expected by "+daysAgo(1)) || !strings.Contains(page.Items[0].Says, "expected by "+daysAgo(0)) {
		t.Errorf("%+v, %v", page, err)
	}
}

func TestJobsThatFailAndCertificatesAreTold(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", toldBook)
	table := deliver(t, r.Steward, "samples", "id,value\na,1\n").Table
	audited(t, r.Steward, table.ID)
	declare(t, r.Steward, "fix-plans", "fix_plan: p\ndataset: samples\nsteps: []\n")
	job, err := r.Steward.ApplyFix(ctx, table.ID, client.PlannedBody{FixPlan: "p"})
	if err != nil {
		t.Fatal(err)
	}
	if job, err = r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	audited(t, r.Steward, *job.ResultTable)
	certificate, err := r.Certifier.CertifyTable(ctx, *job.ResultTable, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Certifier.RevokeCertificate(ctx, certificate.ID, client.RevokingBody{Reason: "A mistake."}); err != nil {
		t.Fatal(err)
	}
	unreadable, err := r.Steward.Deliver(ctx, "samples", "samples.xlsx", records.SourceNotes{}, strings.NewReader("PK\x03\x04 this is no workbook"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.AuditOf(ctx, unreadable.Table.ID, nil); err == nil {
		t.Fatal("what is no workbook is audited")
	}
	page, err := r.Reader.ListNotices(ctx, &client.ListNoticesParams{})
	if err != nil {
		t.Fatal(err)
	}
	var says []string
	for _, n := range page.Items {
		says = append(says, fmt.Sprintf("%s %s %s %s", n.Kind, n.Path, n.By, n.Says))
	}
	told := strings.Join(says, "\n")
	for _, text := range []string{"certificate_signed /certificates/1 Jonas Jonas signed certificate 1 of samples.",
		"certificate_revoked /certificates/1 Jonas Jonas revoked certificate 1 of samples: A mistake.", fmt.Sprintf("job_failed /tables/%d  Job", unreadable.Table.ID)} {
		if !strings.Contains(told, text) {
			t.Errorf("no %q in\n%s", text, told)
		}
	}
}

func TestNewsComeByThemselves(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", toldBook)
	reading, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(reading, http.MethodGet, r.URL+api.Prefix+"/notices/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+r.Reader.Token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	next := func() (out api.Unseen) {
		t.Helper()
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				if err := json.Unmarshal([]byte(data), &out); err != nil {
					t.Fatal(err)
				}
				return out
			}
		}
		t.Fatalf("nothing comes: %v", lines.Err())
		return out
	}
	if first := next(); first.Unseen != 0 {
		t.Errorf("%+v", first)
	}
	deliver(t, r.Steward, "samples", "id,value\na,1\n")
	if then := next(); then.Unseen != 1 || then.Newest == 0 {
		t.Errorf("%+v", then)
	}
}
