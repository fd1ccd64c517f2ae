package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/provider"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// WaysIn says by what people come in beside tokens.
type WaysIn struct {
	Provider string `json:"provider" doc:"What people call the provider of identities by which they may come in; empty for none"`
}

// The addresses at which signing in by a provider begins and ends.
const (
	signInPath     = "/sign-in"
	signInDonePath = "/sign-in/done"
	// signInCookie goes with the browser to the provider and back; other sites may lead here with it, but read it as little as anybody.
	signInCookie = "proudsieve_sign_in"
)

// SignInDone is the address to which the provider sends people back.
const SignInDone = Prefix + signInDonePath

// Whoever does not come in is told why by one of these words, which the console puts into a sentence.
const (
	notLetIn     = "denied"
	noGroup      = "groups"
	stale        = "stale"
	keptOut      = "kept-out"
	nameTaken    = "taken"
	confinedHere = "confined"
	failed       = "failed"
)

var (
	errKeptOut   = errors.New("they are kept out")
	errNameTaken = errors.New("somebody else has their name here, and comes in by tokens")
	errConfined  = errors.New("they are confined to datasets, and their groups make them an administrator")
)

// signIns adds signing in by a provider of identities.
func (s *Server) signIns(r chi.Router) {
	register(s, operation{
		ID: "list-ways-in", Method: http.MethodGet, Path: "/ways-in",
		Summary: "By what people come in beside tokens",
	}, func(context.Context, *nothing) (*body[WaysIn], error) {
		out := &WaysIn{}
		if s.Provider != nil {
			out.Provider = s.Provider.Title()
		}
		return answer(out, nil)
	})
	r.Get(signInPath, s.beginSignIn)
	r.Get(signInDonePath, s.completeSignIn)
	type linking struct {
		Name string `path:"name" maxLength:"100"`
		Body struct {
			Subject string `json:"subject" minLength:"3" maxLength:"500" doc:"The address of the provider and what it calls the person, with a space between them"`
		}
	}
	register(s, operation{
		Right: access.Administer, ID: "link-person", Method: http.MethodPut, Path: "/people/{name}/subject",
		Summary: "Say what the provider of identities calls a person who came in by tokens so far",
	}, func(ctx context.Context, in *linking) (*body[records.Person], error) {
		var person *records.Person
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if person, err = store.FindPerson(ctx, tx, in.Name); err != nil {
				return err
			}
			if err := store.LinkSubject(ctx, tx, person.ID, in.Body.Subject); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "linked a person with a provider of identities", person.Name, map[string]any{"subject": in.Body.Subject})
		})
		return answer(person, err)
	})
}

func (s *Server) beginSignIn(w http.ResponseWriter, r *http.Request) {
	if s.Provider == nil {
		problem(w, r, http.StatusNotFound, "People come in by tokens alone; no provider of identities is declared.")
		return
	}
	address, sealed, err := s.Provider.Begin(r.Context(), r.URL.Query().Get("to"))
	if err != nil {
		s.refuseSignIn(w, r, err)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: signInCookie, Value: sealed, Path: Prefix + signInPath, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: s.Secure, MaxAge: 600})
	http.Redirect(w, r, address, http.StatusFound)
}

func (s *Server) completeSignIn(w http.ResponseWriter, r *http.Request) {
	sealed, err := r.Cookie(signInCookie)
	if s.Provider == nil || err != nil {
		s.refuseSignIn(w, r, provider.ErrStale)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: signInCookie, Path: Prefix + signInPath, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: s.Secure, MaxAge: -1})
	known, to, err := s.Provider.Complete(r.Context(), sealed.Value, r.URL.Query())
	if err != nil {
		s.refuseSignIn(w, r, err)
		return
	}
	cookie, err := s.letIn(r.Context(), known)
	if err != nil {
		s.refuseSignIn(w, r, err)
		return
	}
	http.SetCookie(w, cookie)
	http.Redirect(w, r, to, http.StatusFound)
}

// letIn begins a session of somebody whom the provider knows; who comes for the first time becomes a person here, and the role of
// everybody is what their groups say now.
func (s *Server) letIn(ctx context.Context, known *provider.Known) (cookie *http.Cookie, err error) {
	err = s.Store.Do(ctx, func(tx *sqlx.Tx) error {
		person, err := store.FindSubject(ctx, tx, known.Subject)
		if errors.Is(err, store.ErrNotFound) {
			person, err = s.newlyKnown(ctx, tx, known)
		}
		if err == nil && known.Datasets == nil { // before it is asked whether they are confined by somebody
			if err = store.SetRightsByGroups(ctx, tx, person.ID, nil); err == nil {
				person, err = store.FindSubject(ctx, tx, known.Subject)
			}
		}
		switch {
		case err != nil:
			return err
		case person.DisabledAt != nil:
			return errKeptOut
		case person.Confined && known.Role == access.Administrator:
			return errConfined
		}
		if err := s.changeRole(ctx, tx, person, known.Role); err != nil {
			return err
		}
		if err := s.confineByGroups(ctx, tx, known); err != nil {
			return err
		}
		made, err := s.newToken(ctx, tx, &store.NewToken{PersonID: person.ID, Note: "signed in by " + s.Provider.Title(), Expires: new(time.Now().Add(sessionLasts))}, 0)
		if err != nil {
			return err
		}
		if cookie, err = s.beginSession(ctx, tx, made.ID); err != nil {
			return err
		}
		return store.Record(ctx, tx, person.ID, "signed in", "console", map[string]any{"from": addressIn(ctx), "by": s.Provider.Title()})
	})
	return cookie, err
}

// confineByGroups confines somebody to the datasets that their groups are for. A dataset that is not there yet is left out until it is. The last
// administrator, who stays one, is for all of them.
func (s *Server) confineByGroups(ctx context.Context, tx *sqlx.Tx, known *provider.Known) error {
	person, err := store.FindSubject(ctx, tx, known.Subject)
	if err != nil || known.Datasets == nil || access.Role(person.Role) == access.Administrator {
		return err
	}
	rights := []records.DatasetRight{}
	for _, name := range slices.Sorted(maps.Keys(known.Datasets)) {
		d, err := store.FindDataset(ctx, tx, name)
		if errors.Is(err, store.ErrNotFound) {
			s.Log.Warn("a group is for a dataset that is not there", "dataset", name)
			continue
		}
		if err != nil {
			return err
		}
		rights = append(rights, records.DatasetRight{DatasetID: d.ID, Dataset: name, May: string(access.LevelOf(known.Datasets[name]))})
	}
	return store.SetRightsByGroups(ctx, tx, person.ID, rights)
}

// changeRole gives somebody the role that their groups say. The last administrator stays one, or nobody could let people in.
func (s *Server) changeRole(ctx context.Context, tx *sqlx.Tx, person *records.Person, role access.Role) error {
	if person.Role == string(role) {
		return nil
	}
	if access.Role(person.Role) == access.Administrator {
		if left, err := store.Administrators(ctx, tx); err != nil || left <= 1 {
			return err
		}
	}
	if err := store.SetRole(ctx, tx, person.ID, role); err != nil {
		return err
	}
	return store.Record(ctx, tx, person.ID, "has another role by their groups", person.Name, map[string]any{"from": person.Role, "to": role})
}

// newlyKnown makes a person of somebody who comes for the first time. A name that is taken lets nobody in as somebody else.
func (s *Server) newlyKnown(ctx context.Context, tx *sqlx.Tx, known *provider.Known) (*records.Person, error) {
	switch _, err := store.FindPerson(ctx, tx, known.Name); {
	case err == nil:
		return nil, fmt.Errorf("%w: %s, whom the provider calls %q", errNameTaken, known.Name, known.Subject)
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	}
	person, err := store.AddPerson(ctx, tx, known.Name, known.Role)
	if err != nil {
		return nil, err
	}
	if err := store.LinkSubject(ctx, tx, person.ID, known.Subject); err != nil {
		return nil, err
	}
	return person, store.Record(ctx, tx, person.ID, "came in for the first time", person.Name, map[string]any{"role": known.Role, "by": s.Provider.Title(), "subject": known.Subject})
}

// refuseSignIn leads back to the console, which says why.
func (s *Server) refuseSignIn(w http.ResponseWriter, r *http.Request, err error) {
	why := failed
	for of, word := range map[error]string{provider.ErrDenied: notLetIn, provider.ErrGroups: noGroup, provider.ErrStale: stale, errKeptOut: keptOut, errNameTaken: nameTaken, errConfined: confinedHere} {
		if errors.Is(err, of) {
			why = word
		}
	}
	s.Log.Warn("somebody did not come in by the provider", "why", why, "error", err, "from", s.addressOf(r))
	http.Redirect(w, r, "/?refused="+url.QueryEscape(why), http.StatusFound)
}
