package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A plan in a file is tried on a file without a service: shown, or written with its log and metadata beside it.
func TestAPlanIsTriedOnAFile(t *testing.T) {
	rules := write(t, "rules.yaml", "dataset: d\nreading: {delimiter: \";\", decimal_mark: \",\"}\ncolumns: [{name: a, required: true}, {name: n, type: decimal}]\nmeasures: [n]\npass_mark: 100\n")
	plan := write(t, "plan.yaml", "fix_plan: p\ndataset: d\nsteps:\n  - {do: trim, columns: [a], reason: Spaces.}\n  - {do: set_aside, where: a = 'TOTAL', reason: No record.}\n")
	file := write(t, "in.csv", "a;n\nx ;1,5\nTOTAL;1,5\n")
	code, out, stderr := run("fix-plan", "try", file, "--rules", rules, "--plan", plan)
	for _, want := range []string{"Nothing has been done yet. The plan would change 2 cells and rows", "handed over", "leaves the table"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("exit %d, no %q in\n%s%s", code, want, out, stderr)
		}
	}
	into := filepath.Join(t.TempDir(), "cleaned.csv")
	if code, out, stderr = run("fix-plan", "try", file, "--rules", rules, "--plan", plan, "--into", into); code != 0 {
		t.Fatalf("exit %d\n%s%s", code, out, stderr)
	}
	for path, want := range map[string]string{into: "a,n\nx,\"1,5\"\n", strings.TrimSuffix(into, ".csv") + "_changes.jsonl": `"old":"x ","new":"x","reason":"Spaces."`,
		into + "-metadata.json": "urn:proudsieve:table-reading"} {
		if raw, err := os.ReadFile(path); err != nil || !strings.Contains(string(raw), want) {
			t.Errorf("%s: %s, %v; want %q", path, raw, err, want)
		}
	}
	if code, out, stderr = run("sift", into, "--rules", rules); code != 0 { // it passes its own rulebook anywhere
		t.Errorf("exit %d\n%s%s", code, out, stderr)
	}
	wrong := write(t, "wrong.yaml", "fix_plan: p\ndataset: d\nsteps:\n  - {do: set_cell, key: {n: \"1,5\"}, column: a, to: x, reason: r}\n")
	other := filepath.Join(t.TempDir(), "other.csv")
	if code, _, stderr = run("fix-plan", "try", file, "--rules", rules, "--plan", wrong, "--into", other); code != 2 || !strings.Contains(stderr, "write rows: 2") {
		t.Errorf("exit %d, %s", code, stderr)
	}
	if left, err := filepath.Glob(filepath.Dir(other) + "/*"); err != nil || len(left) != 0 {
		t.Errorf("what was refused left %v", left)
	}
}
