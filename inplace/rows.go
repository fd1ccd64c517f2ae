package inplace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// onRow says which rows break a rule on rows, and for which it is undecided. Where the engine's SQL cannot say the rule, the different
// combinations of its cells are judged here, as long as they are few.
func (j *judgement) onRow(ctx context.Context, rule rulebook.RowRule, at []int) (broken, undecided string, err error) {
	if c, ok := rule.(rulebook.ConditionRule); ok {
		broken, undecided, err = j.condition(c)
		if !errors.Is(err, errUnsaid) {
			return broken, undecided, err
		}
	}
	broken, undecided, few := j.byCombinations(ctx, rule, at)
	if few == nil {
		return broken, undecided, nil
	}
	return "", "", errors.Join(few, err)
}

func (j *judgement) condition(rule rulebook.ConditionRule) (broken, undecided string, err error) {
	when, holds := rule.Conditions()
	says, err := j.holds(holds)
	if err != nil {
		return "", "", err
	}
	broken, undecided = j.certainly(j.negated(says)), j.nullOf(says)
	if when != nil {
		given, err := j.holds(when)
		if err != nil {
			return "", "", err
		}
		broken, undecided = both(j.certainly(given), broken), both(j.certainly(given), undecided)
	}
	return broken, undecided, nil
}

// byCombinations judges a rule on the different combinations of the cells that it speaks of.
func (j *judgement) byCombinations(ctx context.Context, rule rulebook.RowRule, at []int) (broken, undecided string, err error) {
	var texts, firsts []string
	rows := &combinations{values: map[string][]table.Value{}}
	for _, c := range at {
		column := j.columns[c]
		texts, firsts = append(texts, column.text), append(firsts, j.firstOf(column.text))
		rows.columns = append(rows.columns, column)
	}
	answer, err := j.all(ctx, "the combinations of "+document.Join(rows.names()), fmt.Sprintf("SELECT %s FROM %s GROUP BY %[1]s LIMIT %[3]d", strings.Join(firsts, ", "), j.from, listedMost+1))
	if err != nil {
		return "", "", err
	}
	if len(answer) > listedMost {
		return "", "", fmt.Errorf("there are more than %d combinations of %s, so that they cannot be judged one by one", listedMost, document.Join(rows.names()))
	}
	for _, row := range answer {
		one := make([]string, len(row))
		for i := range row {
			one[i] = row[i].text
			cell := rows.columns[i].cells.Read(row[i].text)
			if cell.Unknown {
				cell.Value = table.Value{}
			}
			name := rows.columns[i].name
			rows.values[name] = append(rows.values[name], cell.Value)
		}
		rows.texts = append(rows.texts, one)
	}
	var bad, open []int
	judge := rule.Judge(condition.NewMemory(1))
	if judge(rows, func(i int) { bad = append(bad, i) }) > 0 {
		open = rows.undecided(rule)
	}
	return j.amongCombinations(texts, rows, bad), j.amongCombinations(texts, rows, open), nil
}

func (j *judgement) amongCombinations(texts []string, rows *combinations, some []int) string {
	if len(some) == 0 {
		return never
	}
	var list [][]string
	for _, i := range some {
		list = append(list, rows.texts[i])
	}
	slices.SortFunc(list, slices.Compare[[]string])
	return j.amongRows(texts, list)
}

// apart judges a rule on groups of rows, each of which is told once.
func (j *judgement) apart(ctx context.Context, at int, rule rulebook.ApartRule) error {
	needs := rule.Needs()
	var parts []string
	var cells []*rulebook.Cells
	lacks := []string{}
	for _, name := range needs.Group {
		c := j.translator.columns[name]
		_, text, err := j.identity(c)
		if err != nil {
			return err
		}
		parts, cells, lacks = append(parts, j.firstOf(text)), append(cells, c.cells), append(lacks, c.missing)
	}
	judge, err := rule.Begin(ctx, audit.Around(j.book, j.rows, max(j.options.Workers, 1)))
	if err != nil {
		return err
	}
	answer, err := j.all(ctx, "the values of "+document.Join(needs.Group), fmt.Sprintf("SELECT %s, %s FROM %s WHERE NOT %s GROUP BY %[1]s", strings.Join(parts, ", "), j.asText("count(*)"), j.from, anyOf(lacks)))
	if err != nil {
		return err
	}
	var rows []rulebook.TableRow
	for i, row := range answer {
		var texts []string
		for _, one := range row[:len(parts)] {
			texts = append(texts, one.text)
		}
		hash, label, lacking := audit.KeyOf(cells, texts)
		one := rulebook.TableRow{Row: uint32(i + 1), Group: hash, Label: label, Value: table.BooleanValue(true)}
		if lacking {
			one.Value = table.Value{}
		}
		rows = append(rows, one)
	}
	if err := judge.Take(rows); err != nil {
		return err
	}
	o, err := judge.End()
	if err != nil || o.Unjudged != "" {
		return errors.Join(err, unjudgedAs(o.Unjudged))
	}
	if o.Rows == nil || o.Rows.IsEmpty() {
		return nil
	}
	if o.Rows.GetCardinality() > uint64(listedMost) {
		return fmt.Errorf("more than %d values of %s break it, so that they cannot be named", listedMost, document.Join(needs.Group))
	}
	j.rules[at].Texts = map[string]int64{}
	var list [][]string
	for it := o.Rows.Iterator(); it.HasNext(); {
		row := it.Next() - 1
		var texts []string
		for _, one := range answer[row][:len(parts)] {
			texts = append(texts, one.text)
		}
		list = append(list, texts)
		if j.rules[at].Texts[rows[row].Label], err = answer[row][len(parts)].count(); err != nil {
			return err
		}
	}
	slices.SortFunc(list, slices.Compare[[]string])
	if j.where[at] = j.amongRows(parts, list); anyOf(lacks) != never {
		j.where[at] = "(NOT " + anyOf(lacks) + " AND " + j.where[at] + ")"
	}
	return nil
}

// rowsAtOnce is how many rows are handed to a rule on the table at once.
const rowsAtOnce = 1 << 14

// onTable judges a rule on the table as a whole, which does not depend on the order of its rows: those that are alike in what it asks of them are told
// once, with how many there are.
func (j *judgement) onTable(ctx context.Context, at int, rule rulebook.TableRule) error {
	judge, err := rule.Begin(ctx, audit.Around(j.book, j.rows, max(j.options.Workers, 1)))
	if err != nil {
		return err
	}
	needs := rule.Needs()
	var texts []string
	batch := rulebook.Batch{Batch: &table.Batch{}}
	for _, name := range needed(needs) {
		c := j.translator.columns[name]
		texts = append(texts, j.firstOf(c.text))
		batch.Names, batch.Cells, batch.Columns = append(batch.Names, name), append(batch.Cells, c.cells), append(batch.Columns, table.Column{})
	}
	var answer [][]cell
	if needs.Rows {
		if answer, err = j.all(ctx, "what "+document.Join(batch.Names)+" are together", fmt.Sprintf("SELECT %s, %s FROM %s GROUP BY %[1]s", strings.Join(texts, ", "), j.asText("count(*)"), j.from)); err != nil {
			return err
		}
	}
	counts := make([]int64, len(answer))
	row := uint32(0)
	hand := func() error {
		if len(batch.Rows) == 0 {
			return nil
		}
		err := judge.Take(audit.RowsFor(needs, batch))
		batch.Rows = batch.Rows[:0]
		for c := range batch.Columns {
			batch.Columns[c].Texts, batch.Columns[c].Codes = nil, batch.Columns[c].Codes[:0]
		}
		return err
	}
	for i, one := range answer {
		if counts[i], err = one[len(texts)].count(); err != nil {
			return err
		}
		for left := counts[i]; left > 0; {
			some := min(left, int64(rowsAtOnce-len(batch.Rows)))
			for c := range batch.Columns {
				column := &batch.Columns[c]
				column.Texts = append(column.Texts, one[c].text)
				for range some {
					column.Codes = append(column.Codes, uint32(len(column.Texts)-1))
				}
			}
			for range some {
				row++
				batch.Rows = append(batch.Rows, row)
			}
			if left -= some; len(batch.Rows) == rowsAtOnce {
				if err := errors.Join(hand(), ctx.Err()); err != nil {
					return err
				}
			}
		}
	}
	if err := hand(); err != nil {
		return err
	}
	o, err := judge.End()
	if err != nil || o.Unjudged != "" {
		return errors.Join(err, unjudgedAs(o.Unjudged))
	}
	found := audit.ToldRule{Found: o.Found, All: o.All, Texts: o.Texts}
	if o.Rows == nil || o.Rows.IsEmpty() {
		j.rules[at] = found
		return nil
	}
	var list [][]string
	first := uint32(1)
	for i := range answer {
		after := first + uint32(counts[i])
		switch n := o.Rows.Rank(after-1) - o.Rows.Rank(first-1); {
		case n == uint64(counts[i]):
			var one []string
			for _, text := range answer[i][:len(texts)] {
				one = append(one, text.text)
			}
			list = append(list, one)
		case n > 0:
			return unsaid("some of several rows that are alike")
		}
		first = after
	}
	if len(list) > listedMost {
		return fmt.Errorf("more than %d combinations of %s break it, so that they cannot be named", listedMost, document.Join(batch.Names))
	}
	slices.SortFunc(list, slices.Compare[[]string])
	j.rules[at], j.where[at] = found, j.amongRows(texts, list)
	return nil
}

// needed names the columns that a rule needs, each once.
func needed(n rulebook.Needs) (names []string) {
	add := func(more ...string) {
		for _, name := range more {
			if name != "" && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	add(n.Group...)
	add(n.Value)
	if n.Expression != nil {
		add(n.Expression.Names()...)
	}
	if n.Total != nil {
		add(n.Total.Names()...)
	}
	return names
}

func unjudgedAs(why string) error {
	if why == "" {
		return nil
	}
	return errors.New(why)
}

// combinations are the different combinations of some columns' texts, as the rows of a batch.
type combinations struct {
	columns []*column
	texts   [][]string
	values  map[string][]table.Value
}

func (c *combinations) names() (names []string) {
	for _, one := range c.columns {
		names = append(names, one.name)
	}
	return names
}

func (c *combinations) Len() int { return len(c.texts) }

func (c *combinations) Values(column string) ([]table.Value, []uint32) {
	codes := make([]uint32, len(c.texts))
	for i := range codes {
		codes[i] = uint32(i)
	}
	return c.values[column], codes
}

func (c *combinations) Only(some []int) condition.Rows {
	out := &combinations{columns: c.columns, values: map[string][]table.Value{}}
	for _, i := range some {
		out.texts = append(out.texts, c.texts[i])
		for name, values := range c.values {
			out.values[name] = append(out.values[name], values[i])
		}
	}
	return out
}

// undecided finds the combinations for which a rule is neither broken nor holds, one by one.
func (c *combinations) undecided(rule rulebook.RowRule) (open []int) {
	judge := rule.Judge(condition.NewMemory(1))
	for i := range c.texts {
		if judge(c.Only([]int{i}).(*combinations), func(int) {}) > 0 {
			open = append(open, i)
		}
	}
	return open
}
