// Package inplace judges tables where they lie, in a database. A rulebook becomes questions in the engine's own SQL; what comes back are counts, the
// different texts of columns that have few of them, and the rows that share a key with others. What a text stands for is decided here, by the
// same code that judges files, so that results are the same; what an engine's SQL cannot say exactly is said to be unjudged.
//
// An engine is a dialect, which is one file. The tables are read through package engine, which lets nothing be written.
package inplace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/engine"
)

var dialects = map[string]dialect{"postgresql": postgresql{}, "clickhouse": clickhouse{}}

// Options say how a table is judged.
type Options struct {
	// Tell is told each question before it is put; nil for nobody.
	Tell func(says, sql string)
	// Budget is how long all questions may take together; 0 for no end.
	Budget time.Duration
	// Workers read the tables of other datasets that a rulebook names; 0 for one.
	Workers int
}

// ErrChanged says that a table changed while it was judged.
var ErrChanged = errors.New("the table changed while it was judged; judge it when nothing is written there")

// ErrBudget says that the questions took longer than they may together.
var ErrBudget = errors.New("judging the table takes longer than it may")

// aliases is how the names begin that questions give to what they work out. In ClickHouse such a name stands for it everywhere, and would hide a column.
const aliases = "sieve_"

// whereLimit is how long a condition may be that is kept with a finding, in bytes, and sqlKept how much of a question is.
const (
	whereLimit = 1 << 16
	sqlKept    = 1 << 12
)

type judgement struct {
	*translator
	dialect
	session    engine.Session
	options    Options
	book       *rulebook.Rulebook
	outline    *audit.Outline
	from       string
	rows       int64
	columns    []*column
	laid       []audit.Laid
	rules      []audit.ToldRule
	where      []string // per rule, which rows break it
	undecided  []string // per rule on rows
	shared     []string // per key, which rows share it with others
	digest     digest
	notes      []string
	statements []audit.Statement
	padsAll    *bool           // whether the server pads numbers, once it was asked
	known      map[int]keyRule // by their rules, those keys of which is known which rows share them
}

func (j *judgement) note(format string, args ...any) {
	j.notes = append(j.notes, fmt.Sprintf(format, args...))
}

// Judge judges a relation by a rulebook, on an engine of a name. The rulebook is taken as one for a table with types (Rulebook.ForTyped). Errors are those of the
// engine, and audit.ErrRows.
func Judge(ctx context.Context, s engine.Session, engineName string, r engine.Relation, book *rulebook.Rulebook, o Options) (*audit.Result, error) {
	j, described, err := begin(ctx, s, engineName, r)
	if err != nil {
		return nil, err
	}
	within, done := ctx, func() {}
	if o.Budget > 0 {
		within, done = context.WithTimeoutCause(ctx, o.Budget, ErrBudget)
	}
	defer done()
	if err := j.bind(within, described, book, o); err != nil {
		return nil, j.overBudget(within, err)
	}
	told, err := j.judge(within)
	if err != nil {
		return nil, j.overBudget(within, err)
	}
	if counted := told.Rows(); counted != j.rows {
		return nil, fmt.Errorf("%w: it had %d rows, and later %d", ErrChanged, j.rows, counted)
	}
	result, err := j.outline.Result(ctx, told)
	if err != nil {
		return nil, err
	}
	result.There = j.there(s, r, result)
	return result, nil
}

// overBudget says of an error that there was no more time for what came next.
func (j *judgement) overBudget(ctx context.Context, err error) error {
	if !errors.Is(context.Cause(ctx), ErrBudget) {
		return err
	}
	last := "none"
	if n := len(j.statements); n > 0 {
		last = j.statements[n-1].Says
	}
	return fmt.Errorf("%w: %s of its questions were put in %s, the last one about %s; declare the database with a longer time for an audit, or judge a part of the table by a query", ErrBudget,
		document.Grouped(int64(len(j.statements))), j.options.Budget, last)
}

// begin begins what is asked of a relation: the engine must be known, and each of its columns have a name of its own that stands for nothing else.
func begin(ctx context.Context, s engine.Session, engineName string, r engine.Relation) (*judgement, []engine.Column, error) {
	d, known := dialects[engineName]
	if !known {
		return nil, nil, fmt.Errorf("%w: tables of %s are not judged where they lie", engine.ErrKind, engineName)
	}
	described, err := s.Describe(ctx, r)
	if err != nil {
		return nil, nil, err
	}
	met := map[string]bool{}
	for i := range described {
		name := described[i].Name
		if met[name] {
			return nil, nil, fmt.Errorf("%w: it gives two columns %q", engine.ErrQuery, name)
		}
		if strings.HasPrefix(strings.ToLower(name), aliases) {
			return nil, nil, fmt.Errorf("%w: it gives a column %q, and names that begin with %s are needed for what is asked; give it another name by a query", engine.ErrQuery, name, aliases)
		}
		met[name] = true
	}
	return &judgement{dialect: d, session: s, from: s.From(r), known: map[int]keyRule{}}, described, nil
}

// writesRight is an error where the server would write some of the table's cells as other texts than they have.
func (j *judgement) writesRight(ctx context.Context, described []engine.Column) error {
	for i := range described {
		c := &described[i]
		where, try, right := j.garbled(j.name(c.Name), j.natureOf(c))
		if where == "" {
			continue
		}
		tried, err := j.all(ctx, "whether this server writes "+c.Name+" as it is", try)
		if err != nil || len(tried) == 1 && tried[0][0].text == right {
			return err
		}
		answer, err := j.all(ctx, "the cells of "+c.Name+" that this server writes wrongly", "SELECT "+j.asText(j.countWhere(where))+" FROM "+j.from)
		if err != nil {
			return err
		}
		if n, err := answer[0][0].count(); err != nil || n > 0 {
			return cmp.Or(err, fmt.Errorf("%w: the column %q has %s that this version of the server writes wrongly (%s becomes %q); take the table as a delivery, or use a later version", engine.ErrQuery,
				c.Name, document.Counted(n, "number", "numbers"), right, tried[0][0].text))
		}
	}
	return nil
}

// bind lays out a rulebook over the columns, which the server must write as they are.
func (j *judgement) bind(ctx context.Context, described []engine.Column, book *rulebook.Rulebook, o Options) (err error) {
	j.options = o
	if err := j.writesRight(ctx, described); err != nil {
		return err
	}
	var names, text []string
	types := map[string]table.Type{}
	for i := range described {
		names = append(names, described[i].Name)
		if described[i].Text {
			text = append(text, described[i].Name)
		}
		types[described[i].Name] = typeOf(j.natureOf(&described[i]))
	}
	if book, err = audit.Bound(ctx, book.ForTyped(text), max(o.Workers, 1)); err != nil {
		return err
	}
	j.book = book.WithTypes(names, types)
	j.outline = audit.NewOutline(j.book, names)
	j.laid = j.outline.Rules()
	j.rules, j.where, j.undecided, j.shared = make([]audit.ToldRule, len(j.laid)), make([]string, len(j.laid)), make([]string, len(j.laid)), make([]string, len(j.laid))
	j.translator = &translator{j.dialect, map[string]*column{}}
	for i := range described {
		c := j.newColumn(i, &described[i])
		j.columns = append(j.columns, c)
		j.translator.columns[c.name] = c
	}
	return nil
}

// there says where the table lies and how it was judged.
func (j *judgement) there(s engine.Session, r engine.Relation, result *audit.Result) *audit.There {
	slices.Sort(j.notes)
	out := &audit.There{Server: s.Server(), Relation: r.String(), Query: r.Query, Digest: j.digest.String(), DigestBy: j.hashName(), Notes: slices.Compact(j.notes), Statements: j.statements,
		Where: map[string]string{}}
	for i := range out.Statements {
		out.Statements[i].SQL = cutSQL(out.Statements[i].SQL)
	}
	for at, where := range j.where {
		if j.shared[at] != "" {
			where = j.shared[at]
		}
		if id := j.laid[at].ID; where != never && len(where) <= whereLimit && result.Finding(id) != nil {
			out.Where[id] = where
		}
	}
	return out
}

// typeOf is the type of a column that no rulebook declares.
func typeOf(n nature) table.Type {
	switch n.kind {
	case integer:
		return table.TypeInteger
	case exact, floating:
		return table.TypeDecimal
	case boolean:
		return table.TypeBoolean
	case dated:
		return table.TypeDate
	case moment:
		return table.TypeDateTime
	}
	return table.TypeText
}

func (j *judgement) judge(ctx context.Context) (*audit.Told, error) {
	answer, err := j.all(ctx, "how many rows there are", "SELECT "+j.asText("count(*)")+" FROM "+j.from)
	if err != nil {
		return nil, err
	}
	if j.rows, err = answer[0][0].count(); err != nil {
		return nil, err
	}
	many, err := j.manyAmong(ctx)
	if err != nil {
		return nil, err
	}
	told := &audit.Told{Columns: make([]profile.Summary, len(j.columns)), Met: make([]map[string]bool, len(j.columns))}
	for i, c := range j.columns {
		if err := j.read(ctx, c, many[i]); err != nil {
			return nil, err
		}
	}
	if err := j.uniques(ctx); err != nil {
		return nil, err
	}
	for i, c := range j.columns {
		if told.Columns[i], err = j.describe(ctx, c); err != nil {
			return nil, err
		}
		told.Met[i] = c.met()
	}
	var groups []int
	for at := range j.laid {
		if err := j.lay(ctx, at, &groups); err != nil {
			return nil, err
		}
	}
	if err := j.listedAreAll(); err != nil {
		return nil, err
	}
	if told.Alike, err = j.count(ctx, groups); err != nil {
		return nil, err
	}
	told.Rules = j.rules
	return told, nil
}

// listedAreAll reports whether the columns that were listed have as many rows as the table.
func (j *judgement) listedAreAll() error {
	for _, c := range j.columns {
		n := int64(0)
		for i := range c.listed {
			n += c.listed[i].rows
		}
		if c.listed != nil && n != j.rows {
			return fmt.Errorf("%w: it had %d rows, and later %d", ErrChanged, j.rows, n)
		}
	}
	return nil
}

// met returns the codes that occur.
func (c *column) met() map[string]bool {
	met := map[string]bool{}
	if codes := c.cells.Codes(); codes != nil {
		for i := range c.listed {
			if l := &c.listed[i]; !l.cell.Missing && codes.Find(l.cell.Value.Text) != nil {
				met[l.cell.Value.Text] = true
			}
		}
	}
	return met
}

// lay finds out which rows break a rule.
func (j *judgement) lay(ctx context.Context, at int, groups *[]int) error {
	j.where[at] = never
	laid := &j.laid[at]
	if laid.Unjudged != "" {
		return nil
	}
	var err error
	switch rule := laid.Rule.(type) {
	case rulebook.CellRule:
		j.where[at], j.rules[at].Texts, err = j.breaks(ctx, j.columns[laid.Columns[0]], rule)
	case rulebook.RowRule:
		j.where[at], j.undecided[at], err = j.onRow(ctx, rule, laid.Columns)
	case rulebook.GroupRule:
		*groups = append(*groups, at)
	case rulebook.SummaryRule:
		if asks, ok := rule.(rulebook.CodesRule); ok {
			for _, c := range j.columns {
				if c.name == asks.MetIn() && c.listed == nil {
					err = unsaid("which codes occur among more than %d different texts", listedMost)
				}
			}
		}
	case rulebook.ApartRule:
		err = j.apart(ctx, at, rule)
	case rulebook.OrderRule:
		err = unsaid("the order of the rows, which mean nothing in a database,")
	case rulebook.TableRule:
		err = j.onTable(ctx, at, rule)
	default:
		err = unsaid("a rule on the table as a whole")
	}
	if err == nil || ctx.Err() != nil || ofEngine(err) {
		return err
	}
	j.leave(at, err)
	return nil
}

// leave leaves a rule unjudged.
func (j *judgement) leave(at int, because error) {
	j.where[at], j.undecided[at], j.rules[at] = never, "", audit.ToldRule{Unjudged: "it is not judged where the table lies: " + oneLine(because)}
}

// ofEngine reports whether an error is one of the connection or of the server as a whole, which is no matter of a single rule.
func ofEngine(err error) bool {
	return errors.Is(err, engine.ErrGone) || errors.Is(err, engine.ErrReached) || errors.Is(err, engine.ErrRefused) || errors.Is(err, engine.ErrRelation) || errors.Is(err, engine.ErrTimeout)
}

// ofRule reports whether an error is that a server could not work out what one rule asks, for want of memory, say, or that this has too long an answer.
func ofRule(err error) bool { return errors.Is(err, engine.ErrQuery) || errors.Is(err, ErrAnswer) }

// leaveRefused leaves those rules unjudged whose conditions the server takes, and cannot work out on the rows that are there (a number that grows too
// large, say), and returns them.
func (j *judgement) leaveRefused(ctx context.Context) (left []int, err error) {
	for at, where := range j.where {
		for _, condition := range []string{where, j.undecided[at]} {
			if condition == never || condition == "" {
				continue
			}
			_, err := j.all(ctx, "whether "+j.laid[at].ID+" can be worked out", "SELECT "+j.asText(j.countWhere(condition))+" FROM "+j.from)
			if errors.Is(err, engine.ErrQuery) {
				j.leave(at, err)
				left = append(left, at)
				break
			}
			if err != nil {
				return nil, err
			}
		}
	}
	return left, nil
}

// gathered is what is asked of rows that are counted together: words of bits, and the sums of the measures.
type gathered struct {
	broken    []int // the rules that can be broken
	missing   []int // the columns that can be missing
	undecided []int
	measures  []int
	selects   []string // each with the name by which it is grouped
}

func (j *judgement) gather() *gathered {
	g := &gathered{measures: j.outline.Measures()}
	var broken, missing []string
	for at, where := range j.where {
		if where != never {
			g.broken, broken = append(g.broken, at), append(broken, where)
		}
		if u := j.undecided[at]; u != "" && u != never {
			g.undecided = append(g.undecided, at)
		}
	}
	for i, c := range j.columns {
		if c.missing != never {
			g.missing, missing = append(g.missing, i), append(missing, c.missing)
		}
	}
	for _, conditions := range [][]string{broken, missing} {
		for some := range slices.Chunk(conditions, wordBits) {
			g.selects = append(g.selects, j.bits(some))
		}
	}
	return g
}

// count counts the rows by which rules they break and which columns they lack.
func (j *judgement) count(ctx context.Context, groups []int) ([]audit.Alike, error) {
	for _, m := range j.outline.Measures() {
		c := j.columns[m]
		if c.value.float {
			j.note("Sums of %s over findings are those of binary fractions in double precision, and not exact.", c.name)
		}
		if c.valueUnsaid != nil {
			return nil, fmt.Errorf("the measure %s cannot be summed where the table lies: %w; take the table as a delivery instead", c.name, c.valueUnsaid)
		}
	}
	before := slices.Clone(j.rules)
	alike, err := j.countOnce(ctx, groups)
	if !errors.Is(err, engine.ErrQuery) {
		return alike, err
	}
	left, leftErr := j.leaveRefused(ctx)
	if leftErr != nil || len(left) == 0 {
		return nil, cmp.Or(leftErr, err)
	}
	j.digest = digest{}
	for at := range j.rules {
		if !slices.Contains(left, at) {
			j.rules[at] = before[at]
		}
	}
	return j.countOnce(ctx, groups)
}

func (j *judgement) countOnce(ctx context.Context, groups []int) ([]audit.Alike, error) {
	keys, err := j.keys(ctx, groups)
	if err != nil {
		return nil, err
	}
	g := j.gather()
	apart, err := j.countApart(ctx, g, keys)
	if err != nil {
		return nil, err
	}
	var inner, names, outer []string
	for i, sql := range g.selects {
		inner, names = append(inner, fmt.Sprintf("%s AS sieve_w%d", sql, i)), append(names, fmt.Sprintf("sieve_w%d", i))
		outer = append(outer, j.asText(names[i]))
	}
	outer = append(outer, j.asText("count(*)"))
	for i, m := range g.measures {
		v := j.columns[m].value
		inner = append(inner, fmt.Sprintf("%s AS sieve_m%d", v.sql, i))
		name := fmt.Sprintf("sieve_m%d", i)
		measure := said{sql: name, kind: table.Number, scale: v.scale, float: v.float}
		outer = append(outer, j.sumText(j.sum(measure), measure))
	}
	for i, at := range g.undecided {
		inner = append(inner, fmt.Sprintf("%s AS sieve_u%d", j.undecided[at], i))
		outer = append(outer, j.asText(j.countWhere(fmt.Sprintf("sieve_u%d", i))))
	}
	inner = append(inner, j.hash(j.columns)+" AS sieve_h")
	outer = append(outer, j.asText("sum(sieve_h)"), j.asText(j.exclusiveOr("sieve_h")))
	where := always
	if keys.any() {
		where = "NOT " + keys.shared
	}
	sql := fmt.Sprintf("SELECT %s FROM (SELECT %s FROM %s WHERE %s%s) AS judged", strings.Join(outer, ", "), strings.Join(inner, ", "), j.from, where, j.fence())
	if len(names) > 0 {
		sql += " GROUP BY " + strings.Join(names, ", ")
	}
	err = j.each(ctx, "how many rows break which rules, and lack which columns", sql, func(row []cell) error {
		one, err := j.alike(g, row)
		if err == nil && one.Rows > 0 {
			apart = append(apart, one)
		}
		return err
	})
	return merged(apart), err
}

// alike reads a row of an answer about rows of which the same is said.
func (j *judgement) alike(g *gathered, row []cell) (audit.Alike, error) {
	one := audit.Alike{Broken: audit.NewBits(len(j.laid)), Missing: audit.NewBits(len(j.columns))}
	at := 0
	bits := func(of []int, to audit.Bits) error {
		for some := range slices.Chunk(of, wordBits) {
			word, err := row[at].count()
			if err != nil {
				return err
			}
			for i, place := range some {
				if word>>i&1 != 0 {
					to.Set(place)
				}
			}
			at++
		}
		return nil
	}
	if err := cmp.Or(bits(g.broken, one.Broken), bits(g.missing, one.Missing)); err != nil {
		return one, err
	}
	var err error
	if one.Rows, err = row[at].count(); err != nil {
		return one, err
	}
	for range g.measures {
		at++
		sum, err := row[at].number()
		if err != nil {
			return one, err
		}
		one.Sums = append(one.Sums, sum)
	}
	for _, rule := range g.undecided {
		at++
		n, err := row[at].count()
		if err != nil {
			return one, err
		}
		j.rules[rule].Undecided += n
	}
	if one.Rows == 0 {
		return one, nil
	}
	return one, j.digest.add(row[at+1], row[at+2])
}

// merged puts together what says the same.
func merged(all []audit.Alike) (out []audit.Alike) {
	known := map[string]int{}
	for _, one := range all {
		key := fmt.Sprint(one.Broken, one.Missing)
		at, met := known[key]
		if !met {
			known[key] = len(out)
			out = append(out, one)
			continue
		}
		out[at].Rows += one.Rows
		for m := range one.Sums {
			out[at].Sums[m] = out[at].Sums[m].Add(one.Sums[m])
		}
	}
	return out
}

func (j *judgement) texts() (texts []string) {
	for _, c := range j.columns {
		texts = append(texts, c.text)
	}
	return texts
}

// digest is one of all rows, without regard to their order.
type digest struct{ sum, or uint64 }

// add takes in the sum of some rows' hashes, and what exclusive or makes of them.
func (d *digest) add(sum, or cell) error {
	s, ok1 := new(big.Int).SetString(sum.text, 10)
	o, ok2 := new(big.Int).SetString(or.text, 10)
	if !ok1 || !ok2 {
		return fmt.Errorf("the database answered %q and %q where hashes were asked for", sum.text, or.text)
	}
	low := new(big.Int).Lsh(big.NewInt(1), 64)
	d.sum += s.Mod(s, low).Uint64()
	d.or ^= o.Mod(o, low).Uint64()
	return nil
}

func (d *digest) String() string { return fmt.Sprintf("%016x%016x", d.sum, d.or) }

func oneLine(err error) string {
	return strings.Join(strings.Fields(strings.ReplaceAll(err.Error(), "\n", "; ")), " ")
}

// DigestBy says how the servers of an engine of this name work out a digest of rows now; empty where there is no such engine.
func DigestBy(engineName string) string {
	if d, known := dialects[engineName]; known {
		return d.hashName()
	}
	return ""
}

// Identity is what tells a table in a database from another, and from itself once it has changed.
type Identity struct {
	Columns  []engine.Column `json:"columns"`
	Rows     int64           `json:"rows"`
	Digest   string          `json:"digest"`
	DigestBy string          `json:"digest_by"`
}

// Identify works out the identity of a relation, in one pass over it.
func Identify(ctx context.Context, s engine.Session, engineName string, r engine.Relation) (*Identity, error) {
	j, described, err := begin(ctx, s, engineName, r)
	if err != nil {
		return nil, err
	}
	if err := j.writesRight(ctx, described); err != nil {
		return nil, err
	}
	for i := range described {
		c := &column{name: described[i].Name, ref: j.name(described[i].Name), nature: j.natureOf(&described[i])}
		c.text = j.dialect.text(c.ref, c.nature)
		j.columns = append(j.columns, c)
	}
	answer, err := j.all(ctx, "how many rows there are, and a digest of them", fmt.Sprintf("SELECT %s, %s, %s FROM (SELECT %s AS sieve_h FROM %s) AS hashes", j.asText("count(*)"), j.asText("sum(sieve_h)"), j.asText(j.exclusiveOr("sieve_h")),
		j.hash(j.columns), j.from))
	if err != nil {
		return nil, err
	}
	out := &Identity{Columns: described, DigestBy: j.hashName()}
	if out.Rows, err = answer[0][0].count(); err != nil {
		return nil, err
	}
	var sums digest
	if out.Rows > 0 {
		err = sums.add(answer[0][1], answer[0][2])
	}
	out.Digest = sums.String()
	return out, err
}

// Rows reads a page of the rows for which a condition holds that a judgement made (There.Where), ordered by all of their texts.
func Rows(ctx context.Context, s engine.Session, engineName string, r engine.Relation, where string, after, most int) (names []string, rows [][]string, err error) {
	j, described, err := begin(ctx, s, engineName, r)
	if err != nil {
		return nil, nil, err
	}
	var inner, outer, order []string
	for i := range described {
		ref := j.name(described[i].Name)
		text := j.firstOf(j.dialect.text(ref, j.natureOf(&described[i])))
		names = append(names, described[i].Name)
		inner = append(inner, fmt.Sprintf("%s AS sieve_a%d", text, i))
		outer = append(outer, j.asText(fmt.Sprintf("sieve_a%d", i)))
		order = append(order, j.sorted(fmt.Sprintf("sieve_a%d", i)))
	}
	rows = [][]string{}
	err = j.each(ctx, "rows that break a rule", fmt.Sprintf("SELECT %s FROM (SELECT %s FROM %s WHERE %s) AS broken ORDER BY %s LIMIT %d OFFSET %d", strings.Join(outer, ", "), strings.Join(inner, ", "), j.from, where,
		strings.Join(order, ", "), most, after), func(row []cell) error {
		var texts []string
		for _, c := range row {
			texts = append(texts, c.text)
		}
		rows = append(rows, texts)
		return nil
	})
	return names, rows, err
}
