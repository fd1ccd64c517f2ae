package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// every visits each command that does something, with the words that it is called by.
func every(c *cli.Command, words []string, visit func(words []string, c *cli.Command)) {
	for _, sub := range c.Commands {
		if sub.Name == "help" {
			continue
		}
		called := append(slices.Clone(words), sub.Name)
		if len(sub.Commands) == 0 {
			visit(called, sub)
		}
		every(sub, called, visit)
	}
}

func TestEveryCommandSaysWhatItIsForAndHowItIsCalled(t *testing.T) {
	plain := regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`)
	commands := 0
	every(application(io.Discard, io.Discard), nil, func(words []string, c *cli.Command) {
		commands++
		called := strings.Join(words, " ")
		for _, word := range words {
			if !plain.MatchString(word) {
				t.Errorf("%s: a command is called by lower-case words", called)
			}
		}
		if c.Usage == "" || strings.HasSuffix(c.Usage, ".") || strings.ToLower(c.Usage[:1]) != c.Usage[:1] {
			t.Errorf("%s is for %q", called, c.Usage)
		}
		code, out, _ := run(append(words, "--help")...)
		if code != 0 || !strings.Contains(out, c.Usage) || c.ArgsUsage != "" && !strings.Contains(out, c.ArgsUsage) {
			t.Errorf("%s --help: exit %d\n%s", called, code, out)
		}
		for _, f := range c.Flags {
			if name := f.Names()[0]; !plain.MatchString(name) || !strings.Contains(out, "--"+name) {
				t.Errorf("%s has an option %q that its help does not show", called, name)
			}
		}
	})
	if commands < 50 {
		t.Errorf("only %d commands were found", commands)
	}
}

// Whoever calls a command wrongly is told in one line what to do, and nothing happens.
func TestEveryCommandAnswersWrongUse(t *testing.T) {
	t.Setenv("PROUDSIEVE_SERVER", "http://127.0.0.1:1") // nobody is there, and nobody is asked
	t.Setenv("PROUDSIEVE_TOKEN", "ps_x")
	every(application(io.Discard, io.Discard), nil, func(words []string, c *cli.Command) {
		called := strings.Join(words, " ")
		for what, args := range map[string][]string{
			"an option that there is not": append(slices.Clone(words), "--colour-of-money"),
			"too many arguments":          append(slices.Clone(words), slices.Repeat([]string{"x"}, 9)...),
		} {
			switch called {
			case "openapi", "rulebook propose", "sift":
				if what == "too many arguments" {
					continue // it takes as many as there are
				}
			}
			code, out, stderr := run(args...)
			if code != exitFailed || out != "" || strings.Count(stderr, "\n") != 1 ||
				!strings.HasPrefix(stderr, "proudsieve: ") || strings.Contains(stderr, "does not answer") {
				t.Errorf("%s with %s: exit %d\n%s%s", called, what, code, out, stderr)
			}
		}
	})
	for _, c := range []struct{ args, says string }{
		{"audti", `there is no command "audti"`},
		{"dataset lst", `proudsieve dataset has no command "lst"; it has list`},
		{"table rows", "takes"},
		{"table show x", `"x" is not the number of`},
		{"table show -5", "not"},
	} {
		if code, _, stderr := run(strings.Fields(c.args)...); code != exitFailed || !strings.Contains(stderr, c.says) {
			t.Errorf("%s: exit %d, %s", c.args, code, stderr)
		}
	}
}

const (
	northBook = "dataset: north\ncolumns:\n  - {name: station, required: true}\n  - {name: flow, type: decimal}\n" +
		"measures: [flow]\npass_mark: 0\n"
	tidyPlan   = "fix_plan: tidy_north\ndataset: north\nsteps:\n  - {do: remove_equal_rows, reason: Sent twice.}\n"
	bothMerge  = "merge: both\nstack: [north, south]\njoin:\n  - {with: places, match: [station], take: [river]}\n"
	placesBook = "dataset: places\ncolumns:\n  - {name: station}\n  - {name: river}\nkeys:\n  - {id: one, columns: [station]}\n"
)

// The way from deliveries to a merged table by commands alone. The numbers are worked out by
// hand: north hands over 2 of its 3 rows, flow 3.5 of 5; south 1 row without a flow.
func TestMergingOnTheCommandLine(t *testing.T) {
	r := servicetest.Start(t, nil)
	t.Setenv("PROUDSIEVE_SERVER", r.URL)
	t.Setenv("PROUDSIEVE_TOKEN", r.Steward.Token)
	do := func(code int, args string, want ...string) string {
		t.Helper()
		got, out, stderr := run(strings.Fields(args)...)
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
	do(0, "job list", "There are no jobs.")
	do(0, "merge list", "merge")
	do(0, "rulebook save "+write(t, "n.yaml", northBook), "Version 1")
	do(0, "rulebook save "+write(t, "s.yaml", "dataset: south\ncolumns: [{name: station}]\npass_mark: 0\n"))
	do(0, "rulebook save "+write(t, "p.yaml", placesBook))
	do(0, "delivery add north "+write(t, "n.csv", "station,flow\nS1,1.5\nS2,2\nS1,1.5\n"), "Passed")
	do(0, "delivery add south "+write(t, "s.csv", "station\nS2\n"))
	do(0, "delivery add places "+write(t, "p.csv", "station,river\nS1,Alder\nS2,Brook\nS3,Vale\n"))
	do(0, "fix-plan save "+write(t, "f.yaml", tidyPlan))
	do(0, "fix-plan preview 1 tidy_north", "Nothing has been done yet.", "1 remove_equal_rows", "Sent twice.")
	do(0, "fix-plan apply 1 tidy_north", "handed over", "The cleaned table is table 4")
	do(0, "merge save "+write(t, "m.yaml", bothMerge), "Version 1 of the merge both")
	do(2, "merge run both --version 7", "version 7")
	do(2, "merge run neither", "neither")
	do(2, "merge run both", "apply a fix plan to its newest delivery first")
	for i, dataset := range []string{"south", "places"} {
		do(0, "fix-plan save "+write(t, "f.yaml", "fix_plan: as_is_"+dataset+"\ndataset: "+dataset+"\nsteps: []\n"))
		do(0, "fix-plan apply "+[]string{"2", "3"}[i]+" as_is_"+dataset, "The cleaned table is table")
	}
	out := do(0, "merge run both", "The merged table is table 7", "The column flow is missing in south; its cells are empty there.",
		"Of 3 rows, 3 met a row of places by station, 0 did not; 0 were set aside, 0 added. No row asked for 1 of its 3 rows.")
	lines := strings.Split(out, "\n")
	for at, want := range []string{"", "north, table 4 2 flow 3.5", "south, table 5 1 flow 0", "stacked 3 flow 3.5", "joined with places 3 flow 3.5",
		"merged table 3 flow 3.5"} {
		if got := strings.Join(strings.Fields(lines[at]), " "); at > 0 && got != want {
			t.Errorf("line %d of the accounting is %q, want %q", at+1, got, want)
		}
	}
	target := filepath.Join(t.TempDir(), "both.csv")
	do(0, "table download 7 "+target)
	if raw, err := os.ReadFile(target); err != nil || string(raw) !=
		"station,flow,river\nS1,1.5,Alder\nS2,2,Brook\nS2,,Brook\n" {
		t.Errorf("%q, %v", raw, err)
	}

	do(0, "job follow 12", "Job 12 is done.") // the audit of the merged table
	var jobs records.Page[records.Job]
	if err := json.Unmarshal([]byte(do(0, "job list --json")), &jobs); err != nil || len(jobs.Items) == 0 {
		t.Fatalf("%v, %+v", err, jobs)
	}
	kinds := map[string]bool{}
	for _, j := range jobs.Items {
		kinds[j.Kind] = true
		if !j.Ended() || j.CreatedBy != "Mara" {
			t.Errorf("%+v", j)
		}
	}
	if !kinds["merge"] || !kinds["fix"] || !kinds["preview"] || !kinds["audit"] {
		t.Errorf("%v", kinds)
	}
	do(0, "job list --running", "There are no jobs.")
	do(0, "job follow 1", "Job 1 is done.")
	do(2, "job follow 999", "there is no job 999")
	do(2, "job stop 1", "ended")
	do(0, "history", "ran the merge both", "Mara", "applied")
	if out := do(0, "history --limit 1"); strings.Count(out, "\n") != 2 {
		t.Errorf("one thing and its heads are\n%s", out)
	}
}

func TestTheDescriptionOfTheInterfaceIsPrinted(t *testing.T) {
	code, out, stderr := run("openapi")
	var description struct {
		OpenAPI string `json:"openapi"`
		Paths   map[string]map[string]any
	}
	if err := json.Unmarshal([]byte(out), &description); err != nil || code != 0 || stderr != "" {
		t.Fatalf("exit %d, %v, %s", code, err, stderr)
	}
	if !strings.HasPrefix(description.OpenAPI, "3.1") || description.Paths["/jobs/{id}"]["get"] == nil {
		t.Errorf("%s, %d paths", description.OpenAPI, len(description.Paths))
	}
}

// What is sent is counted as it goes, and the line is gone once it is there.
func TestHowMuchIsSentIsShown(t *testing.T) {
	var shown bytes.Buffer
	in := &sender{in: strings.NewReader(strings.Repeat("x", 200)), out: &shown, size: 200}
	buffer := make([]byte, 50)
	for {
		if _, err := in.Read(buffer); err != nil {
			break
		}
	}
	const clear = "\r\x1b[K"
	if want := clear + "25% sent" + clear + "50% sent" + clear + "75% sent" + clear + "100% sent" + clear; shown.
		String() != want {
		t.Errorf("%q, want %q", shown.String(), want)
	}
	o := &output{out: &shown, err: &shown}
	if o.progress() != nil {
		t.Error("progress is shown to nobody")
	}
	if plain := strings.NewReader("x"); o.sending(plain, 1) != io.Reader(plain) {
		t.Error("what nobody watches is counted")
	}
}

// A client that trusts one certificate trusts no other, and none that is no certificate.
func TestOnlyTheServicesOwnCertificateIsTrusted(t *testing.T) {
	if _, err := trusting("/none/such"); err == nil {
		t.Error("a file that is not there is trusted")
	}
	if _, err := trusting(write(t, "c.pem", "no certificate")); err == nil ||
		!strings.Contains(err.Error(), "holds no certificate in PEM") {
		t.Errorf("%v", err)
	}
	server := servicetest.Start(t, nil)
	other := write(t, "c.pem", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n")
	http, err := trusting(other)
	if err != nil {
		t.Fatal(err)
	}
	c := &client.Client{Server: strings.Replace(server.URL, "http://", "https://", 1), Token: "x", HTTP: http}
	if _, err := c.ListDatasets(t.Context(), &client.ListDatasetsParams{}); err == nil {
		t.Error("something else answers")
	}
}
