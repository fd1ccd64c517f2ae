// Package store keeps the service's records in PostgreSQL: one file per kind of record.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that can be told apart with errors.Is.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("conflict")
	ErrNewer    = errors.New("the database was made by a later version of the program, beside which this one cannot work")
)

// Store gives access to the records.
type Store struct{ DB *sqlx.DB }

// Open connects to a database and brings its schema up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	db, err := connect(ctx, url)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(20)
	db.SetMaxIdleConns(10)
	s := &Store{db}
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("bringing the database up to date: %w", err), db.Close())
	}
	return s, nil
}

// Look connects to a database as it is, whose schema must be one that this program knows.
func Look(ctx context.Context, url string) (*Store, error) {
	db, err := connect(ctx, url)
	if err != nil {
		return nil, err
	}
	s := &Store{db}
	provider, err := s.provider()
	if err == nil {
		var there, known int64
		there, known, err = versions(ctx, provider)
		switch {
		case err != nil || there == known:
		case there > known:
			err = s.mayStandBeside(ctx, there, known)
		default:
			err = fmt.Errorf("the records have the form %d, and this program works with the form %d; start the service once with this program, or use the one it was last started with", there, known)
		}
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

// Empty returns an error unless a database holds nothing.
func Empty(ctx context.Context, url string) error {
	db, err := connect(ctx, url)
	if err != nil {
		return err
	}
	defer db.Close()
	var tables int
	if err := db.GetContext(ctx, &tables,
		"SELECT count(*) FROM information_schema.tables WHERE table_schema = 'public'"); err != nil {
		return err
	}
	if tables > 0 {
		return fmt.Errorf("the database holds %d tables already; a backup is put back into an empty place", tables)
	}
	return nil
}

func (s *Store) provider() (*goose.Provider, error) {
	directory, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectPostgres, s.DB.DB, directory)
}

// versions are the version of the schema that is there, and the last one that is known.
func versions(ctx context.Context, p *goose.Provider) (there, known int64, err error) {
	there, err = p.GetDBVersion(ctx)
	sources := p.ListSources()
	return there, sources[len(sources)-1].Version, err
}

// mayStandBeside is an error unless a program that knows one form works with records of a newer one.
func (s *Store) mayStandBeside(ctx context.Context, there, known int64) error {
	oldest, err := get[int64](ctx, s.DB, "form", "SELECT oldest FROM forms")
	if err != nil {
		return err
	}
	if known < *oldest {
		return fmt.Errorf("%w: its records have the form %d, and this program knows forms up to %d; start the program that the database was last used with, or a later one", ErrNewer, there, known)
	}
	return nil
}

// migrationLock makes nodes that start together migrate one after the other.
const migrationLock = 7_305_112_448

func (s *Store) migrate(ctx context.Context) error {
	conn, err := s.DB.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "SELECT pg_advisory_lock($1)", migrationLock); err != nil {
		return err
	}
	// the lock ends with the connection at the latest
	defer conn.ExecContext(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", migrationLock)
	provider, err := s.provider()
	if err != nil {
		return err
	}
	there, known, err := versions(ctx, provider)
	if err != nil {
		return err
	}
	if there > known { // a node of the next release was started meanwhile
		return s.mayStandBeside(ctx, there, known)
	}
	if _, err := provider.Up(ctx); err != nil {
		return err
	}
	migrator, err := rivermigrate.New(riverdatabasesql.New(s.DB.DB), nil)
	if err != nil {
		return err
	}
	_, err = migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
	return err
}

// Close closes the connections.
func (s *Store) Close() error { return s.DB.Close() }

// Querier is a database or a transaction.
type Querier interface {
	sqlx.ExtContext
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// Do runs f in one transaction, which is committed where f returns nil.
func (s *Store) Do(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	tx, err := s.DB.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// OrNil returns nil for what is not there.
func OrNil[T any](found *T, err error) (*T, error) {
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return found, err
}

// get reads one record; no record is ErrNotFound, with what was looked for.
func get[T any](ctx context.Context, q Querier, what, query string, args ...any) (*T, error) {
	var record T
	err := q.GetContext(ctx, &record, query, clean(args)...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("%w: there is no %s", ErrNotFound, what)
	}
	if err != nil {
		return nil, err
	}
	return &record, nil
}

// list reads records; none is an empty list.
func list[T any](ctx context.Context, q Querier, query string, args ...any) ([]T, error) {
	records := []T{}
	return records, q.SelectContext(ctx, &records, query, clean(args)...)
}

// exec changes records.
func exec(ctx context.Context, q Querier, query string, args ...any) (sql.Result, error) {
	return q.ExecContext(ctx, query, clean(args)...)
}

// conflict turns the refusal of a record that is there already into ErrConflict, in words; other errors stay as they are.
func conflict(err error, format string, args ...any) error {
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "23505" {
		return fmt.Errorf("%w: %s", ErrConflict, fmt.Sprintf(format, args...))
	}
	return err
}

// Passing reports whether an error is of a database that was away, and may be gone the next time.
func Passing(err error) bool {
	var answer *pgconn.PgError
	if errors.As(err, &answer) { // connection exceptions, conflicts, lack of resources, shutdowns
		return slices.Contains([]string{"08", "40", "53", "57"}, answer.Code[:min(2, len(answer.Code))])
	}
	var refused *pgconn.ConnectError
	return errors.As(err, &refused) || errors.Is(err, driver.ErrBadConn) || errors.Is(err, sql.ErrConnDone) ||
		pgconn.SafeToRetry(err)
}

// clean makes texts fit for the database, which takes neither a NUL nor bytes that are no
// UTF-8. Such texts come out of files (a name of a column, a value in a message); what people
// send is refused at the edge. A NUL is shown by its symbol.
func clean(args []any) []any {
	text := func(s string) string {
		return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\u2400")
	}
	out := slices.Clone(args)
	for i, arg := range out {
		switch v := arg.(type) {
		case string:
			out[i] = text(v)
		case *string:
			if v != nil {
				s := text(*v)
				out[i] = &s
			}
		case []string:
			all := make([]string, len(v))
			for k, one := range v {
				all[k] = text(one)
			}
			out[i] = all
		}
	}
	return out
}

// Cursor says which part of a list is wanted.
type Cursor struct {
	After string // Next of the page before; empty for the first
	Limit int
}

// maxID stands for the beginning of a list that starts with the newest.
const maxID = int64(1) << 62

func (c Cursor) before() (int64, error) {
	if c.After == "" {
		return maxID, nil
	}
	id, err := strconv.ParseInt(c.After, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("%w: %q is not a cursor that was handed out", ErrNotFound, c.After)
	}
	return id, nil
}

func (c Cursor) limit() int {
	if c.Limit <= 0 || c.Limit > 500 {
		return 100
	}
	return c.Limit
}

// place is where a page of a list ends that is ordered by a number and then by id.
type place struct{ key, id int64 }

// below returns where the next page begins: from the top for the first one.
func (c Cursor) below() (place, error) {
	if c.After == "" {
		return place{math.MaxInt64, math.MaxInt64}, nil
	}
	key, id, _ := strings.Cut(c.After, ".")
	at := place{}
	var err, also error
	at.key, err = strconv.ParseInt(key, 10, 64)
	at.id, also = strconv.ParseInt(id, 10, 64)
	if err != nil || also != nil {
		return at, fmt.Errorf("%w: %q is not a cursor that was handed out for this order", ErrNotFound, c.After)
	}
	return at, nil
}

// page reads one more record than wanted, to know whether a next page is there.
// query has the id to stay below as its first argument and the limit as its second.
// eachMost is how many records Each asks for at once.
const eachMost = 500

// Each visits all records of a list, page by page.
func Each[T any](pageAt func(Cursor) (*Page[T], error), visit func(*T) error) error {
	for cursor := (Cursor{Limit: eachMost}); ; {
		found, err := pageAt(cursor)
		if err != nil {
			return err
		}
		for i := range found.Items {
			if err := visit(&found.Items[i]); err != nil {
				return err
			}
		}
		if cursor.After = found.Next; found.Next == "" {
			return nil
		}
	}
}

func page[T any](ctx context.Context, q Querier, c Cursor, id func(*T) int64, query string, args ...any) (*Page[T],
	error) {
	before, err := c.before()
	if err != nil {
		return nil, err
	}
	items, err := list[T](ctx, q, query, append([]any{before, c.limit() + 1}, args...)...)
	if err != nil {
		return nil, err
	}
	out := &Page[T]{Items: items}
	if len(items) > c.limit() {
		out.Items = items[:c.limit()]
		out.Next = strconv.FormatInt(id(&out.Items[len(out.Items)-1]), 10)
	}
	return out, nil
}
