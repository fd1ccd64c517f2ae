package propose_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/testkit"
)

// shape is a table with what was done wrong to it, by row from 1.
type shape struct {
	name, header string
	rows         int
	row          func(i int) string
	wrong        map[int]string
}

func (s *shape) text(wrong bool) string {
	var b strings.Builder
	b.WriteString(s.header + "\n")
	for i := 1; i <= s.rows; i++ {
		if text, ok := s.wrong[i]; ok && wrong {
			b.WriteString(text + "\n")
		} else {
			b.WriteString(s.row(i) + "\n")
		}
	}
	return b.String()
}

// shapes are those of a register with codes in two columns, of holders of permits whose rows contradict one another, and
// of readings of a logger.
func shapes() []shape {
	river := func(i int) string { return []string{"Alder", "Brindle", "Cray"}[i%3] }
	register := func(i int) string {
		return fmt.Sprintf("AV-%03d,%s,%s,%d.%d,%d-05-%02d", i, river(i), []string{"weir", "ford", "gauge", "well"}[i%4], 3+i%40,
			i%10, 1990+i%30, i%28+1)
	}
	permit := func(i int) string {
		return fmt.Sprintf("P-%04d,Holder %d,%s,%d,2023-%02d-%02d,2024-%02d-%02d", i, i%90, river(i), 100+i*37%400, i%12+1, i%28+1, i%12+1,
			i%28+1)
	}
	reading := func(i int) string {
		c, f := float64(20+i*7%83)/10, float64(10+i*11%59)/10
		return fmt.Sprintf("%d,2024-%02d-%02d,%s,%.1f,%.1f,%.2f", i, 1+i/28%12, i%28+1, []string{"M1", "M2", "M3"}[i%3], c, f, c*f)
	}
	return []shape{
		{"a register", "station,river,kind,km,opened", 240, register, map[int]string{
			20:  "AV-019,Brindle,weir,9.0,2010-05-20", // a key twice
			31:  "AV-031,weir,Alder,9.1,2009-05-04",   // values of the neighbour, both ways
			44:  "AV-044,alder,weir,9.4,2009-05-17",   // another spelling
			57:  "AV-057,Brindel,ford,9.4,2009-05-17", // a slip of typing
			70:  "AV-070,Brindle ,gauge,33.0,2000-05-15",
			83:  "AV-083,Cray,ford/weir,6.3,2013-05-28", // two codes in one
			96:  "AV-096,unknown,weir,19.6,1996-05-13",  // a word for nothing
			109: "AV-109,Brindle,ford,3290.9,2009-05-26",
			122: "AV-122,Cray,gauge,5.2,1902-05-11", // decades off
			135: "AV-135,,well,18.5,2005-05-24",     // nothing
		}},
		{"holders of permits", "permit,holder,river,volume,from,until", 400, permit, map[int]string{
			30:  "P-0029,Holder 29,Cray,900,2023-06-02,2024-06-02", // contradicts the row before
			60:  permit(59),                                        // the same row once more
			90:  "P-0090,Holder 0,Alder,130,2023-07-07,2022-07-07", // ends before it starts
			120: "P-0120,Holder 30,Alder,4200000,2023-01-09,2024-01-09",
			150: "P-0150,Holder 60,Total,350,2023-07-11,2024-07-11",
			180: "P-0180,Holder 0,Alder,n/a,2023-01-13,2024-01-13",
			210: "P-0210,Holder 30,Alder,270,13.07.2023,2024-07-15", // another way to write a date
		}},
		{"readings", "n,day,meter,concentration,flow,load", 600, reading, map[int]string{
			50:  "50,2024-02-23,M3,NA,3.1,",
			51:  "51,2024-02-24,M1,NA,3.2,12.16",
			100: "100,2024-04-17,M2,7.2,52,374.40",      // a shifted point
			150: "150,2024-06-11,M1,1.4,3.1,9.99",       // load is no product
			200: "200,2024-08-05,M3,-999,4.2,21.00",     // a run of nines
			250: "250,2024-09-27,M2,3.6 mg/L,4.7,16.92", // a unit
			300: "n,day,meter,concentration,flow,load",  // the header once more
			350: "350,1924-01-15,M3,2.1,2.5,5.25",       // decades off
			400: "399,2024-03-09,M2,4.0,1.5,6.00",       // a key twice
			450: "450,2024-05-03,M1,<0.2,5.3,1.00",      // below detection
		}},
	}
}

// Taken as it stands, a proposal finds everything that was done wrong to the very table that it was made from, and
// finds nothing where nothing was.
func TestAProposalFindsWhatIsWrongInItsOwnTable(t *testing.T) {
	for _, s := range shapes() {
		for _, wrong := range []bool{true, false} {
			text := s.text(wrong)
			source := proposed(t, text)
			book := testkit.Book(t, source)
			r, err := audit.Run(context.Background(), testkit.File(t, text, book.Reading), book, 2)
			if err != nil {
				t.Fatal(err)
			}
			if r.HasPassed() == wrong {
				t.Errorf("%s, wrong: %t: passed %t with %.2f", s.name, wrong, r.HasPassed(), r.Score)
			}
			for row := range s.wrong {
				if wrong && !slices.ContainsFunc(r.Findings, func(f audit.Finding) bool { return f.RowSet.Contains(uint32(row)) }) {
					t.Errorf("%s: row %d is not found: %s", s.name, row, s.wrong[row])
				}
			}
			for _, f := range r.Findings {
				if !wrong {
					t.Errorf("%s with nothing wrong: %s", s.name, f.Found)
				}
				for _, row := range f.RowSet.ToArray() {
					if _, meant := s.wrong[int(row)]; wrong && !meant && f.RowSet.GetCardinality() > 2 {
						t.Errorf("%s: row %d has nothing wrong: %s %s", s.name, row, f.Rule, f.Found)
						break
					}
				}
			}
			if t.Failed() {
				t.Log(source)
				return
			}
		}
	}
}
