package service_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// program comes in by a token that c makes for it.
func program(t *testing.T, r *servicetest.Running, c *client.Client, asked client.NewTokenBody) (*client.Client, *records.MadeToken) {
	t.Helper()
	made, err := c.AddToken(ctx, asked)
	if err != nil {
		t.Fatal(err)
	}
	return &client.Client{Server: r.URL, Token: made.Secret}, made
}

func TestATokenForAProgramLetsItDoWhatItIsForAlone(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for _, name := range []string{"crews", "stations"} {
		if _, err := servicetest.Post[map[string]any](ctx, r.Steward, "/datasets", map[string]string{"name": name}); err != nil {
			t.Fatal(err)
		}
	}
	deliver := func(c *client.Client, dataset string) error {
		_, err := c.Deliver(ctx, dataset, "a.csv", records.SourceNotes{}, strings.NewReader("a\n"+dataset+"\n"))
		return err
	}
	one, made := program(t, r, r.Steward, client.NewTokenBody{Note: "the loader", Days: 30, Datasets: []string{"crews"}})
	if made.Datasets != "crews" || made.As != "" || made.ExpiresAt == nil {
		t.Errorf("%+v", made)
	}
	if err := deliver(one, "crews"); err != nil {
		t.Errorf("what it is for is refused: %v", err)
	}
	refused(t, "another dataset", deliver(one, "stations"), http.StatusNotFound, "")
	all, err := one.ListDatasets(ctx, &client.ListDatasetsParams{})
	if err != nil || len(all.Items) != 1 {
		t.Errorf("it sees %v, %v", all, err)
	}
	_, err = one.ListDatabases(ctx)
	refused(t, "databases", err, http.StatusForbidden, "")
	_, err = one.ListTokens(ctx, &client.ListTokensParams{})
	refused(t, "its person's tokens", err, http.StatusForbidden, "some datasets alone")
	if err := deliver(r.Steward, "stations"); err != nil {
		t.Fatal(err)
	}
	notices, err := one.ListNotices(ctx, &client.ListNoticesParams{})
	if err != nil || len(notices.Items) != 1 || notices.Items[0].Dataset != "crews" {
		t.Errorf("it is told %+v, %v", notices, err)
	}
	looking, _ := program(t, r, r.Steward, client.NewTokenBody{As: "reader"})
	if _, err := looking.ListDatasets(ctx, &client.ListDatasetsParams{}); err != nil {
		t.Error(err)
	}
	refused(t, "working as a reader", deliver(looking, "crews"), http.StatusForbidden, "")
	// It makes no further tokens, ends none but itself, and its sessions are for no more than it.
	for name, c := range map[string]*client.Client{"of a dataset": one, "as a reader": looking} {
		_, err = c.AddToken(ctx, client.NewTokenBody{})
		refused(t, name+": another token", err, http.StatusForbidden, "without such a limit")
		refused(t, name+": ending another", c.RevokeToken(ctx, 1), http.StatusForbidden, "itself alone")
	}
	response, body := send(t, http.MethodPost, r.URL+"/api/v1/session", "", fmt.Sprintf(`{"token":%q}`, looking.Token))
	if response.StatusCode != http.StatusCreated || !strings.Contains(body, `"role":"reader"`) {
		t.Fatalf("signing in: %d %s", response.StatusCode, body)
	}
	response, body = send(t, http.MethodPost, r.URL+"/api/v1/datasets", "", `{"name":"more"}`, "Cookie", response.Header.Get("Set-Cookie"), "Origin", r.URL)
	if response.StatusCode != http.StatusForbidden {
		t.Errorf("a session of a reader's token makes a dataset: %d %s", response.StatusCode, body)
	}
	if err := one.RevokeToken(ctx, made.ID); err != nil {
		t.Errorf("it cannot end itself: %v", err)
	}
	refused(t, "an ended token", deliver(one, "crews"), http.StatusUnauthorized, "")
}

func TestATokenIsForNoMoreThanItsPersonMayDo(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	for _, name := range []string{"crews", "stations"} {
		if _, err := servicetest.Post[map[string]any](ctx, r.Steward, "/datasets", map[string]string{"name": name}); err != nil {
			t.Fatal(err)
		}
	}
	for _, as := range []client.NewTokenBodyAs{"certifier", "administrator"} {
		_, err := r.Steward.AddToken(ctx, client.NewTokenBody{As: as})
		refused(t, string(as), err, http.StatusUnprocessableEntity, "no more than its person may do")
	}
	_, err := r.Admin.AddToken(ctx, client.NewTokenBody{Datasets: []string{"crews"}})
	refused(t, "an administrator of one dataset", err, http.StatusUnprocessableEntity, "as whom else")
	_, err = r.Steward.AddToken(ctx, client.NewTokenBody{Datasets: []string{"nowhere"}})
	refused(t, "no dataset", err, http.StatusNotFound, "nowhere")
	certifying, _ := program(t, r, r.Admin, client.NewTokenBody{As: "certifier", Datasets: []string{"crews", "stations"}})
	_, err = certifying.ListPeople(ctx)
	if err != nil {
		t.Error(err)
	}
	_, err = certifying.AddPerson(ctx, client.NewPersonBody{Name: "Otto", Role: "reader"})
	refused(t, "letting people in", err, http.StatusForbidden, "")

	// Somebody who is confined makes tokens for what they see, and what is taken from them is taken from their tokens.
	otto := confined(t, r, "Otto", access.Steward, records.DatasetRight{Dataset: "crews", May: "work"})
	_, err = otto.AddToken(ctx, client.NewTokenBody{Datasets: []string{"stations"}})
	refused(t, "a dataset that they do not see", err, http.StatusNotFound, "")
	loader, _ := program(t, r, otto, client.NewTokenBody{Datasets: []string{"crews"}})
	deliver := func(text string) error {
		_, err := loader.Deliver(ctx, "crews", "a.csv", records.SourceNotes{}, strings.NewReader("a\n"+text+"\n"))
		return err
	}
	if err := deliver("1"); err != nil {
		t.Error(err)
	}
	rights := func(all ...records.DatasetRight) {
		t.Helper()
		if _, err := r.Admin.SetRights(ctx, "Otto", records.Confinement{Confined: true, Rights: append([]records.DatasetRight{}, all...)}); err != nil {
			t.Fatal(err)
		}
	}
	rights(records.DatasetRight{Dataset: "crews", May: "read"})
	refused(t, "read alone", deliver("2"), http.StatusForbidden, "")
	rights(records.DatasetRight{Dataset: "stations", May: "work"})
	refused(t, "another dataset alone", deliver("3"), http.StatusNotFound, "")
}
