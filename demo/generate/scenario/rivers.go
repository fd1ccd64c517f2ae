package scenario

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"

	"proudsieve/demo"
)

// The third source are gauges that write down every hour how much water runs past, and the sums that the water office makes of
// them by month: in thousands, dated with the last day of the month, with a totals line. One gauge spells its station in another
// way, and in one month the office lost a day. And a laboratory delivers its results again, some of them corrected.

var gaugedStations = []struct{ code, written string }{{"AV-003", "AV-003"}, {"AV-007", "av-007 "}, {"AV-012", "AV-012"}}

var gaugedMonths = []time.Time{month(4), month(5), month(6)}

func month(m time.Month) time.Time { return time.Date(2024, m, 1, 0, 0, 0, 0, time.UTC) }

// rivers has a source of chance of its own, so that what was made before it stays as it is.
func (g *generator) rivers() {
	random := rand.New(rand.NewPCG(2024, 1411))
	var hours, sums bytes.Buffer
	hours.WriteString("gauge,station,read_at,level,flow\n")
	sums.WriteString("station,month_end,flow\n")
	var planted demo.PlantedTogether
	byMonth := make([][]int, len(gaugedMonths)) // the sum of each station
	lost := 0
	for i, s := range gaugedStations {
		level := 60 + 20*float64(i)
		for m, first := range gaugedMonths {
			sum := 0
			for at := first; at.Month() == first.Month(); at = at.Add(time.Hour) {
				level += 0.4*random.NormFloat64() - 0.01*(level-60-20*float64(i))
				flow := int(math.Round(900 + 45*level + 8*float64(at.Hour()) + 60*random.Float64()))
				fmt.Fprintf(&hours, "G%d,%s,%s,%.1f,%d\n", i+1, s.written, at.Format("2006-01-02 15:04"), level, flow)
				if sum += flow; m == 1 && i == 2 && at.Day() == 17 {
					lost += flow
				}
				if s.written != s.code {
					planted.Spelled++
				}
			}
			if m == 1 && i == 2 {
				sum -= lost
			}
			byMonth[m] = append(byMonth[m], sum)
		}
	}
	thousands := func(n int) string { return fmt.Sprintf("%d.%03d", n/1000, n%1000) }
	for m, first := range gaugedMonths {
		total := 0
		for i, s := range gaugedStations {
			fmt.Fprintf(&sums, "%s,%s,%s\n", s.code, first.AddDate(0, 1, -1).Format(time.DateOnly), thousands(byMonth[m][i]))
			total += byMonth[m][i]
		}
		fmt.Fprintf(&sums, "ALL,%s,%s\n", first.AddDate(0, 1, -1).Format(time.DateOnly), thousands(total))
	}
	planted.Apart = demo.PlantedTotal{Station: gaugedStations[2].code, Month: gaugedMonths[1].Format(time.DateOnly), By: strconv.Itoa(lost)}
	planted.TotalsLines = len(gaugedMonths)
	g.files["data/river_gauges.csv"], g.files["data/monthly_flows.csv"] = hours.Bytes(), sums.Bytes()
	g.revised(&planted)
	for name, text := range map[string]string{"rulebooks/river_gauges.yaml": riverGaugesRulebook, "rulebooks/monthly_flows.yaml": monthlyFlowsRulebook,
		"fixes/river_gauges_clean.yaml": riverGaugesFixes, "merges/river_days.yaml": riverDaysMerge} {
		g.files[name] = []byte(text)
	}
	raw, err := json.MarshalIndent(planted, "", " ")
	if err != nil {
		panic(err)
	}
	g.files["planted_together.json"] = append(raw, '\n')
}

// revised is the delivery in which a laboratory corrected values, took some samples back and added others.
func (g *generator) revised(planted *demo.PlantedTogether) {
	lines := strings.Split(strings.TrimSuffix(string(g.files["data/highgarth_results.csv"]), "\n"), "\n")
	times := map[string]int{}
	for _, line := range lines {
		times[strings.SplitN(line, ",", 2)[0]]++
	}
	out := []string{lines[0]}
	for at, line := range lines[1:] {
		cells := strings.Split(line, ",")
		value, err := strconv.ParseFloat(cells[4], 64)
		plain := len(cells) == 9 && times[cells[0]] == 1 && err == nil && cells[8] == ""
		switch {
		case plain && at%120 == 7:
			cells[4], cells[8] = fmt.Sprintf("%.2f", value*1.1+0.01), "corrected"
			planted.Corrected++
			line = strings.Join(cells, ",")
		case plain && at%500 == 33:
			planted.TakenBack++
			continue
		}
		out = append(out, line)
	}
	for i := range 10 {
		out = append(out, fmt.Sprintf("HG-%05d,HIGHGARTH,AV-0%02d,NO3,%d.5,mg/L,2024-12-%02d,2024-12-%02d,", 9001+i, 11+i, 10+i, 2+i, 5+i))
		planted.Added++
	}
	g.files["data/highgarth_revised.csv"] = []byte(strings.Join(out, "\n") + "\n")
}

const riverGaugesRulebook = `dataset: river_gauges
title: What runs past the gauges, hour by hour
columns:
  - {name: gauge, required: true}
  - {name: station, title: As the gauge has it, required: true}
  - {name: read_at, title: Beginning of the hour, type: datetime, required: true, from: "2024-01-01 00:00"}
  - {name: level, title: "Level, cm", type: decimal, required: true, from: 0, to: 400}
  - {name: flow, title: "Water that ran past in the hour, m3", type: integer, required: true, from: 0, to: 100000}
keys:
  - {id: one_hour, columns: [gauge, read_at], reason: A gauge reads once an hour.}
measures: [flow]
pass_mark: 95
`

const monthlyFlowsRulebook = `dataset: monthly_flows
title: Sums of the water office by month, in thousands of m3
columns:
  - {name: station, required: true}
  - {name: month_end, title: Last day of the month, type: date, required: true}
  - {name: flow, title: "Water that ran past, thousands of m3", type: decimal, required: true, from: 0}
keys:
  - {id: one_sum, columns: [station, month_end], reason: A station has one sum a month.}
measures: [flow]
pass_mark: 95
`

const riverGaugesFixes = `fix_plan: river_gauges_clean
dataset: river_gauges
title: The hours of the gauges as they were written down
steps:
  - {do: standard_form, reason: The analysts read standard form.}
`

const riverDaysMerge = `merge: river_days
title: What ran past each station, day by day
stack: [river_gauges]
grain: {river_gauges: "station, day of read_at: mean of level, sum of flow"}
join:
  - with: stations
    match: {"UPPER(TRIM(station))": station}
    take: [name, river, region]
    unmatched: refuse
    repeated: refuse
`
