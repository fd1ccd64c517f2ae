package relation_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
	"proudsieve/postgres/postgrestest"
)

const visitsBook = `dataset: visits
columns:
  - {name: station, type: code, codes: stations}
  - {name: day}
  - {name: flow, type: decimal}
code_lists:
  stations:
    - {code: ALD, label: Alder Mill, spellings: [Aldermill]}
    - {code: BRN, label: Brondon Ford, parent: North}
    - {code: Überwasser}
measures: [flow]
`

// Six kinds of rows: an equal pair, a conflicting three, a pair of other spellings, one
// alone, one without a key.
const visits = `station,day,flow
ALD,1,5
BRN,1,7
ALD,1,5
BRN,1,8
BRN,1,7
ald,2,1
Aldermill,2,2.5
Überwasser,3,9
,4,100
UBERWASSER,3,4
`

func visited(t *testing.T) *relation.Table {
	book := testkit.Book(t, visitsBook)
	return &relation.Table{Source: testkit.File(t, visits, book.Reading), Book: book, Workers: 2}
}

func TestGroupsAreToldApart(t *testing.T) {
	ctx, table := context.Background(), visited(t)
	g, err := relation.FindGroups(ctx, table, []string{"station", "day"})
	if err != nil {
		t.Fatal(err)
	}
	for kind, want := range map[relation.GroupKind]relation.GroupsCount{
		relation.Equal:       {Groups: 1, Rows: 2, Surplus: 1, Impact: map[string]string{"flow": "5"}},
		relation.Conflicting: {Groups: 1, Rows: 3, Surplus: 2, Impact: map[string]string{"flow": "15"}},
		relation.Near:        {Groups: 2, Rows: 4, Surplus: 2, Impact: map[string]string{"flow": "6.5"}},
	} {
		if got := g.Of[kind]; !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, want %+v", kind, got, want)
		}
	}
	if g.Rows != 10 || g.SurplusLevelled != 5 {
		t.Errorf("%d rows, %d surplus once levelled", g.Rows, g.SurplusLevelled)
	}
	page, of, err := g.Page(ctx, table, relation.Conflicting, 0, 5)
	if err != nil || of != 1 || len(page) != 1 || page[0].Count != 3 || !reflect.DeepEqual(page[0].Differs, []string{"flow"}) || page[0].Rows[1].Row != 4 || page[0].Rows[1].Cells[2] != "8" {
		t.Errorf("%+v, %d, %v", page, of, err)
	}
	if page, of, err := g.Page(ctx, table, relation.Near, 1, 5); err != nil || of != 2 || len(page) != 1 || !reflect.DeepEqual(page[0].Differs, []string{"station", "flow"}) || page[0].Rows[1].Line != 11 {
		t.Errorf("%+v, %d, %v", page, of, err)
	}
	if _, err := relation.FindGroups(ctx, table, []string{"place"}); err == nil {
		t.Error("groups by a column that is not there")
	}
}

func TestWhatTextsStandFor(t *testing.T) {
	book := testkit.Book(t, `dataset: d
columns:
  - {name: k, type: code, codes: places}
  - {name: p, type: code, codes: params}
code_lists:
  places: [{code: ALD, label: Alder Mill, spellings: [Aldermill]}, {code: BRN, label: Brondon Ford, parent: North}, {code: Überwasser}, {code: Highgarth}, {code: KELD4711}]
  params: [PH, NO3]
  units: [mg/l]
`)
	r := book.Recogniser("k")
	for text, want := range map[string]rulebook.Meaning{
		" ALD":        {Kind: rulebook.MeansCode, Code: "ALD", How: "spaces", Sure: 1},
		"ald":         {Kind: rulebook.MeansCode, Code: "ALD", How: "upper and lower case", Sure: 1},
		" ald ":       {Kind: rulebook.MeansCode, Code: "ALD", How: "spaces and case", Sure: 1},
		"aldermill":   {Kind: rulebook.MeansCode, Code: "ALD", How: "declared spelling", Sure: 1},
		"alder mill":  {Kind: rulebook.MeansCode, Code: "ALD", How: "its label", Sure: 0.95},
		"A.L.D.":      {Kind: rulebook.MeansCode, Code: "ALD", How: "accents or punctuation", Sure: 0.95},
		"Uberwasser":  {Kind: rulebook.MeansCode, Code: "Überwasser", How: "accents or punctuation", Sure: 0.95},
		"brondonford": {Kind: rulebook.MeansCode, Code: "BRN", How: "its label", Sure: 0.95},
		"bf":          {Kind: rulebook.MeansCode, Code: "BRN", How: "abbreviation", Sure: 0.6},
		"Brond":       {Kind: rulebook.MeansCode, Code: "BRN", How: "abbreviation", Sure: 0.6},
		"Higgarth":    {Kind: rulebook.MeansCode, Code: "Highgarth", How: "typing slip", Sure: 0.7},
		"KELD4171":    {Kind: rulebook.MeansCode, Code: "KELD4711", How: "typing slip", Sure: 0.7},
		"KELD4712":    {Kind: rulebook.MeansCode, Code: "KELD4711", How: "typing slip", Sure: 0.7},
		"ph":          {Kind: rulebook.MeansColumn, Code: "PH", List: "params", Column: "p", Sure: 0.9},
		"mg/l":        {Kind: rulebook.MeansOther, Code: "mg/l", List: "units", Sure: 0.9},
		"north":       {Kind: rulebook.MeansParent, Code: "north", Sure: 0.9},
		"ALD/BRN":     {Kind: rulebook.MeansSeveral, Codes: []string{"ALD", "BRN"}, Sure: 0.8},
		"ald BRN":     {Kind: rulebook.MeansSeveral, Codes: []string{"ALD", "BRN"}, Sure: 0.8},
		"ALE":         {Kind: rulebook.MeansNothing},
		"zzz":         {Kind: rulebook.MeansNothing},
	} {
		got := r.Of(text)
		got.Sure = float64(int(got.Sure*100+0.5)) / 100
		if !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %+v, want %+v", text, got, want)
		}
	}
}

func TestTheTextsOfAColumn(t *testing.T) {
	ctx, table := context.Background(), visited(t)
	c, err := relation.Recognise(ctx, table, "station")
	if err != nil {
		t.Fatal(err)
	}
	if c.List != "stations" || c.Filled != 9 || c.More || len(c.Absent) != 0 || !reflect.DeepEqual(c.Used, []relation.CodeUse{{Code: "BRN", Label: "Brondon Ford", Rows: 3}, {Code: "ALD", Label: "Alder Mill", Rows: 2}, {Code: "Überwasser", Rows: 1}}) {
		t.Errorf("%+v", c)
	}
	if len(c.Texts) != 3 || c.Texts[0].Text != "Aldermill" || c.Texts[1].Meaning.Code != "Überwasser" || c.Texts[2].Meaning.Code != "ALD" {
		t.Errorf("%+v", c.Texts)
	}
	plain := *table
	plain.Book = testkit.Book(t, "dataset: visits\ncolumns: [{name: station}]\n")
	c, err = relation.Recognise(ctx, &plain, "station")
	if err != nil || c.List != "" || len(c.Used) != 4 || len(c.Texts) != 2 || c.Texts[1].Text != "Überwasser" || c.Texts[1].Meaning.Code != "UBERWASSER" || c.Texts[0].Meaning.How != "upper and lower case" {
		t.Errorf("%+v, %v", c, err)
	}
}

// repeated makes a register in which keys are repeated, as they stand and in other spellings.
func repeated(rows int) string {
	r := rand.New(rand.NewPCG(8, 9))
	var b strings.Builder
	b.WriteString("station,day,value\n")
	spell := []func(string) string{
		func(s string) string { return s }, func(s string) string { return s }, func(s string) string { return s }, strings.ToLower,
		func(s string) string { return s + " " }, func(s string) string { return " " + s }, func(s string) string { return strings.ReplaceAll(s, "-", " ") },
	}
	for range rows {
		station, day := spell[r.IntN(len(spell))](fmt.Sprintf("AV-%03d", r.IntN(900))), fmt.Sprintf("2024-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))
		if r.IntN(50) == 0 {
			station = ""
		}
		value := ""
		if r.IntN(4) > 0 {
			value = fmt.Sprint(r.IntN(3))
		}
		fmt.Fprintf(&b, "%s,%s,%s\n", station, day, value)
	}
	return b.String()
}

func TestGroupsAndSpellingsAgreeWithPostgreSQL(t *testing.T) {
	const rows = 100_000
	ctx, content := context.Background(), repeated(rows)
	book := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: station}\n  - {name: day, type: date}\n  - {name: value, type: decimal}\nmeasures: [value]\n")
	view := &relation.Table{Source: testkit.File(t, content, book.Reading), Book: book, Workers: 3}
	conn := postgrestest.Connect(t, postgrestest.Database(t))
	if _, err := conn.Exec(ctx, "CREATE TABLE g (k int, station text, day text, value text)"); err != nil {
		t.Fatal(err)
	}
	cells := testkit.All(t, view.Source, 2).Cells
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"g"}, []string{"k", "station", "day", "value"}, pgx.CopyFromSlice(len(cells), func(i int) ([]any, error) {
		return []any{i + 1, cells[i][0], cells[i][1], cells[i][2]}, nil
	})); err != nil {
		t.Fatal(err)
	}
	ask := func(query string) string {
		t.Helper()
		var answer string
		if err := conn.QueryRow(ctx, `WITH r AS (SELECT *, lower(regexp_replace(station, '[^A-Za-z0-9]', '', 'g')) AS folded FROM g WHERE station <> '' AND day <> ''),
			same AS (SELECT station, day, count(*) AS n, count(DISTINCT value) AS differ FROM r GROUP BY station, day HAVING count(*) > 1),
			near AS (SELECT folded, day, count(*) AS n, count(DISTINCT station) AS keys FROM r GROUP BY folded, day HAVING count(DISTINCT station) > 1),
			surplus AS (SELECT value, row_number() OVER (PARTITION BY station, day ORDER BY k) AS nth, min(value) OVER (PARTITION BY station, day) <> max(value) OVER (PARTITION BY station, day) AS differ FROM r)
			`+query).Scan(&answer); err != nil {
			t.Fatalf("%s: %v", query, err)
		}
		return answer
	}
	g, err := relation.FindGroups(ctx, view, []string{"station", "day"})
	if err != nil {
		t.Fatal(err)
	}
	equal, conflicting, near := g.Of[relation.Equal], g.Of[relation.Conflicting], g.Of[relation.Near]
	for _, c := range []struct{ what, got, query string }{
		{"rows", fmt.Sprint(g.Rows), "SELECT count(*)::text FROM g"},
		{"equal groups", fmt.Sprint(equal.Groups, equal.Rows, equal.Surplus), "SELECT count(*) || ' ' || sum(n) || ' ' || sum(n - 1) FROM same WHERE differ = 1"},
		{"conflicting groups", fmt.Sprint(conflicting.Groups, conflicting.Rows, conflicting.Surplus), "SELECT count(*) || ' ' || sum(n) || ' ' || sum(n - 1) FROM same WHERE differ > 1"},
		{"near groups", fmt.Sprint(near.Groups, near.Rows, near.Surplus), "SELECT count(*) || ' ' || sum(n) || ' ' || sum(keys - 1) FROM near"},
		{"surplus once levelled", fmt.Sprint(g.SurplusLevelled), "SELECT (count(*) - count(DISTINCT (folded, day)))::text FROM r"},
		{"what conflicting rows cost", conflicting.Impact["value"], "SELECT sum(nullif(value, '')::numeric)::text FROM surplus WHERE nth > 1 AND differ"},
		{"what equal rows cost", equal.Impact["value"], "SELECT sum(nullif(value, '')::numeric)::text FROM surplus WHERE nth > 1 AND NOT differ"},
	} {
		if want := ask(c.query); c.got != want {
			t.Errorf("%s: %s, and PostgreSQL says %s", c.what, c.got, want)
		}
	}
	codes, err := relation.Recognise(ctx, view, "station")
	if err != nil {
		t.Fatal(err)
	}
	rowsOf := map[string]int64{}
	for _, text := range codes.Texts {
		rowsOf[text.Meaning.How] += text.Rows
	}
	for _, c := range []struct{ what, got, query string }{
		{"filled", fmt.Sprint(codes.Filled), "SELECT count(*)::text FROM r"},
		{"texts that are first of their kind", fmt.Sprint(len(codes.Used)), "SELECT count(DISTINCT folded)::text FROM r"},
		{"texts that are not", fmt.Sprint(len(codes.Texts)), "SELECT (count(DISTINCT station) - count(DISTINCT folded))::text FROM r"},
		{"their rows", fmt.Sprint(rowsOf["spaces"] + rowsOf["upper and lower case"] + rowsOf["accents or punctuation"]), `SELECT (count(*) - (SELECT sum(most) FROM (SELECT max(n) AS most FROM (SELECT folded, count(*) AS n FROM r GROUP BY folded, station) a GROUP BY folded) b))::text FROM r`},
	} {
		if want := ask(c.query); c.got != want {
			t.Errorf("%s: %s, and PostgreSQL says %s", c.what, c.got, want)
		}
	}
}

func TestTooManyGroupsAndPages(t *testing.T) {
	ctx := context.Background()
	var b strings.Builder
	b.WriteString("k,v\n")
	for i := range 90 {
		for j := range 1 + i%3*30 {
			fmt.Fprintf(&b, "k%02d,%d\n", i, j)
		}
	}
	book := testkit.Book(t, "dataset: d\ncolumns: [{name: k}, {name: v}]\n")
	view := &relation.Table{Source: testkit.File(t, b.String(), book.Reading), Book: book, Workers: 2}
	g, err := relation.FindGroups(ctx, view, []string{"k"})
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for offset := 0; ; offset += 7 {
		page, of, err := g.Page(ctx, view, relation.Conflicting, offset, 7)
		if err != nil || of != 60 {
			t.Fatal(of, err)
		}
		if len(page) == 0 {
			break
		}
		for _, group := range page {
			key := group.Rows[0].Cells[0]
			if seen[key] || group.Count != len(group.Rows) && len(group.Rows) != 50 {
				t.Errorf("%s: %d of %d rows", key, len(group.Rows), group.Count)
			}
			seen[key] = true
		}
	}
	if len(seen) != 60 {
		t.Errorf("%d groups on all pages", len(seen))
	}
}
