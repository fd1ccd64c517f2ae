package service_test

import (
	"net/http"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

func TestACommandLineIsLetInByItsPerson(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	nobody := &client.Client{Server: r.URL}
	outcome := func(asked *records.SignInAsked) *records.SignInOutcome {
		t.Helper()
		got, err := nobody.CollectSignIn(ctx, client.CollectSignInJSONRequestBody{Secret: asked.Secret})
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	ask := func() *records.SignInAsked {
		t.Helper()
		asked, err := nobody.AskToSignIn(ctx, client.AskToSignInJSONRequestBody{Machine: "desk 4"})
		if err != nil {
			t.Fatal(err)
		}
		return asked
	}
	asked := ask()
	if got := outcome(asked); got.State != "waiting" || got.Token != "" {
		t.Errorf("before anybody answered: %+v", got)
	}
	typed := strings.ToLower(strings.ReplaceAll(asked.Code, "-", " "))
	if who, err := r.Steward.ShowSignInRequest(ctx, typed); err != nil || who.Machine != "desk 4" || who.From == "" {
		t.Errorf("%+v, %v", who, err)
	}
	if _, err := r.Steward.AnswerSignInRequest(ctx, typed, client.AnswerSignInRequestJSONRequestBody{LetIn: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Reader.AnswerSignInRequest(ctx, typed, client.AnswerSignInRequestJSONRequestBody{LetIn: true}); err == nil {
		t.Error("a second person answers what was answered")
	}
	got := outcome(asked)
	if got.State != "let in" || got.Name != "Mara" || got.Expires == nil {
		t.Fatalf("%+v", got)
	}
	if again := outcome(asked); again.State != "over" || again.Token != "" {
		t.Errorf("the token is handed over twice: %+v", again)
	}
	let := &client.Client{Server: r.URL, Token: got.Token}
	if me, err := servicetest.Get[map[string]any](ctx, let, "/me"); err != nil || (*me)["name"] != "Mara" || (*me)["role"] != "steward" {
		t.Errorf("%+v, %v", me, err)
	}
	if err := let.RevokeToken(ctx, got.TokenID); err != nil {
		t.Error(err)
	}
	if _, err := servicetest.Get[map[string]any](ctx, let, "/me"); err == nil {
		t.Error("a token that was ended lets in")
	}

	refused := ask()
	if _, err := r.Steward.AnswerSignInRequest(ctx, refused.Code, client.AnswerSignInRequestJSONRequestBody{}); err != nil {
		t.Fatal(err)
	}
	if got := outcome(refused); got.State != "refused" || got.Token != "" {
		t.Errorf("%+v", got)
	}
}

func TestWhoMayNotLetACommandLineIn(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	nobody := &client.Client{Server: r.URL}
	asked, err := nobody.AskToSignIn(ctx, client.AskToSignInJSONRequestBody{Machine: "desk 4"})
	if err != nil {
		t.Fatal(err)
	}
	made, err := servicetest.Post[records.MadeToken](ctx, r.Steward, "/tokens", map[string]any{"note": "a program", "as": "reader"})
	if err != nil {
		t.Fatal(err)
	}
	yes := client.AnswerSignInRequestJSONRequestBody{LetIn: true}
	// a token for less would let it in for more
	_, err = (&client.Client{Server: r.URL, Token: made.Secret}).AnswerSignInRequest(ctx, asked.Code, yes)
	refused(t, "a token for a program", err, http.StatusForbidden, "")
	_, err = nobody.AnswerSignInRequest(ctx, asked.Code, yes)
	refused(t, "nobody", err, http.StatusUnauthorized, "")
	for _, code := range []string{"BBBB-BBBB", "%25", "AEIOU"} {
		_, err := r.Steward.ShowSignInRequest(ctx, code)
		refused(t, code, err, http.StatusNotFound, "by this code")
	}
	for n := 1; ; n++ { // one of this address waits already
		if _, err := nobody.AskToSignIn(ctx, client.AskToSignInJSONRequestBody{Machine: "desk 5"}); err != nil {
			if n != 20 {
				t.Errorf("after %d requests: %v", n, err)
			}
			refused(t, "one more", err, http.StatusTooManyRequests, "try again")
			break
		}
		if n > 30 {
			t.Fatal("there is no end to command lines that wait")
		}
	}
	// somebody who was let in and is kept out afterwards has a token that is not in force
	if _, err := r.Reader.AnswerSignInRequest(ctx, asked.Code, yes); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Admin.ChangePerson(ctx, "Ines", client.ChangeBody{Disabled: true}); err != nil {
		t.Fatal(err)
	}
	got, err := nobody.CollectSignIn(ctx, client.CollectSignInJSONRequestBody{Secret: asked.Secret})
	if err != nil {
		t.Fatal(err)
	}
	_, err = servicetest.Get[map[string]any](ctx, &client.Client{Server: r.URL, Token: got.Token}, "/me")
	refused(t, "a person who is kept out", err, http.StatusUnauthorized, "")
}
