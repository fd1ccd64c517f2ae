package leads_test

import (
	"fmt"
	"math"
	"testing"
)

func stations(i int) string { return fmt.Sprintf("AV-%02d,%d", i%30, i) }

func TestConstantAndEmptyColumns(t *testing.T) {
	finds(t, "empty", "an empty column", lines("a,b", 30, func(i int) string { return fmt.Sprintf(",%d", i) }), "a is empty.", 30)
	finds(t, "empty", "one value", "a,b\n,1\nx,2\n", "", 0)
	finds(t, "constant", "one value", lines("a,b", 30, func(i int) string { return fmt.Sprintf("x,%d", i) }),
		`Every filled cell of a is "x".`, 0)
	finds(t, "nearly_constant", "two others", lines("a,b", 1000, but(func(i int) string { return fmt.Sprint("x,", i) },
		map[int]string{7: "y,7", 9: "z,9"})), `a is "x" in all but 2`, 2)
	finds(t, "nearly_constant", "one in fifty", lines("a,b", 1000, func(i int) string {
		return fmt.Sprintf("%s,%d", []string{"x", "y"}[min(i%50, 1)], i)
	}), "", 0)
}

func TestDisguisedMissingValues(t *testing.T) {
	number := func(i int) string { return fmt.Sprintf("%d,%d", i, 60+i%21) }
	for name, c := range map[string]struct {
		text string
		told bool
	}{
		"n/a": {"n/a", true}, "two words": {"not measured", true}, "nines": {"-999", true}, "nines above": {"9999", true},
		"a number like others": {"77", false},
	} {
		says := ""
		if c.told {
			says = fmt.Sprintf("%q (2)", c.text)
		}
		finds(t, "placeholder", name, lines("id,n", 100, but(number, map[int]string{5: "5," + c.text, 50: "50," + c.text})),
			says, 2)
	}
	finds(t, "placeholder", "99 among hundreds", lines("id,n", 400, func(i int) string { return fmt.Sprintf("%d,%d", i, i%200) }), "", 0)
	finds(t, "placeholder", "a code", lines("id,c", 100, func(i int) string { return fmt.Sprintf("%d,%s", i, []string{"x", "y", "z"}[i%3]) }), "", 0)
	finds(t, "zero", "zeros where none are", lines("id,n", 200, but(number, map[int]string{3: "3,0", 70: "70,0"})), "2 numbers of n are 0", 2)
	finds(t, "zero", "zeros that are at home", lines("id,n", 200, func(i int) string { return fmt.Sprintf("%d,%d", i, i%9) }), "", 0)
}

func TestValuesFarTooFrequent(t *testing.T) {
	spread := func(i int) string { return fmt.Sprintf("%d,%.2f", i, 10+float64(i*7919%10007)/100) }
	many := map[int]string{}
	for i := range 40 {
		many[i*20] = fmt.Sprintf("%d,50.00", i*20)
	}
	finds(t, "frequent_value", "one number again and again", lines("id,n", 1000, but(spread, many)), `40 cells of n are "50.00"`, 40)
	finds(t, "frequent_value", "all alike", lines("id,n", 1000, spread), "", 0)
	finds(t, "frequent_value", "a day of all days", lines("id,day", 900, func(i int) string {
		if i%9 == 0 {
			return fmt.Sprintf("%d,1900-01-01", i)
		}
		return fmt.Sprintf("%d,2024-%02d-%02d", i, 1+i%12, 1+i%28)
	}), `"1900-01-01"`, 100)
}

func TestStraySpaces(t *testing.T) {
	finds(t, "spaces", "three kinds", lines("s,n", 100, but(stations, map[int]string{2: " AV-02,2", 4: "AV-04 ,4",
		6: "AV\u00a06,6"})), "3 cells of s have stray spaces: 1 before, 1 after, 1 invisible", 3)
	finds(t, "spaces", "none", lines("s,n", 100, stations), "", 0)
}

func TestSpellingsOfOneThing(t *testing.T) {
	place := func(i int) string {
		return []string{"Millrace", "Alder Bridge", "Highgarth"}[i%3] + "," + fmt.Sprint(i)
	}
	finds(t, "spellings", "case and a slip", lines("p,n", 300, but(place, map[int]string{3: "millrace,3", 9: "Milrace,9",
		12: "Alder-Bridge,12"})), `"millrace" (1)`, 3)
	finds(t, "spellings", "codes that differ in a digit", lines("p,n", 300, stations), "", 0)
	finds(t, "spellings", "words that are other words", lines("p,n", 300, func(i int) string {
		return []string{"north", "south", "east", "west"}[i%4] + "," + fmt.Sprint(i)
	}), "", 0)
}

func TestSeveralValuesInOneCell(t *testing.T) {
	code := func(i int) string { return []string{"COND", "DO", "PH"}[i%3] + "," + fmt.Sprint(i) }
	finds(t, "several_values", "two codes", lines("c,n", 90, but(code, map[int]string{4: "COND/DO,4", 8: "\"DO, PH\",8"})),
		"2 cells of c hold several values", 2)
	finds(t, "several_values", "a code with a stroke", lines("c,n", 90, func(i int) string {
		return []string{"mg/L", "pH", "µS/cm"}[i%3] + "," + fmt.Sprint(i)
	}), "", 0)
}

func TestUnitsInsideNumbers(t *testing.T) {
	number := func(i int) string { return fmt.Sprintf("%d,%d.5", i, 3+i%17) }
	finds(t, "units", "among numbers", lines("id,n", 100, but(number, map[int]string{5: "5,12 mg/L", 9: "9,<0.05"})),
		"2 cells of n hold a unit or sign with a number", 2)
	finds(t, "units", "everywhere, and not the same", lines("id,n", 100, func(i int) string {
		return fmt.Sprintf("%d,%d %s", i, 3+i%17, []string{"mg/L", "µg/L"}[min(i%20, 1)])
	}), "which are not all the same", 100)
	finds(t, "units", "none", lines("id,n", 100, number), "", 0)
	finds(t, "units", "addresses", lines("id,n", 100, func(i int) string { return fmt.Sprintf("%d,%d Mill Lane", i, i) }), "", 0)
}

func TestLeadingZeros(t *testing.T) {
	finds(t, "leading_zeros", "codes", lines("plz,n", 50, func(i int) string { return fmt.Sprintf("%05d,%d", i*997, i) }),
		"have zeros before a number", 0)
	finds(t, "leading_zeros", "numbers", lines("plz,n", 50, func(i int) string { return fmt.Sprintf("%d,%d", i*997, i) }), "", 0)
}

func TestMixedOrdersOfDates(t *testing.T) {
	finds(t, "date_orders", "half and half", lines("d,n", 400, func(i int) string {
		if i < 200 {
			return fmt.Sprintf("%02d/%02d/2024,%d", i%28+1, i%12+1, i)
		}
		return fmt.Sprintf("%02d/%02d/2024,%d", i%12+1, i%28+1, i)
	}), "The dates of d are written in several ways: ", 288)
	finds(t, "date_orders", "nothing decides", lines("d,n", 144, func(i int) string {
		return fmt.Sprintf("%02d/%02d/2024,%d", i%12+1, i/12+1, i)
	}), "nothing decides", 144)
	finds(t, "date_orders", "one order", lines("d,n", 400, func(i int) string {
		return fmt.Sprintf("%02d/%02d/2024,%d", i%28+1, i%12+1, i)
	}), "", 0)
	finds(t, "date_orders", "ISO", lines("d,n", 400, func(i int) string {
		return fmt.Sprintf("2024-%02d-%02d,%d", i%12+1, i%12+1, i)
	}), "", 0)
}

func TestDatesYearsOffAndPeriodsMissing(t *testing.T) {
	day := func(i int) string { return fmt.Sprintf("2023-%02d-%02d,%d", i%12+1, i%28+1, i) }
	finds(t, "years_off", "one of 1923", lines("d,n", 600, but(day, map[int]string{7: "1923-08-08,7"})), "in 1923", 1)
	finds(t, "years_off", "none", lines("d,n", 600, day), "", 0)
	finds(t, "missing_periods", "a month", lines("d,n", 660, func(i int) string {
		return fmt.Sprintf("2023-%02d-%02d,%d", []int{1, 2, 3, 4, 5, 7, 8, 9, 10, 11, 12}[i%11], i%28+1, i)
	}), "A month is missing from d: 2023-06.", 0)
	finds(t, "missing_periods", "none", lines("d,n", 600, day), "", 0)
	finds(t, "missing_periods", "a month that has none by chance", lines("d,n", 60, func(i int) string {
		return fmt.Sprintf("2023-%02d-%02d,%d", []int{1, 2, 3, 4, 5, 7, 8, 9, 10, 11, 12, 1, 3, 3, 8, 11}[i%16], i%28+1, i)
	}), "", 0)
	finds(t, "last_period", "fewer by chance", lines("d,n", 220, func(i int) string {
		if i%12 == 11 && i%24 == 11 {
			return fmt.Sprintf("2023-12-%02d,%d", i%25+1, i)
		} else if i%12 == 11 {
			return fmt.Sprintf("2023-%02d-%02d,%d", 1+i%11, i%28+1, i)
		}
		return day(i)
	}), "", 0)
	finds(t, "last_period", "half a month", lines("d,n", 600, func(i int) string {
		switch {
		case i%12 == 11 && i < 240:
			return fmt.Sprintf("2023-12-%02d,%d", i%5+1, i)
		case i%12 == 11:
			return day(i - 1)
		}
		return day(i)
	}), "The last month of d, 2023-12, is only partly there", 20)
}

func TestNumbersFarFromTheOthers(t *testing.T) {
	number := func(i int) string { return fmt.Sprintf("r%d,%d", i, 60+i*8%21) }
	finds(t, "outliers", "one of millions", lines("id,n", 40, but(number, map[int]string{8: "r8,7412000"})), `"7412000" (1)`, 1)
	finds(t, "outliers", "all near", lines("id,n", 40, number), "", 0)
	finds(t, "outliers", "skewed, as rain is", lines("id,n", 2000, func(i int) string {
		u := float64(i*7919%2003+1) / 2005
		return fmt.Sprintf("r%d,%.4f", i, -20*math.Log(u))
	}), "", 0)
}

func TestTotalsAmongTheRows(t *testing.T) {
	region := func(i int) string { return []string{"north", "south", "east"}[i%3] + fmt.Sprintf(",%d", 10+i*i%97) }
	finds(t, "total_rows", "a word", lines("r,n", 60, but(region, map[int]string{20: "Total,1"})), `"Total" (1)`, 1)
	finds(t, "total_rows", "a sum", "r,n\na,1\nb,2\nc,4\nd,8\ne,15\nf,30\n", "is the sum of all others", 1)
	finds(t, "total_rows", "none", lines("r,n", 60, region), "", 0)
}

func TestTheHeaderAmongTheRows(t *testing.T) {
	finds(t, "header_repeated", "twice", lines("s,n", 60, but(stations, map[int]string{20: "s,n", 40: "s,n"})),
		"The header stands among the rows again, in 2 rows.", 2)
	finds(t, "header_repeated", "never", lines("s,n", 60, stations), "", 0)
}

func TestValuesOfTheNeighbour(t *testing.T) {
	row := func(i int) string {
		return []string{"blue", "green", "red"}[i%3] + "," + []string{"clear", "cloudy"}[i%2] + fmt.Sprintf(",%d", i)
	}
	finds(t, "neighbour_values", "two", lines("crew,water,n", 300, but(row, map[int]string{4: "clear,green,4", 8: "cloudy,clear,8"})),
		"2 cells of crew hold what belongs into water", 2)
	finds(t, "neighbour_values", "none", lines("crew,water,n", 300, row), "", 0)
	finds(t, "neighbour_values", "columns of one kind", lines("from,to,n", 300, func(i int) string {
		return fmt.Sprintf("AV-%d,AV-%d,%d", i%7, i%11, i)
	}), "", 0)
}

func TestAColumnThatChangesDownTheFile(t *testing.T) {
	finds(t, "changes_down", "no more", lines("s,n", 960, func(i int) string {
		if i < 600 {
			return stations(i)
		}
		return fmt.Sprintf(",%d", i)
	}), "s is empty from about row 601 on.", 360)
	finds(t, "changes_down", "here and there", lines("s,n", 960, func(i int) string {
		if i%3 > 0 {
			return stations(i)
		}
		return fmt.Sprintf(",%d", i)
	}), "", 0)
}

func TestPersonalData(t *testing.T) {
	for name, c := range map[string]struct{ header, cell, says string }{
		"mail":      {"contact", "person%d@alder-vale.example", "e-mail addresses"},
		"telephone": {"contact", "+44 1632 9600%02d", "telephone numbers"},
		"birth":     {"date of birth", "1980-05-%02d", "dates of birth"},
		"codes":     {"contact", "AV-%05d", ""},
		"dates":     {"day", "2024-05-%02d", ""},
		"numbers":   {"n", "12345678%02d", ""},
	} {
		finds(t, "personal", name, lines(c.header+",n", 25, func(i int) string { return fmt.Sprintf(c.cell+",%d", i+1, i) }),
			c.says, 0)
	}
	// Numbers of cards and accounts that are published as examples, with their check digits.
	finds(t, "personal", "cards", "c,n\n4539578763621486,1\n4716461583322103,2\n4916592289993918,3\n5425233430109903,4\n", "card numbers", 0)
	finds(t, "personal", "accounts", "c,n\nGB82 WEST 1234 5698 7654 32,1\nDE89 3704 0044 0532 0130 00,2\nFR14 2004 1010 0505 0001 3M02 606,3\n",
		"account numbers", 0)
}

func TestEqualRowsAndNearKeys(t *testing.T) {
	row := func(i int) string { return fmt.Sprintf("S-%04d,%d", i, i*7%50) }
	finds(t, "equal_rows", "two", lines("s,n", 200, but(row, map[int]string{50: row(3), 90: row(3)})), "2 rows repeat an earlier one", 2)
	finds(t, "equal_rows", "none", lines("s,n", 200, row), "", 0)
	finds(t, "near_key", "broken and lacking", lines("s,n", 161, but(row, map[int]string{50: "S-0003,1", 90: "S-0003,2", 100: ",5"})),
		"1 value stands in 3 rows, and 1 row has none", 3)
	finds(t, "near_key", "lacking alone", lines("s,n", 161, but(row, map[int]string{100: ",5"})), "does, but 1 row has none.", 1)
	finds(t, "near_key", "whole", lines("s,n", 161, row), "", 0)
	finds(t, "near_key", "a measure", lines("s,n", 161, func(i int) string { return fmt.Sprintf("%s,%d", stations(i)[:5], i*i*7919%100003) }), "", 0)
	finds(t, "key_spellings", "two of one", lines("s,n", 200, but(row, map[int]string{50: "s-0003,1", 90: "S0004,1"})),
		"2 values of s are another one", 2)
	finds(t, "key_spellings", "none", lines("s,n", 200, row), "", 0)
}

func TestCopiesAndMultiples(t *testing.T) {
	row := func(i int) string { return fmt.Sprintf("r%d,%d,%d", i, 10+i*7%83, 10+i*7%83) }
	finds(t, "copy", "but for two", lines("id,a,b", 300, but(row, map[int]string{4: "r4,1,2", 8: "r8,3,4"})), "b holds the same as a in all but 2 rows", 2)
	finds(t, "copy", "in every row", lines("id,a,b", 300, row), "b holds the same as a in every row", 0)
	finds(t, "copy", "a thousand times", lines("id,a,b", 300, but(func(i int) string {
		return fmt.Sprintf("r%d,%d.5,%d500", i, 10+i*7%83, 10+i*7%83)
	}, map[int]string{4: "r4,20.5,20.5"})), "b is 1,000 times a in all but 1 row", 1)
	finds(t, "copy", "nothing of the kind", lines("id,a,b", 300, func(i int) string {
		return fmt.Sprintf("r%d,%d,%d", i, 10+i*7%83, 10+i*11%79)
	}), "", 0)
}

func TestOrdersThatAreBroken(t *testing.T) {
	row := func(i int) string { return fmt.Sprintf("r%d,2024-05-%02d,2024-05-%02d", i, i%14+1, i%14+1+i%9) }
	finds(t, "order", "received before it was taken", lines("id,taken,got", 200, but(row, map[int]string{4: "r4,2024-05-09,2024-05-03"})),
		"got lies before taken in 1 row", 1)
	finds(t, "order", "kept", lines("id,taken,got", 200, row), "", 0)
	finds(t, "order", "more rejected than there are", lines("id,bad,all", 200, but(func(i int) string {
		return fmt.Sprintf("r%d,%d,%d", i, i%7, i%7+i%5)
	}, map[int]string{4: "r4,9,3"})), "all is below bad in 1 row", 1)
	finds(t, "order", "two measures", lines("id,a,b", 200, func(i int) string { return fmt.Sprintf("r%d,%d,%d", i, i%7, 1000+i%11) }), "", 0)
}

func TestWhatIsWorkedOutOfOthers(t *testing.T) {
	load := func(i int) string {
		c, f := float64(10+i*7%83)/10, float64(5+i*11%59)/10
		return fmt.Sprintf("r%d,%.1f,%.1f,%.2f", i, c, f, c*f)
	}
	finds(t, "arithmetic", "load is concentration times flow", lines("id,conc,flow,load", 200, but(load, map[int]string{4: "r4,2.0,3.0,7.5"})),
		"load is conc × flow in all but 1 row", 1)
	finds(t, "arithmetic", "kept everywhere", lines("id,conc,flow,load", 200, load), "", 0)
	finds(t, "arithmetic", "a whole of four parts", lines("id,a,b,c,d,all", 200, func(i int) string {
		a, b, c, d := 10+i*7%83, 5+i*11%59, 3+i*13%71, 1+i*17%43
		all := a + b + c + d
		if i == 9 {
			all++
		}
		return fmt.Sprintf("r%d,%d,%d,%d,%d,%d", i, a, b, c, d, all)
	}), "all is the sum of a to d in all but 1 row", 1)
}

func TestDigitsAndPointsThatSlipped(t *testing.T) {
	weight := func(i int) string { return fmt.Sprintf("r%d,%d", i, 60+i*8%21) }
	finds(t, "shifted_point", "7 among values near 70", lines("id,n", 200, but(weight, map[int]string{4: "r4,7", 9: "r9,702"})),
		"2 numbers of n are ten", 2)
	finds(t, "shifted_point", "none", lines("id,n", 200, weight), "", 0)
	by := func(i int) string {
		return fmt.Sprintf("r%d,%s,%.2f", i, []string{"PH", "COND"}[i%2], []float64{7, 400}[i%2]+float64(i*8%21)/20)
	}
	finds(t, "shifted_point", "within its group", lines("id,p,n", 400, but(by, map[int]string{4: "r4,PH,71.00"})), "those of the same p", 1)
	finds(t, "group_outliers", "far from its group alone", lines("id,p,n", 400, but(by, map[int]string{4: "r4,PH,31.00"})), "1 number of n lies far from those of the same p", 1)
	finds(t, "group_outliers", "none", lines("id,p,n", 400, by), "", 0)
}

func TestGapsThatDependOnAnotherColumn(t *testing.T) {
	finds(t, "uneven_gaps", "only old meters lack it", lines("meter,n", 600, func(i int) string {
		if m := i % 4; m == 0 && i%3 > 0 {
			return "old,"
		}
		return []string{"old", "new", "newer", "newest"}[i%4] + fmt.Sprintf(",%d", i)
	}), `100 of the 100 rows without n have "old" in meter`, 100)
	finds(t, "uneven_gaps", "by chance", lines("meter,n", 600, func(i int) string {
		if i*7919%10 == 0 {
			return []string{"old", "new", "newer", "newest"}[i%4] + ","
		}
		return []string{"old", "new", "newer", "newest"}[i%4] + fmt.Sprintf(",%d", i)
	}), "", 0)
	above := func(i int) string {
		level, n := i*7919%600, fmt.Sprint(i%7)
		if level >= 450 && level%2 == 0 {
			n = ""
		}
		return fmt.Sprintf("%d.5,%s", level, n)
	}
	finds(t, "uneven_gaps", "only high levels lack it", lines("level,n", 600, above),
		"75 of the 75 rows without n have level from 449.75 on", 75)
	finds(t, "uneven_gaps", "a number of the row", lines("id,n", 600, func(i int) string {
		if i >= 500 {
			return fmt.Sprintf("%d,", i)
		}
		return fmt.Sprintf("%d,%d", i, i%7)
	}), "", 0)
}

func TestRecordsAtTheEnd(t *testing.T) {
	finds(t, "closing_lines", "a total", lines("s,n", 60, stations)+"Total,1770\n", `"Total 1770"`, 0)
	finds(t, "closing_lines", "none", lines("s,n", 60, stations), "", 0)
}

func TestExceptionsToTheType(t *testing.T) {
	finds(t, "type", "words among numbers", lines("s,n", 60, but(stations, map[int]string{8: "AV-08,dry"})), `1 value in n is no integer: "dry" (1).`, 1)
	finds(t, "type", "none", lines("s,n", 60, stations), "", 0)
}

func TestDaysAsSpreadsheetsCountThem(t *testing.T) {
	days := func(name string) string {
		return lines("s,"+name, 60, func(i int) string { return fmt.Sprintf("AV-%02d,%d", i, 45292+i) })
	}
	finds(t, "day_numbers", "sampled", days("sampled"), "45292 being 2024-01-01", 0)
	finds(t, "day_numbers", "a height", days("height"), "", 0)
}

// A lead of the first reading tells some of its rows, and that of mixed dates where the other order begins.
func TestRowsOfLeads(t *testing.T) {
	for name, c := range map[string]struct{ kind, content, rows string }{
		"spellings": {"spellings", lines("p,n", 60, but(func(i int) string { return "Millrace," + fmt.Sprint(i) },
			map[int]string{5: "MILLRACE,5", 40: "MILLRACE,40"})), "[6 41]"},
		"outliers": {"outliers", lines("id,n", 60, but(func(i int) string { return fmt.Sprintf("r%d,%d", i, 60+i*8%21) },
			map[int]string{8: "r8,7412000.0"})), "[9]"},
	} {
		found := ""
		for _, l := range told(t, c.content) {
			if l.Kind == c.kind {
				found = fmt.Sprint(l.FirstRows)
			}
		}
		if found != c.rows {
			t.Errorf("%s: rows %s, want %s", name, found, c.rows)
		}
	}
	for _, l := range told(t, lines("d,n", 400, func(i int) string {
		if i < 200 {
			return fmt.Sprintf("%02d/%02d/2024,%d", i%28+1, i%12+1, i)
		}
		return fmt.Sprintf("%02d/%02d/2024,%d", i%12+1, i%28+1, i)
	})) {
		if l.Kind == "date_orders" && (len(l.FirstRows) == 0 || l.FirstRows[0] != 209) {
			t.Errorf("the other order begins in row %v", l.FirstRows)
		}
	}
}
