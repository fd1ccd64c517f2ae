package main

import (
	"bufio"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// What is asked of profiles, in times as fast as encoding/csv that reuses its record and merely reads the table: the geometric
// mean over kinds of columns, over mixes, and over tables drawn at random, and the least of any.
const (
	kindMean   = 1.0
	mixMean    = 1.0
	randomMean = 0.8
	leastTimes = 0.3
)

// dataKind is a kind of column, or a mix of several; a cell of it is made of a row's number.
type dataKind struct {
	name    string
	columns int
	cell    func(r *rand.Rand, row, column int) string
}

// in makes a kind of six columns that hold the same.
func in(name string, cell func(r *rand.Rand, row int) string) dataKind {
	return dataKind{name, 6, func(r *rand.Rand, row, _ int) string { return cell(r, row) }}
}

func decimal(r *rand.Rand, scale float64, places int) string {
	return strconv.FormatFloat(r.Float64()*scale, 'f', places, 64)
}

// dataKinds are those that are measured, invented and the same each time.
var dataKinds = []dataKind{
	in("codes", func(r *rand.Rand, _ int) string { return "AV-" + strconv.Itoa(100+r.IntN(60)) }),
	in("booleans", func(r *rand.Rand, _ int) string { return []string{"true", "false"}[r.IntN(2)] }),
	in("small whole numbers", func(r *rand.Rand, _ int) string { return strconv.Itoa(r.IntN(1000)) }),
	in("large whole numbers", func(r *rand.Rand, _ int) string { return strconv.Itoa(r.IntN(1e9)) }),
	in("decimals of two places", func(r *rand.Rand, _ int) string { return decimal(r, 1000, 2) }),
	in("decimals of six places", func(r *rand.Rand, _ int) string { return decimal(r, 100, 6) }),
	in("numbers below zero", func(r *rand.Rand, _ int) string { return "-" + decimal(r, 500, 3) }),
	in("scientific notation", func(r *rand.Rand, _ int) string { return strconv.FormatFloat(r.NormFloat64()*1e6, 'e', 6, 64) }),
	in("numbers of 17 digits", func(r *rand.Rand, _ int) string { return strconv.FormatFloat(r.Float64(), 'f', 17, 64) }),
	in("decimal commas", func(r *rand.Rand, _ int) string { return `"` + strings.Replace(decimal(r, 1000, 2), ".", ",", 1) + `"` }),
	in("60 % empty decimals", func(r *rand.Rand, _ int) string {
		if r.IntN(10) < 6 {
			return ""
		}
		return decimal(r, 1000, 2)
	}),
	in("ISO dates", func(r *rand.Rand, _ int) string {
		return time.Unix(int64(r.IntN(12_000))*86_400, 0).UTC().Format("2006-01-02")
	}),
	in("dates with the day first", func(r *rand.Rand, _ int) string {
		return time.Unix(int64(r.IntN(12_000))*86_400, 0).UTC().Format("02/01/2006")
	}),
	in("times that ascend", func(_ *rand.Rand, row int) string {
		return time.Unix(1_700_000_000+int64(row), 0).UTC().Format("2006-01-02 15:04:05")
	}),
	in("times of any day", func(r *rand.Rand, _ int) string {
		return time.Unix(int64(r.IntN(1<<30)), 0).UTC().Format("2006-01-02T15:04:05")
	}),
	in("UUIDs", func(r *rand.Rand, _ int) string {
		a, b := r.Uint64(), r.Uint64()
		return fmt.Sprintf("%08x-%04x-4%03x-a%03x-%012x", a>>32, a>>16&0xffff, a&0xfff, b>>52, b&(1<<48-1))
	}),
	in("identifiers that ascend", func(_ *rand.Rand, row int) string { return fmt.Sprintf("R-%09d", row) }),
	in("short words", func(r *rand.Rand, _ int) string { return words[r.IntN(len(words))] }),
	in("quoted sentences", func(r *rand.Rand, _ int) string { return `"` + sentence(r, 8) + `, then ` + sentence(r, 3) + `"` }),
	in("sentences", func(r *rand.Rand, _ int) string { return sentence(r, 10) }),
	in("words beyond ASCII", func(r *rand.Rand, _ int) string {
		return []string{"Mühle", "Brücke", "Äsche", "Wehr", "Straße", "Öhrde"}[r.IntN(6)] + " " + strconv.Itoa(r.IntN(1e6))
	}),
	in("e-mail addresses", func(r *rand.Rand, _ int) string {
		return words[r.IntN(len(words))] + strconv.Itoa(r.IntN(1e6)) + "@alder-vale.example"
	}),
	in("hexadecimal digests", func(r *rand.Rand, _ int) string { return fmt.Sprintf("%016x%016x", r.Uint64(), r.Uint64()) }),
	in("addresses of machines", func(r *rand.Rand, _ int) string {
		return fmt.Sprintf("10.%d.%d.%d", r.IntN(256), r.IntN(256), r.IntN(256))
	}),
}

// wideKinds are tables of many columns; each has a bar of its own.
var wideKinds = []struct {
	dataKind
	least  float64 // times as fast as the standard library merely reads it
	memory float64 // in MiB
}{
	{dataKind{"a logger's 40 channels", 40, func(r *rand.Rand, row, column int) string {
		if column == 0 {
			return time.Unix(1_700_000_000+int64(row)*60, 0).UTC().Format("2006-01-02 15:04:05")
		}
		return strconv.FormatFloat(20+5*r.NormFloat64(), 'f', 2, 64)
	}}, leastTimes, 512},
	{dataKind{"300 columns", 300, manyColumns}, 0.3, 512},
	{dataKind{"2,000 columns", 2000, manyColumns}, 0.2, 1024},
}

func manyColumns(r *rand.Rand, _, column int) string {
	switch column % 3 {
	case 0:
		return decimal(r, 1000, 3)
	case 1:
		return "AV" + strconv.Itoa(r.IntN(160))
	}
	return strconv.Itoa(r.IntN(10_000_000))
}

var words = strings.Fields("weir ford mill lock pond ridge sluice tarn bend gauge bridge outfall spring marsh heron otter alder willow reed gravel")

func sentence(r *rand.Rand, n int) string {
	some := make([]string, n)
	for i := range some {
		some[i] = words[r.IntN(len(words))]
	}
	return strings.Join(some, " ") + " " + strconv.Itoa(r.IntN(10_000))
}

// ofKinds measures a profile of each kind of column against the standard library that merely reads it.
func (b *bench) ofKinds(megas int) error {
	var all ratios
	if err := b.each(dataKinds, megas, func(i int, path string) error {
		read, profiled, err := b.profiling(path, 3)
		if err == nil {
			all.add("profile of "+dataKinds[i].name, read, profiled)
		}
		return err
	}); err != nil {
		return err
	}
	all.tell(fmt.Sprintf("geometric mean of %d kinds of %d MB", len(dataKinds), megas), kindMean, leastTimes)
	var wide []dataKind
	for _, k := range wideKinds {
		wide = append(wide, k.dataKind)
	}
	return b.each(wide, megas, func(i int, path string) error {
		read, profiled, err := b.profiling(path, 3)
		if err != nil {
			return err
		}
		k := &wideKinds[i]
		bar("profile of "+k.name, read.took.Seconds()/profiled.took.Seconds(), "times as fast", k.least, true)
		bar("memory of it", float64(profiled.memory)/(1<<20), "MiB", k.memory, false)
		return nil
	})
}

// each writes tables, two beside each other, and measures them one after the other once nothing else runs.
func (b *bench) each(kinds []dataKind, megas int, measure func(i int, path string) error) error {
	const beside = 2
	for first := 0; first < len(kinds); first += beside {
		var paths [beside]string
		var failed [beside]error
		var wait sync.WaitGroup
		some := kinds[first:min(first+beside, len(kinds))]
		for i, k := range some {
			paths[i] = filepath.Join(b.directory, fmt.Sprintf("kind-%d.csv", i))
			wait.Go(func() { failed[i] = generateKind(paths[i], k, megas<<20) })
		}
		wait.Wait()
		if err := errors.Join(failed[:]...); err != nil {
			return err
		}
		for i := range some {
			if err := errors.Join(measure(first+i, paths[i]), os.Remove(paths[i])); err != nil {
				return err
			}
		}
	}
	return nil
}

// profiling measures a profile of a table, and the standard library that merely reads it.
func (b *bench) profiling(path string, rounds int) (read, profiled measured, err error) {
	err = (&bench{rounds: min(b.rounds, rounds)}).inTurn([]measuring{
		{&read, func() (measured, error) { return readWithStandardLibrary(path, true) }},
		{&profiled, func() (measured, error) { return sift(path, "", 2) }},
	})
	return read, profiled, err
}

func generateKind(path string, k dataKind, bytes int) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	out, r := bufio.NewWriterSize(f, 1<<20), rand.New(rand.NewPCG(9, uint64(len(k.name))))
	for row, written := -1, 0; written < bytes; row++ {
		for c := range k.columns {
			cell := "c" + strconv.Itoa(c)
			if row >= 0 {
				cell = k.cell(r, row, c)
			}
			if c > 0 {
				_ = out.WriteByte(',')
			}
			_, _ = out.WriteString(cell)
			written += len(cell) + 1
		}
		_ = out.WriteByte('\n')
	}
	return errors.Join(out.Flush(), f.Close())
}
