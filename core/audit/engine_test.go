package audit_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// engineBook judges the columns of large: one of nothing but different texts, one of
// nothing but different numbers, a few codes, long texts, dates.
const engineBook = `dataset: large
reading: {missing: [n/a]}
columns:
  - {name: id, required: true}
  - {name: value, type: decimal, from: -100, to: 900}
  - {name: code, type: code, codes: few, required: true}
  - {name: remark}
  - {name: first, type: date}
  - {name: last, type: date}
keys:
  - {id: one, columns: [id]}
equal_rows: {severity: note}
code_lists: {few: [A, B, C]}
rules:
  - {id: in_order, condition: last >= first}
  - {id: positive_a, condition: code <> 'A' OR value >= 0}
measures: [value]
`

// large is a table of several stretches, whose rows are also returned as they stand.
func large(rows int, seed uint64) (content string, cells [][]string) {
	r := rand.New(rand.NewPCG(seed, 5))
	remarks := []string{"", "n/a", "a remark that is longer than a token", "another remark that is longer than a token",
		"short", "µ"}
	var b strings.Builder
	b.WriteString("id,value,code,remark,first,last\n")
	for i := range rows {
		row := []string{fmt.Sprintf("R-%07d", i), fmt.Sprintf("%.4f", r.Float64()*1100-150),
			[]string{"A", "B", "C", "a", " B", "X", ""}[min(r.IntN(60), 6)],
			remarks[r.IntN(len(remarks))], fmt.Sprintf("2024-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)),
			fmt.Sprintf("2024-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))}
		switch r.IntN(300) {
		case 0:
			if i > 0 {
				row = slices.Clone(cells[r.IntN(i)])
			}
		case 1:
			row[0] = fmt.Sprintf("R-%07d", r.IntN(rows))
		case 2:
			row[1] = "<0.05"
		case 3:
			row[1] = "n/a"
		case 4:
			row[0] = ""
		case 5:
			row[1] = " " + row[1]
		case 6:
			row[4] = "2024-02-30"
		case 7:
			row[1] = "-999"
		case 8:
			row[0] = "an identifier that is longer than a token " + row[0]
		}
		cells = append(cells, row)
		b.WriteString(strings.Join(row, ",") + "\n")
	}
	return b.String(), cells
}

func missing(text string) bool {
	return strings.TrimSpace(text) == "" || strings.TrimSpace(text) == "n/a"
}

func TestTheEngineAgreesWithALoopOverTheRows(t *testing.T) {
	content, cells := large(150_000, 1)
	result, err := audit.Run(t.Context(), testkit.File(t, content, intake.Reading{}), testkit.Book(t, engineBook), 4)
	if err != nil {
		t.Fatal(err)
	}
	broken := map[string][]uint32{}
	breaks := func(rule string, row int) { broken[rule] = append(broken[rule], uint32(row)+1) }
	ids, whole := map[string]bool{}, map[string]bool{}
	sum, numbers, lacking := table.Decimal{}, int64(0), [6]int64{}
	distinct := [6]map[string]bool{}
	patterns := map[string]int64{}
	day := func(text string) (table.Value, bool) { return table.StandardFormat.Parse(table.TypeDate, text) }
	for i, row := range cells {
		pattern := ""
		for c, text := range row {
			if distinct[c] == nil {
				distinct[c] = map[string]bool{}
			}
			if missing(text) {
				lacking[c]++
				pattern += fmt.Sprint(c)
			} else {
				distinct[c][text] = true
			}
		}
		patterns[pattern]++
		if missing(row[0]) {
			breaks("id.required", i)
		} else {
			if ids[row[0]] {
				breaks("one", i)
			}
			ids[row[0]] = true
		}
		if joined := strings.Join(row, "\x00"); whole[joined] {
			breaks("equal_rows", i)
		} else {
			whole[joined] = true
		}
		value, isNumber := table.ParseDecimal(row[1])
		if !missing(row[1]) && !isNumber {
			breaks("value.type", i)
		}
		if isNumber {
			sum, numbers = sum.Add(value), numbers+1
			if value.Float() < -100 || value.Float() > 900 {
				breaks("value.range", i)
			}
		}
		code := row[2]
		switch {
		case missing(code):
			breaks("code.required", i)
		case !slices.Contains([]string{"A", "B", "C"}, code) && slices.Contains([]string{"A", "B", "C"},
			strings.ToUpper(strings.TrimSpace(code))):
			breaks("code.spelling", i)
		case !slices.Contains([]string{"A", "B", "C"}, code):
			breaks("code.codes", i)
		}
		if strings.ToUpper(strings.TrimSpace(code)) == "A" && isNumber && value.Sign() < 0 {
			breaks("positive_a", i)
		}
		first, ok := day(row[4])
		if !ok {
			breaks("first.type", i)
		}
		if last, also := day(row[5]); ok && also && last.When < first.When {
			breaks("in_order", i)
		}
	}
	for _, f := range result.Findings {
		if !slices.Equal(f.RowSet.ToArray(), broken[f.Rule]) {
			t.Errorf("%s: %d rows, want %d", f.Rule, f.Rows, len(broken[f.Rule]))
		}
		delete(broken, f.Rule)
	}
	if len(broken) > 0 {
		t.Errorf("not found: %v", broken)
	}
	for c := range result.Columns {
		k := &result.Columns[c]
		if k.Missing != lacking[c] || k.Filled != int64(len(cells))-lacking[c] ||
			int64(k.MissingRows.GetCardinality()) != lacking[c] {
			t.Errorf("%s: %d missing and %d filled, want %d missing", k.Name, k.Missing, k.Filled, lacking[c])
		}
		if off := math.Abs(float64(k.Distinct)/float64(len(distinct[c])) - 1); off > 4*k.DistinctError {
			t.Errorf("%s: %d different texts ± %v, want %d", k.Name, k.Distinct, k.DistinctError, len(distinct[c]))
		}
	}
	if k := result.Columns[1]; k.Sum != sum.Shortest() || k.Numbers.Count != numbers {
		t.Errorf("the sum of %d numbers is %s, want %s of %d", k.Numbers.Count, k.Sum, sum.Shortest(), numbers)
	}
	for _, p := range result.MissingTogether {
		key := ""
		for _, name := range p.Missing {
			key += fmt.Sprint(slices.Index([]string{"id", "value", "code", "remark", "first", "last"}, name))
		}
		if patterns[key] != p.Rows {
			t.Errorf("%d rows lack %v, want %d", p.Rows, p.Missing, patterns[key])
		}
	}
	// The placeholders are found among the numbers although hardly any of those comes twice.
	k, placeholders := result.Columns[1], map[string]int64{"-999": 0, "<0.05": 0}
	for _, row := range cells {
		if _, ok := placeholders[row[1]]; ok {
			placeholders[row[1]]++
		}
	}
	if !k.AtLeast || len(k.Frequent) != len(placeholders) {
		t.Errorf("frequent among the numbers: %v", k.Frequent)
	}
	for _, f := range k.Frequent {
		if all := placeholders[f.Text]; f.Rows > all || f.Rows < all*9/10 {
			t.Errorf("%q is said to stand in at least %d rows, and stands in %d", f.Text, f.Rows, all)
		}
	}
}

func TestLargeTablesGiveTheSameBytesOnAnyNumberOfWorkers(t *testing.T) {
	content, _ := large(150_000, 2)
	var first []byte
	for _, workers := range []int{1, 2, 8} {
		result, err := audit.Run(t.Context(), testkit.File(t, content, intake.Reading{}), testkit.Book(t, engineBook),
			workers)
		if err != nil {
			t.Fatal(err)
		}
		got, err := json.Marshal(result)
		if err != nil {
			t.Fatal(err)
		}
		if first == nil {
			first = got
		}
		if string(got) != string(first) {
			t.Errorf("%d workers can be told from one", workers)
		}
	}
}

func TestLeadsAndRoles(t *testing.T) {
	var b strings.Builder
	b.WriteString("id,station,flow,day,always,nearly,never,note\n")
	for i := range 1000 {
		nearly := "same"
		if i == 500 {
			nearly = "other"
		}
		flow := fmt.Sprint(10 + i%90)
		if i == 7 {
			flow = "9999"
		}
		fmt.Fprintf(&b, "G%d,S%d,%s,2024-%02d-%02d,x,%s,,%s\n", i, i%20, flow, 1+i/230, 1+i%28, nearly,
			strings.Repeat("word ", i%17)+fmt.Sprint(i%300, " "))
	}
	d, err := detect.Detect(t.Context(), testkit.Opener([]byte(b.String())), intake.Reading{})
	if err != nil {
		t.Fatal(err)
	}
	file, err := intake.Open(context.Background(), testkit.Opener([]byte(b.String())), d.Reading)
	if err != nil {
		t.Fatal(err)
	}
	result, err := audit.Run(t.Context(), file, rulebook.Draft("gauges", d, file.Columns()), 2)
	if err != nil {
		t.Fatal(err)
	}
	roles := map[string]audit.Role{}
	for _, c := range result.Columns {
		roles[c.Name] = c.Role
	}
	for name, want := range map[string]audit.Role{"id": audit.RoleIdentifier, "station": audit.RoleCategory,
		"flow": audit.RoleMeasure, "day": audit.RoleDate, "always": audit.RoleCategory, "never": audit.RoleEmpty,
		"note": audit.RoleText} {
		if roles[name] != want {
			t.Errorf("%s is taken for %s, want %s", name, roles[name], want)
		}
	}
	says := map[string]string{}
	for _, l := range result.Leads {
		says[l.Column+" "+l.Kind] = l.Says
	}
	for lead, want := range map[string]string{
		"always constant":        `Every filled cell of always is "x".`,
		"nearly nearly_constant": `nearly is "same" in all but 1 of its filled cells.`,
		"never empty":            "never is empty.",
		"flow outliers":          "1 number of flow lies far from the others",
		"note spaces":            "1,000 cells of note have stray spaces: 1,000 after",
		"day last_period":        "The last month of day, 2024-05, is only partly there: 80 rows",
	} {
		if !strings.HasPrefix(says[lead], want) {
			t.Errorf("%s says %q, want %q", lead, says[lead], want)
		}
	}
}

// A mark for a missing value may look like a time and be longer than a token, in a column of nothing but different times.
func TestALongMarkIsNoTime(t *testing.T) {
	var b strings.Builder
	b.WriteString("at\n")
	for i := range 20_000 {
		if i%100 == 0 {
			b.WriteString("1900-01-01 00:00:00\n")
		} else {
			b.WriteString(time.Unix(1_710_000_000+int64(i)*61, 0).UTC().Format(time.DateTime) + "\n")
		}
	}
	book := testkit.Book(t, "dataset: times\nreading: {missing: [\"1900-01-01 00:00:00\"], dates: [\"yyyy-MM-dd HH:mm:ss\"]}\ncolumns: [{name: at, type: datetime}]\n")
	result, err := audit.Run(t.Context(), testkit.File(t, b.String(), intake.Reading{}), book, 2)
	if err != nil {
		t.Fatal(err)
	}
	if c := result.Columns[0]; c.Missing != 200 || c.Lowest[:4] != "2024" {
		t.Errorf("%d are missing, and times begin %s; want 200, and 2024", c.Missing, c.Lowest)
	}
}
