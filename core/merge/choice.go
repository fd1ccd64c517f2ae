package merge

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Choice says which tables of a stacked dataset take part. The zero value is the newest.
type Choice struct {
	All   bool
	Last  int    // the newest of them, so many; 0 for no bound
	Since string // those of deliveries that arrived on that day or later, as 2024-01-31
	Named string // those of deliveries whose file is named so, as 2024-*.csv
}

// choiceForm says how a choice is written.
const choiceForm = "all, last 3, since 2024-01-31 or named 2024-*.csv, or several of these with commas between"

var choiceWord = regexp.MustCompile(`^(all|last +([1-9][0-9]{0,4})|since +(\d{4}-\d\d-\d\d)|named +(\S.*))$`)

// ParseChoice reads which tables take part, as "since 2024-01-31, last 3".
func ParseChoice(text string) (c Choice, err error) {
	for _, one := range strings.Split(text, ",") {
		m := choiceWord.FindStringSubmatch(strings.TrimSpace(one))
		if m == nil {
			return c, fmt.Errorf("which tables take part is said as %s, not %q", choiceForm, text)
		}
		switch {
		case m[2] != "":
			c.Last, _ = strconv.Atoi(m[2])
		case m[3] != "":
			if _, err := time.Parse(time.DateOnly, m[3]); err != nil {
				return c, fmt.Errorf("there is no day %s", m[3])
			}
			c.Since = m[3]
		case m[4] != "":
			if _, err := path.Match(m[4], ""); err != nil {
				return c, fmt.Errorf("%q is no pattern of names; * stands for any text and ? for one character", m[4])
			}
			c.Named = m[4]
		default:
			c.All = true
		}
	}
	return c, nil
}

// Arrived is a delivery that a table was made of.
type Arrived struct {
	Day  string // as 2024-01-31
	File string
}

// Several reports whether more than one table may take part.
func (c Choice) Several() bool { return c != Choice{} && c.Last != 1 }

// Of returns the places of those that take part, among all in the order in which they arrived.
func (c Choice) Of(all []Arrived) []int {
	var out []int
	for i, a := range all {
		named := c.Named == ""
		if !named {
			named, _ = path.Match(c.Named, a.File)
		}
		if named && a.Day >= c.Since {
			out = append(out, i)
		}
	}
	last := cmp.Or(c.Last, len(out))
	if c == (Choice{}) {
		last = 1
	}
	return out[max(len(out)-last, 0):]
}
