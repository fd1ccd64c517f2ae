package expect_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"proudsieve/core/expect"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	when, err := time.Parse("2006-01-02 15:04", text)
	if err != nil {
		t.Fatal(err)
	}
	return when
}

// told writes each day with the delivery that was the one, and by how many days it was late.
func told(dues []expect.Due) string {
	var out []string
	for _, d := range dues {
		out = append(out, fmt.Sprintf("%s:%d+%d", d.Day, d.Met, d.Late))
	}
	return strings.Join(out, " ")
}

func TestDeliveriesAreHeldAgainstWhatWasExpected(t *testing.T) {
	for _, c := range []struct {
		about    string
		expected expect.Expectation
		came     []string
		now      string
		want     string
	}{
		{"monthly by the 5th: in time on the last minute, two days late, and not there", expect.Expectation{Every: "month", By: 5, Since: "2026-01-01"},
			[]string{"2026-01-05 23:59", "2026-02-07 08:00"}, "2026-03-08 12:00", "2026-01-05:0+0 2026-02-05:1+2 2026-03-05:-1+3 2026-04-05:-1+0"},
		{"what comes beside is none of the expected", expect.Expectation{Every: "month", By: 5, Since: "2026-01-01"},
			[]string{"2026-01-03 08:00", "2026-01-04 08:00", "2026-02-01 08:00"}, "2026-02-03 12:00", "2026-01-05:0+0 2026-02-05:2+0"},
		{"one that comes after two were due is the first of them", expect.Expectation{Every: "month", By: 5, Since: "2026-01-01"},
			[]string{"2026-02-10 08:00", "2026-02-11 08:00"}, "2026-02-12 00:00", "2026-01-05:0+36 2026-02-05:1+6 2026-03-05:-1+0"},
		{"the last day of a short month", expect.Expectation{Every: "month", By: 31, Since: "2026-02-01"}, nil, "2026-03-01 00:00", "2026-02-28:-1+1 2026-03-31:-1+0"},
		{"from the middle of a period, whose day is over", expect.Expectation{Every: "month", By: 5, Since: "2026-01-06"}, nil, "2026-01-20 00:00", "2026-02-05:-1+0"},
		{"what came long before anything was expected", expect.Expectation{Every: "month", By: 5, Since: "2026-02-01"}, []string{"2026-01-01 08:00"}, "2026-02-03 00:00", "2026-02-05:-1+0"},
		{"weekly by Tuesday", expect.Expectation{Every: "week", By: 2, Since: "2026-11-20"}, []string{"2026-11-25 00:00"}, "2026-11-27 00:00", "2026-11-24:0+1 2026-12-01:-1+0"},
		{"quarterly", expect.Expectation{Every: "quarter", By: 10, Since: "2026-01-01"}, nil, "2026-04-11 00:00", "2026-01-10:-1+91 2026-04-10:-1+1 2026-07-10:-1+0"},
		{"daily", expect.Expectation{Every: "day", By: 1, Since: "2026-11-26"}, []string{"2026-11-26 10:00"}, "2026-11-27 10:00", "2026-11-26:0+0 2026-11-27:-1+0"},
		{"yearly", expect.Expectation{Every: "year", By: 60, Since: "2024-01-01"}, nil, "2024-01-02 00:00", "2024-02-29:-1+0"},
	} {
		var came []time.Time
		for _, text := range c.came {
			came = append(came, at(t, text))
		}
		if got := told(c.expected.Dues(came, at(t, c.now))); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.about, got, c.want)
		}
	}
}

func TestWhatCannotBeExpectedIsRefused(t *testing.T) {
	for want, e := range map[string]expect.Expectation{
		"and not every":     {Every: "fortnight", By: 1, Since: "2026-01-01"},
		"days from 1 to 7":  {Every: "week", By: 8, Since: "2026-01-01"},
		"days from 1 to 31": {Every: "month", Since: "2026-01-01"},
		"written as":        {Every: "month", By: 1, Since: "1 May"},
	} {
		if err := e.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v", e, err)
		}
	}
	if err := (&expect.Expectation{Every: "quarter", By: 92, Since: "2026-01-01"}).Check(); err != nil {
		t.Error(err)
	}
}

func TestDailyDeliveriesOfCenturiesAreBounded(t *testing.T) {
	e := expect.Expectation{Every: "day", By: 1, Since: "0001-01-01"}
	if n := len(e.Dues(nil, at(t, "2026-01-01 00:00"))); n != 4000 {
		t.Error(n)
	}
}
