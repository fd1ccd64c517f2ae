// Package report writes an audit as one page that needs nothing else: no account, no
// network, no script. It is for the owner of the data, and prints well.
package report

import (
	"embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/leads"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
)

//go:embed page.html sheet.html certified.html dictionary.html
var pages embed.FS

// Report is what the page tells.
type Report struct {
	Dataset, Title string
	FileName       string
	Digest         string // SHA-256 of the bytes; empty where it is not known
	Rulebook       string // its version or file
	When           time.Time
	Source         map[string]string // provider, contact, period, method, limits, note
	Result         *audit.Result
	Examples       map[string][]Example // rows, by rule
	Questions      []Question
	// ShowPersonal leaves personal data as they are; Masked are the columns whose texts are masked.
	ShowPersonal bool
	Masked       []string
}

// Example is a row that breaks a rule.
type Example struct {
	Line  int64
	Row   uint32
	Cells []Cell
}

// Cell is a cell of an example. Caught says that the rule names its column.
type Cell struct {
	Column, Text string
	Caught       bool
}

// Question is something that the owner of the data is asked.
type Question struct {
	About string
	Text  string
	Asked string // when, and by whom
}

// page is made when it is asked for first: most commands write none.
var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page.html").Funcs(template.FuncMap{
		"count": document.Grouped, "score": document.Score, "strip": strip, "picture": picture, "visible": Visible, "gathered": leads.Gather,
		"meaning": meaning, "gravest": gravest, "join": func(texts []string) string { return strings.Join(texts, ", ") },
		"share": func(part, of int64) string {
			if of == 0 {
				return ""
			}
			return document.Score(100*float64(part)/float64(of)) + " %"
		},
		"points": document.Score,
		"day":    func(t time.Time) string { return t.Format("2 January 2006, 15:04") },
		"short":  short, "grouped": grouped,
	}).ParseFS(pages, "page.html"))
})

// Write writes the page. Texts of columns that seem to hold personal data are masked, unless they are to be shown.
func Write(out io.Writer, r *Report) error { return page().Execute(out, r.masked()) }

func short(text string) string {
	if f, err := strconv.ParseFloat(text, 64); err == nil && strings.Contains(text, ".") {
		return strconv.FormatFloat(f, 'f', 2, 64)
	}
	return text
}

// grouped writes an exact number with a comma between thousands.
func grouped(text string) string {
	whole, rest, point := strings.Cut(text, ".")
	n, err := strconv.ParseInt(whole, 10, 64)
	if err != nil || strings.HasPrefix(whole, "-0") {
		return text
	}
	if whole = document.Grouped(n); point {
		whole += "." + rest
	}
	return whole
}

// Visible shows stray spaces, which nobody could see.
func Visible(text string) string {
	inner := strings.Trim(text, " \u00a0\t")
	lead, trail := len(text)-len(strings.TrimLeft(text, " \u00a0\t")),
		len(text)-len(strings.TrimRight(text, " \u00a0\t"))
	if inner == "" {
		return strings.Repeat("␣", len([]rune(text)))
	}
	return strings.Repeat("␣", lead) + strings.ReplaceAll(inner, "  ", "␣␣") + strings.Repeat("␣", trail)
}

func meaning(s rulebook.Severity) string {
	return map[rulebook.Severity]string{rulebook.Major: "major: must be put right", rulebook.Minor: "minor: should be looked at",
		rulebook.Note: "note: for information"}[s]
}

// gravest orders findings by severity, then by what they cost.
func gravest(findings []audit.Finding) []audit.Finding {
	out := slices.Clone(findings)
	weight := map[rulebook.Severity]int{rulebook.Major: 0, rulebook.Minor: 1, rulebook.Note: 2}
	slices.SortStableFunc(out, func(a, b audit.Finding) int {
		if a.Severity != b.Severity {
			return weight[a.Severity] - weight[b.Severity]
		}
		return int(b.Rows - a.Rows)
	})
	return out
}

// strip draws the mesh: a band of cells, each for the same share of the rows in file order, caught
// ones in the pattern of their dimension.
func strip(m audit.Mesh, rows int64) template.HTML {
	const width, height = 6, 14
	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="strip" width="%d" height="%d" role="img" aria-label="%s">`, m.Cells*width, height,
		template.HTMLEscapeString(stripSays(m)))
	for i := range m.Cells {
		dimension, most := rulebook.Dimension(""), uint32(0)
		for _, d := range rulebook.Dimensions {
			if c := m.Caught[d]; i < len(c) && c[i] > most {
				dimension, most = d, c[i]
			}
		}
		x := float64(i * width)
		switch dimension {
		case "":
			fmt.Fprintf(&b, `<rect class="calm" x="%g" y="4" width="5" height="6"/>`, x)
		case rulebook.Completeness:
			fmt.Fprintf(&b, `<rect class="completeness hollow" x="%g" y="0.75" width="3.5" height="12.5"/>`, x+0.75)
		case rulebook.Validity:
			for y := 2.0; y < height+4; y += 4 {
				fmt.Fprintf(&b, `<line class="validity" x1="%g" y1="%g" x2="%g" y2="%g"/>`, x, min(y, height), x+5,
					max(y-4, 0))
			}
		case rulebook.Uniqueness:
			fmt.Fprintf(&b,
				`<rect class="uniqueness" x="%g" y="0" width="1.9" height="14"/><rect class="uniqueness" x="%g" y="0" width="1.9" height="14"/>`, x, x+3.1)
		case rulebook.Consistency:
			for _, y := range []float64{2.3, 7, 11.7} {
				fmt.Fprintf(&b,
					`<circle class="consistency" cx="%g" cy="%g" r="1.2"/><circle class="consistency" cx="%g" cy="%g" r="1.2"/>`, x+1.2, y, x+3.8, y)
			}
		}
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

func stripSays(m audit.Mesh) string {
	var parts []string
	words := map[rulebook.Dimension]string{rulebook.Completeness: "missing", rulebook.Validity: "invalid",
		rulebook.Uniqueness: "surplus", rulebook.Consistency: "inconsistent"}
	for _, d := range rulebook.Dimensions {
		sum := int64(0)
		for _, n := range m.Caught[d] {
			sum += int64(n)
		}
		if sum > 0 {
			parts = append(parts, document.Grouped(sum)+" "+words[d])
		}
	}
	if len(parts) == 0 {
		return "nothing wrong"
	}
	return strings.Join(parts, ", ")
}

// picture draws what is in a column: a histogram of numbers, rows by period of dates, the most
// frequent texts otherwise.
func picture(c audit.Column) template.HTML {
	var heights []int64
	says := ""
	switch {
	case c.Numbers != nil && len(c.Numbers.Histogram.Rows) > 0:
		heights = c.Numbers.Histogram.Rows
		h := c.Numbers.Histogram
		says = fmt.Sprintf("histogram from %g in steps of %g", h.From, h.Width)
	case c.Dates != nil && len(c.Dates.Periods) > 0:
		for _, p := range c.Dates.Periods {
			heights = append(heights, p.Rows)
		}
		says = "rows by " + c.Dates.Unit
	default:
		return frequent(c.Frequent, c.Filled)
	}
	const width, height = 120.0, 26.0
	most := slices.Max(heights)
	if most == 0 {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="picture" width="%g" height="%g" role="img" aria-label="%s">`, width, height,
		template.HTMLEscapeString(says))
	step := width / float64(len(heights))
	for i, n := range heights {
		if n > 0 {
			tall := max(math.Round(float64(n)/float64(most)*height), 1)
			fmt.Fprintf(&b, `<rect x="%.2f" y="%g" width="%.2f" height="%g"/>`, float64(i)*step, height-tall,
				max(step-0.5, 0.5), tall)
		}
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

func frequent(texts []profile.Frequency, filled int64) template.HTML {
	if filled == 0 {
		return ""
	}
	var b strings.Builder
	for _, t := range texts[:min(len(texts), 3)] {
		text := []rune(Visible(t.Text))
		if len(text) > 24 {
			text = append(text[:23], '…')
		}
		fmt.Fprintf(&b, `<div class="frequent"><i style="width:%.0fpx"></i><code>%s</code> %s</div>`,
			max(float64(t.Rows)/float64(filled)*60, 1), template.HTMLEscapeString(string(text)),
			document.Grouped(t.Rows))
	}
	return template.HTML(b.String())
}
