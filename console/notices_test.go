package console_test

import (
	"strings"
	"testing"

	"proudsieve/service"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
	"proudsieve/service/telling"
	"proudsieve/service/telling/standin"
)

// Somebody looks on while others work: what happens comes by itself, as they chose, and programs are told as well.
func TestWhatHappensComesByItself(t *testing.T) {
	t.Parallel()
	letters, err := standin.StartMail("127.0.0.1:0", "")
	if err != nil {
		t.Fatal(err)
	}
	defer letters.Stop()
	to, err := standin.StartReceiver("127.0.0.1:0", "")
	if err != nil {
		t.Fatal(err)
	}
	defer to.Stop()
	r := servicetest.Start(t, func(o *service.Options) {
		o.TellPrivate = true
		o.Mail = &telling.MailServer{Address: letters.Address, From: "sieve@alder-vale.example", TLS: "offered"}
	})
	p := sitDown(t, r.URL)
	p.visit("/notices")
	p.signsIn(r.Admin.Token)
	p.sees("Nothing happened yet that you want to be told of.", "No program is told of what happens.", "Nothing is so.")

	// A program, whose secret is shown once.
	p.writes(`input[aria-label="Name of the program"]`, "archive")
	p.writes(`input[aria-label="Its web address"]`, to.Address)
	p.presses("Tell it")
	p.sees("The secret of archive. It is shown this once")
	p.presses("Try it")
	p.sees("the signature does not fit")
	to.SetSecret(evaluate[string](p, `[...document.querySelectorAll("code")].find((c) => c.innerText.startsWith("whsec_")).innerText`))
	p.presses("Try it")
	p.sees("archive took the event.")

	// What comes while one looks at another page.
	p.visit("/datasets")
	p.sees("Notices")
	if _, err := servicetest.Post[map[string]any](t.Context(), r.Steward, "/datasets", map[string]string{"name": "crews"}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Deliver(t.Context(), "crews", "crews.csv", records.SourceNotes{}, strings.NewReader("crew\nred\n")); err != nil {
		t.Fatal(err)
	}
	p.awaits(`document.querySelector('header a[aria-label="Notices, 1 new"]') !== null`)
	p.clicks(`header a[href="/notices"]`)
	p.sees("new Delivery 1 of crews arrived: crews.csv.", "Mara")
	p.awaits(`document.querySelector('header a[aria-label="Notices"]') !== null`)
	p.sees("archive", "sent")
	p.presses("Delivery 1 of crews arrived")
	p.awaits(`location.pathname === "/tables/1"`)

	// Choices: letters need an address; one kind alone, of one dataset alone.
	p.visit("/notices")
	p.sees("Keep these choices")
	p.clicks(`input[aria-label="By mail: a delivery arrived"]`)
	p.clicks(`input[aria-label="In this list: a delivery arrived"]`)
	p.presses("Keep these choices")
	p.sees("Letters need an address to go to")
	p.writes(`input[aria-label="Your e-mail address"]`, "office@alder-vale.example")
	p.writes(`select[aria-label="Be told of one dataset more"]`, "crews")
	p.sees("Of these datasets alone:")
	p.presses("Keep these choices")
	p.sees("What you are told of is as you chose.", "Nothing happened yet that you want to be told of.")
	if _, err := r.Steward.Deliver(t.Context(), "crews", "crews.csv", records.SourceNotes{}, strings.NewReader("crew\nblue\n")); err != nil {
		t.Fatal(err)
	}
	p.awaits(`[...document.querySelectorAll('[aria-label="What was sent"] tr')].some((r) => r.innerText.includes("administrator") && r.innerText.includes("sent"))`)
	if all, _ := letters.All(); len(all) != 1 || !strings.Contains(all[0], "office@alder-vale.example") {
		t.Errorf("%q", all)
	}
	page, err := r.Admin.ListReceivers(t.Context())
	if err != nil || len(*page) != 1 {
		t.Fatalf("%+v, %v", page, err)
	}
}
