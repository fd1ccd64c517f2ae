package api

import (
	"context"
	"encoding/json"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/expect"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// DatasetRecord is how the deliveries of a dataset went over time.
type DatasetRecord struct {
	Expects   *expect.Expectation  `json:"expects,omitempty" doc:"Left out where nothing is expected"`
	Dues      []DueDelivery        `json:"dues" doc:"The days by which a delivery was expected, and the next one, the first one first"`
	Late      int64                `json:"late" doc:"How many of these came late"`
	Missed    int64                `json:"missed" doc:"How many are over without one"`
	Providers []ProviderRecord     `json:"providers"`
	ComeBack  []records.ComesBack  `json:"come_back" doc:"Rules whose issues were settled and came again, the most frequent first; at most 50"`
	Answers   []records.AnswerTime `json:"answers" doc:"How long those took who were asked"`
}

// ExpectedDeliveries says how often a delivery is expected.
type ExpectedDeliveries struct {
	Every string `json:"every" enum:"day,week,month,quarter,year"`
	By    int    `json:"by" minimum:"1" maximum:"366" doc:"The day of the period by whose end it is there; of a week, Monday is 1"`
	Since string `json:"since" maxLength:"10" doc:"The first day from which something is expected, yyyy-MM-dd"`
}

// DueDelivery is a day by which a delivery was expected, with the one that came.
type DueDelivery struct {
	Day      string `json:"day"`
	Table    int64  `json:"table" doc:"The delivery; 0 for none"`
	FileName string `json:"file_name,omitempty"`
	Late     int    `json:"late" doc:"By how many days it was late, or is"`
}

// ProviderRecord is how the deliveries of a provider went.
type ProviderRecord struct {
	Provider   string `json:"provider" doc:"As the sources say; empty where they do not"`
	Deliveries int64  `json:"deliveries"`
	Judged     int64  `json:"judged" doc:"How many of them a rulebook judged"`
	Short      int64  `json:"short" doc:"How many of these fell short"`
	Late       int64  `json:"late" doc:"How many came late"`
}

// Course is how something went from table to table.
type Course struct {
	Points  []CoursePoint `json:"points" doc:"The tables of one origin that were audited, the first one first; the newest 60"`
	Earlier int64         `json:"earlier" doc:"How many came before these"`
}

// CoursePoint is a table with what its newest audit found.
type CoursePoint struct {
	Table    int64              `json:"table"`
	Audit    int64              `json:"audit"`
	At       time.Time          `json:"at"`
	FileName string             `json:"file_name"`
	Rows     int64              `json:"rows"`
	Score    *float64           `json:"score" doc:"null where nothing was declared"`
	Passed   *bool              `json:"passed"`
	Rules    map[string]int64   `json:"rules" doc:"Rows that break each rule that was judged"`
	Scores   map[string]float64 `json:"scores" doc:"Of the columns"`
	Gaps     map[string]int64   `json:"gaps" doc:"Missing cells of the columns"`
	Sums     map[string]string  `json:"sums" doc:"Of the measures, exact"`
}

// pointsMost is how many tables a course has.
const pointsMost = 60

// yearsBack is since how many years something can be expected.
const yearsBack = 10

// record adds how the deliveries of a dataset went, and what is expected of it.
func (s *Server) record() {
	register(s, operation{
		Right: access.Read, ID: "show-record", Method: http.MethodGet, Path: "/datasets/{name}/record",
		Summary: "How the deliveries of a dataset went: how often late and short, which rules come back, and how long answers take, by provider",
	}, func(ctx context.Context, in *ByName) (*body[DatasetRecord], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		return answer(s.recordOf(ctx, d, time.Now()))
	})
	type coursed struct {
		ByName
		Origin string `query:"origin" enum:"delivery,cleaned,merged" default:"delivery" doc:"What was cleaned or merged is another thing than what arrived"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-course", Method: http.MethodGet, Path: "/datasets/{name}/course",
		Summary: "How rows, scores, gaps, sums and the rows that break each rule went from table to table",
	}, func(ctx context.Context, in *coursed) (*body[Course], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		return answer(s.courseOf(ctx, d, in.Origin))
	})
	type decided struct {
		ByName
		Paging
	}
	register(s, operation{
		Right: access.Read, ID: "list-decided", Method: http.MethodGet, Path: "/datasets/{name}/decided",
		Summary: "Everything that was decided of a dataset, newest first: rulebooks and plans, waivers, answers taken up, certificates, with reasons",
	}, func(ctx context.Context, in *decided) (*body[records.Page[records.Decided]], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		return answer(store.Decided(ctx, s.Store.DB, d.ID, in.cursor()))
	})
	type expecting struct {
		ByName
		Body struct {
			Expects *ExpectedDeliveries `json:"expects,omitempty" doc:"Left out for nothing"`
		}
	}
	register(s, operation{
		Right: access.Work, ID: "expect-deliveries", Method: http.MethodPut, Path: "/datasets/{name}/expects",
		Summary: "Say by when deliveries of a dataset are expected",
	}, func(ctx context.Context, in *expecting) (*body[records.Dataset], error) {
		d, err := store.FindDataset(ctx, s.Store.DB, in.Name)
		if err != nil {
			return nil, err
		}
		var raw []byte
		if in.Body.Expects != nil {
			e := expect.Expectation(*in.Body.Expects)
			if err := e.Check(); err != nil {
				return nil, invalid("%s.", strings.ToUpper(err.Error()[:1])+err.Error()[1:])
			}
			if e.Since < time.Now().AddDate(-yearsBack, 0, 0).Format(time.DateOnly) {
				return nil, invalid("Something can be expected since %d years ago at the earliest.", yearsBack)
			}
			if raw, err = json.Marshal(&e); err != nil {
				return nil, err
			}
		}
		return s.changeDataset(ctx, d, "said by when deliveries are expected", map[string]any{"expects": in.Body.Expects},
			func(tx *sqlx.Tx) error { return store.SetExpects(ctx, tx, d.ID, raw) })
	})
}

func (s *Server) recordOf(ctx context.Context, d *records.Dataset, now time.Time) (*DatasetRecord, error) {
	out := &DatasetRecord{Dues: []DueDelivery{}}
	deliveries, err := store.JudgedDeliveries(ctx, s.Store.DB, d.ID)
	if err != nil {
		return nil, err
	}
	came := make([]time.Time, len(deliveries))
	for i := range deliveries {
		came[i] = deliveries[i].At
	}
	var dues []expect.Due
	if d.Expects != nil {
		if err := json.Unmarshal(*d.Expects, &out.Expects); err != nil {
			return nil, err
		}
		if dues, err = expect.Of(*d.Expects, came, now); err != nil {
			return nil, err
		}
	}
	late := map[int64]bool{}
	for _, due := range dues {
		one := DueDelivery{Day: due.Day, Late: due.Late}
		if due.Met >= 0 {
			one.Table, one.FileName = deliveries[due.Met].Table, deliveries[due.Met].FileName
		}
		switch {
		case due.Missed():
			out.Missed++
		case due.Late > 0:
			out.Late++
			late[one.Table] = true
		}
		out.Dues = append(out.Dues, one)
	}
	out.Providers = providersOf(deliveries, late)
	if out.ComeBack, err = store.ComeBack(ctx, s.Store.DB, d.ID); err != nil {
		return nil, err
	}
	out.Answers, err = store.AnswerTimes(ctx, s.Store.DB, d.ID)
	return out, err
}

// providersOf counts how deliveries went, by who provided them.
func providersOf(deliveries []records.JudgedDelivery, late map[int64]bool) []ProviderRecord {
	out := []ProviderRecord{}
	for i := range deliveries {
		one := &deliveries[i]
		at := slices.IndexFunc(out, func(p ProviderRecord) bool { return p.Provider == one.Provider })
		if at < 0 {
			out, at = append(out, ProviderRecord{Provider: one.Provider}), len(out)
		}
		p := &out[at]
		p.Deliveries++
		if one.Passed != nil {
			p.Judged++
			if !*one.Passed {
				p.Short++
			}
		}
		if late[one.Table] {
			p.Late++
		}
	}
	return out
}

// LateDelivery is a dataset of which a delivery is late.
type LateDelivery struct {
	Dataset string `json:"dataset"`
	Day     string `json:"day" doc:"The first day by which one was expected that has not come"`
	Days    int    `json:"days" doc:"By how many days it is late"`
	Missed  int64  `json:"missed" doc:"How many have not come"`
}

// deskLate fills in what was expected and has not come.
func (s *Server) deskLate(ctx context.Context, d *Desk) error {
	d.Late = []LateDelivery{}
	expecting, err := store.Expecting(seen(ctx), s.Store.DB)
	if err != nil {
		return err
	}
	came, err := store.Expected(ctx, s.Store.DB)
	if err != nil {
		return err
	}
	for i := range expecting {
		dues, err := expect.Of(*expecting[i].Expects, came[expecting[i].ID], time.Now())
		if err != nil {
			return err
		}
		one := LateDelivery{Dataset: expecting[i].Name}
		for _, due := range dues {
			if due.Missed() {
				if one.Missed == 0 {
					one.Day, one.Days = due.Day, due.Late
				}
				one.Missed++
			}
		}
		if one.Missed > 0 {
			d.Late = append(d.Late, one)
		}
	}
	return nil
}

func (s *Server) courseOf(ctx context.Context, d *records.Dataset, origin string) (*Course, error) {
	audits, earlier, err := store.NewestAudits(ctx, s.Store.DB, d.ID, origin, pointsMost)
	if err != nil {
		return nil, err
	}
	out := &Course{Points: []CoursePoint{}, Earlier: earlier}
	for _, a := range audits {
		result, err := s.resultOf(ctx, a.ID)
		if err != nil {
			return nil, err
		}
		p := CoursePoint{Table: a.TableID, Audit: a.ID, At: a.CreatedAt, FileName: a.FileName, Rows: result.Rows, Passed: result.Passed, Rules: map[string]int64{}, Scores: map[string]float64{},
			Gaps: map[string]int64{}, Sums: result.Sums}
		if result.Passed != nil {
			p.Score = &result.Score
		}
		for _, r := range result.Rules {
			if r.Unjudged == "" {
				p.Rules[r.Rule] = r.Rows
			}
		}
		for i := range result.Columns {
			c := &result.Columns[i]
			if p.Gaps[c.Name] = c.Missing; p.Score != nil && !math.IsNaN(c.Score) {
				p.Scores[c.Name] = c.Score
			}
		}
		out.Points = append(out.Points, p)
	}
	return out, nil
}
