package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

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
	ID int64 `path:"id" minimum:"1"`
}

type me struct {
	Name   string         `json:"name"`
	Role   access.Role    `json:"role" enum:"reader,steward,certifier,administrator"`
	Rights []access.Right `json:"rights"`
}

func meOf(c *store.Caller) *me {
	m := &me{Name: c.Name, Role: c.Role}
	for _, right := range []access.Right{access.Read, access.Discuss, access.Work, access.Certify, access.Administer} {
		if c.Role.May(right) {
			m.Rights = append(m.Rights, right)
		}
	}
	return m
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
	operation(s, "", http.MethodPost, "/session", "sign-in", "Sign in with a token; the answer sets the session cookie", func(ctx context.Context, in *signIn) (*signedIn, error) {
		c, err := store.CallerByToken(ctx, s.Store.DB, access.Hash(in.Body.Token))
		if err != nil {
			return nil, huma.NewError(http.StatusUnauthorized, "This token is not in force; ask an administrator for another.")
		}
		secret, err := access.NewSecret("ses_")
		if err != nil {
			return nil, err
		}
		expires := time.Now().Add(sessionLasts)
		if err := store.AddSession(ctx, s.Store.DB, access.Hash(secret), c.TokenID, expires); err != nil {
			return nil, err
		}
		cookie := http.Cookie{Name: sessionCookie, Value: secret, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Expires: expires}
		return &signedIn{cookie, *meOf(c)}, store.Record(ctx, s.Store.DB, c.ID, "signed in", "console", nil)
	})
	type signOut struct {
		Session string `cookie:"proudsieve_session"`
	}
	type signedOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	operation(s, access.Read, http.MethodDelete, "/session", "sign-out", "End the session", func(ctx context.Context, in *signOut) (*signedOut, error) {
		cookie := http.Cookie{Name: sessionCookie, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1}
		return &signedOut{cookie}, store.EndSession(ctx, s.Store.DB, access.Hash(in.Session))
	})
	operation(s, access.Read, http.MethodGet, "/me", "who-am-i", "Who is signed in, and what they may do", func(ctx context.Context, _ *nothing) (*body[me], error) {
		return answer(meOf(caller(ctx)), nil)
	})
	operation(s, access.Read, http.MethodGet, "/people", "list-people", "Everybody who works with the service", func(ctx context.Context, _ *nothing) (*body[[]store.Person], error) {
		people, err := store.People(ctx, s.Store.DB)
		return answer(&people, err)
	})
	s.tokens()
}

func (s *Server) tokens() {
	type newToken struct {
		Body struct {
			Person string      `json:"person" minLength:"1" maxLength:"100" doc:"Made with the role where there is nobody of this name"`
			Role   access.Role `json:"role" enum:"reader,steward,certifier,administrator"`
			Note   string      `json:"note,omitempty" maxLength:"200"`
			Days   int         `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"For how many days the token is in force; 0 without end"`
		}
	}
	type madeToken struct {
		store.Token
		Secret string `json:"secret" doc:"Shown this once"`
	}
	operation(s, access.Administer, http.MethodGet, "/tokens", "list-tokens", "All tokens, without their secrets", func(ctx context.Context, in *Paging) (*body[store.Page[store.Token]], error) {
		return answer(store.Tokens(ctx, s.Store.DB, in.cursor()))
	})
	operation(s, access.Administer, http.MethodPost, "/tokens", "add-token", "Make a token for a person", func(ctx context.Context, in *newToken) (*body[madeToken], error) {
		secret, err := access.NewSecret("ps_")
		if err != nil {
			return nil, err
		}
		var expires *time.Time
		if in.Body.Days > 0 {
			at := time.Now().AddDate(0, 0, in.Body.Days)
			expires = &at
		}
		made := madeToken{Secret: secret}
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			person, err := store.PersonNamed(ctx, tx, in.Body.Person, in.Body.Role)
			if err != nil {
				return err
			}
			if person.Role != in.Body.Role {
				return huma.NewError(http.StatusConflict, fmt.Sprintf("%s is a %s already; a person has one role. Choose another name for another role.", person.Name, person.Role))
			}
			id, err := store.AddToken(ctx, tx, person.ID, access.Hash(secret), in.Body.Note, expires)
			if err != nil {
				return err
			}
			token, err := store.FindToken(ctx, tx, id)
			if err != nil {
				return err
			}
			made.Token = *token
			return store.Record(ctx, tx, caller(ctx).ID, "made a token", person.Name, map[string]any{"token": id, "role": person.Role})
		})
		return answer(&made, err)
	})
	operation(s, access.Administer, http.MethodDelete, "/tokens/{id}", "revoke-token", "End a token and its sessions", func(ctx context.Context, in *ByID) (*nothing, error) {
		return &nothing{}, s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			if err := store.RevokeToken(ctx, tx, in.ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "revoked a token", fmt.Sprint(in.ID), nil)
		})
	})
}
