package engine

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"

	"github.com/ClickHouse/clickhouse-go/v2"
	"github.com/ClickHouse/clickhouse-go/v2/lib/driver"
)

func init() {
	register(Kind{Name: "clickhouse", Title: "ClickHouse", Port: 9000, open: openClickHouse})
}

// longestStatement is how long a statement may be that lists texts, in bytes.
const longestStatement = 64 << 20

// clickHouse is a session with ClickHouse over its native protocol. Each statement sees what is there when it begins, part by part; there are no
// transactions.
type clickHouse struct {
	conn     driver.Conn
	settings clickhouse.Settings
	version  string
}

func openClickHouse(ctx context.Context, d *Database) (Session, error) {
	o := &clickhouse.Options{
		Addr: []string{net.JoinHostPort(d.Host, strconv.Itoa(d.Port))}, Auth: clickhouse.Auth{Database: d.Name, Username: d.User, Password: d.Password},
		DialTimeout: connectWait, ReadTimeout: d.Timeout + connectWait, MaxOpenConns: 1, MaxIdleConns: 1,
		ClientInfo: clickhouse.ClientInfo{Products: []struct{ Name, Version string }{{"proudsieve", "1"}}},
	}
	if d.TLS {
		o.TLS = &tls.Config{ServerName: d.Host, MinVersion: tls.VersionTLS12}
	}
	conn, err := clickhouse.Open(o)
	if err != nil {
		return nil, err
	}
	c := &clickHouse{conn: conn}
	// Whoever may only read cannot change settings either, so the limits are set for those alone who could write.
	level := ""
	if err := conn.QueryRow(ctx, "SELECT value, version() FROM system.settings WHERE name = 'readonly'").Scan(&level, &c.version); err != nil {
		if err = ofClickHouse(ctx, err); errors.Is(err, ErrGone) {
			err = fmt.Errorf("%w: what answers there does not speak its native protocol", ErrReached)
		}
		return nil, errors.Join(err, conn.Close())
	}
	if level != "1" {
		c.settings = clickhouse.Settings{"max_execution_time": int(d.Timeout.Seconds()), "max_query_size": longestStatement, "readonly": 1}
	}
	return c, nil
}

// ofClickHouse says what an error means, by the numbers of the server.
func ofClickHouse(ctx context.Context, err error) error {
	var of *clickhouse.Exception
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &of):
		said := strings.TrimPrefix(of.Message, "DB::Exception: ")
		for _, tail := range []string{", e.what()", ". Expected one of", ". Expected "} { // which is a list of all words that could follow
			said, _, _ = strings.Cut(said, tail)
		}
		said = strings.Join(strings.Fields(said), " ")
		switch of.Code {
		case 192, 193, 194, 516, 81: // user, password, authentication; no such database
			return fmt.Errorf("%w: %s", ErrRefused, said)
		case 159, 160:
			return fmt.Errorf("%w: %s", ErrTimeout, said)
		case 60, 291, 497:
			return fmt.Errorf("%w: %s", ErrRelation, said)
		}
		return fmt.Errorf("%w: %s", ErrQuery, said)
	}
	return ofConnection(err)
}

func (c *clickHouse) with(ctx context.Context) context.Context {
	return clickhouse.Context(ctx, clickhouse.WithSettings(c.settings))
}

func (c *clickHouse) Server() string { return "ClickHouse " + c.version }

func (c *clickHouse) Tables(ctx context.Context) ([]Table, error) {
	rows, err := c.conn.Query(c.with(ctx), "SELECT database, name, engine FROM system.tables WHERE database NOT IN ('system', 'information_schema', 'INFORMATION_SCHEMA') AND name NOT LIKE '.inner%' ORDER BY database, name")
	if err != nil {
		return nil, ofClickHouse(ctx, err)
	}
	defer rows.Close()
	all := []Table{}
	for rows.Next() {
		t, kind := Table{Rows: -1}, ""
		if err := rows.Scan(&t.Schema, &t.Name, &kind); err != nil {
			return nil, ofClickHouse(ctx, err)
		}
		t.View = strings.HasSuffix(kind, "View")
		all = append(all, t)
	}
	return all, ofClickHouse(ctx, rows.Err())
}

// quoted quotes a name: what would end it, and the character that takes away the meaning of others, are told by one.
func quoted(name string) string {
	return "`" + strings.NewReplacer("\\", "\\\\", "`", "\\`").Replace(name) + "`"
}

// Read implements Session. The server writes the values as text itself, for which what a query gives is asked for by its columns; the
// whole is one statement, since this protocol has no others.
func (c *clickHouse) Read(ctx context.Context, r Relation) (Rows, error) {
	columns, err := c.Describe(ctx, r)
	if err != nil {
		return nil, err
	}
	var texts []string
	var kinds []kind
	for _, one := range columns {
		kinds = append(kinds, kindOf(one.Type))
		switch kinds[len(kinds)-1] {
		case aMoment:
			texts = append(texts, "toString("+quoted(one.Name)+", 'UTC')")
		case aText:
			texts = append(texts, quoted(one.Name))
		default:
			texts = append(texts, "toString("+quoted(one.Name)+")")
		}
	}
	out, err := c.rows(ctx, "SELECT "+strings.Join(texts, ", ")+" FROM "+c.From(r), kinds)
	if err != nil {
		return nil, err
	}
	out.columns = columns
	return out, nil
}

// From implements Session. What a person wrote stands on lines of its own, so that a comment at its end hides nothing.
func (c *clickHouse) From(r Relation) string {
	if r.Query == "" {
		return quoted(r.Schema) + "." + quoted(r.Table)
	}
	return "(\n" + strings.TrimRight(r.Query, "; \t\r\n") + "\n)"
}

// Describe implements Session.
func (c *clickHouse) Describe(ctx context.Context, r Relation) (columns []Column, err error) {
	described, err := c.conn.Query(c.with(ctx), "SELECT * FROM "+c.From(r)+" LIMIT 0")
	if err != nil {
		return nil, ofClickHouse(ctx, err)
	}
	for _, t := range described.ColumnTypes() {
		columns = append(columns, Column{Name: t.Name(), Type: t.DatabaseTypeName(), Text: !typedThere.MatchString(t.DatabaseTypeName())})
	}
	return columns, ofClickHouse(ctx, errors.Join(described.Err(), described.Close()))
}

// Ask implements Session.
func (c *clickHouse) Ask(ctx context.Context, statement string) (Rows, error) {
	return c.rows(ctx, statement, nil)
}

// rows puts a question whose answers are all texts, of some kinds; of none where these are nil.
func (c *clickHouse) rows(ctx context.Context, statement string, kinds []kind) (*clickHouseRows, error) {
	out := &clickHouseRows{ctx: ctx, kinds: kinds}
	var err error
	if out.rows, err = c.conn.Query(c.with(ctx), statement); err != nil {
		return nil, ofClickHouse(ctx, err)
	}
	types := out.rows.ColumnTypes()
	if kinds == nil {
		out.kinds = make([]kind, len(types))
	}
	out.values, out.targets = make([]*string, len(types)), make([]any, len(types))
	out.cells, out.plain = make([][]byte, len(types)), make([]string, len(types))
	for i, t := range types {
		if t.Nullable() {
			out.targets[i] = &out.values[i]
		} else {
			out.values[i] = &out.plain[i]
			out.targets[i] = &out.plain[i]
		}
	}
	return out, nil
}

func (c *clickHouse) Close() error { return c.conn.Close() }

// typedThere are the types whose values are numbers, dates or truth values.
var typedThere = regexp.MustCompile(`^(LowCardinality\(|Nullable\()*(U?Int[0-9]+|Float[0-9]+|Decimal|Date|Bool)`)

// kind is how the values of a column become text.
type kind uint8

const (
	aValue  kind = iota
	aText        // is text
	aPadded      // is text, filled up to a width with zero bytes
	aMoment      // a point in time
)

// kindOf tells it by a type of ClickHouse, in whatever it is wrapped.
func kindOf(t string) kind {
	for _, wrap := range []string{"LowCardinality(", "Nullable("} {
		t = strings.TrimPrefix(t, wrap)
	}
	switch {
	case strings.HasPrefix(t, "DateTime"):
		return aMoment
	case strings.HasPrefix(t, "FixedString("):
		return aPadded
	case strings.TrimRight(t, ")") == "String":
		return aText
	}
	return aValue
}

// clickHouseRows are rows as the server writes them in text.
type clickHouseRows struct {
	ctx     context.Context
	rows    driver.Rows
	columns []Column
	kinds   []kind
	targets []any
	values  []*string
	plain   []string
	cells   [][]byte
	room    []byte
}

func (r *clickHouseRows) Columns() []Column { return r.columns }
func (r *clickHouseRows) Snapshot() string  { return "" }

func (r *clickHouseRows) Next() ([][]byte, error) {
	if !r.rows.Next() {
		if err := r.rows.Err(); err != nil {
			return nil, ofClickHouse(r.ctx, err)
		}
		if err := r.ctx.Err(); err != nil {
			return nil, err
		}
		return nil, io.EOF
	}
	if err := r.rows.Scan(r.targets...); err != nil {
		return nil, ofClickHouse(r.ctx, err)
	}
	r.room = r.room[:0]
	for c, value := range r.values {
		if value == nil {
			r.cells[c] = nil
			continue
		}
		from := len(r.room)
		r.room = append(r.room, *value...)
		switch r.kinds[c] {
		case aMoment:
			r.room = append(r.room, 'Z')
		case aPadded:
			r.room = append(r.room[:from], strings.TrimRight(*value, "\x00")...)
		}
		r.cells[c] = r.room[from:len(r.room):len(r.room)]
	}
	return r.cells, nil
}

func (r *clickHouseRows) Close() error { return ofClickHouse(r.ctx, r.rows.Close()) }
