package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// people adds the operations on people and tokens, which are two records: an administrator makes
// people, and each person makes tokens of their own. Nobody can come in as somebody else without
// their noticing: a reset ends all that the person had.
func (s *Server) people() {
	register(s, operation{
		Right: access.Read, ID: "list-people", Method: http.MethodGet, Path: "/people",
		Summary: "Everybody who works with the service",
	}, func(ctx context.Context, _ *nothing) (*body[[]records.Person], error) {
		people, err := store.People(ctx, s.Store.DB)
		return answer(&people, err)
	})
	type newPerson struct {
		Body struct {
			Name string      `json:"name" minLength:"1" maxLength:"100"`
			Role access.Role `json:"role" enum:"reader,steward,certifier,administrator"`
			Note string      `json:"note,omitempty" maxLength:"200" doc:"What their first token is for"`
		}
	}
	register(s, operation{
		Right: access.Administer, ID: "add-person", Method: http.MethodPost, Path: "/people",
		Summary: "Add a person, with a token by which they come in first",
	}, func(ctx context.Context, in *newPerson) (*body[records.MadePerson], error) {
		made := records.MadePerson{}
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			person, err := store.AddPerson(ctx, tx, in.Body.Name, in.Body.Role)
			if err != nil {
				return err
			}
			made.Person = *person
			token, err := s.newToken(ctx, tx, &store.NewToken{PersonID: person.ID, Note: in.Body.Note}, 0)
			if err != nil {
				return err
			}
			made.Secret = token.Secret
			return store.Record(ctx, tx, caller(ctx).ID, "added a person", person.Name,
				map[string]any{"role": person.Role, "token": token.ID})
		})
		return answer(&made, err)
	})
	type change struct {
		ByPerson
		Body struct {
			Disabled bool `json:"disabled" doc:"Whether the person is kept out, with all their tokens; what they did stays"`
		}
	}
	register(s, operation{
		Right: access.Administer, ID: "change-person", Method: http.MethodPatch, Path: "/people/{name}",
		Summary: "Keep a person out, or let them in again",
	}, func(ctx context.Context, in *change) (*body[records.Person], error) {
		var person *records.Person
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if person, err = store.FindPerson(ctx, tx, in.Name); err != nil {
				return err
			}
			if err := store.Disable(ctx, tx, person.ID, in.Body.Disabled); err != nil {
				return err
			}
			if n, err := store.Administrators(ctx, tx); err != nil || n == 0 {
				return orElse(err, huma.NewError(http.StatusConflict, person.Name+
					" is the last administrator who is let in; make another one first."))
			}
			action := "let a person in again"
			if in.Body.Disabled {
				action = "kept a person out"
			}
			if err := store.Record(ctx, tx, caller(ctx).ID, action, person.Name, nil); err != nil {
				return err
			}
			person, err = store.FindPerson(ctx, tx, in.Name)
			return err
		})
		s.slowing.forget()
		return answer(person, err)
	})
	register(s, operation{
		Right: access.Administer, ID: "reset-person", Method: http.MethodPost, Path: "/people/{name}/reset",
		Summary: "End all tokens of a person and make a new one, for somebody who lost theirs",
	}, func(ctx context.Context, in *ByPerson) (*body[records.MadePerson], error) {
		made := records.MadePerson{}
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			person, err := store.FindPerson(ctx, tx, in.Name)
			if err != nil {
				return err
			}
			if err := store.RevokeTokens(ctx, tx, person.ID); err != nil {
				return err
			}
			token, err := s.newToken(ctx, tx, &store.NewToken{PersonID: person.ID, Note: "made by " + caller(ctx).Name}, 0)
			if err != nil {
				return err
			}
			made.Person, made.Secret = *person, token.Secret
			return store.Record(ctx, tx, caller(ctx).ID, "ended all tokens of a person and made a new one", person.Name,
				map[string]any{"token": token.ID})
		})
		s.slowing.forget()
		return answer(&made, err)
	})
	s.datasetRights()
	s.tokens()
}

// datasetRights adds what says who may do what with which dataset.
func (s *Server) datasetRights() {
	register(s, operation{
		Right: access.Administer, ID: "show-rights", Method: http.MethodGet, Path: "/people/{name}/rights",
		Summary: "To which datasets somebody is confined, and what they may do with each",
	}, func(ctx context.Context, in *ByPerson) (*body[records.Confinement], error) {
		return answer(s.rightsOf(ctx, in.Name))
	})
	type setting struct {
		ByPerson
		Body records.Confinement
	}
	register(s, operation{
		Right: access.Administer, ID: "set-rights", Method: http.MethodPut, Path: "/people/{name}/rights",
		Summary: "Confine somebody to datasets, or no longer, and say what they may do with each; it counts from their next request on",
	}, func(ctx context.Context, in *setting) (*body[records.Confinement], error) {
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			person, err := store.FindPerson(ctx, tx, in.Name)
			if err != nil {
				return err
			}
			if in.Body.Confined && person.Role == string(access.Administrator) {
				return huma.NewError(http.StatusConflict, person.Name+" is an administrator, who lets people in; nobody can be that and be confined to datasets.")
			}
			named := map[string]any{}
			for i := range in.Body.Rights {
				r := &in.Body.Rights[i]
				d, err := store.FindDataset(ctx, tx, r.Dataset)
				if err != nil {
					return err
				}
				if named[d.Name] != nil {
					return invalid("The dataset %s is named twice; say once what %s may do with it.", d.Name, person.Name)
				}
				r.DatasetID, named[d.Name] = d.ID, r.May
			}
			if err := store.SetRights(ctx, tx, person.ID, in.Body.Confined, in.Body.Rights); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "said with which datasets somebody may do what", person.Name,
				map[string]any{"confined": in.Body.Confined, "rights": named})
		})
		if err != nil {
			return nil, err
		}
		return answer(s.rightsOf(ctx, in.Name))
	})
}

func (s *Server) rightsOf(ctx context.Context, name string) (*records.Confinement, error) {
	person, err := store.FindPerson(ctx, s.Store.DB, name)
	if err != nil {
		return nil, err
	}
	rights, err := store.RightsOf(ctx, s.Store.DB, person.ID)
	return &records.Confinement{Confined: person.Confined, Rights: rights}, err
}

// ByPerson names a person.
type ByPerson struct {
	Name string `path:"name" maxLength:"100"`
}

// orElse is err, or what is said where there is none.
func orElse(err, other error) error {
	if err != nil {
		return err
	}
	return other
}

// newToken makes a token that is in force for so many days; 0 for without end.
func (s *Server) newToken(ctx context.Context, tx *sqlx.Tx, n *store.NewToken, days int) (*records.MadeToken, error) {
	secret, err := access.NewSecret("ps_")
	if err != nil {
		return nil, err
	}
	if days > 0 {
		at := time.Now().AddDate(0, 0, days)
		n.Expires = &at
	}
	n.Hash = access.Hash(secret)
	id, err := store.AddToken(ctx, tx, n)
	if err != nil {
		return nil, err
	}
	token, err := store.FindToken(ctx, tx, id)
	if err != nil {
		return nil, err
	}
	return &records.MadeToken{Token: *token, Secret: secret}, nil
}

func (s *Server) tokens() {
	register(s, operation{
		Right: access.Read, ID: "list-tokens", Method: http.MethodGet, Path: "/tokens",
		Summary: "The caller's tokens, and to an administrator everybody's, without their secrets",
	}, func(ctx context.Context, in *Paging) (*body[records.Page[records.Token]], error) {
		who := caller(ctx).ID
		if access.Role(caller(ctx).Role).May(access.Administer) {
			who = 0
		}
		return answer(store.Tokens(ctx, s.Store.DB, who, in.cursor()))
	})
	type newToken struct {
		Body struct {
			Note string `json:"note,omitempty" maxLength:"200"`
			Days int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"For how many days the token is in force; 0 without end"`
			records.Scope
		}
	}
	register(s, operation{
		Right: access.Read, ID: "add-token", Method: http.MethodPost, Path: "/tokens",
		Summary: "Make another token for oneself, or for a program: as a lesser role, for some datasets alone, with an end",
	}, func(ctx context.Context, in *newToken) (*body[records.MadeToken], error) {
		n, err := s.scoped(ctx, &in.Body.Scope)
		if err != nil {
			return nil, err
		}
		n.PersonID, n.Note = caller(ctx).ID, in.Body.Note
		var made *records.MadeToken
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if made, err = s.newToken(ctx, tx, n, in.Body.Days); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "made a token", made.Person,
				map[string]any{"token": made.ID, "from": addressIn(ctx), "as": made.As, "datasets": made.Datasets})
		})
		return answer(made, err)
	})
	register(s, operation{
		Right: access.Read, ID: "revoke-token", Method: http.MethodDelete, Path: "/tokens/{id}",
		Summary: "End a token of one's own, or as an administrator anybody's, and its sessions",
	}, func(ctx context.Context, in *ByID) (*nothing, error) {
		token, err := store.FindToken(ctx, s.Store.DB, in.ID)
		if err != nil {
			return nil, err
		}
		if caller(ctx).Scoped && token.ID != caller(ctx).TokenID {
			return nil, huma.NewError(http.StatusForbidden, "This token is for less than all that its person may do; it ends itself alone.")
		}
		if token.Person != caller(ctx).Name && !access.Role(caller(ctx).Role).May(access.Administer) {
			s.recordRefusal(ctx, caller(ctx), "End a token of somebody else", access.Administer)
			return nil, huma.NewError(http.StatusForbidden,
				fmt.Sprintf("Token %d is somebody else's; ask an administrator.", in.ID))
		}
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			if err := store.RevokeToken(ctx, tx, in.ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "ended a token", token.Person, map[string]any{"token": in.ID})
		})
		s.slowing.forget()
		return &nothing{}, err
	})
}

// scoped is a token for what a scope says, if that is no more than the caller may do.
func (s *Server) scoped(ctx context.Context, scope *records.Scope) (*store.NewToken, error) {
	c, n := caller(ctx), &store.NewToken{As: access.Role(scope.As)}
	switch {
	case c.Scoped:
		return nil, huma.NewError(http.StatusForbidden, "This token is for less than all that its person may do; tokens are made by those who came in without such a limit.")
	case n.As != "" && !n.As.Within(access.Role(c.Role)):
		return nil, invalid("A %s may do what a %s may not; a token lets in for no more than its person may do.", n.As, c.Role)
	case len(scope.Datasets) > 0 && cmp.Or(n.As, access.Role(c.Role)) == access.Administrator:
		return nil, invalid("An administrator lets people in and is for all datasets; say as whom else the token lets in.")
	}
	for _, name := range scope.Datasets {
		d, err := store.FindDataset(ctx, s.Store.DB, name)
		if err != nil {
			return nil, err
		}
		if err := mayIn(c, access.Read, d.ID); err != nil {
			return nil, err
		}
		n.Datasets = append(n.Datasets, d.ID)
	}
	return n, nil
}
