package api

import (
	"context"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"proudsieve/service/access"
	"proudsieve/service/store"
)

const sessionLasts = 12 * time.Hour

// body is an answer with nothing but a body.
type body[T any] struct{ Body T }

func answer[T any](value *T, err error) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return &body[T]{*value}, nil
}

// Paging is what every list takes. It is exported, as ByID and ByName are, because
// inputs of operations are only filled through exported fields.
type Paging struct {
	After string `query:"after" doc:"Cursor: next of the page before"`
	Limit int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
}

func (p Paging) cursor() store.Cursor { return store.Cursor{After: p.After, Limit: p.Limit} }

type nothing struct{}

// ByID names a record by its number.
type ByID struct {
	ID int64 `path:"id" minimum:"1" maximum:"9007199254740991"`
}

type me struct {
	Name   string         `json:"name"`
	Role   access.Role    `json:"role" enum:"reader,steward,certifier,administrator"`
	Rights []access.Right `json:"rights"`
	// Confined says that they see some datasets alone.
	Confined bool `json:"confined" doc:"They see the datasets alone that they have rights for, and may do with each what these allow"`
}

func meOf(c *store.Caller) *me {
	m := &me{Name: c.Name, Role: access.Role(c.Role), Confined: c.Confined}
	for _, right := range []access.Right{access.Read, access.Discuss, access.Work, access.Certify, access.Administer} {
		if access.Role(c.Role).May(right) {
			m.Rights = append(m.Rights, right)
		}
	}
	return m
}

// beginSession begins a session by a token, and returns the cookie that is its secret.
func (s *Server) beginSession(ctx context.Context, q store.Querier, token int64) (*http.Cookie, error) {
	secret, err := access.NewSecret("ses_")
	if err != nil {
		return nil, err
	}
	expires := time.Now().Add(sessionLasts)
	if err := store.AddSession(ctx, q, access.Hash(secret), token, expires); err != nil {
		return nil, err
	}
	return &http.Cookie{Name: sessionCookie, Value: secret, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: s.Secure, Expires: expires}, nil
}

func (s *Server) sessions() {
	type signIn struct {
		Body struct {
			Token string `json:"token" minLength:"1" maxLength:"200"`
		}
	}
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      me
	}
	register(s, operation{
		ID: "sign-in", Method: http.MethodPost, Path: "/session",
		Summary: "Sign in with a token; the answer sets the session cookie",
	}, func(ctx context.Context, in *signIn) (*signedIn, error) {
		hash, address := access.Hash(in.Body.Token), addressIn(ctx)
		if wait := s.slowing.wait(address, hash); wait > 0 {
			return nil, huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests,
				"Too many wrong tokens were sent from this address; wait before the next one."),
				http.Header{"Retry-After": {strconv.Itoa(int(wait.Seconds()) + 1)}})
		}
		c, err := store.CallerByToken(ctx, s.Store.DB, hash)
		if errors.Is(err, store.ErrNotFound) {
			s.failed(ctx, address)
			return nil, huma.NewError(http.StatusUnauthorized,
				"This token is not in force; ask an administrator for another.")
		}
		if err != nil {
			return nil, err
		}
		s.slowing.succeeded(hash)
		cookie, err := s.beginSession(ctx, s.Store.DB, c.TokenID)
		if err != nil {
			return nil, err
		}
		return &signedIn{*cookie, *meOf(c)}, store.Record(ctx, s.Store.DB, c.ID, "signed in", "console",
			map[string]any{"from": addressIn(ctx)})
	})
	type signOut struct {
		Session string `cookie:"proudsieve_session"`
	}
	type signedOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	register(s, operation{
		Right: access.Read, ID: "sign-out", Method: http.MethodDelete, Path: "/session",
		Summary: "End the session",
	}, func(ctx context.Context, in *signOut) (*signedOut, error) {
		cookie := http.Cookie{Name: sessionCookie, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
			Secure: s.Secure, MaxAge: -1}
		if err := store.EndSession(ctx, s.Store.DB, access.Hash(in.Session)); err != nil {
			return nil, err
		}
		s.slowing.forget()
		return &signedOut{cookie}, store.Record(ctx, s.Store.DB, caller(ctx).ID, "signed out", "console",
			map[string]any{"from": addressIn(ctx)})
	})
	register(s, operation{
		Right: access.Read, ID: "who-am-i", Method: http.MethodGet, Path: "/me",
		Summary: "Who is signed in, and what they may do",
	}, func(ctx context.Context, _ *nothing) (*body[me], error) {
		return answer(meOf(caller(ctx)), nil)
	})
}
