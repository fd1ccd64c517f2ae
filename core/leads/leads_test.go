package leads_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/leads"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// told audits a text that nobody declared anything about, and returns its leads by both readings.
func told(t *testing.T, content string) []leads.Lead {
	t.Helper()
	d, err := detect.Detect(t.Context(), testkit.Opener([]byte(content)), intake.Reading{})
	if err != nil {
		t.Fatal(err)
	}
	r, err := audit.Run(context.Background(), d.File, rulebook.Draft("d", d, d.File.Columns()), 2)
	if err == nil {
		err = r.LookAgain(context.Background(), d.File, 2)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range r.Leads {
		if l.Condition != "" {
			heldTo(t, content, r.Book(), l)
		}
	}
	return r.Leads
}

// heldTo makes a rule of the condition that a lead brings: just the rows that the lead speaks of break it.
func heldTo(t *testing.T, content string, read *rulebook.Rulebook, l leads.Lead) {
	t.Helper()
	var w rulebook.Text
	w.Line("dataset: d")
	w.Reading(read.Reading)
	w.Line("columns:")
	for _, c := range read.Columns {
		dates := ""
		if len(c.Dates) > 0 {
			dates = ", dates: " + rulebook.Quoted(c.Dates[0])
		}
		w.Line("  - {name: %s, type: %s%s}", rulebook.Quoted(c.Name), c.Type, dates)
	}
	w.Line("rules:\n  - {id: held, condition: %s}", rulebook.Quoted(l.Condition))
	if l.Tolerance != "" {
		w.Line("    # by\n")
		text := strings.Replace(w.String(), "  - {id: held, ", "  - {id: held, tolerance: "+l.Tolerance+", ", 1)
		w.Reset()
		w.WriteString(text)
	}
	book, err := rulebook.Parse([]byte(w.String()))
	if err != nil {
		t.Errorf("%s: %s is no rule: %v", l.Kind, l.Condition, err)
		return
	}
	r, err := audit.Run(context.Background(), testkit.File(t, content, book.Reading), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	rows := int64(0)
	for _, f := range r.Findings {
		if f.Rule == "held" {
			rows = f.Rows
		}
	}
	// What lies outside its group is a little more than what would lie inside with its point moved.
	wider := l.Kind == "shifted_point" && rows > l.Rows && rows <= 2*l.Rows
	if rows != l.Rows && !wider {
		t.Errorf("%s: %s is broken by %d rows, and %d are meant: %s", l.Kind, l.Condition, rows, l.Rows, l.Says)
	}
}

// finds holds what a table's lead of a kind says against what it should; nothing stands for no lead.
func finds(t *testing.T, kind, name, content, says string, rows int64) {
	t.Helper()
	var got []string
	for _, l := range told(t, content) {
		if l.Kind == kind {
			got = append(got, l.Says)
			if says != "" && l.Rows != rows {
				t.Errorf("%s: %d rows, want %d: %s", name, l.Rows, rows, l.Says)
			}
		}
	}
	switch {
	case says == "" && len(got) > 0:
		t.Errorf("%s: is told though nothing is wrong: %q", name, got)
	case says != "" && (len(got) != 1 || !strings.Contains(got[0], says)):
		t.Errorf("%s: %q is told, want one with %q", name, got, says)
	}
}

// lines makes a table of so many rows.
func lines(header string, n int, row func(i int) string) string {
	var b strings.Builder
	b.WriteString(header + "\n")
	for i := range n {
		b.WriteString(row(i) + "\n")
	}
	return b.String()
}

// but is a row of its own in some places, and what the others are elsewhere.
func but(others func(i int) string, own map[int]string) func(i int) string {
	return func(i int) string {
		if text, ok := own[i]; ok {
			return text
		}
		return others(i)
	}
}

// tidy is a table that nothing is wrong with, of kinds of columns that are common.
func tidy(seed uint64, rows int) string {
	r := rand.New(rand.NewPCG(seed, 7))
	parameters := []string{"NITRATE", "OXYGEN", "PH", "CHLORIDE"}
	levels := []float64{30, 9, 7.4, 55}
	return lines("sample,station,parameter,value,count,flow,taken,arrived,crew,share", rows, func(i int) string {
		p := r.IntN(4)
		day := 1 + i*364/rows
		return fmt.Sprintf("S-%05d,AV-%03d,%s,%.2f,%d,%.3f,2024-%02d-%02d,2024-%02d-%02d,%s,%.3f", i, r.IntN(60), parameters[p],
			levels[p]*math.Exp(r.NormFloat64()*0.15), 1+r.IntN(40), math.Exp(r.NormFloat64()*0.8), 1+day/31, 1+day%28, 1+day/31,
			1+day%28, []string{"blue", "green", "red"}[r.IntN(3)], r.Float64())
	})
}

// In tables with nothing wrong in them hardly anything is told.
func TestNothingIsToldOfTidyTables(t *testing.T) {
	for seed := range uint64(12) {
		for _, rows := range []int{60, 700, 4000} {
			for _, l := range told(t, tidy(seed, rows)) {
				if l.Kind != "last_period" && l.Kind != "missing_periods" && l.Kind != "copy" {
					t.Errorf("%d rows, seed %d: %s: %s", rows, seed, l.Kind, l.Says)
				}
			}
		}
	}
}

// Leads of one kind that are many are told together, those that may cost most first.
func TestLikeIsToldWithLike(t *testing.T) {
	content := lines("a,b,c,d,e,n", 40, func(i int) string { return fmt.Sprintf(",,,,,%d", 60+i%21) }) + ",,,,,7412000\n"
	all := told(t, content)
	gathered := leads.Gather(all)
	if len(gathered) != 2 || gathered[0].Kind != "outliers" || len(gathered[0].Says) != 1 ||
		gathered[1].Says[0] != "5 columns are empty: a, b, c, d and e." || len(gathered[1].Leads) != 5 {
		t.Errorf("%+v", gathered)
	}
}

func TestEveryKindSaysWhatItFinds(t *testing.T) {
	guide := leads.Guide()
	for _, name := range leads.Names() {
		if !strings.Contains(guide, "| `"+name+"` | ") {
			t.Errorf("the guide does not have %s", name)
		}
	}
	if strings.Contains(guide, "|  |") {
		t.Error("a kind does not say what it finds, or from when on")
	}
}
