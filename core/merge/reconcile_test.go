package merge_test

import (
	"context"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// summed are two tables of stations, days and flows.
func summed(t *testing.T, here, there string) (a, b *merge.Input) {
	in := func(dataset, rows string) *merge.Input {
		return &merge.Input{Dataset: dataset, Source: testkit.File(t, "id,station,day,flow\n"+rows, intake.Standard()),
			Book: testkit.Book(t, "dataset: "+dataset+"\ncolumns: [{name: id}, {name: station}, {name: day, type: date}, {name: flow, type: decimal}]\n")}
	}
	return in("mine", here), in("theirs", there)
}

func reconcile(t *testing.T, q merge.Totals, here, there string) (*merge.Reconciled, error) {
	t.Helper()
	a, b := summed(t, here, there)
	q.Shown = 100
	if q.Factor.Sign() == 0 {
		q.Factor = table.DecimalOf(1, 0)
	}
	return merge.Reconcile(context.Background(), q, a, b, 2)
}

func by(columns ...string) merge.Totals {
	return merge.Totals{Here: merge.TotalsOf{By: columns, Of: "flow"}, There: merge.TotalsOf{By: columns, Of: "flow"}}
}

func TestTotalsThatAgreeDifferOrAreOnOneSideOnly(t *testing.T) {
	q := by("station")
	q.Tolerance = table.DecimalOf(1, 1)
	r, err := reconcile(t, q, "1,A,2024-01-01,0.1\n2,A,2024-01-02,0.2\n3,B,2024-01-01,5\n4,C,2024-01-01,7\n5,D,2024-01-01,x\n", "9,A,2024-01-01,0.3\n8,B,2024-01-01,2\n7,E,2024-01-01,1\n6,D,2024-01-01,0.05\n")
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"[C] 7  7", "[B] 5 2 3", "[E]  1 -1"}
	var got []string
	for _, g := range r.Groups {
		got = append(got, fmt.Sprint(g.Key, " ", g.Here, " ", g.There, " ", g.Apart))
	}
	if !reflect.DeepEqual(got, want) || r.Agree != 2 || r.Differ != 1 || r.OnlyHere != 1 || r.OnlyThere != 1 || r.Here != "12.3" || r.There != "3.35" || r.RowsHere != 5 {
		t.Errorf("%q, %+v", got, r)
	}
}

func TestTotalsByExpressionsOfSomeRowsWithAFactor(t *testing.T) {
	q := merge.Totals{Here: merge.TotalsOf{By: []string{"DATE_TRUNC('month', day)"}, Of: "flow * 2", Where: "station <> 'ALL'"},
		There: merge.TotalsOf{By: []string{"DATE_TRUNC('month', day)"}, Of: "flow"}, Factor: table.DecimalOf(1000, 0)}
	r, err := reconcile(t, q, "1,A,2024-01-01,500\n2,B,2024-01-31,500\n3,ALL,2024-01-31,9\n4,A,2024-02-01,1\n", "9,A,2024-01-15,2\n8,B,2024-02-28,0.002\n")
	if err != nil || r.Agree != 2 || len(r.Groups) != 0 || r.Here != "2002" || r.There != "2002" {
		t.Errorf("%+v, %v", r, err)
	}
	if r, err = reconcile(t, merge.Totals{Here: merge.TotalsOf{By: []string{"station"}}, There: merge.TotalsOf{By: []string{"station"}}}, "1,A,,1\n2,A,,1\n", "1,A,,\n2,A,,\n"); err != nil || r.Agree != 1 || r.Here != "2" {
		t.Errorf("numbers of rows: %+v, %v", r, err)
	}
}

// rows writes one row for each station and month.
func rows(stations []string, months int, row func(station string, month int) (day, flow string)) string {
	var b strings.Builder
	for _, s := range stations {
		for m := range months {
			if day, flow := row(s, m+1); flow != "" {
				fmt.Fprintf(&b, "%s%d,%s,%s,%s\n", s, m, s, day, flow)
			}
		}
	}
	return b.String()
}

func TestACommonCauseIsGuessedWithEvidence(t *testing.T) {
	stations := []string{"ALD", "BRE", "COL"}
	// flow is another one for each station and month, with three decimals.
	flow := func(s string, m int) int { return int(s[0])*131*m%7919 + 1000 }
	first := func(m int) string { return fmt.Sprintf("2024-%02d-01", m) }
	exact := func(s string, m int) (string, string) {
		return first(m), fmt.Sprintf("%d.%03d", flow(s, m), flow(s, m)%1000)
	}
	here := rows(stations, 5, exact)
	for _, c := range []struct {
		name, there, kind, says string
		groups                  int64
		check                   func(merge.Cause) bool
	}{
		{name: "thousands", there: rows(stations, 5, func(s string, m int) (string, string) {
			return first(m), fmt.Sprintf("%d.%03d%03d", flow(s, m)/1000, flow(s, m)%1000, flow(s, m)%1000)
		}),
			kind: "factor", groups: 15, says: "15 totals would agree if those there were multiplied by 1000", check: func(c merge.Cause) bool { return c.Factor == "1000" }},
		{name: "the other sign", there: rows(stations, 5, func(s string, m int) (string, string) { d, f := exact(s, m); return d, "-" + f }),
			kind: "sign", groups: 15, says: "15 totals are the same with the other sign"},
		{name: "rounding", there: rows(stations, 5, func(s string, m int) (string, string) {
			d, ok := table.ParseDecimal(fmt.Sprintf("%d.%03d", flow(s, m), flow(s, m)%1000))
			if !ok {
				t.Fatal("no number")
			}
			return first(m), d.Round(1).Shortest()
		}),
			kind: "rounding", groups: 15, says: "15 totals are the same once rounded to 1 decimal, as they are there", check: func(c merge.Cause) bool { return c.Tolerance == "0.05" }},
		{name: "month end", there: rows(stations, 5, func(s string, m int) (string, string) {
			_, f := exact(s, m)
			return fmt.Sprintf("2024-%02d-%d", m, []int{31, 29, 31, 30, 31}[m-1]), f
		}),
			kind: "month", groups: 15, says: "15 totals would agree if days stood for their month", check: func(c merge.Cause) bool {
				return c.By[1] == "DATE_TRUNC('month', day)" && c.ByThere[1] == "DATE_TRUNC('month', day)" && c.By[0] == "station"
			}},
		{name: "a month later", there: rows(stations, 5, func(s string, m int) (string, string) { _, f := exact(s, m); return first(m + 1), f }),
			kind: "shifted_period", groups: 15, says: "15 totals there stand one month after those here that they would agree with.", check: func(c merge.Cause) bool { return c.ShiftedUnits == 1 }},
		{name: "spelling", there: rows([]string{"ald", "Bre", "c-o-l"}, 5, func(s string, m int) (string, string) {
			return exact(strings.ToUpper(strings.ReplaceAll(s, "-", "")), m)
		}),
			kind: "spelling", groups: 15, says: "15 totals would agree if spaces, case and signs in the names of groups were levelled"},
		{name: "a station that is not there", there: rows(stations[:2], 5, exact), kind: "absent_value", groups: 5, says: `1 value of station is in no group there: "COL"`},
		{name: "a totals line", there: rows(append([]string{"ALL"}, stations...), 5, func(s string, m int) (string, string) {
			if s != "ALL" {
				return exact(s, m)
			}
			var sum table.Decimal
			for _, s := range stations {
				_, f := exact(s, m)
				d, _ := table.ParseDecimal(f)
				sum = sum.Add(d)
			}
			return first(m), sum.Shortest()
		}), kind: "totals_row", groups: 5, says: `"ALL" of station there is the sum of all others`, check: func(c merge.Cause) bool { return c.WhereThere == `"station" <> 'ALL'` }},
		{name: "counted twice", there: here + rows(stations[:1], 2, exact), kind: "doubled", groups: 2, says: "2 totals there are exactly twice that of the other side"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := reconcile(t, by("station", "day"), here, c.there)
			if err != nil {
				t.Fatal(err)
			}
			for _, cause := range r.Causes {
				if cause.Kind == c.kind && cause.Groups == c.groups && strings.Contains(cause.Says, c.says) && (c.check == nil || c.check(cause)) {
					return
				}
			}
			t.Errorf("%+v\nwant %s, %d: %s", r.Causes, c.kind, c.groups, c.says)
		})
	}
	// Where there is no common cause, none is told.
	r, err := reconcile(t, by("station", "day"), here, rows(stations, 5, func(s string, m int) (string, string) { return first(m), fmt.Sprint(flow(s, m)*m%977 + 3) }))
	if err != nil || len(r.Causes) != 0 {
		t.Errorf("%+v, %v", r.Causes, err)
	}
	// What a cause proposes is taken as it stands: then the totals agree.
	for name, there := range map[string]string{"month": strings.ReplaceAll(here, "-01,", "-28,"), "spelling": strings.ToLower(here)} {
		r, err := reconcile(t, by("station", "day"), here, there)
		if err != nil || len(r.Causes) == 0 {
			t.Fatalf("%s: %+v, %v", name, r, err)
		}
		q := by("station", "day")
		q.Here.By, q.There.By = r.Causes[0].By, r.Causes[0].ByThere
		if r, err = reconcile(t, q, here, there); err != nil || r.Agree != 15 || len(r.Groups) != 0 {
			t.Errorf("%s: %+v, %v", name, r, err)
		}
	}
}

func TestTheRowsThatMakeUpADifference(t *testing.T) {
	a, b := summed(t, "1,A,2024-01-01,5\n2,A,2024-01-02,7\n3,A,2024-01-03,1\n4,B,2024-01-03,100\n3,A,2024-01-03,1\n", "1,A,2024-01-01,0.005\n2,A,2024-01-02,0.006\n9,A,2024-01-04,0.002\n3,A,2024-01-03,0.001\n")
	q := by("station")
	q.Factor = table.DecimalOf(1000, 0)
	got, err := merge.RowsOfGroup(context.Background(), q, a, b, []string{"A"}, []string{"id"}, []string{"id"}, 2)
	if err != nil {
		t.Fatal(err)
	}
	want := &merge.GroupRows{Group: []string{"A"}, Same: 2, Differ: []merge.RowPair{{[]string{"2"}, 2, 2, "7", "6"}}, OnlyHere: []merge.RowPair{{Key: []string{"3"}, RowHere: 5, Here: "1"}},
		OnlyThere: []merge.RowPair{{Key: []string{"9"}, RowThere: 3, There: "2"}}, DifferRows: 1, OnlyHereRows: 1, OnlyThereRows: 1, DifferApart: "1", OnlyHereApart: "1", OnlyThereApart: "-2"}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v\nwant %+v", got, want)
	}
}

func TestQuestionsForTotalsThatAreRefused(t *testing.T) {
	for want, q := range map[string]merge.Totals{
		`this table has no column "statoin"; did you mean "station"?`:                             by("statoin"),
		"totals are by 1 columns here and by 2 there":                                             {Here: merge.TotalsOf{By: []string{"station"}}, There: merge.TotalsOf{By: []string{"station", "day"}}},
		"station of this table is a text; totals are of numbers":                                  {Here: merge.TotalsOf{Of: "station"}},
		"day of this table is a date, and station of theirs is a text, so that no row would meet": {Here: merge.TotalsOf{By: []string{"day"}}, There: merge.TotalsOf{By: []string{"station"}}},
		"where of theirs": {There: merge.TotalsOf{Where: "nothing ="}},
	} {
		if _, err := reconcile(t, q, "1,A,2024-01-01,5\n", "1,A,2024-01-01,5\n"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
	for _, wrong := range [][3]string{{"0", "", ""}, {"-1", "", ""}, {"", "x", ""}, {"", "", "-5"}} {
		if err := new(merge.Totals).ParseNumbers(wrong[0], wrong[1], wrong[2]); err == nil {
			t.Errorf("%q are taken", wrong)
		}
	}
}
