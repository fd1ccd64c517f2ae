package inplace

import (
	"context"
	"fmt"

	"proudsieve/core/audit"
	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/engine"
)

// ListAtMost lowers how many different texts are listed, and how many rows are looked at first, and returns what undoes it.
func ListAtMost(n int) (undo func()) {
	listed, looked := listedMost, samples
	listedMost, samples = n, int64(n/2)
	return func() { listedMost, samples = listed, looked }
}

// HashAtMost lowers of how many rows hashes are counted together, and returns what undoes it.
func HashAtMost(n int64) (undo func()) {
	hashes, crowds, told := hashesAtOnce, crowdsAtOnce, crowdsTold
	hashesAtOnce, crowdsAtOnce, crowdsTold = n, n, 20
	return func() { hashesAtOnce, crowdsAtOnce, crowdsTold = hashes, crowds, told }
}

// Quoted is a text as the SQL of an engine has it, and a name.
func Quoted(engineName, text string) (literal, name string, err error) {
	d := dialects[engineName]
	literal, err = d.quote(text)
	return literal, d.name(text), err
}

// Truths works out conditions on each row of a relation, in the order of a column.
type Truths struct {
	j     *judgement
	order string
}

// NewTruths reads the columns of a relation by a rulebook.
func NewTruths(ctx context.Context, s engine.Session, engineName string, r engine.Relation, book *rulebook.Rulebook, order string) (*Truths, error) {
	d := dialects[engineName]
	described, err := s.Describe(ctx, r)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range described {
		names = append(names, c.Name)
	}
	j := &judgement{dialect: d, session: s, outline: audit.NewOutline(book, names), from: s.From(r), translator: &translator{d, map[string]*column{}}}
	for i := range described {
		c := j.newColumn(i, &described[i])
		j.columns = append(j.columns, c)
		j.translator.columns[c.name] = c
	}
	for _, c := range j.columns {
		if err := j.read(ctx, c, false); err != nil {
			return nil, err
		}
	}
	return &Truths{j, d.name(order)}, nil
}

// Of is the truth of a condition for each row: true, false, or empty for unknown; ok is false where the engine's SQL does not say it.
func (t *Truths) Of(ctx context.Context, c *condition.Condition) (truths []condition.Truth, ok bool, err error) {
	says, err := t.j.holds(c)
	if err != nil {
		return nil, false, nil
	}
	d := t.j.dialect
	sql := fmt.Sprintf("SELECT (CASE WHEN sieve_t = 1 THEN 'true' WHEN sieve_f = 1 THEN 'false' ELSE '' END) FROM (SELECT %s AS sieve_k, %s AS sieve_t, %s AS sieve_f FROM %s) AS q ORDER BY sieve_k", t.order, t.j.countedOnce(t.j.certainly(says)),
		t.j.countedOnce(t.j.certainly(said{sql: d.not(says.sql), sure: says.sure})), t.j.from)
	err = t.j.each(ctx, "a condition", sql, func(row []cell) error {
		truth := map[string]condition.Truth{"true": condition.True, "false": condition.False}[row[0].text]
		truths = append(truths, truth)
		return nil
	})
	return truths, true, err
}
