package rulebook_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

const spoken = `dataset: d
columns:
  - {name: parameter, type: code, codes: parameters}
  - {name: laboratory, type: code, codes: laboratories}
  - {name: remark}
code_lists:
  parameters:
    - {code: NO3, label: Nitrate nitrogen, spellings: [n-o-3], parent: Nutrients}
    - {code: PO4, label: Phosphate, parent: Nutrients}
    - {code: DIOX, label: Dissolved oxygen}
    - {code: TURBIDITY, label: Cloudiness}
    - {code: TEMPERATURE}
  laboratories: [HG, BW]
  stations: [upper-ford, lower-ford]
`

// What a text that is no code stands for, as a person who knows the lists would say.
func TestWhatATextStandsFor(t *testing.T) {
	r := testkit.Book(t, spoken).Recogniser("parameter")
	for _, c := range []struct{ text, want string }{
		{"  NO3 ", "spelling NO3: spaces"},
		{"no3", "spelling NO3: upper and lower case"},
		{" no3", "spelling NO3: spaces and case"},
		{"n-o-3", "spelling NO3: declared spelling"},
		{"N-O-3 ", "spelling NO3: declared spelling"},
		{"NO.3", "spelling NO3: accents or punctuation"},
		{"phosphate", "spelling PO4: its label"},
		{"Phosphâte", "spelling PO4: its label"},
		{"TURB", "spelling TURBIDITY: abbreviation"},
		{"do", "spelling DIOX: abbreviation"}, // the initials of its label
		{"TURBIDTY", "spelling TURBIDITY: typing slip"},
		{"TURBIDIYT", "spelling TURBIDITY: typing slip"},
		{"TEMPRATUR", "spelling TEMPERATURE: abbreviation|spelling TEMPERATURE: typing slip"},
		{"hg", "other_column HG of laboratory"},
		{"Upper-Ford", "other_list upper-ford of stations"},
		{"nutrients", "parent nutrients"},
		{"NO3/po4", "several NO3 PO4"},
		{"NO3 PO4", "several NO3 PO4"},
		{"NO3/water", "unknown"},
		{"NP4", "unknown"}, // three characters are too few for a slip
		{"X", "unknown"},
		{"", "unknown"},
	} {
		m := r.Of(c.text)
		got := string(m.Kind)
		switch m.Kind {
		case rulebook.MeansCode:
			got += " " + m.Code + ": " + m.How
		case rulebook.MeansColumn:
			got += " " + m.Code + " of " + m.Column
		case rulebook.MeansOther:
			got += " " + m.Code + " of " + m.List
		case rulebook.MeansParent:
			got += " " + m.Code
		case rulebook.MeansSeveral:
			got += " " + strings.Join(m.Codes, " ")
		}
		if !strings.Contains("|"+c.want+"|", "|"+got+"|") {
			t.Errorf("%q: %s, want %s", c.text, got, c.want)
		}
		if m.Sure < 0 || m.Sure > 1 || (m.Sure == 0) != (m.Kind == rulebook.MeansNothing) {
			t.Errorf("%q: sure %g", c.text, m.Sure)
		}
	}
	if testkit.Book(t, spoken).Recogniser("remark") != nil || testkit.Book(t, spoken).Recogniser("nobody") != nil {
		t.Error("a column without codes has a recogniser")
	}
}

// Where two codes are equally near, none is guessed.
func TestATextBetweenTwoCodesIsNotGuessed(t *testing.T) {
	r := testkit.Book(t, "dataset: d\ncolumns: [{name: c, type: code, codes: l}]\ncode_lists: {l: [north1, north2, south]}\n").
		Recogniser("c")
	for _, text := range []string{"north3", "north", "nort"} {
		if m := r.Of(text); m.Kind != rulebook.MeansNothing {
			t.Errorf("%q is taken for %s by %s", text, m.Code, m.How)
		}
	}
	if m := r.Of("souht"); m.Code != "south" {
		t.Errorf("%+v", m)
	}
}

func TestCodesOfAnotherDatasetAreAddedOnce(t *testing.T) {
	book := testkit.Book(t, `dataset: d
columns:
  - {name: station, type: code, codes: stations}
  - {name: kind, type: code, codes: kinds}
code_lists:
  stations: {codes: [{code: S1, label: The weir}], from: {dataset: stations, columns: [id]}, all_occur: true}
  kinds: [a]
`)
	if c := book.Cells("station").Read("S9"); c.Unknown {
		t.Error("a code is unknown before the other dataset is at hand")
	}
	asked := ""
	with := book.With(func(e rulebook.Elsewhere) ([]string, error) {
		asked += fmt.Sprint(e.Dataset, e.Columns)
		return []string{"S1", " S2 ", "", "S2", "s1"}, nil
	})
	if asked != "stations[id]" {
		t.Errorf("asked for %s", asked)
	}
	l := with.CodeLists["stations"]
	if got := fmt.Sprint(len(l.Codes), l.Has("S1"), l.Has("S2"), l.Has("S3"), l.AllOccur, l.Lacking); got !=
		"3 true true false true" { // s1 is a code of its own there
		t.Errorf("%s: %+v", got, l.Codes)
	}
	if l.Find("S1").Label != "The weir" || l.Find("S2").Label != "" || l.Find("S3") != nil {
		t.Errorf("%+v", l.Codes)
	}
	if !with.Cells("station").Read("S9").Unknown || with.CodeLists["kinds"] != book.CodeLists["kinds"] {
		t.Error("the codes are not known then, or another list was touched")
	}
	if book.CodeLists["stations"].Has("S2") {
		t.Error("the rulebook itself was changed")
	}
	lacking := book.With(func(rulebook.Elsewhere) ([]string, error) { return nil, fmt.Errorf("no stations are here") })
	if l := lacking.CodeLists["stations"]; l.Lacking != "no stations are here" ||
		lacking.Cells("station").Read("S9").Unknown {
		t.Errorf("%+v", l)
	}
}
