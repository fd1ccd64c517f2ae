// Command bench measures, in one run, how fast and with how much memory a table is
// audited, loaded and asked by PostgreSQL, and paged through, on data it generates
// itself. It prints one line per bar: what was measured, the bar, and whether it was
// met. It is run by make bench:
//
//	go run ./bench [-quick] [-rows N] [-large] [-rounds N] [-only THING]
package main

import (
	"bufio"
	"context"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"proudsieve/client"
)

const program = "bin/proudsieve"

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}

func run(ctx context.Context) error {
	rows := flag.Int("rows", 5_000_000, "rows of the table")
	large := flag.Bool("large", false, "also a table of ten times the rows, which takes its time and 5 GB of disk")
	rounds := flag.Int("rounds", 3, "how often each is measured; the best counts")
	skipDatabase := flag.Bool("without-postgresql", false, "leave the comparison with PostgreSQL out")
	only := flag.String("only", "", "only the lines on one thing: "+strings.Join(slices.Sorted(maps.Keys(single)), ", "))
	megas := flag.Int("kind-size", 60, "megabytes of each kind of column, mix and table drawn at random")
	seed := flag.Uint64("seed", 0, "of the tables drawn at random; one that is drawn itself where it is left out")
	quick := flag.Bool("quick", false, "small tables, once each, and nothing compared with PostgreSQL: what fits into two minutes")
	flag.Parse()
	if *quick {
		*rows, *rounds, *megas, *skipDatabase = min(*rows, 300_000), 1, min(*megas, 6), true
	}
	if *rows < 1000 {
		return fmt.Errorf("%d rows are too few to measure; give at least 1000", *rows)
	}
	directory, err := os.MkdirTemp("", "proudsieve-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(directory)
	b := &bench{directory: directory, rows: *rows, rounds: *rounds, book: filepath.Join(directory, "rules.yaml"), megas: *megas, seed: *seed,
		quick: *quick, database: !*skipDatabase, large: *large}
	if err := os.WriteFile(b.book, []byte(rules), 0o600); err != nil {
		return err
	}
	if *only != "" {
		one, known := single[*only]
		if !known {
			return fmt.Errorf("nothing is known of %q; say one of %s", *only, strings.Join(slices.Sorted(maps.Keys(single)), ", "))
		}
		return one(b, ctx)
	}
	for _, name := range inOrder {
		if err := single[name](b, ctx); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// inOrder are the things that are measured.
var inOrder = []string{"audit", "kinds", "mixes", "random", "formats", "start", "fixes", "merges", "memory", "questions", "service", "database"}

// single measures one thing.
var single = map[string]func(*bench, context.Context) error{
	"audit": func(b *bench, _ context.Context) error {
		return errors.Join(b.auditing(), b.judging(), b.tallying(), b.growing(b.large))
	},
	"kinds":     func(b *bench, _ context.Context) error { return b.ofKinds(b.megas) },
	"mixes":     func(b *bench, _ context.Context) error { return b.ofMixes(b.megas) },
	"random":    func(b *bench, _ context.Context) error { return b.atRandom(b.megas, b.seed) },
	"formats":   func(b *bench, ctx context.Context) error { return b.ofFormats(ctx) },
	"start":     func(b *bench, _ context.Context) error { return b.starting() },
	"fixes":     func(b *bench, ctx context.Context) error { return b.mending(ctx) },
	"merges":    func(b *bench, ctx context.Context) error { return b.merging(ctx, b.database) },
	"memory":    func(b *bench, ctx context.Context) error { return b.fitting(ctx) },
	"questions": func(b *bench, ctx context.Context) error { return b.inTheService(ctx) },
	"service": func(b *bench, ctx context.Context) error {
		if err := b.made(); err != nil {
			return err
		}
		return b.serving(ctx, b.table, func(c *client.Client, table int64) error {
			return errors.Join(b.paging(ctx, c, table), b.browsing(ctx, c, table))
		})
	},
	// shards is not among the others: it is for tables that are larger than what those have.
	"shards": func(b *bench, ctx context.Context) error { return b.onThree(ctx) },
	"database": func(b *bench, ctx context.Context) error {
		if !b.database {
			return nil
		}
		if err := b.made(); err != nil {
			return err
		}
		if b.audit.took == 0 { // where nothing else is measured
			var err error
			if b.audit, err = sift(b.table, b.book, 2); err != nil {
				return err
			}
		}
		return b.asking(ctx)
	},
}

// made makes the table that most is measured on.
func (b *bench) made() error {
	if b.table != "" {
		return nil
	}
	b.table = filepath.Join(b.directory, "table.csv")
	return generate(b.table, b.rows)
}

type bench struct {
	directory, book string
	rows, rounds    int
	megas           int
	seed            uint64
	quick, large    bool
	database        bool // compare with PostgreSQL
	table           string
	audit           measured // with two workers
	uploaded        time.Duration
}

// auditing compares the full audit with the standard library merely reading the file.
func (b *bench) auditing() error {
	if err := b.made(); err != nil {
		return err
	}
	info, err := os.Stat(b.table)
	if err != nil {
		return err
	}
	fmt.Printf("%d rows, 12 columns, %d MB; the best of %d rounds\n", b.rows, info.Size()/1_000_000, b.rounds)
	var plain, reusing, one measured
	if err := b.inTurn([]measuring{
		{&plain, func() (measured, error) { return readWithStandardLibrary(b.table, false) }},
		{&b.audit, func() (measured, error) { return sift(b.table, b.book, 2) }},
		{&reusing, func() (measured, error) { return readWithStandardLibrary(b.table, true) }},
		{&one, func() (measured, error) { return sift(b.table, b.book, 1) }},
	}); err != nil {
		return err
	}
	bar("full audit against encoding/csv merely reading the file", plain.took.Seconds()/b.audit.took.Seconds(),
		"times as fast", 2, true)
	bar("peak memory of the full audit", float64(b.audit.memory)/(1<<20), "MiB", 512, false)
	figure("full audit, two workers", b.audit, b.rows)
	figure("full audit, one worker", one, b.rows)
	fmt.Printf("%-58s %8.2f s and %.2f s\n", "encoding/csv, and reusing its record", plain.took.Seconds(),
		reusing.took.Seconds())
	bar("full audit against encoding/csv that reuses its record", reusing.took.Seconds()/b.audit.took.Seconds(), "times as fast", 2, true)
	return nil
}

// measuring is something measured, and where its best round goes.
type measuring struct {
	into    *measured
	measure func() (measured, error)
}

// inTurn measures several things in turn, so that a machine that slows down does so for all of them.
func (b *bench) inTurn(all []measuring) error {
	for round := range b.rounds {
		for _, m := range all {
			got, err := m.measure()
			if err != nil {
				return err
			}
			if round == 0 || got.took < m.into.took {
				m.into.took = got.took
			}
			m.into.memory = max(m.into.memory, got.memory)
		}
	}
	return nil
}

// judging compares a strict rulebook with the bare profile.
func (b *bench) judging() error {
	book := filepath.Join(b.directory, "strict.yaml")
	if err := os.WriteFile(book, []byte(strictBook()), 0o600); err != nil {
		return err
	}
	var bare, judged measured
	if err := b.inTurn([]measuring{
		{&bare, func() (measured, error) { return sift(b.table, "", 2) }},
		{&judged, func() (measured, error) { return sift(b.table, book, 2) }},
	}); err != nil {
		return err
	}
	bar("20 value rules, 5 conditions, 2 keys and 3 code lists against the bare profile",
		judged.took.Seconds()/bare.took.Seconds(), "times as long", 1.6, false)
	bar("peak memory of it", float64(judged.memory)/(1<<20), "MiB", 512, false)
	figure("bare profile, two workers", bare, b.rows)
	figure("judged strictly, two workers", judged, b.rows)
	return nil
}

// tallying compares tallies, each with the reading that decides the types of columns before it, with the bare profile.
func (b *bench) tallying() error {
	var bare, monthly, crossed measured
	if err := b.inTurn([]measuring{
		{&bare, func() (measured, error) { return sift(b.table, "", 2) }},
		{&monthly, func() (measured, error) {
			return command("tally", b.table, "--workers", "2", "--json", "--by", "DATE_TRUNC('month', sampled)", "--measure", "median value", "--measure", "sum value")
		}},
		{&crossed, func() (measured, error) {
			return command("tally", b.table, "--workers", "2", "--json", "--by", "station", "--by", "parameter", "--measure", "mean value")
		}},
	}); err != nil {
		return err
	}
	bar("tally by month, with median and sum, against the bare profile", monthly.took.Seconds()/bare.took.Seconds(), "times as long", 3, false)
	bar("tally of two columns, with a mean", crossed.took.Seconds()/bare.took.Seconds(), "times as long", 3, false)
	bar("peak memory of them", float64(max(monthly.memory, crossed.memory))/(1<<20), "MiB", 512, false)
	return nil
}

// growing audits tables of other sizes: time per row and memory must not grow with them.
func (b *bench) growing(large bool) error {
	small := filepath.Join(b.directory, "small.csv")
	if err := generate(small, b.rows/5); err != nil {
		return err
	}
	fifth, err := best(b.rounds, func() (measured, error) { return sift(small, b.book, 2) })
	if err != nil {
		return err
	}
	figure("full audit of a fifth of the rows, two workers", fifth, b.rows/5)
	if !large {
		return nil
	}
	tenfold := filepath.Join(b.directory, "tenfold.csv")
	if err := generate(tenfold, b.rows*10); err != nil {
		return err
	}
	defer os.Remove(tenfold)
	two, err := sift(tenfold, b.book, 2)
	if err != nil {
		return err
	}
	one, err := sift(tenfold, b.book, 1)
	if err != nil {
		return err
	}
	bar("peak memory with ten times the rows", float64(two.memory)/(1<<20), "MiB", 1024, false)
	bar("time per row with ten times the rows", two.took.Seconds()/b.audit.took.Seconds()/10, "times", 1.15, false)
	figure("full audit of ten times the rows, two workers", two, b.rows*10)
	figure("full audit of ten times the rows, one worker", one, b.rows*10)
	return nil
}

func figure(what string, m measured, rows int) {
	fmt.Printf("%-58s %8.2f s, %.0f thousand rows a second, %.0f MiB\n", what, m.took.Seconds(),
		float64(rows)/m.took.Seconds()/1000, float64(m.memory)/(1<<20))
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
func best(rounds int, measure func() (measured, error)) (measured, error) {
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

func readWithStandardLibrary(path string, reuse bool) (measured, error) {
	started := time.Now()
	f, err := os.Open(path)
	if err != nil {
		return measured{}, err
	}
	defer f.Close()
	in := csv.NewReader(bufio.NewReaderSize(f, 1<<20))
	in.ReuseRecord = reuse
	for {
		if _, err := in.Read(); errors.Is(err, io.EOF) {
			return measured{took: time.Since(started)}, nil
		} else if err != nil {
			return measured{}, err
		}
	}
}

func sift(path, book string, workers int) (measured, error) {
	arguments := []string{"sift", path, "--once", "--json", "--workers", strconv.Itoa(workers)}
	if book != "" {
		arguments = append(arguments, "--rules", book)
	}
	return command(arguments...)
}

// command measures a command of the program.
func command(arguments ...string) (measured, error) {
	// What this process had in use at its peak counts as that of those that it starts; its peak is what it has in use from here on.
	debug.FreeOSMemory()
	if err := os.WriteFile("/proc/self/clear_refs", []byte("5"), 0o200); err != nil {
		return measured{}, fmt.Errorf("so that the memory of %s can be measured: %w", arguments[0], err)
	}
	started := time.Now()
	c := exec.Command(program, arguments...)
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
