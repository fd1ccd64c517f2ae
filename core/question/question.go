// Package question asks the owner of the data about what was found, and makes of the answers what is to be done.
//
// A sheet is a list of questions, each about one text, one row or one finding as a whole, and each with a code of its own. It
// is shown as a page, or written as a workbook or CSV (write.go) whose answers are read back line by line (read.go). An
// answer becomes steps of a fix plan, or the scope of a waiver (act.go): a proposal, which a steward takes up or not.
package question

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/personal"
)

// Answer is one of the answers that can be chosen.
type Answer string

// The answers that there are.
const (
	Wrong      Answer = "wrong"       // and this is right
	MeantSo    Answer = "meant_so"    // it is as it should be
	Unknown    Answer = "unknown"     // who was asked cannot tell
	ComesAgain Answer = "comes_again" // it will be delivered again
)

// Answers lists them in the order in which they are offered.
var Answers = []Answer{Wrong, MeantSo, Unknown, ComesAgain}

// Says is an answer in words.
func (a Answer) Says() string {
	switch a {
	case Wrong:
		return "It is wrong; right is:"
	case MeantSo:
		return "It is meant so."
	case Unknown:
		return "I cannot tell."
	case ComesAgain:
		return "It will be delivered again."
	}
	return string(a)
}

// Hidden stands for what is right in a column of personal data.
const Hidden = "(hidden)"

// The kinds of what a question is about.
const (
	OfText  = "text"  // one text of a column, wherever it stands
	OfRow   = "row"   // one row
	OfWhole = "whole" // what was found, as it is said
)

// Item is what a question is about.
type Item struct {
	Kind string `json:"kind" enum:"text,row,whole"`
	// Column and Text are those of a text, which stands in so many Rows.
	Column string `json:"column,omitempty"`
	Text   string `json:"text,omitempty"`
	Rows   int64  `json:"rows,omitempty"`
	// Row is the number of a row in the table that was looked at, Columns are some of its columns and Cells what stands in them.
	Row     uint32   `json:"row,omitempty" minimum:"0" maximum:"4294967295"`
	Columns []string `json:"columns,omitempty"`
	Cells   []string `json:"cells,omitempty"`
	// Key are the columns that name the row, and Named those that the rule speaks of, which can be said to be wrong.
	Key   []string `json:"key,omitempty"`
	Named []string `json:"named,omitempty"`
	// Masked are the columns whose texts whoever is asked does not see.
	Masked []string `json:"masked,omitempty"`
}

// Cell is what stands in a column of the item's row, or its text.
func (i *Item) Cell(column string) (text string, ok bool) {
	if i.Kind == OfText {
		return i.Text, column == i.Column
	}
	if at := slices.Index(i.Columns, column); at >= 0 {
		return i.Cells[at], true
	}
	return "", false
}

// Correctable are the columns in which something can be said to be right instead.
func (i *Item) Correctable() []string {
	switch i.Kind {
	case OfText:
		return []string{i.Column}
	case OfRow:
		return slices.DeleteFunc(slices.Clone(i.Named), func(c string) bool { _, there := i.Cell(c); return !there })
	}
	return nil
}

// Shown returns the item as whoever is asked sees it: without the texts of masked columns.
func (i *Item) Shown() Item {
	out := *i
	if i.Kind == OfText && slices.Contains(i.Masked, i.Column) {
		out.Text = personal.Mask(i.Text)
	}
	out.Cells = slices.Clone(i.Cells)
	for c, name := range i.Columns {
		if slices.Contains(i.Masked, name) {
			out.Cells[c] = personal.Mask(i.Cells[c])
		}
	}
	return out
}

// Says tells what the item is, as `"Acidity" in parameter, in 3 rows`.
func (i *Item) Says() string {
	switch i.Kind {
	case OfText:
		text := fmt.Sprintf("%q", i.Text)
		if i.Text == "" {
			text = "nothing"
		}
		return fmt.Sprintf("%s in %s, in %s", text, i.Column, document.Counted(i.Rows, "row", "rows"))
	case OfRow:
		var parts []string
		for c, name := range i.Columns {
			text := i.Cells[c]
			if text == "" {
				text = "(nothing)"
			}
			parts = append(parts, name+" "+text)
		}
		return strings.Join(parts, ", ")
	}
	return ""
}

// Question is one thing that the owner of the data is asked.
type Question struct {
	Code    string `json:"code"`
	Dataset string `json:"dataset"`
	Found   string `json:"found"` // what was found, in a sentence
	Reason  string `json:"reason,omitempty"`
	Item    Item   `json:"item"`
	// Supposes is what the steward takes to be so.
	Supposes string `json:"supposes,omitempty"`
}

// Would says what an answer would change, in a sentence.
func (q *Question) Would(a Answer) string {
	switch a {
	case Wrong:
		if len(q.Item.Correctable()) == 0 {
			return "You say what is right; it is put right in what is handed on, and your delivery stays as it is."
		}
		if q.Item.Kind == OfText {
			return fmt.Sprintf("It is replaced in what is handed on, in %s; your delivery stays as it is.", document.Counted(q.Item.Rows, "row", "rows"))
		}
		return "It is put right in what is handed on; your delivery stays as it is."
	case MeantSo:
		return "It is accepted as it is, and you are not asked about it again."
	case Unknown:
		if q.Supposes != "" {
			return "We decide by what we suppose, and say so."
		}
		return "We decide, and say so."
	}
	return "We wait for it, and look again."
}

// Given is an answer to a question.
type Given struct {
	Code   string `json:"code" maxLength:"20"`
	Answer Answer `json:"answer" enum:"wrong,meant_so,unknown,comes_again"`
	// Right says what is right instead, by column.
	Right map[string]string `json:"right,omitempty"`
	Note  string            `json:"note,omitempty" maxLength:"4000"`
}

// noteMost is how long a note or a correction can be, in bytes.
const noteMost = 4000

// Check says why an answer does not fit its question; nil where it does.
func (g *Given) Check(q *Question) error {
	if !slices.Contains(Answers, g.Answer) {
		return fmt.Errorf("%q is no answer; there are %s", g.Answer, answersSaid())
	}
	if len(g.Note) > noteMost {
		return fmt.Errorf("the remark has %s bytes, and has room for %s", document.Grouped(int64(len(g.Note))), document.Grouped(noteMost))
	}
	allowed := q.Item.Correctable()
	for column, text := range g.Right {
		was, there := q.Item.Cell(column)
		switch {
		case g.Answer != Wrong:
			return fmt.Errorf("what is right is said where the answer is %s, and it is %s", Wrong, g.Answer)
		case !there || !slices.Contains(allowed, column):
			return fmt.Errorf("the question is not about %q; it is about %s", column, document.Join(allowed))
		case len(text) > noteMost:
			return fmt.Errorf("what is right in %s has %s bytes, and has room for %s", column, document.Grouped(int64(len(text))), document.Grouped(noteMost))
		case text == was:
			return fmt.Errorf("what is said to be right in %s is what stands there", column)
		}
	}
	if g.Answer == Wrong && len(g.Right) == 0 && strings.TrimSpace(g.Note) == "" {
		return fmt.Errorf("it is said to be wrong, but not what is right; write that, or a remark")
	}
	return nil
}

func answersSaid() string {
	words := make([]string, len(Answers))
	for i, a := range Answers {
		words[i] = string(a)
	}
	return document.Join(words)
}
