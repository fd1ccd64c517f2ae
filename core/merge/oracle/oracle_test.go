// Package oracle_test holds merges against PostgreSQL: the same tables, loaded there and joined in SQL.
package oracle_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/parquet-go/parquet-go"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

const book = `dataset: DATASET
columns:
  - {name: id}
  - {name: site}
  - {name: size, type: decimal}
  - {name: day, type: date}
  - {name: amount, type: decimal}
measures: [amount]
pass_mark: 0
`

func bookOf(dataset string) string { return strings.Replace(book, "DATASET", dataset, 1) }

// made is a table of rows that share keys, some of them blank.
func made(r *rand.Rand, prefix string, rows int) [][]string {
	out := make([][]string, rows)
	for i := range out {
		blank := func(text string) string {
			if r.IntN(7) == 0 {
				return ""
			}
			return text
		}
		size := fmt.Sprintf("%d.%0*d", r.IntN(6), r.IntN(3), 0)
		size = strings.TrimSuffix(size, ".")
		out[i] = []string{fmt.Sprint(prefix, i), blank([]string{"A", "B", "b ", " a", "C D", "E"}[r.IntN(6)]), blank(size),
			blank(fmt.Sprintf("2024-%02d-%02d", 1+r.IntN(4), 1+r.IntN(5))), blank(fmt.Sprintf("%d.%02d", r.IntN(100)-50, r.IntN(100)))}
	}
	return out
}

func text(rows [][]string) string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	_ = w.Write([]string{"id", "site", "size", "day", "amount"})
	_ = w.WriteAll(rows)
	return b.String()
}

func load(t *testing.T, conn *pgx.Conn, name string, rows [][]string) {
	t.Helper()
	ctx := context.Background()
	run := func(query string) {
		if _, err := conn.Exec(ctx, query); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
	}
	run("DROP TABLE IF EXISTS " + name)
	run("CREATE TABLE " + name + " (row int, id text, site text, size text, day text, amount text)")
	var all [][]any
	for i, cells := range rows {
		all = append(all, []any{i + 1, cells[0], cells[1], cells[2], cells[3], cells[4]})
	}
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{name}, []string{"row", "id", "site", "size", "day", "amount"}, pgx.CopyFromRows(all)); err != nil {
		t.Fatal(err)
	}
}

// key is a part of a key, as a merge and as SQL have it; fills is the column that a row which nobody asked for has it in.
type key struct{ left, right, sqlLeft, sqlRight, fills string }

var keys = []key{
	{"site", "site", "nullif(l.site, '')", "nullif(r.site, '')", "site"},
	{"size", "size", "nullif(l.size, '')::numeric", "nullif(r.size, '')::numeric", "size"},
	{"day", "day", "nullif(l.day, '')::date", "nullif(r.day, '')::date", "day"},
	{"LOWER(TRIM(site))", "LOWER(TRIM(site))", "nullif(lower(btrim(l.site)), '')", "nullif(lower(btrim(r.site)), '')", ""},
	{"DATE_TRUNC('month', day)", "DATE_TRUNC('month', day)", "date_trunc('month', nullif(l.day, '')::date)", "date_trunc('month', nullif(r.day, '')::date)", ""},
	{"size + 1", "size", "nullif(l.size, '')::numeric + 1", "nullif(r.size, '')::numeric", ""},
}

// drawn is a merge as its text and as a query.
type drawn struct {
	text  string
	parts []key
	equal bool // blanks
	inner bool
	full  bool
	way   string // with repeated keys
}

func draw(r *rand.Rand) drawn {
	d := drawn{equal: r.IntN(3) == 0, inner: r.IntN(2) == 0, full: r.IntN(2) == 0,
		way: []string{"multiply", "earliest_row", "latest_row", "largest_value", "least_value"}[r.IntN(5)]}
	for range 1 + r.IntN(2) {
		k := keys[r.IntN(len(keys))]
		if !slices.ContainsFunc(d.parts, func(o key) bool { return o.left == k.left }) {
			d.parts = append(d.parts, k)
		}
	}
	var match []string
	for _, k := range d.parts {
		match = append(match, fmt.Sprintf("%q: %q", k.left, k.right))
	}
	d.text = "merge: m\nstack: [rows]\norigin: source\njoin:\n  - with: other\n    match: {" + strings.Join(match, ", ") + "}\n    take: [id, amount]\n    met_at_least: 0\n    repeated: " + d.way + "\n"
	if d.way == "largest_value" || d.way == "least_value" {
		d.text += "    by: amount\n"
	}
	d.text += "    unmatched: " + map[bool]string{true: "set_aside", false: "keep"}[d.inner] + "\n"
	if d.equal {
		d.text += "    blanks: equal\n"
	}
	if d.full {
		d.text += "    unasked: keep\n"
	}
	return d
}

// query returns the rows of the merged table in their order.
func (d drawn) query() string {
	var equal, filled []string
	for _, k := range d.parts {
		op := "="
		if d.equal {
			op = "IS NOT DISTINCT FROM"
		}
		equal = append(equal, k.sqlLeft+" "+op+" "+k.sqlRight)
		filled = append(filled, k.sqlRight+" IS NOT NULL")
	}
	// A key that is blank altogether meets nothing.
	meets := "(" + strings.Join(equal, " AND ") + ") AND (" + strings.Join(filled, " OR ") + ")"
	var of []string
	for _, k := range d.parts {
		of = append(of, k.sqlRight)
	}
	order := map[string]string{"multiply": "r.row", "earliest_row": "r.row", "latest_row": "r.row DESC",
		"largest_value": "nullif(r.amount, '')::numeric DESC NULLS LAST, r.row", "least_value": "nullif(r.amount, '')::numeric ASC NULLS LAST, r.row"}[d.way]
	whole := strings.Join(filled, " AND ")
	if d.equal {
		whole = strings.Join(filled, " OR ")
	}
	chosen := "SELECT * FROM r0"
	if d.way != "multiply" {
		chosen = "SELECT row, id, site, size, day, amount FROM (SELECT r.*, (" + whole + ") AS whole, row_number() OVER (PARTITION BY (" + whole + "), " + strings.Join(of, ", ") + " ORDER BY " + order + ") AS place FROM r0 r) x WHERE place = 1 OR NOT whole"
	}
	blank := func(column string) string {
		for _, k := range d.parts {
			if k.fills == column {
				return "r." + column
			}
		}
		return "''"
	}
	query := `WITH r AS (` + chosen + `)
		SELECT 1 AS part, l.row AS a, coalesce(r.row, 0) AS b, l.id, l.site, l.size, l.day, l.amount, coalesce(r.id, '') AS rid, coalesce(r.amount, '') AS ramount, 'rows' AS source
		FROM l0 l ` + map[bool]string{true: "JOIN", false: "LEFT JOIN"}[d.inner] + ` r ON ` + meets
	if d.full {
		query += ` UNION ALL SELECT 2, 0, r.row, '', ` + blank("site") + `, ` + blank("size") + `, ` + blank("day") + `, '', r.id, r.amount, 'other' FROM r
			WHERE NOT EXISTS (SELECT FROM l0 l WHERE ` + meets + `)`
	}
	return query + " ORDER BY part, a, b"
}

// Random merges of tables with blanks, repeats, and keys of all types agree row for row with PostgreSQL, and so does every
// count and sum of their accounting.
func TestMergesDoWhatSQLDoes(t *testing.T) {
	merges := 300
	if testing.Short() {
		merges = 60
	}
	ctx := context.Background()
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	met := map[string]int{}
	for seed := range merges {
		r := rand.New(rand.NewPCG(uint64(seed), 14))
		left, right := made(r, "L", 20+r.IntN(120)), made(r, "R", r.IntN(90))
		load(t, conn, "l0", left)
		load(t, conn, "r0", right)
		d := draw(r)
		met[d.way]++
		plan, err := merge.Parse([]byte(d.text))
		if err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, d.text, err)
		}
		input := func(dataset string, rows [][]string) merge.Input {
			return merge.Input{Dataset: dataset, Source: testkit.File(t, text(rows), intake.Standard()), Book: testkit.Book(t, bookOf(dataset))}
		}
		var out, unmet, sources bytes.Buffer
		a, err := merge.Run(ctx, plan, merge.Inputs{input("rows", left), input("other", right)}, 1+seed%3, merge.Outputs{Table: &out, Unmet: &unmet, Sources: &sources})
		if err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, d.text, err)
		}
		got, err := csv.NewReader(&out).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		rows, err := conn.Query(ctx, d.query())
		if err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, d.query(), err)
		}
		var want [][]string
		var from [][3]int32 // table, row, and row of the joined one
		counts := struct{ matched, pairs, added int64 }{}
		last := int32(0)
		for rows.Next() {
			var part, a, b int32
			cells := make([]string, 8)
			if err := rows.Scan(&part, &a, &b, &cells[0], &cells[1], &cells[2], &cells[3], &cells[4], &cells[5], &cells[6], &cells[7]); err != nil {
				t.Fatal(err)
			}
			want = append(want, cells)
			from = append(from, [3]int32{0, a, b})
			switch {
			case part == 2:
				from[len(from)-1] = [3]int32{-1, b, b}
				counts.added++
			case b > 0:
				if counts.pairs++; a != last {
					counts.matched++
				}
				last = a
			}
		}
		if err := rows.Err(); err != nil {
			t.Fatalf("seed %d:\n%s\n%v", seed, d.query(), err)
		}
		if !slices.EqualFunc(got[1:], want, slices.Equal) {
			t.Errorf("seed %d:\n%s%s", seed, d.text, differs(got[1:], want))
		}
		sourced, err := parquet.Read[merge.Sourced](bytes.NewReader(sources.Bytes()), int64(sources.Len()))
		if err != nil || !slices.EqualFunc(sourced, from, func(s merge.Sourced, f [3]int32) bool {
			return s.Table == f[0] && s.Row == int64(f[1]) && s.Joined[0] == int64(f[2]) && len(s.Filled) == 0
		}) {
			t.Errorf("seed %d:\n%srows are from %v, %v\nwant %v", seed, d.text, sourced, err, from)
		}
		nothing := unmetOf(t, conn, d)
		told, err := csv.NewReader(&unmet).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		for i := range told { // the key is not of interest here
			told[i] = slices.Delete(told[i], 4, 5)
		}
		if !slices.EqualFunc(told[1:], nothing, slices.Equal) || a.Unmet != int64(len(nothing)) {
			t.Errorf("seed %d:\n%sof the rows that met nothing, %s", seed, d.text, differs(told[1:], nothing))
		}
		j := a.Joins[0]
		unmatched := int64(len(left)) - counts.matched
		aside := unmatched
		if !d.inner {
			aside = 0
		}
		if j.RowsIn != int64(len(left)) || j.Matched != counts.matched || j.Unmatched != unmatched || j.SetAside != aside || j.Multiplied != counts.pairs-counts.matched ||
			j.Added != counts.added || a.Rows != int64(len(want)) || j.JoinedRows != int64(len(right)) {
			t.Errorf("seed %d:\n%s%+v, want %+v of %d rows", seed, d.text, j, counts, len(left))
		}
		if err := a.Balance(); err != nil {
			t.Errorf("seed %d: %v", seed, err)
		}
		var sum string
		if err := conn.QueryRow(ctx, "SELECT coalesce(trim_scale(sum(nullif(amount, '')::numeric)), 0)::text FROM ("+d.query()+") x").Scan(&sum); err != nil {
			t.Fatal(err)
		}
		var there, then string
		var filled int64
		if err := conn.QueryRow(ctx, "SELECT (SELECT coalesce(trim_scale(sum(nullif(amount, '')::numeric)), 0)::text FROM r0), coalesce(trim_scale(sum(nullif(ramount, '')::numeric)), 0)::text, count(*) FILTER (WHERE ramount <> '') FROM ("+
			d.query()+") x").Scan(&there, &then, &filled); err != nil {
			t.Fatal(err)
		}
		if taken := j.Taken[1]; taken.Column != "other_amount" || taken.SumThere != there || taken.SumThen != then || taken.Filled != filled || taken.Of != int64(len(want)) {
			t.Errorf("seed %d:\n%s%+v, want %s, %s and %d filled", seed, d.text, taken, there, then, filled)
		}
		if a.Sums["amount"] != sum {
			t.Errorf("seed %d:\n%sthe sum is %s, want %s", seed, d.text, a.Sums["amount"], sum)
		}
		if t.Failed() {
			return
		}
	}
	for way, n := range met {
		if n < merges/20 {
			t.Errorf("%s was met %d times only", way, n)
		}
	}
}

// unmetOf are the rows that PostgreSQL finds no partner for, as the table of them has them.
func unmetOf(t *testing.T, conn *pgx.Conn, d drawn) [][]string {
	t.Helper()
	return answered(t, conn, "SELECT 'rows', '', row::text, 'no partner in other', id, site, size, day, amount FROM l0 WHERE row NOT IN (SELECT a FROM ("+d.query()+") x WHERE part = 1 AND b > 0) ORDER BY l0.row")
}

// answered are the rows with which PostgreSQL answers, all of texts.
func answered(t *testing.T, conn *pgx.Conn, query string) [][]string {
	t.Helper()
	found, err := conn.Query(context.Background(), query)
	if err != nil {
		t.Fatalf("%v\n%s", err, query)
	}
	rows, err := pgx.CollectRows(found, func(row pgx.CollectableRow) ([]string, error) {
		cells := make([]string, len(row.FieldDescriptions()))
		into := make([]any, len(cells))
		for i := range cells {
			into[i] = &cells[i]
		}
		return cells, row.Scan(into...)
	})
	if err != nil {
		t.Fatalf("%v\n%s", err, query)
	}
	return rows
}

func differs(got, want [][]string) string {
	for i := range min(len(got), len(want)) {
		if !slices.Equal(got[i], want[i]) {
			return fmt.Sprintf("row %d: %q, want %q", i+1, got[i], want[i])
		}
	}
	return fmt.Sprintf("%d rows, want %d", len(got), len(want))
}
