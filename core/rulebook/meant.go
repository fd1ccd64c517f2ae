package rulebook

import "slices"

// MeantSoSection holds what looks odd in a dataset and is meant so.
const MeantSoSection = "meant_so"

// MeantSo says of a lead that it is meant so, and need not be told again unless it grows.
type MeantSo struct {
	ID      string
	Lead    string   // its kind
	Columns []string // that it speaks of
	Texts   []string // the only ones of which it is meant; none for any
	AtMost  int      // how many rows; 0 for any number
	Reason  string
}

var meantForms = []FieldForm{idForm,
	{Name: "lead", Kind: "text", Required: true, Says: "The kind of lead, as outliers", Aspect: "lead", Eases: EasesAny},
	{Name: "columns", Kind: "columns", Says: "The columns that it speaks of", Aspect: "columns", Eases: EasesAny},
	{Name: "texts", Kind: "text", Says: "The only texts that are meant; all of them where this is left out", Aspect: "texts", Eases: EasesWider},
	{Name: "at_most", Kind: "number", Says: "How many rows are meant; more are told again", Aspect: "rows at most", Eases: EasesHigher},
}

// meant reads an item of that section.
func (i *Item) meant() {
	m := MeantSo{ID: i.Name, Lead: i.TextOf("lead"), Texts: i.TextsOf("texts"), Reason: i.Reason}
	if i.Gives("columns") {
		m.Columns = i.ColumnsOf("columns", "columns", AnyColumn)
	}
	if i.Gives("at_most") {
		m.AtMost = i.CountOf("at_most")
	}
	i.book.MeantSo = append(i.book.MeantSo, m)
}

// Covers reports whether a lead of a kind, of some columns and texts and so many rows, is all meant so, and whether it
// is but for having grown.
func (m *MeantSo) Covers(kind string, columns, texts []string, rows int64) (covers, grown bool) {
	if m.Lead != kind || len(m.Columns) > 0 && !slices.Equal(slices.Sorted(slices.Values(m.Columns)), slices.Sorted(slices.Values(columns))) {
		return false, false
	}
	for _, t := range texts {
		grown = grown || len(m.Texts) > 0 && !slices.Contains(m.Texts, t)
	}
	grown = grown || m.AtMost > 0 && rows > int64(m.AtMost)
	return !grown, grown
}
