package inplace_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"proudsieve/core/condition"
	"proudsieve/core/condition/conditiontest"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/inplace"
	"proudsieve/postgres/postgrestest"
)

// conditionRows is how many rows each condition is worked out on.
const conditionRows = 100

// conditioned is a table of the columns that made-up conditions speak of, as a map from a column to its texts; nil for a null.
func conditioned(r *rand.Rand) map[string][]*string {
	of := map[string][]string{"i": {"0", "1", "-3", "7", "100"}, "n": {"0", "0.1", "2.5", "2.50", "-3.14", "9999999.5"}, "m": {"0.3", "1", "0.2", "-7.77"}, "t": {"a", "b", "A", "ä", "it's", "a ", `\`}, "s": {"a", "b", "aa"},
		"d": {"2024-02-29", "2023-01-01", "2023-12-31"}, "e": {"2024-03-31", "2023-01-01", "1999-12-31"}, "ts": {"2024-02-29 00:00:00", "2023-12-31 23:59:59", "2023-01-01 06:30:00"}, "ok": {"true", "false"}}
	out := map[string][]*string{}
	for name, texts := range of {
		for range conditionRows {
			text := &texts[r.IntN(len(texts))]
			if r.IntN(5) == 0 {
				text = nil
			}
			out[name] = append(out[name], text)
		}
	}
	return out
}

// typedRows are the rows as conditions see them here.
type typedRows map[string][]*string

func (typedRows) Len() int { return conditionRows }

func (r typedRows) Values(column string) ([]table.Value, []uint32) {
	values, codes := make([]table.Value, conditionRows), make([]uint32, conditionRows)
	for k, text := range r[column] {
		if codes[k] = uint32(k); text != nil {
			values[k], _ = table.StandardFormat.Parse(conditiontest.Types[column], *text)
		}
	}
	return values, codes
}

// written are rows as a server writes them that holds two digits after the point of n, which a condition can see by casting them to a text.
func written(rows map[string][]*string) typedRows {
	out := maps.Clone(rows)
	out["n"] = nil
	for _, text := range rows["n"] {
		if text != nil {
			number, _ := strconv.ParseFloat(*text, 64)
			padded := strconv.FormatFloat(number, 'f', 2, 64)
			text = &padded
		}
		out["n"] = append(out["n"], text)
	}
	return out
}

// Each condition with each row is a pair; there are 100,000 of them.
func TestConditionsMeanTheSameThere(t *testing.T) {
	p := startPlaces(t)
	r := rand.New(rand.NewPCG(11, 17))
	began := time.Now()
	if *longer > 0 {
		r = rand.New(rand.NewPCG(11, uint64(began.UnixNano())))
	}
	rows := conditioned(r)
	columns := []struct{ name, postgres, clickhouse string }{{"i", "integer", "Int32"}, {"n", "numeric", "Decimal(18, 2)"}, {"m", "numeric(5,2)", "Decimal(5, 2)"}, {"t", "text", "String"}, {"s", "text", "String"}, {"d", "date", "Date"}, {"e", "date", "Date"},
		{"ts", "timestamp", "DateTime"}, {"ok", "boolean", "String"}}
	var there, shards, book, selects []string
	values := make([][]string, conditionRows)
	book = append(book, "dataset: c", "columns:", "  - {name: k, type: integer}")
	for _, c := range columns {
		there, shards = append(there, c.name+" "+c.postgres), append(shards, c.name+" Nullable("+c.clickhouse+")")
		book = append(book, fmt.Sprintf("  - {name: %s, type: %s}", c.name, conditiontest.Types[c.name]))
		for k := range conditionRows {
			values[k] = append(values[k], literal("postgresql", rows[c.name][k]))
		}
	}
	for k := range conditionRows {
		one := []string{fmt.Sprintf("toInt32(%d)", k)}
		for _, c := range columns {
			one = append(one, "CAST("+literal("clickhouse", rows[c.name][k])+" AS Nullable("+c.clickhouse+"))")
		}
		selects = append(selects, "SELECT "+strings.Join(one, ", "))
	}
	conn := postgrestest.Connect(t, p.postgres)
	if _, err := conn.Exec(t.Context(), "CREATE TABLE c (k integer, "+strings.Join(there, ", ")+")"); err != nil {
		t.Fatal(err)
	}
	for k, one := range values {
		if _, err := conn.Exec(t.Context(), fmt.Sprintf("INSERT INTO c VALUES (%d, %s)", k, strings.Join(one, ", "))); err != nil {
			t.Fatal(err)
		}
	}
	for node := range 3 {
		p.shards.Do(t, node, "CREATE TABLE c_part (k Int32, "+strings.Join(shards, ", ")+") ENGINE = MergeTree() ORDER BY k")
		var mine []string
		for k, one := range selects {
			if k%3 == node {
				mine = append(mine, one)
			}
		}
		p.shards.Do(t, node, "INSERT INTO c_part "+strings.Join(mine, " UNION ALL "))
	}
	p.shards.Do(t, 0, "CREATE TABLE c AS c_part ENGINE = Distributed(vale, default, c_part)")
	declared := testkit.Book(t, strings.Join(book, "\n")+"\n")
	all := []place{{"PostgreSQL", enginetest.PostgreSQL(t, p.postgres), engine.Relation{Schema: "public", Table: "c"}}, {"three shards", p.shards.Nodes[0], engine.Relation{Schema: "default", Table: "c"}}}
	truths := make([]*inplace.Truths, len(all))
	for i, at := range all {
		s := opened(t, at.database)
		defer s.Close()
		var err error
		if truths[i], err = inplace.NewTruths(t.Context(), s, at.database.Engine, at.relation, declared, "k"); err != nil {
			t.Fatal(err)
		}
	}
	g, failed, saidBy := conditiontest.Generator{Rand: r}, 0, make([]int, len(all))
	round := 0
	for ; round < 1000 || time.Since(began) < *longer; round++ {
		source := g.Condition(3).Ours
		compiled, mistakes := condition.Compile(source, conditiontest.Types)
		if len(mistakes) > 0 {
			t.Fatal(source, mistakes)
		}
		for i, at := range all {
			want := compiled.Evaluate([]typedRows{typedRows(rows), written(rows)}[i])
			got, said, err := truths[i].Of(t.Context(), compiled)
			if err != nil {
				if strings.Contains(err.Error(), "math overflow") || strings.Contains(err.Error(), "too small") || strings.Contains(err.Error(), "out of range") {
					continue // which the engine says
				}
				t.Fatalf("%s: %s: %v", at.name, source, err)
			}
			if !said {
				continue
			}
			saidBy[i]++
			for k := range want {
				if got[k] != want[k] {
					t.Errorf("%s: %s: row %d is %d here and %d there", at.name, source, k, want[k], got[k])
					if failed++; failed == 6 {
						t.FailNow()
					}
					break
				}
			}
		}
	}
	t.Logf("%d conditions; PostgreSQL says %d of them, ClickHouse %d", round, saidBy[0], saidBy[1])
	if saidBy[0] < round*8/10 || saidBy[1] < round/6 {
		t.Error("fewer than there were")
	}
}
