package pack

import (
	"bytes"
	"encoding/csv"
	"maps"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/certify"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Meaning is what a column of a certified table is: its title, unit and codes as its rulebook declares them, what must hold of it,
// and how full and good it is.
type Meaning struct {
	certify.ColumnFacts
	Title, Unit, Codes, Must string
}

// Meanings says what each column of a certified table is.
func Meanings(said *certify.Statement, book *rulebook.Rulebook) []Meaning {
	out := make([]Meaning, len(said.Table.Columns))
	for i, c := range said.Table.Columns {
		m := &out[i]
		m.ColumnFacts = c
		if d := book.Column(c.Name); d != nil {
			m.Title, m.Unit, m.Codes = d.Title, d.Unit, codesOf(book, d)
		}
		var must []string
		for _, r := range book.Rules {
			if r.Column == c.Name {
				must = append(must, r.Rule.Says())
			}
		}
		m.Must = strings.Join(must, " ")
	}
	return out
}

// Questions writes as CSV what the owners of the data were asked, and what they said.
func Questions(said *certify.Statement) ([]byte, error) {
	lines := [][]string{{"code", "dataset", "found", "about", "answer", "right", "note", "by", "at", "became"}}
	for _, q := range said.Questions {
		var right []string
		for _, column := range slices.Sorted(maps.Keys(q.Right)) {
			right = append(right, column+"="+q.Right[column])
		}
		lines = append(lines, []string{q.Code, q.Dataset, q.Found, q.About, q.Answer, strings.Join(right, ", "), q.Note, q.By, q.At, q.Became})
	}
	return asCSV(lines)
}

// asCSV writes lines as CSV, whose texts no spreadsheet takes for formulas.
func asCSV(lines [][]string) ([]byte, error) {
	var out bytes.Buffer
	for _, line := range lines {
		for i := range line {
			line[i] = table.Harmless(line[i])
		}
	}
	if err := csv.NewWriter(&out).WriteAll(lines); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Dictionary writes as CSV what each column is.
func Dictionary(meanings []Meaning) ([]byte, error) {
	lines := [][]string{{"column", "title", "type", "unit", "codes", "must hold", "filled", "missing", "estimated", "score"}}
	for _, m := range meanings {
		lines = append(lines, []string{m.Name, m.Title, m.Type, m.Unit, m.Codes, m.Must, strconv.FormatInt(m.Filled, 10), strconv.FormatInt(m.Missing, 10),
			strconv.FormatInt(m.Estimated, 10), m.Score})
	}
	return asCSV(lines)
}

// codesSaid is how many codes of a list are named.
const codesSaid = 200

// codesOf names the codes of a column with their labels.
func codesOf(book *rulebook.Rulebook, c *rulebook.Column) string {
	list := book.CodeLists[c.CodeList]
	if list == nil {
		return ""
	}
	var codes []string
	for _, one := range list.Codes[:min(len(list.Codes), codesSaid)] {
		if one.Label != "" {
			codes = append(codes, one.Code+" ("+one.Label+")")
		} else {
			codes = append(codes, one.Code)
		}
	}
	if rest := len(list.Codes) - len(codes); rest > 0 {
		codes = append(codes, "and "+strconv.Itoa(rest)+" more, in the rulebook")
	}
	return strings.Join(codes, ", ")
}
