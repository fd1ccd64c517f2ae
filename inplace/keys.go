package inplace

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Rows that share a key with others are surplus, all but the first one. A table in a database has no order that means anything, so that the first is the
// one whose texts come first. Rows that share a key are few where a table is good: they are read one by one.

// keysListed is how many keys that are there more than once are named in a question; more of them are looked up where they lie.
const keysListed = 5000

// hashesAtOnce is of how many rows the hashes are counted together: it keeps the server within a gigabyte or so, for as many readings of these columns.
var hashesAtOnce int64 = 10_000_000

// sharedLimit is how many rows that share a key are read.
const sharedLimit = 5_000_000

// keys are the rows that share a key with others, or are equal to others.
type keys struct {
	rules  []keyRule
	shared string // where a row is one of them
}

type keyRule struct {
	at      int
	columns []*column // nil for equal rows
	parts   []string  // its identities, as texts
	lacking string    // where a part is missing
	shared  string    // where another row has the same
}

func (k *keys) any() bool { return k.shared != never }

// identity is the text by which cells of a column are one thing.
func (j *judgement) identity(c *column) (native, text string, err error) {
	switch {
	case c.valueUnsaid != nil:
		return "", "", c.valueUnsaid
	case c.direct && c.mistyped == never && c.nature.kind == exact && j.groups(c.nature):
		number, _, _ := j.dialect.direct(c.ref, c.nature, c.cells.Type)
		return c.ref, j.trimmed(number), nil
	case c.direct && c.mistyped == never && j.groups(c.nature):
		return c.ref, c.text, nil
	case c.value.kind == table.Text && !c.spelled():
		return c.text, c.text, nil
	}
	instead, err := j.choose([]string{"(NOT " + j.isNull(c.value.sql) + ")"}, []said{{sql: j.shortest(c.value), kind: table.Text}, {sql: c.text, kind: table.Text}})
	return instead.sql, instead.sql, err
}

// spelled reports whether there are other spellings of codes.
func (c *column) spelled() bool {
	return slices.ContainsFunc(c.listed, func(l listed) bool { return l.cell.Spelling })
}

// shortest is the text of a value by which it is one thing with equal ones.
func (j *judgement) shortest(v said) string {
	if v.kind == table.Number && !v.float {
		return j.trimmed(v)
	}
	return j.asText(v.sql)
}

// keys finds the rows that share a key.
func (j *judgement) keys(ctx context.Context, groups []int) (*keys, error) {
	out := &keys{shared: never}
	var shared []string
	equal := -1
	for _, at := range groups {
		columns, whole := j.laid[at].Rule.(rulebook.GroupRule).GroupBy()
		if whole {
			equal = at
			continue
		}
		rule, err := j.keyRule(ctx, at, columns)
		if err != nil && (ctx.Err() != nil || ofEngine(err)) {
			return nil, err
		}
		if err != nil {
			j.leave(at, err)
			continue
		}
		shared, out.rules = append(shared, rule.shared), append(out.rules, rule)
	}
	if equal >= 0 {
		rule := keyRule{at: equal, lacking: never, parts: []string{j.rowHash(j.texts())}}
		where := always
		if len(out.rules) > 0 { // equal rows share their key, or lack the same part of it
			where = anyOf([]string{out.rules[0].shared, out.rules[0].lacking})
		}
		rule.shared = never
		if where != never {
			if err := j.sharing(ctx, &rule, rule.parts, where, "rows that are equal"); ofRule(err) {
				j.leave(equal, err)
				rule.shared = never
			} else if err != nil {
				return nil, err
			}
		}
		shared, out.rules = append(shared, rule.shared), append(out.rules, rule)
	}
	out.shared = anyOf(shared)
	for i := range out.rules {
		j.shared[out.rules[i].at] = out.rules[i].shared
	}
	return out, nil
}

// keyRule finds out which rows share a key. It is asked once.
func (j *judgement) keyRule(ctx context.Context, at int, columns []string) (rule keyRule, err error) {
	if known, asked := j.known[at]; asked {
		return known, nil
	}
	rule.at = at
	var natives, lacks []string
	for _, name := range columns {
		c := j.translator.columns[name]
		native, text, err := j.identity(c)
		if err != nil {
			return rule, err
		}
		rule.columns, rule.parts = append(rule.columns, c), append(rule.parts, j.firstOf(text))
		natives, lacks = append(natives, native), append(lacks, c.missing)
	}
	rule.lacking = anyOf(lacks)
	if err = j.sharing(ctx, &rule, natives, "NOT "+rule.lacking, "the values of "+document.Join(columns)+" that are there more than once"); err == nil {
		j.known[at] = rule
	}
	return rule, err
}

// uniques finds the columns that are a key by themselves, in which no value is there twice.
func (j *judgement) uniques(ctx context.Context) error {
	for at := range j.laid {
		rule, ok := j.laid[at].Rule.(rulebook.GroupRule)
		if !ok || j.laid[at].Unjudged != "" {
			continue
		}
		columns, _ := rule.GroupBy()
		if len(columns) != 1 {
			continue
		}
		c := j.translator.columns[columns[0]]
		if c.listed != nil {
			continue
		}
		key, err := j.keyRule(ctx, at, columns)
		if err != nil && (ctx.Err() != nil || ofEngine(err)) {
			return err
		}
		c.unique = c.unique || err == nil && key.shared == never
	}
	return nil
}

// anyOf is where one of some conditions holds, which are never null.
func anyOf(conditions []string) string {
	conditions = slices.DeleteFunc(slices.Clone(conditions), func(c string) bool { return c == never })
	if len(conditions) == 0 {
		return never
	}
	return "(" + strings.Join(conditions, " OR ") + ")"
}

// sharing finds the keys that are there more than once.
func (j *judgement) sharing(ctx context.Context, rule *keyRule, natives []string, where, says string) error {
	where, unique, err := j.maybeShared(ctx, rule, where, says)
	if err != nil || unique {
		rule.shared = never
		return err
	}
	query := fmt.Sprintf("SELECT %s FROM %s WHERE %s GROUP BY %s HAVING count(*) > 1", strings.Join(rule.parts, ", "), j.from, where, strings.Join(natives, ", "))
	answer, err := j.all(ctx, says, fmt.Sprintf("%s LIMIT %d", query, keysListed+1))
	if err != nil {
		return err
	}
	if len(answer) == 0 {
		rule.shared = never
		return nil
	}
	if len(answer) <= keysListed {
		var all [][]string
		for _, row := range answer {
			var texts []string
			for _, one := range row {
				texts = append(texts, one.text)
			}
			all = append(all, texts)
		}
		slices.SortFunc(all, slices.Compare[[]string])
		rule.shared = j.amongRows(rule.parts, all)
	} else {
		parts := strings.Join(rule.parts, ", ")
		if len(rule.parts) > 1 {
			parts = "(" + parts + ")"
		}
		rule.shared = fmt.Sprintf("(%s %sIN (%s))", parts, j.elsewhere(), query)
	}
	if rule.lacking != never {
		rule.shared = "(NOT " + rule.lacking + " AND " + rule.shared + ")"
	}
	return nil
}

// maybeShared looks for hashes that several rows share, which takes less than their keys do. Two different keys may share one; whether rows do share a key is
// seen by the keys of those few.
func (j *judgement) maybeShared(ctx context.Context, rule *keyRule, where, says string) (narrower string, unique bool, err error) {
	columns := rule.columns
	if columns == nil {
		columns = j.columns
	}
	part, _ := j.crowded("sieve_h")
	if part == "" || slices.ContainsFunc(columns, func(c *column) bool {
		return rule.columns != nil && (!c.direct && c.value.kind != table.Text || c.mistyped != never || c.spelled() || !j.groups(c.nature))
	}) {
		return where, false, nil // its equal values may be written in several ways
	}
	hash := j.hash(columns)
	narrower, unique, err = j.crowds(ctx, hash, where, says)
	if err != nil || unique {
		return where, unique, err
	}
	var answer [][]cell
	for _, among := range j.hashesApart(hashesAtOnce) {
		some, err := j.all(ctx, "whether there may be "+strings.TrimPrefix(says, "the "), fmt.Sprintf("SELECT %s FROM (SELECT %s AS sieve_h FROM %s WHERE %s) AS hashes%s GROUP BY sieve_h HAVING count(*) > 1 LIMIT %d", j.asText("sieve_h"), hash, j.from,
			narrower, among, keysListed+1))
		if err != nil {
			return "", false, err
		}
		if answer = append(answer, some...); len(answer) > keysListed {
			return where, false, nil
		}
	}
	if len(answer) == 0 {
		return where, true, nil
	}
	var hashes []string
	for _, row := range answer {
		if strings.Trim(row[0].text, "-0123456789") != "" {
			return "", false, fmt.Errorf("the database answered %q where a whole number was asked for", row[0].text)
		}
		hashes = append(hashes, row[0].text)
	}
	slices.Sort(hashes)
	return where + " AND " + hash + " IN (" + strings.Join(hashes, ", ") + ")", false, nil
}

// hashesApart says which hashes are looked at together, where those of so many rows may be.
func (j *judgement) hashesApart(atOnce int64) (among []string) {
	times := 1 + j.rows/atOnce
	if times == 1 {
		return []string{""}
	}
	for time := range times {
		among = append(among, fmt.Sprintf(" WHERE sieve_h %% %d = %d", times, time))
	}
	return among
}

// crowdsAtOnce is of how many rows the hashes are gathered together, of four bytes each, and crowdsTold how many parts of them are told to a question.
var (
	crowdsAtOnce int64 = 40_000_000
	crowdsTold         = 500
)

// crowds finds the rows whose hash may be there more than once.
func (j *judgement) crowds(ctx context.Context, hash, where, says string) (narrower string, unique bool, err error) {
	part, crowded := j.crowded("sieve_h")
	met := map[string]bool{}
	for _, among := range j.hashesApart(crowdsAtOnce) {
		answer, err := j.all(ctx, "in which parts there may be "+strings.TrimPrefix(says, "the "), fmt.Sprintf("SELECT %s FROM (SELECT %s AS sieve_h FROM %s WHERE %s) AS hashes%s GROUP BY %s HAVING %s", j.asText(part), hash, j.from,
			where, among, part, crowded))
		if err != nil {
			return "", false, err
		}
		for _, row := range answer {
			if _, err := row[0].count(); err != nil {
				return "", false, err
			}
			met[row[0].text] = true
		}
	}
	if len(met) > crowdsTold {
		return where, false, nil
	}
	part, _ = j.crowded(hash)
	return fmt.Sprintf("%s AND %s IN (%s)", where, part, strings.Join(slices.Sorted(maps.Keys(met)), ", ")), len(met) == 0, nil
}

// countApart reads the rows that share a key, or are equal to others, and finds those that are surplus.
func (j *judgement) countApart(ctx context.Context, g *gathered, k *keys) (all []audit.Alike, err error) {
	if !k.any() {
		return nil, nil
	}
	var selects []string
	selects = append(selects, g.selects...)
	selects = append(selects, "1")
	for _, m := range g.measures {
		selects = append(selects, j.columns[m].value.sql)
	}
	for _, at := range g.undecided {
		selects = append(selects, j.countedOnce(j.undecided[at]))
	}
	hash := j.hash(j.columns)
	selects = append(selects, hash, hash)
	known := len(selects)
	for _, rule := range k.rules {
		selects = append(selects, j.countedOnce(rule.shared))
		selects = append(selects, rule.parts...)
	}
	var names, order []string
	for i := range selects {
		selects[i] += fmt.Sprintf(" AS sieve_a%d", i)
		names = append(names, j.asText(fmt.Sprintf("sieve_a%d", i)))
	}
	for i, c := range j.columns {
		order = append(order, fmt.Sprintf("sieve_o%d", i))
		selects = append(selects, j.sorted(j.firstOf(c.text))+" AS "+order[i])
	}
	met := make([]map[string]int, len(k.rules))
	for i := range met {
		met[i] = map[string]int{}
	}
	n := 0
	err = j.each(ctx, "the rows that share a key with others", fmt.Sprintf("SELECT %s FROM (SELECT %s FROM %s WHERE %s) AS shared ORDER BY %s", strings.Join(names, ", "), strings.Join(selects, ", "), j.from, k.shared,
		strings.Join(order, ", ")), func(row []cell) error {
		if n++; n > sharedLimit {
			return fmt.Errorf("%w: more than %d rows share a key with others", ErrAnswer, sharedLimit)
		}
		one, err := j.alike(g, row)
		if err != nil {
			return err
		}
		at := known
		for i := range k.rules {
			rule := &k.rules[i]
			shares, texts := row[at].text == "1", []string{}
			for _, part := range row[at+1 : at+1+len(rule.parts)] {
				texts = append(texts, part.text)
			}
			at += 1 + len(rule.parts)
			if !shares {
				continue
			}
			key := fmt.Sprintf("%q", texts)
			met[i][key]++
			switch met[i][key] {
			case 1:
				continue
			case 2:
				j.rules[rule.at].Groups++
			}
			one.Broken.Set(rule.at)
		}
		all = append(all, one)
		if len(all) > 1<<16 {
			all = merged(all)
		}
		return nil
	})
	return merged(all), err
}
