package question

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// linesMost is how many lines of answers are read.
const linesMost = 20_000

// Refusal is a line of answers that does not fit, and why.
type Refusal struct {
	Line int64  `json:"line"`
	Code string `json:"code,omitempty"`
	Says string `json:"says"`
}

// Read is what a file of answers holds.
type Read struct {
	Given      []Given   `json:"given"`
	Refused    []Refusal `json:"refused"`
	Unanswered int64     `json:"unanswered"` // lines without an answer
}

// readLine is a line of answers as it stands.
type readLine struct {
	line                                int64
	code, answer, column, right, remark string
}

// ReadAnswers reads answers from a table whose columns are named as those of a sheet, in any order. Each line must have the code
// of one of the questions and an answer that fits it; what does not fit is refused by its line, and nothing else is. Several
// lines with one code are one answer.
func ReadAnswers(ctx context.Context, source table.Source, questions []Question) (*Read, error) {
	lines, err := readLines(ctx, source)
	if err != nil {
		return nil, err
	}
	out := &Read{Given: []Given{}, Refused: []Refusal{}}
	place, first := map[string]int{}, map[string]int64{}
	spoiled := map[string]bool{}
	for _, l := range lines {
		refuse := func(format string, args ...any) {
			out.Refused = append(out.Refused, Refusal{l.line, l.code, fmt.Sprintf(format, args...)})
			spoiled[l.code] = true
		}
		q := slices.IndexFunc(questions, func(q Question) bool { return q.Code == l.code })
		switch {
		case l.code == "" && l.answer == "" && l.right == "" && l.remark == "":
			continue
		case q < 0:
			refuse("%q is the code of none of the questions that were asked", l.code)
			continue
		case l.answer == "" && l.right == "" && l.remark == "":
			out.Unanswered++
			continue
		case l.answer == "":
			refuse("the column “%s” is empty; write one of %s", answerColumn, answersSaid())
			continue
		}
		given, err := l.given(&questions[q])
		if err != nil {
			refuse("%v", err)
			continue
		}
		at, known := place[l.code]
		if !known {
			place[l.code], first[l.code] = len(out.Given), l.line
			out.Given = append(out.Given, *given)
			continue
		}
		if err := out.Given[at].join(given); err != nil {
			refuse("it does not go with line %d: %v", first[l.code], err)
		}
	}
	out.Given = slices.DeleteFunc(out.Given, func(g Given) bool { return spoiled[g.Code] })
	return out, nil
}

// given makes an answer of a line, and holds it against its question.
func (l *readLine) given(q *Question) (*Given, error) {
	g := &Given{Code: l.code, Answer: answerOf(l.answer), Note: l.remark}
	if l.right != "" {
		column := l.column
		if can := q.Item.Correctable(); column == "" && len(can) == 1 {
			column = can[0]
		}
		if column == "" {
			return nil, fmt.Errorf("write into “%s” of which column “%s” is what is right: %s", columnColumn, rightColumn, document.Join(q.Item.Correctable()))
		}
		g.Right = map[string]string{column: l.right}
	}
	return g, g.Check(q)
}

// answerOf reads an answer; its words may be written otherwise, as Meant so.
func answerOf(text string) Answer {
	return Answer(strings.ReplaceAll(strings.ToLower(strings.TrimSuffix(strings.TrimSpace(text), ".")), " ", "_"))
}

// join adds what another line says of the same question.
func (g *Given) join(other *Given) error {
	if g.Answer != other.Answer {
		return fmt.Errorf("that one says %s", g.Answer)
	}
	for column, text := range other.Right {
		if was, said := g.Right[column]; said && was != text {
			return fmt.Errorf("that one says %q is right in %s", was, column)
		}
		if g.Right == nil {
			g.Right = map[string]string{}
		}
		g.Right[column] = text
	}
	if other.Note != "" && other.Note != g.Note {
		g.Note = strings.TrimSpace(g.Note + "\n" + other.Note)
	}
	return nil
}

// readLines reads the lines of a file of answers.
func readLines(ctx context.Context, source table.Source) ([]readLine, error) {
	names := source.Columns()
	find := func(name string) int {
		return slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(strings.TrimSpace(n), name) })
	}
	at := map[string]int{}
	for _, name := range []string{codeColumn, answerColumn, columnColumn, rightColumn, remarkColumn} {
		at[name] = find(name)
	}
	if at[codeColumn] < 0 || at[answerColumn] < 0 {
		return nil, fmt.Errorf("a file of answers has the columns “%s” and “%s”, and this one has %s", codeColumn, answerColumn, document.First(names))
	}
	var lines []readLine
	err := table.Scan(ctx, source, 1, func(b *table.Batch) (*table.Batch, error) { return b, nil }, func(b *table.Batch) error {
		if len(lines)+b.Len() > linesMost {
			return fmt.Errorf("a file of answers has at most %s lines", document.Grouped(linesMost))
		}
		for k := range b.Rows {
			cell := func(name string) string {
				if at[name] < 0 {
					return ""
				}
				return strings.Clone(b.Columns[at[name]].At(k))
			}
			lines = append(lines, readLine{line: b.Lines[k], code: strings.TrimSpace(cell(codeColumn)), answer: cell(answerColumn), column: strings.TrimSpace(cell(columnColumn)),
				right: plain(cell(rightColumn)), remark: strings.TrimSpace(cell(remarkColumn))})
		}
		return nil
	})
	return lines, err
}

// plain takes away the apostrophe that a spreadsheet, or we, put before a text that looks like a formula.
func plain(text string) string {
	if rest, ok := strings.CutPrefix(text, "'"); ok && table.Harmless(rest) == text {
		return rest
	}
	return text
}

// Codes lists the codes that stand in a file of answers, each once.
func Codes(ctx context.Context, source table.Source) ([]string, error) {
	lines, err := readLines(ctx, source)
	if err != nil {
		return nil, err
	}
	codes := []string{}
	for _, l := range lines {
		codes = append(codes, l.code)
	}
	slices.Sort(codes)
	return slices.Compact(codes), nil
}
