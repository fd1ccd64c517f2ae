package document

import (
	"fmt"
	"strings"
)

const (
	// changesShown bounds how many changed lines are told.
	changesShown = 200
	// changesWork bounds the comparison: beyond so many pairs of lines, texts are told to differ as a whole.
	changesWork = 4_000_000
)

// Changes tells in which lines a text differs from an earlier one: "- line 3: …" for one that
// is gone, with its number in the earlier text, "+ line 3: …" for one that came. Lines that
// both have are found as their longest common subsequence.
func Changes(earlier, later string) []string {
	a, b := strings.Split(strings.TrimRight(earlier, "\n"), "\n"), strings.Split(strings.TrimRight(later, "\n"), "\n")
	start := 0
	for start < len(a) && start < len(b) && a[start] == b[start] {
		start++
	}
	end := 0
	for end < len(a)-start && end < len(b)-start && a[len(a)-1-end] == b[len(b)-1-end] {
		end++
	}
	x, y := a[start:len(a)-end], b[start:len(b)-end]
	if len(x)*len(y) > changesWork {
		return []string{fmt.Sprintf("lines %d to %d are others", start+1, len(b)-end)}
	}
	// common[i][j] is how many lines x[i:] and y[j:] have in common.
	common := make([][]int32, len(x)+1)
	for i := range common {
		common[i] = make([]int32, len(y)+1)
	}
	for i := len(x) - 1; i >= 0; i-- {
		for j := len(y) - 1; j >= 0; j-- {
			if common[i][j] = max(common[i+1][j], common[i][j+1]); x[i] == y[j] {
				common[i][j] = common[i+1][j+1] + 1
			}
		}
	}
	var out []string
	for i, j := 0, 0; i < len(x) || j < len(y); {
		switch {
		case i < len(x) && j < len(y) && x[i] == y[j]:
			i, j = i+1, j+1
		case j == len(y) || i < len(x) && common[i+1][j] >= common[i][j+1]:
			out = append(out, fmt.Sprintf("- line %d: %s", start+i+1, x[i]))
			i++
		default:
			out = append(out, fmt.Sprintf("+ line %d: %s", start+j+1, y[j]))
			j++
		}
	}
	if more := len(out) - changesShown; more > 0 {
		out = append(out[:changesShown], fmt.Sprintf("and %d more changed lines", more))
	}
	return out
}
