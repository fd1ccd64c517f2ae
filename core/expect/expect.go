// Package expect says by when deliveries of a dataset should have come, and which of those that came were the ones.
package expect

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Expectation says how often a delivery is expected: one in each period, by a day of it.
type Expectation struct {
	Every string `json:"every"` // one of Periods
	// By is the day of the period by whose end the delivery is there, from 1; of a week, Monday is 1. Beyond the last day of a
	// month, it is that one.
	By    int    `json:"by"`
	Since string `json:"since"` // the first day from which something is expected, yyyy-MM-dd
}

// Periods are how often a delivery can be expected, with the last day by which it can be.
var Periods = map[string]int{"day": 1, "week": 7, "month": 31, "quarter": 92, "year": 366}

// duesMost bounds how many days are told: those of ten years of daily deliveries.
const duesMost = 4000

const day = "2006-01-02"

// Check returns what is wrong with an expectation, or nil.
func (e *Expectation) Check() error {
	most, known := Periods[e.Every]
	if !known {
		return fmt.Errorf("a delivery is expected every day, week, month, quarter or year, and not every %q", e.Every)
	}
	if e.By < 1 || e.By > most {
		return fmt.Errorf("a %s has days from 1 to %d, and no %d", e.Every, most, e.By)
	}
	if _, err := time.Parse(day, e.Since); err != nil {
		return errors.New("the first day is written as 2026-05-31")
	}
	return nil
}

// Due is a day by whose end a delivery was expected.
type Due struct {
	Day string `json:"day"` // yyyy-MM-dd
	// Met is the place of the delivery, among those that came, that was the one; -1 for none.
	Met int `json:"met"`
	// Late is how many days after its day it came, or has not come until today; 0 in time.
	Late int `json:"late"`
}

// Missed reports whether the day is over and nothing came.
func (d *Due) Missed() bool { return d.Met < 0 && d.Late > 0 }

// Of holds deliveries against an expectation as it is kept, as Dues does.
func Of(kept []byte, came []time.Time, now time.Time) ([]Due, error) {
	var e Expectation
	if err := json.Unmarshal(kept, &e); err != nil {
		return nil, err
	}
	utc := make([]time.Time, len(came))
	for i := range came {
		utc[i] = came[i].UTC()
	}
	return e.Dues(utc, now.UTC()), nil
}

// Dues holds deliveries, by when they came, in order, against what was expected until now, and the next day that is due. A delivery
// is the one of the first open day whose period began: after the day before was due. What comes beside is none of the expected.
func (e *Expectation) Dues(came []time.Time, now time.Time) []Due {
	since, err := time.Parse(day, e.Since)
	if err != nil {
		return nil
	}
	var dues []Due
	var opens, ends []time.Time
	end := func(start time.Time) time.Time { return e.due(start).AddDate(0, 0, 1) }
	start := e.start(since)
	if !end(start).After(since) {
		start = e.next(start)
	}
	before := end(e.start(start.AddDate(0, 0, -1)))
	for len(dues) < duesMost {
		ends, opens = append(ends, end(start)), append(opens, before)
		dues = append(dues, Due{Day: e.due(start).Format(day), Met: -1})
		if end(start).After(now) {
			break
		}
		before, start = end(start), e.next(start)
	}
	open := 0
	for i, at := range came {
		if open < len(dues) && !at.Before(opens[open]) {
			dues[open].Met, dues[open].Late = i, late(ends[open], at)
			open++
		}
	}
	for ; open < len(dues); open++ {
		dues[open].Late = late(ends[open], now)
	}
	return dues
}

// late is by how many days a time is after the end of a day, a day that began counted.
func late(end, at time.Time) int {
	if at.Before(end) {
		return 0
	}
	return int(at.Sub(end)/(24*time.Hour)) + 1
}

// start is the first day of the period that a day is in.
func (e *Expectation) start(t time.Time) time.Time {
	y, m, d := t.Date()
	switch e.Every {
	case "week":
		d -= (int(t.Weekday()) + 6) % 7
	case "month":
		d = 1
	case "quarter":
		m, d = m-(m-1)%3, 1
	case "year":
		m, d = 1, 1
	}
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
}

// next is the first day of the period after one.
func (e *Expectation) next(start time.Time) time.Time {
	switch e.Every {
	case "week":
		return start.AddDate(0, 0, 7)
	case "month":
		return start.AddDate(0, 1, 0)
	case "quarter":
		return start.AddDate(0, 3, 0)
	case "year":
		return start.AddDate(1, 0, 0)
	}
	return start.AddDate(0, 0, 1)
}

// due is the day of a period by whose end the delivery is there.
func (e *Expectation) due(start time.Time) time.Time {
	by, last := start.AddDate(0, 0, e.By-1), e.next(start).AddDate(0, 0, -1)
	if by.After(last) {
		return last
	}
	return by
}
