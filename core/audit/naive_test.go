package audit_test

import (
	"encoding/csv"
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"proudsieve/core/audit/audittest"
	"proudsieve/core/rulebook"
)

// The naive judge goes through a small table row by row and cell by cell, in plain
// Go, and knows nothing of batches, dictionaries, row sets or hashes.

type naiveCell struct{ completeness, validity, uniqueness, consistency bool } // true: at fault

func (c naiveCell) any() bool { return c.completeness || c.validity || c.uniqueness || c.consistency }

type naive struct {
	header []string
	cells  [][]string
	faults [][]naiveCell
	whole  []bool // rows at fault though no cell is
}

var samplePattern = regexp.MustCompile(`^S-[0-9]+$`)

func judgeNaively(t *testing.T, content string) *naive {
	t.Helper()
	records, err := csv.NewReader(strings.NewReader(content)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	n := &naive{header: records[0], cells: records[1:]}
	firstOf, seenRow := map[string]bool{}, map[string]bool{}
	for _, row := range n.cells {
		faults := make([]naiveCell, len(row))
		sample, parameter, value, taken, received := row[0], row[1], row[2], row[3], row[4]
		if sample == "" {
			faults[0].completeness = true
		} else if !samplePattern.MatchString(sample) {
			faults[0].validity = true
		}
		if firstOf[sample] && sample != "" {
			faults[0].uniqueness = true
		}
		firstOf[sample] = true
		switch parameter {
		case "":
			faults[1].completeness = true
		case "PH", "NO3":
		case "ph", "no3":
			faults[1].consistency = true
		default:
			faults[1].validity = true
		}
		number, numberErr := strconv.ParseFloat(value, 64)
		switch {
		case value == "":
			faults[2].completeness = true
		case numberErr != nil, number < 0, number > 14:
			faults[2].validity = true
		}
		if strings.EqualFold(parameter, "PH") && value != "" && numberErr == nil && number >= 50 {
			faults[1].consistency, faults[2].consistency = true, true
		}
		for i, date := range []string{taken, received} {
			if date == "" {
				faults[3+i].completeness = true
			} else if !validDate(date) {
				faults[3+i].validity = true
			}
		}
		if validDate(taken) && validDate(received) && received < taken {
			faults[3].consistency, faults[4].consistency = true, true
		}
		whole := strings.Join(row, "\x00")
		n.whole = append(n.whole, seenRow[whole])
		seenRow[whole] = true
		n.faults = append(n.faults, faults)
	}
	return n
}

func validDate(s string) bool {
	parts := strings.Split(s, "-")
	if len(parts) != 3 || len(s) != 10 {
		return false
	}
	month, errMonth := strconv.Atoi(parts[1])
	day, errDay := strconv.Atoi(parts[2])
	days := []int{31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31} // of 2024
	return errMonth == nil && errDay == nil && parts[0] == "2024" && month >= 1 && month <= 12 && day >= 1 &&
		day <= days[month-1]
}

func (n *naive) share(column int, at func(naiveCell) bool) float64 {
	good := 0
	for _, row := range n.faults {
		if !at(row[column]) {
			good++
		}
	}
	return 100 * float64(good) / float64(len(n.faults))
}

func (n *naive) score() float64 {
	good := 0
	for i, row := range n.faults {
		if !n.whole[i] && !slices.ContainsFunc(row, naiveCell.any) {
			good++
		}
	}
	return 100 * float64(good) / float64(len(n.faults))
}

// awful is a small table in which anything may be wrong with any cell.
func awful(r *rand.Rand, rows int) string {
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	var b strings.Builder
	b.WriteString("sample,parameter,value,taken,received\n")
	var lines []string
	for i := range rows {
		if i > 0 && r.IntN(12) == 0 {
			lines = append(lines, lines[r.IntN(len(lines))])
			continue
		}
		lines = append(lines, strings.Join([]string{
			pick(fmt.Sprint("S-", r.IntN(rows)), fmt.Sprint("S-", 1000+i), "s-1", "", "S-"),
			pick("PH", "PH", "NO3", "ph", "no3", "XX", ""),
			pick("7", "7.5", "0", "14", "14.01", "-1", "99", "trace", ""), pick("2024-02-29", "2024-05-01",
				"2024-02-30", "soon", ""), pick("2024-05-02", "2024-03-01", "2024-02-28", "")}, ","))
	}
	b.WriteString(strings.Join(lines, "\n") + "\n")
	return b.String()
}

func TestScoresAgreeWithANaiveJudge(t *testing.T) {
	r := rand.New(rand.NewPCG(51, 52))
	for round := range 150 {
		content := awful(r, 1+r.IntN(60))
		n, got := judgeNaively(t, content), audittest.Run(t, content, audittest.SamplesBook)
		for c, name := range n.header {
			shown := audittest.Column(t, got, name)
			for what, pair := range map[string][2]float64{
				"score":        {shown.Score, n.share(c, naiveCell.any)},
				"completeness": {shown.Completeness, n.share(c, func(f naiveCell) bool { return f.completeness })},
				"validity":     {shown.Validity, n.share(c, func(f naiveCell) bool { return f.validity })},
				"uniqueness":   {shown.Uniqueness, n.share(c, func(f naiveCell) bool { return f.uniqueness })},
				"consistency":  {shown.Consistency, n.share(c, func(f naiveCell) bool { return f.consistency })},
			} {
				if math.Abs(pair[0]-pair[1]) > 1e-9 {
					t.Fatalf("round %d: %s of %s is %v, the naive judge says %v, for\n%s", round, what, name, pair[0],
						pair[1], content)
				}
			}
		}
		if math.Abs(got.Score-n.score()) > 1e-9 {
			t.Fatalf("round %d: the table's score is %v, the naive judge says %v, for\n%s", round, got.Score, n.score(),
				content)
		}
	}
}

func TestEveryFindingNamesItsDimension(t *testing.T) {
	want := map[string]rulebook.Dimension{"required": rulebook.Completeness, "type": rulebook.Validity,
		"range": rulebook.Validity, "pattern": rulebook.Validity,
		"codes": rulebook.Validity, "spelling": rulebook.Consistency, "key": rulebook.Uniqueness,
		"equal_rows": rulebook.Uniqueness, "condition": rulebook.Consistency}
	seen := map[string]bool{}
	for _, f := range audittest.Run(t, awful(rand.New(rand.NewPCG(1, 1)), 500), audittest.SamplesBook).Findings {
		seen[f.Kind] = true
		if f.Dimension != want[f.Kind] || f.Says == "" || f.Found == "" {
			t.Errorf("%+v", f)
		}
	}
	if len(seen) != len(want) {
		t.Errorf("of %d kinds of findings only %v were met", len(want), seen)
	}
}
