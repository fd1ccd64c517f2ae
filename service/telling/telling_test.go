package telling_test

import (
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"testing"
	"time"

	"proudsieve/service/records"
	"proudsieve/service/telling"
	"proudsieve/service/telling/standin"
)

var (
	at     = time.Date(2026, 5, 4, 10, 30, 0, 0, time.UTC)
	notice = &records.Notice{Event: "0b1c7f0e-0000-4000-8000-000000000001", Kind: "fell_short", Dataset: "stations",
		Says: "Delivery 7 of stations fell short with a score of 81.50.", Path: "/tables/7?view=findings", Facts: json.RawMessage(`{"table":7}`), By: "Mara", At: at}
	secret = telling.Secret([]byte("the service's own"), 3, 1)
)

// The example of the Standard Webhooks specification, whose signature was computed elsewhere.
func TestSignaturesAreThoseOfTheSpecification(t *testing.T) {
	got, err := telling.Sign("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "msg_p5jXN8AQM9LWM0D4loKWxJek", "1614265330", []byte(`{"test": 2432232314}`))
	if want := "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="; err != nil || got != want {
		t.Errorf("%s, %v, and should be %s", got, err, want)
	}
}

func TestAMessageIsKnownByItsSignatureAlone(t *testing.T) {
	body := []byte(`{"a":1}`)
	sent := func() http.Header {
		h := http.Header{}
		h.Set(telling.IDHeader, "x")
		h.Set(telling.TimeHeader, "1777890600") // at
		signature, err := telling.Sign(secret, "x", "1777890600", body)
		if err != nil {
			t.Fatal(err)
		}
		h.Set(telling.SignatureHeader, "v1,bm9uZQ== "+signature) // of two secrets, while one is replaced
		return h
	}
	if err := telling.Verify(secret, sent(), body, at.Add(4*time.Minute)); err != nil {
		t.Error(err)
	}
	other := sent()
	other.Set(telling.IDHeader, "y")
	for what, err := range map[string]error{
		"another body":   telling.Verify(secret, sent(), []byte(`{"a":2}`), at),
		"another id":     telling.Verify(secret, other, body, at),
		"another secret": telling.Verify(telling.Secret([]byte("the service's own"), 3, 2), sent(), body, at),
		"an old one":     telling.Verify(secret, sent(), body, at.Add(6*time.Minute)),
		"no signature":   telling.Verify(secret, http.Header{}, body, at),
	} {
		if !errors.Is(err, telling.ErrSignature) {
			t.Errorf("%s is taken: %v", what, err)
		}
	}
}

func TestAnEventIsACloudEvent(t *testing.T) {
	r, err := standin.StartReceiver("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Stop()
	teller := &telling.Teller{Address: "https://sieve.example/", HTTP: http.DefaultClient}
	if err := teller.Post(t.Context(), notice, r.Address, secret); err == nil || !strings.Contains(err.Error(), "401") {
		t.Errorf("a receiver takes what it does not know: %v", err)
	}
	r.SetSecret(secret)
	for range 2 {
		if err := teller.Post(t.Context(), notice, r.Address, secret); err != nil {
			t.Fatal(err)
		}
	}
	all, repeats := r.All()
	if len(all) != 1 || repeats != 1 {
		t.Fatalf("%q, %d repeats", all, repeats)
	}
	want := `{"specversion":"1.0","id":"0b1c7f0e-0000-4000-8000-000000000001","source":"https://sieve.example/","type":"proudsieve.table.fell_short",` +
		`"subject":"/tables/7?view=findings","time":"2026-05-04T10:30:00Z","datacontenttype":"application/json","data":{"dataset":"stations",` +
		`"says":"Delivery 7 of stations fell short with a score of 81.50.","by":"Mara","link":"https://sieve.example/tables/7?view=findings","facts":{"table":7}}}`
	if all[0] != want {
		t.Errorf("%s\nand should be\n%s", all[0], want)
	}
	r.SetOut(true)
	if err := teller.Post(t.Context(), notice, r.Address, secret); err == nil || !strings.Contains(err.Error(), "come again later") {
		t.Errorf("%v", err)
	}
	if err := teller.Try(t.Context(), r.Address, secret); err == nil {
		t.Error("a trial succeeds while nothing is taken")
	}
}

func TestLettersSayWhatHappenedAndAreKnownAgain(t *testing.T) {
	m, err := standin.StartMail("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer m.Stop()
	server := &telling.MailServer{Address: m.Address, From: "sieve@alder-vale.example"}
	if err := server.Check(); err != nil || server.TLS != "offered" {
		t.Fatalf("%s, %v", server.TLS, err)
	}
	teller := &telling.Teller{Address: "https://sieve.example", Mail: server}
	ctx := t.Context()
	for range 2 {
		if err := teller.Letter(ctx, "k1", "mara@alder-vale.example", notice); err != nil {
			t.Fatal(err)
		}
	}
	sheet := &records.Sheet{ID: 4, Recipient: "Ines\r\nBcc: all@alder-vale.example", Title: "Questions\r\nBcc: all@alder-vale.example", Says: "Thank you.", Due: "2026-05-20", LinkEnds: at,
		CreatedBy: "Mara", Questions: 3}
	if err := teller.Questions(ctx, "k2", "ines@alder-vale.example", sheet, "/answer/abc", true); err != nil {
		t.Fatal(err)
	}
	if all, repeats := m.All(); len(all) != 2 || repeats != 1 {
		t.Fatalf("%q, %d repeats", all, repeats)
	}
	for key, wanted := range map[string][]string{
		"k1@sieve.example": {"To: <mara@alder-vale.example>", "Subject: stations: a table fell short", "Auto-Submitted: auto-generated", "score of 81.50",
			"https://sieve.example/tables/7?view=3Dfindings", "It was done by Mara."},
		"k2@sieve.example": {"Subject: Questions Bcc: all@alder-vale.example", "asked before", "3 questions", "https://sieve.example/answer/abc", "2026-05-20"},
	} {
		letter, _ := m.Of(key)
		for _, text := range wanted {
			if !strings.Contains(letter, text) {
				t.Errorf("%s has no %q:\n%s", key, text, letter)
			}
		}
		head, _, _ := strings.Cut(letter, "\r\n\r\n")
		if strings.Contains(head, "\r\nBcc:") {
			t.Errorf("a name became a line of the head:\n%s", head)
		}
	}
	var permanent *telling.PermanentError
	if err := teller.Letter(ctx, "k3", "nobody@alder-vale.example", notice); !errors.As(err, &permanent) {
		t.Errorf("an address that is none is tried again: %v", err)
	}
	m.SetOut(true)
	if err := teller.Letter(ctx, "k4", "mara@alder-vale.example", notice); err == nil || errors.As(err, &permanent) {
		t.Errorf("a server that is busy is given up: %v", err)
	}
	if err := (&telling.Teller{}).Letter(ctx, "k5", "mara@alder-vale.example", notice); !errors.Is(err, telling.ErrNoMail) {
		t.Errorf("%v", err)
	}
}

func TestHowAMailServerIsSetUpIsChecked(t *testing.T) {
	for says, server := range map[string]telling.MailServer{
		"no mail server":             {Address: "mail.example", From: "a@b.example"},
		"no port":                    {Address: "mail.example:smtp", From: "a@b.example"},
		"no e-mail address":          {Address: "mail.example:25", From: "sieve"},
		"no way to keep mail secret": {Address: "mail.example:25", From: "a@b.example", TLS: "none"},
	} {
		if err := server.Check(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v", server, err)
		}
	}
	far := telling.MailServer{Address: "mail.example:25", From: "a@b.example"}
	if err := far.Check(); err != nil || far.TLS != "required" {
		t.Errorf("a server elsewhere: %s, %v", far.TLS, err)
	}
	for _, text := range []string{"a@b\r\nRCPT TO:<c@d>", "a b@c", "<a@b>", "a", strings.Repeat("a", 250) + "@b.example"} {
		if telling.CheckAddress(text) == nil {
			t.Errorf("%q is taken for an address", text)
		}
	}
}
