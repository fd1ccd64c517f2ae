// Package scenario makes the files of the Alder Vale river survey.
package scenario

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"proudsieve/demo"
)

// Generate returns every file of the demo by its path. The seed is fixed: it is
// the same at every call.
func Generate() map[string][]byte {
	g := &generator{random: rand.New(rand.NewPCG(2024, 611)), files: map[string][]byte{}}
	g.stations()
	g.visits()
	g.laboratory(highgarth)
	g.laboratory(millrace)
	g.merge()
	g.returns()
	g.gauges()
	g.rivers()
	planted, err := json.MarshalIndent(g.planted, "", " ")
	if err != nil {
		panic(err)
	}
	g.files["planted.json"] = append(planted, '\n')
	return g.files
}

// WriteFile writes one file of Generate below a directory.
func WriteFile(directory, name string, content []byte) error {
	path := filepath.Join(directory, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, content, 0o644)
}

type generator struct {
	random  *rand.Rand
	files   map[string][]byte
	planted []demo.Planted
	places  []place
}

// place is one sampling station.
type place struct{ code, name, river, region string }

// row is one record with the defects planted in it.
type row struct {
	cells   map[string]string
	defects []string
}

func (r *row) plant(defect string) { r.defects = append(r.defects, defect) }

func (r *row) copy() *row {
	cells := map[string]string{}
	for k, v := range r.cells {
		cells[k] = v
	}
	return &row{cells: cells}
}

// defectRules says which rules find each kind of defect.
type defectRules struct {
	defect string
	rules  []string
}

// record notes which rows carry which defect, now that their numbers are fixed.
func (g *generator) record(dataset string, rows []*row, kinds []defectRules) {
	for _, kind := range kinds {
		p := demo.Planted{Dataset: dataset, Defect: kind.defect, Rules: kind.rules}
		for i, r := range rows {
			if slices.Contains(r.defects, kind.defect) {
				p.Rows = append(p.Rows, uint32(i+1))
			}
		}
		p.Count = len(p.Rows)
		g.planted = append(g.planted, p)
	}
}

// render writes the rows as delimited text; no cell of the demo needs quoting but those with the delimiter.
func render(columns []string, rows []*row, delimiter string) []byte {
	var out bytes.Buffer
	line := func(cells []string) {
		for i, c := range cells {
			if strings.ContainsAny(c, delimiter+`"`) {
				cells[i] = `"` + strings.ReplaceAll(c, `"`, `""`) + `"`
			}
		}
		out.WriteString(strings.Join(cells, delimiter) + "\n")
	}
	line(slices.Clone(columns))
	for _, r := range rows {
		cells := make([]string, len(columns))
		for i, c := range columns {
			cells[i] = r.cells[c]
		}
		line(cells)
	}
	return out.Bytes()
}

// pick takes n rows that carry no defect yet and for which fits holds.
func (g *generator) pick(rows []*row, n int, fits func(*row) bool) []*row {
	var picked []*row
	for _, at := range g.random.Perm(len(rows)) {
		if len(picked) == n {
			break
		}
		if r := rows[at]; len(r.defects) == 0 && (fits == nil || fits(r)) {
			picked = append(picked, r)
		}
	}
	if len(picked) < n {
		panic("demo: not enough rows to plant in")
	}
	return picked
}

// spoil plants a defect in n rows by changing each.
func (g *generator) spoil(rows []*row, defect string, n int, fits func(*row) bool, change func(i int, r *row)) {
	for i, r := range g.pick(rows, n, fits) {
		change(i, r)
		r.plant(defect)
	}
}

// repeat puts a changed copy of n rows somewhere behind each of them.
func (g *generator) repeat(rows []*row, defect string, n int, change func(i int, copied *row)) []*row {
	for i, original := range g.pick(rows, n, nil) {
		copied := original.copy()
		change(i, copied)
		copied.plant(defect)
		original.defects = append(original.defects, "") // so that nothing else is planted in it
		at := slices.Index(rows, original) + 1
		at += g.random.IntN(len(rows) - at + 1)
		rows = slices.Insert(rows, at, copied)
	}
	return rows
}

func (g *generator) day(from string, days int) time.Time {
	start, err := time.Parse(time.DateOnly, from)
	if err != nil {
		panic(err)
	}
	return start.AddDate(0, 0, g.random.IntN(days))
}

var (
	rivers    = []string{"Alder", "Brenlow Water", "Corrow", "Tansel Beck", "Ouvel Brook"}
	firstPart = []string{"Fenno", "Asmel", "Mirlo", "Heruv", "Stolm", "Briag", "Hazur", "Ottib", "Redul", "Wethu"}
	lastPart  = []string{"holt Bridge", "vick Weir", "coum Ford", "lun Sluice", "tarn Lock", "mar Outfall"}
)

func (g *generator) stations() {
	columns := []string{"station", "name", "river", "region", "easting", "northing", "opened"}
	var rows []*row
	regions := []string{"UV", "MV", "LV"}
	for i := range 60 {
		p := place{fmt.Sprintf("AV-%03d", i+1), firstPart[i%10] + lastPart[i/10], rivers[i%5], regions[i/20]}
		g.places = append(g.places, p)
		rows = append(rows, &row{cells: map[string]string{"station": p.code, "name": p.name, "river": p.river,
			"region":   p.region,
			"easting":  fmt.Sprint(412000 + i*731 + g.random.IntN(300)),
			"northing": fmt.Sprint(287000 + i*417 + g.random.IntN(300)),
			"opened":   g.day("1986-03-01", 9000).Format(time.DateOnly)}})
	}
	g.spoil(rows, "region in another spelling", 3, nil, func(i int, r *row) {
		r.cells["region"] = map[string][]string{"UV": {"Upper Vale", "uv"}, "MV": {"Middle Vale", " MV"},
			"LV": {"Lower Vale", "LV "}}[r.cells["region"]][i%2]
	})
	g.spoil(rows, "no date of opening", 2, nil, func(_ int, r *row) { r.cells["opened"] = "" })
	g.files["data/stations.csv"] = render(columns, rows, ",")
	g.record("stations", rows, []defectRules{{"region in another spelling", []string{"region.spelling"}},
		{"no date of opening", []string{"opened.required"}}})
	g.files["rulebooks/stations.yaml"] = []byte(stationsRulebook)
	g.files["fixes/stations_clean.yaml"] = []byte(stationsFixes)
}

func (g *generator) visits() {
	columns := []string{"visit", "station", "visited", "crew", "water_temperature", "flow", "water"}
	var rows []*row
	for i := range 1500 - 8 {
		rows = append(rows, &row{cells: map[string]string{"visit": fmt.Sprintf("V%05d", i+1),
			"station":           g.places[g.random.IntN(60)].code,
			"visited":           g.day("2024-01-02", 360).Format(time.DateOnly),
			"crew":              []string{"red", "blue", "green"}[g.random.IntN(3)],
			"water_temperature": fmt.Sprintf("%.1f", 3+g.random.Float64()*16),
			"flow":              fmt.Sprintf("%.3f", 0.05+g.random.Float64()*4),
			"water":             []string{"clear", "cloudy", "brown", "clear"}[g.random.IntN(4)]}})
	}
	g.spoil(rows, "station that is in no register", 9, nil,
		func(i int, r *row) { r.cells["station"] = fmt.Sprintf("AV-%03d", 90+i%4) })
	g.spoil(rows, "crew in another spelling", 21, nil, func(i int, r *row) {
		r.cells["crew"] = []string{strings.ToUpper(r.cells["crew"]), r.cells["crew"] + " ", "  " + r.cells["crew"]}[i%3]
	})
	g.spoil(rows, "no water temperature", 34, nil,
		func(i int, r *row) { r.cells["water_temperature"] = []string{"", "n/a"}[i%2] })
	g.spoil(rows, "temperature with a slipped decimal point", 5, nil, func(_ int, r *row) {
		r.cells["water_temperature"] = strings.Replace(fmt.Sprintf("%.1f", 60+g.random.Float64()*100), ".", "", 1)
	})
	g.spoil(rows, "day and month exchanged", 7, func(r *row) bool { return r.cells["visited"][8:] > "12" },
		func(_ int, r *row) {
			d := r.cells["visited"]
			r.cells["visited"] = d[:5] + d[8:] + d[4:7]
		})
	rows = g.repeat(rows, "repeated visit number", 8, func(i int, c *row) {
		c.cells["flow"] = fmt.Sprintf("%.3f", 5+float64(i))
	})
	g.files["data/visits.csv"] = render(columns, rows, ",")
	g.record("visits", rows, []defectRules{{"station that is in no register", []string{"station.codes"}},
		{"crew in another spelling", []string{"crew.spelling"}},
		{"no water temperature", []string{"water_temperature.required"}}, {"temperature with a slipped decimal point",
			[]string{"water_temperature.range"}},
		{"day and month exchanged", []string{"visited.type"}}, {"repeated visit number", []string{"one_visit"}}})
	g.files["rulebooks/visits.yaml"] = []byte(strings.Replace(visitsRulebook, "STATIONS", g.stationCodes(), 1))
	g.files["fixes/visits_clean.yaml"] = []byte(visitsFixes)
}

func (g *generator) stationCodes() string {
	codes := make([]string, len(g.places))
	for i, p := range g.places {
		codes[i] = fmt.Sprintf("    - {code: %s, label: %s}", p.code, p.name)
	}
	return strings.Join(codes, "\n")
}

// laboratory says how a laboratory delivers.
type laboratory struct {
	dataset, code, prefix, delimiter, dates string
	comma                                   bool // as decimal mark
	columns                                 []string
	spellings                               []string
}

var highgarth = laboratory{dataset: "highgarth_results", code: "HIGHGARTH", prefix: "HG", delimiter: ",",
	dates: time.DateOnly,
	columns: []string{"sample_id", "laboratory", "station", "parameter", "value", "unit", "sampled", "received",
		"remark"},
	spellings: []string{"Highgarth Lab", "highgarth", "HIGHGARTH ", "Highgarth  laboratory"}}

var millrace = laboratory{dataset: "millrace_results", code: "MILLRACE", prefix: "MR", delimiter: ";",
	dates: "02/01/2006", comma: true,
	columns: []string{"station", "sample_id", "sampled", "received", "parameter", "value", "unit", "laboratory",
		"batch", "remark"},
	spellings: []string{"Millrace Lab", "MILL RACE", " MILLRACE", "millrace"}}

// parameter is something that is measured, with its usual range.
type parameter struct {
	code, unit string
	low, high  float64
	digits     int
	spellings  []string
}

var parameters = []parameter{
	{"PH", "pH", 6.4, 8.6, 2, []string{"pH", "p.H.", "PH "}},
	{"NO3", "mg/L", 0.4, 48, 2, []string{"Nitrate", "no3", " NO3"}},
	{"PO4", "mg/L", 0.02, 2.4, 3, []string{"Phosphate", "po4"}},
	{"DO", "mg/L", 5.5, 13.5, 2, []string{"Dissolved oxygen", "D.O.", "DO  "}},
	{"COND", "µS/cm", 120, 900, 0, []string{"Conductivity", "cond"}},
}

func (l laboratory) number(v float64, digits int) string {
	s := fmt.Sprintf("%.*f", digits, v)
	if l.comma {
		s = strings.Replace(s, ".", ",", 1)
	}
	return s
}

const (
	conflicting = "repeated sample id with another value"
	equalRow    = "exact duplicate row"
	labSpelling = "laboratory in another spelling"
	parSpelling = "parameter in another spelling or with stray spaces"
	noStation   = "station that is in no register"
	noValue     = "missing value"
	disguised   = "missing value in disguise"
	textNumber  = "text among numbers"
	slippedPH   = "pH with a slipped decimal point"
	beforeTaken = "received before it was sampled"
	totalsLine  = "totals line"
)

func (g *generator) laboratory(l laboratory) {
	const conflicts, equals = 12, 9
	rows := make([]*row, 0, 3000)
	thousandths := int64(0) // the sum for the totals line
	for i := range 3000 - conflicts - equals - 1 {
		p := parameters[g.random.IntN(len(parameters))]
		sampled := g.day("2024-01-02", 350)
		value := p.low + g.random.Float64()*(p.high-p.low)
		thousandths += int64(value * 1000)
		rows = append(rows, &row{cells: map[string]string{"sample_id": fmt.Sprintf("%s-%05d", l.prefix, i+1),
			"laboratory": l.code,
			"station":    g.places[g.random.IntN(60)].code, "parameter": p.code, "value": l.number(value, p.digits),
			"unit":    p.unit,
			"sampled": sampled.Format(l.dates), "received": sampled.AddDate(0, 0, 1+g.random.IntN(6)).Format(l.dates),
			"batch": fmt.Sprintf("B%02d", 1+i/120), "remark": g.remark()}})
	}
	g.spoilResults(l, rows)
	rows = g.repeat(rows, conflicting, conflicts, func(i int, c *row) {
		c.cells["value"] = l.number(6.51+float64(i)*0.11, 2)
		received, err := time.Parse(l.dates, c.cells["received"])
		if err != nil {
			panic(err)
		}
		c.cells["received"] = received.AddDate(0, 0, 9).Format(l.dates)
	})
	rows = g.repeat(rows, equalRow, equals, func(int, *row) {})
	rows = append(rows, &row{cells: map[string]string{"sample_id": "TOTAL", "value": l.number(float64(thousandths)/1000,
		2)}, defects: []string{totalsLine}})

	content := render(l.columns, rows, l.delimiter)
	if l.comma {
		encoded, err := charmap.Windows1252.NewEncoder().Bytes(content)
		if err != nil {
			panic(err)
		}
		content = encoded
	}
	g.files["data/"+l.dataset+".csv"] = content
	g.record(l.dataset, rows, []defectRules{
		{conflicting, []string{"one_result"}}, {equalRow, []string{"one_result", "equal_rows"}},
		{labSpelling, []string{"laboratory.spelling"}},
		{parSpelling, []string{"parameter.spelling"}}, {noStation, []string{"station.codes"}},
		{noValue, []string{"value.required"}},
		{disguised, []string{"value.required"}}, {textNumber, []string{"value.type"}},
		{slippedPH, []string{"ph_plausible"}},
		{beforeTaken, []string{"received_after_sampled"}},
		{totalsLine, []string{"sample_id.pattern", "value.range", "laboratory.required", "station.required",
			"parameter.required", "unit.required", "sampled.required", "received.required"}},
	})
	g.resultsRulebook(l)
	g.resultsFixes(l, rows)
}

func (g *generator) spoilResults(l laboratory, rows []*row) {
	g.spoil(rows, labSpelling, 64, nil, func(i int, r *row) { r.cells["laboratory"] = l.spellings[i%len(l.spellings)] })
	g.spoil(rows, parSpelling, 87, nil, func(i int, r *row) {
		for _, p := range parameters {
			if p.code == r.cells["parameter"] {
				r.cells["parameter"] = p.spellings[i%len(p.spellings)]
				return
			}
		}
	})
	g.spoil(rows, noStation, 8, nil, func(i int, r *row) { r.cells["station"] = fmt.Sprintf("AV-%03d", 71+i%3) })
	g.spoil(rows, noValue, 14, nil, func(_ int, r *row) { r.cells["value"] = "" })
	g.spoil(rows, disguised, 11, nil, func(i int, r *row) { r.cells["value"] = []string{"n/a", "-999"}[i%2] })
	g.spoil(rows, textNumber, 13, nil, func(i int, r *row) {
		r.cells["value"] = []string{"<" + l.number(0.05, 2), "trace", "see remark"}[i%3]
	})
	g.spoil(rows, slippedPH, 6, func(r *row) bool { return r.cells["parameter"] == "PH" && r.cells["value"][0] > '0' },
		func(_ int, r *row) {
			mark := "."
			if l.comma {
				mark = ","
			}
			v := r.cells["value"] // 7.42 becomes 74.2
			r.cells["value"] = v[:1] + v[2:3] + mark + v[3:]
		})
	g.spoil(rows, beforeTaken, 15, nil, func(i int, r *row) {
		sampled, err := time.Parse(l.dates, r.cells["sampled"])
		if err != nil {
			panic(err)
		}
		r.cells["received"] = sampled.AddDate(0, 0, -1-i%3).Format(l.dates)
	})
}

func (g *generator) remark() string {
	switch g.random.IntN(60) {
	case 0:
		return "bottle half full"
	case 1:
		return "colour brown, filtered twice"
	case 2:
		return "café bag beside the sample"
	}
	return ""
}

func (g *generator) resultsRulebook(l laboratory) {
	reading := "  encoding: utf-8\n  delimiter: \",\"\n  dates: yyyy-MM-dd\n"
	columns := ""
	if l.comma {
		reading = "  encoding: windows-1252\n  delimiter: \";\"\n  decimal_mark: \",\"\n  dates: dd/MM/yyyy\n"
		columns = "  - {name: batch, title: Batch of the laboratory}\n"
	}
	text := strings.NewReplacer("DATASET", l.dataset, "READING\n", reading, "PREFIX", l.prefix, "EXTRA\n", columns,
		"STATIONS", g.stationCodes(),
		"LABORATORIES", laboratoryCodes(), "PARAMETERS", parameterCodes(), "TITLE",
		l.code[:1]+strings.ToLower(l.code[1:])).Replace(resultsRulebook)
	g.files["rulebooks/"+l.dataset+".yaml"] = []byte(text)
}

func laboratoryCodes() string {
	return "    - {code: HIGHGARTH, label: Highgarth laboratory, spellings: [Highgarth Lab, Highgarth laboratory]}\n" +
		"    - {code: MILLRACE, label: Millrace laboratory, spellings: [Millrace Lab, MILL RACE]}"
}

func parameterCodes() string {
	labels := map[string]string{"PH": "Acidity", "NO3": "Nitrate", "PO4": "Phosphate", "DO": "Dissolved oxygen",
		"COND": "Conductivity"}
	spellings := map[string]string{"PH": "p.H.", "NO3": "Nitrate", "PO4": "Phosphate", "DO": "Dissolved oxygen, D.O.",
		"COND": "Conductivity"}
	lines := make([]string, len(parameters))
	for i, p := range parameters {
		lines[i] = fmt.Sprintf("    - {code: %s, label: %s, spellings: [%s]}", p.code, labels[p.code],
			spellings[p.code])
	}
	return strings.Join(lines, "\n")
}

func (g *generator) resultsFixes(l laboratory, rows []*row) {
	var cells strings.Builder
	mark := "."
	if l.comma {
		mark = ","
	}
	for _, r := range rows {
		if slices.Contains(r.defects, slippedPH) {
			digits := strings.Replace(r.cells["value"], mark, "", 1)
			fmt.Fprintf(&cells,
				"  - do: set_cell\n    key: {sample_id: %s}\n    column: value\n    to: \"%s%s%s\"\n    reason: The laboratory confirmed a slipped decimal point.\n",
				r.cells["sample_id"], digits[:1], mark, digits[1:])
		}
	}
	below := "<0" + mark + "05"
	text := strings.NewReplacer("NAME", strings.TrimSuffix(l.dataset, "_results"), "DATASET", l.dataset, "BELOW", below,
		"CELLS\n", cells.String()).Replace(resultsFixes)
	g.files["fixes/"+strings.TrimSuffix(l.dataset, "_results")+"_clean.yaml"] = []byte(text)
}

func (g *generator) merge() {
	g.files["merges/survey_results.yaml"] = []byte(surveyMerge)
	g.files["rulebooks/survey_results.yaml"] = []byte(strings.NewReplacer("LABORATORIES", laboratoryCodes(),
		"PARAMETERS", parameterCodes()).Replace(surveyRulebook))
}
