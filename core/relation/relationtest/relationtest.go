// Package relationtest holds tables that the tests of questions share, those with and those without a database.
package relationtest

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
)

// Book is the rulebook of Generated.
const Book = `dataset: samples
reading: {missing: [n/a]}
columns:
  - {name: id, type: integer}
  - {name: station}
  - {name: meter}
  - {name: a, type: decimal}
  - {name: b, type: decimal}
  - {name: c, type: integer}
  - {name: day, type: date}
keys:
  - {id: one, columns: [id]}
`

// Generated is a table whose columns have to do with one another: b follows a, c falls
// with a, and the gaps of b are those of the old meters. A dirty one has marks and words
// where numbers should be, other spellings, days that are in no calendar, and rows twice.
func Generated(rows int, dirty bool, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 77))
	var b strings.Builder
	b.WriteString("id,station,meter,a,b,c,day\n")
	for i := range rows {
		id, meter := i, []string{"old", "new", "new"}[r.IntN(3)]
		a := r.NormFloat64()*12 + 40
		second, c := fmt.Sprintf("%.3f", 1000000+a*0.5+r.NormFloat64()), strconv.Itoa(int(300-a*2+r.NormFloat64()*20))
		first, day := fmt.Sprintf("%.2f", a), fmt.Sprintf("20%02d-%02d-%02d", 20+r.IntN(4), 1+r.IntN(12), 1+r.IntN(28))
		if meter == "old" && r.IntN(3) == 0 {
			second = ""
		}
		if dirty {
			switch r.IntN(40) {
			case 0:
				first = "n/a"
			case 1:
				first = "<0.05"
			case 2:
				first = " " + first
			case 3:
				c = ""
			case 4:
				day = "2023-02-30"
			case 5:
				first = strconv.Itoa(r.IntN(90_000) + 5000) // a lost point
			case 6:
				id = max(i-1, 0)
			}
		}
		fmt.Fprintf(&b, "%d,AV-%d,%s,%s,%s,%s,%s\n", id, r.IntN(30), meter, first, second, c, day)
	}
	return b.String()
}

// Repeated makes a register in which keys are Repeated, as they stand and in other spellings.
func Repeated(rows int) string {
	r := rand.New(rand.NewPCG(8, 9))
	var b strings.Builder
	b.WriteString("station,day,value\n")
	spell := []func(string) string{
		func(s string) string { return s }, func(s string) string { return s }, func(s string) string { return s },
		strings.ToLower,
		func(s string) string { return s + " " }, func(s string) string { return " " + s },
		func(s string) string { return strings.ReplaceAll(s, "-", " ") },
	}
	for range rows {
		station, day := spell[r.IntN(len(spell))](fmt.Sprintf("AV-%03d", r.IntN(900))),
			fmt.Sprintf("2024-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))
		if r.IntN(50) == 0 {
			station = ""
		}
		value := ""
		if r.IntN(4) > 0 {
			value = fmt.Sprint(r.IntN(3))
		}
		fmt.Fprintf(&b, "%s,%s,%s\n", station, day, value)
	}
	return b.String()
}
