package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/core/expect"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

// datasetRecordCommands tell how the deliveries of a dataset went.
func datasetRecordCommands() []*cli.Command {
	return []*cli.Command{
		verb("expect", "say by when deliveries are expected: in every day, week, month, quarter or year, by the end of which day of it; or none", "DATASET PERIOD|none [DAY]",
			[]cli.Flag{&cli.StringFlag{Name: "since", Usage: "the first day from which something is expected, as 2026-05-31; today where it is left out"}}, expectDeliveries),
		verb("record", "how the deliveries went: how often late and short, which rules come back, how long answers take", "DATASET", nil,
			func(ctx context.Context, s *session, args []string) error {
				r, err := client.Decode[api.DatasetRecord](s.ShowRecord(ctx, args[0]))
				return show(s, r, err, s.datasetRecord)
			}),
		verb("decided", "everything that was decided, newest first, with reasons: for whoever takes over", "DATASET", nil,
			func(ctx context.Context, s *session, args []string) error {
				all, err := client.All(func(after string, limit int64) (*records.Page[records.Decided], error) {
					return s.ListDecided(ctx, args[0], &client.ListDecidedParams{After: after, Limit: limit})
				})
				return show(s, all, err, func(all []records.Decided) {
					g := newGrid("when", "who", "what", "about", "why")
					for _, d := range all {
						g.add(when(d.At), cmp.Or(optional(d.Person, func(name string) string { return name }), "the service"), d.Kind, d.Says, d.Why)
					}
					s.grid(g, "Nothing has been decided yet.")
				})
			}),
		verb("course", "how something went from table to table", "DATASET", []cli.Flag{
			&cli.StringFlag{Name: "origin", Value: "delivery", Usage: "delivery, cleaned or merged"},
			&cli.StringFlag{Name: "of", Usage: "the rows that break this rule, or score:COLUMN, gaps:COLUMN or sum:MEASURE; rules that were ever broken where it is left out"}}, datasetCourse),
	}
}

func expectDeliveries(ctx context.Context, s *session, args []string) error {
	var expects *client.ExpectedDeliveries
	if args[1] != "none" {
		e := expect.Expectation{Every: args[1], By: 1, Since: cmp.Or(s.command.String("since"), time.Now().Format(time.DateOnly))}
		if len(args) > 2 {
			by, err := strconv.Atoi(args[2])
			if err != nil {
				return fmt.Errorf("%q is no day of a %s", args[2], e.Every)
			}
			e.By = by
		}
		if err := e.Check(); err != nil {
			return err
		}
		expects = &client.ExpectedDeliveries{Every: client.ExpectedDeliveriesEvery(e.Every), By: int64(e.By), Since: e.Since}
	}
	d, err := s.ExpectDeliveries(ctx, args[0], client.ExpectingBody{Expects: expects})
	return show(s, d, err, func(d *records.Dataset) {
		if expects == nil {
			s.line("No delivery of %s is expected by a day.", d.Name)
			return
		}
		s.line("A delivery of %s is expected every %s by the end of its day %d, since %s.", d.Name, expects.Every, expects.By, expects.Since)
	})
}

func (s *session) datasetRecord(r *api.DatasetRecord) {
	if r.Expects == nil {
		s.line("No delivery is expected by a day. Say when with dataset expect.")
	} else {
		s.line("Of %s: %s late, %s missing.", document.Counted(int64(len(r.Dues)), "expected delivery", "expected deliveries"), document.Grouped(r.Late), document.Grouped(r.Missed))
		g := newGrid("expected by", ">delivery", "file", "")
		for _, d := range r.Dues {
			table, says := "", ""
			if d.Table != 0 {
				table = strconv.FormatInt(d.Table, 10)
			}
			switch days := document.Counted(int64(d.Late), "day", "days"); {
			case d.Table == 0 && d.Late > 0:
				says = days + " late, and not there"
			case d.Late > 0:
				says = days + " late"
			case d.Table == 0:
				says = "to come"
			}
			g.add(d.Day, table, d.FileName, says)
		}
		s.grid(g, "")
	}
	g := newGrid("provider", ">deliveries", ">judged", ">fell short", ">late")
	for _, p := range r.Providers {
		g.add(cmp.Or(p.Provider, "not said"), document.Grouped(p.Deliveries), document.Grouped(p.Judged), document.Grouped(p.Short), document.Grouped(p.Late))
	}
	s.grid(g, "Nothing has been delivered yet.")
	if len(r.ComeBack) > 0 {
		g := newGrid("rule that comes back", ">issue", ">times")
		for _, c := range r.ComeBack {
			g.add(c.Rule, strconv.FormatInt(c.Issue, 10), document.Grouped(c.Times))
		}
		s.grid(g, "")
	}
	if len(r.Answers) > 0 {
		g := newGrid("who was asked", ">questions", ">answered", ">days to an answer, the median")
		for _, a := range r.Answers {
			days := ""
			if a.Days != nil {
				days = strconv.FormatFloat(*a.Days, 'f', 1, 64)
			}
			g.add(a.Recipient, document.Grouped(a.Asked), document.Grouped(a.Answered), days)
		}
		s.grid(g, "")
	}
}

func datasetCourse(ctx context.Context, s *session, args []string) error {
	c, err := client.Decode[api.Course](s.ShowCourse(ctx, args[0], &client.ShowCourseParams{Origin: client.ShowCourseParamsOrigin(s.command.String("origin"))}))
	return show(s, c, err, func(c *api.Course) {
		heads := []string{s.command.String("of")}
		if heads[0] == "" {
			heads = brokenEver(c)
		}
		g := newGrid(append([]string{">table", "arrived", "file", ">rows", ">score"}, prefixed(heads)...)...)
		for i := range c.Points {
			p := &c.Points[i]
			score := ""
			if p.Score != nil {
				score = strconv.FormatFloat(*p.Score, 'f', 2, 64)
			}
			line := []string{strconv.FormatInt(p.Table, 10), p.At.Format(time.DateOnly), p.FileName, document.Grouped(p.Rows), score}
			for _, head := range heads {
				line = append(line, courseCell(p, head))
			}
			g.add(line...)
		}
		s.grid(g, "None of them was audited yet.")
		if c.Earlier > 0 {
			s.line("%s came before these.", document.Counted(c.Earlier, "table", "tables"))
		}
	})
}

// prefixed are the heads of columns of figures.
func prefixed(heads []string) (out []string) {
	for _, head := range heads {
		out = append(out, ">"+head)
	}
	return out
}

// brokenEver are the rules that some table broke, those with most rows first.
func brokenEver(c *api.Course) []string {
	sums := map[string]int64{}
	for _, p := range c.Points {
		for rule, rows := range p.Rules {
			if rows > 0 {
				sums[rule] += rows
			}
		}
	}
	return slices.SortedFunc(maps.Keys(sums), func(a, b string) int { return cmp.Or(cmp.Compare(sums[b], sums[a]), cmp.Compare(a, b)) })
}

// courseCell is what a table has of what is asked for; nothing where it was not judged or there is none.
func courseCell(p *api.CoursePoint, of string) string {
	kind, name, _ := strings.Cut(of, ":")
	switch kind {
	case "score":
		if v, ok := p.Scores[name]; ok {
			return strconv.FormatFloat(v, 'f', 2, 64)
		}
		return ""
	case "gaps":
		if v, ok := p.Gaps[name]; ok {
			return document.Grouped(v)
		}
		return ""
	case "sum":
		return p.Sums[name]
	}
	if v, ok := p.Rules[of]; ok {
		return document.Grouped(v)
	}
	return ""
}
