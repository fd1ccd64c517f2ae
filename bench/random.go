package main

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"
)

// randomTables is how many tables are drawn.
const randomTables = 20

// atRandom measures profiles of tables that nobody tuned for: kinds, how many different values there are, gaps, widths and quoting are
// drawn anew each time, unless a seed is given.
func (b *bench) atRandom(megas int, seed uint64) error {
	if seed == 0 {
		seed = rand.Uint64()
	}
	fmt.Printf("tables drawn at random by the seed %d\n", seed)
	draw := rand.New(rand.NewPCG(seed, 20))
	var drawn []dataKind
	for i := range randomTables {
		drawn = append(drawn, drawTable(draw, fmt.Sprintf("table %d", i+1)))
	}
	var all ratios
	if err := b.each(drawn, megas, func(i int, path string) error {
		read, profiled, err := b.profiling(path, 2)
		if err == nil {
			all.add(drawn[i].name, read, profiled)
		}
		return err
	}); err != nil {
		return err
	}
	all.tell(fmt.Sprintf("geometric mean of %d tables drawn at random", randomTables), randomMean, 0)
	return nil
}

type cellOf = func(r *rand.Rand, row int) string

func drawTable(draw *rand.Rand, name string) dataKind {
	columns := make([]cellOf, 2+draw.IntN([]int{6, 20, 60}[draw.IntN(3)]))
	told := map[string]int{}
	for c := range columns {
		kind, cell := drawColumn(draw)
		told[kind]++
		if draw.IntN(3) == 0 {
			cell = mostly(1+draw.IntN(90), cell)
		}
		if draw.IntN(6) == 0 || kind == "quoted" {
			cell = quotedCell(cell)
		}
		columns[c] = cell
	}
	return dataKind{fmt.Sprintf("%s, %d columns", name, len(columns)), len(columns),
		func(r *rand.Rand, row, column int) string { return columns[column](r, row) }}
}

// drawColumn draws a kind of cell, and how many different ones there are.
func drawColumn(draw *rand.Rand) (kind string, cell cellOf) {
	distinct := []int{2, 12, 300, 5000, 80_000, 2_000_000, 1 << 40}[draw.IntN(7)]
	places, width := draw.IntN(9), 1+draw.IntN(14)
	number := func(r *rand.Rand) int64 { return r.Int64N(int64(distinct)) }
	switch draw.IntN(10) {
	case 0:
		return "whole", func(r *rand.Rand, _ int) string { return strconv.FormatInt(number(r), 10) }
	case 1:
		return "decimal", func(r *rand.Rand, _ int) string {
			return strconv.FormatFloat(float64(number(r))/float64(distinct)*1000-100, 'f', places, 64)
		}
	case 2:
		return "scientific", func(r *rand.Rand, _ int) string {
			return strconv.FormatFloat(float64(number(r))*1e-7, 'e', places, 64)
		}
	case 3:
		layout := []string{"2006-01-02", "02.01.2006", "2006-01-02 15:04:05", "2006-01-02T15:04:05Z", "01/02/2006 15:04", "20060102"}[draw.IntN(6)]
		return "time", func(r *rand.Rand, _ int) string {
			return time.Unix(1_000_000_000+number(r)%700_000_000, 0).UTC().Format(layout)
		}
	case 4:
		prefix := strings.Repeat("X", draw.IntN(20)) + "-"
		return "identifier", func(r *rand.Rand, row int) string { return prefix + fmt.Sprintf("%0*d", width, row%distinct) }
	case 5:
		return "words", func(r *rand.Rand, _ int) string {
			n := number(r)
			text := ""
			for range width {
				text += words[n%int64(len(words))] + " "
				n = n/3 + 7
			}
			return strings.TrimSpace(text)
		}
	case 6:
		return "beyond ASCII", func(r *rand.Rand, _ int) string {
			return surnames[number(r)%int64(len(surnames))] + strconv.FormatInt(number(r), 36)
		}
	case 7:
		return "hexadecimal", func(r *rand.Rand, _ int) string {
			return fmt.Sprintf("%0*x", 4+2*width, uint64(number(r))*0x9E3779B97F4A7C15)
		}
	case 8:
		return "quoted", func(r *rand.Rand, _ int) string {
			return strconv.FormatInt(number(r), 10) + `, "so", ` + words[r.IntN(len(words))]
		}
	}
	return "mixed", func(r *rand.Rand, row int) string { // numbers with a few texts among them
		if r.IntN(200) == 0 {
			return "<" + strconv.Itoa(width)
		}
		return strconv.FormatInt(number(r), 10)
	}
}
