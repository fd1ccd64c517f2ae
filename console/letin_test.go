package console_test

import (
	"testing"

	"proudsieve/client"
	"proudsieve/service/servicetest"
)

func TestACommandLineIsLetInByTypingItsCode(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	nobody := &client.Client{Server: r.URL}
	asked, err := nobody.AskToSignIn(t.Context(), client.AskToSignInJSONRequestBody{Machine: "desk 4"})
	if err != nil {
		t.Fatal(err)
	}
	p := sitDown(t, r.URL)
	p.visit("/")
	p.signsIn(r.Steward.Token)
	p.visit(asked.Path)
	p.writes(`input[aria-label="Code"]`, "BBBB-BBBB")
	p.presses("Look who asks")
	p.sees("No command line asks to come in by this code")
	p.writes(`input[aria-label="Code"]`, asked.Code)
	p.presses("Look who asks")
	p.sees("The command line on desk 4 asks to come in as you")
	p.presses("Let it in as me")
	p.sees("The command line on desk 4 is let in as you, for twelve hours.")
	got, err := nobody.CollectSignIn(t.Context(), client.CollectSignInJSONRequestBody{Secret: asked.Secret})
	if err != nil || got.Name != "Mara" {
		t.Errorf("%+v, %v", got, err)
	}
}
