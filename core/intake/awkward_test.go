package intake_test

import (
	"context"
	"strings"
	"testing"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/testkit"
)

// Small awkward files as they arrive, each with what has to be made of it when
// nobody has declared anything: the reading, and every column's type and filled cells.
func TestAwkwardFilesWithoutARulebook(t *testing.T) {
	for _, c := range []struct {
		name, text, reading, columns string
		defects                      int64
	}{
		{"numbers and texts", "id,name,amount\n1,a,1.5\n2,b,2.5\n", "utf-8 , .", "id integer 2|name text 2|amount decimal 2", 0},
		{"numbers that name something", "plz,n\n01067,5\n01069,6\n", "utf-8 , .", "plz text 2|n integer 2", 0},
		{"one text among many numbers", "n,m\n1,1\n2,1\n3,1\n4,1\n5,1\n6,1\n7,1\n8,1\n9,1\n10,1\n11,1\nx,1\n", "utf-8 , .", "n integer 12|m integer 12", 0},
		{"half texts, half numbers", "n,m\n1,1\nx,1\n2,1\ny,1\n", "utf-8 , .", "n text 4|m integer 4", 0},
		{"decimal commas", "a;b\n1,5;2\n2,25;3\n", "utf-8 ; ,", "a decimal 2|b integer 2", 0},
		{"negative numbers and exponents", "a,b\n-1,1e3\n+2,2.5E-2\n", "utf-8 , .", "a integer 2|b decimal 2", 0},
		{"empty cells", "a,b\n1,\n,2\n,\n", "utf-8 , .", "a integer 1|b integer 1", 0},
		{"an empty column", "a,b\n1,\n2,\n", "utf-8 , .", "a integer 2|b text 0", 0},
		{"yes and no", "a,b\nyes,1\nno,2\n", "utf-8 , .", "a boolean 2|b integer 2", 0},
		{"ISO dates", "day,n\n2024-02-29,1\n2024-03-01,2\n", "utf-8 , .", "day date 2|n integer 2", 0},
		{"dates with the day first", "day,n\n29/02/2024,1\n01/03/2024,2\n", "utf-8 , .", "day date 2|n integer 2", 0},
		{"dates with points", "day,n\n29.02.2024,1\n13.03.2024,2\n", "utf-8 , .", "day date 2|n integer 2", 0},
		{"dates that may be either way stay text", "day,n\n02/03/2024,1\n01/03/2024,2\n", "utf-8 , .", "day text 2|n integer 2", 0},
		{"times", "at,n\n2024-02-29 10:30,1\n2024-03-01 23:59,2\n", "utf-8 , .", "at datetime 2|n integer 2", 0},
		{"a totals line at the end", "name,n\na,10\nb,20\nTotal,30\n", "utf-8 , .", "name text 3|n integer 3", 0},
		{"trailing commas", "a,b,\n1,2,\n3,4,\n", "utf-8 , .", "a integer 2|b integer 2|column_3 text 0", 1},
		{"tabs with commas within", "a\tb\n1,5\tx\n2,5\ty\n", "utf-8 \t ,", "a decimal 2|b text 2", 0},
		{"bars", "a|b\n1|x\n2|y\n", "utf-8 | .", "a integer 2|b text 2", 0},
		{"latin letters in windows-1252", "ort;n\nK\xf6ln;1\nM\xfcnchen;2\n", "windows-1252 ; .", "ort text 2|n integer 2", 0},
		{"a byte order mark", "\ufeffa,b\n1,2\n", "utf-8 , .", "a integer 1|b integer 1", 0},
		{"Windows line ends", "a,b\r\n1,2\r\n3,4\r\n", "utf-8 , .", "a integer 2|b integer 2", 0},
		{"old line ends", "a,b\r1,2\r3,4\r", "utf-8 , .", "a integer 2|b integer 2", 0},
		{"quoted numbers", "a,b\n\"1\",\"2.5\"\n\"3\",\"4.5\"\n", "utf-8 , .", "a integer 2|b decimal 2", 0},
		{"quoted delimiters and line ends", "a,b\n\"x, y\",\"two\nlines\"\nz,w\n", "utf-8 , .", "a text 2|b text 2", 0},
		{"blank lines between", "a,b\n1,2\n\n3,4\n\n\n", "utf-8 , .", "a integer 2|b integer 2", 0},
		{"a short and a long row", "a,b,c\n1,2\n1,2,3,4\n", "utf-8 , .", "a integer 2|b integer 2|c integer 1", 2},
		{"one column", "name\nx\ny\n", "utf-8 , .", "name text 2", 0},
		{"a header and nothing else", "a,b\n", "utf-8 , .", "a text 0|b text 0", 0},
		{"stray spaces around numbers are no numbers", "a,b\n 1,x\n 2,y\n", "utf-8 , .", "a text 2|b text 2", 0},
		{"very large numbers", "a,b\n123456789012345678901234567890,1\n5,2\n", "utf-8 , .", "a integer 2|b integer 2", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			open := testkit.Opener([]byte(c.text))
			reading, err := intake.Suggest(context.Background(), open)
			if err != nil {
				t.Fatal(err)
			}
			if got := strings.Join([]string{reading.Encoding, reading.Delimiter, reading.DecimalMark}, " "); got != c.reading {
				t.Errorf("read as %q, want %q", got, c.reading)
			}
			file, err := intake.Open(open, reading)
			if err != nil {
				t.Fatal(err)
			}
			sample, err := intake.Sample(context.Background(), open, reading)
			if err != nil {
				t.Fatal(err)
			}
			result, err := audit.Run(context.Background(), file, rulebook.Draft("f", reading, file.Columns(), sample), 2)
			if err != nil {
				t.Fatal(err)
			}
			columns := []string{}
			for _, k := range result.Columns {
				columns = append(columns, strings.Join([]string{k.Name, string(k.Type), audit.Grouped(k.Filled)}, " "))
			}
			if got := strings.Join(columns, "|"); got != c.columns || result.DefectCount != c.defects {
				t.Errorf("columns %q with %d defects, want %q with %d", got, result.DefectCount, c.columns, c.defects)
			}
			if !result.Passed {
				t.Error("what nobody declared anything about fell short")
			}
		})
	}
}
