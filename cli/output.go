package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
	"proudsieve/service/report"
	"proudsieve/service/store"
)

// printJSON writes v for programs.
func (o *output) printJSON(v any) error {
	e := json.NewEncoder(o.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func (o *output) line(format string, args ...any) { fmt.Fprintf(o.out, format+"\n", args...) }

// grid is a table for people: columns as wide as their widest cell, numbers to the right.
type grid struct {
	heads []string
	rows  [][]string
}

// newGrid takes the heads; one that starts with > is of a column of numbers, one that
// starts with * of cells that we have styled ourselves.
func newGrid(heads ...string) *grid { return &grid{heads: heads} }

func (g *grid) add(cells ...string) {
	for i, cell := range cells {
		if !strings.HasPrefix(g.heads[i], "*") {
			cells[i] = safe(cell)
		}
	}
	g.rows = append(g.rows, cells)
}

// safe shows control characters by their pictures (␊ for a line end, ␛ for an escape),
// so that no value of a file can break a line or command the terminal.
func safe(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r < ' ':
			return '\u2400' + r
		case r == 0x7f:
			return '\u2421'
		case r >= 0x80 && r < 0xa0:
			return '\ufffd'
		}
		return r
	}, s)
}

const widestCell = 60

func (o *output) grid(g *grid, empty string) {
	if len(g.rows) == 0 {
		o.line("%s", empty)
		return
	}
	widths := make([]int, len(g.heads))
	for i, h := range g.heads {
		widths[i] = utf8.RuneCountInString(strings.TrimLeft(h, ">*"))
	}
	for _, row := range g.rows {
		for i := range row {
			if i < len(row)-1 {
				row[i] = shorten(row[i], widestCell)
			}
			widths[i] = max(widths[i], visibleLength(row[i]))
		}
	}
	line := func(cells []string, style string) {
		parts := make([]string, len(cells))
		for i, cell := range cells {
			pad := strings.Repeat(" ", max(widths[i]-visibleLength(cell), 0))
			if strings.HasPrefix(g.heads[i], ">") {
				parts[i] = pad + cell
			} else {
				parts[i] = cell + pad
			}
		}
		o.line("%s", o.styled(style, strings.TrimRight(strings.Join(parts, "  "), " ")))
	}
	heads := make([]string, len(g.heads))
	for i, h := range g.heads {
		heads[i] = strings.TrimLeft(h, ">*")
	}
	line(heads, "2")
	for _, row := range g.rows {
		line(row, "")
	}
}

// visibleLength counts characters, without the escapes that colour them.
func visibleLength(s string) int {
	n, escape := 0, false
	for _, r := range s {
		switch {
		case r == '\x1b':
			escape = true
		case escape:
			escape = r != 'm'
		default:
			n++
		}
	}
	return n
}

func shorten(s string, most int) string {
	if visibleLength(s) <= most || strings.Contains(s, "\x1b") {
		return s
	}
	return string([]rune(s)[:most-1]) + "…"
}

func (o *output) styled(code, s string) string {
	if !o.colour || code == "" {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// visible makes the spaces of a value visible where they are strays, as in a report.
func visible(s string) string { return report.Visible(s) }

// percent writes a share of 0 to 100 as a report does.
func percent(v float64) string { return report.Score(v) }

func count(n int64) string { return audit.Grouped(n) }

// signs are how the dimensions look in a mesh strip, each with its colour; quiet cells come first.
var signs = map[rulebook.Dimension]struct {
	sign   rune
	colour string
}{
	rulebook.Completeness: {'○', "34"},
	rulebook.Validity:     {'▨', "31"},
	rulebook.Uniqueness:   {'‖', "35"},
	rulebook.Consistency:  {'∷', "38;5;136"},
}

const quietCell = '·'

// strip draws a mesh strip of at most width cells. A cell shows the dimension that
// caught most rows of its share; a cell with nothing caught is quiet.
func (o *output) strip(m audit.Mesh, width int) string {
	if m.Cells == 0 {
		return ""
	}
	width = min(width, m.Cells)
	var b strings.Builder
	for i := range width {
		from, to := i*m.Cells/width, (i+1)*m.Cells/width
		best, most := rulebook.Dimension(""), uint32(0)
		for _, d := range rulebook.Dimensions {
			sum := uint32(0)
			for k := from; k < to && k < len(m.Caught[d]); k++ {
				sum += m.Caught[d][k]
			}
			if sum > most {
				best, most = d, sum
			}
		}
		if most == 0 {
			b.WriteString(o.styled("2", string(quietCell)))
			continue
		}
		b.WriteString(o.styled(signs[best].colour, string(signs[best].sign)))
	}
	return b.String()
}

func (o *output) legend() {
	parts := []string{string(quietCell) + " nothing wrong"}
	for _, d := range rulebook.Dimensions {
		says := map[rulebook.Dimension]string{rulebook.Completeness: "missing", rulebook.Validity: "invalid", rulebook.Uniqueness: "surplus", rulebook.Consistency: "inconsistent"}[d]
		parts = append(parts, o.styled(signs[d].colour, string(signs[d].sign))+" "+says)
	}
	o.line("%s", strings.Join(parts, "   "))
}

// interactive reports whether somebody watches the error stream.
func (o *output) interactive() bool {
	f, ok := o.err.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// sending shows on the error stream how much of a file is sent, where somebody watches it.
func (o *output) sending(in io.Reader, size int64) io.Reader {
	if !o.interactive() || size == 0 {
		return in
	}
	return &sender{in: in, out: o.err, size: size}
}

type sender struct {
	in         io.Reader
	out        io.Writer
	size, sent int64
	shown      int64 // percent
}

// Read implements io.Reader.
func (s *sender) Read(p []byte) (int, error) {
	n, err := s.in.Read(p)
	s.sent += int64(n)
	if percent := 100 * s.sent / s.size; percent != s.shown {
		s.shown = percent
		fmt.Fprintf(s.out, "\r\x1b[K%d%% sent", percent)
	}
	if err != nil {
		fmt.Fprint(s.out, "\r\x1b[K")
	}
	return n, err
}

// progress shows on the error stream how far a job is, where that is a terminal.
func (o *output) progress() func(store.Job) {
	if !o.interactive() {
		return nil
	}
	shown := false
	return func(j store.Job) {
		if j.Ended() {
			if shown {
				fmt.Fprint(o.err, "\r\x1b[K")
			}
			return
		}
		shown = true
		share := ""
		if j.BytesTotal > 0 {
			share = fmt.Sprintf(", %d%%", 100*j.BytesDone/j.BytesTotal)
		}
		fmt.Fprintf(o.err, "\r\x1b[K%s of %s: %s%s, %s rows read", j.Kind, j.Dataset, j.State, share, count(j.RowsRead))
	}
}
