package profile

import (
	"slices"
	"time"
)

// Calendar describes how dates lie, by periods of equal kind.
type Calendar struct {
	Unit    string   `json:"unit"` // day, month or year
	Periods []Period `json:"periods"`
	Empty   int      `json:"empty"` // periods between the first and the last without any date
	// LastPartial says that the last period looks cut off: its last date is well before its
	// end, and it has fewer rows than three quarters of the median of the others.
	LastPartial bool `json:"last_partial,omitempty"`
}

// Period is a day, month or year with the rows whose date falls into it.
type Period struct {
	Start string `json:"start"` // yyyy-MM-dd, yyyy-MM or yyyy
	Rows  int64  `json:"rows"`
}

const (
	mostDays   = 92
	mostMonths = 240
)

// days counts dates, given as days since 1970-01-01, in pages of consecutive days.
type days struct {
	pages map[int64]*dayPage    // by their days without the last daysShift bits
	usual *[usualPages]*dayPage // of them those that most dates lie in, by usualFirst; nil until there is one
	last  *dayPage              // that was asked for last
	at    int64                 // where it stands in pages
}

// The pages in which most dates lie, from 1880 to 2239, are found without a map.
const (
	usualFirst = -64
	usualPages = 256
)

const daysShift = 9

type dayPage [1 << daysShift]int64

func (d *days) add(day, rows int64) {
	d.page(day >> daysShift)[day&(1<<daysShift-1)] += rows
}

func (d *days) page(at int64) *dayPage {
	if d.last != nil && d.at == at {
		return d.last
	}
	if i := at - usualFirst; i >= 0 && i < usualPages && d.usual != nil && d.usual[i] != nil {
		d.last, d.at = d.usual[i], at
		return d.last
	}
	if d.pages == nil {
		d.pages, d.usual = map[int64]*dayPage{}, new([usualPages]*dayPage)
	}
	if d.pages[at] == nil {
		d.pages[at] = new(dayPage)
	}
	if i := at - usualFirst; i >= 0 && i < usualPages {
		d.usual[i] = d.pages[at]
	}
	d.last, d.at = d.pages[at], at
	return d.last
}

func (d *days) merge(o *days) {
	for at, page := range o.pages {
		to := d.page(at)
		for i, n := range page {
			to[i] += n
		}
	}
}

// calendar returns the periods, or nil where there are no dates.
func (d *days) calendar() *Calendar {
	if len(d.pages) == 0 {
		return nil
	}
	type counted struct {
		date time.Time
		rows int64
	}
	var all []counted
	for at, page := range d.pages {
		for i, n := range page {
			if n > 0 {
				all = append(all, counted{time.Unix((at<<daysShift+int64(i))*86400, 0).UTC(), n})
			}
		}
	}
	slices.SortFunc(all, func(a, b counted) int { return a.date.Compare(b.date) })
	first, last := all[0].date, all[len(all)-1].date
	c := &Calendar{}
	var format string
	var next func(time.Time) time.Time
	var start time.Time
	months := (last.Year()-first.Year())*12 + int(last.Month()) - int(first.Month()) + 1
	switch {
	case last.Sub(first) < mostDays*24*time.Hour:
		c.Unit, format, start = "day", "2006-01-02", first
		next = func(t time.Time) time.Time { return t.AddDate(0, 0, 1) }
	case months <= mostMonths:
		c.Unit, format, start = "month", "2006-01", time.Date(first.Year(), first.Month(), 1, 0, 0, 0, 0, time.UTC)
		next = func(t time.Time) time.Time { return t.AddDate(0, 1, 0) }
	default:
		c.Unit, format, start = "year", "2006", time.Date(first.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
		next = func(t time.Time) time.Time { return t.AddDate(1, 0, 0) }
	}
	at := 0
	for ; !start.After(last); start = next(start) {
		end, rows := next(start), int64(0)
		for ; at < len(all) && all[at].date.Before(end); at++ {
			rows += all[at].rows
		}
		if rows == 0 {
			c.Empty++
		}
		c.Periods = append(c.Periods, Period{start.Format(format), rows})
		if end.After(last) && c.Unit != "day" {
			c.LastPartial = c.cutOff(end.Sub(last), end.Sub(start))
		}
	}
	return c
}

// cutOff reports whether the last period, which lacks so much of its length, looks cut off.
func (c *Calendar) cutOff(lacking, length time.Duration) bool {
	n := len(c.Periods) - 1
	if n < 3 || lacking*10 < length {
		return false
	}
	rows := make([]int64, n)
	for i, p := range c.Periods[:n] {
		rows[i] = p.Rows
	}
	slices.Sort(rows)
	return c.Periods[n].Rows*4 < rows[n/2]*3
}
