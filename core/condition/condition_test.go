package condition

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/table"
)

var types = map[string]table.Type{"a": table.TypeInteger, "b": table.TypeDecimal, "t": table.TypeText, "u": table.TypeCode, "d": table.TypeDate,
	"ts": table.TypeDateTime, "ok": table.TypeBoolean, "two words": table.TypeText, "Mixed": table.TypeInteger}

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

var row = oneRow{"a": number("5"), "b": number("2.50"), "t": table.TextValue("x"), "u": {}, "d": day("2024-05-31"), "ts": {Kind: table.Instant, When: day("2024-05-31").When*86400e6 + 1},
	"ok": table.BooleanValue(true), "two words": table.TextValue("it's"), "Mixed": {}}

func TestTruth(t *testing.T) {
	for _, c := range []struct {
		source string
		want   Truth
	}{
		{"a = 5", True}, {"a = 5.0", True}, {"a <> 5", False}, {"a != 5", False}, {"a < 6", True}, {"a <= 5", True}, {"a > 5", False}, {"a >= 5", True},
		{"b = 2.5", True}, {"a + b = 7.5", True}, {"a - b = 2.5", True}, {"a * b = 12.50", True}, {"a / 2 = 2.5", True}, {"-a = -5", True}, {"- -a = 5", True}, {"+a = 5", True},
		{"a + b * 2 = 10", True}, {"(a + b) * 2 = 15", True}, {"a - 1 - 1 = 3", True}, {"20 / a / 2 = 2", True}, {"0.1 + 0.2 = 0.3", True},
		{"a / 0 = 1", Unknown}, {"a / (b - 2.5) IS NULL", True},
		{"t = 'x'", True}, {"t < 'y'", True}, {"t = 'X'", False}, {"\"two words\" = 'it''s'", True},
		{"u = 'x'", Unknown}, {"u <> 'x'", Unknown}, {"NOT u = 'x'", Unknown}, {"u IS NULL", True}, {"u IS NOT NULL", False}, {"t IS NULL", False}, {"NULL IS NULL", True},
		{"u = NULL", Unknown}, {"NULL", Unknown}, {"NOT NULL", Unknown},
		{"TRUE", True}, {"FALSE", False}, {"ok", True}, {"NOT ok", False}, {"ok = TRUE", True}, {"ok AND a = 5", True},
		{"a = 5 AND u = 'x'", Unknown}, {"a = 6 AND u = 'x'", False}, {"u = 'x' AND a = 6", False}, {"a = 5 OR u = 'x'", True}, {"a = 6 OR u = 'x'", Unknown},
		{"a = 6 OR a = 5 AND b = 0", False}, {"(a = 6 OR a = 5) AND b = 2.5", True}, {"NOT a = 5 OR b = 2.5", True}, {"NOT (a = 5 OR b = 2.5)", False},
		{"a BETWEEN 1 AND 5", True}, {"a NOT BETWEEN 1 AND 5", False}, {"a BETWEEN 6 AND 1", False}, {"a BETWEEN 1 AND NULL", Unknown}, {"a BETWEEN 6 AND NULL", False},
		{"a BETWEEN 1 AND 5 AND t = 'x'", True}, {"a IN (1, 5)", True}, {"a NOT IN (1, 5)", False}, {"a IN (1, NULL)", Unknown}, {"a IN (5, NULL)", True}, {"a NOT IN (1, NULL)", Unknown},
		{"u IN ('x')", Unknown}, {"t IN ('x', 'y')", True}, {"a IN (b * 2)", True}, {"a NOT IN (b)", True},
		{"d = DATE '2024-05-31'", True}, {"d = '2024-05-31'", True}, {"'2024-06-01' > d", True}, {"d BETWEEN '2024-01-01' AND '2024-12-31'", True},
		{"ts > d", True}, {"d < ts", True}, {"ts > TIMESTAMP '2024-05-31 00:00:00'", True}, {"d >= '2024-05-31 00:00:00'", True},
		{"Mixed IS NULL", True}, {"mixed IS NULL", True}, {"A = 5", True}, {"a = 5 and b = 2.5", True}, {"a Is Not Null", True},
		{"(a = 5) = (b = 2.5)", True}, {"(a = 5) IS NULL", False}, {"(u = 'x') IS NULL", True},
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
		{"a IS 5", 6, "after IS comes NULL or NOT NULL"},
		{"a NOT 5", 7, "after NOT comes BETWEEN or IN"},
		{"a BETWEEN 1 OR 5", 13, "BETWEEN wants two bounds joined by AND"},
		{"a IN 5", 6, "IN wants a list in parentheses"},
		{"a IN (1 2)", 9, "a comma or a closing parenthesis was expected"},
		{"d = DATE '2024-02-30'", 10, "is no date of the calendar"},
		{"upper(t) = 'X'", 1, `there is no function "upper"`},
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
	m := manyRows{n: 6, values: map[string][]table.Value{"a": {number("1"), number("2"), {}}, "b": {number("1"), number("9")}},
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

func TestAHostileConditionEndsSoon(t *testing.T) {
	source := "a = 1"
	for range 60 {
		source = fmt.Sprintf("(%s) IN (TRUE, FALSE, NULL)", source)
	}
	c, errs := Compile(source, types)
	if len(errs) > 0 {
		t.Fatal(errs[0])
	}
	_ = c.Evaluate(row)
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"a = 5", "NOT (a + 1 BETWEEN b AND 2)", "t IN ('x', NULL)", "d > DATE '2024-01-01'", "'", "((", "a IS NOT NULL OR"} {
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
