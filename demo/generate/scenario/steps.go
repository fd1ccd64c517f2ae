package scenario

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"strings"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules" // the kinds of rules
)

// stepExamples writes the examples of all kinds of steps, each with what it makes of its rows, which is worked out here.
func stepExamples() string {
	var b strings.Builder
	fix.Examples(func(name, says string, e fix.Example) {
		after, note, err := played(e)
		if err != nil {
			panic(fmt.Sprintf("the example of %s: %v", name, err)) // they are part of the program
		}
		fmt.Fprintf(&b, "### %s\n\n%s.\n\n```yaml\n- %s\n```\n\n%s\nbecomes\n\n%s", strings.ReplaceAll(name, "_", " "),
			strings.ToUpper(says[:1])+says[1:], withReason(e.Step),
			markdown(fix.ExampleHeader+e.Rows, ';'), markdown(after, ','))
		if note != "" {
			fmt.Fprintf(&b, "\n> %s\n", note)
		}
		b.WriteString("\n")
	})
	return strings.TrimSuffix(b.String(), "\n")
}

func withReason(step string) string { return strings.TrimSuffix(step, "}") + ", reason: …}" }

// played does the step of an example, and returns the table that it makes and the note of the ledger.
func played(e fix.Example) (after, note string, err error) {
	book, err := rulebook.Parse([]byte(fix.ExampleBook))
	if err != nil {
		return "", "", err
	}
	plan, err := fix.Parse([]byte("fix_plan: example\ndataset: results\nsteps:\n  - "+withReason(e.Step)+"\n"), book)
	if err != nil {
		return "", "", err
	}
	content := fix.ExampleHeader + e.Rows
	file, err := intake.Open(context.Background(), func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(content[offset:])), nil
	}, book.Reading)
	if err != nil {
		return "", "", err
	}
	var out bytes.Buffer
	ledger, err := fix.Run(context.Background(), fix.Input{Source: file, Book: book}, plan, 1, fix.Outputs{Table: &out})
	if err != nil {
		return "", "", err
	}
	return out.String(), ledger.Steps[0].Note, ledger.Refused()
}

// markdown writes delimited text as a table; spaces at the ends of cells are shown.
func markdown(text string, delimiter rune) string {
	in := csv.NewReader(strings.NewReader(text))
	in.Comma, in.LazyQuotes = delimiter, true
	var b strings.Builder
	for line := 0; ; line++ {
		cells, err := in.Read()
		if err != nil {
			return b.String()
		}
		for i, cell := range cells {
			if bare := strings.TrimSpace(cell); bare != cell {
				cells[i] = strings.ReplaceAll(cell, " ", "␣")
			}
			cells[i] = strings.ReplaceAll(cells[i], "|", `\|`)
		}
		fmt.Fprintf(&b, "| %s |\n", strings.Join(cells, " | "))
		if line == 0 {
			b.WriteString(strings.Repeat("|---", len(cells)) + "|\n")
		}
	}
}
