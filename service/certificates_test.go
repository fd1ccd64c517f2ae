package service_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/durable"
	"proudsieve/service"
	"proudsieve/service/access"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// certifiable makes a merged table of samples that somebody can certify: cleaned by a plan without steps, and merged.
func certifiable(t *testing.T, r *servicetest.Running) *records.Table {
	t.Helper()
	declare(t, r.Steward, "rulebooks", phBook)
	declare(t, r.Steward, "rulebooks", strings.Replace(phBook, "dataset: samples", "dataset: all_samples", 1))
	declare(t, r.Steward, "fix-plans", "fix_plan: p\ndataset: samples\nsteps: [{do: set_aside, where: id = 'z', reason: It is none of ours.}]\n")
	declare(t, r.Steward, "merges", "merge: all_samples\nstack: [samples]\n")
	d := deliver(t, r.Steward, "samples", "id,parameter,value\na,PH,7\nb,PH,8\nz,PH,9\n")
	audited(t, r.Steward, d.Table.ID)
	audited(t, r.Steward, applyPlan(t, r, d.Table.ID, "p").ID)
	merged := mergedBy(t, r, "all_samples")
	audited(t, r.Steward, merged.ID)
	return merged
}

// secondCertifier is another person who may certify.
func secondCertifier(t *testing.T, r *servicetest.Running) *client.Client {
	t.Helper()
	made, err := r.Admin.AddPerson(ctx, client.NewPersonBody{Name: "Orla", Role: client.NewPersonBodyRole(access.Certifier)})
	if err != nil {
		t.Fatal(err)
	}
	return &client.Client{Server: r.URL, Token: made.Secret}
}

func opened(t *testing.T, r *servicetest.Running, c *records.Certificate) *certify.Opened {
	t.Helper()
	keys, err := r.Reader.Call(ctx, http.MethodGet, "/signing-keys", nil)
	if err != nil {
		t.Fatal(err)
	}
	o, err := certify.OpenWhole(c.Signature, keys)
	if err != nil {
		t.Fatal(err)
	}
	return o
}

func revocationList(t *testing.T, r *servicetest.Running) *certify.Revocations {
	t.Helper()
	keys, err := r.Reader.Call(ctx, http.MethodGet, "/signing-keys", nil)
	if err != nil {
		t.Fatal(err)
	}
	list, err := (&client.Client{Server: r.URL}).Call(ctx, http.MethodGet, "/revocations", nil) // it needs no account
	if err != nil {
		t.Fatal(err)
	}
	revoked, err := certify.OpenRevocations(string(list), keys)
	if err != nil {
		t.Fatal(err)
	}
	return revoked
}

// A certificate tells the whole chain: each table down to the delivery, what was found and done, and who did it.
func TestACertificateTellsTheWholeChain(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	merged := certifiable(t, r)
	draft, err := client.Decode[api.CertificateDraft](r.Certifier.ShowCertificateDraft(ctx, merged.ID))
	if err != nil || len(draft.Obstacles) != 0 {
		t.Fatalf("%+v, %v", draft, err)
	}
	c, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{Conditions: "For the yearbook alone.", ValidUntil: "2099-12-31"})
	if err != nil {
		t.Fatal(err)
	}
	said := opened(t, r, c).Statement
	var drafted certify.Statement
	if err := json.Unmarshal(draft.Statement, &drafted); err != nil {
		t.Fatal(err)
	}
	drafted.Conditions, drafted.ValidUntil, drafted.CertifiedAt = said.Conditions, said.ValidUntil, said.CertifiedAt
	if a, b := asJSON(t, drafted), asJSON(t, said); a != b {
		t.Errorf("what was shown before is not what was signed:\n%s\n%s", a, b)
	}
	if len(said.Chain) != 3 || said.Conditions != "For the yearbook alone." || said.ValidUntil != "2099-12-31" {
		t.Fatalf("%+v", said)
	}
	delivery, cleaned, last := said.Chain[0], said.Chain[1], said.Chain[2]
	if delivery.Origin != "delivery" || !strings.Contains(string(delivery.Source), "the laboratory") || delivery.By != "Mara" || delivery.Judged.Rows != 3 || delivery.Judged.Rulebook.Version != 1 {
		t.Errorf("%+v", delivery)
	}
	if cleaned.Of[0] != delivery.SHA256 || cleaned.Plan.Name != "p" || cleaned.ChangeLog == "" || !strings.Contains(string(cleaned.Ledger), `"rows_out":2`) || strings.Contains(string(cleaned.Ledger), `"old"`) {
		t.Errorf("%+v %s", cleaned, cleaned.Ledger)
	}
	if last.Of[0] != cleaned.SHA256 || last.SHA256 != said.Table.SHA256 || !strings.Contains(string(last.Accounting), `"rows":2`) || last.Certificate != "" {
		t.Errorf("%+v", last)
	}
	if _, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{ValidUntil: "2020-01-01"}); err == nil || !strings.Contains(err.Error(), "a day that is not over") {
		t.Errorf("%v", err)
	}
}

func asJSON(t *testing.T, v any) string {
	t.Helper()
	var plain any // whose names are in order
	raw, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(raw, &plain)
	}
	if err == nil {
		raw, err = json.Marshal(plain)
	}
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

func TestMoreThanOneSignsAndOneIsRevoked(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	merged := certifiable(t, r)
	c, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	_, err = r.Certifier.SignCertificate(ctx, c.ID)
	refused(t, "twice by the same person", err, http.StatusConflict, "Jonas signed certificate 1 already")
	_, err = r.Steward.SignCertificate(ctx, c.ID)
	refused(t, "by a steward", err, http.StatusForbidden, "the right to certify")
	_, err = r.Admin.SignCertificate(ctx, c.ID) // may certify, and did nothing else
	if err != nil {
		t.Fatal(err)
	}
	orla := secondCertifier(t, r)
	both, err := orla.SignCertificate(ctx, c.ID)
	if err != nil || both.Digest != c.Digest {
		t.Fatalf("%+v, %v", both, err)
	}
	o := opened(t, r, both)
	if len(o.Signers) != 3 || o.Signers[0].By != "Jonas" || o.Signers[2].By != "Orla" || o.Digest != c.Digest || string(both.Signers) != `["administrator","Orla"]` && !strings.Contains(string(both.Signers), "Orla") {
		t.Errorf("%+v %s", o.Signers, both.Signers)
	}
	var table bytes.Buffer
	whole, err := r.Reader.DownloadTable(ctx, merged.ID, nil)
	if err := client.Save(&table, whole, err); err != nil {
		t.Fatal(err)
	}
	keys, _ := r.Reader.Call(ctx, http.MethodGet, "/signing-keys", nil)
	if _, err := certify.Verify(&table, nil, both.Signature, keys); err != nil {
		t.Error(err)
	}
	if err := o.Counts(time.Now(), revocationList(t, r)); err != nil {
		t.Error(err)
	}
	_, err = r.Steward.RevokeCertificate(ctx, c.ID, client.RevokingBody{Reason: "I think so."})
	refused(t, "a steward revokes", err, http.StatusForbidden, "the right to certify")
	gone, err := orla.RevokeCertificate(ctx, c.ID, client.RevokingBody{Reason: "A meter was wrong."})
	if err != nil || *gone.Revoked != "A meter was wrong." || *gone.RevokedBy != "Orla" {
		t.Fatalf("%+v, %v", gone, err)
	}
	if err := o.Counts(time.Now(), revocationList(t, r)); !errors.Is(err, certify.ErrRevoked) || !strings.Contains(err.Error(), "by Orla: A meter was wrong.") {
		t.Errorf("%v", err)
	}
	_, err = orla.RevokeCertificate(ctx, c.ID, client.RevokingBody{Reason: "once more"})
	refused(t, "twice", err, http.StatusConflict, "was revoked before")
}

func TestACertificateStandsInForAnother(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	merged := certifiable(t, r)
	first, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	second, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{Replaces: first.ID, Conditions: "Not for single stations."})
	if err != nil {
		t.Fatal(err)
	}
	if said := opened(t, r, second).Statement; said.Replaces != first.Digest {
		t.Errorf("%+v", said)
	}
	list := revocationList(t, r)
	if len(list.Revoked) != 1 || list.Revoked[0].Certificate != first.Digest || list.Revoked[0].ReplacedBy != second.Digest {
		t.Errorf("%+v", list)
	}
	_, err = r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{Replaces: first.ID})
	refused(t, "one that was replaced", err, http.StatusUnprocessableEntity, "cannot be replaced")
}

func TestAKeyIsPutAwayAndWhatItSignedStillVerifies(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	merged := certifiable(t, r)
	before, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	_, err = r.Certifier.RotateSigningKey(ctx)
	refused(t, "a certifier", err, http.StatusForbidden, "the right to administer")
	old, err := r.Reader.SigningKey(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Admin.RotateSigningKey(ctx); err != nil {
		t.Fatal(err)
	}
	after, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	if a, b := opened(t, r, before).Signers[0].Key, opened(t, r, after).Signers[0].Key; a == b {
		t.Errorf("both were signed with the key %s", a)
	}
	if _, err := certify.Open(after.Signature, old); !errors.Is(err, certify.ErrSignature) {
		t.Errorf("the new one verifies with the old key: %v", err)
	}
	if _, err := certify.Open(before.Signature, old); err != nil {
		t.Error(err)
	}
}

// Where a table of the chain has a certificate of its own, that is in the one that rests on it.
func TestTheCertificateOfAnInputIsEmbedded(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	merged := certifiable(t, r)
	inputs, err := servicetest.Get[[]records.Table](ctx, r.Reader, "/tables/"+itoa(merged.ID)+"/inputs")
	if err != nil || len(*inputs) != 1 {
		t.Fatalf("%+v, %v", inputs, err)
	}
	inner, err := r.Certifier.CertifyTable(ctx, (*inputs)[0].ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	outer, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	said := opened(t, r, outer).Statement
	keys, _ := r.Reader.Call(ctx, http.MethodGet, "/signing-keys", nil)
	if said.Chain[1].Certificate != inner.Signature || said.OpenChain(keys) != nil {
		t.Errorf("%+v, %v", said.Chain[1], said.OpenChain(keys))
	}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// Whoever put a table right that a merge rests on cannot vouch for what is merged of that merge either.
func TestWhoeverWorkedFurtherDownCannotSign(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	certifiable(t, r)
	d := deliver(t, r.Steward, "samples", "id,parameter,value\na,PH,7\nz,PH,9\n")
	audited(t, r.Steward, d.Table.ID)
	job, err := r.Admin.ApplyFix(ctx, d.Table.ID, client.PlannedBody{FixPlan: "p"})
	audited(t, r.Steward, madeBy(t, r, job, err).ID)
	inner := mergedBy(t, r, "all_samples")
	audited(t, r.Steward, inner.ID)
	declare(t, r.Steward, "rulebooks", strings.Replace(phBook, "dataset: samples", "dataset: yearbook", 1))
	declare(t, r.Steward, "merges", "merge: yearbook\nstack: [all_samples]\n")
	outer := mergedBy(t, r, "yearbook")
	audited(t, r.Steward, outer.ID)
	_, err = r.Admin.CertifyTable(ctx, outer.ID, client.Certifying{})
	refused(t, "by who put the delivery right", err, http.StatusConflict, "administrator applied the fixes")
	if _, err := r.Certifier.CertifyTable(ctx, outer.ID, client.Certifying{}); err != nil {
		t.Error(err)
	}
}

// Of two who make a new key at once one comes after the other, and a change of the key that was cut off before it was recorded is
// made good.
func TestTheKeyOfTheFileIsTheOneThatCounts(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	merged := certifiable(t, r)
	failed := make(chan error)
	for range 4 {
		go func() {
			_, err := r.Admin.RotateSigningKey(ctx)
			failed <- err
		}()
	}
	for range 4 {
		if err := <-failed; err != nil {
			t.Error(err)
		}
	}
	if _, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{}); err != nil {
		t.Error(err)
	}
	made, err := certify.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	if err := durable.WriteFile(service.KeyFile(r.Directory), made, 0o600); err != nil {
		t.Fatal(err)
	}
	c, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	if id, _ := certify.KeyID(made); opened(t, r, c).Signers[0].Key != id {
		t.Errorf("%+v", opened(t, r, c).Signers)
	}
}
