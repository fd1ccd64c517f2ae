package inplace_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/testkit"
	"proudsieve/engine"
	"proudsieve/inplace"
)

const readingsBook = `dataset: readings
columns:
  - {name: id, required: true, pattern: "R-[0-9]+"}
  - {name: level, type: decimal, from: 0, to: 900}
  - {name: crew, type: text}
  - {name: remark}
keys:
  - {id: one, columns: [id]}
rules:
  - {id: crewed, condition: "crew IN ('red', 'blue', 'green') OR level > 10"}
  - {id: high, when: crew = 'red', condition: level BETWEEN 0 AND 900}
  - {id: remarked, condition: remark IS NULL OR LENGTH(remark) = 5}
  - {id: told, condition: "remark <> 'spilt' OR level >= 0"}
measures: [level]
`

// readings lays a table of so many rows into ClickHouse, and more rows.
func readings(t *testing.T, rows int, more string) place {
	t.Helper()
	p := startPlaces(t)
	name := fmt.Sprintf("readings%d", tables.Add(1))
	p.shards.Do(t, 0, "CREATE TABLE "+name+" (id String, level Decimal(18, 3), crew String, remark Nullable(String)) ENGINE = MergeTree() ORDER BY id")
	p.shards.Do(t, 0, fmt.Sprintf("INSERT INTO %s SELECT concat('R-', substring(toString(1000000 + number), 2)), toDecimal64(number %% 9000, 3) / 10, arrayElement(['red', 'blue', 'green'], 1 + number %% 3), if(number %% 2 = 0, NULL, 'clear') FROM system.numbers LIMIT %d", name, rows))
	if more != "" {
		p.shards.Do(t, 0, "INSERT INTO "+name+" "+more)
	}
	return place{"ClickHouse", p.shards.Nodes[0], engine.Relation{Schema: "default", Table: name}}
}

func asked(r *audit.Result) (says, sql string) {
	for _, one := range r.There.Statements {
		says, sql = says+one.Says+"\n", sql+one.SQL+"\n"
	}
	return says, sql
}

// A good table takes few questions: what its texts and extremes tell already is not asked of each row.
func TestWhatIsKnownBeforehandIsNotAsked(t *testing.T) {
	defer inplace.ListAtMost(200)()
	at, book := readings(t, 3000, ""), testkit.Book(t, readingsBook)
	result := there(t, at, book)
	if !result.HasPassed() || len(result.Findings) > 0 || result.Rows != 3000 {
		t.Fatalf("%d rows, %+v", result.Rows, result.Findings)
	}
	says, sql := asked(result)
	for _, needless := range []string{"frequent texts of id", "texts of id that stand for nothing", "break a rule", "the values of id that are there more than once\nwhether"} {
		if strings.Contains(says, needless) {
			t.Errorf("%q was asked:\n%s", needless, says)
		}
	}
	if !strings.Contains(says, "how many texts of id have these shapes") {
		t.Errorf("not asked:\n%s", says)
	}
	for _, needless := range []string{"'blue'", "'spilt'", "900"} {
		if strings.Contains(sql, needless) {
			t.Errorf("%s is in what was asked:\n%s", needless, sql)
		}
	}
	if d := differences("", few(plain(t, here(t, at, book))), few(plain(t, result))); len(d) > 0 {
		t.Error(strings.Join(d, "\n"))
	}
}

// One row that is not like the others is enough to have each of these asked, and found.
func TestOneRowUnlikeTheOthersIsFound(t *testing.T) {
	defer inplace.ListAtMost(200)()
	defer inplace.HashAtMost(1000)()
	book := testkit.Book(t, readingsBook)
	for _, more := range []string{
		"SELECT 'R-000007', toDecimal64('1', 3), 'red', NULL",              // an identifier that is there already
		"SELECT 'R-x', toDecimal64('1', 3), 'red', NULL",                   // one of another shape
		"SELECT ' ', toDecimal64('1', 3), 'red', NULL",                     // none
		"SELECT 'n/a', toDecimal64('1', 3), 'red', NULL",                   // a mark
		"SELECT 'R-9', toDecimal64('900.001', 3), 'red', NULL",             // above what may be
		"SELECT 'R-9', toDecimal64('-0.001', 3), 'red', 'spilt'",           // below, where a rule speaks of it
		"SELECT 'R-9', toDecimal64('1', 3), 'grey', NULL",                  // a text that no other row has
		"SELECT 'R-9', toDecimal64('1', 3), 'red', 'muddy water'",          // a longer one
		"SELECT 'R-9', toDecimal64('123456789012345.678', 3), 'red', NULL", // more digits than double precision holds
		"SELECT 'R-9', toDecimal64('-99999999999999.123', 3), 'red', NULL",
		"SELECT id, level, crew, remark FROM system.one ARRAY JOIN ['R-000001', 'R-000001', 'R-000002'] AS id, [toDecimal64('0.1', 3), toDecimal64('0.1', 3), toDecimal64('5', 3)] AS level, ['blue', 'blue', 'red'] AS crew, ['clear', 'clear', 'clear'] AS remark",
	} {
		at := readings(t, 3000, more)
		want, got := few(plain(t, here(t, at, book))), few(plain(t, there(t, at, book)))
		if len(want["findings"].([]any)) == 0 {
			t.Fatalf("%s: nothing is found here", more)
		}
		if d := differences("", want, got); len(d) > 0 {
			t.Errorf("%s:\n%s", more, strings.Join(d, "\n"))
		}
	}
}
