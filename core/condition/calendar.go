package condition

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

const (
	microsPerSecond = int64(1_000_000)
	microsPerDay    = 86_400 * microsPerSecond
	// intervalLimit bounds the number in an interval.
	intervalLimit = 1_000_000
)

// span is an interval: months have no fixed length, so they are kept apart.
type span struct {
	months, days, micros int64
}

// spanOf returns n of a unit.
func spanOf(n int64, unit string) (span, bool) {
	switch strings.ToUpper(unit) {
	case "YEAR":
		return span{months: 12 * n}, true
	case "MONTH":
		return span{months: n}, true
	case "DAY":
		return span{days: n}, true
	case "HOUR":
		return span{micros: n * 3600 * microsPerSecond}, true
	case "MINUTE":
		return span{micros: n * 60 * microsPerSecond}, true
	case "SECOND":
		return span{micros: n * microsPerSecond}, true
	}
	return span{}, false
}

func (s span) negative() span { return span{-s.months, -s.days, -s.micros} }

// add moves a date or datetime. A day beyond the end of a month becomes its last day, as in
// PostgreSQL. A date stays one unless hours, minutes or seconds are added.
func (s span) add(v *table.Value) table.Value {
	switch {
	case v.Kind == table.Missing:
		return table.Value{}
	case v.Kind == table.Date && s.months == 0 && s.micros == 0:
		return table.DateValue(v.When + s.days)
	}
	days, micros := v.Day(), int64(0)
	if v.Kind == table.Instant {
		micros = v.When - days*microsPerDay
	}
	if s.months != 0 {
		when := dayOf(days)
		month := int64(when.Year())*12 + int64(when.Month()) - 1 + s.months
		first := time.Date(int(floorDivide(month, 12)), time.Month(month-floorDivide(month, 12)*12+1), 1, 0, 0, 0, 0,
			time.UTC)
		last := first.AddDate(0, 1, -1).Day()
		days = daysOf(first) + int64(min(when.Day(), last)) - 1
	}
	days += s.days
	if v.Kind == table.Date && s.micros == 0 {
		return table.DateValue(days)
	}
	return table.InstantValue(days*microsPerDay + micros + s.micros)
}

func dayOf(days int64) time.Time  { return time.Unix(days*86_400, 0).UTC() }
func daysOf(when time.Time) int64 { return floorDivide(when.Unix(), 86_400) }

func floorDivide(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// castInstant turns a date into its midnight.
func castInstant(v table.Value) table.Value {
	if v.Kind == table.Date {
		return table.InstantValue(v.When * microsPerDay)
	}
	return v
}

// whenOf returns the time of a date or datetime.
func whenOf(v table.Value) time.Time {
	if v.Kind == table.Date {
		return dayOf(v.When)
	}
	return time.UnixMicro(v.When).UTC()
}

// fields are what EXTRACT takes out of a date; clock those that only a datetime has.
var (
	fields = map[string]func(time.Time) table.Decimal{
		"YEAR":    func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.Year()), 0) },
		"QUARTER": func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.Month()+2)/3, 0) },
		"MONTH":   func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.Month()), 0) },
		"WEEK": func(t time.Time) table.Decimal { // of ISO 8601
			_, week := t.ISOWeek()
			return table.DecimalOf(int64(week), 0)
		},
		"DAY": func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.Day()), 0) },
		"DOY": func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.YearDay()), 0) },
		// Monday is 1
		"ISODOW": func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.Weekday()+6)%7+1, 0) },
	}
	clock = map[string]func(time.Time) table.Decimal{
		"HOUR":   func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.Hour()), 0) },
		"MINUTE": func(t time.Time) table.Decimal { return table.DecimalOf(int64(t.Minute()), 0) },
		"SECOND": func(t time.Time) table.Decimal {
			return table.DecimalOf(int64(t.Second())*microsPerSecond+int64(t.Nanosecond()/1000), 6)
		},
	}
)

func extracted(k *checker, c *call, kinds []table.Kind) (table.Kind, func([]table.Value) table.Value) {
	field := fields[c.word]
	if kinds[0] != table.Date && field == nil {
		field = clock[c.word]
	}
	if !k.temporal(c.args[0], kinds[0], "EXTRACT") {
		return table.Number, nil
	}
	if field == nil {
		known := slices.Sorted(maps.Keys(fields))
		if kinds[0] != table.Date {
			known = append(known, slices.Sorted(maps.Keys(clock))...)
		}
		k.fail(c.place(), "a %s has no %s to extract%s", kinds[0], c.word, document.Nearest(c.word, known))
		return table.Number, nil
	}
	return table.Number, func(a []table.Value) table.Value { return table.NumberValue(field(whenOf(a[0]))) }
}

// temporal reports whether a node is a date, a datetime or NULL, and fails where it is not.
func (k *checker) temporal(n node, kind table.Kind, what string) bool {
	if kind == table.Date || kind == table.Instant || kind == table.Missing {
		return true
	}
	k.fail(n.place(), "%s wants a date or datetime, and this is a %s", what, kind)
	return false
}

// periods are the units that DATE_TRUNC goes down to: where the one begins that a moment is in, and how long it is.
var periods = map[string]struct {
	start  func(time.Time) time.Time
	length span
}{
	"year": {func(t time.Time) time.Time { return time.Date(t.Year(), 1, 1, 0, 0, 0, 0, time.UTC) }, span{months: 12}},
	"quarter": {func(t time.Time) time.Time {
		return time.Date(t.Year(), (t.Month()-1)/3*3+1, 1, 0, 0, 0, 0, time.UTC)
	}, span{months: 3}},
	"month": {func(t time.Time) time.Time { return time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, time.UTC) }, span{months: 1}},
	"week": {func(t time.Time) time.Time { // from Monday
		return time.Date(t.Year(), t.Month(), t.Day()-int(t.Weekday()+6)%7, 0, 0, 0, 0, time.UTC)
	}, span{days: 7}},
	"day":    {func(t time.Time) time.Time { return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC) }, span{days: 1}},
	"hour":   {func(t time.Time) time.Time { return t.Truncate(time.Hour) }, span{micros: 3600 * microsPerSecond}},
	"minute": {func(t time.Time) time.Time { return t.Truncate(time.Minute) }, span{micros: 60 * microsPerSecond}},
	"second": {func(t time.Time) time.Time { return t.Truncate(time.Second) }, span{micros: microsPerSecond}},
}

func truncated(k *checker, c *call, kinds []table.Kind) (table.Kind, func([]table.Value) table.Value) {
	unit, ok := c.args[0].(literal)
	if !ok {
		k.fail(c.args[0].place(), "DATE_TRUNC wants its unit in single quotes, as DATE_TRUNC('month', day)")
		return kinds[1], nil
	}
	if _, known := periods[strings.ToLower(unit.value.Text)]; !known {
		k.fail(unit.place(), "DATE_TRUNC knows no unit %q%s", unit.value.Text,
			document.Nearest(strings.ToLower(unit.value.Text), slices.Sorted(maps.Keys(periods))))
		return kinds[1], nil
	}
	if !k.temporal(c.args[1], kinds[1], "DATE_TRUNC") {
		return table.Missing, nil
	}
	begins := PeriodOf(strings.ToLower(unit.value.Text))
	return kinds[1], func(a []table.Value) table.Value { return begins(a[1]) }
}

// PeriodOf returns what tells where the period of a date or datetime begins, of those that DATE_TRUNC knows, as month; other values
// stay as they are. Nil where there is no such period.
func PeriodOf(unit string) func(table.Value) table.Value {
	period, known := periods[unit]
	if !known {
		return nil
	}
	return func(v table.Value) table.Value {
		switch v.Kind {
		case table.Date:
			return table.DateValue(daysOf(period.start(whenOf(v))))
		case table.Instant:
			return table.InstantValue(period.start(whenOf(v)).UnixMicro())
		}
		return v
	}
}

// moving types the sum or difference of two nodes of which one is a date, a datetime or an interval.
func (k *checker) moving(n arithmetic, left node, a table.Kind, right node, b table.Kind) (node, table.Kind) {
	if n.sign == '+' { // the date comes first
		if _, ok := left.(interval); ok || a == table.Number && b == table.Date {
			left, a, right, b = right, b, left, a
		}
	}
	if by, ok := right.(interval); ok && (n.sign == '+' || n.sign == '-') {
		if !k.temporal(left, a, "an interval") {
			return n, table.Missing
		}
		if n.sign == '-' {
			by.span = by.span.negative()
		}
		kind := a
		if kind == table.Date && by.span.micros != 0 {
			kind = table.Instant
		}
		return moved{n.at, left, by.span}, kind
	}
	switch {
	case (n.sign == '+' || n.sign == '-') && (a == table.Missing || b == table.Missing):
		return literal{at: n.at}, table.Missing
	case n.sign == '-' && a == table.Date && b == table.Date:
		return call{at: n.at, name: "-", args: []node{left, right}, apply: func(v []table.Value) table.Value {
			if v[0].Kind == table.Missing || v[1].Kind == table.Missing {
				return table.Value{}
			}
			return table.NumberValue(table.DecimalOf(v[0].When-v[1].When, 0))
		}}, table.Number
	case (n.sign == '+' || n.sign == '-') && a == table.Date && b == table.Number:
		sign := int64(1)
		if n.sign == '-' {
			sign = -1
		}
		return call{at: n.at, name: "+", word: string(n.sign), args: []node{left, right}, apply: func(v []table.Value) table.Value {
			days, ok := wholeNumber(v[1])
			if v[0].Kind == table.Missing || v[1].Kind == table.Missing || !ok || days > intervalLimit ||
				days < -intervalLimit {
				return table.Value{}
			}
			return table.DateValue(v[0].When + sign*int64(days))
		}}, table.Date
	}
	k.fail(n.place(), "%s", hint(n.sign, a, b))
	return n, table.Missing
}

func hint(sign byte, a, b table.Kind) string {
	if sign == '-' && (a == table.Instant || b == table.Instant) {
		return "datetimes are not subtracted; compare one with the other moved, as in received <= sampled + INTERVAL '48' HOUR"
	}
	return fmt.Sprintf("%c of a %s and a %s has no meaning; dates are moved by INTERVAL '3' DAY or by whole days, and two dates are subtracted", sign, a, b)
}
