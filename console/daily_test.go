package console_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/service/servicetest"
)

// Anything is found from the keyboard, and a list says which keys do what.
func TestAnythingIsFoundFromTheKeyboard(t *testing.T) {
	t.Parallel()
	_, p, _ := seated(t, "crews", "dataset: crews\ncolumns: [{name: crew}, {name: river, required: true}]\nkeys:\n  - {id: one_crew, columns: [crew]}\n",
		"crew,river\nred,Alder\nblue,\n")
	p.visit("/")
	p.sees("What needs you")
	p.keys("?")
	p.sees("find a dataset, column, rule, issue, file or certificate", "Single keys are on.")
	p.keys(kb.Escape)
	p.awaits(`!document.querySelector("[role=dialog]")`)
	p.keys("g")
	p.keys("s")
	p.awaits(`location.pathname === "/datasets"`)
	p.keys("/")
	p.awaits(`document.activeElement?.getAttribute("role") === "combobox"`)
	p.keys("riv")
	p.sees("column", "river")
	p.keys(kb.Enter)
	p.awaits(`location.search.includes("column=river")`)
	p.do("opening by control and k", chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.awaits(`document.activeElement?.getAttribute("role") === "combobox"`)
	p.keys("nothing in river")
	p.awaits(`!!document.querySelector("[role=option]")?.innerText.includes("1 of 2 rows")`)
	p.keys(kb.ArrowDown + kb.Enter)
	p.awaits(`location.pathname.startsWith("/issues/")`)
	p.keys("/")
	p.awaits(`document.activeElement?.getAttribute("role") === "combobox"`)
	p.keys("zzz")
	p.sees("Nothing has zzz in its name.")
	p.keys(kb.Escape)
	// Whoever speaks to the computer turns single keys off.
	p.keys("?")
	p.do("turning them off", chromedp.Click(chromedp.CSS(`[role=dialog] input[type=checkbox]`)), chromedp.KeyEvent(kb.Escape))
	p.awaits(`!document.querySelector("[role=dialog]")`)
	p.keys("g")
	p.keys("s")
	p.keys("?")
	if at := evaluate[bool](p, `location.pathname.startsWith("/issues/") && !document.querySelector("[role=dialog]")`); !at {
		t.Errorf("single keys do something at %s though they are off", p.address())
	}
}

// An administrator lets people in and keeps them out; a secret is shown once.
func TestPeopleAndTheirTokens(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	p := sitDown(t, r.URL)
	p.visit("/people")
	p.signsIn(r.Admin.Token)
	p.sees("Let somebody in", "Everybody's tokens", "Mara")
	p.writes(`input[aria-label="Name"]`, "Yrsa")
	p.writes(`select[aria-label="Role"]`, "reader")
	p.sees("sees everything, and changes nothing")
	p.presses("Add")
	p.sees("The token of Yrsa. It is shown this once")
	secret := evaluate[string](p, `document.querySelector("[role=status] code").innerText`)
	if !strings.HasPrefix(secret, "ps_") {
		t.Fatalf("the token is %q", secret)
	}
	p.presses("Sign out")
	p.signsIn(secret)
	p.sees("Yrsa, reader")
	p.visit("/people")
	p.sees("Your tokens", "without end")
	if evaluate[bool](p, `document.body.innerText.includes("Let somebody in")`) {
		t.Error("a reader may let people in")
	}
	p.writes(`input[aria-label="Days that it is in force"]`, "a week")
	p.sees("A number of days")
	p.writes(`input[aria-label="Days that it is in force"]`, "7")
	p.writes(`input[aria-label="What the token is for"]`, "the nightly script")
	p.presses("Make a token")
	p.sees("the nightly script", "until ")
	p.writes(`select[aria-label="As whom it lets in"]`, "steward")
	p.presses("Make a token")
	p.sees("A steward may do what a reader may not")
	p.writes(`select[aria-label="As whom it lets in"]`, "reader")
	p.writes(`input[aria-label="Datasets that it is for, with commas between them"]`, "nowhere, ")
	p.presses("Make a token")
	p.sees(`there is no dataset "nowhere"`)
	p.presses("Sign out")
	p.signsIn(r.Admin.Token)
	p.sees("administrator, administrator", "Everybody's tokens")
	p.do("keeping Yrsa out", chromedp.Click(chromedp.CSS(`button[aria-label="Keep out: Yrsa"]`)))
	p.sees("kept out since")
	p.presses("Sign out")
	p.signsIn(secret)
	p.sees("This token is not in force")
}
