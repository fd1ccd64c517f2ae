package table

import (
	"math"
	"testing"
	"time"
)

func TestDaysAreWrittenAsTheCalendarHasThem(t *testing.T) {
	first, last := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(9999, 12, 31, 0, 0, 0, 0, time.UTC)
	for at := first; !at.After(last); at = at.AddDate(0, 0, 1) {
		want, days := at.Format("2006-01-02"), at.Unix()/86_400
		if got := string(AppendDate(nil, days)); got != want {
			t.Fatalf("day %d is written %s, want %s", days, got, want)
		}
		if got, ok := TokenOfDay(days); !ok || got != TokenOf(want) {
			t.Fatalf("the token of %s is %v", want, got)
		}
	}
	for _, days := range []int64{first.Unix()/86_400 - 1, last.Unix()/86_400 + 1, math.MinInt64, math.MaxInt64} {
		if _, ok := TokenOfDay(days); ok {
			t.Errorf("day %d has a token", days)
		}
	}
}
