package edit_test

import (
	"slices"
	"strings"
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/testkit"
)

const edited = `# What the laboratory owes us
dataset: results
columns:
  - {name: sample, required: true}   # the number on the bottle
  - {name: "a, b: {c}", type: code, codes: params}
  # the value itself
  - name: value
    type: decimal   # never a text
    from: 0

    reason: "It's measured; see {manual}"
  - name: taken
    dates:
      - dd/MM/yyyy
      - d.M.yy
    type: date
# keys come next
keys:
  - {id: one, columns: [sample]}
code_lists:
  params:
    - PH   # acidity
    - {code: NO3, label: Nitrate}
    - code: DO
      spellings: [D.O.]
  units: [mg/l, "µS/cm"]
rules:
  - id: small
    condition: >
      value < 5
# the end
`

func TestChangesKeepCommentsAndOrder(t *testing.T) {
	for _, c := range []struct {
		name     string
		changes  []edit.Change
		old, new string // lines that are different
	}{
		{"a field of an item in brackets",
			[]edit.Change{{Section: "columns", Item: "sample", Field: "severity", Value: "stop"}},
			"  - {name: sample, required: true}   #", "  - {name: sample, required: true, severity: stop}   #"},
		{"another value in brackets", []edit.Change{{Section: "columns", Item: "sample", Field: "required",
			Value: "false"}}, "required: true}   #", "required: false}   #"},
		{"a field taken out of brackets", []edit.Change{{Section: "columns", Item: "a, b: {c}", Field: "type"}},
			`"a, b: {c}", type: code, codes`, `"a, b: {c}", codes`},
		{"the last field taken out of brackets",
			[]edit.Change{{Section: "columns", Item: "a, b: {c}", Field: "codes"}}, ", codes: params}", "}"},
		{"a value on a line of its own", []edit.Change{{Section: "columns", Item: "value", Field: "type",
			Value: "integer"}}, "type: decimal   # never", "type: integer   # never"},
		{"a quoted value", []edit.Change{{Section: "columns", Item: "value", Field: "reason",
			Value: "It is #1: so"}}, `"It's measured; see {manual}"`, `"It is #1: so"`},
		{"a new line", []edit.Change{{Section: "columns", Item: "value", Field: "to", Value: "14.5"}},
			"see {manual}\"\n", "see {manual}\"\n    to: 14.5\n"},
		{"a line taken away", []edit.Change{{Section: "columns", Item: "value", Field: "from"}}, "    from: 0\n",
			""},
		{"a list over lines", []edit.Change{{Section: "columns", Item: "taken", Field: "dates",
			Values: []string{"yyyy-MM-dd"}}}, "dates:\n      - dd/MM/yyyy\n      - d.M.yy\n", "dates: [yyyy-MM-dd]\n"},
		{"a column more", []edit.Change{{Section: "columns", Add: true,
			Fields: []edit.Field{{Name: "name", Value: "it's"}, {Name: "type", Value: "code"},
				{Name: "codes", Value: "units"}, {Name: "unit"}}}}, "    type: date\n",
			"    type: date\n  - {name: \"it's\", type: code, codes: units}\n"},
		{"a section more", []edit.Change{{Section: "history", Add: true,
			Fields: []edit.Field{{Name: "id", Value: "stay"}, {Name: "check", Value: "same_columns"}}}},
			"# the end\n", "# the end\nhistory:\n  - {id: stay, check: same_columns}\n"},
		{"a reference", []edit.Change{{Section: "references", Add: true,
			Fields: []edit.Field{{Name: "id", Value: "known"}, {Name: "columns", Values: []string{"sample"}},
				{Name: "to", Dataset: "bottles of 2024", Values: []string{"number", "a, b"}}}}}, "# the end\n",
			"# the end\nreferences:\n  - {id: known, columns: [sample], to: {dataset: \"bottles of 2024\", columns: [number, \"a, b\"]}}\n"},
		{"a field of the rulebook", []edit.Change{{Field: "pass_mark", Value: "90"}}, "      value < 5\n",
			"      value < 5\npass_mark: 90\n"},
		{"another field of the rulebook", []edit.Change{{Field: "dataset", Value: "others"}}, "dataset: results\n",
			"dataset: others\n"},
		{"a column less", []edit.Change{{Section: "columns", Item: "a, b: {c}", Remove: true}},
			"  - {name: \"a, b: {c}\", type: code, codes: params}\n", ""},
		{"the last key", []edit.Change{{Section: "keys", Item: "one", Remove: true}},
			"keys:\n  - {id: one, columns: [sample]}\n", ""},
		{"a rule over lines", []edit.Change{{Section: "rules", Item: "small", Remove: true}},
			"rules:\n  - id: small\n    condition: >\n      value < 5\n", ""},
		{"spellings of a plain code", []edit.Change{{Section: "code_lists", Item: "params", Code: "PH", Add: true,
			Values: []string{"p.H.", " ph"}}}, "- PH   #", `- {code: PH, spellings: ["p.H.", " ph"]}   #`},
		{"spellings of a code in brackets", []edit.Change{{Section: "code_lists", Item: "params", Code: "NO3",
			Add: true, Values: []string{"nitrate"}}}, "label: Nitrate}", "label: Nitrate, spellings: [nitrate]}"},
		{"spellings beside others", []edit.Change{{Section: "code_lists", Item: "params", Code: "DO", Add: true,
			Values: []string{"D.O.", "O2"}}}, "[D.O.]", `["D.O.", O2]`},
		{"spellings of a code in a line", []edit.Change{{Section: "code_lists", Item: "units", Code: "µS/cm",
			Add: true, Values: []string{"uS/cm"}}}, `"µS/cm"]`, `{code: "µS/cm", spellings: ["uS/cm"]}]`},
		{"codes more", []edit.Change{{Section: "code_lists", Item: "units", Add: true,
			Values: []string{"m", "km"}}}, `"µS/cm"]`, `"µS/cm", m, km]`},
		{"codes more on lines", []edit.Change{{Section: "code_lists", Item: "params", Add: true,
			Values: []string{"PO4"}}}, "[D.O.]\n", "[D.O.]\n    - PO4\n"},
		{"a list more", []edit.Change{{Section: "code_lists", Item: "crews", Add: true, Values: []string{"red"}}},
			"\"µS/cm\"]\n", "\"µS/cm\"]\n  crews: [red]\n"},
		{"two changes", []edit.Change{{Section: "columns", Item: "value", Field: "from"},
			{Section: "columns", Item: "sample", Field: "required"}}, "", ""},
	} {
		got, err := edit.Apply(edited, c.changes)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if want := strings.Replace(edited, c.old, c.new, 1); c.old != "" && got != want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, want)
		}
		for _, comment := range []string{"# What the laboratory owes us", "# the number on the bottle",
			"# keys come next", "# the end"} {
			if !strings.Contains(got, comment) {
				t.Errorf("%s: the comment %q is gone", c.name, comment)
			}
		}
	}
}

func TestChangesThatCannotBeMade(t *testing.T) {
	for _, c := range []struct {
		change edit.Change
		want   string
	}{
		{edit.Change{Section: "columns", Item: "nobody", Field: "type", Value: "text"}, `columns has no "nobody"`},
		{edit.Change{Section: "references", Item: "x", Remove: true}, "the rulebook has no references"},
		{edit.Change{Section: "rules", Item: "small", Field: "condition", Value: "value < 6"},
			"only the text can change"},
		{edit.Change{Section: "code_lists", Item: "params", Code: "XX", Add: true, Values: []string{"x"}},
			`has no code "XX"`},
		{edit.Change{Section: "code_lists", Item: "nothing", Code: "XX", Values: []string{"x"}},
			`there is no code list "nothing"`},
	} {
		if got, err := edit.Apply(edited, []edit.Change{c.change}); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %q\n%s", c.change, err, c.want, got)
		}
	}
	if _, err := edit.Apply("a: [", []edit.Change{{Field: "a"}}); err == nil {
		t.Error("a text that is no YAML is changed")
	}
}

// What a steward does to a code list with the mouse, and what stands in the text then.
func TestChangesOfCodeLists(t *testing.T) {
	codes := func(list, code, field string, add bool, values ...string) edit.Change {
		return edit.Change{Section: "code_lists", Item: list, Code: code, Field: field, Add: add, Values: values}
	}
	label := codes("params", "PH", "label", false)
	label.Value = "Acidity"
	relabel := codes("params", "NO3", "label", false)
	relabel.Value = "Nitrate nitrogen"
	labelled := codes("params", "", "", true, "PO4", "NH4")
	labelled.Fields = []edit.Field{{Name: "PO4", Value: "Phosphate: ortho"}}
	for _, c := range []struct {
		name     string
		change   edit.Change
		from, to string
	}{
		{"a spelling of a bare code", codes("params", "PH", "", true, "p.H."), "- PH   # acidity",
			"- {code: PH, spellings: [\"p.H.\"]}   # acidity"},
		{"a spelling of a code in brackets", codes("params", "NO3", "", true, "nitrate"), "label: Nitrate}",
			"label: Nitrate, spellings: [nitrate]}"},
		{"another spelling beside those there are", codes("params", "DO", "", true, "oxygen", "D.O."),
			"spellings: [D.O.]", `spellings: ["D.O.", oxygen]`},
		{"a label of a bare code", label, "- PH   # acidity", "- {code: PH, label: Acidity}   # acidity"},
		{"another label", relabel, "label: Nitrate}", `label: "Nitrate nitrogen"}`},
		{"codes at the end of a list", codes("params", "", "", true, "PO4"), "      spellings: [D.O.]\n",
			"      spellings: [D.O.]\n    - PO4\n"},
		{"codes with labels", labelled, "      spellings: [D.O.]\n",
			"      spellings: [D.O.]\n    - {code: PO4, label: \"Phosphate: ortho\"}\n    - NH4\n"},
		{"codes of a list in brackets", codes("units", "", "", true, "°C"), "[mg/l, \"µS/cm\"]",
			"[mg/l, \"µS/cm\", °C]"},
		{"a list more", codes("crews", "", "", true, "red", "no"), "  units: [mg/l, \"µS/cm\"]\n",
			"  units: [mg/l, \"µS/cm\"]\n  crews: [red, \"no\"]\n"},
	} {
		got, err := edit.Apply(edited, []edit.Change{c.change})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if want := strings.Replace(edited, c.from, c.to, 1); got != want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, want)
		}
	}
	first, err := edit.Apply("dataset: d\ncolumns: [{name: a}]\n", []edit.Change{codes("crews", "", "", true, "red")})
	if err != nil || first != "dataset: d\ncolumns: [{name: a}]\ncode_lists:\n  crews: [red]\n" {
		t.Errorf("the first list: %v\n%s", err, first)
	}
	elsewhere := "dataset: d\ncolumns: [{name: a}]\ncode_lists:\n  l: {from: {dataset: s, columns: [id]}}\n"
	if got, err := edit.Apply(elsewhere, []edit.Change{codes("l", "", "", true, "X")}); err != nil ||
		!strings.Contains(got, "codes: [X]") || testkit.Book(t, got).CodeLists["l"].From == nil {
		t.Errorf("codes beside those of another dataset: %v\n%s", err, got)
	}
}

// A chain of changes leaves a rulebook that says what was asked for.
func TestARulebookMadeByChangesAlone(t *testing.T) {
	source, err := edit.Apply("dataset: d\ncolumns:\n  - {name: a}\n", []edit.Change{
		{Section: "columns", Add: true, Fields: []edit.Field{{Name: "name", Value: "n"},
			{Name: "type", Value: "decimal"}, {Name: "from", Value: "0"}}},
		{Section: "columns", Item: "n", Field: "to", Value: "10"},
		{Section: "keys", Add: true, Fields: []edit.Field{{Name: "id", Value: "one"},
			{Name: "columns", Values: []string{"a"}}}},
		{Section: "rules", Add: true, Fields: []edit.Field{{Name: "id", Value: "r"},
			{Name: "condition", Value: "n <> 5 AND a LIKE '%x'"}}},
		{Section: "rules", Add: true, Fields: []edit.Field{{Name: "id", Value: "s"},
			{Name: "condition", Value: "n IS NOT NULL"}, {Name: "severity", Value: "stop"}}},
		{Section: "rules", Item: "r", Remove: true},
		{Section: "references", Add: true, Fields: []edit.Field{{Name: "id", Value: "known"},
			{Name: "columns", Values: []string{"a"}}, {Name: "to", Dataset: "others", Values: []string{"id"}}}},
		{Section: "references", Item: "known", Field: "to", Dataset: "stations", Values: []string{"code"}},
		{Section: "table_rules", Add: true, Fields: []edit.Field{{Name: "id", Value: "all"},
			{Name: "check", Value: "covers"}, {Name: "in", Value: "a"}}},
		{Section: "table_rules", Item: "all", Field: "with", Dataset: "stations", Values: []string{"code"}},
		{Section: "code_lists", Item: "codes", Add: true, Values: []string{"A", "B"}},
		{Section: "columns", Item: "a", Field: "type", Value: "code"},
		{Section: "columns", Item: "a", Field: "codes", Value: "codes"},
		{Section: "code_lists", Item: "codes", Code: "A", Add: true, Values: []string{"alpha"}},
		{Field: "measures", Values: []string{"n"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	b := testkit.Book(t, source)
	if b.Said("column n", "highest value") != "10" || b.KeyColumns()[0] != "a" || slices.Contains(b.RuleIDs(), "r") ||
		!slices.Contains(b.RuleIDs(), "s") || b.CodeLists["codes"].Codes[0].Spellings[0] != "alpha" ||
		b.Measures[0] != "n" {
		t.Error(source)
	}
	if b.Said("reference known", "other dataset") != "code of stations" ||
		b.Said("table rule all", "other dataset") != "code of stations" {
		t.Error(source)
	}
	o, err := edit.OutlineOf(source)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range o.Sections {
		if s.Name == "references" {
			if to := s.Items[0].Fields[2]; to.Name != "to" || to.Dataset != "stations" || to.Values[0] != "code" {
				t.Errorf("%+v", s)
			}
		}
	}
}

// What is no list is changed by its fields: the rulebook itself, its reading, the rule against equal rows.
func TestChangesOfWhatIsNoList(t *testing.T) {
	source := "dataset: d # its name\ncolumns:\n  - {name: a, type: decimal}\n"
	change := func(changes ...edit.Change) {
		t.Helper()
		made, err := edit.Apply(source, changes)
		if err != nil {
			t.Fatalf("%v in\n%s", err, source)
		}
		source = made
	}
	change(edit.Change{Section: "rulebook", Field: "title", Value: "Gauges"}, edit.Change{Section: "rulebook", Field: "measures", Values: []string{"a"}},
		edit.Change{Section: "reading", Field: "delimiter", Value: ";"}, edit.Change{Section: "reading", Field: "missing", Values: []string{"n/a", "-"}},
		edit.Change{Section: "equal_rows", Add: true, Fields: []edit.Field{{Name: "severity", Value: "note"}}})
	b := testkit.Book(t, source)
	if b.Title != "Gauges" || b.Measures[0] != "a" || b.Reading.Delimiter != ";" || len(b.Reading.Missing) != 2 || !slices.Contains(b.RuleIDs(), "equal_rows") ||
		!strings.Contains(source, "# its name") {
		t.Error(source)
	}
	o, err := edit.OutlineOf(source)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range o.Sections {
		if s.Name == "reading" && (len(s.Items) != 1 || s.Items[0].Fields[0].Value != ";" || s.Items[0].Fields[0].Line == 0) {
			t.Errorf("%+v", s)
		}
	}
	change(edit.Change{Section: "reading", Field: "missing"}, edit.Change{Section: "reading", Field: "delimiter"}, edit.Change{Section: "equal_rows", Remove: true},
		edit.Change{Section: "rulebook", Field: "title"}, edit.Change{Section: "rulebook", Field: "measures"})
	if source != "dataset: d # its name\ncolumns:\n  - {name: a, type: decimal}\n" {
		t.Errorf("all taken back:\n%s", source)
	}
}

func TestCodesAreRemovedAndSaidMoreOf(t *testing.T) {
	for name, source := range map[string]string{
		"in brackets": "dataset: d\ncolumns: [{name: a, type: code, codes: c}]\ncode_lists:\n  c: [A, {code: B, label: bee}, C]\n",
		"in lines":    "dataset: d\ncolumns: [{name: a, type: code, codes: c}]\ncode_lists:\n  c:\n    - A\n    - {code: B, label: bee}\n    - C\n",
	} {
		made, err := edit.Apply(source, []edit.Change{{Section: "code_lists", Item: "c", Code: "C", Remove: true},
			{Section: "code_lists", Item: "c", Code: "A", Field: "label", Value: "ay"}, {Section: "code_lists", Item: "c", Code: "B", Field: "ended", Value: "true"},
			{Section: "code_lists", Item: "c", Code: "B", Field: "spellings", Values: []string{"bee", "be"}}})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		o, err := edit.OutlineOf(made)
		if err != nil {
			t.Fatal(err)
		}
		list := o.Codes[0]
		if len(list.Entries) != 2 || list.Entries[0].Label != "ay" || !list.Entries[1].Ended || len(list.Entries[1].Spellings) != 2 {
			t.Errorf("%s: %+v\n%s", name, list, made)
		}
		if made, err = edit.Apply(made, []edit.Change{{Section: "code_lists", Item: "c", Code: "A", Remove: true}}); err != nil || strings.Contains(made, "ay") {
			t.Errorf("%s: %v\n%s", name, err, made)
		}
		if _, err := edit.Apply(made, []edit.Change{{Section: "code_lists", Item: "c", Code: "B", Remove: true}}); err == nil {
			t.Errorf("%s: a list without a code", name)
		}
		if made, err = edit.Apply(made, []edit.Change{{Section: "code_lists", Item: "c", Remove: true}}); err != nil || strings.Contains(made, "code_lists") {
			t.Errorf("%s: %v\n%s", name, err, made)
		}
	}
}

func FuzzApply(f *testing.F) {
	f.Add(edited, "columns", "value", "type", "integer")
	f.Add("a: [1, {b: c}]\n", "", "", "a", "x")
	f.Add("rules:\n- id: r\n  condition: 'a''b'\n", "rules", "r", "condition", "")
	f.Fuzz(func(t *testing.T, source, section, item, field, value string) {
		for _, c := range []edit.Change{{Section: section, Item: item, Field: field, Value: value},
			{Section: section, Item: item, Remove: true}, {Section: section, Item: item, Add: true,
				Values: []string{value}, Fields: []edit.Field{{Name: "id", Value: value}}}} {
			_, _ = edit.Apply(source, []edit.Change{c})
		}
	})
}

func TestTheOutlineOfARulebook(t *testing.T) {
	o, err := edit.OutlineOf(edited)
	if err != nil {
		t.Fatal(err)
	}
	columns := o.Sections[slices.IndexFunc(o.Sections, func(s edit.SectionOutline) bool { return s.Name == "columns" })]
	if columns.Name != "columns" || len(columns.Items) != 4 || columns.Items[1].Name != "a, b: {c}" ||
		columns.Items[2].Line != 7 || columns.Items[2].Fields[2].Value != "0" ||
		len(columns.Items[3].Fields[1].Values) != 2 {
		t.Errorf("%+v", columns)
	}
	if len(o.Codes) != 2 || strings.Join(o.Codes[0].Codes, " ") != "PH NO3 DO" || o.Head[0].Value != "results" {
		t.Errorf("%+v", o)
	}
}

// Every field that a form offers is one that the parser knows.
func TestFormsOfferWhatTheParserKnows(t *testing.T) {
	for _, s := range rulebook.Sections() {
		for _, f := range s.Form {
			if s.Single {
				text := s.Name + ": {" + f.Name + ": 1}\n"
				if s.Name == rulebook.HeadSection {
					text = f.Name + ": 1\n"
				}
				if _, err := rulebook.Parse([]byte("dataset: d\ncolumns: [{name: a}]\n" + text)); err != nil && strings.Contains(err.Error(), " has no ") {
					t.Errorf("%s.%s: %v", s.Name, f.Name, err)
				}
				continue
			}
			_, err := rulebook.Parse([]byte("dataset: d\ncolumns: [{name: a}]\n" + strings.Replace(s.Name, "columns",
				"x", 1) + ":\n  - {" + f.Name + ": 1}\n"))
			if s.Name == "columns" {
				_, err = rulebook.Parse([]byte("dataset: d\ncolumns:\n  - {" + f.Name + ": 1}\n"))
			}
			if err != nil && strings.Contains(err.Error(), "has no \""+f.Name+"\"; did") || err != nil &&
				strings.Contains(err.Error(), "has no \""+f.Name+"\"; known") {
				t.Errorf("%s.%s: %v", s.Name, f.Name, err)
			}
		}
	}
}
