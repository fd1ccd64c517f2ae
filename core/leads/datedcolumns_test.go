package leads_test

import (
	"fmt"
	"testing"
)

func TestColumnsThatAreNamedByDates(t *testing.T) {
	row := func(i int) string { return fmt.Sprintf("s%d,%d,%d,%d,x", i, i%7, i%5, i%9) }
	finds(t, "dated_columns", "three days", lines("s,01/06/2024,02/06/2024,13/06/2024,note", 30, row),
		"3 columns are named by dates, 01/06/2024 to 13/06/2024", 30)
	finds(t, "dated_columns", "two days", lines("s,2024-06-01,2024-06-02,c,note", 30, row), "", 0)
	finds(t, "dated_columns", "names", lines("s,a,b,c,note", 30, row), "", 0)
}
