package condition

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"proudsieve/core/table"
)

var types = map[string]table.Type{"a": table.TypeInteger, "b": table.TypeDecimal, "t": table.TypeText,
	"u": table.TypeCode, "d": table.TypeDate,
	"ts": table.TypeDateTime, "ok": table.TypeBoolean, "wrong": table.TypeDecimal, "two words": table.TypeText, "Mixed": table.TypeInteger}

// oneRow is a batch of one row.
type oneRow map[string]table.Value

func (oneRow) Len() int { return 1 }

func (r oneRow) Values(column string) ([]table.Value, []uint32) {
	return []table.Value{r[column]}, []uint32{0}
}

func number(s string) table.Value {
	d, ok := table.ParseDecimal(s)
	if !ok {
		panic(s)
	}
	return table.NumberValue(d)
}

func day(s string) table.Value {
	v, ok := table.StandardFormat.Parse(table.TypeDate, s)
	if !ok {
		panic(s)
	}
	return v
}

var row = oneRow{"a": number("5"), "b": number("2.50"), "t": table.TextValue("x"), "u": {}, "d": day("2024-05-31"),
	"ts": {Kind: table.Instant, When: day("2024-05-31").When*86400e6 + 1},
	"ok": table.BooleanValue(true), "wrong": table.MistypedValue(), "two words": table.TextValue("it's"), "Mixed": {}}

func TestTruth(t *testing.T) {
	for _, c := range []struct {
		source string
		want   Truth
	}{
		{"a = 5", True}, {"a = 5.0", True}, {"a <> 5", False}, {"a != 5", False}, {"a < 6", True}, {"a <= 5", True},
		{"a > 5", False}, {"a >= 5", True},
		{"b = 2.5", True}, {"a + b = 7.5", True}, {"a - b = 2.5", True}, {"a * b = 12.50", True}, {"a / 2 = 2.5", True},
		{"-a = -5", True}, {"- -a = 5", True}, {"+a = 5", True},
		{"a + b * 2 = 10", True}, {"(a + b) * 2 = 15", True}, {"a - 1 - 1 = 3", True}, {"20 / a / 2 = 2", True},
		{"0.1 + 0.2 = 0.3", True},
		{"a / 0 = 1", Unknown}, {"a / (b - 2.5) IS NULL", True},
		{"u IS NULL", True}, {"u IS MISSING", True}, {"u IS MISTYPED", False}, {"u IS NOT MISTYPED", True},
		{"wrong IS NULL", True}, {"wrong IS MISSING", False}, {"wrong IS MISTYPED", True},
		{"wrong IS NOT MISSING", True}, {"a IS MISSING OR a IS MISTYPED", False}, {"wrong = 1", Unknown},
		{"t = 'x'", True}, {"t < 'y'", True}, {"t = 'X'", False}, {"\"two words\" = 'it''s'", True},
		{"u = 'x'", Unknown}, {"u <> 'x'", Unknown}, {"NOT u = 'x'", Unknown}, {"u IS NULL", True},
		{"u IS NOT NULL", False}, {"t IS NULL", False}, {"NULL IS NULL", True},
		{"u = NULL", Unknown}, {"NULL", Unknown}, {"NOT NULL", Unknown},
		{"TRUE", True}, {"FALSE", False}, {"ok", True}, {"NOT ok", False}, {"ok = TRUE", True}, {"ok AND a = 5", True},
		{"a = 5 AND u = 'x'", Unknown}, {"a = 6 AND u = 'x'", False}, {"u = 'x' AND a = 6", False},
		{"a = 5 OR u = 'x'", True}, {"a = 6 OR u = 'x'", Unknown},
		{"a = 6 OR a = 5 AND b = 0", False}, {"(a = 6 OR a = 5) AND b = 2.5", True}, {"NOT a = 5 OR b = 2.5", True},
		{"NOT (a = 5 OR b = 2.5)", False},
		{"a BETWEEN 1 AND 5", True}, {"a NOT BETWEEN 1 AND 5", False}, {"a BETWEEN 6 AND 1", False},
		{"a BETWEEN 1 AND NULL", Unknown}, {"a BETWEEN 6 AND NULL", False},
		{"a BETWEEN 1 AND 5 AND t = 'x'", True}, {"a IN (1, 5)", True}, {"a NOT IN (1, 5)", False},
		{"a IN (1, NULL)", Unknown}, {"a IN (5, NULL)", True}, {"a NOT IN (1, NULL)", Unknown},
		{"u IN ('x')", Unknown}, {"t IN ('x', 'y')", True}, {"a IN (b * 2)", True}, {"a NOT IN (b)", True},
		{"d = DATE '2024-05-31'", True}, {"d = '2024-05-31'", True}, {"'2024-06-01' > d", True},
		{"d BETWEEN '2024-01-01' AND '2024-12-31'", True},
		{"ts > d", True}, {"d < ts", True}, {"ts > TIMESTAMP '2024-05-31 00:00:00'", True},
		{"d >= '2024-05-31 00:00:00'", True},
		{"Mixed IS NULL", True}, {"mixed IS NULL", True}, {"A = 5", True}, {"a = 5 and b = 2.5", True},
		{"a Is Not Null", True},
		{"upper(t) = 'X'", True}, {"LOWER('ÄB') = 'äb'", True}, {"upper(u) = 'X'", Unknown},
		{"length('größe') = 5", True}, {"t || '-' || t = 'x-x'", True}, {"t || u IS NULL", True},
		{"trim('  x ') = t", True}, {"trim(leading '0' from '0070') = '70'", True}, {"trim(trailing from 'x  ') = t",
			True}, {"trim(both 'ab' from 'abxba') = t", True}, {"trim('0' from '0x0') = t", True},
		{"substring('abcdef' from 2 for 3) = 'bcd'", True}, {"substring('abcdef', 5) = 'ef'", True},
		{"substring('abc' from -1 for 3) = 'a'", True}, {"substring('abc' from 9) = ''", True},
		{"substring('abc' from 2 for -1) IS NULL", True}, {"substring('größe' from 3 for 2) = 'öß'", True},
		{"position('b' in 'abc') = 2", True}, {"position('z' in 'abc') = 0", True}, {"position('' in 'abc') = 1", True},
		{"position('ß' in 'größe') = 4", True},
		{"abs(-b) = b", True}, {"round(b) = 3", True}, {"round(-b) = -3", True}, {"round(2.345, 2) = 2.35", True},
		{"round(155, -1) = 160", True}, {"floor(-b) = -3", True}, {"ceil(b) = 3", True}, {"ceiling(-b) = -2", True},
		{"mod(7, 3) = 1", True}, {"mod(-7, 3) = -1", True}, {"mod(b, 0.4) = 0.1", True}, {"mod(a, 0) IS NULL", True},
		{"coalesce(u, t) = 'x'", True}, {"coalesce(u, NULL) IS NULL", True}, {"nullif(a, 5) IS NULL", True},
		{"nullif(a, 6) = 5", True}, {"nullif(u, 'x') IS NULL", True},
		{"case when a > 4 then 'big' else 'small' end = 'big'", True}, {"case a when 4 then 1 when 5 then 2 end = 2",
			True}, {"case a when 4 then 1 end IS NULL", True}, {"case when u = 'x' then 1 else 2 end = 2", True},
		{"case when ok then d else '2024-01-01' end = d", True},
		{"a IS DISTINCT FROM 5", False}, {"u IS DISTINCT FROM t", True}, {"u IS NOT DISTINCT FROM NULL", True},
		{"(u = 'x') IS UNKNOWN", True}, {"(u = 'x') IS NOT TRUE", True}, {"ok IS FALSE", False},
		{"t LIKE '_'", True}, {"t LIKE 'X'", False}, {"'a%b' LIKE 'a!%b' ESCAPE '!'", True}, {"'a.b' LIKE 'a_b'", True},
		{"'axb' LIKE 'a.b'", False}, {"'größe' LIKE 'gr__e'", True}, {"t NOT LIKE '%x%'", False},
		{"u LIKE '%'", Unknown},
		{"'AV-017' LIKE_REGEX '^AV-[0-9]+$'", True}, {"'xAV-1' LIKE_REGEX 'AV'", True},
		{"t NOT LIKE_REGEX '[0-9]'", True},
		{"extract(year from d) = 2024 AND extract(month from d) = 5 AND extract(day from d) = 31", True},
		{"extract(quarter from d) = 2 AND extract(week from d) = 22 AND extract(isodow from d) = 5 AND extract(doy from d) = 152", True}, {"extract(second from ts) = 0.000001", True},
		{"d + INTERVAL '1' MONTH = DATE '2024-06-30'", True}, {"d - INTERVAL '3' MONTH = DATE '2024-02-29'", True},
		{"d + INTERVAL '1' YEAR = '2025-05-31'", True}, {"INTERVAL '2' DAY + d = '2024-06-02'", True},
		{"d + INTERVAL '36' HOUR = TIMESTAMP '2024-06-01 12:00:00'", True}, {"d + -INTERVAL '31' DAY = '2024-04-30'",
			True},
		{"d - DATE '2024-05-01' = 30", True}, {"d + 1 = DATE '2024-06-01'", True}, {"1 + d = DATE '2024-06-01'", True},
		{"d + 0.5 IS NULL", True}, {"ts <= d + INTERVAL '1' SECOND", True},
		{"date_trunc('month', d) = DATE '2024-05-01'", True}, {"date_trunc('week', d) = '2024-05-27'", True},
		{"date_trunc('quarter', ts) = '2024-04-01'", True}, {"date_trunc('day', ts) = d", True},
		{"cast('12' as integer) = 12", True}, {"cast('1.5' as integer) IS NULL", True},
		{"cast(b as integer) = 3", True}, {"cast(b as text) = '2.50'", True}, {"cast('soon' as date) IS NULL", True},
		{"cast(ts as date) = d", True}, {"cast(d as timestamp) < ts", True}, {"cast('yes' as boolean)", True},
		{"cast(b as decimal(3, 1)) = 2.5", True}, {"cast(123.45 as decimal(2)) IS NULL", True},
		{"cast('9.996' as decimal(4, 2)) = 10", True}, {"cast('99.996' as decimal(4, 2)) IS NULL", True},
		{"a IN (1, 2, 3, 4, 5, NULL)", True}, {"a IN (1, 2, NULL)", Unknown}, {"(a = 5) = (b = 2.5)", True},
		{"(a = 5) IS NULL", False}, {"(u = 'x') IS NULL", True},
	} {
		compiled, errs := Compile(c.source, types)
		if len(errs) > 0 {
			t.Errorf("%s: %v", c.source, errs)
			continue
		}
		if got := compiled.Evaluate(row)[0]; got != c.want {
			t.Errorf("%s is %d, want %d", c.source, got, c.want)
		}
	}
}

func TestMistakesInAConditionHaveTheirPlaces(t *testing.T) {
	for _, c := range []struct {
		source string
		column int
		want   string
	}{
		{"", 1, "a column, a value or a parenthesis was expected, not the end of the condition"},
		{"a =", 4, "a column, a value or a parenthesis was expected, not the end"},
		{"a = 5 b = 2", 7, `"b" was not expected here; join two conditions with AND or OR`},
		{"(a = 5", 7, "a closing parenthesis was expected, not the end"},
		{"a = 5)", 6, `")" was not expected here`},
		{"a = 'x", 5, "the quote ' is never closed"},
		{"a ~ 5", 3, `"~" has no meaning here`},
		{"ä = ? ", 5, `"?" has no meaning here`},
		{"a = 1.2.3", 5, `"1.2.3" is not a number`},
		{"a IS 5", 6, "after IS comes NULL, MISSING, MISTYPED, TRUE, FALSE, UNKNOWN or DISTINCT FROM"},
		{"a NOT 5", 7, "after NOT comes BETWEEN, IN, LIKE or LIKE_REGEX"},
		{"a BETWEEN 1 OR 5", 13, "BETWEEN wants two bounds joined by AND"},
		{"a IN 5", 6, "IN wants a list in parentheses"},
		{"a IN (1 2)", 9, "a comma or a closing parenthesis was expected"},
		{"d = DATE '2024-02-30'", 10, "is no date of the calendar"},
		{"uper(t) = 'X'", 1, `there is no function "uper"; did you mean "UPPER"?`},
		{"upper(t, t) = 'X'", 1, "UPPER takes one argument, and this is 2"},
		{"coalesce() = 'X'", 10, "a column, a value or a parenthesis was expected"},
		{"round(a, 1, 2) = 1", 1, "ROUND takes 1 to 2 arguments, and this is 3"},
		{"upper(a) = 'X'", 7, "UPPER wants a text, and this is a number"},
		{"coalesce(a, 'x') = 1", 13, "COALESCE has a number beside a text; they must be of one kind"},
		{"case when a then 1 end = 1", 11, "WHEN wants a boolean, and this is a number"},
		{"case when ok then 1 else 'x' end = 1", 26, "CASE has a number beside a text"},
		{"case a end = 1", 8, "CASE wants WHEN"},
		{"case when ok 1 end", 14, "after WHEN and its condition comes THEN"},
		{"case when ok then 1", 20, "CASE ends with END; found the end of the condition"},
		{"t LIKE u", 8, "LIKE wants a pattern in single quotes"},
		{"t LIKE 'a!' ESCAPE '!'", 8, "the pattern ends with its escape character"},
		{"t LIKE 'a' ESCAPE 'xy'", 19, "ESCAPE wants one character"},
		{"a LIKE '5'", 1, "LIKE wants a text, and this is a number"},
		{"t LIKE_REGEX '[a-'", 14, "the pattern cannot be read: missing closing ]"},
		{"extract(yaer from d) = 1", 1, `a date has no YAER to extract; did you mean "YEAR"?`},
		{"extract(hour from d) = 1", 1, "a date has no HOUR to extract"},
		{"extract(year from t) = 1", 19, "EXTRACT wants a date or datetime, and this is a text"},
		{"extract(year, d) = 1", 13, "EXTRACT is written as EXTRACT(YEAR FROM day)"},
		{"date_trunc('yaer', d) = d", 12, `DATE_TRUNC knows no unit "yaer"; did you mean "year"?`},
		{"date_trunc(t, d) = d", 12, "DATE_TRUNC wants its unit in single quotes"},
		{"cast(t as money) = 1", 1, `CAST knows no type "MONEY"`},
		{"cast(a as date) = d", 1, "a number cannot be cast to DATE"},
		{"cast(a as decimal(2, 3)) = 1", 19, "only DECIMAL has digits and places"},
		{"cast(a, decimal) = 1", 7, "CAST is written as CAST(x AS DECIMAL)"},
		{"position('a', 'b', 'c') = 1", 18, "POSITION is written as POSITION('-' IN x)"},
		{"d + INTERVAL 'x' DAY = d", 14, "an interval is written as INTERVAL '3' MONTH"},
		{"d + INTERVAL '1' WEEKS = d", 18, "an interval is in YEAR, MONTH, DAY, HOUR, MINUTE or SECOND"},
		{"a + INTERVAL '1' DAY = 1", 1, "an interval wants a date or datetime, and this is a number"},
		{"INTERVAL '1' DAY = 1", 1, "an interval is added to or taken from a date"},
		{"ts - ts = 1", 4, "datetimes are not subtracted; compare one with the other moved"},
		{"d * 2 = d", 3, "* of a date and a number has no meaning"},
		{"a IS DISTINCT 5", 15, "after IS DISTINCT comes FROM"},
		{"t || a = 'x'", 6, "|| wants a text, and this is a number"},
		{strings.Repeat("a = 1 OR ", 2000) + "ok", 1, "characters; at most 10000 can be"},
		{"AND a = 5", 1, "a column, a value or a parenthesis was expected"},
		{"aa = 5", 1, `there is no column "aa"; did you mean "a"?`},
		{"a = 5 AND qqqqqqqqqqq = 1", 11, `there is no column "qqqqqqqqqqq"; known are`},
		{"a = 't'", 5, "= compares a number with a text; both sides must be of one kind"},
		{"a = t", 5, "= compares a number with a text"},
		{"d > 5", 5, "> compares a date with a number"},
		{"d = 'soon'", 5, `"soon" is no date of the calendar`},
		{"t + 1 = 2", 1, "arithmetic wants a number, and this is a text"},
		{"-t = 2", 2, "a minus sign wants a number, and this is a text"},
		{"a AND ok", 1, "AND wants a boolean, and this is a number"},
		{"NOT a", 5, "NOT wants a boolean, and this is a number"},
		{"a + 1", 3, "the condition is a number, not true or false"},
		{"a IN (1, 'x')", 10, "IN compares a number with a text"},
		{"a BETWEEN 1 AND 'x'", 17, "BETWEEN compares a number with a text"},
		{strings.Repeat("(", 300) + "a", 200, "nested too deeply"},
		{strings.Repeat("NOT ", 300) + "ok", 800, "nested too deeply"},
		{strings.Repeat("-", 300) + "a = 1", 200, "nested too deeply"},
	} {
		_, errs := Compile(c.source, types)
		var first *Error
		if len(errs) == 0 || !errors.As(errs[0], &first) {
			t.Errorf("%.40s: %v", c.source, errs)
			continue
		}
		near := first.Column == c.column || len(c.source) > 250 && first.Column > 100
		if !near || !strings.Contains(first.Message, c.want) {
			t.Errorf("%.40s: %v, want character %d: %s", c.source, first, c.column, c.want)
		}
	}
}

func TestEveryMistakeOfKindIsReportedOnce(t *testing.T) {
	_, errs := Compile("x = 1 AND y BETWEEN 1 AND 2 AND a = 't' AND x IN (1, 2)", types)
	texts := []string{}
	for _, e := range errs {
		texts = append(texts, e.Error())
	}
	if len(texts) != 4 { // x twice, at its two places, y once, and the comparison
		t.Errorf("%d mistakes: %q", len(texts), texts)
	}
}

func TestNames(t *testing.T) {
	c, errs := Compile(`b > 1 AND "two words" IS NULL OR B < 2 AND mixed = 1`, types)
	if want := []string{"b", "two words", "Mixed"}; len(errs) > 0 || !slices.Equal(c.Names(), want) {
		t.Errorf("%v, want %v; %v", c.Names(), want, errs)
	}
}

// countingRows counts how often values are asked for, to see that a question about
// one column is answered once per distinct value.
type manyRows struct {
	values map[string][]table.Value
	codes  map[string][]uint32
	n      int
}

func (m manyRows) Len() int { return m.n }

func (m manyRows) Values(column string) ([]table.Value, []uint32) {
	return m.values[column], m.codes[column]
}

func TestRowsAreJudgedThroughTheirDictionaries(t *testing.T) {
	m := manyRows{n: 6, values: map[string][]table.Value{"a": {number("1"), number("2"), {}},
		"b": {number("1"), number("9")}},
		codes: map[string][]uint32{"a": {0, 1, 2, 0, 1, 2}, "b": {0, 0, 0, 1, 1, 1}}}
	for source, want := range map[string][]Truth{
		"a = 1":                 {True, False, Unknown, True, False, Unknown},
		"a = b":                 {True, False, Unknown, False, False, Unknown},
		"a + a = 2":             {True, False, Unknown, True, False, Unknown},
		"a = 1 AND a <> 2":      {True, False, Unknown, True, False, Unknown},
		"a = 1 OR b = 9":        {True, False, Unknown, True, True, True},
		"1 = 1":                 {True, True, True, True, True, True},
		"a IN (1, b)":           {True, False, Unknown, True, False, Unknown},
		"a NOT IN (2, b)":       {False, False, Unknown, True, False, Unknown},
		"b - a BETWEEN a AND 8": {False, False, Unknown, True, True, Unknown},
	} {
		c, errs := Compile(source, types)
		if len(errs) > 0 {
			t.Fatal(errs)
		}
		if got := c.Evaluate(m); !slices.Equal(got, want) {
			t.Errorf("%s is %v, want %v", source, got, want)
		}
	}
	empty := manyRows{values: m.values, codes: map[string][]uint32{}}
	if c, _ := Compile("a = b", types); len(c.Evaluate(empty)) != 0 {
		t.Error("no rows have truths")
	}
}

// lastingRows are rows of columns whose values come one batch after the other.
type lastingRows struct {
	manyRows
	begun map[string]uint64
}

func (l lastingRows) Begun(column string) uint64 { return l.begun[column] }

// What is remembered from one batch to the next changes no answer: values that grow, by few or
// by many at a time, that begin anew, or that are those of one batch alone.
func TestWhatIsRememberedOfEarlierBatchesChangesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(19, 20))
	sources := []string{"a = 1", "a < b", "NOT (a = 1 OR b > 5)", "a + b > 9 AND b * 2 < a + 4",
		"(a > 0 OR b > 3) AND NOT (b < 2 AND a = b)", "a IS NOT NULL OR b = 2", "a IN (1, 2, 3) AND b IN (1, a)",
		"a BETWEEN 0 AND 100 AND b BETWEEN a AND 20", "COALESCE(a, b) >= 1", "NOT (NOT (a >= 0) AND b >= 0)",
		"CASE WHEN a > b THEN b ELSE a END = a"}
	var conditions []*Condition
	for _, source := range sources {
		c, errs := Compile(source, types)
		if len(errs) > 0 {
			t.Fatal(source, errs)
		}
		conditions = append(conditions, c)
	}
	for round := range 60 {
		// the last one remembers ten values
		memory := NewMemory([]int{1, len(conditions), rememberedValues / 10}[round%3])
		var evaluators []*Evaluator
		for _, c := range conditions {
			evaluators = append(evaluators, c.Evaluator(memory))
		}
		rows := lastingRows{manyRows{values: map[string][]table.Value{}, codes: map[string][]uint32{}},
			map[string]uint64{}}
		for batch := range 30 {
			rows.n = []int{0, 1, 3, 20, 100}[r.IntN(5)]
			for _, name := range []string{"a", "b"} {
				if rows.begun[name] == 0 || r.IntN(8) == 0 {
					rows.values[name] = nil
					rows.begun[name] = uint64(batch + 1)
				}
				if r.IntN(6) == 0 {
					rows.values[name], rows.begun[name] = nil, 0
				}
				for range []int{0, 0, 1, 4, 60}[r.IntN(5)] + 1 - min(len(rows.values[name]), 1) {
					value := table.Value{}
					if n := r.IntN(13); n < 12 && round%3 > 0 || n < 9 {
						value = number(fmt.Sprint(n))
					}
					rows.values[name] = append(rows.values[name], value)
				}
				rows.codes[name] = make([]uint32, rows.n)
				for i := range rows.codes[name] {
					rows.codes[name][i] = uint32(r.IntN(len(rows.values[name])))
				}
			}
			for at, e := range evaluators {
				want := conditions[at].Evaluate(rows.manyRows)
				if got := e.Evaluate(rows); !slices.Equal(got, want) {
					t.Fatalf("round %d, batch %d: %s is %v, want %v", round, batch, sources[at], got, want)
				}
				var missed []Truth
				e.EachNotTrue(rows, func(row int, truth Truth) {
					if truth != want[row] {
						t.Errorf("%s in row %d is %v, want %v", sources[at], row, truth, want[row])
					}
					missed = append(missed, truth)
				})
				if others := slices.DeleteFunc(slices.Clone(want),
					func(one Truth) bool { return one == True }); len(missed) != len(others) {
					t.Errorf("%s is not true in %d rows, want %d", sources[at], len(missed), len(others))
				}
			}
		}
	}
}

func TestAHostileConditionEndsSoon(t *testing.T) {
	source := "a = 1"
	for range 60 {
		source = fmt.Sprintf("(%s) IN (TRUE, FALSE, NULL)", source)
	}
	c, errs := Compile(source, types)
	if len(errs) > 0 {
		t.Fatal(errs[0])
	}
	// Each level looks at its left side once per value, which would be 3^60 times in all.
	ended := make(chan []Truth, 1)
	go func() { ended <- c.Evaluate(row) }()
	select {
	case truths := <-ended:
		if len(truths) != row.Len() {
			t.Errorf("%d truths for %d rows", len(truths), row.Len())
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the condition is still being worked out")
	}
}

func TestEveryMistakeIsToldAtOnce(t *testing.T) {
	for source, want := range map[string]string{
		"a > AND b >":                          "5: a column|12: a column",
		"a # 3 OR b = 'x":                      "3: \"#\" has|14: the quote",
		"(a > OR b IN 3) AND c LIKE 4":         "6: a column|14: IN wants|28: LIKE wants",
		"a BETWEEN AND 5 OR b =":               "11: a column|23: a column",
		"a b AND c IS 5":                       "3: \"b\" was not expected|14: after IS",
		"NOT (a = ) AND (b > 3":                "10: a column|22: a closing parenthesis",
		"a > 1) AND b >":                       "6: \")\" was not expected|15: a column",
		"CASE WHEN a > THEN 1 END = 1 AND b >": "15: a column|37: a column",
		"$ AND % OR a = 1":                     "1: \"$\" has|7: \"%\" has",
	} {
		_, mistakes := Parse(source)
		var got []string
		for _, one := range mistakes {
			got = append(got, strings.TrimPrefix(one.Error(), "character "))
		}
		parts := strings.Split(want, "|")
		same := len(parts) == len(got)
		for i := range parts {
			same = same && strings.HasPrefix(got[i], parts[i])
		}
		if !same {
			t.Errorf("%s: %q, want %q", source, got, parts)
		}
	}
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"a = 5", "NOT (a + 1 BETWEEN b AND 2)", "t IN ('x', NULL)", "d > DATE '2024-01-01'", "'",
		"((", "a IS NOT NULL OR"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		c, errs := Compile(source, types)
		for _, err := range errs {
			var placed *Error
			if !errors.As(err, &placed) || placed.Column < 1 {
				t.Errorf("%q: the error %v has no place", source, err)
			}
		}
		if len(errs) == 0 {
			c.Evaluate(row)
		}
	})
}
