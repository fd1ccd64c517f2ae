package demo_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	"proudsieve/core/fix/fixtest"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/detect"
	"proudsieve/core/leads"
	"proudsieve/core/merge"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/demo"
	"proudsieve/demo/generate/scenario"
)

func read(t *testing.T, name string) []byte {
	t.Helper()
	content, err := demo.Files.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return content
}

func opener(content []byte) content.Opener {
	return func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(content[offset:])), nil
	}
}

func openWith(t *testing.T, content []byte, reading intake.Reading) *intake.File {
	t.Helper()
	f, err := intake.Open(context.Background(), opener(content), reading)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func book(t *testing.T, dataset string) *rulebook.Rulebook {
	t.Helper()
	b, err := rulebook.Parse(read(t, "rulebooks/"+dataset+".yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestTheCommittedFilesAreWhatTheGeneratorMakes(t *testing.T) {
	for name, content := range scenario.Generate() {
		if !bytes.Equal(content, read(t, name)) {
			t.Errorf("%s differs from what the generator makes; run make demo-files", name)
		}
	}
}

func TestEveryPlantedDefectIsFoundAndNothingElse(t *testing.T) {
	planted, err := demo.PlantedDefects()
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range demo.Deliveries {
		b := book(t, d.Dataset)
		result, err := audit.Run(context.Background(), openWith(t, read(t, "data/"+d.File), b.Reading), b, 2)
		if err != nil {
			t.Fatal(err)
		}
		want := map[string]*table.RowSet{}
		for _, p := range planted {
			if p.Dataset != d.Dataset {
				continue
			}
			for _, rule := range p.Rules {
				if want[rule] == nil {
					want[rule] = table.NewRowSet()
				}
				want[rule].AddMany(p.Rows)
			}
		}
		for _, f := range result.Findings {
			if want[f.Rule] == nil {
				t.Errorf("%s: %s was found (%s) and not planted", d.Dataset, f.Rule, f.Found)
				continue
			}
			if !f.RowSet.Equals(want[f.Rule]) {
				t.Errorf("%s: %s found the rows %v, planted were %v", d.Dataset, f.Rule, f.RowSet, want[f.Rule])
			}
			delete(want, f.Rule)
		}
		for rule := range want {
			t.Errorf("%s: what was planted for %s was not found", d.Dataset, rule)
		}
	}
}

// clean applies the demo's fix plan of a dataset and returns the cleaned table.
func clean(t *testing.T, dataset, plan string) (merge.Input, *fix.Ledger) {
	t.Helper()
	b := book(t, dataset)
	p, err := fix.Parse(read(t, "fixes/"+plan+".yaml"), b)
	if err != nil {
		t.Fatal(err)
	}
	got, err := fixtest.PlayInput(t, fix.Input{Source: openWith(t, read(t, "data/"+dataset+".csv"), b.Reading), Book: b}, p, 2)
	if err != nil {
		t.Fatal(err)
	}
	if got.Refused != nil {
		t.Fatal(got.Refused)
	}
	source := openWith(t, []byte(got.Table), intake.Standard())
	return merge.Input{Dataset: dataset, Source: source, Book: b.ForTable(got.Ledger.Reading)}, got.Ledger
}

func TestTheCleanedAndMergedTablePasses(t *testing.T) {
	var inputs merge.Inputs
	for dataset, plan := range map[string]string{"stations": "stations_clean", "highgarth_results": "highgarth_clean",
		"millrace_results": "millrace_clean"} {
		in, ledger := clean(t, dataset, plan)
		inputs = append(inputs, in)
		for _, step := range ledger.Steps {
			if step.Note != "" {
				t.Errorf("%s, step %d: %s", plan, step.Step, step.Note)
			}
		}
	}
	plan, err := merge.Parse(read(t, "merges/survey_results.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	accounting, err := merge.Run(context.Background(), plan, inputs, 2, merge.Outputs{Table: &out})
	if err != nil {
		t.Fatal(err)
	}
	merged := openWith(t, out.Bytes(), intake.Standard())
	b := book(t, "survey_results")
	if err := merge.Verify(context.Background(), merged, b, accounting, 2); err != nil {
		t.Fatal(err)
	}
	result, err := audit.Run(context.Background(), merged, b, 2)
	if err != nil {
		t.Fatal(err)
	}
	// Of 3,000 rows a laboratory, 1 totals line, 9 equal rows, 12 superseded results and 8 of unknown stations left.
	if want := int64(2 * (3000 - 1 - 9 - 12 - 8)); result.Rows != want {
		t.Errorf("the merged table has %d rows, want %d", result.Rows, want)
	}
	if !result.HasPassed() {
		for _, f := range result.Findings {
			t.Log(f.Found)
		}
		t.Errorf("the merged table does not pass: score %v", result.Score)
	}
	rules := []string{}
	for _, f := range result.Findings {
		rules = append(rules, fmt.Sprint(f.Rule, " ", f.Rows))
	}
	// 14 blank, 11 disguised and 13 texts that were set to missing, and 15 early receipts, from each laboratory.
	if want := []string{"value.required 76", "received_after_sampled 30"}; !slices.Equal(rules, want) {
		t.Errorf("findings left are %v, want %v", rules, want)
	}
}

// What was planted stands in the codes and groups views too, with the planted counts.
func TestPlantedDefectsInTheCodesAndGroupsViews(t *testing.T) {
	planted, err := demo.PlantedDefects()
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	for _, d := range demo.Deliveries {
		b := book(t, d.Dataset)
		view := &relation.Table{Source: openWith(t, read(t, "data/"+d.File), b.Reading), Book: b, Workers: 2}
		want := map[string]int64{}
		for _, p := range planted {
			if p.Dataset == d.Dataset {
				want[p.Defect] += int64(p.Count)
			}
		}
		for _, c := range b.Columns {
			if c.CodeList == "" {
				continue
			}
			codes, err := relation.Recognise(ctx, view, c.Name)
			if err != nil {
				t.Fatal(err)
			}
			got := map[rulebook.MeaningKind]int64{}
			for _, text := range codes.Texts {
				got[text.Meaning.Kind] += text.Rows
			}
			spelled := want[c.Name+" in another spelling"] + want[c.Name+" in another spelling or with stray spaces"]
			unknown := want[c.Name+" that is in no register"]
			if got[rulebook.MeansCode] != spelled || got[rulebook.MeansNothing] != unknown || len(got) > 2 {
				t.Errorf("%s.%s: %v, planted were %d other spellings and %d unknown ones", d.Dataset, c.Name, got,
					spelled, unknown)
			}
		}
		for _, k := range b.Rules {
			if k.Kind.Section != "keys" {
				continue
			}
			groups, err := relation.FindGroups(ctx, view, k.Rule.Columns())
			if err != nil {
				t.Fatal(err)
			}
			equal, conflicting := want["exact duplicate row"], want["repeated sample id with another value"]+
				want["repeated visit number"]+want["station on two sheets, which contradict each other"]
			if groups.Of[relation.Equal].Surplus != equal || groups.Of[relation.Conflicting].Surplus != conflicting ||
				groups.Of[relation.Near].Surplus != 0 {
				t.Errorf("%s: %+v, planted were %d equal rows and %d that conflict", d.Dataset, groups.Of, equal,
					conflicting)
			}
		}
	}
}

// undeclared audits a file of the demo by what is seen of it.
func undeclared(t *testing.T, file string) *audit.Result {
	t.Helper()
	d, err := detect.Detect(context.Background(), opener(read(t, "data/"+file)), intake.Reading{})
	if err != nil {
		t.Fatal(err)
	}
	r, err := audit.Run(context.Background(), d.File, rulebook.Draft("returns", d, d.File.Columns()), 2)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// Of the dataset that nobody declared anything about, each planted lead is told and nothing else: every kind is among them.
func TestEveryPlantedLeadIsToldAndNothingElse(t *testing.T) {
	planted, err := demo.PlantedLeads()
	if err != nil {
		t.Fatal(err)
	}
	d, err := detect.Detect(context.Background(), opener(read(t, "data/"+demo.Undeclared.File)), intake.Reading{})
	if err != nil {
		t.Fatal(err)
	}
	if r := d.Reading; r.Encoding != "windows-1252" || r.Delimiter != ";" || r.DecimalMark != "," || r.HeaderLine != 3 ||
		!slices.Equal(r.Closing, []string{"Total"}) {
		t.Errorf("read as %+v", r)
	}
	book := rulebook.Draft("returns", d, d.File.Columns())
	book.Beside = &rulebook.Beside{Past: []rulebook.Past{undeclared(t, demo.UndeclaredBefore.File).Past()}}
	r, err := audit.Run(context.Background(), d.File, book, 2)
	if err == nil {
		err = r.LookAgain(context.Background(), d.File, 2)
	}
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]bool{}
	for _, p := range planted {
		kinds[p.Lead] = true
		if !slices.ContainsFunc(r.Leads, func(l audit.Lead) bool {
			return l.Kind == p.Lead && l.Column == p.Column && (p.Rows == 0 || l.Rows == p.Rows)
		}) {
			t.Errorf("%+v is not told", p)
		}
	}
	for _, l := range r.Leads {
		if !slices.ContainsFunc(planted, func(p demo.PlantedLead) bool { return l.Kind == p.Lead && l.Column == p.Column }) {
			t.Errorf("%s of %s was not planted: %s", l.Kind, l.Column, l.Says)
		}
	}
	for _, name := range leads.Names() {
		if !kinds[name] {
			t.Errorf("no %s is planted", name)
		}
	}
}
