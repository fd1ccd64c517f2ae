package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"proudsieve/service/servicetest"
)

const judgeBook = `dataset: visits
columns:
  - {name: station, type: code, codes: stations}
  - {name: flow, type: decimal}
keys:
  - {id: one_visit, columns: [station]}
code_lists:
  stations: {from: {dataset: stations, columns: [id]}}
pass_mark: 10
`

const judgeTable = "station,flow\nAV-1,5\nAV-1,6\nav-1,7\nXX,1\nAV-2,1\nAV-2,1\n"

func TestSiftLooksIntoWhatItFound(t *testing.T) {
	rules, file, stations := write(t, "visits.yaml", judgeBook), write(t, "visits.csv", judgeTable),
		write(t, "stations.csv", "id\nAV-1\nAV-2\n")
	for _, c := range []struct {
		name string
		args []string
		want []string
	}{
		{"beside another dataset", nil, []string{"1 of 6 rows has something in station that is no code of its list",
			"Costs: the points that a finding takes"}},
		{"groups", []string{"--groups", "station"}, []string{"equal in every cell", "one key, different cells",
			"AV-1     6", "3 of 6 rows would be surplus by station once spellings are levelled"}},
		{"codes", []string{"--codes", "station"}, []string{"av-1     1  AV-1            100%  upper and lower case",
			"nothing known"}},
		{"groups for programs", []string{"--groups", "station", "--json"},
			[]string{`"surplus_levelled": 3`, `"differs": [`}},
		{"codes for programs", []string{"--codes", "station", "--json"}, []string{`"how": "upper and lower case"`}},
	} {
		_, out, errs := run(append([]string{"sift", file, "--rules", rules, "--beside", "stations=" + stations},
			c.args...)...)
		for _, want := range c.want {
			if !strings.Contains(out, want) {
				t.Errorf("%s: no %q in\n%s%s", c.name, want, out, errs)
			}
		}
	}
	page, findings := filepath.Join(t.TempDir(), "r.html"), filepath.Join(t.TempDir(), "f.csv")
	if code, _, errs := run("sift", file, "--rules", rules, "--beside", "stations="+stations, "--report", page,
		"--findings", findings); code != 1 {
		t.Errorf("%d %s", code, errs)
	}
	for path, want := range map[string]string{page: "Audit of visits.csv", findings: "5,4,station,XX,station.codes"} {
		if raw, err := os.ReadFile(path); err != nil || !strings.Contains(string(raw), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if _, out, _ := run("sift", file, "--rules", rules); !strings.Contains(out,
		"Not judged: station.codes, since the dataset stations is not at hand; name its file with --beside stations=FILE") {
		t.Errorf("it is not said that nothing is judged:\n%s", out)
	}
	if code, _, errs := run("sift", file, "--beside", "stations"); code != 2 ||
		!strings.Contains(errs, "--beside is a dataset and a file") {
		t.Errorf("%d %s", code, errs)
	}
}

// Of a table of many columns those are listed that something is told of, the others by their names; what is told comes first.
func TestSiftFitsAWindow(t *testing.T) {
	file := "../demo/data/returns.csv"
	code, out, errs := run("sift", file, "--before", "../demo/data/returns_before.csv")
	if lines := strings.Count(out, "\n"); code != 0 || lines > 40 || !strings.Contains(out, "and 25 columns more; --all shows them: licence, river, ") {
		t.Errorf("%d, %d lines\n%s%s", code, lines, out, errs)
	}
	if first, columns := strings.Index(out, "1 number of peak lies far"), strings.Index(out, "what it is"); first < 0 || columns < first {
		t.Errorf("what may cost most does not come first:\n%s", out)
	}
	if _, out, _ = run("sift", file, "--all"); strings.Contains(out, "--all shows them") || !strings.Contains(out, "\nlicence ") ||
		!strings.Contains(out, "\ndistrict ") {
		t.Errorf("not all is shown:\n%s", out)
	}
	for _, name := range []string{"stations", "visits", "highgarth_results", "millrace_results"} {
		if _, out, _ := run("sift", "../demo/data/"+name+".csv"); strings.Count(out, "\n") > 40 || strings.Contains(out, "columns more") {
			t.Errorf("%s does not fit:\n%s", name, out)
		}
	}
}

func TestSiftComparesWithAnEarlierDelivery(t *testing.T) {
	rows := func(n int, codes ...string) string {
		var b strings.Builder
		b.WriteString("code,n\n")
		for i := range n {
			fmt.Fprintf(&b, "%s,%d\n", codes[i%len(codes)], i)
		}
		return b.String()
	}
	before, now := write(t, "before.csv", rows(90, "a1", "b2", "c3")), write(t, "now.csv", rows(60, "a1", "b2"))
	const told = `1 code of code that stood in 30 rows of the last delivery no longer occurs: "c3" (30).`
	if code, out, errs := run("sift", now, "--before", before); code != 0 || !strings.Contains(out, told) {
		t.Errorf("%d %s%s", code, out, errs)
	}
	rules := write(t, "d.yaml", "dataset: d\ncolumns: [{name: code}, {name: n, type: integer}]\n"+
		"history: [{id: as_many, check: rows_steady, within: 10}]\n")
	if code, out, errs := run("sift", now, "--rules", rules, "--before", before); code != 0 || !strings.Contains(out, told) ||
		!strings.Contains(out, "The table has 60 rows; before it had 90") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	if code, _, errs := run("sift", now, "--before", "nowhere.csv"); code != 2 || !strings.Contains(errs, "nowhere.csv, the earlier delivery: ") {
		t.Errorf("%d %s", code, errs)
	}
}

func TestSiftReadsAColumnByTheNameThatItHadBefore(t *testing.T) {
	rules := write(t, "d.yaml", "dataset: d\ncolumns: [{name: station}, {name: flow, type: decimal, was: [discharge, q]}]\n")
	for _, name := range []string{"flow", "discharge", "q"} {
		code, out, errs := run("sift", write(t, "d.csv", "station,"+name+"\nAV-1,5\n"), "--rules", rules)
		told := strings.Contains(out, "flow stands as "+name+" in the file, a name that it had before.")
		if code != 0 || told == (name == "flow") || strings.Contains(out, "not declared") {
			t.Errorf("%s: %d %s%s", name, code, out, errs)
		}
	}
}

func TestRulebooksWithoutAService(t *testing.T) {
	file, earlier, later := write(t, "visits.csv", judgeTable), write(t, "a.yaml", judgeBook),
		write(t, "b.yaml", strings.Replace(judgeBook, "pass_mark: 10", "pass_mark: 50", 1))
	code, source, errs := run("rulebook", "propose", file)
	if code != 0 || !strings.Contains(source, "dataset: visits\n") || errs != "" {
		t.Errorf("%d %s %s", code, source, errs)
	}
	if code, out, _ := run("rulebook", "check", write(t, "p.yaml", source)); code != 0 ||
		!strings.Contains(out, "is a good rulebook for visits") {
		t.Errorf("%d %s", code, out)
	}
	if _, out, _ := run("rulebook", "compare", earlier,
		later); out != "The pass mark of the rulebook was 10 and is 50.\n" {
		t.Errorf("%q", out)
	}
	if _, out, _ := run("rulebook", "compare", later, later); out != "They ask the same.\n" {
		t.Errorf("%q", out)
	}
	code, metadata, errs := run("rulebook", "to-csvw", earlier)
	if code != 0 || !strings.Contains(metadata, `"primaryKey"`) || !strings.Contains(errs, "Not carried over: ") {
		t.Errorf("%d %s %s", code, metadata, errs)
	}
	if code, out, _ := run("rulebook", "from-csvw", write(t, "visits.json", metadata)); code != 0 ||
		!strings.Contains(out, "keys:\n  - {id: primary_key, columns: [station]}") {
		t.Errorf("%d %s", code, out)
	}
	codes := write(t, "codes.csv", "id;name\nAV-1;Ford\nAV-2;The weir: north\nAV-1;again\n;none\n")
	listed := write(t, "l.yaml", strings.Replace(judgeBook, "stations: {from: {dataset: stations, columns: [id]}}",
		"# ours\n  stations: [AV-1]", 1))
	if code, out, errs := run("rulebook", "codes", listed, "stations", codes, "--labels", "name"); code != 0 ||
		!strings.Contains(out, "# ours\n  stations: [AV-1, {code: AV-2, label: \"The weir: north\"}]\n") {
		t.Errorf("%d %s %s", code, out, errs)
	}
	if code, out, errs := run("rulebook", "codes", listed, "others", codes); code != 0 ||
		!strings.Contains(out, "  others: [AV-1, AV-2]\n") {
		t.Errorf("%d %s %s", code, out, errs)
	}
	if code, _, errs := run("rulebook", "codes", listed, "stations", codes, "--column", "idd"); code != 2 ||
		!strings.Contains(errs, `there is no column "idd"; did you mean "id"?`) {
		t.Errorf("%d %s", code, errs)
	}
	if code, _, errs := run("rulebook", "from-csvw", write(t, "x.json", "{")); code != 2 ||
		!strings.Contains(errs, "this is not JSON") {
		t.Errorf("%d %s", code, errs)
	}
	if code, _, errs := run("rulebook", "propose"); code != 2 || !strings.Contains(errs, "takes one FILE or more") {
		t.Errorf("%d %s", code, errs)
	}
}

func TestJudgementByTheServiceOnTheCommandLine(t *testing.T) {
	r := servicetest.Start(t, nil)
	t.Setenv("PROUDSIEVE_TOKEN", r.Steward.Token)
	book := "dataset: visits\ncolumns:\n  - {name: station}\n  - {name: flow, type: decimal}\nkeys:\n  - {id: one_visit, columns: [station]}\npass_mark: 10\n"
	rules := write(t, "visits.yaml", book)
	do := func(want string, args ...string) {
		t.Helper()
		code, out, errs := run(append([]string{"--server", r.URL}, args...)...)
		if code == 2 || !strings.Contains(out, want) {
			t.Errorf("%v: %d, no %q in\n%s%s", args, code, want, out, errs)
		}
	}
	do("Version 1", "rulebook", "save", rules)
	do("surplus", "delivery", "add", "visits", write(t, "one.csv", judgeTable))
	do("", "delivery", "add", "visits", write(t, "two.csv", "station,flow\nAV-1,5\nAV-2,x\n"))
	stricter := write(t, "stricter.yaml", book+"rules:\n  - {id: small, condition: flow < 6}\n")
	do("small      minor           0        2  For every row: flow < 6.", "rulebook", "try", stricter)
	if code, _, errs := run("--server", r.URL, "rulebook", "save", stricter); code != 2 ||
		!strings.Contains(errs, "Mara saved version 1") || !strings.Contains(errs, "save it with --after") {
		t.Errorf("without the version it was made from: %d, %s", code, errs)
	}
	do("Version 2", "rulebook", "save", stricter, "--after", "1")
	do("The rule small is new", "rulebook", "changes", "visits")
	do("one key, different cells", "table", "groups", "1", "station")
	do("its texts are held against each other", "table", "codes", "1", "station")
	do("gone  major", "audit", "compare", "2")
	page := filepath.Join(t.TempDir(), "r.html")
	do("", "audit", "report", "1", page)
	do("", "audit", "findings", "1", page+".csv")
	if raw, err := os.ReadFile(page); err != nil || !strings.Contains(string(raw), "Audit of one.csv") {
		t.Error(err)
	}
}
