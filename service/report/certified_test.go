package report_test

import (
	"context"
	"regexp"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/core/testkit"
	"proudsieve/service/report"
)

// handed is a table of 4 rows that was delivered, put right by three steps and certified.
func handed() *report.Certified {
	return &report.Certified{Digest: "abc", Title: "Results <2026>", Found: map[int64]map[string]string{1: {"unit.required": "2 rows have no unit."}},
		Signers: []string{"Orla"},
		Statement: &certify.Statement{Dataset: "results", CertifiedBy: "Jonas", CertifiedAt: "2026-05-02T10:00:00Z", ValidUntil: "2027-05-02",
			Table:   certify.TableFacts{Rows: 4, Bytes: 90, Columns: []certify.ColumnFacts{{Name: "value", Filled: 3, Missing: 1, Estimated: 1}, {Name: "unit", Filled: 1, Missing: 3}}},
			Audit:   certify.AuditFacts{Score: "99.9999", PassMark: "95.0000", Rules: []audit.Judged{{Rule: "ph", Undecided: 2}, {Rule: "past", Unjudged: "no earlier delivery"}}},
			Waivers: []certify.Waiver{{Dataset: "results", Rule: "unit.required", Reason: "Acidity has none.", By: "Mara", Covers: "2 rows of 4", Only: true}},
			Eased: []certify.Eased{{Dataset: "results", Version: 3, Says: []string{"value from 0 to 14 is from 0 to 20 now"}, Reason: "A new meter.", By: "Mara",
				AgreedBy: "Jonas"}},
			Questions: []certify.QuestionFact{{Code: "Q1", Dataset: "results", Found: "1 row is too high.", Answer: "wrong", Right: map[string]string{"value": " 7"}, By: "Tarn", At: "2026-05-01T10:00:00Z"},
				{Code: "Q2", Dataset: "results", Found: "1 row is odd."}},
			Chain: []certify.Link{
				{Number: 1, SHA256: strings.Repeat("a", 64), Dataset: "results", Origin: "delivery", FileName: "may.csv", By: "Mara", At: "2026-05-01T09:00:00Z", Source: []byte(`{"provider":"Millrace"}`),
					Judged: &certify.JudgedLink{Rows: 6, Findings: []certify.FindingFact{{Rule: "unit.required", Rows: 2, Became: "issue 1, waived"}, {Rule: "one", Rows: 1}}}},
				{Number: 2, SHA256: strings.Repeat("b", 64), Dataset: "results", Origin: "cleaned", By: "Mara",
					Ledger: []byte(`{"rows_in":6,"rows_out":4,"sums_in":{"value":"1030.5"},"sums_out":{"value":"30.5"},"steps":[
						{"kind":"set_cell","reason":"A slip.","cells":1},{"kind":"set_cell","reason":"A slip.","cells":2},{"kind":"set_cell","reason":"Another.","cells":1},
						{"kind":"trim","reason":"Off.","cells":9,"off":true},{"kind":"set_aside","reason":"Twice.","rows":2},
						{"kind":"estimate","reason":"A gap.","cells":1,"estimated":{"column":"value","method":"group_mean","observed":2,"filled":1,"open":1,"warnings":["Few donors."]}}]}`)}}}}
}

func written(t *testing.T, c *report.Certified) string {
	t.Helper()
	var out strings.Builder
	if err := report.WriteCertified(&out, c); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestThePageOfACertifiedTableTellsEverything(t *testing.T) {
	page := written(t, handed())
	for _, want := range []string{
		"Results &lt;2026&gt;", "Millrace", "<td class=\"n\">6</td>", "99.99 of 100, with a pass mark of 95", "until 2027-05-02",
		"1 of the 3 values in value are estimates", "unit in 3 (75.00 %), value in 1 (25.00 %)", "ph could not be decided for 2 rows", "past could not be judged: no earlier delivery.",
		"Version 3 of the rulebook of results asks less", "Mara decided it and Jonas agreed, because: A new meter.",
		"6 rows came, 4 rows were handed over.", "3 cells changed", "2 rows set aside", "<td class=\"n\">1,030.5</td><td class=\"n\">30.5</td>",
		"2 rows have no unit.", "issue 1, waived", "one: 1 row breaks it", "no issue was made of it",
		"1 gap stayed open", "Few donors.", "1 question has no answer.", "value: <code>␣7</code>", "for this delivery alone", "Acidity has none.",
		"signed the certificate too", "took in results; put right results; accepted findings of results", "answered for the data of results",
	} {
		if !strings.Contains(page, want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	if strings.Contains(page, "Off.") {
		t.Error("a step that was switched off is told as done")
	}
	if loads := regexp.MustCompile(`(?i)<script|src=|https?://|<link|@import|url\(`).FindString(page); loads != "" {
		t.Errorf("the page loads something: %s", loads)
	}
}

func TestAnAccountingThatCannotBeReadIsToldSo(t *testing.T) {
	c := handed()
	c.Statement.Chain[1].Ledger = []byte(`[]`)
	c.Statement.Chain[0].Origin, c.Statement.Chain[0].Accounting = "merged", nil
	page := written(t, c)
	for _, want := range []string{"its ledger is of another version", "its accounting is of another version"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page does not say %q", want)
		}
	}
}

func TestPersonalDataIsNotOnThePageOfACertifiedTable(t *testing.T) {
	book := testkit.Book(t, "dataset: d\ncolumns:\n  - {name: mail, pattern: '[a-z]+@[a-z.]+'}\n")
	var content strings.Builder
	content.WriteString("mail\n")
	for i := range 40 {
		content.WriteString("tarn" + string(rune('a'+i%26)) + string(rune('a'+i/26)) + "@example.org\n")
	}
	content.WriteString("Tarn Ellery\n")
	result, err := audit.Run(context.Background(), testkit.File(t, content.String(), book.Reading), book, 1)
	if err != nil {
		t.Fatal(err)
	}
	profiles := report.Profiles(result)
	if profiles["mail"] != nil {
		t.Fatal("a column of addresses is shown")
	}
	c := handed()
	c.Columns = []report.CertifiedColumn{{Meaning: pack.Meaning{ColumnFacts: certify.ColumnFacts{Name: "mail"}}, Profile: profiles["mail"]}}
	c.Found = map[int64]map[string]string{1: report.Said(result)}
	if page := written(t, c); strings.Contains(page, "tarn") || strings.Contains(page, "Ellery") || !strings.Contains(page, "not shown") {
		t.Errorf("personal data stands on the page:\n%s", page)
	}
}
