package relation_test

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/relation"
	"proudsieve/core/testkit"
)

// Two series that both rise with the days, each with a wave of its own, go together by that alone; two that wave
// together do not.
func TestSeriesThatMerelyTrendAreToldFromThoseThatGoTogether(t *testing.T) {
	var b strings.Builder
	b.WriteString("day,first,second,beside\n")
	for i := range 240 {
		wave := math.Sin(float64(i))
		fmt.Fprintf(&b, "2024-%02d-%02d,%.4f,%.4f,%.4f\n", i/20+1, i%20+1, float64(i)/20+3*wave, float64(i)/30+2*math.Cos(2.3*float64(i)), 5*wave)
	}
	s := &relation.Table{Source: testkit.File(t, b.String(), intake.Reading{}), Book: testkit.Book(t,
		"dataset: d\ncolumns: [{name: day, type: date}, {name: first, type: decimal}, {name: second, type: decimal}, {name: beside, type: decimal}]\n"), Workers: 2}
	c, err := relation.Correlate(context.Background(), s, []string{"first", "second", "beside"})
	if err != nil {
		t.Fatal(err)
	}
	if c.Along != "day" || *c.Trend[0] < 0.7 || math.Abs(*c.Trend[2]) > 0.1 {
		t.Errorf("along %s: %v %v %v", c.Along, *c.Trend[0], *c.Trend[1], *c.Trend[2])
	}
	if !c.Trending[0][1] || !c.Trending[1][0] || math.Abs(*c.Apart[0][1]) > 0.15 {
		t.Errorf("first and second: %v, apart %v, trending %v", *c.Pearson[0][1], *c.Apart[0][1], c.Trending[0][1])
	}
	if c.Trending[0][2] || *c.Apart[0][2] < 0.9 {
		t.Errorf("first and beside: %v, apart %v, trending %v", *c.Pearson[0][2], *c.Apart[0][2], c.Trending[0][2])
	}
}

// Without a column of dates the rows run along in their order; a column that is nothing but the order has nothing apart.
func TestWithoutDatesTheOrderOfTheRowsCounts(t *testing.T) {
	s := &relation.Table{Source: testkit.File(t, "a,b\n1,5\n2,3\n3,9\n4,1\n", intake.Reading{}),
		Book: testkit.Book(t, "dataset: d\ncolumns: [{name: a, type: integer}, {name: b, type: integer}]\n"), Workers: 1}
	c, err := relation.Correlate(context.Background(), s, []string{"a", "b"})
	if err != nil {
		t.Fatal(err)
	}
	if c.Along != "" || *c.Trend[0] != 1 || c.Apart[0][1] != nil || c.Trending[0][1] {
		t.Errorf("%+v", c)
	}
}

// A sample of points is the same on one worker and eight, and the line goes through all rows.
func TestPointsAreASampleAndTheirLineIsNot(t *testing.T) {
	var b strings.Builder
	b.WriteString("x,y\n")
	for i := range 30_000 {
		fmt.Fprintf(&b, "%d,%d\n", i, 3*i+7)
	}
	var before []relation.Point
	for _, workers := range []int{1, 8} {
		s := &relation.Table{Source: testkit.File(t, b.String(), intake.Reading{}),
			Book: testkit.Book(t, "dataset: d\ncolumns: [{name: x, type: integer}, {name: y, type: integer}]\n"), Workers: workers}
		p, err := relation.PointsOf(context.Background(), s, "x", "y", 400, nil)
		if err != nil {
			t.Fatal(err)
		}
		if p.Rows != 30_000 || len(p.Points) != 400 || math.Abs(*p.Slope-3) > 1e-9 || math.Abs(*p.Intercept-7) > 1e-5 {
			t.Errorf("%d rows, %d points, slope %v, intercept %v", p.Rows, len(p.Points), *p.Slope, *p.Intercept)
		}
		if before != nil && !slices.Equal(before, p.Points) {
			t.Error("eight workers draw other points than one")
		}
		before = p.Points
	}
	// The sample lies all over the file: no quarter of it has less than an eighth of the points.
	for quarter := range 4 {
		n := 0
		for _, p := range before {
			if int(p.Row-1)/7_500 == quarter {
				n++
			}
		}
		if n < 50 {
			t.Errorf("quarter %d of the file has %d of 400 points", quarter, n)
		}
	}
}
