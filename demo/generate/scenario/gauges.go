package scenario

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"time"
)

// The gauge sheets are what people write down who read the levels of the river every day: a line for each station and month,
// with a column for every day. Some stations stand on two sheets, of which one was corrected; on some days the gauge could
// not be read. The levels that come of them stand above one datum, a row for each station and day.

const (
	gaugeSheets = "gauge_sheets"
	gaugeDays   = 30 // June
	twoSheets   = "station on two sheets, which contradict each other"
)

func gaugeDay(day int) time.Time { return time.Date(2024, time.June, 1+day, 0, 0, 0, 0, time.UTC) }

// gauges has a source of chance of its own, so that what was made before it stays as it is.
func (g *generator) gauges() {
	random := rand.New(rand.NewPCG(2024, 1311))
	columns := []string{"station", "read_by", "entered", "zero"}
	var days []string
	for day := range gaugeDays {
		days = append(days, gaugeDay(day).Format("02/01/2006"))
	}
	comma := func(v float64, digits int) string {
		return strings.Replace(fmt.Sprintf("%.*f", digits, v), ".", ",", 1)
	}
	var rows []*row
	for i := range 24 {
		cells := map[string]string{"station": g.places[i*5/2].code, "read_by": []string{"Ansel", "Brae", "Corin"}[i%3],
			"entered": "01/07/2024", "zero": comma(96+2.5*float64(24-i)+float64(random.IntN(90))/100, 2)}
		level := 40 + 60*random.Float64()
		for day, name := range days {
			// A flood that comes on the 11th and runs off, and a little rain now and then.
			flood := 0.0
			if day >= 10 {
				flood = (35 + float64(i)) * math.Exp(-float64(day-10)/5)
			}
			level += 4*random.NormFloat64() - 0.05*(level-60)
			cells[name] = comma(level+flood, 1)
		}
		rows = append(rows, &row{cells: cells})
	}
	// On these days a gauge could not be read.
	unread := map[int][]int{3: {5, 6, 7}, 9: {12, 13, 14, 15}, 14: {12, 13}, 17: {20}, 21: {5, 6, 13}}
	for at, of := range unread {
		for _, day := range of {
			rows[at].cells[days[day]] = ""
			rows[at].plant(noReading(days[day]))
		}
	}
	again := func(at int, entered string, change map[int]float64) {
		copied := rows[at].copy()
		copied.cells["entered"], copied.cells["read_by"] = entered, rows[at].cells["read_by"]
		for day, reading := range change {
			copied.cells[days[day]] = comma(reading, 1)
		}
		for _, defect := range rows[at].defects {
			if copied.cells[strings.TrimPrefix(defect, noReading(""))] == "" {
				copied.plant(defect)
			}
		}
		copied.plant(twoSheets)
		rows = append(rows, copied)
	}
	again(5, "03/07/2024", map[int]float64{8: 71.3, 9: 72.8})
	again(9, "04/07/2024", map[int]float64{14: 88.4}) // read after all, on one of the four days
	again(19, "01/07/2024", map[int]float64{22: 93.5, 23: 92.1})
	g.files["data/gauge_sheets.csv"] = render(slices.Concat(columns, days), rows, ";")
	kinds := []defectRules{{twoSheets, []string{"one_sheet"}}}
	for _, name := range days {
		if slices.ContainsFunc(rows, func(r *row) bool { return slices.Contains(r.defects, noReading(name)) }) {
			kinds = append(kinds, defectRules{noReading(name), []string{name + ".required"}})
		}
	}
	g.record(gaugeSheets, rows, kinds)
	var declared strings.Builder
	for _, name := range days {
		fmt.Fprintf(&declared, "  - {name: %q, title: \"Reading, cm\", type: decimal, required: true, from: -50, to: 400}\n", name)
	}
	g.files["rulebooks/gauge_sheets.yaml"] = []byte(strings.NewReplacer("DAYS\n", declared.String(), "STATIONS", g.stationCodes()).Replace(gaugeSheetsRulebook))
	g.files["rulebooks/levels.yaml"] = []byte(strings.Replace(levelsRulebook, "STATIONS", g.stationCodes(), 1))
	// On two days nothing tells which sheet is right; whoever read the gauge was asked.
	settled := fmt.Sprintf(`      - {key: {station: %[1]s, day: 2024-06-23}, column: reading, to: %[2]q}
      - {key: {station: %[1]s, day: 2024-06-24}, column: reading, to: %[3]q}
`, rows[19].cells["station"], rows[19].cells[days[22]], "92,1")
	g.files["fixes/gauge_sheets_clean.yaml"] = []byte(strings.Replace(gaugeSheetsFixes, "CHOICES\n", settled, 1))
}

func noReading(day string) string { return "gauge not read on " + day }

const gaugeSheetsRulebook = `dataset: gauge_sheets
title: Daily readings of the gauges, a sheet for each station
reading:
  encoding: utf-8
  delimiter: ";"
  decimal_mark: ","
  dates: dd/MM/yyyy
columns:
  - {name: station, type: code, codes: stations, required: true, severity: major}
  - {name: read_by, title: Who read the gauge, required: true}
  - {name: entered, title: When the sheet was typed in, type: date, required: true, from: 2024-07-01}
  - {name: zero, title: "Zero of the gauge above datum, m", type: decimal, required: true, from: 0, to: 900}
DAYS
keys:
  - {id: one_sheet, columns: [station], severity: minor, reason: A station has one sheet a month.}
code_lists:
  stations:
STATIONS
pass_mark: 95
`

const levelsRulebook = `dataset: levels
title: Levels of the river, a row for each station and day
reading:
  dates: yyyy-MM-dd
columns:
  - {name: station, type: code, codes: stations, required: true, severity: major}
  - {name: day, type: date, required: true, from: 2024-06-01, to: 2024-06-30}
  - {name: level, title: "Level above datum, m", type: decimal, required: true, from: 0, to: 1000, reason: Estimates count as missing here; the analysts are told how many there are.}
keys:
  - {id: one_level, columns: [station, day], reason: A station has one level a day.}
code_lists:
  stations:
STATIONS
measures: [level]
pass_mark: 95
`

const gaugeSheetsFixes = `fix_plan: gauge_sheets_clean
dataset: gauge_sheets
makes: levels
title: A level above datum for each station and day
steps:
  - do: columns_to_rows
    heading_dates: dd/MM/yyyy
    names_to: day
    values_to: reading
    reason: A day is a value, not the name of a column.
  - do: keep_one
    columns: [station, day]
    by: entered
    cells: {reading: latest, read_by: latest, entered: latest, zero: only_value}
    choices:
CHOICES
    reason: The sheet that was typed in last was corrected; where both are of one day, whoever read the gauge was asked.
  - do: derive
    into: level
    expression: zero + reading / 100
    reason: Levels of all stations are compared above one datum, in metres.
  - do: drop_columns
    columns: [read_by, entered, zero, reading]
    reason: What the level was worked out of stays in the sheets.
  - do: estimate
    column: level
    method: in_time
    group: [station]
    order: [day]
    decimals: 3
    reason: The level of a river follows from the days around it; a flood that comes and goes between two readings is missed.
`
