package steps

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;Acidity;7,1;31/05/2024\nS2;AV-001;nitrat;3;31/05/2024\n", Step: "{do: map_codes, columns: [parameter], codes: {nitrat: NO3}}"},
		Name:    "map_codes",
		Says:    "writes codes for what stands for them: the other spellings of the code list, texts that are named here or in another dataset, and suggestions that are sure enough",
		Fields: []fix.Field{columnsField,
			{Name: "codes", Kind: "pairs", Says: "The code of each text, spaces around it and its case left aside, as {nitrat: NO3}"},
			{Name: "sure", Kind: "number", Says: "Takes what the product suggests for a text that is no code, where it is at least so sure, from 0.5 to 1"},
			{Name: "from_dataset", Says: "The dataset whose newest table says which text stands for which code"},
			{Name: "texts_in", Says: "Its column with the texts"},
			{Name: "codes_in", Says: "Its column with the codes"}, whereField},
		Declare: func(i *fix.Item) fix.Action {
			m := mapCodes{columns: i.TextsOf("columns"), codes: map[string]string{}, dataset: i.TextOf("from_dataset"),
				texts: i.TextOf("texts_in"), codesIn: i.TextOf("codes_in")}
			for _, one := range i.PairsOf("codes", "{nitrat: NO3}") {
				m.codes[table.Level(one.Name)] = one.Text
			}
			if sure, given := i.NumberOf("sure"); given {
				if m.sure = sure.Float(); m.sure < 0.5 || m.sure > 1 {
					i.Wrong("sure", "sure is a number from 0.5 to 1, and not %s", i.TextOf("sure"))
				}
			}
			if given := i.Gives("from_dataset"); given != i.Gives("texts_in") || given != i.Gives("codes_in") {
				i.Wrong("from_dataset", "another dataset is named by from_dataset, texts_in and codes_in, all three of them")
			}
			return m
		},
	})
}

type mapCodes struct {
	columns                 []string
	codes                   map[string]string // by levelled text
	sure                    float64
	dataset, texts, codesIn string
}

// What is counted of texts.
const (
	unmapped = "unmapped"
	waiting  = "waiting "
)

// ReadsDataset tells which other dataset says what stands for what; "" for none.
func (m mapCodes) ReadsDataset() string { return m.dataset }

// Bind implements fix.Action.
func (m mapCodes) Bind(b *fix.Binder) *fix.Work {
	recognisers := map[int]*recogniser{}
	for i, at := range b.Columns("columns", m.columns) {
		if at < 0 {
			continue
		}
		list := b.Cells[at].Codes()
		switch {
		case list == nil && len(m.codes) == 0 && m.dataset == "":
			b.Wrong("columns", "%q has no code list to map to; give codes, or declare one in the rulebook", m.columns[i])
		case list == nil && m.sure > 0:
			b.Wrong("sure", "%q has no code list, so that nothing is suggested for its texts", m.columns[i])
		case list != nil:
			for _, code := range slices.Sorted(maps.Values(m.codes)) {
				if !list.Has(code) {
					b.Wrong("codes", "%q is no code of the list of %q", code, m.columns[i])
				}
			}
			recognisers[at] = &recogniser{of: b.Book.Recogniser(b.Names[at]), known: map[string]rulebook.Meaning{}}
		}
	}
	work := func(elsewhere map[string]string) *fix.Work {
		return rewriter{columns: m.columns, note: m.note, rewrite: func(c *bound, text string) (string, string) {
			return m.map1(c, text, elsewhere, recognisers[c.at])
		}}.Bind(b)
	}
	if m.dataset == "" {
		return work(nil)
	}
	book := b.Book
	return &fix.Work{Settle: func(ctx context.Context, _ *fix.Table) (*fix.Work, error) {
		elsewhere, err := m.elsewhere(ctx, book)
		return work(elsewhere), err
	}}
}

// map1 returns the code of a text, or the text, and what is counted of it.
func (m mapCodes) map1(c *bound, text string, elsewhere map[string]string, r *recogniser) (now, counted string) {
	cell := c.Cells[c.at].Read(text)
	levelled := table.Level(text)
	switch code, named := m.codes[levelled]; {
	case named:
		return code, ""
	case cell.Missing:
		return text, ""
	case cell.Spelling:
		return cell.Value.Text, ""
	}
	if code, named := elsewhere[levelled]; named {
		return code, ""
	}
	if !cell.Unknown || r == nil {
		return text, ""
	}
	meaning := r.meaning(text)
	switch {
	case meaning.Kind != rulebook.MeansCode:
		return text, unmapped
	case m.sure > 0 && meaning.Sure >= m.sure:
		return meaning.Code, ""
	}
	return text, fmt.Sprintf("%s%q for %s", waiting, text, meaning.Code)
}

// waitingShown is how many texts that wait for acceptance a note names.
const waitingShown = 5

func (m mapCodes) note(counts map[string]int64) string {
	var notes, texts []string
	all := int64(0)
	for _, what := range slices.Sorted(maps.Keys(counts)) {
		if text, ok := strings.CutPrefix(what, waiting); ok {
			all += counts[what]
			texts = append(texts, fmt.Sprintf("%s (%d)", text, counts[what]))
		}
	}
	if all > 0 {
		named := strings.Join(texts[:min(len(texts), waitingShown)], ", ")
		if len(texts) > waitingShown {
			named += fmt.Sprintf(", and %d more texts", len(texts)-waitingShown)
		}
		notes = append(notes, fmt.Sprintf("%s for acceptance: %s. Name them in codes, accept them in the code list, or take what is sure enough by sure.",
			document.Counted(all, "cell waits", "cells wait"), named))
	}
	notes = append(notes, counting(counts[unmapped], "text is no code, and nothing is suggested for it", "texts are no codes, and nothing is suggested for them"))
	return strings.TrimSpace(strings.Join(notes, " "))
}

// elsewhere reads the codes of texts in another dataset.
func (m mapCodes) elsewhere(ctx context.Context, book *rulebook.Rulebook) (map[string]string, error) {
	if book.Beside == nil || book.Beside.Open == nil {
		return nil, fmt.Errorf("the dataset %s is not at hand here", m.dataset)
	}
	source, other, err := book.Beside.Open(ctx, m.dataset)
	if err != nil {
		return nil, err
	}
	names := source.Columns()
	texts, codes := slices.Index(names, m.texts), slices.Index(names, m.codesIn)
	for name, at := range map[string]int{m.texts: texts, m.codesIn: codes} {
		if at < 0 {
			return nil, fmt.Errorf("the table of %s has no column %q; its columns are %s", m.dataset, name, strings.Join(names, ", "))
		}
	}
	out, two := map[string]string{}, ""
	cells := other.Cells(m.codesIn)
	err = table.Scan(ctx, source, 1, func(b *table.Batch) (*table.Batch, error) { return b, nil }, func(b *table.Batch) error {
		for at := range b.Rows {
			text, code := table.Level(b.Columns[texts].At(at)), b.Columns[codes].At(at)
			if text == "" || cells.Read(code).Missing {
				continue
			}
			if was, known := out[text]; known && was != code && two == "" {
				two = fmt.Sprintf("in %s, %q stands for %s and for %s; a text stands for one code", m.dataset, b.Columns[texts].At(at), was, code)
			}
			if out[text] = code; len(out) > elsewhereLimit {
				return fmt.Errorf("%s has more than %d texts; codes are mapped by shorter lists", m.dataset, elsewhereLimit)
			}
		}
		return nil
	})
	if err == nil && two != "" {
		err = fmt.Errorf("%s", two)
	}
	return out, err
}

// elsewhereLimit is how many texts another dataset may give codes to.
const elsewhereLimit = 1_000_000

// recogniser finds what texts probably stand for, each once.
type recogniser struct {
	of    *rulebook.Recogniser
	mutex sync.Mutex
	known map[string]rulebook.Meaning
}

// recognisedTexts bounds the texts whose meaning is looked for; what is beyond counts as unknown.
const recognisedTexts = 5_000

func (r *recogniser) meaning(text string) rulebook.Meaning {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	m, known := r.known[text]
	if !known && len(r.known) < recognisedTexts && r.of != nil {
		m = r.of.Of(text)
		r.known[strings.Clone(text)] = m
	}
	return m
}
