// Package store keeps the service's records in PostgreSQL: one file per kind of record.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strconv"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
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
)

// Store gives access to the records.
type Store struct{ DB *sqlx.DB }

// Open connects to a database and brings its schema up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	db, err := sqlx.ConnectContext(ctx, "pgx", url)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	db.SetMaxOpenConns(20)
	db.SetMaxIdleConns(10)
	s := &Store{db}
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("bringing the database up to date: %w", err), db.Close())
	}
	return s, nil
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
	defer conn.ExecContext(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", migrationLock) // the lock ends with the connection at the latest
	directory, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, s.DB.DB, directory)
	if err != nil {
		return err
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

// get reads one record; no record is ErrNotFound, with what was looked for.
func get[T any](ctx context.Context, q Querier, what, query string, args ...any) (*T, error) {
	var record T
	err := q.GetContext(ctx, &record, query, args...)
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
	return records, q.SelectContext(ctx, &records, query, args...)
}

// Page is a part of a list, newest first.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next" doc:"Cursor of the next page; empty on the last one"`
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

// page reads one more record than wanted, to know whether a next page is there.
// query has the id to stay below as its first argument and the limit as its second.
func page[T any](ctx context.Context, q Querier, c Cursor, id func(*T) int64, query string, args ...any) (*Page[T], error) {
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
