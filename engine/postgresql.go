package engine

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgtype"
)

func init() {
	register(Kind{Name: "postgresql", Title: "PostgreSQL", Port: 5432, open: openPostgreSQL})
}

// postgreSQL is a session with PostgreSQL: one transaction that only reads, and sees what was there when it began.
type postgreSQL struct {
	conn     *pgx.Conn
	version  string
	snapshot string
	asked    bool // a question was put, and stands after a savepoint
}

func openPostgreSQL(ctx context.Context, d *Database) (Session, error) {
	config, err := pgx.ParseConfig("")
	if err != nil {
		return nil, err
	}
	config.Host, config.Port, config.Database, config.User, config.Password = d.Host, uint16(d.Port), d.Name, d.User, d.Password
	config.Fallbacks, config.ConnectTimeout, config.TLSConfig = nil, connectWait, nil
	if d.TLS {
		config.TLSConfig = &tls.Config{ServerName: d.Host, MinVersion: tls.VersionTLS12}
	}
	// Who gives up has the server give up as well, instead of leaving it to find out.
	config.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: c, DeadlineDelay: 5 * time.Second}
	}
	config.DefaultQueryExecMode = pgx.QueryExecModeExec
	config.RuntimeParams = map[string]string{
		"application_name": "proudsieve", "default_transaction_read_only": "on", "statement_timeout": strconv.FormatInt(d.Timeout.Milliseconds(), 10),
		"TimeZone": "UTC", "DateStyle": "ISO, MDY", "IntervalStyle": "iso_8601", "bytea_output": "hex", "client_encoding": "UTF8", "standard_conforming_strings": "on", "work_mem": "64MB", "extra_float_digits": "1",
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, ofPostgreSQL(ctx, err)
	}
	p := &postgreSQL{conn: conn}
	_, err = conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
	if err == nil {
		err = conn.QueryRow(ctx, "SELECT current_setting('server_version'), txid_current_snapshot()::text").Scan(&p.version, &p.snapshot)
	}
	if err != nil {
		return nil, errors.Join(ofPostgreSQL(ctx, err), p.Close())
	}
	return p, nil
}

// ofPostgreSQL says what an error means.
func ofPostgreSQL(ctx context.Context, err error) error {
	var of *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &of):
		said := of.Message
		if of.Hint != "" {
			said += " (" + of.Hint + ")"
		}
		switch {
		case strings.HasPrefix(of.Code, "28"), of.Code == "3D000": // authorisation; no such database
			return fmt.Errorf("%w: %s", ErrRefused, said)
		case of.Code == "57014":
			return fmt.Errorf("%w: %s", ErrTimeout, said)
		case of.Code == "42P01", of.Code == "42501", of.Code == "3F000": // no such table, not allowed, no such schema
			return fmt.Errorf("%w: %s", ErrRelation, said)
		case strings.HasPrefix(of.Code, "57"), strings.HasPrefix(of.Code, "08"): // told to end; of the connection
			return fmt.Errorf("%w: %s", ErrGone, said)
		}
		return fmt.Errorf("%w: %s", ErrQuery, said)
	case errors.As(err, new(*pgconn.ConnectError)):
		return fmt.Errorf("%w: %s", ErrReached, lastOf(err))
	}
	return ofConnection(err)
}

func (p *postgreSQL) Server() string {
	version, _, _ := strings.Cut(p.version, " ")
	return "PostgreSQL " + version
}

func (p *postgreSQL) Tables(ctx context.Context) ([]Table, error) {
	rows, err := p.conn.Query(ctx, `SELECT n.nspname, c.relname, c.relkind IN ('v', 'm'), CASE WHEN c.relkind IN ('v', 'p', 'f') THEN -1 ELSE c.reltuples::bigint END
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND NOT c.relispartition AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\_%'
			AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT')
		ORDER BY 1, 2`)
	if err != nil {
		return nil, ofPostgreSQL(ctx, err)
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (t Table, err error) {
		return t, row.Scan(&t.Schema, &t.Name, &t.View, &t.Rows)
	})
	return all, ofPostgreSQL(ctx, err)
}

// Read implements Session. A query is sent as a statement of its own in the extended protocol, in which no second one can follow it.
func (p *postgreSQL) Read(ctx context.Context, r Relation) (Rows, error) {
	statement := statementOf(r)
	columns, types, err := p.describe(ctx, statement)
	if err != nil {
		return nil, err
	}
	return p.rows(ctx, statement, columns, types), nil
}

func statementOf(r Relation) string {
	if r.Query != "" {
		return r.Query
	}
	return "SELECT * FROM " + pgx.Identifier{r.Schema, r.Table}.Sanitize()
}

func (p *postgreSQL) rows(ctx context.Context, statement string, columns []Column, types []uint32) *postgreSQLRows {
	return &postgreSQLRows{ctx: ctx, snapshot: p.snapshot, columns: columns, types: types,
		result: p.conn.PgConn().ExecParams(ctx, statement, nil, nil, nil, nil)}
}

// describe tells what a statement gives.
func (p *postgreSQL) describe(ctx context.Context, statement string) (columns []Column, types []uint32, err error) {
	described, err := p.conn.PgConn().Prepare(ctx, "", statement, nil)
	if err != nil {
		return nil, nil, ofPostgreSQL(ctx, err)
	}
	if len(described.Fields) == 0 {
		return nil, nil, fmt.Errorf("%w: it gives no rows; write a SELECT", ErrQuery)
	}
	names, err := p.typeNames(ctx, described.Fields)
	if err != nil {
		return nil, nil, err
	}
	for c, f := range described.Fields {
		columns = append(columns, Column{Name: f.Name, Type: names[c], Text: !slices.Contains(typed, f.DataTypeOID)})
		types = append(types, f.DataTypeOID)
	}
	return columns, types, nil
}

// Describe implements Session.
func (p *postgreSQL) Describe(ctx context.Context, r Relation) ([]Column, error) {
	columns, _, err := p.describe(ctx, statementOf(r))
	return columns, err
}

// Ask implements Session. What the server refuses leaves the transaction good for the next question.
func (p *postgreSQL) Ask(ctx context.Context, statement string) (Rows, error) {
	before := "SAVEPOINT asked"
	switch {
	case p.conn.PgConn().TxStatus() == 'E':
		before = "ROLLBACK TO SAVEPOINT asked"
	case p.asked:
		before = "RELEASE SAVEPOINT asked; SAVEPOINT asked"
	}
	if err := p.conn.PgConn().Exec(ctx, before).Close(); err != nil {
		return nil, ofPostgreSQL(ctx, err)
	}
	p.asked = true
	return p.rows(ctx, statement, nil, nil), nil
}

// From implements Session. What a person wrote stands on lines of its own, so that a comment at its end hides nothing.
func (p *postgreSQL) From(r Relation) string {
	if r.Query == "" {
		return pgx.Identifier{r.Schema, r.Table}.Sanitize()
	}
	return "(\n" + strings.TrimRight(r.Query, "; \t\r\n") + "\n) AS q"
}

// typeNames asks for the names of types.
func (p *postgreSQL) typeNames(ctx context.Context, fields []pgconn.FieldDescription) ([]string, error) {
	var types, modifiers []string
	for _, f := range fields {
		types, modifiers = append(types, strconv.FormatUint(uint64(f.DataTypeOID), 10)), append(modifiers, strconv.FormatInt(int64(f.TypeModifier), 10))
	}
	rows, err := p.conn.Query(ctx, "SELECT format_type(t::oid, m::int) FROM unnest(string_to_array($1, ','), string_to_array($2, ',')) WITH ORDINALITY AS x(t, m, n) ORDER BY n",
		strings.Join(types, ","), strings.Join(modifiers, ","))
	if err != nil {
		return nil, ofPostgreSQL(ctx, err)
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err == nil && len(names) != len(fields) {
		err = fmt.Errorf("the database told %d types of %d columns", len(names), len(fields))
	}
	return names, ofPostgreSQL(ctx, err)
}

func (p *postgreSQL) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return p.conn.Close(ctx)
}

// postgreSQLRows are rows as the server writes them in text.
type postgreSQLRows struct {
	ctx      context.Context
	result   *pgconn.ResultReader
	columns  []Column
	types    []uint32
	snapshot string
	cells    [][]byte
	moments  []byte // points in time that are written anew
}

func (r *postgreSQLRows) Columns() []Column { return r.columns }
func (r *postgreSQLRows) Snapshot() string  { return r.snapshot }

func (r *postgreSQLRows) Next() ([][]byte, error) {
	if !r.result.NextRow() {
		if _, err := r.result.Close(); err != nil {
			return nil, ofPostgreSQL(r.ctx, err)
		}
		return nil, io.EOF
	}
	values := r.result.Values()
	if r.cells == nil {
		r.cells = make([][]byte, len(values))
		if r.types == nil { // they are texts as they are
			r.types = make([]uint32, len(values))
		}
	}
	r.moments = r.moments[:0]
	for c := range r.cells {
		r.cells[c] = r.text(r.types[c], values[c])
	}
	return r.cells, nil
}

// typed are the types whose values are numbers, dates or truth values.
var typed = []uint32{pgtype.BoolOID, pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID, pgtype.OIDOID, pgtype.Float4OID, pgtype.Float8OID, pgtype.NumericOID,
	pgtype.DateOID, pgtype.TimestampOID, pgtype.TimestamptzOID}

var (
	yes = []byte("true")
	no  = []byte("false")
)

// text writes truth values as words, and points in time as they are read.
func (r *postgreSQLRows) text(of uint32, value []byte) []byte {
	switch {
	case value == nil:
		return nil
	case of == pgtype.BoolOID:
		if len(value) == 1 && value[0] == 't' {
			return yes
		}
		return no
	case of == pgtype.TimestamptzOID, of == pgtype.TimestampOID:
		from := len(r.moments)
		r.moments = appendMoment(r.moments, value)
		return r.moments[from:len(r.moments):len(r.moments)]
	}
	return value
}

// appendMoment writes a point in time with three or six digits after its point, where the server leaves zeros out, and with Z for
// the zone of the session, which is UTC.
func appendMoment(to, value []byte) []byte {
	rest, zoned := bytes.CutSuffix(value, []byte("+00"))
	to = append(to, rest...)
	if at := bytes.IndexByte(rest, '.'); at >= 0 {
		for digits := len(rest) - at - 1; digits%3 != 0; digits++ {
			to = append(to, '0')
		}
	}
	if zoned {
		to = append(to, 'Z')
	}
	return to
}

func (r *postgreSQLRows) Close() error {
	_, err := r.result.Close()
	return ofPostgreSQL(r.ctx, err)
}
