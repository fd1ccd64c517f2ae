package profile

import (
	"slices"
	"time"

	"proudsieve/core/table"
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

// days counts dates by year and day of the year.
type days struct {
	years map[int]*[366]int64
}

const dayMicros = int64(24 * time.Hour / time.Microsecond)

func (d *days) add(v table.Value, rows int64) {
	day := v.When
	if v.Kind == table.Instant {
		day = v.When / dayMicros
		if v.When%dayMicros < 0 {
			day--
		}
	}
	date := time.Unix(day*86400, 0).UTC()
	d.year(date.Year())[date.YearDay()-1] += rows
}

func (d *days) year(y int) *[366]int64 {
	if d.years == nil {
		d.years = map[int]*[366]int64{}
	}
	page := d.years[y]
	if page == nil {
		page = new([366]int64)
		d.years[y] = page
	}
	return page
}

func (d *days) merge(o *days) {
	for y, page := range o.years {
		to := d.year(y)
		for i, n := range page {
			to[i] += n
		}
	}
}

// calendar returns the periods, or nil where there are no dates.
func (d *days) calendar() *Calendar {
	if len(d.years) == 0 {
		return nil
	}
	type counted struct {
		date time.Time
		rows int64
	}
	var all []counted
	for y, page := range d.years {
		for i, n := range page {
			if n > 0 {
				all = append(all, counted{time.Date(y, 1, 1+i, 0, 0, 0, 0, time.UTC), n})
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
