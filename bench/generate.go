package main

import (
	"bufio"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"time"
)

// rules ask what the bar of the full audit asks: types, missing values, numbers, one key,
// equal rows, one code list, one condition on two columns.
const rules = `dataset: bench
columns:
  - {name: id, required: true}
  - {name: station, required: true}
  - {name: parameter, type: code, codes: parameters, required: true}
  - {name: value, type: decimal, from: 0, to: 1000}
  - {name: limit, type: decimal}
  - {name: sampled, type: date, required: true}
  - {name: received, type: date, required: true}
  - {name: easting, type: integer}
  - {name: northing, type: integer}
  - {name: batch}
  - {name: crew}
  - {name: remark}
keys:
  - {id: one_row, columns: [id]}
equal_rows: {severity: minor}
code_lists:
  parameters: [PH, NO3, PO4, DO, COND]
rules:
  - {id: in_order, condition: received >= sampled}
measures: [value]
pass_mark: 0
`

// strict asks more: 20 rules on values, 5 conditions, 2 keys, 3 code lists.
const strict = `dataset: bench
columns:
  - {name: id, required: true, pattern: "R-[0-9]+", longest: 12}
  - {name: station, type: code, codes: stations, required: true}
  - {name: parameter, type: code, codes: parameters, required: true}
  - {name: value, type: decimal, required: true, from: 0, to: 1000}
  - {name: limit, type: decimal, required: true, from: 0, to: 1000}
  - {name: sampled, type: date, required: true, from: 2015-01-01}
  - {name: received, type: date, required: true, from: 2015-01-01}
  - {name: easting, type: integer, from: 400000, to: 499999}
  - {name: northing, type: integer, from: 200000, to: 299999}
  - {name: batch, shortest: 5}
  - {name: crew, type: code, codes: crews}
  - {name: remark, longest: 40}
keys:
  - {id: one_row, columns: [id]}
  - {id: one_place, columns: [easting, northing, value, limit]}
code_lists:
  parameters: [PH, NO3, PO4, DO, COND]
  crews: [red, blue, green]
  stations: [STATIONS]
rules:
  - {id: in_order, condition: received >= sampled}
  - {id: soon, condition: received <= sampled + INTERVAL '30' DAY}
  - {id: ph, when: parameter = 'PH', condition: value BETWEEN 0 AND 900}
  - {id: below, condition: value <= limit * 1000 OR remark IS NOT NULL}
  - {id: crewed, condition: "crew IN ('red', 'blue', 'green') OR batch LIKE 'B%'"}
measures: [value]
pass_mark: 0
`

// strictBook lists the stations, of which there are 600.
func strictBook() string {
	stations := make([]string, 600)
	for i := range stations {
		stations[i] = fmt.Sprintf("AV-%03d", i)
	}
	return strings.Replace(strict, "STATIONS", strings.Join(stations, ", "), 1)
}

// generate writes results of a river survey: an identifier, codes, numbers of few and of
// many different values, dates, and a remark that is mostly missing.
func generate(path string, rows int) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriterSize(f, 1<<20)
	r := rand.New(rand.NewPCG(41, 42))
	parameters, crews := []string{"PH", "NO3", "PO4", "DO", "COND"}, []string{"red", "blue", "green"}
	remarks := []string{"", "", "", "bottle half full", "filtered twice"}
	first := time.Date(2015, 1, 1, 0, 0, 0, 0, time.UTC)
	days := make([]string, 3010)
	for i := range days {
		days[i] = first.AddDate(0, 0, i).Format(time.DateOnly)
	}
	line := []byte("id,station,parameter,value,limit,sampled,received,easting,northing,batch,crew,remark\n")
	padded := func(n, digits int) {
		text := strconv.Itoa(n)
		for range digits - len(text) {
			line = append(line, '0')
		}
		line = append(line, text...)
	}
	for i := range rows {
		if _, err := w.Write(line); err != nil {
			return err
		}
		line = append(line[:0], "R-"...)
		padded(i, 9)
		line = append(line, ",AV-"...)
		padded(r.IntN(600), 3)
		line = append(append(append(line, ','), parameters[r.IntN(5)]...), ',')
		line = append(strconv.AppendFloat(line, r.Float64()*900, 'f', 3, 64), ',')
		line = append(strconv.AppendFloat(line, r.Float64()*900, 'f', 1, 64), ',')
		sampled := r.IntN(3000)
		line = append(append(line, days[sampled]...), ',')
		line = append(append(line, days[sampled+r.IntN(9)]...), ',')
		line = append(strconv.AppendInt(line, int64(400000+r.IntN(99999)), 10), ',')
		line = append(strconv.AppendInt(line, int64(200000+r.IntN(99999)), 10), ",B"...)
		padded(i/500%10000, 4)
		line = append(append(append(line, ','), crews[r.IntN(3)]...), ',')
		line = append(append(line, remarks[r.IntN(5)]...), '\n')
	}
	_, err = w.Write(line)
	return errors.Join(err, w.Flush(), f.Close())
}
