package rulebook_test

import (
	"slices"
	"testing"

	"proudsieve/core/testkit"
)

// Words of earlier versions are understood, and said to be old with their places.
func TestOldWordsOfARulebook(t *testing.T) {
	book := testkit.Book(t,
		"dataset: d\ncolumns:\n  - {name: a, role: dimension, severity: stop}\n  - {name: b, severity: warn}\n")
	var told []string
	for _, one := range book.Old {
		told = append(told, one.String())
	}
	want := []string{
		`line 3, column 21: "dimension" is an old word for "category"; it is still understood`,
		`line 3, column 42: "stop" is an old word for "major"; it is still understood`,
		`line 4, column 25: "warn" is an old word for "minor"; it is still understood`,
	}
	slices.Sort(told)
	if !slices.Equal(told, want) {
		t.Errorf("%q", told)
	}
	if book.Column("a").Role != "category" || book.Said("column a", "severity") != "major" ||
		book.Said("column b", "severity") != "minor" {
		t.Error("they are not understood")
	}
}
