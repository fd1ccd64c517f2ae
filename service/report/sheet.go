package report

import (
	"html/template"
	"io"
	"sync"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/question"
)

// Sheet is the page on which the owner of the data answers, without an account.
type Sheet struct {
	Title, Recipient, Says, AskedBy string
	Due, Ends                       time.Time
	Here                            string // the address of the page itself
	By                              string // who answers, as they said before
	Saved                           int    // how many answers were just taken
	Refused                         int    // how many were not
	Closed                          bool   // nothing is waited for any more
	Questions                       []SheetQuestion
}

// SheetQuestion is a question with its answer so far.
type SheetQuestion struct {
	question.Question
	Shown  question.Item // as whoever answers sees it
	Answer question.Answer
	Right  map[string]string
	Note   string
	Wrong  string // why the answer that was sent was not taken
	Fixed  bool   // a steward has taken it up or left it; it cannot be changed any more
	First  bool   // of its finding
}

// Choices are the answers that can be chosen.
func (q *SheetQuestion) Choices() []question.Answer { return question.Answers }

// Cells pairs the columns of a row with what stands in them.
func (q *SheetQuestion) Cells() []Cell {
	out := []Cell{}
	for i, name := range q.Shown.Columns {
		out = append(out, Cell{Column: name, Text: q.Shown.Cells[i], Caught: contains(q.Shown.Named, name)})
	}
	return out
}

func contains(all []string, one string) bool {
	for _, s := range all {
		if s == one {
			return true
		}
	}
	return false
}

var sheetPage = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("sheet.html").Funcs(template.FuncMap{
		"visible": Visible,
		"rows":    func(n int64) string { return document.Counted(n, "row", "rows") },
		"day":     func(t time.Time) string { return t.Format("2 January 2006") },
		"says":    func(a question.Answer) string { return a.Says() },
		"count":   func(n int) string { return document.Counted(int64(n), "answer", "answers") },
	}).ParseFS(pages, "sheet.html"))
})

// WriteSheet writes the page. It needs no script and nothing from elsewhere.
func WriteSheet(out io.Writer, s *Sheet) error {
	found := ""
	for i := range s.Questions {
		q := &s.Questions[i]
		q.First = q.Found != found
		found = q.Found
	}
	return sheetPage().Execute(out, s)
}

var notePage = template.Must(template.New("note").Parse(`<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><meta name="robots" content="noindex"><title>Questions</title>
<style>body { margin: 0 auto; max-width: 640px; padding: 40px 16px; background: #f5f1e8; color: #24221e; font: 17px/1.5 "Source Sans 3", "Noto Sans", "Segoe UI", sans-serif; }</style></head>
<body><p>{{.}}</p></body></html>`))

// WriteNote writes a page that says one thing.
func WriteNote(out io.Writer, says string) error { return notePage.Execute(out, says) }
