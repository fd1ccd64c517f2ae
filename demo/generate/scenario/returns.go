package scenario

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"proudsieve/demo"
)

// returnsRows is how many holders of licences sent their returns.
const returnsRows = 640

var returnsColumns = []string{"licence", "holder", "river", "use", "contact", "office", "signed", "due", "sent", "days", "per_day", "volume",
	"power", "summer", "winter", "year", "meter", "level", "depth", "licensed", "fee", "old_fee", "checked_on", "inspected",
	"visited", "pressure", "peak", "telemetry", "loss", "01/06/2024", "02/06/2024", "03/06/2024", "unit", "remark", "note", "district"}

// returned makes the rows of those returns, with nothing wrong but what is wrong with whole columns.
func returned(r *rand.Rand, uses []string) []*row {
	rivers := []string{"Fenn", "Asmel", "Mirlo", "Heruv", "Stolm", "Briag"}
	power, loss := rand.New(rand.NewPCG(2025, 715)), rand.New(rand.NewPCG(2025, 716))
	var rows []*row
	for i := range returnsRows {
		days, perDay := 100+r.IntN(200), 2+38*r.Float64()
		perDay = math.Round(perDay*10) / 10
		summer, winter := 10+r.IntN(900), 10+r.IntN(700)
		fee := 40 + r.IntN(4000)
		signed := time.Date(2022, 1, 3, 0, 0, 0, 0, time.UTC).AddDate(0, 0, i*690/returnsRows+r.IntN(3))
		due := signed.AddDate(0, 1, 0)
		depth := 2.0 + 6*r.Float64()
		inspected := signed.AddDate(0, 2, r.IntN(25)).Format("02/01/2006")
		if i >= returnsRows/2 {
			inspected = signed.AddDate(0, 2, r.IntN(25)).Format("01/02/2006")
		}
		visited := time.Date(2022, time.Month(1+i%23), 1+r.IntN(28), 0, 0, 0, 0, time.UTC)
		if visited.Year() == 2022 && visited.Month() == time.October {
			visited = visited.AddDate(0, 1, 0)
		}
		telemetry := ""
		if i < 400 {
			telemetry = comma(5+r.Float64(), 2)
		}
		use := uses[r.IntN(len(uses))]
		level := map[string]float64{"irrigation": 3, "cooling": 12, "drinking": 6, "fish ponds": 1, "milling": 20}[use]
		rows = append(rows, &row{cells: map[string]string{
			"licence": fmt.Sprintf("L-%04d", i+1), "holder": fmt.Sprintf("holder %d", 1+i*7919%311), "river": rivers[r.IntN(len(rivers))],
			"use": use, "contact": fmt.Sprintf("holder%d@alder-vale.example", 1+i*7919%311), "office": fmt.Sprintf("%05d", 700+r.IntN(40)*211),
			"signed": signed.Format("02.01.2006"), "due": due.Format("02.01.2006"), "sent": due.AddDate(0, 0, r.IntN(20)).Format("02.01.2006"),
			"days": strconv.Itoa(days), "per_day": comma(perDay, 1), "volume": comma(perDay*float64(days), 1), "power": comma(perDay*float64(days)*(0.4+0.1*power.Float64()), 1),
			"summer": strconv.Itoa(summer), "winter": strconv.Itoa(winter), "year": strconv.Itoa(summer + winter),
			"meter": []string{"old", "new", "newer"}[r.IntN(3)], "level": comma(level*(0.9+0.2*r.Float64()), 2), "depth": comma(depth, 1),
			"licensed": strconv.Itoa(600 + r.IntN(90)), "fee": strconv.Itoa(fee), "old_fee": strconv.Itoa(fee),
			"checked_on": strconv.Itoa(44_800 + i/2), "inspected": inspected, "visited": visited.Format("02.01.2006"),
			"pressure": strconv.Itoa(60 + r.IntN(21)), "peak": comma(60+20*r.Float64(), 1), "telemetry": telemetry, "loss": comma(3+40*loss.Float64(), 3), "unit": "m3",
			"01/06/2024": strconv.Itoa(200 + loss.IntN(700)), "02/06/2024": strconv.Itoa(200 + loss.IntN(700)), "03/06/2024": strconv.Itoa(200 + loss.IntN(700)),
			"remark": "", "note": "", "district": "Alder Vale",
		}})
		if r.IntN(4) == 0 {
			rows[i].cells["remark"] = []string{"seal broken", "read from the bank", "estimated by eye"}[r.IntN(3)]
		}
	}
	return rows
}

// comma writes a number with so many places after a decimal comma.
func comma(x float64, places int) string {
	return strings.Replace(strconv.FormatFloat(x, 'f', places, 64), ".", ",", 1)
}

func windows1252(text string) []byte {
	encoded, err := charmap.Windows1252.NewEncoder().String(text)
	if err != nil {
		panic(err)
	}
	return []byte(encoded)
}

// returns writes the returns of those who take water out of the rivers: a dataset that nobody has declared anything
// about. It comes with notes above its header, with semicolons, decimal commas, in Windows-1252, with a line of totals
// at its end, and with one of each thing that looks odd.
func (g *generator) returns() {
	r := rand.New(rand.NewPCG(2024, 715))
	uses := []string{"irrigation", "cooling", "drinking", "fish ponds"}
	// The delivery before has a use that no longer occurs.
	before := returned(rand.New(rand.NewPCG(2023, 715)), append(slices.Clone(uses), "milling"))
	g.files["data/returns_before.csv"] = windows1252(string(render(returnsColumns, before, ";")))
	rows := returned(r, uses)
	var planted []demo.PlantedLead
	plant := func(lead, column string, n int64, change func(at func() *row)) {
		change(func() *row {
			one := g.pickFrom(r, rows)
			one.plant(lead)
			return one
		})
		planted = append(planted, demo.PlantedLead{Lead: lead, Column: column, Rows: n})
	}
	each := func(n int, change func(i int, r *row)) func(at func() *row) {
		return func(at func() *row) {
			for i := range n {
				change(i, at())
			}
		}
	}
	plant("placeholder", "holder", 3, each(3, func(_ int, r *row) { r.cells["holder"] = "not known" }))
	plant("spaces", "use", 4, each(4, func(_ int, r *row) { r.cells["use"] += " " }))
	plant("spellings", "river", 5, each(5, func(i int, r *row) {
		r.cells["river"] = []string{"FENN", "asmel", "MIRLO", "heruv", "Stolm."}[i]
	}))
	plant("several_values", "use", 2, each(2, func(_ int, r *row) { r.cells["use"] = "irrigation / cooling" }))
	plant("neighbour_values", "use", 2, each(2, func(_ int, r *row) { r.cells["use"] = "Briag" }))
	plant("personal", "contact", 0, func(func() *row) {})
	plant("leading_zeros", "office", 0, func(func() *row) {})
	plant("day_numbers", "checked_on", 0, func(func() *row) {})
	plant("empty", "note", 0, func(func() *row) {})
	plant("constant", "district", 0, func(func() *row) {})
	plant("order", "sent", 3, each(3, func(_ int, r *row) {
		due, _ := time.Parse("02.01.2006", r.cells["due"])
		r.cells["sent"] = due.AddDate(0, 0, -5).Format("02.01.2006")
	}))
	plant("years_off", "signed", 1, each(1, func(_ int, r *row) { r.cells["signed"] = "17.05.1922" }))
	plant("arithmetic", "volume", 2, each(2, func(_ int, r *row) { r.cells["volume"] = comma(9000.5, 1) }))
	plant("arithmetic", "year", 2, each(2, func(i int, r *row) { r.cells["year"] = strconv.Itoa(1800 + i) }))
	plant("copy", "old_fee", 4, each(4, func(i int, r *row) { r.cells["old_fee"] = strconv.Itoa(55 + i) }))
	plant("shifted_point", "licensed", 2, each(2, func(i int, r *row) { r.cells["licensed"] = []string{"64", "6610"}[i] }))
	plant("group_outliers", "level", 1, each(1, func(_ int, r *row) { r.cells["use"], r.cells["level"] = "irrigation", "6,90" }))
	plant("units", "depth", 3, each(3, func(i int, r *row) { r.cells["depth"] = []string{"3,5 m", "<2", "4,0 m"}[i] }))
	plant("frequent_value", "days", 100, each(100, func(_ int, r *row) {
		r.cells["days"] = "365"
		perDay, _ := strconv.ParseFloat(strings.Replace(r.cells["per_day"], ",", ".", 1), 64)
		r.cells["volume"], r.cells["power"] = comma(perDay*365, 1), comma(perDay*365*0.45, 1)
	}))
	plant("ratio", "volume", 2, func(func() *row) {
		for planted := 0; planted < 2; {
			one := g.pickFrom(r, rows)
			volume, _ := strconv.ParseFloat(strings.Replace(one.cells["volume"], ",", ".", 1), 64)
			if volume < 3000 || volume > 5000 {
				continue // so that neither number is odd by itself
			}
			one.plant("ratio")
			one.cells["power"] = comma(volume*0.08, 1)
			planted++
		}
	})
	plant("uneven_gaps", "winter", 0, func(func() *row) {
		for i, one := range rows {
			if one.cells["meter"] == "old" && i%3 == 0 && len(one.defects) == 0 {
				one.cells["winter"], one.cells["year"] = "", ""
			}
		}
	})
	plant("uneven_gaps", "year", 0, func(func() *row) {})
	plant("date_orders", "inspected", 0, func(func() *row) {})
	plant("missing_periods", "visited", 0, func(func() *row) {})
	plant("zero", "pressure", 3, each(3, func(_ int, r *row) { r.cells["pressure"] = "0" }))
	plant("outliers", "peak", 1, each(1, func(_ int, r *row) { r.cells["peak"] = "7412000,0" }))
	plant("changes_down", "telemetry", 0, func(func() *row) {})
	plant("nearly_constant", "unit", 2, each(2, func(_ int, r *row) { r.cells["unit"] = "l" }))
	plant("type", "summer", 3, each(3, func(_ int, r *row) { r.cells["summer"], r.cells["year"] = "dry", r.cells["winter"] }))
	plant("total_rows", "holder", 1, each(1, func(_ int, r *row) { r.cells["holder"] = "Total" }))
	plant("key_spellings", "licence", 1, each(1, func(_ int, r *row) { r.cells["licence"] = strings.ToLower(rows[30].cells["licence"]) }))
	plant("last_period", "sent", 0, func(func() *row) {})
	plant("header_repeated", "", 1, func(at func() *row) {
		again := &row{cells: map[string]string{}, defects: []string{"header_repeated"}}
		for _, c := range returnsColumns[:len(returnsColumns)-4] { // whoever put it there did not know of the last ones
			if c != "old_fee" {
				again.cells[c] = c
			}
		}
		rows = slices.Insert(rows, 300, again)
	})
	plant("near_key", "licence", 4, func(at func() *row) {
		// The two rows that are there twice below are the others.
		at().cells["licence"] = rows[10].cells["licence"]
		at().cells["licence"] = rows[20].cells["licence"]
	})
	plant("equal_rows", "", 2, func(at func() *row) {
		for range 2 {
			one := at()
			twice := one.copy()
			twice.plant("equal_rows")
			rows = slices.Insert(rows, slices.Index(rows, one)+30%len(rows), twice)
		}
	})
	// Last, since the mean is that of all rows.
	plant("group_mean", "loss", 12, func(at func() *row) {
		var filled []*row
		for len(filled) < 12 {
			if one := at(); one.cells["meter"] == "old" {
				filled = append(filled, one)
			}
		}
		sum, n := 0.0, 0.0
		for _, one := range rows {
			if x, err := strconv.ParseFloat(strings.Replace(one.cells["loss"], ",", ".", 1), 64); err == nil && one.cells["meter"] == "old" && !slices.Contains(filled, one) {
				sum, n = sum+x, n+1
			}
		}
		for _, one := range filled {
			one.cells["loss"] = comma(sum/n, 3)
		}
	})
	planted = append(planted, demo.PlantedLead{Lead: "dated_columns", Column: "01/06/2024"}, demo.PlantedLead{Lead: "closing_lines"}, demo.PlantedLead{Lead: "codes_gone", Column: "use"})
	total := &row{cells: map[string]string{"licence": "Total"}}
	sum := 0
	for _, one := range rows {
		n, _ := strconv.Atoi(one.cells["fee"])
		sum += n
	}
	total.cells["fee"] = strconv.Itoa(sum)
	text := "Returns of water taken, Alder Vale\nPrepared at Höhe Office, 2024;;\n" + string(render(returnsColumns, append(slices.Clone(rows), total), ";"))
	g.files["data/returns.csv"] = windows1252(text)
	content, err := json.MarshalIndent(planted, "", " ")
	if err != nil {
		panic(err)
	}
	g.files["planted_leads.json"] = append(content, '\n')
}

// pickFrom takes a row that carries no defect yet.
func (g *generator) pickFrom(r *rand.Rand, rows []*row) *row {
	for {
		if one := rows[50+r.IntN(len(rows)-100)]; len(one.defects) == 0 {
			return one
		}
	}
}
