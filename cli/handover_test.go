package cli

import (
	"archive/zip"
	"encoding/csv"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"proudsieve/client"
	"proudsieve/service"
	"proudsieve/service/servicetest"
)

const samplesBook = `dataset: samples
columns:
  - {name: id, required: true, severity: major}
  - {name: station, type: code, codes: stations, severity: minor}
  - {name: taken, type: date}
  - {name: value, type: decimal, to: 14, severity: minor}
code_lists: {stations: {codes: [{code: AV-1, label: The weir}, {code: AV-2, label: The ford}]}}
measures: [value]
pass_mark: 20
`

const samplesFile = "id,station,taken,value\na,AV-1,2026-03-01,7.50\nb,AV-9,2026-03-02,8\nc,AV-2,2026-03-03,99\nd,AV-1,2026-03-04,6\n"

// commandLine is a service, and what does commands on it as one of its people.
func commandLine(t *testing.T) (r *servicetest.Running, as func(*client.Client), do func(code int, args string, want ...string) string) {
	t.Helper()
	return commandLineWith(t, nil)
}

func commandLineWith(t *testing.T, change func(*service.Options)) (r *servicetest.Running, as func(*client.Client), do func(code int, args string, want ...string) string) {
	t.Helper()
	r = servicetest.Start(t, change)
	t.Setenv("PROUDSIEVE_SERVER", r.URL)
	as = func(c *client.Client) { t.Setenv("PROUDSIEVE_TOKEN", c.Token) }
	as(r.Steward)
	do = func(code int, args string, want ...string) string {
		t.Helper()
		words := strings.Fields(args)
		for i := range words {
			words[i] = strings.ReplaceAll(words[i], "_~_", " ")
		}
		got, out, stderr := run(words...)
		if got != code {
			t.Errorf("%s: exit %d, want %d\n%s%s", args, got, code, out, stderr)
		}
		for _, one := range want {
			if !strings.Contains(out+stderr, one) {
				t.Errorf("%s: no %q in\n%s%s", args, one, out, stderr)
			}
		}
		return out
	}
	return r, as, do
}

// found is what the first group of a pattern matches.
func found(t *testing.T, pattern, text string) string {
	t.Helper()
	m := regexp.MustCompile(pattern).FindStringSubmatch(text)
	if m == nil {
		t.Fatalf("no %s in\n%s", pattern, text)
	}
	return m[1]
}

// The owner of the data is asked by a file, answers in it, and what is taken up is a step and a waiver.
func TestAskingOnTheCommandLine(t *testing.T) {
	_, _, do := commandLine(t)
	do(0, "rulebook save "+write(t, "s.yaml", samplesBook), "Version 1")
	do(0, "delivery add samples "+write(t, "samples.csv", samplesFile), "Passed")
	issues := do(0, "issue list --dataset samples", "station.codes", "value.range")
	codes, high := found(t, `(?m)^ *(\d+) .*station\.codes`, issues), found(t, `(?m)^ *(\d+) .*value\.range`, issues)
	sheet := do(0, "question ask "+codes+","+high+" Tarn_~_Ellery --days 3 --supposes "+high+"=A_~_slip", "asks Tarn Ellery", "2 questions", "/answer/")
	atStation, atValue := found(t, `(?m)^ *([0-9A-Z]{4}-[0-9A-Z]{4}) .*AV-9`, sheet), found(t, `(?m)^ *([0-9A-Z]{4}-[0-9A-Z]{4}) .*99`, sheet)
	do(2, "question ask "+high+" Tarn_~_Ellery --supposes A_~_slip", "does not say of which issue")
	do(0, "question list", "Tarn Ellery")

	answers := filepath.Join(t.TempDir(), "answers.csv")
	do(0, "question save 1 "+answers)
	raw, err := os.ReadFile(answers)
	if err != nil {
		t.Fatal(err)
	}
	lines, err := csv.NewReader(strings.NewReader(string(raw))).ReadAll()
	if err != nil || len(lines) != 3 {
		t.Fatalf("%q, %v", lines, err)
	}
	at := map[string]int{}
	for i, head := range lines[0] {
		at[head] = i
	}
	for _, line := range lines[1:] {
		switch line[at["code"]] {
		case atStation:
			line[at["answer"]] = "meant_so"
		case atValue:
			line[at["answer"]] = "perhaps"
		}
	}
	rewrite := func() {
		var out strings.Builder
		w := csv.NewWriter(&out)
		if err := w.WriteAll(lines); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(answers, []byte(out.String()), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	rewrite()
	do(1, "question take "+answers+" --by Tarn_~_Ellery", `"perhaps" is no answer`, atValue)
	do(0, "question show 1", "1 answered")
	do(0, "question link 1", "/answer/")
	do(0, "question answer "+atValue+" unknown --by Tarn_~_Ellery --remark The_~_sheet_~_is_~_lost.")
	do(0, "question proposal 1", "a waiver for 1 text of station", "or, with --declare "+atStation+", in the rulebook", "nothing by itself")
	do(0, "question take-up 1", "waiver")
	do(0, "issue show "+codes, "waived", "AV-9")
	do(0, "issue end-waiver "+codes+" 1")
	do(0, "issue several "+codes+","+high+" --assign Jonas --reason He_~_knows.")
	do(0, "issue list --dataset samples", "Jonas")
	do(2, "question close 1", "is closed already")
	do(2, "question link 1", "is closed: nothing of it is waited for")
	do(0, "dataset decided samples", "rulebook", "samples, version 1", "waived", "1 text of station", "waiver ended", "answer taken up")
	do(0, "dataset record samples", "Tarn Ellery", "No delivery is expected by a day")
}

func TestAWeakerRulebookIsADecisionOnTheCommandLine(t *testing.T) {
	r, as, do := commandLine(t)
	do(0, "rulebook save "+write(t, "s.yaml", samplesBook), "Version 1")
	weaker := write(t, "w.yaml", strings.Replace(samplesBook, "to: 14", "to: 140", 1))
	do(2, "rulebook save "+weaker+" --after 1", "Say why", "The highest value of the column value was 14 and is 140.")
	as(r.Admin)
	do(0, "decision second-person samples yes")
	as(r.Steward)
	do(0, "rulebook save "+weaker+" --after 1 --reason A_~_new_~_meter.", "second person")
	do(0, "decision list", "A new meter.")
	do(2, "decision agree 1", "Mara")
	as(r.Admin)
	do(0, "decision agree 1")
	do(0, "decision show 1", "140")
	lines := strings.Split(do(0, "dataset decided samples", "less asked", "A new meter."), "\n")
	if !strings.Contains(lines[1]+lines[2], "version 2") || !strings.Contains(lines[1]+lines[2], "agreed") || !strings.Contains(lines[4], "version 1") {
		t.Errorf("not in order, the newest first: %q", lines)
	}
}

func TestExpectedDeliveriesOnTheCommandLine(t *testing.T) {
	_, _, do := commandLine(t)
	do(0, "rulebook save "+write(t, "s.yaml", samplesBook))
	since := time.Now().UTC().AddDate(0, 0, -2).Format(time.DateOnly)
	do(2, "dataset expect samples moon", "every day, week, month, quarter or year")
	do(2, "dataset expect samples week 9", "days from 1 to 7")
	do(2, "dataset expect samples week first", "no day of a week")
	do(0, "dataset expect samples day --since "+since, "expected every day by the end of its day 1")
	do(0, "dataset record samples", "0 late, 2 missing", "2 days late, and not there", "to come", "Nothing has been delivered yet.")
	do(0, "dataset course samples", "None of them was audited yet.")
	do(0, "delivery add samples "+write(t, "samples.csv", samplesFile))
	do(0, "delivery add samples "+write(t, "again.csv", strings.ReplaceAll(samplesFile, "99", "9.25")))
	do(0, "dataset record samples", "2 late, 0 missing", "not said")
	course := strings.Join(strings.Fields(do(0, "dataset course samples --of sum:value")), " ")
	if !strings.Contains(course, "samples.csv 4 50.00 120.5") || !strings.Contains(course, "again.csv 4 75.00 30.75") {
		t.Errorf("%s", course)
	}
	rules := strings.Join(strings.Fields(do(0, "dataset course samples")), " ")
	if !strings.Contains(rules, "station.codes value.range") || !strings.Contains(rules, "again.csv 4 75.00 1 0") {
		t.Errorf("%s", rules)
	}
	do(0, "dataset expect samples none", "No delivery of samples is expected")
}

func TestExportsOnTheCommandLine(t *testing.T) {
	_, _, do := commandLine(t)
	do(0, "rulebook save "+write(t, "s.yaml", samplesBook))
	do(0, "delivery add samples "+write(t, "samples.csv", samplesFile))
	dir := t.TempDir()
	do(0, "table export 1 "+dir+"/a.csv --labels --columns station,value --where value<9")
	raw, err := os.ReadFile(dir + "/a.csv")
	if want := "station,station_label,value\nAV-1,The weir,7.50\nAV-9,,8\nAV-1,The weir,6\n"; err != nil || string(raw) != want {
		t.Errorf("%q, %v", raw, err)
	}
	for _, name := range []string{"a.csv.gz", "a.jsonl.zst", "a.parquet"} {
		do(0, "table export 1 "+dir+"/"+name)
		do(0, "look "+dir+"/"+name, "4 rows")
	}
	do(0, "table export 1 "+dir+"/a.xlsx --rule value.range")
	book, err := excelize.OpenFile(dir + "/a.xlsx")
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	if rows, err := book.GetRows("rows"); err != nil || len(rows) != 2 || rows[1][3] != "99" || rows[1][2] != "2026-03-03" {
		t.Errorf("%q, %v", rows, err)
	}
	do(2, "table export 1 "+dir+"/a.txt", "does not say how the table is written")
	do(2, "table export 1 "+dir+"/a.csv --format pdf", `no format "pdf"`)
	do(2, "table export 1 "+dir+"/a.csv --packing rar", `no packing "rar"`)
	do(2, "table export 1 "+dir+"/b.csv --columns depth", `no column "depth"`)
	if _, err := os.Stat(dir + "/b.csv"); err == nil {
		t.Error("a file stands where nothing was written")
	}
}

// A table is certified, handed over, computed again elsewhere, and revoked.
func TestHandingOverOnTheCommandLine(t *testing.T) {
	r, as, do := commandLine(t)
	do(0, "rulebook save "+write(t, "s.yaml", strings.Replace(samplesBook, "pass_mark", "title: Samples of the vale\npass_mark", 1)))
	do(0, "delivery add samples "+write(t, "samples.csv", samplesFile))
	do(0, "fix-plan save "+write(t, "f.yaml", "fix_plan: p\ndataset: samples\nsteps:\n  - {do: set_aside, where: value > 50, reason: A slip.}\n"))
	do(0, "fix-plan apply 1 p", "table 2", "It scores 66.67, and")
	as(r.Certifier)
	do(0, "certificate draft 2", "3 rows")
	do(0, "certificate issue 2 --conditions For_~_the_~_yearbook. --until 2099-12-31", "1")
	do(0, "certificate list", "samples")
	dir := t.TempDir()
	do(0, "certificate report 1 "+dir+"/page.html")
	page, err := os.ReadFile(dir + "/page.html")
	for _, want := range []string{"<b>Yes</b>", "For the yearbook.", "4 rows came, 3 rows were handed over.", "A slip.", "2099-12-31"} {
		if err != nil || !strings.Contains(string(page), want) {
			t.Errorf("the page has no %q: %v", want, err)
		}
	}
	do(0, "certificate pack 1 "+dir+"/pack.zip --deliveries")
	archive, err := zip.OpenReader(dir + "/pack.zip")
	if err != nil {
		t.Fatal(err)
	}
	defer archive.Close()
	names := []string{}
	for _, f := range archive.File {
		names = append(names, f.Name)
	}
	for _, want := range []string{"README.txt", "certificate.jws.json", "report.html", "audit.html", "dictionary.csv", "table/samples_cleaned.csv", "table/samples_cleaned.parquet"} {
		if !strings.Contains(strings.Join(names, "\n"), want) {
			t.Errorf("the pack has no %s: %q", want, names)
		}
	}
	do(0, "certificate save 1 "+dir+"/c.json")
	keep := func(name, text string) string {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return filepath.Join(dir, name)
	}
	keys := keep("keys.json", do(0, "certificate keys"))
	table := keep("t.csv", readFrom(t, &archive.Reader, "table/samples_cleaned.csv"))
	t.Setenv("PROUDSIEVE_SERVER", "http://127.0.0.1:1") // neither needs a service
	do(0, "certificate verify "+table+" "+dir+"/c.json --key "+keys, "samples")
	do(0, "certificate check "+dir+"/c.json --with "+dir+"/pack.zip --key "+keys, "computed again")
	t.Setenv("PROUDSIEVE_SERVER", r.URL)
	do(0, "certificate revoke 1 --reason A_~_meter_~_was_~_wrong.")
	list := keep("revocations.json", do(0, "certificate revocations"))
	do(1, "certificate verify "+table+" "+dir+"/c.json --key "+keys+" --revocations "+list, "A meter was wrong.")
	do(0, "dataset decided samples", "certified", "For the yearbook.", "revoked", "A meter was wrong.", "fix plan")
	do(0, "certificate report 1 "+dir+"/page.html")
	if page, err := os.ReadFile(dir + "/page.html"); err != nil || !strings.Contains(string(page), "<b>No.</b>") {
		t.Errorf("the page of a revoked certificate says yes: %v", err)
	}
}

func readFrom(t *testing.T, archive *zip.Reader, name string) string {
	t.Helper()
	in, err := archive.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	raw, err := io.ReadAll(in)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}
