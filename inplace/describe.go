package inplace

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// hashBuckets is how many buckets the texts of a column are counted in, to find those that are frequent.
const hashBuckets = 1 << 16

// frequent finds the texts that stand in so many rows that they are shown.
func (j *judgement) frequent(ctx context.Context, c *column, filled int64) (found []profile.Frequency, err error) {
	least := profile.Outstanding(filled)
	spread := j.spread(c, hashBuckets)
	answer, err := j.all(ctx, "where frequent texts of "+c.name+" may be", fmt.Sprintf("SELECT %s FROM %s WHERE %s GROUP BY %s HAVING count(*) >= %d", j.asText(spread), j.from, c.filled(), spread, least))
	if found = []profile.Frequency{}; err != nil || len(answer) == 0 {
		return found, err
	}
	var buckets []string
	for _, row := range answer {
		if _, err := row[0].count(); err != nil {
			return nil, err
		}
		buckets = append(buckets, row[0].text)
	}
	slices.Sort(buckets)
	answer, err = j.all(ctx, "the frequent texts of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s AND %s IN (%s) GROUP BY %s HAVING count(*) >= %d", c.text, j.asText("count(*)"), j.from, c.filled(),
		spread, strings.Join(buckets, ", "), c.same(), least))
	if err != nil {
		return nil, err
	}
	for _, row := range answer {
		n, err := row[1].count()
		if err != nil {
			return nil, err
		}
		found = append(found, profile.Frequency{Text: row[0].text, Rows: n})
	}
	return found, nil
}

// describe says what the column holds.
func (j *judgement) describe(ctx context.Context, c *column) (s profile.Summary, err error) {
	if c.listed != nil {
		s.List(func(each func(cell *profile.Cell, rows int64)) {
			for i := range c.listed {
				l := &c.listed[i]
				each(&profile.Cell{Token: table.TokenOf(l.text), Text: l.text, Missing: l.cell.Missing, Value: l.cell.Value}, l.rows)
			}
		})
		return s, nil
	}
	told := &profile.Told{Marks: c.missingTexts, Shapes: map[string]int64{}}
	for _, n := range c.missingTexts {
		told.Missing += n
	}
	told.Filled = j.rows - told.Missing
	numeric := c.value.kind == table.Number && c.valueUnsaid == nil
	if err := j.describeLengths(ctx, c, told); err != nil {
		return s, err
	}
	if told.Frequent, err = j.frequent(ctx, c, told.Filled); err != nil {
		return s, err
	}
	switch {
	case numeric:
		if err = j.describeNumbers(ctx, c, told); err == nil && !c.direct {
			for _, s := range c.shapes {
				told.Spaces.Plus(profile.SpacesOf(s.text, s.rows))
			}
		}
	case c.direct:
		err = j.describeMoments(ctx, c, told)
	default:
		err = j.describeTexts(ctx, c, told)
	}
	if err == nil && c.mistyped != never {
		err = j.describeExceptions(ctx, c, told)
	}
	s.Tell(told)
	return s, err
}

// describeLengths counts the different texts, and how long they are.
func (j *judgement) describeLengths(ctx context.Context, c *column, told *profile.Told) error {
	length := said{sql: j.length(c.text), kind: table.Number}
	sql, relative := j.distinct(c.same())
	if sql == "" {
		sql = fmt.Sprintf("(SELECT count(*) FROM (SELECT 1 FROM %s WHERE %s GROUP BY %s) AS d)", j.from, c.filled(), c.same())
	}
	answer, err := j.all(ctx, "how many different texts "+c.name+" has and how long they are", fmt.Sprintf("SELECT %s, %s, %s FROM %s WHERE %s", j.asText(sql), j.asText(j.lowest(length, "1 = 1")),
		j.asText(j.highest(length, "1 = 1")), j.from, c.filled()))
	if err != nil {
		return err
	}
	shortest, err1 := answer[0][1].count()
	longest, err2 := answer[0][2].count()
	told.Distinct, err = answer[0][0].count()
	told.Shortest, told.Longest, told.DistinctError = int(shortest), int(longest), relative
	return errors.Join(err, err1, err2)
}

// describeNumbers asks for each bucket of the numbers what its numbers come to, all in one question. Powers are of the distances from one of the numbers:
// those from zero would lose everything where numbers are large and lie close together.
func (j *judgement) describeNumbers(ctx context.Context, c *column, told *profile.Told) error {
	v, valued := c.value, c.valued()
	answer, err := j.all(ctx, "one of the numbers of "+c.name, fmt.Sprintf("SELECT %s FROM %s WHERE %s LIMIT 1", j.asText(j.double(v)), j.from, valued))
	if err != nil || len(answer) == 0 {
		return err
	}
	from, err := answer[0][0].float()
	if err != nil {
		return err
	}
	n := &profile.ToldNumbers{Buckets: map[uint32]int64{}, Deviation: math.NaN(), Skewness: math.NaN()}
	as := func(name string) said {
		named := v
		named.sql = name
		return named
	}
	fractions := "0"
	if c.nature.kind != integer && c.cells.Type != table.TypeInteger {
		fractions = j.countWhere("floor(sieve_d) <> sieve_d")
	}
	inner := fmt.Sprintf("SELECT %s AS sieve_b, %s AS sieve_v, %s AS sieve_d FROM %s WHERE %s%s", j.bucket(said{sql: "sieve_d0", kind: table.Number, float: true}), "sieve_v0", "sieve_d0", "(SELECT "+v.sql+" AS sieve_v0, "+j.double(v)+" AS sieve_d0 FROM "+j.from+" WHERE "+valued+j.fence()+") AS doubled", "1 = 1", j.fence())
	grouped := fmt.Sprintf("SELECT sieve_b, count(*) AS sieve_n, %s AS sieve_s, %s AS sieve_low, %s AS sieve_high, sum(sieve_d - (%[4]s)) AS sieve_m1, sum((sieve_d - (%[4]s)) * (sieve_d - (%[4]s))) AS sieve_m2, sum((sieve_d - (%[4]s)) * (sieve_d - (%[4]s)) * (sieve_d - (%[4]s))) AS sieve_m3, %[5]s AS sieve_f FROM (%[6]s) AS numbers GROUP BY sieve_b",
		j.sumWhere(as("sieve_v"), "1 = 1"), j.lowest(as("sieve_v"), "1 = 1"), j.highest(as("sieve_v"), "1 = 1"), strconv.FormatFloat(from, 'g', 17, 64), fractions, inner)
	var m1, m2, m3 float64
	if err := j.each(ctx, "how the numbers of "+c.name+" lie", fmt.Sprintf("SELECT %s, %s, %s FROM (%s) AS buckets", j.asTexts("sieve_b", "sieve_n"), j.sumText("sieve_s", v), j.asTexts("sieve_low", "sieve_high", "sieve_m1", "sieve_m2", "sieve_m3", "sieve_f"), grouped), func(row []cell) error {
		var errs [9]error
		var at, rows, fractions int64
		var sum, low, high table.Decimal
		var a, b, c float64
		at, errs[0] = row[0].count()
		rows, errs[1] = row[1].count()
		sum, errs[2] = row[2].number()
		low, errs[3] = row[3].number()
		high, errs[4] = row[4].number()
		a, errs[5] = row[5].float()
		b, errs[6] = row[6].float()
		c, errs[7] = row[7].float()
		fractions, errs[8] = row[8].count()
		if n.Count == 0 || low.Cmp(n.Lowest) < 0 {
			n.Lowest = low
		}
		if n.Count == 0 || high.Cmp(n.Highest) > 0 {
			n.Highest = high
		}
		n.Buckets[uint32(at)] += rows
		n.Count, n.Sum, n.Fractions = n.Count+rows, n.Sum.Add(sum), n.Fractions || fractions > 0
		m1, m2, m3 = m1+a, m2+b, m3+c
		return errors.Join(errs[:]...)
	}); err != nil {
		return err
	}
	if !c.direct {
		if err := errors.Join(j.asWritten(ctx, c, &n.Lowest), j.asWritten(ctx, c, &n.Highest)); err != nil {
			return err
		}
	}
	if v.float {
		j.note("%s holds binary fractions: its sum is one of double precision, and not exact.", c.name)
	}
	count := float64(n.Count)
	mean := m1 / count
	second, third := m2-mean*m1, m3/count-3*mean*m2/count+2*mean*mean*mean
	if n.Count > 1 {
		n.Deviation = math.Sqrt(max(second, 0) / (count - 1))
	}
	if n.Count > 2 && second > 0 {
		n.Skewness = third / math.Pow(second/count, 1.5)
	}
	told.Numbers = n
	return nil
}

// asTexts lists columns of a question within, each as a text.
func (j *judgement) asTexts(names ...string) string {
	var texts []string
	for _, name := range names {
		texts = append(texts, j.asText(name))
	}
	return strings.Join(texts, ", ")
}

// asWritten finds the shortest way in which a number is written.
func (j *judgement) asWritten(ctx context.Context, c *column, n *table.Decimal) error {
	literal, err := j.literal(table.NumberValue(*n))
	if err != nil {
		return err
	}
	is, err := j.compare("=", c.value, literal)
	if err != nil {
		return err
	}
	answer, err := j.all(ctx, "how an extreme of "+c.name+" is written", fmt.Sprintf("SELECT min(%s) FROM %s WHERE %s AND %s = (SELECT min(%[4]s) FROM %[2]s WHERE %[3]s)", c.text, j.from, j.certain(is), j.length(c.text)))
	if err == nil {
		if v := c.cells.Read(answer[0][0].text).Value; v.Kind == table.Number {
			*n = v.Number
		}
	}
	return err
}

func (j *judgement) describeMoments(ctx context.Context, c *column, told *profile.Told) error {
	told.Days = map[int64]int64{}
	day := j.day(c.value)
	if err := j.each(ctx, "the days of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s GROUP BY %s", j.asText(day), j.asText("count(*)"), j.from, c.valued(), day), func(row []cell) error {
		at, err := row[0].count()
		n, err1 := row[1].count()
		told.Days[at] += n
		return errors.Join(err, err1)
	}); err != nil {
		return err
	}
	for _, end := range []struct {
		value *table.Value
		order string
	}{{&told.Lowest, "ASC"}, {&told.Highest, "DESC"}} {
		answer, err := j.all(ctx, "the first and the last of "+c.name, fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s %s LIMIT 1", c.text, j.from, c.valued(), c.ref, end.order))
		if err != nil {
			return err
		}
		if len(answer) > 0 {
			*end.value = c.cells.Read(answer[0][0].text).Value
		}
	}
	return nil
}

func (j *judgement) describeTexts(ctx context.Context, c *column, told *profile.Told) error {
	if err := j.askShapes(ctx, c); err != nil {
		return err
	}
	if c.shapesUnsaid != nil {
		j.note("The shapes and stray spaces of %s are not told: %v.", c.name, c.shapesUnsaid)
		told.MoreShapes = true
	}
	for _, s := range c.shapes {
		told.Shapes[profile.ShapeOf(s.text)] += s.rows
		told.Spaces.Plus(profile.SpacesOf(s.text, s.rows))
	}
	text := said{sql: j.sorted(c.text), kind: table.Text}
	answer, err := j.all(ctx, "the first and the last text of "+c.name, fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s", j.lowest(text, "1 = 1"), j.highest(text, "1 = 1"), j.from, c.filled()))
	if err != nil {
		return err
	}
	if told.Filled > 0 {
		told.Lowest, told.Highest = table.TextValue(answer[0][0].text), table.TextValue(answer[0][1].text)
	}
	return nil
}

// describeExceptions counts what is no value of the column's type.
func (j *judgement) describeExceptions(ctx context.Context, c *column, told *profile.Told) (err error) {
	alike := j.digitsAlike(c.text)
	if err := j.each(ctx, "what of "+c.name+" is no "+string(c.cells.Type), fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s GROUP BY %[1]s", alike, j.asText("count(*)"), j.from, c.mistyped), func(row []cell) error {
		n, err := row[1].count()
		told.Mistyped += n
		told.Shapes[profile.ShapeOf(row[0].text)] += n
		return err
	}); err != nil {
		return err
	}
	told.Exceptions, err = j.mostFrequent(ctx, c, c.mistyped)
	return err
}
