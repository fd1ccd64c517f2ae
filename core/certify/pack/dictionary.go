package pack

import (
	"bytes"
	"encoding/csv"
	"strconv"
	"strings"

	"proudsieve/core/certify"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Dictionary says as CSV what each column of a certified table is: its name, title, type, unit and codes as its rulebook declares
// them, what must hold of it, and how full and good it is.
func Dictionary(said *certify.Statement, book *rulebook.Rulebook) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	lines := [][]string{{"column", "title", "type", "unit", "codes", "must hold", "filled", "missing", "estimated", "score"}}
	for _, c := range said.Table.Columns {
		line := []string{c.Name, "", c.Type, "", "", "", strconv.FormatInt(c.Filled, 10), strconv.FormatInt(c.Missing, 10), strconv.FormatInt(c.Estimated, 10), c.Score}
		if d := book.Column(c.Name); d != nil {
			line[1], line[3], line[4] = d.Title, d.Unit, codesOf(book, d)
		}
		var must []string
		for _, r := range book.Rules {
			if r.Column == c.Name {
				must = append(must, r.Rule.Says())
			}
		}
		line[5] = strings.Join(must, " ")
		lines = append(lines, line)
	}
	for _, line := range lines {
		for i := range line {
			line[i] = table.Harmless(line[i])
		}
	}
	if err := w.WriteAll(lines); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
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
