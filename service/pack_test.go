package service_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"proudsieve/client"
	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/core/fix"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

const wholeBook = `dataset: samples
columns:
  - {name: id, title: Number of the sample}
  - {name: station, type: code, codes: stations, severity: minor}
  - {name: value, type: decimal, to: 14, severity: major, unit: "1"}
  - {name: level, type: decimal}
keys: [{id: one, columns: [id]}]
code_lists: {stations: {from: {dataset: stations, columns: [id]}}}
history: [{id: rows_stay, check: rows_steady, within: 80}]
measures: [level]
estimates: values
pass_mark: 50
`

// wholePack certifies a merged table that has a bit of everything, and hands it over with its deliveries: codes from another
// dataset, a rule against earlier deliveries, changed cells, a row that was set aside, estimates, a waiver and an answer.
func wholePack(t *testing.T) (*records.Certificate, []byte, []byte) {
	t.Helper()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: stations\ncolumns: [{name: id}]\nkeys: [{id: one, columns: [id]}]\n")
	audited(t, r.Steward, deliver(t, r.Steward, "stations", "id\nAV-1\nAV-2\n").Table.ID)
	declare(t, r.Steward, "rulebooks", wholeBook)
	declare(t, r.Steward, "rulebooks", strings.NewReplacer("dataset: samples", "dataset: all_samples", "history: [{id: rows_stay, check: rows_steady, within: 80}]\n", "").Replace(wholeBook))
	declare(t, r.Steward, "fix-plans", "fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_aside, where: id = 'total', reason: A line of totals.}\n"+
		"  - {do: replace, columns: [station], find: av-1, with: AV-1, match: whole_cell, reason: Their spelling.}\n"+
		"  - {do: estimate, column: level, method: group_mean, group: [station], reason: Levels differ little.}\n")
	declare(t, r.Steward, "merges", "merge: all_samples\nstack: [samples]\n")
	audited(t, r.Steward, deliver(t, r.Steward, "samples", "id,station,value,level\nx,AV-1,7,1\ny,AV-2,7,2\n").Table.ID)
	d := deliver(t, r.Steward, "samples", "id,station,value,level\na,AV-1,7,1\nb,av-1,8,\nc,AV-2,99,4\nd,AV-2,6,5\ntotal,,120,\n")
	audited(t, r.Steward, d.Table.ID)
	high := issueOfRule(t, r.Steward, "value.range")
	sheet, err := r.Steward.AddSheet(ctx, client.NewSheet{Issues: []int64{high.ID}, Recipient: "Highgarth laboratory"})
	if err != nil {
		t.Fatal(err)
	}
	code := codeOf(t, sheet, `"99"`)
	if _, err := r.Steward.TakeAnswers(ctx, client.AnswersGiven{Given: []client.Given{{Code: code, Answer: "meant_so", Note: "an outfall"}, {Code: codeOf(t, sheet, `"120"`), Answer: "unknown"}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.TakeUpAnswers(ctx, sheet.ID, client.TakenUp{Dataset: "samples", Table: d.Table.ID, Take: []string{code, codeOf(t, sheet, `"120"`)}}); err != nil {
		t.Fatal(err)
	}
	cleaned := applyPlan(t, r, d.Table.ID, "p")
	audited(t, r.Steward, cleaned.ID)
	merged := mergedBy(t, r, "all_samples")
	audited(t, r.Steward, merged.ID)
	all, err := r.Steward.ListIssues(ctx, &client.ListIssuesParams{Dataset: "all_samples", Text: "value.range"})
	if err != nil || len(all.Items) != 1 {
		t.Fatalf("%+v, %v", all, err)
	}
	if _, err := r.Steward.Waive(ctx, all.Items[0].ID, client.Waived{Of: client.WaivedOfRows, Reason: "The laboratory says so.", For: client.WaivedForGood}); err != nil {
		t.Fatal(err)
	}
	c, err := r.Certifier.CertifyTable(ctx, merged.ID, client.Certifying{Conditions: "For the yearbook."})
	if err != nil {
		t.Fatal(err)
	}
	var once, twice bytes.Buffer
	for _, into := range []*bytes.Buffer{&once, &twice} {
		in, err := r.Reader.DownloadPack(ctx, c.ID, &client.DownloadPackParams{Deliveries: true})
		if err := client.Save(into, in, err); err != nil {
			t.Fatal(err)
		}
	}
	if !bytes.Equal(once.Bytes(), twice.Bytes()) {
		t.Error("the same pack has other bytes the second time")
	}
	keys, err := r.Reader.Call(ctx, "GET", "/signing-keys", nil)
	if err != nil {
		t.Fatal(err)
	}
	return c, once.Bytes(), keys
}

// checked opens a pack and computes every figure of a certificate again.
func checked(t *testing.T, signed string, content, packKeys, keys []byte) *pack.Report {
	t.Helper()
	p, err := pack.Open(bytes.NewReader(content), int64(len(content)), packKeys)
	if err != nil {
		t.Fatal(err)
	}
	o, err := certify.OpenWhole(signed, keys)
	if err != nil {
		t.Fatal(err)
	}
	report, err := pack.Check(ctx, o, p, 2)
	if err != nil {
		t.Fatal(err)
	}
	return report
}

func TestEveryFigureOfACertificateIsComputedAgainFromItsPack(t *testing.T) {
	t.Parallel()
	c, content, keys := wholePack(t) // the service is not asked any more
	report := checked(t, c.Signature, content, keys, keys)
	// The stations that codes are taken from are no part of the deliveries: what was held against them is told.
	for _, l := range report.Lines {
		t.Log(l.State, l.About, l.Says)
	}
	if len(report.Of(pack.Differs)) != 0 {
		t.Errorf("%+v", report.Of(pack.Differs))
	}
	tampered := func(name string, with func([]byte) []byte) []byte {
		t.Helper()
		in, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		archive := zip.NewWriter(&out)
		for _, f := range in.File {
			raw, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(raw)
			if err != nil {
				t.Fatal(err)
			}
			if f.Name == name {
				if text = with(text); text == nil {
					continue
				}
			}
			w, err := archive.Create(f.Name)
			if err == nil {
				_, err = w.Write(text)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		if err := archive.Close(); err != nil {
			t.Fatal(err)
		}
		return out.Bytes()
	}
	in, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]bool{}
	for _, f := range in.File {
		kinds[filepath.Dir(f.Name)+"/*"+filepath.Ext(f.Name)] = true
		for what, with := range map[string]func([]byte) []byte{
			"changed": func(b []byte) []byte { b = slices.Clone(b); b[len(b)/2] ^= 1; return b },
			"longer":  func(b []byte) []byte { return append(slices.Clone(b), '\n', 'x') },
			"gone":    func([]byte) []byte { return nil },
		} {
			bad := tampered(f.Name, with)
			_, err := pack.Open(bytes.NewReader(bad), int64(len(bad)), keys)
			if err == nil || !strings.Contains(err.Error(), f.Name) {
				t.Errorf("%s is %s: %v", f.Name, what, err)
			}
		}
	}
	for _, kind := range []string{"declarations/*.yaml", "table/*.csv", "table/*.json", "table/*.jsonl", "tables/*.csv", "logs/*.jsonl", "logs/*.parquet", "history/*.json", "./*.csv", "./*.html", "./*.jsonld", "./*.json", "./*.txt"} {
		if !kinds[kind] {
			t.Errorf("the pack has no %s: %v", kind, kinds)
		}
	}
	more := tampered("nothing", nil)
	var out bytes.Buffer
	archive := zip.NewWriter(&out)
	if _, err := archive.Create("more.txt"); err != nil {
		t.Fatal(err)
	}
	_ = archive.Close()
	if _, err := pack.Open(bytes.NewReader(out.Bytes()), int64(out.Len()), keys); !errors.Is(err, pack.ErrPack) {
		t.Errorf("another archive: %v", err)
	}
	other, _ := certify.NewKey()
	public, _ := certify.PublicKey(other)
	if _, err := pack.Open(bytes.NewReader(more), int64(len(more)), public); !errors.Is(err, certify.ErrSignature) {
		t.Errorf("by the keys of somebody else: %v", err)
	}
}

// Somebody signs another figure: whatever it is, computing it again tells.
func TestAFigureThatSomebodySignedWronglyIsTold(t *testing.T) {
	t.Parallel()
	c, content, keys := wholePack(t)
	mine, err := certify.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	public, err := certify.PublicKey(mine)
	if err != nil {
		t.Fatal(err)
	}
	ledger := func(change func(*fix.Ledger)) func(*certify.Statement) {
		return func(s *certify.Statement) {
			l := linkOf(t, s, "cleaned")
			var of fix.Ledger
			if err := json.Unmarshal(l.Ledger, &of); err != nil {
				t.Fatal(err)
			}
			change(&of)
			if l.Ledger, err = json.Marshal(of); err != nil {
				t.Fatal(err)
			}
		}
	}
	for what, change := range map[string]func(*certify.Statement){
		"rows":                   func(s *certify.Statement) { s.Table.Rows++ },
		"a sum":                  func(s *certify.Statement) { s.Table.Sums["level"] = "1" },
		"a score":                func(s *certify.Statement) { s.Audit.Score = "100.0000" },
		"a pass mark":            func(s *certify.Statement) { s.Audit.PassMark = "40.0000" },
		"a column":               func(s *certify.Statement) { s.Table.Columns[1].Missing++ },
		"a rule":                 func(s *certify.Statement) { s.Audit.Rules[0].Rows++ },
		"a finding is left out":  func(s *certify.Statement) { s.Accepted = s.Accepted[1:] },
		"estimates":              func(s *certify.Statement) { s.Table.Estimates = 0 },
		"what a waiver covers":   func(s *certify.Statement) { s.Waivers[len(s.Waivers)-1].Rows = 7 },
		"the rows of a link":     func(s *certify.Statement) { linkOf(t, s, "cleaned").Judged.Rows-- },
		"the score of a link":    func(s *certify.Statement) { linkOf(t, s, "cleaned").Judged.Score = "99.0000" },
		"a finding of a link":    func(s *certify.Statement) { linkOf(t, s, "cleaned").Judged.Findings[0].Rows++ },
		"the cells of a step":    ledger(func(l *fix.Ledger) { l.Steps[1].Cells++ }),
		"the rows of a step":     ledger(func(l *fix.Ledger) { l.Steps[0].Rows = 0 }),
		"a method of estimating": ledger(func(l *fix.Ledger) { l.Steps[2].Estimated.Method = "measured" }),
		"a change log":           func(s *certify.Statement) { linkOf(t, s, "cleaned").ChangeLog = linkOf(t, s, "cleaned").SHA256 },
		"an accounting": func(s *certify.Statement) {
			l := linkOf(t, s, "merged")
			l.Accounting = json.RawMessage(strings.Replace(string(l.Accounting), `"rows":4`, `"rows":5`, 1))
		},
		"where rows are from":      func(s *certify.Statement) { linkOf(t, s, "merged").RowMap = "other" },
		"which table is certified": func(s *certify.Statement) { s.Table.SHA256 = linkOf(t, s, "cleaned").SHA256 + "0" },
	} {
		var said certify.Statement
		if err := json.Unmarshal(c.Statement, &said); err != nil {
			t.Fatal(err)
		}
		change(&said)
		signed, err := certify.Sign(&said, mine)
		if err != nil {
			t.Fatal(err)
		}
		report := checked(t, signed, content, keys, public)
		if len(report.Of(pack.Differs)) == 0 {
			t.Errorf("%s: nothing tells that it is wrong: %s", what, linesOf(report))
		}
	}
	var said certify.Statement
	if err := json.Unmarshal(c.Statement, &said); err != nil {
		t.Fatal(err)
	}
	signed, _ := certify.Sign(&said, mine)
	if report := checked(t, signed, content, keys, public); len(report.Of(pack.Differs)) != 0 || len(report.Of(pack.Unchecked)) != 0 {
		t.Errorf("as it is: %s", linesOf(report))
	}
}

func linkOf(t *testing.T, s *certify.Statement, origin string) *certify.Link {
	t.Helper()
	at := slices.IndexFunc(s.Chain, func(l certify.Link) bool { return l.Origin == origin })
	if at < 0 {
		t.Fatalf("there is no %s table in the chain", origin)
	}
	return &s.Chain[at]
}

func linesOf(r *pack.Report) string {
	var b strings.Builder
	for _, l := range r.Lines {
		fmt.Fprintf(&b, "\n%s: %s: %s", l.State, l.About, l.Says)
	}
	return b.String()
}

// What is not at hand is told as such, and never passed over; tables are taken by their bytes wherever they are.
func TestWhatIsNotAtHandIsToldAsUnchecked(t *testing.T) {
	t.Parallel()
	c, content, keys := wholePack(t)
	p, err := pack.Open(bytes.NewReader(content), int64(len(content)), nil)
	if err != nil {
		t.Fatal(err)
	}
	o, err := certify.OpenWhole(c.Signature, keys)
	if err != nil {
		t.Fatal(err)
	}
	without := func(kinds ...string) *pack.Report {
		t.Helper()
		gone := map[string]bool{}
		for _, f := range p.Contents.Files {
			for _, kind := range kinds {
				if strings.HasPrefix(f.Path, kind) {
					gone[f.SHA256] = true
				}
			}
		}
		report, err := pack.Check(ctx, o, lacking{p, gone}, 1)
		if err != nil {
			t.Fatal(err)
		}
		return report
	}
	for kind, want := range map[string]string{
		"tables/":                "is not at hand",
		"table/":                 "",
		"declarations/rulebook-": "the rulebook",
		"declarations/fix-plan-": "the fix plan p version 1 is not at hand",
		"declarations/merge-":    "the merge all_samples version 1 is not at hand",
		"history/":               "the profile of an earlier table",
	} {
		report := without(kind)
		if got := fmt.Sprint(report.Of(pack.Unchecked)); want != "" && !strings.Contains(got, want) || len(report.Of(pack.Differs)) > 0 {
			t.Errorf("without %s: %s", kind, linesOf(report))
		}
	}
	if got := linesOf(without("tables/", "logs/", "table/")); !strings.Contains(got, "nor is its change log") || !strings.Contains(got, "its audit was not computed again") {
		t.Error(got)
	}
}

type lacking struct {
	pack.Files
	gone map[string]bool
}

func (l lacking) ByDigest(digest string) func() (io.ReadCloser, error) {
	if l.gone[digest] {
		return nil
	}
	return l.Files.ByDigest(digest)
}

func TestThePageOfACertifiedTableAnswersInOrder(t *testing.T) {
	c, raw, keys := wholePack(t)
	p, err := pack.Open(bytes.NewReader(raw), int64(len(raw)), keys)
	if err != nil {
		t.Fatal(err)
	}
	content, err := p.Read("report.html")
	if err != nil {
		t.Fatal(err)
	}
	page := html.UnescapeString(string(content))
	for _, want := range []string{
		"What is this?", "4 rows with 4 columns", "samples.csv", c.Digest,
		"May I use it?", "<b>Yes</b>, with what is said below in mind", "For the yearbook.",
		"What for not, or with care?", "value.range", "1 of the 4 values in level are estimates",
		"What was changed?", "5 rows came, 4 rows were handed over.", "A line of totals.", "1 row set aside", "Their spelling.", "1 cell changed", "1 cell of level estimated",
		"What was wrong with what arrived?",
		"What is estimated, assumed or accepted?", "by group mean, from 3 cells that have a value", "Levels differ little.", "an outfall", "The laboratory says so.",
		"Who says so?", "certified the table on", "put right samples", "Highgarth laboratory",
		"How can I check?", "certificate check",
		"What is in each column?", "Number of the sample",
	} {
		_, rest, found := strings.Cut(page, want)
		if !found {
			t.Fatalf("the page does not say %q, or not in its place:\n%s", want, page)
		}
		page = rest
	}
}

// What was caught in the tables on the way, what was asked, and what the columns are stand in files of their own.
func TestAPackHasFindingsQuestionsAndADictionary(t *testing.T) {
	t.Parallel()
	_, raw, keys := wholePack(t)
	p, err := pack.Open(bytes.NewReader(raw), int64(len(raw)), keys)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, f := range p.Contents.Files {
		if strings.HasPrefix(f.Path, "findings/") {
			found++
			content, err := p.Read(f.Path)
			if err != nil || !strings.HasPrefix(string(content), "line,row,column,value,rule") {
				t.Errorf("%s: %.200s, %v", f.Path, content, err)
			}
		}
	}
	if found < 2 {
		t.Errorf("only %d tables on the way have their findings", found)
	}
	for path, want := range map[string]string{"questions.csv": "Highgarth laboratory", "dictionary.html": "What must hold", "dictionary.csv": "must hold"} {
		content, err := p.Read(path)
		if err != nil || !strings.Contains(string(content), want) {
			t.Errorf("%s has no %q: %.300s, %v", path, want, content, err)
		}
	}
}

func TestThePageOfACertificateThatCountsNoMoreSaysNo(t *testing.T) {
	r := servicetest.Start(t, nil)
	c, err := r.Certifier.CertifyTable(ctx, certifiable(t, r).ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	read := func() string {
		in, err := r.Reader.ShowCertificateReport(ctx, c.ID)
		if err != nil {
			t.Fatal(err)
		}
		var out strings.Builder
		if err := client.Save(&out, in, nil); err != nil {
			t.Fatal(err)
		}
		return out.String()
	}
	if page := read(); !strings.Contains(page, "<b>Yes</b>") {
		t.Errorf("a table that counts is not said to be of use:\n%s", page)
	}
	if _, err := r.Certifier.RevokeCertificate(ctx, c.ID, client.RevokingBody{Reason: "A station was moved."}); err != nil {
		t.Fatal(err)
	}
	if page := read(); !strings.Contains(page, "<b>No.</b> It was revoked: A station was moved.") {
		t.Errorf("a revoked one is not told:\n%s", page)
	}
}

// What is judged or written after a certificate is no part of its pack, or of its page.
func TestAPackIsTheSameWhateverComesAfter(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	table := certifiable(t, r)
	c, err := r.Certifier.CertifyTable(ctx, table.ID, client.Certifying{})
	if err != nil {
		t.Fatal(err)
	}
	packed := func() []byte {
		in, err := r.Reader.DownloadPack(ctx, c.ID, &client.DownloadPackParams{Deliveries: true, Tables: true})
		var out bytes.Buffer
		if err := client.Save(&out, in, err); err != nil {
			t.Fatal(err)
		}
		return out.Bytes()
	}
	before := packed()
	declareAfter(t, r.Steward, "rulebooks", strings.NewReplacer("dataset: samples", "dataset: all_samples", "{id: one, columns: [id]}", "{id: one, columns: [id]}, {id: one_kind, columns: [parameter]}").Replace(phBook), 1)
	job, err := r.Steward.StartAudit(ctx, table.ID)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.Follow(ctx, job.ID, nil); err != nil {
		t.Fatal(err)
	}
	if after := packed(); !bytes.Equal(before, after) {
		t.Error("a later audit is in the pack of an earlier certificate")
	}
}
