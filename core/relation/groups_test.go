package relation_test

import (
	"context"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
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
		relation.Equal: {Groups: 1, Rows: 2, Surplus: 1, Impact: map[string]string{"flow": "5"}},
		// A code and another spelling of it are one thing.
		relation.Conflicting: {Groups: 2, Rows: 5, Surplus: 3, Impact: map[string]string{"flow": "17.5"}},
		relation.Near:        {Groups: 1, Rows: 2, Surplus: 1, Impact: map[string]string{"flow": "4"}},
	} {
		if got := g.Of[kind]; !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, want %+v", kind, got, want)
		}
	}
	if g.Rows != 10 || g.SurplusLevelled != 5 {
		t.Errorf("%d rows, %d surplus once levelled", g.Rows, g.SurplusLevelled)
	}
	page, of, err := g.Page(ctx, table, relation.Conflicting, 0, 5)
	if err != nil || of != 2 || len(page) != 2 || page[0].Count != 3 || !reflect.DeepEqual(page[0].Differs,
		[]string{"flow"}) || page[0].Rows[1].Row != 4 || page[0].Rows[1].Cells[2] != "8" {
		t.Errorf("%+v, %d, %v", page, of, err)
	}
	if page, of, err := g.Page(ctx, table, relation.Near, 0, 5); err != nil || of != 1 || len(page) != 1 ||
		!reflect.DeepEqual(page[0].Differs, []string{"station", "flow"}) || page[0].Rows[1].Line != 11 {
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
	if c.List != "stations" || c.Filled != 9 || c.More || len(c.Absent) != 0 ||
		!reflect.DeepEqual(c.Used, []relation.CodeUse{{Code: "BRN", Label: "Brondon Ford", Rows: 3},
			{Code: "ALD", Label: "Alder Mill", Rows: 2}, {Code: "Überwasser", Rows: 1}}) {
		t.Errorf("%+v", c)
	}
	if len(c.Texts) != 3 || c.Texts[0].Text != "Aldermill" || c.Texts[1].Meaning.Code != "Überwasser" ||
		c.Texts[2].Meaning.Code != "ALD" {
		t.Errorf("%+v", c.Texts)
	}
	plain := *table
	plain.Book = testkit.Book(t, "dataset: visits\ncolumns: [{name: station}]\n")
	c, err = relation.Recognise(ctx, &plain, "station")
	if err != nil || c.List != "" || len(c.Used) != 4 || len(c.Texts) != 2 || c.Texts[1].Text != "Überwasser" ||
		c.Texts[1].Meaning.Code != "UBERWASSER" || c.Texts[0].Meaning.How != "upper and lower case" {
		t.Errorf("%+v, %v", c, err)
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
