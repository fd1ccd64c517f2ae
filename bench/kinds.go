package main

import (
	"bufio"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// kindMean is the geometric mean, over the kinds of columns, of how many times as fast a profile is as encoding/csv that
// reuses its record, that is asked of it.
const kindMean = 0.6

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
	{"a logger's 40 channels", 40, func(r *rand.Rand, row, column int) string {
		if column == 0 {
			return time.Unix(1_700_000_000+int64(row)*60, 0).UTC().Format("2006-01-02 15:04:05")
		}
		return strconv.FormatFloat(20+5*r.NormFloat64(), 'f', 2, 64)
	}},
	{"300 columns", 300, func(r *rand.Rand, row, column int) string {
		switch column % 3 {
		case 0:
			return decimal(r, 1000, 3)
		case 1:
			return "AV" + strconv.Itoa(r.IntN(160))
		}
		return strconv.Itoa(r.IntN(10_000_000))
	}},
	{"a mix of 12", 12, func(r *rand.Rand, row, column int) string {
		switch column {
		case 0:
			return fmt.Sprintf("S%08d", row)
		case 1:
			return time.Unix(1_600_000_000+int64(row)*30, 0).UTC().Format("2006-01-02 15:04:05")
		case 2, 3:
			return words[r.IntN(len(words))]
		case 4, 5, 6:
			return decimal(r, 500, 2)
		case 7:
			return strconv.Itoa(r.IntN(100_000))
		case 8:
			return time.Unix(int64(r.IntN(9_000))*86_400, 0).UTC().Format("2006-01-02")
		case 9:
			if r.IntN(3) > 0 {
				return ""
			}
			return `"` + sentence(r, 5) + `, seen"`
		}
		return sentence(r, 2)
	}},
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
	product, most := 0.0, 0.0
	for _, k := range dataKinds {
		path := filepath.Join(b.directory, "kind.csv")
		if err := generateKind(path, k, megas<<20); err != nil {
			return err
		}
		var read, profiled measured
		if err := (&bench{rounds: min(b.rounds, 3)}).inTurn([]measuring{
			{&read, func() (measured, error) { return readWithStandardLibrary(path, true) }},
			{&profiled, func() (measured, error) { return sift(path, "", 2) }},
		}); err != nil {
			return err
		}
		times, memory := read.took.Seconds()/profiled.took.Seconds(), float64(profiled.memory)/(1<<20)
		product += math.Log(times)
		most = max(most, memory)
		fmt.Printf("%-58s %8.2f times as fast, %5.0f MiB\n", "profile of "+k.name, times, memory)
	}
	bar(fmt.Sprintf("geometric mean of %d kinds of %d MB", len(dataKinds), megas), math.Exp(product/float64(len(dataKinds))),
		"times as fast", kindMean, true)
	bar("memory of the kind that takes most", most, "MiB", 512, false)
	return nil
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
