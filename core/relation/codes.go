package relation

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// textsCounted bounds the different texts of a column that are told apart.
	textsCounted = 1 << 16
	// recognised bounds the texts whose meaning is looked for, the most frequent first.
	recognised = 2000
)

// Codes is what the texts of a column stand for.
type Codes struct {
	Column string `json:"column"`
	// the code list; empty where the column has none, and texts are held against each other
	List   string    `json:"list,omitempty"`
	Filled int64     `json:"filled"`
	Used   []CodeUse `json:"used"`   // the codes, or the most frequent spelling of each text, those met most first
	Absent []string  `json:"absent"` // codes of the list that do not occur
	Texts  []TextUse `json:"texts"`  // what is no code, the most frequent first
	More   bool      `json:"more"`   // there are more texts than are told apart
}

// CodeUse is a code with the rows it stands in.
type CodeUse struct {
	Code  string `json:"code"`
	Label string `json:"label,omitempty"`
	Rows  int64  `json:"rows"`
	Ended bool   `json:"ended,omitempty"`
}

// TextUse is a text that is no code, with what it probably stands for.
type TextUse struct {
	Text    string           `json:"text"`
	Rows    int64            `json:"rows"`
	Meaning rulebook.Meaning `json:"meaning"`
}

// Recognise tells the texts of a column apart: codes, other spellings of them, and others.
func Recognise(ctx context.Context, t *Table, column string) (*Codes, error) {
	counts, more, err := countTexts(ctx, t, column)
	if err != nil {
		return nil, err
	}
	out := &Codes{Column: column, Used: []CodeUse{}, Absent: []string{}, Texts: []TextUse{}, More: more}
	for _, n := range counts {
		out.Filled += n
	}
	if recogniser := t.Book.Recogniser(column); recogniser != nil {
		out.List = t.Book.Column(column).CodeList
		out.byList(t.Book.CodeLists[out.List], recogniser, counts)
	} else {
		out.byEachOther(counts)
	}
	slices.SortFunc(out.Used, func(a, b CodeUse) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Code, b.Code))
	})
	return out, nil
}

func countTexts(ctx context.Context, t *Table, column string) (map[string]int64, bool, error) {
	at, err := t.position(column)
	if err != nil {
		return nil, false, err
	}
	counts, more := map[string]int64{}, false
	begin := func() *textCounts { return &textCounts{at: at, cells: t.Book.Cells(column), found: map[string]int64{}} }
	type stretch struct{ counted *textCounts }
	err = scanWith(ctx, t, []int{at}, begin, func() *stretch { return &stretch{} }, func(s *stretch, c *textCounts, _ *table.Batch) {
		s.counted = c
	}, func(s *stretch) {
		if s.counted == nil {
			return
		}
		s.counted.forget(at)
		found := s.counted.found
		for _, text := range slices.Sorted(maps.Keys(found)) {
			if _, known := counts[text]; !known && len(counts) == textsCounted {
				more = true
				continue
			}
			counts[text] += found[text]
		}
	})
	return counts, more, err
}

// textCounts counts the texts of a column that stand for something; it is a reader.
type textCounts struct {
	at    int
	cells *rulebook.Cells
	texts []string
	rows  []int64 // of each text of the dictionary
	found map[string]int64
}

func (c *textCounts) read(b *table.Batch) {
	column := &b.Columns[c.at]
	c.texts = column.Texts
	c.rows = slices.Grow(c.rows, len(c.texts)-len(c.rows))[:len(c.texts)]
	for _, code := range column.Codes {
		c.rows[code]++
	}
}

func (c *textCounts) forget(int) {
	for code, n := range c.rows {
		if text := c.texts[code]; n > 0 && !c.cells.Read(text).Missing {
			c.found[text] += n
		}
	}
	clear(c.rows)
	c.rows = c.rows[:0]
}

// mostFirst orders texts by their rows, then by themselves.
func mostFirst(counts map[string]int64) []string {
	return slices.SortedFunc(maps.Keys(counts),
		func(a, b string) int { return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b)) })
}

func (c *Codes) byList(list *rulebook.CodeList, recogniser *rulebook.Recogniser, counts map[string]int64) {
	met := map[string]bool{}
	for _, text := range mostFirst(counts) {
		if code := list.Find(text); code != nil {
			c.Used = append(c.Used, CodeUse{code.Code, code.Label, counts[text], code.Ended})
			met[code.Code] = true
			continue
		}
		one := TextUse{text, counts[text], rulebook.Meaning{Kind: rulebook.MeansNothing}}
		if len(c.Texts) < recognised {
			one.Meaning = recogniser.Of(text)
		}
		if one.Meaning.Kind == rulebook.MeansCode {
			met[one.Meaning.Code] = true
		}
		c.Texts = append(c.Texts, one)
	}
	for _, code := range list.Codes {
		if !met[code.Code] && !code.Ended {
			c.Absent = append(c.Absent, code.Code)
		}
	}
}

// byEachOther finds texts that differ from a more frequent one in spaces, case, accents or
// punctuation alone.
func (c *Codes) byEachOther(counts map[string]int64) {
	first := map[string]string{} // the most frequent text of each folded one
	for _, text := range mostFirst(counts) {
		folded := table.Fold(text)
		if folded == "" {
			folded = text
		}
		of, known := first[folded]
		if !known {
			first[folded] = text
			c.Used = append(c.Used, CodeUse{Code: text, Rows: counts[text]})
			continue
		}
		m := rulebook.Meaning{Kind: rulebook.MeansCode, Code: of, How: "accents or punctuation", Sure: 0.8}
		switch {
		case table.Trim(text) == table.Trim(of):
			m.How, m.Sure = "spaces", 1
		case strings.EqualFold(table.Trim(text), table.Trim(of)):
			m.How, m.Sure = "upper and lower case", 0.95
		}
		c.Texts = append(c.Texts, TextUse{text, counts[text], m})
	}
}
