package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"proudsieve/engine"
	"proudsieve/postgres"
)

var columns = []string{"id", "station", "parameter", "value", "limit", "sampled", "received", "easting", "northing",
	"batch", "crew", "remark"}

// questions are what the audit answers, in SQL: one query for each column, and one for
// the key, equal rows, the code list and the condition each.
func questions() []string {
	number := map[string]bool{"value": true, "limit": true, "easting": true, "northing": true}
	var out []string
	for _, c := range columns {
		c := `"` + c + `"`
		query := fmt.Sprintf("SELECT count(*), count(nullif(%[1]s, '')), count(DISTINCT nullif(%[1]s, '')), min(length(%[1]s)), max(length(%[1]s)), count(*) FILTER (WHERE %[1]s <> btrim(%[1]s))", c)
		if number[strings.Trim(c, `"`)] {
			query += fmt.Sprintf(`, count(*) FILTER (WHERE %[1]s ~ '^-?[0-9]+(\.[0-9]+)?$'), sum(%[1]s::numeric), avg(%[1]s::numeric), min(%[1]s::numeric), max(%[1]s::numeric), stddev_samp(%[1]s::numeric),
				percentile_cont(ARRAY[0.25, 0.5, 0.75]) WITHIN GROUP (ORDER BY %[1]s::float8)`, c)
		}
		out = append(out, query+" FROM t",
			fmt.Sprintf("SELECT %[1]s, count(*) FROM t GROUP BY %[1]s ORDER BY count(*) DESC LIMIT 12", c))
	}
	all := `"` + strings.Join(columns, `", "`) + `"`
	return append(out,
		"SELECT count(*), sum(n - 1) FROM (SELECT count(*) AS n FROM t GROUP BY id HAVING count(*) > 1) q",
		"SELECT count(*), sum(n - 1) FROM (SELECT count(*) AS n FROM t GROUP BY "+all+" HAVING count(*) > 1) q",
		"SELECT count(*) FROM t WHERE parameter NOT IN ('PH', 'NO3', 'PO4', 'DO', 'COND')",
		"SELECT count(*) FROM t WHERE value::numeric NOT BETWEEN 0 AND 1000",
		"SELECT count(*) FROM t WHERE NOT received::date >= sampled::date",
		"SELECT count(*) FROM t WHERE id = '' OR station = '' OR parameter = '' OR sampled = '' OR received = ''")
}

// passing starts a server that is to be measured, with a connection to it; stop ends both.
func passing(ctx context.Context, directory string) (conn *pgx.Conn, stop func(), err error) {
	server, err := postgres.Start(ctx, postgres.Options{Directory: directory, Passing: true})
	if err != nil {
		return nil, nil, err
	}
	if conn, err = pgx.Connect(ctx, server.URL()); err != nil {
		_ = server.Stop()
		return nil, nil, err
	}
	return conn, func() {
		_ = conn.Close(ctx)
		_ = server.Stop()
	}, nil
}

// asking has PostgreSQL load the table with COPY, as texts, and answer the questions of the audit.
func (b *bench) asking(ctx context.Context) error {
	directory := filepath.Join(b.directory, "database")
	if err := errors.Join(os.Chmod(b.directory, 0o711), os.Mkdir(directory, 0o711)); err != nil {
		return err
	}
	conn, stop, err := passing(ctx, directory)
	if err != nil {
		return err
	}
	defer stop()
	if _, err := conn.Exec(ctx, `CREATE TABLE t ("`+strings.Join(columns, `" text, "`)+`" text)`); err != nil {
		return err
	}
	in, err := os.Open(b.table)
	if err != nil {
		return err
	}
	defer in.Close()
	started := time.Now()
	if _, err := conn.PgConn().CopyFrom(ctx, in, "COPY t FROM STDIN (FORMAT csv, HEADER, FORCE_NOT_NULL (\""+
		strings.Join(columns, `", "`)+"\"))"); err != nil {
		return err
	}
	loaded := time.Since(started)
	for _, query := range questions() {
		rows, err := conn.Query(ctx, query)
		if err != nil {
			return fmt.Errorf("%s: %w", query, err)
		}
		for rows.Next() {
		}
		if err := rows.Err(); err != nil {
			return fmt.Errorf("%s: %w", query, err)
		}
	}
	took := time.Since(started)
	bar("full audit against PostgreSQL answering the same in SQL", took.Seconds()/b.audit.took.Seconds(),
		"times as fast", 50, true)
	fmt.Printf("%-58s %8.2f s, of which %.2f s for loading\n", "PostgreSQL, COPY and SQL", took.Seconds(),
		loaded.Seconds())
	return errors.Join(taking(ctx, conn), b.inPostgreSQL(ctx, conn), b.onShards(ctx))
}

// taking compares taking the table as a delivery with PostgreSQL's own way to hand it out.
func taking(ctx context.Context, conn *pgx.Conn) error {
	var copied, taken measured
	of := conn.Config()
	if err := (&bench{rounds: 2}).inTurn([]measuring{
		{&copied, func() (measured, error) {
			started := time.Now()
			_, err := conn.PgConn().CopyTo(ctx, io.Discard, "COPY t TO STDOUT (FORMAT csv)")
			return measured{took: time.Since(started)}, err
		}},
		{&taken, func() (measured, error) {
			started := time.Now()
			session, err := engine.Open(ctx, engine.Database{Engine: "postgresql", Host: of.Host, Port: int(of.Port), Name: of.Database, User: of.User, Password: of.Password})
			if err != nil {
				return measured{}, err
			}
			defer session.Close()
			_, err = engine.Take(ctx, session, engine.Relation{Schema: "public", Table: "t"}, engine.Limits{}, io.Discard)
			return measured{took: time.Since(started)}, err
		}},
	}); err != nil {
		return err
	}
	bar("taking it from PostgreSQL against its own COPY", copied.took.Seconds()/taken.took.Seconds(), "times as fast", 0.8, true)
	return nil
}
