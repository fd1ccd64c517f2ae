package truth_test

import (
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// kindOf is what a column of a generated table holds.
type kindOf int

const (
	aNumber  kindOf = iota // one after another, which names the row
	aCode                  // one of a few
	aMeasure               // a number with decimals
	aCount                 // a whole number
	aDay
	aName // a text of its own, as a rule
)

// column is a column of a generated table, with what stands in it in the plainest form there is.
type column struct {
	name     string
	kind     kindOf
	plain    []string // in the standard form; empty for missing
	written  []string // as the file has it
	decimals int
	codes    []string
	level    float64
}

// generated is a table whose truth is known.
type generated struct {
	columns []*column
	rows    int
	reading intake.Reading // by which it is written
	pattern string         // of its dates
	text    []byte
	equal   int64 // rows that repeat an earlier one in every cell
	planted planted
}

// planted is what was done wrong to a table: the kind of lead that has to tell it, and of which column.
type planted struct{ lead, column string }

var patterns = []struct{ pattern, layout string }{{"yyyy-MM-dd", "2006-01-02"}, {"dd.MM.yyyy", "02.01.2006"},
	{"dd/MM/yyyy", "02/01/2006"}, {"MM/dd/yyyy", "01/02/2006"}, {"yyyy/MM/dd", "2006/01/02"}, {"dd-MMM-yyyy", "02-Jan-2006"}}

// generate makes a table of a seed.
func generate(r *rand.Rand, withDefect bool) *generated {
	g := &generated{rows: 60 + r.IntN(600)}
	g.reading = intake.Reading{Delimiter: []string{",", ";", "\t", "|"}[r.IntN(4)], DecimalMark: ".", Encoding: "utf-8"}
	if g.reading.Delimiter == ";" || g.reading.Delimiter == "\t" {
		g.reading.DecimalMark = []string{".", ","}[r.IntN(2)]
	}
	if r.IntN(4) == 0 {
		g.reading.Encoding = "windows-1252"
	}
	p := patterns[r.IntN(len(patterns))]
	g.pattern = p.pattern
	g.columns = append(g.columns, &column{name: "sample", kind: aNumber})
	names := []string{"station", "crew", "value", "flow", "count", "taken", "remark", "depth", "river", "level"}
	r.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
	kinds := []kindOf{aCode, aMeasure, aCount, aDay, aCode, aMeasure, aName}
	for i := range 4 + r.IntN(4) {
		c := &column{name: names[i], kind: kinds[i%len(kinds)]}
		g.columns = append(g.columns, c)
	}
	words := []string{"Äsche", "Brücke", "Mühle", "Weir", "Ford", "Gauge", "Lock", "Pond", "Ridge", "Sluice", "Tarn", "Bend"}
	for at, c := range g.columns {
		c.decimals = 1 + r.IntN(3)
		c.level = math.Pow(10, 0.5+2*r.Float64())
		r.Shuffle(len(words), func(i, k int) { words[i], words[k] = words[k], words[i] })
		c.codes = append([]string{}, words[:3+r.IntN(6)]...)
		for i := range c.codes {
			c.codes[i] += fmt.Sprint(" ", string(rune('A'+at)))
		}
		gaps := 0.0
		if at > 0 && r.IntN(3) == 0 {
			gaps = r.Float64() * 0.2
		}
		for i := range g.rows {
			c.plain = append(c.plain, c.cell(r, i, g.rows))
			if gaps > 0 && r.Float64() < gaps {
				c.plain[i] = ""
			}
		}
	}
	for _, c := range g.columns {
		for _, plain := range c.plain {
			c.written = append(c.written, g.write(c, plain, p.layout))
		}
	}
	if withDefect {
		g.plant(r, p.layout)
	}
	g.lay()
	return g
}

// cell makes up what stands in a row of a column.
func (c *column) cell(r *rand.Rand, i, rows int) string {
	switch c.kind {
	case aNumber:
		return fmt.Sprintf("S-%05d", i+1)
	case aCode:
		return c.codes[r.IntN(len(c.codes))]
	case aMeasure:
		return strconv.FormatFloat(c.level*math.Exp(r.NormFloat64()*0.2), 'f', c.decimals, 64)
	case aCount:
		return strconv.Itoa(20 + r.IntN(60))
	case aDay:
		return time.Date(2023, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, i*700/rows+r.IntN(3)).Format("2006-01-02")
	}
	return fmt.Sprintf("%s by %s, %d", c.codes[r.IntN(len(c.codes))], []string{"boat", "foot", "car"}[r.IntN(3)], r.IntN(100000))
}

// write writes a cell as the file has it.
func (g *generated) write(c *column, plain, layout string) string {
	switch {
	case plain == "":
		return ""
	case c.kind == aDay:
		day, _ := time.Parse("2006-01-02", plain)
		return day.Format(layout)
	case c.kind == aMeasure && g.reading.DecimalMark == ",":
		return strings.Replace(plain, ".", ",", 1)
	}
	return plain
}

// lay writes the table.
func (g *generated) lay() {
	var b strings.Builder
	line := func(cell func(c *column) string) {
		for i, c := range g.columns {
			if i > 0 {
				b.WriteString(g.reading.Delimiter)
			}
			text := cell(c)
			if strings.ContainsAny(text, g.reading.Delimiter+"\"\n") {
				text = `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
			}
			b.WriteString(text)
		}
		b.WriteString("\n")
	}
	line(func(c *column) string { return c.name })
	for i := range g.rows {
		line(func(c *column) string { return c.written[i] })
	}
	g.text = []byte(b.String())
	if g.reading.Encoding == "windows-1252" {
		g.text, _ = charmap.Windows1252.NewEncoder().Bytes(g.text)
	}
	seen := map[string]bool{}
	for i := range g.rows {
		var row strings.Builder
		for _, c := range g.columns {
			row.WriteString(c.written[i] + "\x00")
		}
		if seen[row.String()] {
			g.equal++
		}
		seen[row.String()] = true
	}
}

// set sets a cell, in the plain form too, which is what the file has where it is of no type.
func (c *column) set(i int, text string) { c.plain[i], c.written[i] = text, text }

// of returns a column of a kind; nil for none.
func (g *generated) of(kind kindOf) *column {
	for _, c := range g.columns {
		if c.kind == kind {
			return c
		}
	}
	return nil
}

// plant does one thing wrong to the table, if it has a column for it.
func (g *generated) plant(r *rand.Rand, layout string) {
	at := func() int { return r.IntN(g.rows) }
	mark := func(x float64, decimals int) string {
		return strings.Replace(strconv.FormatFloat(x, 'f', decimals, 64), ".", g.reading.DecimalMark, 1)
	}
	code, measure, count, day := g.of(aCode), g.of(aMeasure), g.of(aCount), g.of(aDay)
	defects := []func() planted{
		func() planted { // a placeholder word
			for range 2 + r.IntN(3) {
				measure.set(at(), "n/a")
			}
			return planted{"placeholder", measure.name}
		},
		func() planted { // a run of nines
			i, k := at(), at()
			count.set(i, "-999")
			count.set((k+i+1)%g.rows, "-999")
			return planted{"placeholder", count.name}
		},
		func() planted { // stray spaces
			for range 1 + r.IntN(3) {
				i := at()
				code.set(i, code.codes[0]+" ")
			}
			return planted{"spaces", code.name}
		},
		func() planted { // another spelling
			for range 1 + r.IntN(3) {
				code.set(at(), strings.ToUpper(code.codes[r.IntN(len(code.codes))]))
			}
			return planted{"spellings", code.name}
		},
		func() planted { // several values in one cell
			code.set(at(), code.codes[0]+" / "+code.codes[1])
			return planted{"several_values", code.name}
		},
		func() planted { // a unit
			i := at()
			measure.set(i, mark(measure.level, 1)+" mg/L")
			return planted{"units", measure.name}
		},
		func() planted { // far from the others
			i := at()
			measure.plain[i], measure.written[i] = plainNumber(measure.level*5e5, 1), mark(measure.level*5e5, 1)
			return planted{"outliers", measure.name}
		},
		func() planted { // a point that slipped
			i := at()
			measure.plain[i], measure.written[i] = plainNumber(measure.level*100, measure.decimals), mark(measure.level*100, measure.decimals)
			return planted{"shifted_point", measure.name}
		},
		func() planted { // years off
			day.set(at(), time.Date(1923, 5, 17, 0, 0, 0, 0, time.UTC).Format(layout))
			return planted{"years_off", day.name}
		},
		func() planted { // one row once more
			i := at()
			for _, c := range g.columns {
				k := (i + 7) % g.rows
				c.plain[k], c.written[k] = c.plain[i], c.written[i]
			}
			return planted{"equal_rows", ""}
		},
		func() planted { // a key twice
			i := at()
			g.columns[0].set((i+3)%g.rows, g.columns[0].plain[i])
			return planted{"near_key", "sample"}
		},
		func() planted { // a total among the rows
			code.set(at(), "Total")
			return planted{"total_rows", code.name}
		},
		func() planted { // empty from somewhere on
			for i := g.rows / 2; i < g.rows; i++ {
				count.set(i, "")
			}
			for i := range g.rows / 2 {
				if count.plain[i] == "" {
					count.set(i, "50")
				}
			}
			return planted{"changes_down", count.name}
		},
		func() planted { // a copy that differs in a row
			copied := &column{name: "copy", kind: aCount, plain: append([]string{}, count.plain...), written: append([]string{},
				count.written...)}
			for i, text := range copied.plain {
				if text == "" {
					copied.set(i, "50")
					count.set(i, "50")
				}
			}
			copied.set(at(), "19")
			g.columns = append(g.columns, copied)
			return planted{"copy", "copy"}
		},
		func() planted { // arrived before it was taken
			later := &column{name: "arrived", kind: aDay}
			for i, text := range day.plain {
				if text == "" {
					text = "2023-07-01"
					day.plain[i], day.written[i] = text, mustWrite(text, layout)
				}
				when, _ := time.Parse("2006-01-02", text)
				arrived := when.AddDate(0, 0, r.IntN(9)).Format("2006-01-02")
				later.plain = append(later.plain, arrived)
				later.written = append(later.written, mustWrite(arrived, layout))
			}
			when, _ := time.Parse("2006-01-02", day.plain[5])
			before := when.AddDate(0, 0, -4).Format("2006-01-02")
			later.plain[5], later.written[5] = before, mustWrite(before, layout)
			g.columns = append(g.columns, later)
			return planted{"order", "arrived"}
		},
		func() planted { // a load that is no product
			load := &column{name: "load", kind: aMeasure}
			for i, text := range measure.plain {
				if text == "" || count.plain[i] == "" {
					load.plain, load.written = append(load.plain, ""), append(load.written, "")
					continue
				}
				x, _ := strconv.ParseFloat(text, 64)
				n, _ := strconv.ParseFloat(count.plain[i], 64)
				plain := strconv.FormatFloat(x*n, 'f', 3, 64)
				load.plain = append(load.plain, plain)
				load.written = append(load.written, strings.Replace(plain, ".", g.reading.DecimalMark, 1))
			}
			i := 0
			for load.plain[i] == "" {
				i++
			}
			x, _ := strconv.ParseFloat(load.plain[i], 64)
			load.plain[i] = strconv.FormatFloat(x*1.3, 'f', 3, 64)
			load.written[i] = strings.Replace(load.plain[i], ".", g.reading.DecimalMark, 1)
			g.columns = append(g.columns, load)
			return planted{"arithmetic", "load"}
		},
	}
	if code != nil && measure != nil && count != nil && day != nil {
		g.planted = defects[r.IntN(len(defects))]()
	}
}

func plainNumber(x float64, decimals int) string { return strconv.FormatFloat(x, 'f', decimals, 64) }

// undecided reports whether numbers with a decimal comma and three digits after it may be thousands, and nothing in the
// table decides.
func (g *generated) undecided() bool {
	decided := false
	for _, c := range g.columns {
		for i, text := range c.written {
			whole, rest, ok := strings.Cut(text, ",")
			decided = decided || c.kind == aMeasure && ok && c.plain[i] != text && (len(rest) != 3 || len(whole) > 3 || whole == "0")
		}
	}
	return g.reading.DecimalMark == "," && !decided
}

func mustWrite(plain, layout string) string {
	day, _ := time.Parse("2006-01-02", plain)
	return day.Format(layout)
}

// sum adds up the numbers of a column by fractions.
func (c *column) sum() (sum *big.Rat, numbers int64) {
	sum = new(big.Rat)
	for _, text := range c.plain {
		if x, ok := new(big.Rat).SetString(text); ok && text != "" {
			sum.Add(sum, x)
			numbers++
		}
	}
	return sum, numbers
}

// typeOf is the type that a column must be found to have.
func (c *column) typeOf() table.Type {
	switch c.kind {
	case aMeasure:
		return table.TypeDecimal
	case aCount:
		return table.TypeInteger
	case aDay:
		return table.TypeDate
	}
	return table.TypeText
}
