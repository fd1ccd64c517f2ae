package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
)

// A table of ours passes its rulebook outside the service, whose reading is that of deliveries: its own goes with it.
func TestATableOfOursIsReadAsItsMetadataSay(t *testing.T) {
	const source = "dataset: d\nreading: {delimiter: \";\", decimal_mark: \",\", dates: [dd.MM.yyyy]}\n" +
		"columns: [{name: n, type: decimal, required: true}, {name: day, type: date, required: true}]\n"
	rules := write(t, "rules.yaml", source)
	cleaned := write(t, "cleaned.csv", "n,day\n1.5,2024-05-31\n2.25,2024-06-01\n")
	if code, out, _ := run("sift", cleaned, "--rules", rules); code != 1 {
		t.Errorf("exit %d without metadata\n%s", code, out)
	}
	book, err := rulebook.Parse([]byte(source))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(cleaned+csvw.Suffix, csvw.OfTable(book, rulebook.TableReading{}, nil, "cleaned.csv"), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, stderr := run("sift", cleaned, "--rules", rules); code != 0 || !strings.Contains(out, "Read as its metadata beside it say") {
		t.Errorf("exit %d with them\n%s%s", code, out, stderr)
	}
	// A table that no step put in standard form is read by what its metadata say of each column.
	own := write(t, "own.csv", "n,day\n\"1,5\",31.05.2024\n")
	reading := rulebook.TableReading{Columns: map[string]rulebook.Written{"n": {DecimalMark: ","}, "day": {Dates: []string{"dd.MM.yyyy"}}}}
	if err := os.WriteFile(own+csvw.Suffix, csvw.OfTable(book, reading, nil, "own.csv"), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, stderr := run("sift", own, "--rules", rules); code != 0 {
		t.Errorf("exit %d\n%s%s", code, out, stderr)
	}
	if code, out, stderr := run("tally", cleaned, "--rules", rules, "--measure", "sum n", "--measure", "lowest day"); code != 0 || !strings.Contains(out, "3.75  2024-05-31") {
		t.Errorf("a tally of it: exit %d\n%s%s", code, out, stderr)
	}
}

// A table with estimates is read with the marks beside it, and not without them, or with others.
func TestATableIsNotReadWithoutItsMarks(t *testing.T) {
	rules := write(t, "rules.yaml", "dataset: d\ncolumns: [{name: site, required: true}, {name: flow, type: decimal, required: true}]\npass_mark: 60\n")
	plan := write(t, "plan.yaml", "fix_plan: p\ndataset: d\nsteps:\n  - {do: estimate, column: flow, method: nearest_rows, alike_in: [site], neighbours: 1, draws: 3, reason: The logger was out.}\n")
	file := write(t, "in.csv", "site,flow\nA,1\nA,\nB,3\n")
	into := filepath.Join(t.TempDir(), "out.csv")
	if code, out, errs := run("fix-plan", "try", file, "--rules", rules, "--plan", plan, "--into", into); code != 0 ||
		!strings.Contains(out, "1 cell of the table is an estimate, marked as such.") || !strings.Contains(out, "out_draws.parquet") {
		t.Fatalf("exit %d\n%s%s", code, out, errs)
	}
	if code, out, _ := run("sift", into, "--rules", rules); code != 0 || !strings.Contains(out, "1 of 3 rows has nothing in flow but an estimate.") {
		t.Errorf("exit %d\n%s", code, out)
	}
	marks := strings.TrimSuffix(into, ".csv") + "_marks.jsonl"
	raw, err := os.ReadFile(marks)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(marks, append(raw, raw...), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run("sift", into, "--rules", rules); code != 2 || !strings.Contains(errs, "is not the file that says which cells") {
		t.Errorf("exit %d with other marks: %s", code, errs)
	}
	if err := os.Remove(marks); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run("sift", into, "--rules", rules); code != 2 || !strings.Contains(errs, "must stand beside it") {
		t.Errorf("exit %d without marks: %s", code, errs)
	}
}
