// Command bench measures, in one run, how fast and with how much memory a table is
// audited, on data it generates itself, and prints one line per bar: what was
// measured, the bar, and whether it was met. It is run by make bench, and takes the
// number of rows as its argument (1,000,000 where there is none).
package main

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"
)

const (
	program     = "bin/proudsieve"
	defaultRows = 1_000_000
	rounds      = 3
)

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
equal_rows: {severity: warn}
code_lists:
  parameters: [PH, NO3, PO4, DO, COND]
rules:
  - {id: in_order, condition: received >= sampled}
measures: [value]
pass_mark: 0
`

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}

func run() error {
	rows := defaultRows
	if len(os.Args) > 1 {
		n, err := strconv.Atoi(os.Args[1])
		if err != nil || n < 1000 {
			return fmt.Errorf("%q is no number of rows; give at least 1000", os.Args[1])
		}
		rows = n
	}
	directory, err := os.MkdirTemp("", "proudsieve-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(directory)
	book := filepath.Join(directory, "rules.yaml")
	if err := os.WriteFile(book, []byte(rules), 0o600); err != nil {
		return err
	}
	large, small := filepath.Join(directory, "large.csv"), filepath.Join(directory, "small.csv")
	if err := errors.Join(generate(large, rows), generate(small, rows/10)); err != nil {
		return err
	}
	info, err := os.Stat(large)
	if err != nil {
		return err
	}
	fmt.Printf("%d rows, 12 columns, %d MB; the best of %d rounds\n", rows, info.Size()/1_000_000, rounds)

	reading, err := best(func() (measured, error) { return readWithStandardLibrary(large) })
	if err != nil {
		return err
	}
	audit, err := best(func() (measured, error) { return sift(large, book, 2) })
	if err != nil {
		return err
	}
	alone, err := best(func() (measured, error) { return sift(large, book, 1) })
	if err != nil {
		return err
	}
	tenth, err := best(func() (measured, error) { return sift(small, book, 2) })
	if err != nil {
		return err
	}
	bar("full audit against encoding/csv merely reading the file", reading.took.Seconds()/audit.took.Seconds(), "times as fast", 2, true)
	bar("full audit, two workers against one", alone.took.Seconds()/audit.took.Seconds(), "times as fast", 1, true)
	bar("peak memory of the full audit", float64(audit.memory)/(1<<20), "MiB", 512, false)
	bar("time per row against a table of a tenth of the rows", audit.took.Seconds()/tenth.took.Seconds()/10, "times", 1.15, false)
	fmt.Printf("%-58s %8.2f s, %.0f thousand rows a second\n", "full audit", audit.took.Seconds(), float64(rows)/audit.took.Seconds()/1000)
	return nil
}

func bar(what string, got float64, unit string, wanted float64, atLeast bool) {
	word, met := "at most", got <= wanted
	if atLeast {
		word, met = "at least", got >= wanted
	}
	verdict := "met"
	if !met {
		verdict = "not met"
	}
	fmt.Printf("%-58s %8.2f %-14s bar: %s %g, %s\n", what, got, unit, word, wanted, verdict)
}

type measured struct {
	took   time.Duration
	memory int64 // peak, in bytes; 0 where it was not looked at
}

// best is the round that took least: what the machine can do when left alone.
func best(measure func() (measured, error)) (measured, error) {
	var least measured
	for i := range rounds {
		m, err := measure()
		if err != nil {
			return least, err
		}
		if i == 0 || m.took < least.took {
			least = m
		}
	}
	return least, nil
}

func generate(path string, rows int) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriterSize(f, 1<<20)
	r := rand.New(rand.NewPCG(41, 42))
	parameters, crews := []string{"PH", "NO3", "PO4", "DO", "COND"}, []string{"red", "blue", "green"}
	fmt.Fprintln(w, "id,station,parameter,value,limit,sampled,received,easting,northing,batch,crew,remark")
	day := time.Date(2015, 1, 1, 0, 0, 0, 0, time.UTC)
	for i := range rows {
		sampled := day.AddDate(0, 0, r.IntN(3000))
		fmt.Fprintf(w, "R-%09d,AV-%03d,%s,%.3f,%.1f,%s,%s,%d,%d,B%04d,%s,%s\n", i, r.IntN(600), parameters[r.IntN(5)], r.Float64()*900, r.Float64()*900,
			sampled.Format(time.DateOnly), sampled.AddDate(0, 0, r.IntN(9)).Format(time.DateOnly), 400000+r.IntN(99999), 200000+r.IntN(99999), i/500%10000, crews[r.IntN(3)],
			[]string{"", "", "", "bottle half full", "filtered twice"}[r.IntN(5)])
	}
	return errors.Join(w.Flush(), f.Close())
}

func readWithStandardLibrary(path string) (measured, error) {
	started := time.Now()
	f, err := os.Open(path)
	if err != nil {
		return measured{}, err
	}
	defer f.Close()
	in := csv.NewReader(bufio.NewReaderSize(f, 1<<20))
	in.ReuseRecord = true
	for {
		if _, err := in.Read(); errors.Is(err, io.EOF) {
			return measured{took: time.Since(started)}, nil
		} else if err != nil {
			return measured{}, err
		}
	}
}

func sift(path, book string, workers int) (measured, error) {
	started := time.Now()
	c := exec.Command(program, "sift", path, "--rules", book, "--json", "--workers", strconv.Itoa(workers))
	c.Stderr = os.Stderr
	if err := c.Run(); err != nil {
		return measured{}, fmt.Errorf("%s: %w", c, err)
	}
	m := measured{took: time.Since(started)}
	if usage, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok {
		m.memory = usage.Maxrss * 1024
	}
	return m, nil
}
