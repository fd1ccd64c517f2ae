package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/document"
	"proudsieve/engine"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// TriedDatabase says what came of reaching a database.
type TriedDatabase struct {
	Reached bool   `json:"reached"`
	Says    string `json:"says"`
}

// databaseWait is how long a database may take to answer somebody who waits for it.
const databaseWait = 25 * time.Second

// databases adds the operations on the databases from which deliveries are taken.
func (s *Server) databases() {
	register(s, operation{
		Right: access.Work, ID: "list-databases", Method: http.MethodGet, Path: "/databases",
		Summary: "The databases from which deliveries are taken, by name",
	}, func(ctx context.Context, _ *nothing) (*body[[]records.Database], error) {
		all, err := store.Databases(ctx, s.Store.DB)
		return answer(&all, err)
	})
	register(s, operation{
		Right: access.Work, ID: "list-engines", Method: http.MethodGet, Path: "/engines",
		Summary: "The kinds of database that can be read, by name",
	}, func(_ context.Context, _ *nothing) (*body[[]records.Engine], error) {
		all := []records.Engine{}
		for _, k := range engine.Kinds() {
			all = append(all, records.Engine{Name: k.Name, Title: k.Title, Port: k.Port})
		}
		return answer(&all, nil)
	})
	type adding struct{ Body records.NewDatabase }
	register(s, operation{
		Right: access.Administer, ID: "add-database", Method: http.MethodPost, Path: "/databases",
		Summary: "Declare a database from which deliveries are taken. Its password is no part of it: it is a secret of the nodes, which is named",
	}, func(ctx context.Context, in *adding) (*body[records.Database], error) {
		n := &in.Body
		kind, err := engine.Find(n.Engine)
		switch {
		case err != nil:
			return nil, invalid("%q is no engine known here; use one of %s.", n.Engine, strings.Join(engine.Names(), ", "))
		case n.Secret != "" && !work.SecretName.MatchString(n.Secret):
			return nil, invalid("%q is no name of a secret: it is of small letters, digits, - and _.", n.Secret)
		case strings.ContainsAny(n.Host, "/@: \t"):
			return nil, invalid("%q is no name of a host; write the name alone, and its port apart.", n.Host)
		}
		n.Port, n.TimeoutMinutes = cmp.Or(n.Port, kind.Port), cmp.Or(n.TimeoutMinutes, int(engine.DefaultTimeout.Minutes()))
		var made *records.Database
		err = s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if made, err = store.AddDatabase(ctx, tx, n, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "declared a database", made.Name,
				map[string]any{"engine": made.Engine, "host": made.Host, "database": made.Database, "login": made.Login})
		})
		return answer(made, err)
	})
	type named struct {
		Name string `path:"name" maxLength:"60"`
	}
	register(s, operation{
		Right: access.Administer, ID: "remove-database", Method: http.MethodDelete, Path: "/databases/{name}",
		Summary: "Take nothing more from a database; what was taken stays",
	}, func(ctx context.Context, in *named) (*struct{}, error) {
		return nil, s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			d, err := store.FindDatabase(ctx, tx, in.Name)
			if err == nil {
				err = store.RemoveDatabase(ctx, tx, d.ID)
			}
			if err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "removed a database", d.Name, nil)
		})
	})
	register(s, operation{
		Right: access.Work, ID: "try-database", Method: http.MethodPost, Path: "/databases/{name}/trial",
		Summary: "Reach a database, and tell what it is or why it cannot be reached",
	}, func(ctx context.Context, in *named) (*body[TriedDatabase], error) {
		tried := TriedDatabase{Reached: true}
		err := s.withDatabase(ctx, in.Name, func(ctx context.Context, session engine.Session) error {
			tables, err := session.Tables(ctx)
			tried.Says = fmt.Sprintf("%s answers: it is %s and shows %s.", in.Name, session.Server(), document.Counted(int64(len(tables)), "table", "tables"))
			return err
		})
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			tried, err = TriedDatabase{Says: sentence(err)}, nil
		}
		return answer(&tried, err)
	})
	register(s, operation{
		Right: access.Work, ID: "list-database-tables", Method: http.MethodGet, Path: "/databases/{name}/tables",
		Summary: "The tables and views of a database that its user may read",
	}, func(ctx context.Context, in *named) (*body[[]records.DatabaseTable], error) {
		all := []records.DatabaseTable{}
		err := s.withDatabase(ctx, in.Name, func(ctx context.Context, session engine.Session) error {
			found, err := session.Tables(ctx)
			for _, t := range found {
				all = append(all, records.DatabaseTable(t))
			}
			return err
		})
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			err = invalid("%s", sentence(err))
		}
		return answer(&all, err)
	})
}

// foreseeWait is how long it may take to work out what would be asked of a table.
const foreseeWait = 2 * time.Minute

// withDatabase begins a session for somebody who waits for it.
func (s *Server) withDatabase(ctx context.Context, name string, f func(context.Context, engine.Session) error) error {
	d, err := store.FindDatabase(ctx, s.Store.DB, name)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, databaseWait)
	defer cancel()
	session, err := s.Pool.OpenDatabase(ctx, d)
	if err != nil {
		return inTime(ctx, err)
	}
	defer session.Close()
	return inTime(ctx, f(ctx, session))
}

// inTime says so where a database did not answer in time.
func inTime(ctx context.Context, err error) error {
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("%w in time", engine.ErrReached)
	}
	return err
}
