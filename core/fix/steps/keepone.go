package steps

import (
	"context"
	"encoding/binary"
	"slices"
	"strings"
	"unicode/utf8"

	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Which of several rows with one key survives.
const (
	earliestRow  = "earliest_row"  // in file order
	latestRow    = "latest_row"    // in file order
	fullestRow   = "fullest_row"   // with the fewest missing cells
	largestValue = "largest_value" // of the column named by "by", the latest for dates
	leastValue   = "least_value"   // of that column, the earliest for dates
)

// Which of the values that several rows have in a cell survives; missing ones never do.
const (
	onlyValue    = "only_value"    // the one that all of them have
	latest       = "latest"        // of the row with the largest value of "by"
	earliest     = "earliest"      // of the row with the least
	mostFrequent = "most_frequent" //
	longest      = "longest"       // text
	namedSource  = "named_source"  // of the row whose source_column has the first of sources
)

var (
	rowRules  = []string{earliestRow, latestRow, fullestRow, largestValue, leastValue}
	cellRules = []string{onlyValue, latest, earliest, mostFrequent, longest, namedSource, largestValue, leastValue}
	tieRules  = []string{earliestRow, latestRow}
)

// oldSurvivors are the words that earlier versions had.
var oldSurvivors = map[string]string{"first": earliestRow, "last": latestRow, "fullest": fullestRow,
	"largest": largestValue, "least": leastValue}

func init() {
	fix.Register(fix.Kind{
		Example: fix.Example{Rows: "S1;AV-001;PH;7,1;31/05/2024\nS1;;PH;7,2;02/06/2024\n", Step: "{do: keep_one, columns: [sample], by: taken, cells: {value: latest, taken: largest_value}}"},
		Name:    "keep_one", Says: "keeps one of several rows with the same key, as a whole or cell by cell",
		Fields: []fix.Field{
			{Name: "columns", Kind: "columns", Says: "The columns of the key", Required: true},
			{Name: "survivor", Kind: "choice", Choices: rowRules, Old: "keep",
				Says: "Which row stays: earliest_row, latest_row, fullest_row, largest_value or least_value"},
			{Name: "by", Kind: "column", Says: "The column whose value decides"},
			{Name: "ties", Kind: "choice", Choices: tieRules, Says: "Which row stays of those that differ and are as good as each other by the survivor; the step is refused where there are any and nothing is said"},
			{Name: "cells", Kind: "pairs", Says: "Which value stays in a column, where that is not the one of the row: only_value, latest, earliest, most_frequent, longest, named_source, largest_value or least_value"},
			{Name: "source_column", Kind: "column", Says: "The column that says where a row is from, for named_source"},
			{Name: "sources", Kind: "texts", Says: "Its values, the one that is trusted most first"},
			{Name: "choices", Kind: "entries", Says: "What a person decided where no rule settles it: a key, a column, and the text that stays"},
			{Name: "undecided", Kind: "choice", Choices: []string{"leave"}, Says: "leave: rows that no rule and no choice settles all stay; the step is refused otherwise"},
			whereField},
		Declare: declareKeepOne,
	})
}

func declareKeepOne(i *fix.Item) fix.Action {
	k := keepOne{key: i.TextsOf("columns"), survivor: i.ChoiceOf("survivor", "a way to choose a row", oldSurvivors, rowRules...),
		by: i.TextOf("by"), ties: i.ChoiceOf("ties", "a row of a tie", nil, tieRules...), source: i.TextOf("source_column"),
		sources: i.TextsOf("sources"), leave: i.Gives("undecided")}
	if i.Gives("undecided") {
		i.ChoiceOf("undecided", "what becomes of the undecided", nil, "leave")
	}
	wantsBy, wantsSource := k.survivor == largestValue || k.survivor == leastValue, false
	for _, one := range i.PairsOf("cells", "{value: latest}") {
		if !slices.Contains(cellRules, one.Text) {
			i.Wrong("cells", "%q is not a way to choose a value%s", one.Text, document.Nearest(one.Text, cellRules))
		}
		wantsBy = wantsBy || one.Text == latest || one.Text == earliest
		wantsSource = wantsSource || one.Text == namedSource
		k.cells = append(k.cells, one)
	}
	switch {
	case k.survivor == "" && !i.Gives("cells"):
		i.Wrong("", "a step \"keep_one\" needs \"survivor\", \"cells\" or both")
	case wantsBy != i.Gives("by"):
		i.Wrong("by", "\"by\" names the column that decides; it goes with survivor: largest_value and least_value, and with latest and earliest in cells, and these need it")
	case wantsSource != (i.Gives("source_column") && i.Gives("sources")):
		i.Wrong("source_column", "\"source_column\" and \"sources\" go with named_source in cells, which needs both")
	}
	i.ListOf("choices", func(entry *fix.Item) {
		k.choices = append(k.choices, choice{entry.PairsOf("key", "{sample_id: HG-00012}"), entry.TextOf("column"), entry.TextOf("to")})
	}, "key", "column", "to")
	return k
}

type keepOne struct {
	key                        []string
	survivor, by, ties, source string
	cells                      []fix.Pair // rule by column
	sources                    []string
	choices                    []choice
	leave                      bool
}

// choice is what a person decided for one cell.
type choice struct {
	key        []fix.Pair
	column, to string
}

// Why a step is refused.
const (
	tied      = "rows with the same key differ and are as good as each other by the survivor; write ties: earliest_row or latest_row, or settle them by cells"
	undecided = "no rule settles which value stays; decide them in choices, or write undecided: leave"
)

// keeping is keepOne fitted to the columns.
type keeping struct {
	keepOne
	by, source int
	frame      *fix.Frame
	keyAt      []int
	ruled      []int    // columns that have a rule of their own, or are looked at for want of a survivor
	rules      []string // of each of these
	chosen     map[string]map[int]string
	earlier    bool
}

// Bind implements fix.Action.
func (k keepOne) Bind(b *fix.Binder) *fix.Work {
	g := &keeping{keepOne: k, frame: b.Frame, keyAt: b.Columns("columns", k.key), by: -1, source: -1, earlier: b.Earlier}
	if k.by != "" {
		g.by = b.Column("by", k.by)
	}
	if k.source != "" {
		g.source = b.Column("source_column", k.source)
	}
	ruled := map[int]string{}
	for _, one := range k.cells {
		if at := b.Column("cells", one.Name); at >= 0 {
			if ruled[at] = one.Text; slices.Contains(g.keyAt, at) {
				b.Wrong("cells", "%q is of the key, in which the rows are alike", one.Name)
			}
		}
	}
	for at := range b.Names {
		rule, named := ruled[at]
		if !named && (k.survivor != "" || slices.Contains(g.keyAt, at)) {
			continue
		}
		if !named {
			rule = onlyValue
		}
		g.ruled, g.rules = append(g.ruled, at), append(g.rules, rule)
	}
	g.choose(b)
	return &fix.Work{Settle: g.settle}
}

// choose makes the choices ready to be found by their keys.
func (g *keeping) choose(b *fix.Binder) {
	g.chosen = map[string]map[int]string{}
	for _, one := range g.choices {
		at := slices.Index(g.ruled, b.Column("choices", one.column))
		if at < 0 {
			b.Wrong("choices", "%q is no column in which a value is to be chosen", one.column)
			continue
		}
		var key strings.Builder
		for i, c := range g.keyAt {
			which := slices.IndexFunc(one.key, func(p fix.Pair) bool { return p.Name == g.key[i] })
			if which < 0 || len(one.key) != len(g.key) {
				b.Wrong("choices", "a choice is for one key; it names %s", strings.Join(g.key, ", "))
				return
			}
			if c >= 0 {
				text := one.key[which].Text
				key.WriteString(b.Cells[c].Read(text).Identity(text) + "\x00")
			}
		}
		if g.chosen[key.String()] == nil {
			g.chosen[key.String()] = map[int]string{}
		}
		g.chosen[key.String()][at] = one.to
	}
}

// hash returns what makes rows belong together; those with a key that is not whole belong to none.
func (g *keeping) hash(rows *fix.Rows) func(at int) (table.Hash, bool) {
	parts := make([]string, len(g.keyAt))
	return func(at int) (table.Hash, bool) {
		for i, c := range g.keyAt {
			text := rows.Text(c, at)
			cell := rows.Cells[c].Read(text)
			if cell.Missing {
				return table.Hash{}, false
			}
			parts[i] = cell.Identity(text)
		}
		return table.HashTexts(parts...), true
	}
}

func (g *keeping) settle(ctx context.Context, t *fix.Table) (*fix.Work, error) {
	repeats := table.NewRowSet()
	t.Want(g.keyAt...)
	if err := repeated(ctx, t, g.hash, func(group []uint32) error {
		repeats.AddMany(group)
		return nil
	}); err != nil {
		return nil, err
	}
	var sorter table.Sorter
	defer sorter.Close()
	type keyed struct{ key, value []byte }
	t.WantAll()
	if err := fix.Scan(ctx, t, repeats, func(rows *fix.Rows) (out []keyed, err error) {
		hash := g.hash(rows)
		for at, row := range rows.Rows {
			if !rows.Means(at) || !repeats.Contains(row) {
				continue
			}
			h, _ := hash(at)
			key := binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, h.Hi), h.Lo)
			value := binary.AppendVarint(nil, rows.Lines[at])
			for c := range rows.Columns {
				text := rows.Text(c, at)
				value = append(binary.AppendUvarint(value, uint64(len(text))), text...)
			}
			out = append(out, keyed{binary.BigEndian.AppendUint32(key, row), value})
		}
		return out, nil
	}, func(all []keyed) error {
		for _, one := range all {
			if err := sorter.Add(one.key, one.value); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return nil, err
	}
	edits := newCellEdits(g.ruled)
	one := &keptGroup{keeping: g, table: t, edits: edits}
	hash := ""
	err := sorter.Each(ctx, func(key, value []byte) error {
		if now := string(key[:16]); now != hash {
			hash = now
			if err := one.end(); err != nil {
				return err
			}
			one.begin()
		}
		line, size := binary.Varint(value)
		one.add(member{binary.BigEndian.Uint32(key[16:]), line, textsOf(value[size:])})
		return nil
	})
	if err == nil {
		err = one.end()
	}
	if err != nil {
		edits.close()
		return nil, err
	}
	return edits.work(ctx)
}

func textsOf(value []byte) (out []string) {
	for len(value) > 0 {
		length, used := binary.Uvarint(value)
		out = append(out, string(value[used:used+int(length)]))
		value = value[used+int(length):]
	}
	return out
}

// member is a row of a group.
type member struct {
	row   uint32
	line  int64
	cells []string
}

// keptGroup is the rows with one key, as far as they were met.
type keptGroup struct {
	*keeping
	table *fix.Table
	edits *cellEdits
	rows  []uint32
	best  member
	rank  table.Value
	tied  bool
	cells []cellChoice // of each column that is ruled
}

func (g *keptGroup) begin() {
	g.rows, g.tied = g.rows[:0], false
	g.cells = make([]cellChoice, len(g.ruled))
	for i := range g.cells {
		g.cells[i].of = map[string]*fix.Choice{}
	}
}

func (g *keptGroup) read(m member, column int) rulebook.Cell {
	return g.frame.Cells[column].Read(m.cells[column])
}

func (g *keptGroup) add(m member) {
	g.rows = append(g.rows, m.row)
	rank := g.rankOf(m)
	switch order := g.better(rank); {
	case len(g.rows) == 1 || order > 0:
		g.best, g.rank, g.tied = m, rank, false
	case order == 0 && !slices.Equal(m.cells, g.best.cells):
		if g.tied = true; g.ties == latestRow {
			g.best = m
		}
	}
	for i, c := range g.ruled {
		if cell := g.read(m, c); !cell.Missing {
			g.cells[i].add(g.keeping, g.rules[i], m, m.cells[c], cell, func(column int) table.Value { return g.read(m, column).Value })
		}
	}
}

// rankOf returns what decides between whole rows.
func (g *keptGroup) rankOf(m member) table.Value {
	switch g.survivor {
	case largestValue, leastValue:
		return g.read(m, g.by).Value
	case fullestRow:
		filled := int64(0)
		for c := range m.cells {
			if !g.read(m, c).Missing {
				filled++
			}
		}
		return table.NumberValue(table.DecimalOf(filled, 0))
	}
	return table.Value{}
}

// better reports whether a later row is to be kept (above 0), as good as the one so far (0), or not.
func (g *keptGroup) better(rank table.Value) int {
	switch g.survivor {
	case latestRow:
		return 1
	case largestValue, fullestRow:
		return table.Compare(rank, g.rank)
	case leastValue:
		if rank.Kind == table.Missing || g.rank.Kind == table.Missing {
			return table.Compare(rank, g.rank) // a value is better than none
		}
		return table.Compare(g.rank, rank)
	}
	return -1 // the earliest stays
}

// end settles the group: what stands in the row that stays, and that the others leave.
func (g *keptGroup) end() error {
	if len(g.rows) < 2 {
		return nil
	}
	key := ""
	for _, c := range g.keyAt {
		key += g.read(g.best, c).Identity(g.best.cells[c]) + "\x00"
	}
	stays := slices.Clone(g.best.cells)
	open := false
	for i, c := range g.ruled {
		text, settled := g.chosen[key][i], true
		if _, chosen := g.chosen[key][i]; !chosen {
			text, settled = g.cells[i].settle(g.rules[i], g.best.cells[c], func(text string) string {
				return g.frame.Cells[c].Read(text).Identity(text)
			})
		}
		if !settled {
			open = true
			g.tell(c, g.cells[i])
		}
		stays[c] = text
	}
	if open {
		if !g.leave {
			g.table.Refuse(undecided, int64(len(g.rows)), g.place())
		}
		return nil // all of them stay as they are
	}
	if g.tied && g.ties == "" && !g.earlier {
		g.table.Refuse(tied, int64(len(g.rows)), g.place())
	}
	for i, c := range g.ruled {
		if stays[c] != g.best.cells[c] {
			if err := g.edits.set(g.best.row, i, stays[c]); err != nil {
				return err
			}
		}
	}
	for _, row := range g.rows {
		if row != g.best.row {
			if err := g.edits.drop(row, g.best.row, stays); err != nil {
				return err
			}
		}
	}
	return nil
}

func (g *keptGroup) place() fix.Place {
	return fix.Place{Row: g.best.row, Line: g.best.line, Column: strings.Join(g.key, ", "), Text: strings.Join(g.keyTexts(), ", ")}
}

func (g *keptGroup) keyTexts() []string {
	out := make([]string, len(g.keyAt))
	for i, c := range g.keyAt {
		out[i] = g.best.cells[c]
	}
	return out
}

// tell puts a cell on the list of what a person has to decide.
func (g *keptGroup) tell(column int, c cellChoice) {
	u := fix.Undecided{Key: map[string]string{}, Column: g.frame.Names[column], Choices: []fix.Choice{}}
	for i, text := range g.keyTexts() {
		u.Key[g.key[i]] = text
	}
	for _, one := range c.order {
		u.Choices = append(u.Choices, *c.of[one])
	}
	g.table.Undecided(u)
}

// choicesKept is how many different values of a cell are told apart in a group.
const choicesKept = 1000

// cellChoice is what the rows of a group have in one column.
type cellChoice struct {
	of    map[string]*fix.Choice // by what the value is the same as
	order []string
	best  string // the key of the best so far
	rank  table.Value
	tied  bool
	many  bool // more values than are told apart
}

func (c *cellChoice) add(g *keeping, rule string, m member, text string, cell rulebook.Cell, value func(column int) table.Value) {
	identity := cell.Identity(text)
	one := c.of[identity]
	if one == nil {
		if len(c.order) == choicesKept {
			c.many = true
			return
		}
		one = &fix.Choice{Text: text, Row: m.row}
		c.of[identity], c.order = one, append(c.order, identity)
	}
	one.Rows++
	var rank table.Value
	better := 0
	number := func(n int) table.Value { return table.NumberValue(table.DecimalOf(int64(n), 0)) }
	switch rule {
	case latest, earliest:
		rank = value(g.by)
	case largestValue, leastValue:
		rank = cell.Value
	case longest:
		rank = number(utf8.RuneCountInString(text))
	case namedSource:
		if at := slices.Index(g.sources, strings.TrimSpace(m.cells[g.source])); at >= 0 {
			rank = number(-at)
		}
	default: // only_value and most_frequent look at all of them in the end
		return
	}
	switch least := rule == earliest || rule == leastValue; {
	case c.best == "" && len(c.order) == 1 && one.Rows == 1:
		better = 1
	case least && rank.Kind != table.Missing && c.rank.Kind != table.Missing:
		better = table.Compare(c.rank, rank)
	default:
		better = table.Compare(rank, c.rank)
	}
	switch {
	case better > 0:
		c.best, c.rank, c.tied = identity, rank, false
	case better == 0 && identity != c.best:
		c.tied = true
	}
}

// settle returns the text that stays; false where the rule does not say. own is that of the row that stays, and is tells
// what a text is the same as.
func (c *cellChoice) settle(rule, own string, is func(text string) string) (text string, settled bool) {
	switch {
	case len(c.order) == 0:
		return own, true
	case len(c.order) == 1:
		return c.kept(c.order[0], own, is), true
	case c.many || rule == onlyValue:
		return own, false
	case rule == mostFrequent:
		best, most := "", int64(0)
		for _, identity := range c.order {
			switch n := c.of[identity].Rows; {
			case n > most:
				best, most, c.tied = identity, n, false
			case n == most:
				c.tied = true
			}
		}
		return c.kept(best, own, is), !c.tied
	case rule == namedSource && c.rank.Kind == table.Missing, (rule == latest || rule == earliest) && c.rank.Kind == table.Missing:
		return own, false
	}
	return c.kept(c.best, own, is), !c.tied
}

// kept is the text of a value: that of the row that stays where it has the value, so that 7.0 is not written over 7.00.
func (c *cellChoice) kept(identity, own string, is func(text string) string) string {
	if is(own) == identity {
		return own
	}
	return c.of[identity].Text
}
