package console_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"

	"proudsieve/service/records"
)

// What is drawn is measured in pixels and held against numbers that are worked out here from the rows themselves.

// gauge is one row of the table that is drawn.
type gauge struct {
	river  string
	month  int
	depth  float64
	flow   float64
	absent bool // its flow is missing
}

func gauges() []gauge {
	var out []gauge
	for i := range 360 {
		g := gauge{river: []string{"Alder", "Bram", "Coll"}[i/12%3], month: i%12 + 1, depth: float64(i%17) / 2,
			flow: float64((i*37)%90)/4 - 3, absent: i%20 == 7 || i > 340 && i%2 == 0}
		out = append(out, g)
	}
	return out
}

func gaugesFile(of []gauge) string {
	var b strings.Builder
	b.WriteString("id,river,day,depth,flow\n")
	for i, g := range of {
		flow := fmt.Sprint(g.flow)
		if g.absent {
			flow = ""
		}
		fmt.Fprintf(&b, "G%03d,%s,2024-%02d-15,%v,%s\n", i, g.river, g.month, g.depth, flow)
	}
	return b.String()
}

const gaugesBook = "dataset: gauges\ncolumns: [{name: id}, {name: river}, {name: day, type: date}, {name: depth, type: decimal}, {name: flow, type: decimal}]\n"

// measured reads marks off a picture by its axes, as a person with a ruler would: for each mark its title, and the
// values at its left, right, bottom and top, or at its middle in both directions where it is a point.
const measured = `((selector) => {
	const svg = document.querySelector("main svg:has(.visx-axis-left)");
	const middle = (e) => { const b = e.getBoundingClientRect(); return [(b.left + b.right) / 2, (b.top + b.bottom) / 2]; };
	const axis = (which, way) => {
		const at = [...svg.querySelectorAll(which + " .visx-axis-tick text")].map((e) => [Number(e.textContent.replaceAll(",", "").replace("−", "-")), middle(e)[way]]).filter((p) => !Number.isNaN(p[0]));
		if (at.length < 2) return () => NaN;
		const [a, b] = [at[0], at[at.length - 1]];
		return (pixel) => a[0] + (pixel - a[1]) * (b[0] - a[0]) / (b[1] - a[1]);
	};
	// The words of the left axis stand by their middle a little below the line they name: what that is, the grid tells.
	const lines = [...svg.querySelectorAll(":scope > g:first-child > line")].map((e) => e.getBoundingClientRect().top);
	const words = [...svg.querySelectorAll(".visx-axis-left .visx-axis-tick text")].map((e) => middle(e)[1]);
	const off = lines.length && words.length ? Math.max(...words) - Math.max(...lines) : 0;
	const left = axis(".visx-axis-left", 1), x = axis(".visx-axis-bottom", 0), y = (pixel) => left(pixel + off);
	return [...svg.querySelectorAll(selector)].filter((e) => e.querySelector(":scope > title")).map((e) => {
		const b = e.getBoundingClientRect(), m = middle(e);
		return { title: e.querySelector(":scope > title").textContent, left: x(b.left), right: x(b.right), bottom: y(b.bottom), top: y(b.top), x: x(m[0]), y: y(m[1]), high: b.height };
	});
})`

type mark struct {
	Title                                string
	Left, Right, Bottom, Top, X, Y, High float64
}

func marks(p *person, selector string) []mark {
	p.t.Helper()
	// What is not a number is none in JSON.
	return evaluate[[]mark](p, fmt.Sprintf(`%s(%q).map((m) => Object.fromEntries(Object.entries(m).map(([k, v]) => [k[0].toUpperCase() + k.slice(1), Number.isNaN(v) ? null : v])))`, measured, selector))
}

func close(a, b, within float64) bool { return math.Abs(a-b) <= within }

type grouped struct {
	name   string
	values []float64
}

// by gathers the numbers of rows by group, in the order of their names.
func by(of []gauge, group func(gauge) string, value func(gauge) (float64, bool)) []grouped {
	found := map[string][]float64{}
	for _, g := range of {
		name := group(g)
		if v, ok := value(g); ok {
			found[name] = append(found[name], v)
		} else if found[name] == nil {
			found[name] = []float64{}
		}
	}
	var out []grouped
	for name, values := range found {
		slices.Sort(values)
		out = append(out, grouped{name, values})
	}
	slices.SortFunc(out, func(a, b grouped) int { return strings.Compare(a.name, b.name) })
	return out
}

func sum(v []float64) (s float64) {
	for _, x := range v {
		s += x
	}
	return s
}

func mean(v []float64) float64 { return sum(v) / float64(len(v)) }

// quantile is that of PERCENTILE_CONT: between neighbours it goes in proportion.
func quantile(v []float64, share float64) float64 {
	at := share * float64(len(v)-1)
	i := int(at)
	if i+1 >= len(v) {
		return v[i]
	}
	return v[i] + (at-float64(i))*(v[i+1]-v[i])
}

var (
	ofRiver = func(g gauge) string { return g.river }
	ofMonth = func(g gauge) string { return fmt.Sprintf("2024-%02d", g.month) }
	flow    = func(g gauge) (float64, bool) { return g.flow, !g.absent }
	depth   = func(g gauge) (float64, bool) { return g.depth, true }
	row     = func(gauge) (float64, bool) { return 1, true }
)

func tallyPage(table int64, down, across, picture string, measures ...string) string {
	q := url.Values{"view": {"tally"}, "down": {down}}
	for name, v := range map[string]string{"across": across, "picture": picture} {
		if v != "" {
			q.Set(name, v)
		}
	}
	if len(measures) > 0 {
		quoted := make([]string, len(measures))
		for i, m := range measures {
			quoted[i] = fmt.Sprintf("%q", m)
		}
		q.Set("measures", "["+strings.Join(quoted, ",")+"]")
	}
	return fmt.Sprintf("/tables/%d?%s", table, q.Encode())
}

const month = `DATE_TRUNC('month', "day")`

func TestPicturesOfATallySayWhatTheRowsSay(t *testing.T) {
	t.Parallel()
	all := gauges()
	_, p, table := seated(t, "gauges", gaugesBook, gaugesFile(all))
	of := func(group func(gauge) string, value func(gauge) (float64, bool), worth func([]float64) float64) map[string]float64 {
		out := map[string]float64{}
		for _, g := range by(all, group, value) {
			out[g.name] = worth(g.values)
		}
		return out
	}
	for _, c := range []struct {
		picture, down, measure string
		group                  func(gauge) string
		value                  func(gauge) (float64, bool)
		worth                  func([]float64) float64
	}{
		{"bars", `"river"`, "rows", ofRiver, row, sum},
		{"bars", `"river"`, `sum "flow"`, ofRiver, flow, sum},
		{"bars", month, `mean "depth"`, ofMonth, depth, mean},
		{"lines", month, "rows", ofMonth, row, sum},
		{"lines", month, `mean "flow"`, ofMonth, flow, mean},
		{"lines", month, `median "depth"`, ofMonth, depth, func(v []float64) float64 { return quantile(v, 0.5) }},
	} {
		p.visit(tallyPage(table, c.down, "", c.picture, c.measure))
		p.awaits(`document.querySelector("main svg .visx-axis-left") !== null`)
		want := of(c.group, c.value, c.worth)
		shape, greatest := "rect", 0.0
		if c.picture == "lines" {
			shape = "circle"
		}
		for _, v := range want {
			greatest = max(greatest, math.Abs(v))
		}
		got := marks(p, shape)
		if len(got) != len(want) {
			t.Errorf("%s of %s: %d marks, want %d", c.picture, c.measure, len(got), len(want))
		}
		for _, m := range got {
			name, _, _ := strings.Cut(m.Title, ":")
			drawn := m.Y
			if c.picture == "bars" { // it reaches from nothing to its value, which may lie below
				if drawn = m.Top; want[name] < 0 {
					drawn = m.Bottom
				}
			}
			if !close(drawn, want[name], 0.012*greatest) {
				t.Errorf("%s of %s: %s stands at %v, want %v", c.picture, c.measure, name, drawn, want[name])
			}
		}
	}

	// Two groupings: parts of a bar add up to the whole, and cells are as dark as there is much.
	for _, measure := range []string{"rows", `sum "depth"`, `filled "flow"`} {
		value, worth := row, sum
		switch measure {
		case `sum "depth"`:
			value = depth
		case `filled "flow"`:
			value = func(g gauge) (float64, bool) { return 1, !g.absent }
		}
		whole := of(ofMonth, value, worth)
		parts := of(func(g gauge) string { return ofMonth(g) + ", " + g.river }, value, worth)
		p.visit(tallyPage(table, month, `"river"`, "stacked", measure))
		p.awaits(`document.querySelector("main svg .visx-axis-left") !== null`)
		tops := map[string]float64{}
		for _, m := range marks(p, "rect") {
			name, _, _ := strings.Cut(m.Title, ":")
			if !close(m.Top-m.Bottom, parts[name], 0.02*whole[name[:7]]) {
				t.Errorf("%s: the part %s is %v tall, want %v", measure, name, m.Top-m.Bottom, parts[name])
			}
			tops[name[:7]] = max(tops[name[:7]], m.Top)
		}
		for name, v := range whole {
			if !close(tops[name], v, 0.02*v) {
				t.Errorf("%s: the bar of %s ends at %v, want %v", measure, name, tops[name], v)
			}
		}
		p.visit(tallyPage(table, month, `"river"`, "heat", measure))
		p.awaits(`document.querySelector("main svg pattern#below") !== null`)
		greatest := slices.Max(slices.Collect(func(yield func(float64) bool) {
			for _, v := range parts {
				if !yield(v) {
					return
				}
			}
		}))
		dark := evaluate[map[string]float64](p, `Object.fromEntries([...document.querySelectorAll("main svg g:has(> title)")].map((g) => [g.querySelector("title").textContent.split(":")[0], Number(g.querySelectorAll("rect")[1]?.getAttribute("fill-opacity"))]))`)
		if len(dark) != len(parts) {
			t.Errorf("%s: %d cells, want %d", measure, len(dark), len(parts))
		}
		for name, v := range parts {
			if !close(dark[name], 0.48*v/greatest, 1e-9) {
				t.Errorf("%s: the cell %s is %v dark, want %v", measure, name, dark[name], 0.48*v/greatest)
			}
		}
	}

	// Boxes: from quartile to quartile, the median in it, lines to the extremes.
	for _, c := range []struct {
		down   string
		group  func(gauge) string
		column string
		value  func(gauge) (float64, bool)
	}{{`"river"`, ofRiver, "flow", flow}, {`"river"`, ofRiver, "depth", depth}, {month, ofMonth, "flow", flow}} {
		p.visit(tallyPage(table, c.down, "", "boxes", "lowest "+c.column, "first_quartile "+c.column, "median "+c.column,
			"third_quartile "+c.column, "highest "+c.column))
		p.sees("quartiles, median and extremes")
		groups := by(all, c.group, c.value)
		boxes := evaluate[[][]float64](p, `[...document.querySelectorAll("main svg g:has(> title)")].map((g) => { const [a, b, m] = [...g.querySelectorAll("line")].map((l) => l.getBoundingClientRect()); const r = g.querySelector("rect").getBoundingClientRect(); return [a.bottom, r.bottom, (m.top + m.bottom) / 2, r.top, b.top]; })`)
		if len(boxes) != len(groups) {
			t.Fatalf("%d boxes, want %d", len(boxes), len(groups))
		}
		// Pixels grow downwards in proportion: two known places of the first box give the scale.
		low, high := groups[0].values[0], groups[0].values[len(groups[0].values)-1]
		scale := (high - low) / (boxes[0][4] - boxes[0][0])
		for i, g := range groups {
			want := []float64{g.values[0], quantile(g.values, 0.25), quantile(g.values, 0.5), quantile(g.values, 0.75), g.values[len(g.values)-1]}
			for k, v := range want {
				if got := low + (boxes[i][k]-boxes[0][0])*scale; !close(got, v, 0.3) {
					t.Errorf("%s of %s: figure %d of the box is drawn at %v, want %v", c.column, g.name, k, got, v)
				}
			}
		}
	}
}

func TestPointsAndTheirLineLieWhereTheRowsLie(t *testing.T) {
	t.Parallel()
	all := gauges()
	level := func(g gauge) (float64, bool) { return g.depth*g.depth - 3*g.depth, true }
	lines := strings.Split(strings.TrimSpace(gaugesFile(all)), "\n")
	for i := range lines {
		if lines[i] += ",level"; i > 0 {
			v, _ := level(all[i-1])
			lines[i] = strings.TrimSuffix(lines[i], "level") + fmt.Sprint(v)
		}
	}
	_, p, table := seated(t, "gauges", strings.Replace(gaugesBook, "{name: flow, type: decimal}", "{name: flow, type: decimal}, {name: level, type: decimal}", 1),
		strings.Join(lines, "\n")+"\n")
	for _, c := range []struct{ x, y string }{{"depth", "flow"}, {"flow", "depth"}, {"level", "depth"}} {
		p.visit(fmt.Sprintf("/tables/%d?view=relations&column=%s&across=%s", table, c.x, c.y))
		p.sees(c.x+" against "+c.y, "rows have a number in both")
		value := map[string]func(gauge) (float64, bool){"depth": depth, "flow": flow, "level": level}
		points := marks(p, "circle")
		n, at := 0, map[string]mark{}
		for _, m := range points {
			name, _, _ := strings.Cut(m.Title, ":")
			at[name] = m
		}
		var xs, ys []float64
		for i, g := range all {
			x, _ := value[c.x](g)
			y, _ := value[c.y](g)
			m, drawn := at[fmt.Sprintf("row %d", i+1)]
			absent := g.absent && (c.x == "flow" || c.y == "flow")
			if drawn == absent {
				t.Errorf("row %d is drawn: %v", i+1, drawn)
			}
			if absent {
				continue
			}
			n++
			xs, ys = append(xs, x), append(ys, y)
			if !close(m.X, x, 0.15) || !close(m.Y, y, 0.25) {
				t.Errorf("row %d lies at %v, %v, want %v, %v", i+1, m.X, m.Y, x, y)
			}
		}
		if len(points) != n {
			t.Errorf("%d points, want %d", len(points), n)
		}
		meanX, meanY, xy, xx := mean(xs), mean(ys), 0.0, 0.0
		for i := range xs {
			xy += (xs[i] - meanX) * (ys[i] - meanY)
			xx += (xs[i] - meanX) * (xs[i] - meanX)
		}
		says := fmt.Sprintf("where %s is one more, %s is", c.x, c.y)
		p.sees(says)
		var told float64
		_, rest, _ := strings.Cut(p.page(), says+" ")
		if _, err := fmt.Sscan(strings.ReplaceAll(rest, "−", "-"), &told); err != nil || !close(told, xy/xx, 1e-5*max(1, math.Abs(xy/xx))) {
			t.Errorf("the slope is told as %v (%v), want %v", told, err, xy/xx)
		}
	}
}

func TestWhereValuesMissIsDrawnAndCounted(t *testing.T) {
	t.Parallel()
	const rows = 360
	lacks := map[string]func(i int) bool{
		"flow":   func(i int) bool { return i%20 == 7 || i > 340 && i%2 == 0 },
		"depth":  func(i int) bool { return i < 30 },
		"remark": func(i int) bool { return i%3 != 0 || i < 30 },
	}
	names := []string{"depth", "flow", "remark"}
	var b strings.Builder
	b.WriteString("id,depth,flow,remark\n")
	complete := 0
	both := map[[2]string]int{}
	for i := range rows {
		fmt.Fprintf(&b, "G%03d", i)
		whole := true
		for _, name := range names {
			if lacks[name](i) {
				b.WriteString(",")
				whole = false
			} else {
				b.WriteString(",1")
			}
			for _, other := range names {
				if lacks[name](i) && lacks[other](i) {
					both[[2]string{name, other}]++
				}
			}
		}
		b.WriteString("\n")
		if whole {
			complete++
		}
	}
	_, p, table := seated(t, "gauges", "dataset: gauges\ncolumns: [{name: id}]\n", b.String())
	p.visit(fmt.Sprintf("/tables/%d?view=missing", table))
	p.sees("3 of 4 columns lack values", fmt.Sprintf("%d of 360 rows are complete", complete), "Between columns")
	p.awaits(`document.querySelectorAll('[aria-label="What misses together"] a').length > 0`)
	told := map[string]int{}
	type strip struct {
		Title string
		High  float64
	}
	for _, d := range evaluate[[]strip](p, `[...document.querySelectorAll("main svg rect")].filter((r) => r.querySelector("title")).map((r) => ({ Title: r.querySelector("title").textContent, High: r.height.baseVal.value }))`) {
		name, rest, _ := strings.Cut(d.Title, ": ")
		var n, first, last int
		if _, err := fmt.Sscanf(rest, "%d of rows %d to %d lack it", &n, &first, &last); err != nil {
			t.Fatalf("%q: %v", d.Title, err)
		}
		want := 0
		for i := first; i <= last; i++ {
			if lacks[name](i - 1) {
				want++
			}
		}
		if share := float64(want) / float64(last-first+1); n != want || !close(d.High, max(15*share, 2), 0.01) {
			t.Errorf("%s is %v tall, want %d rows and %v", d.Title, d.High, want, 15*share)
		}
		told[name] += n
	}
	for _, name := range names {
		if told[name] != both[[2]string{name, name}] {
			t.Errorf("%d gaps of %s are drawn, want %d", told[name], name, both[[2]string{name, name}])
		}
		for _, other := range names {
			want := fmt.Sprintf("%d of %d rows that lack %s lack %s too", both[[2]string{name, other}], both[[2]string{name, name}], name, other)
			shown := evaluate[int](p, fmt.Sprintf(`document.querySelectorAll('[aria-label="What misses together"] a[title=%q]').length`, want))
			if should := both[[2]string{name, other}] > 0 && name != other; (shown == 1) != should {
				t.Errorf("%q is shown %d times", want, shown)
			}
		}
	}
	p.do("opening the list", clicks(`//summary[.="The same as a list"]`))
	p.presses(fmt.Sprintf("%d rows lack flow", told["flow"]))
	p.sees(fmt.Sprintf("of %d rows", told["flow"]))
}

// The map of correlations is as dark as two columns go together, filled where they rise together, hatched where not.
func TestTheMapOfCorrelationsIsAsDarkAsTheyAreStrong(t *testing.T) {
	t.Parallel()
	draws := rand.New(rand.NewPCG(3, 9))
	const rows = 120
	columns := map[string][]float64{}
	names := []string{"base", "with", "against", "apart"}
	var b strings.Builder
	b.WriteString(strings.Join(names, ",") + "\n")
	for range rows {
		base := draws.NormFloat64()
		line := map[string]float64{"base": base, "with": base + draws.NormFloat64()/2, "against": -base + draws.NormFloat64(), "apart": draws.NormFloat64()}
		for i, name := range names {
			v := math.Round(line[name]*1000) / 1000
			columns[name] = append(columns[name], v)
			fmt.Fprintf(&b, "%v%s", v, []string{",", ",", ",", "\n"}[i])
		}
	}
	correlation := func(x, y []float64) float64 {
		mx, my, xy, xx, yy := mean(x), mean(y), 0.0, 0.0, 0.0
		for i := range x {
			xy += (x[i] - mx) * (y[i] - my)
			xx += (x[i] - mx) * (x[i] - mx)
			yy += (y[i] - my) * (y[i] - my)
		}
		return xy / math.Sqrt(xx*yy)
	}
	rank := func(x []float64) []float64 {
		out := make([]float64, len(x))
		for i := range x {
			below, equal := 0, 0
			for j := range x {
				if x[j] < x[i] {
					below++
				} else if x[j] == x[i] {
					equal++
				}
			}
			out[i] = float64(below) + float64(equal+1)/2
		}
		return out
	}
	_, p, table := seated(t, "gauges", "dataset: gauges\ncolumns: [{name: base, type: decimal}]\n", b.String())
	type cell struct {
		Title, Fill string
		Dark        float64
	}
	for address, of := range map[string]func([]float64) []float64{"": func(x []float64) []float64 { return x }, "&kind=ranks": rank} {
		p.visit(fmt.Sprintf("/tables/%d?view=relations%s", table, address))
		p.sees("Correlations of the columns of numbers")
		p.awaits(`document.querySelector('svg[aria-label^="Heat map"]') !== null`)
		found := 0
		for _, c := range evaluate[[]cell](p, `[...document.querySelectorAll('svg[aria-label^="Heat map"] g[transform]')].filter((g) => g.querySelectorAll("rect").length > 1).map((g) => ({ Title: g.querySelector("title").textContent, Fill: g.querySelectorAll("rect")[1].getAttribute("fill"), Dark: Number(g.querySelectorAll("rect")[1].getAttribute("opacity")) }))`) {
			first, rest, _ := strings.Cut(c.Title, " and ")
			second, _, _ := strings.Cut(rest, ":")
			want := correlation(of(columns[first]), of(columns[second]))
			if !close(c.Dark, math.Abs(want), 1e-6) || (c.Fill == "url(#negative)") != (want < 0) {
				t.Errorf("%s%s: %v dark, filled with %s, want %v", c.Title, address, c.Dark, c.Fill, want)
			}
			found++
		}
		if found != 12 {
			t.Errorf("%d pairs are drawn%s, want 12", found, address)
		}
	}
}

// Two deliveries side by side: what changed of the columns, the distributions over each other, what is new and gone.
func TestTwoDeliveriesSideBySide(t *testing.T) {
	t.Parallel()
	before := gauges()
	r, p, first := seated(t, "gauges", gaugesBook, gaugesFile(before))
	after := gauges()
	for i := range after {
		after[i].flow += 20
		if after[i].river == "Coll" {
			after[i].river = "Dunn"
		}
	}
	d, err := r.Steward.Deliver(context.Background(), "gauges", "later.csv", records.SourceNotes{}, strings.NewReader(gaugesFile(after)))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Steward.AuditOf(context.Background(), d.Table.ID, nil); err != nil {
		t.Fatal(err)
	}
	p.visit(fmt.Sprintf("/tables/%d?view=compare", d.Table.ID))
	p.sees("360 rows, and 360 there", "2 of 5 columns changed", `a new value: "Dunn"`, `a value is gone: "Coll"`, "has a mean of")
	if names := evaluate[string](p, `[...document.querySelectorAll('[aria-label="Columns, then and now"] tbody tr')].slice(0, 2).map((r) => r.cells[0].innerText).sort().join(" ")`); names != "flow river" {
		t.Errorf("the columns that changed are %s", names)
	}
	p.presses("river")
	p.sees("river in both", "1 value is new:", "1 value is gone:")
	for _, m := range marks(p, "rect") {
		want := 100.0 / 3
		if strings.HasPrefix(m.Title, "Coll: 0.00") || strings.HasPrefix(m.Title, "Dunn: 0.00") {
			want = 0
		}
		if !close(m.Top-m.Bottom, want, 0.5) {
			t.Errorf("%s is drawn %v tall, want %v", m.Title, m.Top-m.Bottom, want)
		}
	}
	// Each outline encloses as much as the rows in it: all of them, where it is of numbers as where it is of days.
	for name, unit := range map[string]float64{"flow": 1, "depth": 1, "day": 86_400_000} {
		p.do("choosing "+name, clicks(fmt.Sprintf(`//*[@aria-label="Columns, then and now"]//button[.=%q]`, name)))
		p.sees(name + " in both")
		p.awaits(fmt.Sprintf(`document.querySelector('main svg[aria-label^="%s: how its"] path.visx-linepath') !== null`, name))
		areas := evaluate[[]float64](p, fmt.Sprintf(`(() => { const paths = [...document.querySelectorAll("main svg path.visx-linepath")];
			const svg = paths[0].closest("svg"), middle = (e) => { const b = e.getBoundingClientRect(); return [(b.left + b.right) / 2, (b.top + b.bottom) / 2]; };
			const amount = (text) => { const n = Number(text.replaceAll(",", "").replace("−", "-")); return Number.isNaN(n) ? Date.parse(text) : n; };
			const scale = (which, way) => { const at = [...svg.querySelectorAll(which + " .visx-axis-tick text")].map((e) => [amount(e.textContent), middle(e)[way]]).filter((p) => !Number.isNaN(p[0])); const [a, b] = [at[0], at[at.length - 1]]; return Math.abs((b[0] - a[0]) / (b[1] - a[1])); };
			const unit = scale(".visx-axis-left", 1) * scale(".visx-axis-bottom", 0) / %v;
			return paths.map((path) => { const at = path.getAttribute("d").slice(1).split("L").map((q) => q.split(",").map(Number)); let area = 0; for (let i = 0; i < at.length; i++) { const [x, y] = at[i], [u, v] = at[(i + 1) %% at.length]; area += x * v - u * y; } return Math.abs(area) / 2 * unit; }); })()`, unit))
		if len(areas) != 2 {
			t.Errorf("%s: %d outlines", name, len(areas))
		}
		for i, area := range areas {
			if !close(area, 1, 0.04) {
				t.Errorf("%s: outline %d encloses %v of the rows", name, i, area)
			}
		}
	}
	// Against another table, by the address.
	p.visit(fmt.Sprintf("/tables/%d?view=compare&with=%d", first, d.Table.ID))
	p.sees(`a new value: "Coll"`)
}

// A series that merely runs along is cautioned of, sixty columns are drawn without a word on another, and numbers can be had.
func TestSixtyColumnsAreHeldAgainstOneAnother(t *testing.T) {
	t.Parallel()
	draws := rand.New(rand.NewPCG(12, 60))
	var b strings.Builder
	b.WriteString("day")
	for c := range 60 {
		fmt.Fprintf(&b, ",channel_%02d", c)
	}
	b.WriteString("\n")
	for i := range 200 {
		fmt.Fprintf(&b, "2024-%02d-%02d", i/20+1, i%20+1)
		for c := range 60 {
			v := draws.Float64() * 10
			if c < 2 { // two that rise, each with a wave of its own
				v = float64(i)/4 + 3*math.Sin(float64(i)*(1+float64(c)))
			}
			fmt.Fprintf(&b, ",%.3f", v)
		}
		b.WriteString("\n")
	}
	_, p, table := seated(t, "channels", "dataset: channels\ncolumns: [{name: day, type: date}]\n", b.String())
	p.visit(fmt.Sprintf("/tables/%d?view=relations", table))
	p.sees("merely run along day", "apart from the trend")
	if got := evaluate[string](p, `[...document.querySelector('[aria-label="Correlations, ranked"] tbody tr').cells].slice(0, 2).map((c) => c.innerText).join(" ")`); got != "channel_00 channel_01" && got != "channel_01 channel_00" {
		t.Errorf("the strongest pair is %s", got)
	}
	heat := `document.querySelector('svg[aria-label^="Heat map"]')`
	if n := evaluate[int](p, heat+`.querySelectorAll("g[transform] > title").length`); n != 3600 {
		t.Errorf("%d cells are drawn, want 3,600", n)
	}
	if wide := evaluate[float64](p, heat+".getBoundingClientRect().width"); wide > 1240 {
		t.Errorf("the map is %v pixels wide", wide)
	}
	if overlaps := evaluate[int](p, `(() => { const labels = [...`+heat+`.querySelectorAll('text[text-anchor="end"]')].map((e) => e.getBoundingClientRect()); let n = 0; for (let i = 1; i < labels.length; i++) if (labels[i].top < labels[i - 1].bottom - 4) n++; return n; })()`); overlaps != 0 {
		t.Errorf("%d names lie on the one above", overlaps)
	}
	p.do("asking for numbers", clicks(`//label[contains(., "numbers")]/input`))
	p.awaits(`location.search.includes("show=numbers") && ` + heat + `.querySelectorAll("g[transform] > text").length > 3000`)
}

// The bars of a distribution are as tall as there are rows in their bins, and its box stands where the quartiles are.
func TestDistributionsAreDrawnAsTheyAre(t *testing.T) {
	t.Parallel()
	all := gauges()
	var b strings.Builder
	b.WriteString("depth,flow,level\n")
	level := func(i int) float64 { return float64((i*i)%101) + float64(i%7)/10 }
	for i, g := range all {
		fmt.Fprintf(&b, "%v,%v,%.1f\n", g.depth, g.flow, level(i))
	}
	_, p, table := seated(t, "gauges", "dataset: gauges\ncolumns: [{name: depth, type: decimal}, {name: flow, type: decimal}, {name: level, type: decimal}]\n", b.String())
	for name, value := range map[string]func(i int) float64{
		"depth": func(i int) float64 { return all[i].depth },
		"flow":  func(i int) float64 { return all[i].flow },
		"level": level,
	} {
		var values []float64
		for i := range all {
			values = append(values, value(i))
		}
		slices.Sort(values)
		p.visit(fmt.Sprintf("/tables/%d?view=column&column=%s", table, name))
		p.sees("numbers of " + name + " in bins")
		svg := fmt.Sprintf(`document.querySelector('svg[aria-label*="numbers of %s in bins"]')`, name)
		// Each bar names its bounds; its height counts against the tallest.
		type bar struct {
			Title string
			High  float64
		}
		bars := evaluate[[]bar](p, "[..."+svg+`.querySelectorAll("rect")].filter((r) => r.querySelector("title")).map((r) => ({ Title: r.querySelector("title").textContent, High: r.height.baseVal.value }))`)
		counts, most, tallest := make([]float64, len(bars)), 0.0, 0.0
		for i, one := range bars {
			var from, to, rows float64
			if _, err := fmt.Sscanf(one.Title, "%f to %f: %f", &from, &to, &rows); err != nil {
				t.Fatalf("%q: %v", one.Title, err)
			}
			for _, v := range values {
				if v >= from && v < to {
					counts[i]++
				}
			}
			most, tallest = max(most, counts[i]), max(tallest, one.High)
		}
		if sum(counts) != float64(len(values)) {
			t.Errorf("%s: the bins hold %v of %d numbers", name, sum(counts), len(values))
		}
		for i, one := range bars {
			if !close(one.High, counts[i]/most*tallest, 1.01) {
				t.Errorf("%s: the bar %s is %v tall, want %v", name, one.Title, one.High, counts[i]/most*tallest)
			}
		}
		// The box, by the scale that the first and the last bar give.
		first, last := bars[0].Title, bars[len(bars)-1].Title
		var low, high, skip float64
		_, _ = fmt.Sscanf(first, "%f to %f", &low, &skip)
		_, _ = fmt.Sscanf(last, "%f to %f", &skip, &high)
		at := evaluate[[]float64](p, `(() => { const svg = `+svg+`; const bars = [...svg.querySelectorAll("rect")].filter((r) => r.querySelector("title")); const box = [...svg.querySelectorAll("rect")].find((r) => !r.querySelector("title")); const g = box.parentElement;
			const x0 = bars[0].x.baseVal.value, step = bars[1].x.baseVal.value - x0, x1 = x0 + step * bars.length;
			const lines = [...g.querySelectorAll("line")].map((l) => l.x1.baseVal.value);
			return [x0, x1, box.x.baseVal.value, box.x.baseVal.value + box.width.baseVal.value, Math.min(...lines), lines[lines.length - 1], Math.max(...lines)]; })()`)
		scale := func(pixel float64) float64 { return low + (pixel-at[0])/(at[1]-at[0])*(high-low) }
		q1, median, q3 := quantile(values, 0.25), quantile(values, 0.5), quantile(values, 0.75)
		inside := func(v float64) bool { return v >= q1-1.5*(q3-q1) && v <= q3+1.5*(q3-q1) }
		whiskers := []float64{}
		for _, v := range values {
			if inside(v) {
				whiskers = append(whiskers, v)
			}
		}
		within := (high - low) / 200
		for what, pair := range map[string][2]float64{"first quartile": {scale(at[2]), q1}, "third quartile": {scale(at[3]), q3},
			"lower whisker": {scale(at[4]), whiskers[0]}, "median": {scale(at[5]), median}, "upper whisker": {scale(at[6]), whiskers[len(whiskers)-1]}} {
			if !close(pair[0], pair[1], within) {
				t.Errorf("%s: the %s is drawn at %v, want %v", name, what, pair[0], pair[1])
			}
		}
	}
}

// The line of scores stands where the scores are, after one, two and three deliveries.
func TestTheLineOfScoresIsDrawnAsItIs(t *testing.T) {
	t.Parallel()
	book := "dataset: crews\ncolumns: [{name: crew, required: true}, {name: river}]\npass_mark: 80\n"
	r, p, _ := seated(t, "crews", book, "crew,river\nred,Alder\nblue,Alder\n")
	scores := []float64{100}
	for n, file := range []string{"", "crew,river\nred,Alder\n,Alder\n,Cray\nblue,Cray\n", "crew,river\nred,Alder\n,Alder\nblue,Bram\nred,Coll\n"} {
		if n > 0 {
			d, err := r.Steward.Deliver(context.Background(), "crews", fmt.Sprintf("crews_%d.csv", n), records.SourceNotes{}, strings.NewReader(file))
			if err != nil {
				t.Fatal(err)
			}
			if _, err := r.Steward.AuditOf(context.Background(), d.Table.ID, nil); err != nil {
				t.Fatal(err)
			}
			scores = append(scores, 100-100*float64(strings.Count(file, "\n,"))/4)
		}
		p.visit("/datasets/crews")
		p.sees("Score of the table")
		p.awaits(fmt.Sprintf(`document.querySelectorAll('svg[aria-label="Score of each audit over time"] circle').length === %d`, len(scores)))
		drawn := evaluate[[]float64](p, `(() => { const svg = document.querySelector('svg[aria-label="Score of each audit over time"]');
			const ticks = [...svg.querySelectorAll('text[text-anchor="end"]')].filter((e) => /^\d+$/.test(e.textContent)).map((e) => [Number(e.textContent), e.y.baseVal[0].value - 4]);
			const [a, b] = [ticks[0], ticks[ticks.length - 1]];
			return [...svg.querySelectorAll("circle")].map((c) => a[0] + (c.cy.baseVal.value - a[1]) * (b[0] - a[0]) / (b[1] - a[1])); })()`)
		for i, want := range scores {
			if !close(drawn[i], want, 0.5) {
				t.Errorf("after %d deliveries score %d is drawn at %v, want %v", n+1, i, drawn[i], want)
			}
		}
	}
}
