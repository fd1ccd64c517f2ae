package question_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/audit"
	_ "proudsieve/core/fix/steps"
	"proudsieve/core/intake"
	"proudsieve/core/intake/detect"
	"proudsieve/core/question"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

var ctx = context.Background()

const (
	book = `dataset: samples
columns:
  - {name: id}
  - {name: taken_by}
  - {name: parameter, type: code, codes: parameters}
  - {name: value, type: decimal, to: 14}
code_lists: {parameters: {codes: [{code: PH}, {code: NO3}]}}
keys: [{id: one, columns: [id]}]
`
	rows = "a,Mara Quill,PH,99\nb,Jonas Fell,Acidity,7\nc,Mara Quill,Acidity,6\nd,Ines Hay,PH,\ne,Ines Hay,Zink,140\n"
)

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func opened(t *testing.T, rows string) *relation.Table {
	return &relation.Table{Source: testkit.File(t, "id,taken_by,parameter,value\n"+rows, intake.Reading{}), Book: testkit.Book(t, book), Workers: 2}
}

// asked audits the rows and returns the questions of a rule.
func asked(t *testing.T, rule string) (*question.Asked, *audit.Finding) {
	t.Helper()
	table1 := opened(t, rows)
	r, err := audit.Run(ctx, table1.Source, table1.Book, 2)
	must(t, err)
	f := r.Finding(rule)
	if f == nil {
		t.Fatalf("the rule %s is not broken: %+v", rule, r.Findings)
	}
	a, err := question.OfFinding(ctx, table1, f, func() (*table.RowSet, error) { return f.AllRows() }, []string{"taken_by"})
	must(t, err)
	return a, f
}

func questionsOf(t *testing.T) []question.Question {
	t.Helper()
	var out []question.Question
	for _, rule := range []string{"parameter.codes", "value.range"} {
		a, f := asked(t, rule)
		for i, item := range a.Items {
			out = append(out, question.Question{Code: fmt.Sprintf("%s-%d", rule[:1], i+1), Dataset: "samples", Found: f.Found, Item: item})
		}
	}
	return out
}

func TestCodesAreAskedByTextAndValuesByRow(t *testing.T) {
	a, _ := asked(t, "parameter.codes")
	if len(a.Items) != 2 || a.Items[0].Text != "Acidity" || a.Items[0].Rows != 2 || a.Left != 0 {
		t.Errorf("%+v", a)
	}
	a, _ = asked(t, "value.range")
	if len(a.Items) != 2 || a.Items[0].Row != 1 || !slices.Equal(a.Items[1].Cells, []string{"e", "Ines Hay", "Zink", "140"}) || !slices.Equal(a.Items[0].Correctable(), []string{"value"}) {
		t.Errorf("%+v", a)
	}
	if shown := a.Items[0].Shown(); shown.Says() != "id a, taken_by M••• •••••, parameter PH, value 99" || a.Items[0].Cells[1] != "Mara Quill" {
		t.Errorf("%s", shown.Says())
	}
}

func TestMoreThanFiftyRowsAreNotAskedAbout(t *testing.T) {
	var b strings.Builder
	for i := range 60 {
		fmt.Fprintf(&b, "r%d,x,PH,99\n", i)
	}
	t1 := opened(t, b.String())
	r, err := audit.Run(ctx, t1.Source, t1.Book, 2)
	must(t, err)
	f := r.Finding("value.range")
	a, err := question.OfFinding(ctx, t1, f, func() (*table.RowSet, error) { return f.AllRows() }, nil)
	if err != nil || len(a.Items) != question.ItemsMost || a.Left != 10 {
		t.Errorf("%d items, %d left, %v", len(a.Items), a.Left, err)
	}
}

func TestWhichAnswersFit(t *testing.T) {
	text, row := questionsOf(t)[0], questionsOf(t)[2]
	whole := question.Question{Code: "w", Item: question.Item{Kind: question.OfWhole}}
	for _, c := range []struct {
		q    question.Question
		g    question.Given
		want string // a part of what is wrong; empty where it fits
	}{
		{text, question.Given{Answer: question.Wrong, Right: map[string]string{"parameter": "PH"}}, ""},
		{text, question.Given{Answer: question.MeantSo}, ""},
		{text, question.Given{Answer: question.Unknown, Note: "long ago"}, ""},
		{row, question.Given{Answer: question.ComesAgain}, ""},
		{row, question.Given{Answer: question.Wrong, Right: map[string]string{"value": ""}}, ""},
		{whole, question.Given{Answer: question.Wrong, Note: "the second sheet was left out"}, ""},
		{text, question.Given{Answer: "perhaps"}, "there are wrong, meant_so, unknown and comes_again"},
		{text, question.Given{Answer: question.MeantSo, Right: map[string]string{"parameter": "PH"}}, "is said where the answer is wrong"},
		{text, question.Given{Answer: question.Wrong, Right: map[string]string{"value": "7"}}, `not about "value"; it is about parameter`},
		{row, question.Given{Answer: question.Wrong, Right: map[string]string{"id": "7"}}, `not about "id"`},
		{row, question.Given{Answer: question.Wrong, Right: map[string]string{"value": "99"}}, "is what stands there"},
		{row, question.Given{Answer: question.Wrong}, "not what is right"},
		{row, question.Given{Answer: question.Unknown, Note: strings.Repeat("x", 4001)}, "has room for 4,000"},
	} {
		switch err := c.g.Check(&c.q); {
		case c.want == "" && err != nil, c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%+v: %v, want %q", c.g, err, c.want)
		}
	}
}

// readBack reads a file of answers as whoever gets it back does: what it is, is detected.
func readBack(t *testing.T, content []byte, questions []question.Question) (*question.Read, error) {
	t.Helper()
	d, err := detect.Detect(ctx, testkit.Opener(content), intake.Reading{})
	must(t, err)
	defer d.File.Close()
	return question.ReadAnswers(ctx, d.File, questions)
}

func TestAWorkbookAndACSVAreReadBack(t *testing.T) {
	questions := questionsOf(t)
	questions[0].Supposes = "=HYPERLINK(1)" // a text that a spreadsheet would run
	for name, write := range map[string]func(io.Writer, []question.Question) error{"csv": question.WriteCSV, "workbook": question.WriteWorkbook} {
		var out bytes.Buffer
		must(t, write(&out, questions))
		read, err := readBack(t, out.Bytes(), questions)
		if err != nil || len(read.Given) != 0 || len(read.Refused) != 0 || read.Unanswered != 4 {
			t.Errorf("%s, as it was sent: %+v, %v", name, read, err)
		}
		if name == "csv" && (!strings.Contains(out.String(), "'=HYPERLINK(1)") || strings.Contains(out.String(), "Mara Quill") || !strings.HasPrefix(out.String(), "code,dataset,what was found,about,we suppose,answer,column,right value,remark\n")) {
			t.Errorf("%s", out.String())
		}
	}
}

func TestAnswersAreTakenLineByLine(t *testing.T) {
	questions := questionsOf(t)
	read, err := readBack(t, []byte("remark;Code;ANSWER;column;right value\n"+
		";p-1;wrong;;PH\n"+ // the only column that there is
		"it is theirs;p-2;Meant so.;;\n"+
		";v-1;;;\n"+
		";v-2;wrong;value;14\n"+
		"and a remark;v-2;wrong;;\n"+ // a second line of the same question
		";x-9;meant_so;;\n"+
		";;;;\n"), questions)
	must(t, err)
	want := []question.Given{{Code: "p-1", Answer: question.Wrong, Right: map[string]string{"parameter": "PH"}}, {Code: "p-2", Answer: question.MeantSo, Note: "it is theirs"},
		{Code: "v-2", Answer: question.Wrong, Right: map[string]string{"value": "14"}, Note: "and a remark"}}
	if fmt.Sprint(read.Given) != fmt.Sprint(want) || read.Unanswered != 1 {
		t.Errorf("%+v", read)
	}
	if len(read.Refused) != 1 || read.Refused[0].Line != 7 || read.Refused[0].Says != `"x-9" is the code of none of the questions that were asked` {
		t.Errorf("%+v", read.Refused)
	}
}

func TestLinesThatDoNotFitAreRefusedByTheirLine(t *testing.T) {
	questions := questionsOf(t)
	for content, want := range map[string]string{
		"code,answer,right value\np-1,,PH\n":                 "2: the column “answer” is empty; write one of wrong, meant_so, unknown and comes_again",
		"code,answer,right value\np-1,maybe,\n":              `2: "maybe" is no answer`,
		"code,answer,column,right value\nv-1,wrong,id,a2\n":  `2: the question is not about "id"`,
		"code,answer\np-1,meant_so\np-1,unknown\n":           "3: it does not go with line 2: that one says meant_so",
		"code,answer,right value\np-1,wrong,PH\np-1,wrong,X": `3: it does not go with line 2: that one says "PH" is right in parameter`,
	} {
		read, err := readBack(t, []byte(content), questions)
		must(t, err)
		if len(read.Refused) != 1 || !strings.HasPrefix(fmt.Sprintf("%d: %s", read.Refused[0].Line, read.Refused[0].Says), want) || len(read.Given) != 0 {
			t.Errorf("%q: %+v, want %s", content, read, want)
		}
	}
	if _, err := readBack(t, []byte("number,reply\n1,yes\n2,no\n"), questions); err == nil || !strings.Contains(err.Error(), "has the columns “code” and “answer”, and this one has number and reply") {
		t.Errorf("%v", err)
	}
}

func answeredAs(q question.Question, a question.Answer, right ...string) question.Answered {
	g := question.Given{Code: q.Code, Answer: a}
	for i := 0; i+1 < len(right); i += 2 {
		if g.Right == nil {
			g.Right = map[string]string{}
		}
		g.Right[right[i]] = right[i+1]
	}
	return question.Answered{Question: q, Given: g, By: "Highgarth laboratory"}
}

func TestAnswersBecomeStepsAndWaivers(t *testing.T) {
	q := questionsOf(t) // Acidity, Zink, row a, row e
	p, err := question.Propose(ctx, opened(t, rows), []question.Answered{
		answeredAs(q[0], question.Wrong, "parameter", "PH"),
		answeredAs(q[1], question.MeantSo),
		answeredAs(q[2], question.Wrong, "value", "9,9"),
		answeredAs(q[3], question.MeantSo)})
	must(t, err)
	if len(p.Steps) != 2 || p.Steps[0].Says != `"Acidity" becomes "PH" in 2 cells of parameter.` || p.Steps[0].Doubt != "" ||
		p.Steps[1].Says != `"99" becomes "9,9" in value of 1 row.` || p.Steps[1].Doubt != `"9,9" is no decimal, which value holds` {
		t.Errorf("%+v", p.Steps)
	}
	if len(p.Accepted) != 2 || p.Accepted[0].Says != `1 text of parameter: "Zink"` || p.Accepted[1].Says != "the row id e, value 140" || p.Accepted[1].Scope.Rows[0].Cells[1] != "140" {
		t.Errorf("%+v", p.Accepted)
	}
	changes := []edit.StepChange{}
	for _, s := range p.Steps {
		changes = append(changes, s.Change)
	}
	source, err := edit.Plans.Apply("fix_plan: p\ndataset: samples\nsteps:\n  - {do: trim, columns: [parameter], reason: spaces}\n", changes)
	must(t, err)
	if first, last := strings.Index(source, "replace"), strings.Index(source, "trim"); first < 0 || last < first || !strings.Contains(source, "key: {id: a}") {
		t.Errorf("what the owner says comes first:\n%s", source)
	}
}

func TestWhatIsNotThereAnyMoreIsTold(t *testing.T) {
	q := questionsOf(t)
	later := opened(t, "a,Mara Quill,PH,9\nb,x,PH,7\n")
	p, err := question.Propose(ctx, later, []question.Answered{
		answeredAs(q[0], question.Wrong, "parameter", "PH"), answeredAs(q[3], question.Wrong, "value", "14"),
		answeredAs(q[1], question.Unknown), answeredAs(q[2], question.ComesAgain)})
	must(t, err)
	says := []string{}
	for _, u := range p.Unused {
		says = append(says, u.Says)
	}
	if want := []string{`"Acidity" stands nowhere in parameter any more`, "no row is as it was asked about any more", "who was asked cannot tell; decide, and write down why",
		"it will be delivered again; the issue waits for that"}; !slices.Equal(says, want) || len(p.Steps) != 0 {
		t.Errorf("%q %+v", says, p.Steps)
	}
}

// A key that names several rows does not tell which is meant: all that is known of the row does, or the step says how many.
func TestARowIsNamedByMoreThanAKeyThatIsThereTwice(t *testing.T) {
	q := questionsOf(t)[2] // a, Mara Quill, PH, 99
	for rows, want := range map[string]string{
		"a,Mara Quill,PH,99\na,Mara Quill,PH,7\n":                        "{1  [id taken_by parameter value]}",
		"a,Mara Quill,PH,99\nb,x,PH,1\n":                                 "{1  [id]}",
		"a,Mara Quill,PH,99\na,Mara Quill,PH,99\na,Mara Quill,PH,99.0\n": "{3 3 rows are so, and cannot be told apart [id taken_by parameter value]}",
	} {
		p, err := question.Propose(ctx, opened(t, rows), []question.Answered{answeredAs(q, question.Wrong, "value", "9.9")})
		must(t, err)
		s := p.Steps[0]
		var names []string
		for _, pair := range s.Change.Add[1].Pairs {
			names = append(names, pair.Name)
		}
		if got := fmt.Sprintf("{%d %s %v}", s.Cells, s.Doubt, names); got != want {
			t.Errorf("%q: %s, want %s", rows, got, want)
		}
	}
}

func FuzzReadAnswers(f *testing.F) {
	f.Add("code,answer,right value\np-1,wrong,PH\n")
	f.Add("code;answer\n\"p-1;x\n")
	questions := []question.Question{{Code: "p-1", Item: question.Item{Kind: question.OfText, Column: "c", Text: "t"}}}
	f.Fuzz(func(t *testing.T, content string) {
		d, err := detect.Detect(ctx, testkit.Opener([]byte(content)), intake.Reading{})
		if err != nil {
			return
		}
		defer d.File.Close()
		read, err := question.ReadAnswers(ctx, d.File, questions)
		if err != nil {
			if errors.Is(err, context.Canceled) {
				t.Error(err)
			}
			return
		}
		for _, g := range read.Given {
			if err := g.Check(&questions[0]); err != nil {
				t.Errorf("an answer that does not fit is taken: %+v, %v", g, err)
			}
		}
	})
}
