package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/demo"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/servicetest"
)

func TestMain(m *testing.M) { postgrestest.Main(m) }

// run runs the command line as a person would.
func run(args ...string) (code int, stdout, stderr string) {
	var out, err bytes.Buffer
	code = Run(append([]string{"proudsieve"}, args...), &out, &err)
	return code, out.String(), err.String()
}

// write puts a file into the test's directory and returns its path.
func write(t *testing.T, name, content string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func demoFile(t *testing.T, name string) string {
	t.Helper()
	raw, err := demo.Files.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return write(t, filepath.Base(name), string(raw))
}

const book = `dataset: samples
columns:
  - {name: sample}
  - {name: value, type: decimal, required: true}
keys:
  - {id: one_sample, columns: [sample]}
pass_mark: 60
`

func TestSiftForPrograms(t *testing.T) {
	code, out, stderr := run("sift", demoFile(t, "data/highgarth_results.csv"), "--rules",
		demoFile(t, "rulebooks/highgarth_results.yaml"), "--json")
	if code != 1 || stderr != "" {
		t.Fatalf("exit %d, %s", code, stderr)
	}
	var result struct {
		File    struct{ SHA256 string }
		Rows    int64
		Defects []struct {
			Line int64
			Kind string
		}
		Columns []struct {
			Name, Type                                             string
			Filled, Missing, Distinct                              int64
			Score, Completeness, Validity, Uniqueness, Consistency float64
		}
		Findings []struct {
			Rule, Severity string
			Columns        []string
			Rows           int64
			FirstRows      []uint32 `json:"first_rows"`
		}
		Score  float64
		Passed bool
	}
	decoder := json.NewDecoder(strings.NewReader(out))
	if err := decoder.Decode(&result); err != nil {
		t.Fatal(err)
	}
	if result.File.SHA256 != "" || result.Rows != 3000 || result.Defects == nil || len(result.Columns) != 9 ||
		len(result.Findings) != 17 || result.Score != 92 || result.Passed {
		t.Errorf("%+v", result)
	}
	if c := result.Columns[4]; c.Name != "value" || c.Type != "decimal" || c.Filled != 2975 || c.Missing != 25 ||
		c.Score != 98.5 {
		t.Errorf("%+v", c)
	}
	for _, f := range result.Findings {
		if f.Rows == 0 || len(f.FirstRows) == 0 || f.Severity == "" || f.Columns == nil {
			t.Errorf("%+v", f)
		}
	}
	_, eight, _ := run("sift", demoFile(t, "data/highgarth_results.csv"), "--rules",
		demoFile(t, "rulebooks/highgarth_results.yaml"), "--json", "--workers", "8")
	_, one, _ := run("sift", demoFile(t, "data/highgarth_results.csv"), "--rules",
		demoFile(t, "rulebooks/highgarth_results.yaml"), "--json", "--workers", "1")
	if one != eight || one != out {
		t.Error("the number of workers can be seen in the output")
	}
}

func TestLookShowsHowAFileIsReadAndWhy(t *testing.T) {
	path := write(t, "f.csv", "notes of May\nsample;value;day\nS1;1,5;29/02/2024\nS2;2,5;01/03/2024\nS3;;02/03/2024\n")
	code, out, stderr := run("look", path)
	if code != 0 {
		t.Fatalf("exit %d, %s", code, stderr)
	}
	for _, want := range []string{"4 records: 3 rows and 1 line set aside, in 3 columns.", "semicolon", "comma",
		"line 2", "dd/MM/yyyy", `row 1: "29/02/2024" can only be read so`, "S3"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	code, out, _ = run("look", path, "--rows", "all", "--json")
	if want := "{\"sample\":\"S1\",\"value\":\"1,5\",\"day\":\"29/02/2024\"}\n{\"sample\":\"S2\",\"value\":\"2,5\",\"day\":\"01/03/2024\"}\n{\"sample\":\"S3\",\"value\":null,\"day\":\"02/03/2024\"}\n"; code != 0 || out != want {
		t.Errorf("exit %d\n%s", code, out)
	}
	if _, out, _ = run("look", path, "--rows", "1", "--json"); strings.Count(out, "\n") != 1 {
		t.Errorf("one row is\n%s", out)
	}
	code, out, _ = run("look", path, "--json", "--delimiter", ",", "--header-line", "1")
	if code != 0 || !strings.Contains(out, `"name": "notes of May"`) {
		t.Errorf("with options: exit %d\n%s", code, out)
	}
	if code, _, stderr = run("look", path, "--encoding", "ebcdic"); code != 2 ||
		!strings.Contains(stderr, "--encoding") {
		t.Errorf("a wrong option: exit %d, %s", code, stderr)
	}
	code, out, _ = run("look", write(t, "bad.csv", "a,b\n1\n2,3,4\n"), "--rows", "all", "--json")
	if code != 0 || !strings.Contains(out, `{"a":"2","b":"3","cells beyond the columns":["4"]}`) {
		t.Errorf("with cells beyond the columns: exit %d\n%s", code, out)
	}
}

func TestSiftShowsTheWholeProfile(t *testing.T) {
	code, out, stderr := run("sift", demoFile(t, "data/visits.csv"), "--between", "--digest")
	if code != 0 {
		t.Fatalf("exit %d, %s", code, stderr)
	}
	for _, want := range []string{"SHA-256 ", "identifier", "measure", "14 cells of crew have stray spaces",
		"1,483 of 1,500 rows are complete.", "17 rows lack water_temperature.",
		"visit names nearly every row: 8 surplus", "water_temperature  flow"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	code, out, _ = run("sift", demoFile(t, "data/visits.csv"), "--column", "flow")
	for _, want := range []string{"flow  measure, decimal", "median", "deviation", "fences at", "Most frequent",
		"Lengths from"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("exit %d, %q is not in\n%s", code, want, out)
		}
	}
	if code, _, stderr = run("sift", demoFile(t, "data/visits.csv"), "--column", "flwo"); code != 2 ||
		!strings.Contains(stderr, `did you mean "flow"`) {
		t.Errorf("a misspelt column: exit %d, %s", code, stderr)
	}
}

func TestSiftForPeople(t *testing.T) {
	code, out, _ := run("sift", "--rules", write(t, "r.yaml", book),
		write(t, "f.csv", "sample,value\nS1,1\nS1, \nS2 ,3\nS3,4\n"))
	if code != 1 {
		t.Errorf("exit %d", code)
	}
	for _, want := range []string{"4 records: 4 rows and 0 lines set aside, in 2 columns.",
		"Fell short: score 75.00, pass mark 60.00.", "one_sample",
		"1 of 4 rows is surplus: 1 value of sample occurs more than once.", "1 of 4 rows has nothing in value.", "‖",
		"□", "· nothing wrong"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	code, out, _ = run("sift", write(t, "f.csv", "sample;value\nS1;1,5\nS2;2,5\n"))
	if code != 0 || strings.Contains(out, "Fell short") || !strings.Contains(out, "decimal") {
		t.Errorf("without rules: exit %d\n%s", code, out)
	}
	code, out, _ = run("sift", write(t, "f.csv", "a,b\n1\n2,3,4\n"))
	if code != 0 || !strings.Contains(out, "2 defects in the bytes") || !strings.Contains(out, "too_many_cells") {
		t.Errorf("with defects: exit %d\n%s", code, out)
	}
}

func TestBadInputOnTheCommandLine(t *testing.T) {
	good := write(t, "good.csv", "sample,value\nS1,1\n")
	rules := write(t, "rules.yaml", book)
	misspelt := write(t, "misspelt.yaml", strings.Replace(book, "columns:", "colums:", 1))
	for _, c := range []struct {
		name string
		args []string
		code int
		want string
	}{
		{"no such file", []string{"sift", "/none/such.csv"}, 2, "/none/such.csv: there is no such file"},
		{"a directory", []string{"sift", t.TempDir()}, 2, "is a directory; name a file in it"},
		{"an empty file", []string{"sift", write(t, "empty.csv", "")}, 2, "the file is empty"},
		{"a binary file", []string{"sift", write(t, "binary.csv", "\x7fELF\x00\x00\x01")}, 2, "not delimited text"},
		{"a binary file with rules", []string{"sift", write(t, "binary.csv", "\x7fELF\x00\x00\x01"), "--rules", rules},
			2, "not delimited text"},
		{"no such rulebook", []string{"sift", good, "--rules", "/none/such.yaml"}, 2,
			"/none/such.yaml: there is no such file"},
		{"a misspelt key", []string{"sift", good, "--rules", misspelt}, 2,
			`misspelt.yaml:2:1: a rulebook has no "colums"; did you mean "columns"?`},
		{"a wrong type", []string{"sift", write(t, "typed.csv", "sample,value\nS1,one\nS2,2\nS3,3\n"), "--rules",
			rules}, 0, ""},
		{"a column that is not there", []string{"sift", write(t, "lacking.csv", "sample\nS1\n"), "--rules", rules}, 1,
			""},
		{"no file at all", []string{"sift"}, 2, "proudsieve sift takes FILE; 0 given"},
		{"no workers", []string{"sift", good, "--workers", "0"}, 2, "--workers is at least 1"},
		{"no such option", []string{"sift", good, "--colour"}, 2, "see: proudsieve sift --help"},
		{"no such command", []string{"sieve"}, 2, `there is no command "sieve"`},
		{"no such verb", []string{"dataset", "remove"}, 2,
			`proudsieve dataset has no command "remove"; it has list, show, add`},
		{"a bad rulebook, checked", []string{"rulebook", "check", misspelt}, 2, "did you mean"},
		{"a good rulebook, checked", []string{"rulebook", "check", rules}, 0, ""},
		{"a certificate that is not there", []string{"certificate", "verify", good, "/none.jws", "--key", "/none.json"},
			2, "no such file"},
	} {
		code, _, stderr := run(c.args...)
		if code != c.code || !strings.Contains(stderr, c.want) {
			t.Errorf("%s: exit %d, %q, want %d with %q", c.name, code, stderr, c.code, c.want)
		}
	}
}

func TestTalkingToAService(t *testing.T) {
	r := servicetest.Start(t, nil)
	t.Setenv("PROUDSIEVE_SERVER", r.URL)
	t.Setenv("PROUDSIEVE_TOKEN", r.Steward.Token)
	file := write(t, "samples.csv", "sample,value\nS1,1\nS1,2\nS2,3\nS3,\n")
	expect := func(code int, want string, args ...string) string {
		t.Helper()
		got, out, stderr := run(args...)
		if got != code || !strings.Contains(out+stderr, want) {
			t.Errorf("%v: exit %d, want %d with %q\n%s%s", args, got, code, want, out, stderr)
		}
		return out
	}
	expect(0, "There are no datasets yet. Save a rulebook with: proudsieve rulebook save FILE", "dataset", "list")
	expect(0, "Nothing has been audited yet", "audit", "list")
	expect(0, "No issue is unsettled.", "issue", "list")
	expect(0, "Nothing has been certified yet.", "certificate", "list")
	expect(0, "Version 1 of the rulebook samples is the newest.", "rulebook", "save", write(t, "r.yaml", book))
	expect(0, "dataset: samples", "rulebook", "show", "samples", "samples")
	expect(1, "Fell short: score 50.00", "delivery", "add", "samples", file, "--provider", "the laboratory")
	expect(0, "arrived before, as delivery 1", "delivery", "add", "samples", file)
	expect(0, "50.00", "delivery", "list", "samples")
	expect(0, "one_sample", "table", "rows", "1", "--rule", "one_sample")
	expect(0, "Fell short: its score is 50.00", "table", "show", "1")
	expect(0, "1 of 4 rows is surplus", "issue", "list", "--dataset", "samples")
	issues := expect(0, `"rule": "one_sample"`, "issue", "list", "--json")
	var listed []struct {
		ID   int64
		Rule string
	}
	if err := json.Unmarshal([]byte(issues), &listed); err != nil || len(listed) != 2 {
		t.Fatalf("%v\n%s", err, issues)
	}
	number := fmt.Sprint(listed[0].ID)
	expect(0, "assigned to Jonas", "issue", "assign", number, "Jonas")
	expect(0, "asked", "issue", "ask", number)
	expect(0, "Which of the two?", "issue", "comment", number, "Which of the two?")
	expect(0, "by Mara, for 1 row of 4, until 2099-01-01: meant that way", "issue", "waive", number, "--reason", "meant that way", "--until",
		"2099-01-01")
	expect(2, "Required flag", "issue", "waive", number, "--until", "2099-01-01")
	plan := "fix_plan: clean\ndataset: samples\nsteps:\n  - {do: keep_one, columns: [sample], survivor: latest_row, reason: The later one counts.}\n"
	expect(0, "Version 1 of the fix plan clean", "fix-plan", "save", write(t, "p.yaml", plan))
	expect(0, "Score 50.00, would be 66.67", "fix-plan", "preview", "1", "clean")
	expect(0, "The cleaned table is table 2", "fix-plan", "apply", "1", "clean")
	target := filepath.Join(t.TempDir(), "cleaned.csv")
	expect(0, "", "table", "download", "2", target)
	if raw, err := os.ReadFile(target); err != nil || string(raw) != "sample,value\nS1,2\nS2,3\nS3,\n" {
		t.Errorf("%q, %v", raw, err)
	}
	expect(0, "score", "audit", "start", "2")
	expect(1, "Mara applied the fixes", "certificate", "obstacles", "2")
	expect(2, "is a steward, and this needs the right to certify", "certificate", "issue", "2")
	t.Setenv("PROUDSIEVE_TOKEN", r.Certifier.Token)
	expect(0, "Certificate 1 of table 2 is signed by Jonas.", "certificate", "issue", "2")
	certificate, key := filepath.Join(t.TempDir(), "c.jws"),
		write(t, "key.json", expect(0, "Ed25519", "certificate", "key"))
	expect(0, "", "certificate", "save", "1", certificate)
	expect(0, "Certified:", "certificate", "verify", target, certificate, "--key", key)
	expect(1, "Not certified: the table is not the one that was certified", "certificate", "verify", file, certificate,
		"--key", key)
	expect(0, "certified", "history")
	expect(0, "audit", "job", "list")
	expect(2, "there is no table 99", "table", "show", "99")
	expect(2, `"x" is not the number of an issue`, "issue", "assign", "x", "Jonas")
	t.Setenv("PROUDSIEVE_TOKEN", r.Admin.Token)
	secret := filepath.Join(t.TempDir(), "token")
	expect(0, "Otto (reader) may come in.", "person", "add", "Otto", "reader", "--to", secret)
	if info, err := os.Stat(secret); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	expect(0, "Otto is kept out.", "person", "disable", "Otto")
	expect(0, "Otto may come in again.", "person", "enable", "Otto")
	expect(0, "All tokens of Otto have ended, and a new one is made.", "person", "reset", "Otto")
	expect(0, "Otto", "person", "list")
	expect(2, "there is a person \"Otto\" already", "person", "add", "Otto", "steward")
	expect(0, "for administrator (administrator) is made.", "token", "add", "--note", "for a script")
	expect(0, "Token 5 has ended.", "token", "end", "5")
	expect(0, "(steward) is made, for samples alone.", "token", "add", "--as", "steward", "--dataset", "samples", "--days", "3")
	expect(2, "say as whom else", "token", "add", "--dataset", "samples")
	expect(0, "Otto comes in by the provider as well.", "person", "link", "Otto", "https://id.example otto-1")
	expect(0, "No database is declared.", "database", "list")
	expect(2, "Required flags \"engine, host, database, login\" not set", "database", "add", "lake")
	expect(0, "Database lake is declared.", "database", "add", "lake", "--engine", "postgresql", "--host", "127.0.0.1", "--port", "1", "--database", "vale", "--login", "sieve", "--rows", "5000")
	expect(0, "5,000", "database", "list")
	expect(2, "database lake was not reached", "database", "try", "lake")
	expect(2, "could not be reached", "database", "tables", "lake")
	expect(2, "--table is SCHEMA.TABLE", "delivery", "take", "samples", "lake", "--table", "results")
	expect(2, "either a table of the database or a query", "delivery", "take", "samples", "lake")
	expect(2, "nothing was kept", "delivery", "take", "samples", "lake", "--query", "SELECT 1")
	expect(2, "could not be reached", "delivery", "take", "samples", "lake", "--query", "SELECT 2", "--in-place")
	expect(2, "could not be reached", "delivery", "take", "samples", "lake", "--query", "SELECT 2", "--in-place", "--foresee")
	expect(2, "give both", "delivery", "take", "samples", "lake", "--query", "SELECT 2", "--foresee")
	expect(0, "It was judged here, by reading its rows.", "audit", "asked", "1")
	expect(0, "lake: SELECT 1", "delivery", "fetches", "samples")
	expect(0, "Nothing more is taken from lake.", "database", "remove", "lake")
	expect(0, "Every host is asked without a credential.", "credential", "list")
	expect(0, "no other host is told of it", "credential", "add", "lab.example", "--header", "Authorization", "--secret", "lab-key")
	expect(0, "lab-key", "credential", "list")
	expect(0, "is asked without a credential.", "credential", "remove", "lab.example")
	expect(0, "Otto", "token", "list")
	expect(0, "The newest 3 deliveries of", "dataset", "keep", "samples", "3")
	expect(0, "All deliveries of samples are kept.", "dataset", "keep", "samples", "all")
	expect(2, "\"some\" is not the number of deliveries to keep", "dataset", "keep", "samples", "some")
	expect(0, "Delivery 1 is withdrawn, and counts no more.", "delivery", "withdraw", "1", "--reason",
		"the file of another month")
	expect(2, "was withdrawn before", "delivery", "withdraw", "1", "--reason", "again")
	expect(0, "the file of another month", "table", "show", "1")
	t.Setenv("PROUDSIEVE_TOKEN", "ps_guessed")
	expect(2, "needs somebody who is signed in", "dataset", "list")
	t.Setenv("PROUDSIEVE_SERVER", "http://127.0.0.1:1")
	expect(2, "the service at http://127.0.0.1:1 does not answer", "dataset", "list")
	t.Setenv("PROUDSIEVE_TOKEN", "")
	t.Setenv("PROUDSIEVE_TOKEN_FILE", "/none/such")
	expect(2, "reading the token", "dataset", "list")
}

func TestFetchingOnTheCommandLine(t *testing.T) {
	r := servicetest.Start(t, func(o *service.Options) { o.FetchPrivate = true })
	provider := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		w.Header().Set("ETag", `"1"`)
		if q.Header.Get("If-None-Match") != "" {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		_, _ = io.WriteString(w, "sample,value\nS1,1\n")
	}))
	defer provider.Close()
	t.Setenv("PROUDSIEVE_SERVER", r.URL)
	t.Setenv("PROUDSIEVE_TOKEN", r.Steward.Token)
	if code, _, stderr := run("rulebook", "save", write(t, "r.yaml", book)); code != 0 {
		t.Fatal(stderr)
	}
	for _, c := range []struct {
		args string
		code int
		says string
	}{
		{"delivery fetches samples", 0, "Nothing is fetched for this dataset"},
		{"delivery fetch samples " + provider.URL + "/may.csv --every 24h --provider laboratory", 0,
			"Delivery 1 of samples is kept"},
		{"delivery fetch-again 1", 0, "Nothing is new there."},
		{"delivery fetches samples", 0, "every 24h0m0s"},
		{"delivery list samples", 0, "may.csv"},
		{"delivery fetch-end 1", 0, "Nothing more is fetched from there."},
		{"delivery fetch-again 1", 2, "has ended"},
		{"delivery fetch samples " + provider.URL + "/may.csv --every 3s", 2, "--every is at least a minute"},
		{"delivery fetch samples nonsense", 2, "no web address"},
		{"delivery fetch nothing " + provider.URL, 2, `no dataset "nothing"`},
	} {
		code, out, stderr := run(strings.Fields(c.args)...)
		if code != c.code || !strings.Contains(out+stderr, c.says) {
			t.Errorf("%s: exit %d\n%s%s\nwant exit %d and %q", c.args, code, out, stderr, c.code, c.says)
		}
	}
}

func TestTheTour(t *testing.T) {
	code, out, stderr := run("tour")
	if code != 0 {
		t.Fatalf("exit %d: %s\n%s", code, stderr, out)
	}
	for _, want := range []string{"All planted defects were found.", "issues were opened", "is waived by Mara Quill",
		"The ledger adds up.", "The merge adds up.",
		"Refused to the steward: Mara Quill applied the fixes", "is signed by Jonas Fell",
		"The certificate verifies against", "With one byte changed, it no longer does."} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	planted, err := demo.PlantedDefects()
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range planted {
		if !strings.Contains(out, p.Defect) {
			t.Errorf("the tour does not show %q", p.Defect)
		}
	}
}

func TestHowThingsAreWritten(t *testing.T) {
	for v, want := range map[float64]string{100: "100", 0: "0", 99.999: "99.99", 0.0001: "0.01", 92: "92.00",
		33.333: "33.33"} {
		if got := percent(v); got != want {
			t.Errorf("%v is written %s, want %s", v, got, want)
		}
	}
	for text, want := range map[string]string{"": "", "PH": "PH", " PH": "␣PH", "PH ": "PH␣", "a  b": "a␣␣b",
		"   ": "␣␣␣", "a b": "a b"} {
		if got := visible(text); got != want {
			t.Errorf("%q is shown as %q, want %q", text, got, want)
		}
	}
	for text, want := range map[string]string{"short": "short", strings.Repeat("x", 70): strings.Repeat("x", 9) + "…"} {
		if got := shorten(text, 10); got != want {
			t.Errorf("%q is shortened to %q, want %q", text, got, want)
		}
	}
}

func TestNoValueCommandsTheTerminal(t *testing.T) {
	var out bytes.Buffer
	o := &output{out: &out}
	g := newGrid(append([]string{"text"}, safeHeads([]string{">n", "*x", "a\x1bb"})...)...)
	g.add("two\nlines", "\x1b[31mred", "\x07\x7f\u009b", "plain")
	o.grid(g, "")
	if got, want := out.String(), "text        >n        *x   a␛b\ntwo␊lines  ␛[31mred  ␇␡�  plain\n"; strings.Join(
		strings.Fields(got), " ") != strings.Join(strings.Fields(want), " ") || strings.ContainsAny(got, "\x1b\x07") {
		t.Errorf("%q", got)
	}
	code, printed, _ := run("sift", write(t, "f.csv", "a\x1b[2J,b\n\"x\ny\",\x1b]0;title\x07\n"))
	if code != 0 || strings.ContainsAny(printed, "\x1b\x07") || !strings.Contains(printed, "x␊y") {
		t.Errorf("exit %d\n%q", code, printed)
	}
}

func TestAMeshStripInTheTerminal(t *testing.T) {
	o := &output{}
	m := audit.Mesh{Cells: 4, Caught: map[rulebook.Dimension][]uint32{rulebook.Completeness: {1, 0, 0, 0},
		rulebook.Validity: {2, 0, 0, 1}, rulebook.Uniqueness: {0, 0, 5, 0}}}
	if got := o.strip(m, 24); got != "▨·‖▨" {
		t.Errorf("%q", got)
	}
	if got := o.strip(m, 2); got != "▨‖" {
		t.Errorf("at half the width %q", got)
	}
	if got := o.strip(audit.Mesh{}, 24); got != "" {
		t.Errorf("without rows %q", got)
	}
	coloured := &output{colour: true}
	if got := coloured.strip(m, 4); !strings.Contains(door(got, true), "\x1b[31m▨") || visibleLength(got) != 4 {
		t.Errorf("in colour %q", got)
	}
}

func TestNoTextCommandsTheTerminalOrBreaksALine(t *testing.T) {
	var out strings.Builder
	o := &output{out: &out, colour: true}
	evil := "a\x1b[2Jb\nc\rd\x07\u009b31m\u202ee\x1b]0;title\x07"
	o.line("%s and %v in %s", evil, errors.New(evil), o.styled("1", evil))
	g := newGrid("name", ">n")
	g.add(evil, "1")
	o.grid(g, "")
	text := out.String()
	for _, bad := range []string{"\x1b[2J", "\r", "\x07", "\u009b", "\u202e", "\x1b]"} {
		if strings.Contains(text, bad) {
			t.Errorf("%q reaches the terminal in %q", bad, text)
		}
	}
	if strings.Count(text, "\n") != 3 || !strings.Contains(text, "\x1b[1m") || !strings.Contains(text, "␛[2Jb␊c␍d␇") {
		t.Errorf("%q", text)
	}
	// Nobody outside knows the mark by which our own styles are known.
	out.Reset()
	o.line("%s", "\x1b0123456789abcdef31mred")
	if strings.Contains(out.String(), "\x1b") {
		t.Errorf("%q", out.String())
	}
}

func TestColumnsAreAsWideAsTheTerminalShowsThem(t *testing.T) {
	var out strings.Builder
	o := &output{out: &out}
	g := newGrid("place", "n")
	g.add("水文站", "1")
	g.add("abcdef", "2")
	g.add("e\u0301tang", "3")
	g.add(strings.Repeat("水", 60), "4")
	o.grid(g, "")
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	for _, line := range lines {
		if at, want := visibleLength(line[:len(line)-1]), visibleLength(lines[0])-1; at != want {
			t.Errorf("the second column begins at %d, want %d: %q", at, want, line)
		}
	}
}
