package inplace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"proudsieve/core/profile"
	"proudsieve/core/table"
)

// hashBuckets is how many buckets the texts of a column are counted in, to find those that are frequent.
const hashBuckets = 1 << 16

// frequent finds the texts that stand in so many rows that they are shown.
func (j *judgement) frequent(ctx context.Context, c *column, told *profile.Told) (found []profile.Frequency, err error) {
	least := profile.Outstanding(told.Filled)
	if c.unique {
		return []profile.Frequency{}, nil
	}
	if n := told.Numbers; n != nil && c.mistyped == never && !slices.ContainsFunc(slices.Collect(maps.Values(n.Buckets)), func(rows int64) bool { return rows >= least }) {
		return []profile.Frequency{}, nil // no bucket of the numbers has so many, and no text more than its bucket
	}
	spread := j.spread(c)
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
	if !c.direct {
		if err := j.askShapes(ctx, c); err != nil {
			return s, err
		}
	}
	if err := j.describeEnds(ctx, c, told, numeric); err != nil {
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
		j.describeTexts(c, told)
	}
	if err != nil {
		return s, err
	}
	if told.Frequent, err = j.frequent(ctx, c, told); err != nil {
		return s, err
	}
	if c.mistyped != never {
		err = j.describeExceptions(ctx, c, told)
	}
	s.Tell(told)
	return s, err
}

// sumsOfWords is of how many numbers of up to ten digits the sum fits into a word of 64 bits.
const sumsOfWords = 900_000_000

// ends is what is asked of a column in one pass over it, and who takes each answer.
type ends struct {
	selects []string
	take    []func(cell) error
}

func (e *ends) ask(sql string, take func(cell) error) {
	e.selects, e.take = append(e.selects, sql), append(e.take, take)
}

// describeEnds counts the different texts, and finds out how long they are, which is the lowest and which the highest, and the sum of numbers.
func (j *judgement) describeEnds(ctx context.Context, c *column, told *profile.Told, numeric bool) error {
	whole := func(to *int) func(cell) error {
		return func(one cell) error {
			n, err := one.count()
			*to = int(n)
			return err
		}
	}
	number := func(to *table.Decimal) func(cell) error {
		return func(one cell) (err error) {
			*to, err = one.number()
			return err
		}
	}
	asks := &ends{}
	if told.Distinct = told.Filled; !c.unique {
		sql, relative := j.distinct(c.same())
		if sql == "" {
			sql = fmt.Sprintf("(SELECT count(*) FROM (SELECT 1 FROM %s WHERE %s GROUP BY %s) AS d)", j.from, c.filled(), c.same())
		}
		told.DistinctError = relative
		asks.ask(j.asText(sql), func(one cell) (err error) {
			told.Distinct, err = one.count()
			return err
		})
	}
	padded, err := j.padded(ctx, c)
	if err != nil {
		return err
	}
	byShapes := !c.direct && c.shapesUnsaid == nil && len(c.shapes) > 0
	if padded = padded && numeric; byShapes {
		told.Shortest = math.MaxInt
		for _, s := range c.shapes {
			length := utf8.RuneCountInString(s.text)
			told.Shortest, told.Longest = min(told.Shortest, length), max(told.Longest, length)
		}
	} else if !padded {
		length := said{sql: j.length(c.text), kind: table.Number}
		asks.ask(j.asText(j.lowest(length, always)), whole(&told.Shortest))
		asks.ask(j.asText(j.highest(length, always)), whole(&told.Longest))
	}
	v := c.value
	if j.rows > sumsOfWords {
		v.digits = 0
	}
	var lowest, highest string
	near := ""
	if numeric && c.direct {
		near = j.near(v)
	}
	switch {
	case numeric:
		n := &profile.ToldNumbers{Buckets: map[uint32]int64{}, Deviation: math.NaN(), Skewness: math.NaN()}
		told.Numbers = n
		asks.ask(j.sumText(j.sum(v), v), number(&n.Sum))
		end := func(text *string, to *table.Decimal) func(cell) error {
			return func(one cell) (err error) {
				if *text = one.text; near != "" && !one.null {
					*text, err = ofDouble(one, v.scale)
				}
				return cmp.Or(err, number(to)(cell{text: *text, null: one.null}))
			}
		}
		of := v
		if near != "" {
			of = said{sql: near, kind: table.Number, float: true}
		}
		asks.ask(j.asText(j.lowest(of, always)), end(&lowest, &n.Lowest))
		asks.ask(j.asText(j.highest(of, always)), end(&highest, &n.Highest))
	case !c.direct:
		text := said{sql: j.sorted(c.text), kind: table.Text}
		word := func(to *table.Value) func(cell) error {
			return func(one cell) error {
				if told.Filled > 0 {
					*to = table.TextValue(one.text)
				}
				return nil
			}
		}
		asks.ask(j.lowest(text, always), word(&told.Lowest))
		asks.ask(j.highest(text, always), word(&told.Highest))
	}
	if len(asks.selects) == 0 {
		return nil
	}
	answer, err := j.all(ctx, "how many different texts "+c.name+" has, and the ends of what it holds", fmt.Sprintf("SELECT %s FROM %s WHERE %s", strings.Join(asks.selects, ", "), j.from, c.filled()))
	if err != nil {
		return err
	}
	for i, take := range asks.take {
		if err := take(answer[0][i]); err != nil {
			return err
		}
	}
	if n := told.Numbers; n != nil && !v.float {
		digits := max(digitsOf(n.Lowest, v.scale), digitsOf(n.Highest, v.scale))
		if near != "" && digits > doubleDigits {
			if err := j.exactEnds(ctx, c, n, &lowest, &highest); err != nil {
				return err
			}
		}
		if c.lowest, c.highest = table.NumberValue(n.Lowest), table.NumberValue(n.Highest); c.direct {
			c.value.digits = max(digits, 1)
		}
	}
	if padded && told.Filled > 0 {
		return j.lengthsOfNumbers(ctx, c, told, lowest, highest)
	}
	return nil
}

// ofDouble is a number as it is written with so many digits after the point, of an answer in double precision.
func ofDouble(one cell, scale int) (string, error) {
	x, err := one.float()
	return strconv.FormatFloat(x, 'f', scale, 64), err
}

// exactEnds asks for the lowest and the highest of numbers that have more digits than double precision holds.
func (j *judgement) exactEnds(ctx context.Context, c *column, n *profile.ToldNumbers, lowest, highest *string) error {
	answer, err := j.all(ctx, "the ends of "+c.name+" with all their digits", fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s", j.asText(j.lowest(c.value, always)), j.asText(j.highest(c.value, always)), j.from, c.filled()))
	if err != nil {
		return err
	}
	*lowest, *highest = answer[0][0].text, answer[0][1].text
	var errs [2]error
	n.Lowest, errs[0] = answer[0][0].number()
	n.Highest, errs[1] = answer[0][1].number()
	return errors.Join(errs[:]...)
}

// padded says that the server writes a column's numbers with all the digits after the point that its type has, so that a number is the longer the farther it
// is from zero.
func (j *judgement) padded(ctx context.Context, c *column) (bool, error) {
	if !c.direct || c.mistyped != never || c.nature.kind != integer && (c.nature.kind != exact || c.nature.scale < 0) {
		return false, nil
	}
	try, right := j.pads()
	if try == "" || c.nature.kind == integer {
		return true, nil
	}
	if j.padsAll == nil {
		answer, err := j.all(ctx, "whether this server writes the zeros at the end of a number", try)
		if err != nil {
			return false, err
		}
		pads := answer[0][0].text == right
		j.padsAll = &pads
	}
	return *j.padsAll, nil
}

// lengthsOfNumbers finds out how long the texts of padded numbers are: the farther from zero, the longer, on either side of it.
func (j *judgement) lengthsOfNumbers(ctx context.Context, c *column, told *profile.Told, lowest, highest string) error {
	texts := []string{lowest, highest}
	if n := told.Numbers; n.Lowest.Sign() < 0 && n.Highest.Sign() >= 0 {
		zero, err := j.literal(table.NumberValue(table.Decimal{}))
		if err != nil {
			return err
		}
		below, err1 := j.compare("<", c.value, zero)
		above, err2 := j.compare(">=", c.value, zero)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		answer, err := j.all(ctx, "which numbers of "+c.name+" lie next to zero", fmt.Sprintf("SELECT %s, %s FROM %s WHERE %s", j.asText(j.highest(c.value, j.certain(below))), j.asText(j.lowest(c.value, j.certain(above))), j.from, c.filled()))
		if err != nil {
			return err
		}
		texts = append(texts, answer[0][0].text, answer[0][1].text)
	}
	told.Shortest, told.Longest = len(texts[0]), len(texts[0])
	for _, text := range texts {
		told.Shortest, told.Longest = min(told.Shortest, len(text)), max(told.Longest, len(text))
	}
	return nil
}

// describeNumbers asks for each bucket of the numbers how many there are, and how far they lie from their mean: powers of the distances from zero would lose
// everything where numbers are large and lie close together.
func (j *judgement) describeNumbers(ctx context.Context, c *column, told *profile.Told) error {
	n, v := told.Numbers, c.value
	mean := 0.0
	if told.Filled > 0 {
		mean = n.Sum.Float() / float64(told.Filled)
	}
	fractions := "0"
	if c.nature.kind != integer && c.cells.Type != table.TypeInteger {
		fractions = j.countWhere("floor(sieve_d) <> sieve_d")
	}
	fence := ""
	if v.raw == "" { // to turn it into a binary fraction is work that is to be done once
		fence = j.fence()
	}
	inner := fmt.Sprintf("SELECT %s AS sieve_b, sieve_d, sieve_d - (%s) AS sieve_e FROM (SELECT %s AS sieve_d FROM %s WHERE %s%s) AS doubled", j.bucket(said{sql: "sieve_d", kind: table.Number, float: true}),
		strconv.FormatFloat(mean, 'g', 17, 64), j.double(v), j.from, c.valued(), fence)
	grouped := fmt.Sprintf("SELECT sieve_b, count(*) AS sieve_n, sum(sieve_e) AS sieve_m1, sum(sieve_e * sieve_e) AS sieve_m2, sum(sieve_e * sieve_e * sieve_e) AS sieve_m3, %s AS sieve_f FROM (%s) AS numbers GROUP BY sieve_b", fractions, inner)
	var m1, m2, m3 float64
	if err := j.each(ctx, "how the numbers of "+c.name+" lie", fmt.Sprintf("SELECT %s FROM (%s) AS buckets", j.asTexts("sieve_b", "sieve_n", "sieve_m1", "sieve_m2", "sieve_m3", "sieve_f"), grouped), func(row []cell) error {
		var errs [6]error
		var at, rows, fractions int64
		var a, b, c float64
		at, errs[0] = row[0].count()
		rows, errs[1] = row[1].count()
		a, errs[2] = row[2].float()
		b, errs[3] = row[3].float()
		c, errs[4] = row[4].float()
		fractions, errs[5] = row[5].count()
		n.Buckets[uint32(at)] += rows
		n.Count, n.Fractions = n.Count+rows, n.Fractions || fractions > 0
		m1, m2, m3 = m1+a, m2+b, m3+c
		return errors.Join(errs[:]...)
	}); err != nil {
		return err
	}
	if n.Count == 0 {
		told.Numbers, c.lowest, c.highest = nil, table.Value{}, table.Value{}
		return nil
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
	off := m1 / count
	second, third := m2-off*m1, m3/count-3*off*m2/count+2*off*off*off
	if n.Count > 1 {
		n.Deviation = math.Sqrt(max(second, 0) / (count - 1))
	}
	if n.Count > 2 && second > 0 {
		n.Skewness = third / math.Pow(second/count, 1.5)
	}
	return nil
}

// digitsOf is how many digits a number has that is counted in units of so many places after the point.
func digitsOf(n table.Decimal, scale int) int {
	units, ok := n.Scaled(max(scale, 0))
	if !ok {
		return 99
	}
	return len(strings.TrimPrefix(strconv.FormatInt(units, 10), "-"))
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
	c.lowest, c.highest = told.Lowest, told.Highest
	return nil
}

// describeTexts tells the shapes of texts.
func (j *judgement) describeTexts(c *column, told *profile.Told) {
	if c.shapesUnsaid != nil {
		j.note("The shapes and stray spaces of %s are not told: %v.", c.name, c.shapesUnsaid)
		told.MoreShapes = true
	}
	for _, s := range c.shapes {
		told.Shapes[profile.ShapeOf(s.text)] += s.rows
		told.Spaces.Plus(profile.SpacesOf(s.text, s.rows))
	}
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
