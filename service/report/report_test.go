package report_test

import (
	"context"
	"regexp"
	"strings"
	"testing"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/testkit"
	"proudsieve/service/report"
)

func TestAReportStandsAlone(t *testing.T) {
	book := testkit.Book(t,
		"dataset: d\ncolumns:\n  - {name: k, required: true, severity: major, reason: It names the <row>.}\n  - {name: n, type: decimal}\nrules:\n  - {id: less, condition: n < 5}\nmeasures: [n]\n")
	content := "k,n\n<b>a</b>,1\n,9\n  c,x\n"
	file := testkit.File(t, content, book.Reading)
	result, err := audit.Run(context.Background(), file, book, 1)
	if err != nil {
		t.Fatal(err)
	}
	examples, err := report.Examples(context.Background(), file, result.Checkpoints, result)
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	if err := report.Write(&out, &report.Report{Dataset: "d", FileName: "d.csv", When: time.Unix(0, 0), Result: result,
		Examples: examples, Source: map[string]string{"Provider": "Millrace"},
		Questions: []report.Question{{About: "k", Text: "What is a row without a name?",
			Asked: "1 May"}}}); err != nil {
		t.Fatal(err)
	}
	page := out.String()
	for _, want := range []string{"Audit of d.csv", "the table fell short", "1 of 3 rows has nothing in k.",
		"must be put right", "It names the &lt;row&gt;.", "What is a row without a name?", "␣␣c",
		"<span class=\"none\">missing</span>", "3 records were read: 3 rows", "Millrace", `id="less"`, "33.33",
		`<td class="n">9</td>`} {
		if !strings.Contains(page, want) {
			t.Errorf("the report has no %q", want)
		}
	}
	if strings.Contains(page, "<b>a</b>") {
		t.Error("a value of the table became markup")
	}
	if loads := regexp.MustCompile(`(?i)<script|src=|https?://|<link|@import|url\(`).FindString(page); loads != "" {
		t.Errorf("the report loads something: %s", loads)
	}
}
