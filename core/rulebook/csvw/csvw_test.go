package csvw_test

import (
	"encoding/json"
	"strings"
	"testing"

	"proudsieve/core/document"
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
