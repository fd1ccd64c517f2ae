package api

import (
	"context"
	"crypto/rand"
	"errors"
	"math/big"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// A command line comes in as somebody by a code that it shows and they type into the console, where they are signed in already: the
// device authorization grant of RFC 8628, with the service itself as the one that grants. Nobody is sent a link that does it with one press.

const (
	// requestLasts is how long a command line waits for its person.
	requestLasts = 10 * time.Minute
	// codeLetters make no words and are not taken for one another (RFC 8628, 6.1); codeLength of them have 34 bits.
	codeLetters = "BCDFGHJKLMNPQRSTVWXZ"
	codeLength  = 8
	// LetInPath is the page of the console on which a code is typed.
	LetInPath = "/let-in"
)

// ByCode names a command line that asks to come in.
type ByCode struct {
	Code string `path:"code" maxLength:"40" doc:"As it is typed"`
}

func newCode() (string, error) {
	var code []byte
	for range codeLength {
		n, err := rand.Int(rand.Reader, big.NewInt(int64(len(codeLetters))))
		if err != nil {
			return "", err
		}
		code = append(code, codeLetters[n.Int64()])
	}
	return string(code), nil
}

// typedCode is a code as somebody types it: in any case, with whatever between its letters.
func typedCode(text string) string {
	return strings.Map(func(r rune) rune {
		if !strings.ContainsRune(codeLetters, r) {
			return -1
		}
		return r
	}, strings.ToUpper(text))
}

func (s *Server) signInRequests() {
	type asking struct {
		Body struct {
			Machine string `json:"machine" minLength:"1" maxLength:"100" doc:"What the person is shown, so that they know which command line it is"`
		}
	}
	register(s, operation{
		ID: "ask-to-sign-in", Method: http.MethodPost, Path: "/sign-in-requests",
		Summary: "Ask, as a command line, to come in as somebody who will type a code into the console",
	}, func(ctx context.Context, in *asking) (*body[records.SignInAsked], error) {
		secret, err := access.NewSecret("ask_")
		if err != nil {
			return nil, err
		}
		code, err := newCode()
		if err != nil {
			return nil, err
		}
		out := &records.SignInAsked{Code: code[:codeLength/2] + "-" + code[codeLength/2:], Secret: secret, Path: LetInPath, Until: time.Now().Add(requestLasts)}
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			return store.AddSignInRequest(ctx, tx, code, access.Hash(secret), in.Body.Machine, addressIn(ctx), out.Until)
		})
		if errors.Is(err, store.ErrManyRequests) {
			err = huma.NewError(http.StatusTooManyRequests, sentence(err))
		}
		return answer(out, err)
	})
	type collecting struct {
		Body struct {
			Secret string `json:"secret" minLength:"1" maxLength:"200"`
		}
	}
	register(s, operation{
		ID: "collect-sign-in", Method: http.MethodPost, Path: "/sign-in-requests/outcome",
		Summary: "What came of asking to come in; a token is handed over once",
	}, func(ctx context.Context, in *collecting) (*body[records.SignInOutcome], error) {
		out := &records.SignInOutcome{State: "waiting"}
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			a, err := store.CollectSignInRequest(ctx, tx, access.Hash(in.Body.Secret))
			switch {
			case errors.Is(err, store.ErrNotFound):
				out.State = "over"
				return nil
			case err != nil || a.LetIn == nil:
				return err
			case !*a.LetIn:
				out.State = "refused"
				return nil
			}
			expires := time.Now().Add(sessionLasts)
			made, err := s.newToken(ctx, tx, &store.NewToken{PersonID: *a.PersonID, Note: "the command line on " + a.Machine, Expires: &expires}, 0)
			if err != nil {
				return err
			}
			out.State, out.Name, out.Token, out.TokenID, out.Expires = "let in", made.Person, made.Secret, made.ID, &expires
			return store.Record(ctx, tx, *a.PersonID, "signed in", "command line", map[string]any{"from": addressIn(ctx), "machine": a.Machine, "token": made.ID})
		})
		return answer(out, err)
	})
	register(s, operation{
		Right: access.Read, ID: "show-sign-in-request", Method: http.MethodGet, Path: "/sign-in-requests/{code}",
		Summary: "The command line that asks to come in by a code",
	}, func(ctx context.Context, in *ByCode) (*body[records.SignInRequest], error) {
		return answer(s.asksToSignIn(ctx, in.Code))
	})
	type answering struct {
		ByCode
		Body struct {
			LetIn bool `json:"let_in"`
		}
	}
	register(s, operation{
		Right: access.Read, ID: "answer-sign-in-request", Method: http.MethodPost, Path: "/sign-in-requests/{code}/answer",
		Summary: "Let a command line in as oneself, or refuse it",
	}, func(ctx context.Context, in *answering) (*body[records.SignInRequest], error) {
		if _, err := s.scoped(ctx, &records.Scope{}); err != nil { // it would be let in for more than the caller is
			return nil, err
		}
		asks, err := s.asksToSignIn(ctx, in.Code)
		if err != nil {
			return nil, err
		}
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			ok, err := store.AnswerSignInRequest(ctx, tx, asks.ID, caller(ctx).ID, in.Body.LetIn)
			if err == nil && !ok {
				err = store.ErrConflict
			}
			if err != nil {
				return err
			}
			what := "refused a command line"
			if in.Body.LetIn {
				what = "let a command line in"
			}
			return store.Record(ctx, tx, caller(ctx).ID, what, asks.Machine, map[string]any{"from": asks.From})
		})
		return answer(asks, err)
	})
}

// asksToSignIn finds a request by its code.
func (s *Server) asksToSignIn(ctx context.Context, code string) (*records.SignInRequest, error) {
	asks, err := store.FindSignInRequest(ctx, s.Store.DB, typedCode(code))
	if errors.Is(err, store.ErrNotFound) {
		return nil, huma.NewError(http.StatusNotFound, "No command line asks to come in by this code: look at it again, or begin anew there, since a code is good for ten minutes.")
	}
	return asks, err
}
