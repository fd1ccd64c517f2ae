package csvw_test

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

func TestOutAndBackIn(t *testing.T) {
	book := testkit.Book(t, `dataset: results
title: Results
reading: {encoding: windows-1252, delimiter: ";", header_line: 3, decimal_mark: ",", missing: [n/a]}
columns:
  - {name: sample, title: The sample, pattern: "S-[0-9]+", required: true}
  - {name: value, type: decimal, from: 0, to: 14.5, decimals: 2}
  - {name: kind, type: code, codes: kinds}
  - {name: taken, type: date, dates: dd/MM/yyyy}
  - {name: short, shortest: 2, longest: 5}
keys:
  - {id: one, columns: [sample]}
references:
  - {id: known, columns: [kind], to: {dataset: kinds, columns: [code]}}
code_lists:
  kinds: [a.b, c]
rules:
  - {id: r, condition: value > 0}
`)
	metadata, left := csvw.Of(book, "results.csv")
	var out struct {
		Context     string `json:"@context"`
		Dialect     map[string]any
		TableSchema struct {
			Columns    []map[string]any
			PrimaryKey []string
		}
	}
	if err := json.Unmarshal(metadata, &out); err != nil {
		t.Fatal(err)
	}
	if out.Context != "http://www.w3.org/ns/csvw" || out.Dialect["skipRows"] != 2.0 ||
		out.TableSchema.PrimaryKey[0] != "sample" ||
		out.TableSchema.Columns[2]["datatype"].(map[string]any)["format"] != `a\.b|c` {
		t.Errorf("%s", metadata)
	}
	for _, want := range []string{"the rule r", "the digits after the point of value",
		"labels, spellings and duties of the code list kinds"} {
		if !strings.Contains(strings.Join(left, "\n"), want) {
			t.Errorf("%q is not told to be left out: %v", want, left)
		}
	}
	source, lost, err := csvw.Read("results", metadata)
	if err != nil || len(lost) != 0 {
		t.Fatal(err, lost)
	}
	back := testkit.Book(t, source)
	value, taken := back.Column("value"), back.Column("taken")
	if back.Reading.HeaderLine != 3 || back.Reading.Encoding != "windows-1252" || back.Reading.Missing[0] != "n/a" ||
		value.Type != table.TypeDecimal || back.Said("column value", "highest value") != "14.5" ||
		value.DecimalMark != "," ||
		taken.Dates[0] != "dd/MM/yyyy" || back.Column("sample").Title != "The sample" ||
		back.Said("column kind", "pattern") != `a\.b|c` || back.Said("column short", "longest text") != "5" ||
		back.KeyColumns()[0] != "sample" || back.Said("reference foreign_key_1", "other dataset") != "code of kinds" {
		t.Errorf("%s", source)
	}
}

func TestTheMetadataOfOthers(t *testing.T) {
	source, left, err := csvw.Read("d", []byte(`{"tables": [{"url": "a.csv", "tableSchema": {"columns": [{"titles": {"en": ["Name"]}}, {"name": "n", "datatype": "nonNegativeInteger"},
		{"name": "x", "datatype": {"base": "hexBinary"}}, {"name": "v", "separator": ";", "datatype": {"base": "date", "format": "M/d/yy"}}], "primaryKey": "n"}}, {"url": "b.csv"}]}`))
	if err != nil {
		t.Fatal(err)
	}
	book := testkit.Book(t, source)
	if book.Columns[0].Name != "Name" || book.Said("column n", "lowest value") != "0" ||
		book.Columns[3].Dates[0] != "M/d/yy" || book.KeyColumns()[0] != "n" {
		t.Error(source)
	}
	if want := "the table b.csv|the datatype hexBinary of x|that cells of v hold several values, separated by \";\""; strings.Join(left, "|") != want {
		t.Errorf("%s", strings.Join(left, "|"))
	}
	for raw, want := range map[string]string{"{": "this is not JSON", "[]": "not the metadata of a table",
		"{}": "describe no columns"} {
		if _, _, err := csvw.Read("d", []byte(raw)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", raw, err)
		}
	}
}

// What each property of a column becomes, by the Recommendation's own words for it.
func TestWhatAColumnOfTheMetadataBecomes(t *testing.T) {
	for _, c := range []struct{ column, says, left string }{
		{`{"name": "n", "datatype": "integer"}`, "type: integer", ""},
		{`{"name": "n", "datatype": "positiveInteger"}`, "lowest value: 1; type: integer", ""},
		{`{"name": "n", "datatype": "negativeInteger"}`, "highest value: -1; type: integer", ""},
		{`{"name": "n", "datatype": {"base": "decimal", "minimum": 0.5, "maximum": "2"}}`,
			"lowest value: 0.5; highest value: 2; type: decimal", ""},
		{`{"name": "n", "datatype": {"base": "nonNegativeInteger", "minimum": 3}}`, "lowest value: 3; type: integer", ""},
		{`{"name": "n", "datatype": {"base": "boolean", "minimum": 1}}`, "type: boolean", "the bound 1 of n"},
		{`{"name": "n", "datatype": {"base": "date", "minimum": "2024-01-01"}}`, "lowest value: 2024-01-01; type: date",
			""},
		{`{"name": "n", "datatype": {"base": "date", "minimum": "May"}}`, "type: date", "the bound May of n"},
		{`{"name": "n", "datatype": {"base": "string", "minLength": 2, "maxLength": 4}}`,
			"shortest text: 2; longest text: 4; type: text", ""},
		{`{"name": "n", "datatype": {"base": "string", "format": "[A-Z]{2}"}}`, "pattern: [A-Z]{2}; type: text", ""},
		{`{"name": "n", "datatype": {"base": "date", "format": "dd/MM/yyyy"}}`,
			"type: date; date patterns: dd/MM/yyyy", ""},
		{`{"name": "n", "datatype": {"base": "date", "format": "the day"}}`, "type: date",
			`the date format "the day" of n`},
		{`{"name": "n", "datatype": {"base": "boolean", "format": "J|N"}}`, "type: boolean", `the format "J|N" of n`},
		{`{"name": "n", "datatype": {"base": "decimal", "format": {"decimalChar": ",", "groupChar": "."}}}`,
			"type: decimal; decimal mark: ,; grouping mark: .", ""},
		{`{"name": "n", "datatype": {"base": "decimal", "format": {"decimalChar": "x"}}}`, "type: decimal",
			"the number format of n"},
		{`{"name": "n", "datatype": {"base": "decimal", "format": 3}}`, "type: decimal", "the format of n"},
		{`{"name": "n", "required": true}`, "required: yes; type: text", ""},
		{`{"name": "n", "titles": ["n", "The number"], "dc:description": "Why"}`,
			"title: The number; type: text; reason: Why", ""},
	} {
		source, left, err := csvw.Read("d", []byte(`{"tableSchema": {"columns": [`+c.column+`]}}`))
		if err != nil {
			t.Errorf("%s: %v", c.column, err)
			continue
		}
		book := testkit.Book(t, source)
		var says []string
		for _, f := range book.Facts("column n") {
			if f.Aspect != "role" && f.Aspect != "severity" {
				says = append(says, f.Aspect+": "+f.Value)
			}
		}
		slices.Sort(says)
		want := strings.Split(c.says, "; ")
		slices.Sort(want)
		if !slices.Equal(says, want) || strings.Join(left, "; ") != c.left {
			t.Errorf("%s:\n got %s, left out %q\nwant %s, left out %q", c.column, says, left, want, c.left)
		}
	}
}

func TestADialectBecomesTheReading(t *testing.T) {
	column := `"tableSchema": {"columns": [{"name": "a"}, {}]}}`
	for dialect, want := range map[string]string{
		`{"dialect": {}, `: "utf-8 , \" 1",
		`{"dialect": {"encoding": "ISO-8859-1", "delimiter": ";"}, `: "iso-8859-1 ; \" 1",
		`{"dialect": {"skipRows": 2}, `:                              "utf-8 , \" 3",
		`{"dialect": {"header": false}, `:                            "utf-8 , \" -1",
		`{"dialect": {"headerRowCount": 0}, `:                        "utf-8 , \" -1",
		`{"dialect": {"quoteChar": "'"}, `:                           "utf-8 , ' 1",
	} {
		source, _, err := csvw.Read("d", []byte(dialect+column))
		if err != nil {
			t.Errorf("%s: %v", dialect, err)
			continue
		}
		book := testkit.Book(t, source)
		r := book.Reading
		if got := fmt.Sprintf("%s %s %s %d", r.Encoding, r.Delimiter, r.Quote, r.HeaderLine); got != want {
			t.Errorf("%s: %s, want %s", dialect, got, want)
		}
		if book.Columns[1].Name != "_col.2" { // the Recommendation's name for a column without one
			t.Errorf("%s", source)
		}
	}
}

// What has no counterpart in the metadata is listed, each thing once.
func TestWhatCannotBeCarriedIsListed(t *testing.T) {
	book := testkit.Book(t, `dataset: d
reading: {quote: none, missing: ["-"]}
columns:
  - {name: a, unit: mg/l, weight: 2}
  - {name: day, type: date, dates: [dd/MM/yyyy, d.M.yy], pattern: "[0-9].*"}
keys:
  - {id: one, columns: [a]}
  - {id: other, columns: [day]}
equal_rows: {severity: note}
table_rules:
  - {id: enough, check: row_count, from: 1}
`)
	metadata, left := csvw.Of(book, "d.csv")
	for _, want := range []string{"that there are no quotes", "the unit of a", "the weight of a",
		"the date patterns of day beyond the first", "the pattern of day, since its datatype is no text", "the key other",
		"the table rule enough", "the rule against equal rows"} {
		if n := strings.Count("\n"+strings.Join(left, "\n")+"\n", "\n"+want+"\n"); n != 1 {
			t.Errorf("%q is listed %d times in\n%s", want, n, strings.Join(left, "\n"))
		}
	}
	var out struct {
		Dialect     struct{ QuoteChar *string }
		TableSchema struct {
			PrimaryKey []string
			Columns    []struct{ Null []string }
		}
	}
	if err := json.Unmarshal(metadata, &out); err != nil || out.Dialect.QuoteChar != nil ||
		!slices.Equal(out.TableSchema.PrimaryKey, []string{"a"}) ||
		!slices.Equal(out.TableSchema.Columns[0].Null, []string{"", "-"}) {
		t.Errorf("%v\n%s", err, metadata)
	}
}

// Whatever metadata hold, what is made of them is a rulebook, or a message.
func FuzzRead(f *testing.F) {
	f.Add(
		[]byte(`{"tableSchema": {"columns": [{"name": "a", "datatype": {"base": "decimal", "minimum": 1, "format": {"decimalChar": ","}}}], "primaryKey": ["a"]}}`))
	f.Add(
		[]byte(`{"dialect": {"delimiter": ";", "header": false, "quoteChar": null}, "tableSchema": {"columns": [{"titles": {"en": "x"}, "null": ["-", ""], "datatype": "date"}]}}`))
	f.Fuzz(func(t *testing.T, metadata []byte) {
		source, _, err := csvw.Read("d", metadata)
		if err != nil {
			return
		}
		if _, err := document.Parse([]byte(source)); err != nil {
			t.Errorf("%s\nis no YAML: %v", source, err)
		}
	})
}

// The metadata of a table of ours say how it is read: in standard form, or by a reading of its own.
func TestATableOfOursIsKnownByItsMetadata(t *testing.T) {
	book := testkit.Book(t, `dataset: d
reading: {delimiter: ";", decimal_mark: ",", dates: [dd.MM.yyyy]}
columns: [{name: a, pattern: "[a-z]+"}, {name: n, type: decimal}, {name: day, type: date}]
`)
	delivered, _ := csvw.Of(book, "d.csv")
	for _, metadata := range [][]byte{delivered, []byte("{}"), []byte("no JSON"), []byte(`{"dc:conformsTo": "urn:proudsieve:table-reading"}`)} {
		if _, ours := csvw.ReadingOf(metadata); ours {
			t.Errorf("%s is taken for a table of ours", metadata)
		}
	}
	for _, reading := range []rulebook.TableReading{{}, {Missing: []string{"n/a"}, Columns: map[string]rulebook.Written{"day": {Dates: []string{"dd.MM.yyyy"}},
		"n": {DecimalMark: ","}}}} {
		if got, ours := csvw.ReadingOf(csvw.OfTable(book, reading, nil, "d.csv")); !ours || !reflect.DeepEqual(got, reading) {
			t.Errorf("%+v, %v; want %+v", got, ours, reading)
		}
	}
}
