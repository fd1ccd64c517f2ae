package cli

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"proudsieve/core/audit"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/service/records"
	"proudsieve/service/report"
)

// printJSON writes v for programs.
func (o *output) printJSON(v any) error {
	e := json.NewEncoder(o.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// line writes a line for people. It is the one door through which texts reach a terminal: what
// is filled in, wherever it comes from, is made safe here, but for what styled has made.
func (o *output) line(format string, args ...any) {
	for i, arg := range args {
		switch v := arg.(type) {
		case string:
			args[i] = door(v, o.colour)
		case error:
			args[i] = door(v.Error(), o.colour)
		case fmt.Stringer:
			args[i] = door(v.String(), o.colour)
		case int, int64, uint32, uint64, float64, bool, rune:
		default:
			args[i] = door(fmt.Sprint(v), o.colour)
		}
	}
	fmt.Fprintf(o.out, format+"\n", args...)
}

// raw writes a text of several lines as it is, made safe where it goes to a terminal.
func (o *output) raw(text string) error {
	if f, ok := o.out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		text = lines(text)
	}
	_, err := io.WriteString(o.out, text)
	return err
}

// ours marks the escapes that styled makes: no text from outside can know it.
var ours = func() string {
	secret := make([]byte, 8)
	if _, err := rand.Read(secret); err != nil {
		panic(err) // there is no source of random bytes
	}
	return "\x1b" + hex.EncodeToString(secret)
}()

// door makes a text safe and turns our own marks into what a terminal understands.
func door(s string, colour bool) string {
	if !strings.Contains(s, ours) {
		return safe(s)
	}
	parts := strings.Split(s, ours)
	var b strings.Builder
	b.WriteString(safe(parts[0]))
	for _, part := range parts[1:] {
		code, text, _ := strings.Cut(part, "m")
		if colour {
			b.WriteString("\x1b[" + code + "m")
		}
		b.WriteString(safe(text))
	}
	return b.String()
}

// lines makes a text of several lines safe.
func lines(text string) string {
	all := strings.Split(text, "\n")
	for i := range all {
		all[i] = strings.ReplaceAll(safe(strings.ReplaceAll(all[i], "\t", "    ")), "\u240d", "")
	}
	return strings.Join(all, "\n")
}

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
// so that no value of a file can break a line, command the terminal or turn a line around.
func safe(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r < ' ':
			return '\u2400' + r
		case r == 0x7f:
			return '\u2421'
		case r >= 0x80 && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x2028 ||
			r == 0x2029:
			return '\ufffd' // further controls, and what turns the direction of writing around
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
		widths[i] = visibleLength(strings.TrimLeft(h, ">*"))
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

// visibleLength is how many columns of a terminal a text takes, without what styles it: a
// character of Chinese or Japanese takes two, one that is put over another none.
func visibleLength(s string) int {
	n := 0
	for i, part := range strings.Split(s, ours) {
		if i > 0 {
			_, part, _ = strings.Cut(part, "m")
		}
		n += runewidth.StringWidth(part)
	}
	return n
}

func shorten(s string, most int) string {
	if visibleLength(s) <= most || strings.Contains(s, ours) {
		return s
	}
	return runewidth.Truncate(s, most, "…")
}

func (o *output) styled(code, s string) string {
	if !o.colour || code == "" {
		return s
	}
	return ours + code + "m" + s + ours + "0m"
}

// visible makes the spaces of a value visible where they are strays, as in a report.
func visible(s string) string { return report.Visible(s) }

// percent writes a share of 0 to 100 as a report does.
func percent(v float64) string { return document.Score(v) }

func count(n int64) string { return document.Grouped(n) }

// signs are how the dimensions look in a mesh strip, each with its colour; quiet cells come first.
var signs = map[rulebook.Dimension]struct {
	sign   rune
	colour string
}{
	rulebook.Completeness: {'□', "34"},
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
		says := map[rulebook.Dimension]string{rulebook.Completeness: "missing", rulebook.Validity: "invalid",
			rulebook.Uniqueness: "surplus", rulebook.Consistency: "inconsistent"}[d]
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
func (o *output) progress() func(records.Job) {
	if !o.interactive() {
		return nil
	}
	shown := false
	return func(j records.Job) {
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

func same(s string) string { return s }

func orNobody(name *string) string {
	if name == nil {
		return "nobody"
	}
	return *name
}
