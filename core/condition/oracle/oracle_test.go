// Package oracle_test holds conditions against PostgreSQL.
package oracle_test

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/condition"
	"proudsieve/core/condition/conditiontest"
	"proudsieve/core/table"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// generator makes rows up beside conditions.
type generator struct{ conditiontest.Generator }

type oracleRow struct {
	i, n, m *string
	t, s, d *string
	e, ts   *string
	ok      *bool
}

func (g generator) row() oracleRow {
	some := func(values ...string) *string {
		if g.IntN(5) == 0 {
			return nil
		}
		v := values[g.IntN(len(values))]
		return &v
	}
	r := oracleRow{i: some("0", "1", "-3", "7", "100"), n: some("0", "0.1", "2.5", "2.50", "-3.14",
		"99999999999999999999.5"), m: some("0.3", "1", "0.2", "-7.77"),
		t: some("", "a", "b", "A", "ä", "it's", "a "), s: some("a", "b", "aa"),
		d: some("2024-02-29", "2023-01-01", "2023-12-31"), e: some("2024-03-31", "2023-01-01", "1999-12-31"),
		ts: some("2024-02-29 00:00:00", "2023-12-31 23:59:59", "2023-01-01 06:30:00")}
	if g.IntN(4) > 0 {
		v := g.IntN(2) == 0
		r.ok = &v
	}
	return r
}

// typedRows gives the rows to our evaluation, each with its own dictionary entry.
type typedRows []oracleRow

func (r typedRows) Len() int { return len(r) }

func (r typedRows) Values(column string) ([]table.Value, []uint32) {
	values, codes := make([]table.Value, len(r)), make([]uint32, len(r))
	for k, row := range r {
		codes[k] = uint32(k)
		text := map[string]*string{"i": row.i, "n": row.n, "m": row.m, "t": row.t, "s": row.s, "d": row.d, "e": row.e,
			"ts": row.ts}[column]
		if column == "ok" {
			if row.ok != nil {
				values[k] = table.BooleanValue(*row.ok)
			}
		} else if text != nil {
			values[k], _ = table.StandardFormat.Parse(conditiontest.Types[column], *text)
		}
	}
	return values, codes
}

// batchOf is a part of the rows, whose dictionaries go on from those of the parts before.
type batchOf struct {
	typedRows
	first int
}

func (b batchOf) Len() int { return len(b.typedRows) - b.first }

func (b batchOf) Values(column string) ([]table.Value, []uint32) {
	values, codes := b.typedRows.Values(column)
	return values, codes[b.first:]
}

func (b batchOf) Begun(string) uint64 { return 1 }

// inBatches evaluates a condition in several batches, as an audit does.
func inBatches(c *condition.Condition, rows []oracleRow) (truths []condition.Truth) {
	e := c.Evaluator(condition.NewMemory(1))
	for first := 0; first < len(rows); first += 30 {
		last := min(first+30, len(rows))
		truths = append(truths, e.Evaluate(batchOf{typedRows(rows[:last]), first})...)
	}
	return truths
}

func fill(t *testing.T, conn *pgx.Conn, rows []oracleRow) {
	t.Helper()
	ctx := context.Background()
	if _, err := conn.Exec(ctx,
		`CREATE TABLE r (k int, i numeric, n numeric, m numeric, t text COLLATE "C.utf8", s text COLLATE "C.utf8", d date, e date, ts timestamp, ok boolean)`); err != nil {
		t.Fatal(err)
	}
	for k, r := range rows {
		if _, err := conn.Exec(ctx,
			"INSERT INTO r VALUES ($1, $2::text::numeric, $3::text::numeric, $4::text::numeric, $5, $6, $7::text::date, $8::text::date, $9::text::timestamp, $10)", k, r.i, r.n, r.m, r.t, r.s, r.d, r.e, r.ts, r.ok); err != nil {
			t.Fatal(err)
		}
	}
}

// longer is how long conditions are made up beyond the first thousand.
var longer = flag.Duration("longer", 0, "how long to go on comparing conditions with PostgreSQL's answers")

func TestConditionsAgreeWithPostgreSQL(t *testing.T) {
	seed := uint64(13)
	started := time.Now()
	if *longer > 0 {
		seed = uint64(started.UnixNano())
		t.Logf("seed %d", seed)
	}
	g := generator{conditiontest.Generator{Rand: rand.New(rand.NewPCG(11, seed))}}
	rows := make([]oracleRow, 100)
	for k := range rows {
		rows[k] = g.row()
	}
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	fill(t, conn, rows)
	round, failed := 0, 0
	for ; round < 1000 || time.Since(started) < *longer; round++ { // with 100 rows each: 100,000 pairs
		made := g.Condition(3)
		compiled, errs := condition.Compile(made.Ours, conditiontest.Types)
		if len(errs) > 0 {
			t.Fatalf("round %d: %s: %v", round, made.Ours, errs)
		}
		want, err := answers(conn, made.Theirs, len(rows))
		if err != nil {
			t.Fatalf("round %d: %s: %v", round, made.Theirs, err)
		}
		whole, batches := compiled.Evaluate(typedRows(rows)), inBatches(compiled, rows)
		for k := range rows {
			if whole[k] != want[k] || batches[k] != want[k] {
				t.Errorf("round %d: %s is %d for row %s, in batches %d, and PostgreSQL says %d", round, made.Ours,
					whole[k], describe(rows[k]), batches[k], want[k])
				failed++
				break
			}
		}
		if failed == 5 {
			t.FailNow()
		}
	}
	t.Logf("%d conditions on %d rows", round, len(rows))
}

func answers(conn *pgx.Conn, condition_ string, rows int) ([]condition.Truth, error) {
	answer, err := conn.Query(context.Background(), "SELECT ("+condition_+")::boolean FROM r ORDER BY k")
	if err != nil {
		return nil, err
	}
	truths, err := pgx.CollectRows(answer, pgx.RowTo[*bool])
	if err == nil && len(truths) != rows {
		err = fmt.Errorf("%d rows, want %d", len(truths), rows)
	}
	out := make([]condition.Truth, len(truths))
	for k, truth := range truths {
		if truth != nil && *truth {
			out[k] = condition.True
		} else if truth != nil {
			out[k] = condition.False
		}
	}
	return out, err
}

func describe(r oracleRow) string {
	text := func(s *string) string {
		if s == nil {
			return "NULL"
		}
		return *s
	}
	ok := "NULL"
	if r.ok != nil {
		ok = fmt.Sprint(*r.ok)
	}
	return fmt.Sprintf("i=%s n=%s m=%s t=%q s=%q d=%s e=%s ts=%s ok=%s", text(r.i), text(r.n), text(r.m), text(r.t),
		text(r.s), text(r.d), text(r.e), text(r.ts), ok)
}
