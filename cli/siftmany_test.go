package cli

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// Of several files each gets a line; the exit status is that of the worst.
func TestSiftOfSeveralFiles(t *testing.T) {
	good, short := write(t, "good.csv", "a,n\nx,1\ny,2\n"), write(t, "short.csv", "a,n\nx,1\nx,2\n")
	rules := write(t, "rules.yaml", "dataset: d\ncolumns: [{name: a}, {name: n, type: integer}]\nkeys: [{id: one, columns: [a]}]\n")
	for _, c := range []struct {
		files []string
		code  int
		says  []string
	}{
		{[]string{good, good}, 0, []string{"good.csv", "100", "yes"}},
		{[]string{good, short}, 1, []string{"1 of 2 rows is surplus"}},
		{[]string{good, "/nowhere.csv", short}, 2, []string{"could not be read", "1 of 2 rows is surplus"}},
	} {
		code, out, _ := run(append([]string{"sift", "--rules", rules}, c.files...)...)
		if code != c.code || strings.Count(out, "\n") != len(c.files)+1 {
			t.Errorf("%v: exit %d\n%s", c.files, code, out)
		}
		for _, says := range c.says {
			if !strings.Contains(out, says) {
				t.Errorf("%v: no %q in\n%s", c.files, says, out)
			}
		}
	}
	var results []struct{ Rows int }
	if code, out, _ := run("sift", good, short, "--json"); code != 0 || json.Unmarshal([]byte(out), &results) != nil || len(results) != 2 ||
		results[1].Rows != 2 {
		t.Errorf("exit %d, %s", code, out)
	}
}

func TestSiftOfTheStandardInput(t *testing.T) {
	in, err := os.Open(write(t, "in.csv", "a,n\nx,1\ny,2\nz,3\n"))
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	before := os.Stdin
	os.Stdin = in
	defer func() { os.Stdin = before }()
	if code, out, stderr := run("sift", "-"); code != 0 || !strings.Contains(out, "3 records: 3 rows") {
		t.Errorf("exit %d\n%s%s", code, out, stderr)
	}
}
