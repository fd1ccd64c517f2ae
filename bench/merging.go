package main

import (
	"bufio"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"
)

const (
	stackedRows = 2_000_000
	joinedRows  = 5_000_000
	millionRows = 1_000_000
	fewPlaces   = 1000
)

// readings is a table of readings at places, each with a number that names one of so many labels.
func readings(path string, rows, first, labels int) error {
	return lines(path, "id,place,label,value,taken,remark", rows, func(out *bufio.Writer, i int) {
		fmt.Fprintf(out, "%d,P%03d,%d,%d.%02d,2024-%02d-%02d,%s\n", first+i, i*7919%fewPlaces, i*104_729%labels, i%911, i%100, 1+i%12, 1+i%28,
			[]string{"", "", "seen from the bank", ""}[i%4])
	})
}

func lines(path, head string, rows int, row func(out *bufio.Writer, i int)) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<20)
	fmt.Fprintln(out, head)
	for i := range rows {
		row(out, i)
	}
	return errors.Join(out.Flush(), f.Close())
}

const readingsBook = "dataset: %s\ncolumns: [{name: id, type: integer}, {name: place}, {name: label, type: integer}, {name: value, type: decimal}, {name: taken, type: date}, {name: remark}]\nmeasures: [value]\npass_mark: 0\n"

// merging compares a stack with reading and writing its rows, and joins with PostgreSQL doing the same.
func (b *bench) merging(ctx context.Context, database bool) error {
	at := func(name string) string { return filepath.Join(b.directory, name) }
	write := func(name, content string) error { return os.WriteFile(at(name), []byte(content), 0o600) }
	if err := errors.Join(readings(at("one.csv"), b.of(stackedRows), 0, b.of(millionRows)), readings(at("two.csv"), b.of(stackedRows), b.of(stackedRows), b.of(millionRows)), readings(at("five.csv"), b.of(joinedRows), 0, b.of(joinedRows)),
		lines(at("few.csv"), "place,name,river", fewPlaces, func(out *bufio.Writer, i int) { fmt.Fprintf(out, "P%03d,place number %d,Alder\n", i, i) }),
		lines(at("million.csv"), "label,says", b.of(millionRows), func(out *bufio.Writer, i int) { fmt.Fprintf(out, "%d,the label of %d\n", i, i) }),
		write("million.yaml", "dataset: million\ncolumns: [{name: label, type: integer}, {name: says}]\n"),
		write("million_join.yaml", "merge: all\nstack: [one]\njoin:\n  - {with: million, match: [label], take: [says]}\n"),
		lines(at("many.csv"), "label,says", b.of(joinedRows), func(out *bufio.Writer, i int) { fmt.Fprintf(out, "%d,the label of %d\n", i, i) }),
		write("one.yaml", fmt.Sprintf(readingsBook, "one")), write("two.yaml", fmt.Sprintf(readingsBook, "two")), write("five.yaml", fmt.Sprintf(readingsBook, "five")),
		write("few.yaml", "dataset: few\ncolumns: [{name: place}, {name: name}, {name: river}]\n"), write("many.yaml", "dataset: many\ncolumns: [{name: label, type: integer}, {name: says}]\n"),
		write("stack.yaml", "merge: all\nstack: [one, two]\norigin: source\n"),
		write("few_join.yaml", "merge: all\nstack: [five]\njoin:\n  - {with: few, match: [place], take: [name, river]}\n"),
		write("many_join.yaml", "merge: all\nstack: [five]\njoin:\n  - {with: many, match: [label], take: [says]}\n")); err != nil {
		return err
	}
	merged := func(plan string, names ...string) func() (measured, error) {
		return func() (measured, error) {
			arguments := []string{"merge", "try", at(plan), "--into", at("merged.csv"), "--workers", "2", "--json"}
			for _, name := range names {
				arguments = append(arguments, "--table", name+"="+at(name+".csv"), "--rules", name+"="+at(name+".yaml"))
			}
			return command(arguments...)
		}
	}
	var copied, stacked, few, many, million, audited measured
	if err := b.inTurn([]measuring{
		{&audited, func() (measured, error) { return sift(at("one.csv"), at("one.yaml"), 2) }},
		{&million, merged("million_join.yaml", "one", "million")},
		{&copied, func() (measured, error) {
			return copyWithStandardLibrary(at("merged.csv"), at("one.csv"), at("two.csv"))
		}},
		{&stacked, merged("stack.yaml", "one", "two")},
		{&few, merged("few_join.yaml", "five", "few")},
		{&many, merged("many_join.yaml", "five", "many")},
	}); err != nil {
		return err
	}
	bar("2 x 2 million rows stacked, in audits of one of them", stacked.took.Seconds()/audited.took.Seconds(), "times as long", 3, false)
	bar("2 million rows joined with a million, in audits of them", million.took.Seconds()/audited.took.Seconds(), "times as long", 5, false)
	bar("2 x 2 million rows stacked, against encoding/csv reading and writing them", copied.took.Seconds()/stacked.took.Seconds(), "times as fast", 1, true)
	for _, one := range []struct {
		name string
		rows int
		measured
	}{{"stacking 2 x 2 million rows", 2 * stackedRows, stacked}, {"joining 5 million rows with 1,000", joinedRows, few}, {"joining 5 million rows with 5 million", joinedRows, many}} {
		figure(one.name, one.measured, one.rows)
		bar("peak memory of it", float64(one.memory)/(1<<20), "MiB", 512, false)
	}
	if !database {
		return nil
	}
	return b.joiningInSQL(ctx, at, few, many)
}

// copyWithStandardLibrary reads tables and writes their rows into one.
func copyWithStandardLibrary(into string, from ...string) (measured, error) {
	started := time.Now()
	f, err := os.Create(into)
	if err != nil {
		return measured{}, err
	}
	out := csv.NewWriter(bufio.NewWriterSize(f, 1<<20))
	for _, path := range from {
		in, err := os.Open(path)
		if err != nil {
			return measured{}, errors.Join(err, f.Close())
		}
		rows := csv.NewReader(bufio.NewReaderSize(in, 1<<20))
		for {
			row, err := rows.Read()
			if errors.Is(err, io.EOF) {
				break
			}
			if err == nil {
				err = out.Write(row)
			}
			if err != nil {
				return measured{}, errors.Join(err, in.Close(), f.Close())
			}
		}
		_ = in.Close()
	}
	out.Flush()
	return measured{took: time.Since(started)}, errors.Join(out.Error(), f.Close())
}

// joiningInSQL has PostgreSQL take both tables in, join them, and hand the rows out.
func (b *bench) joiningInSQL(ctx context.Context, at func(string) string, few, many measured) error {
	directory, err := os.MkdirTemp(b.directory, "joins-")
	if err != nil {
		return err
	}
	if err := errors.Join(os.Chmod(b.directory, 0o711), os.Chmod(directory, 0o711)); err != nil {
		return err
	}
	conn, stop, err := passing(ctx, directory)
	if err != nil {
		return err
	}
	defer stop()
	load := func(table, columns, file string) error {
		if _, err := conn.Exec(ctx, "CREATE TABLE "+table+" ("+columns+")"); err != nil {
			return err
		}
		in, err := os.Open(file)
		if err != nil {
			return err
		}
		defer in.Close()
		_, err = conn.PgConn().CopyFrom(ctx, in, "COPY "+table+" FROM STDIN (FORMAT csv, HEADER)")
		return err
	}
	for _, one := range []struct {
		name, table, columns, query string
		ours                        measured
	}{
		{"1,000", "few", "place text, name text, river text", "SELECT r.*, name, river FROM r JOIN few USING (place)", few},
		{"5 million", "many", "label bigint, says text", "SELECT r.*, says FROM r JOIN many USING (label)", many},
	} {
		started := time.Now()
		if err := errors.Join(load("r", "id bigint, place text, label bigint, value numeric, taken date, remark text", at("five.csv")), load(one.table, one.columns, at(one.table+".csv"))); err != nil {
			return err
		}
		out, err := os.Create(at("merged.csv"))
		if err != nil {
			return err
		}
		_, err = conn.PgConn().CopyTo(ctx, out, "COPY ("+one.query+") TO STDOUT (FORMAT csv, HEADER)")
		if err := errors.Join(err, out.Close()); err != nil {
			return err
		}
		took := time.Since(started)
		bar("joining 5 million rows with "+one.name+", against PostgreSQL", took.Seconds()/one.ours.took.Seconds(), "times as fast", 5, true)
		if _, err := conn.Exec(ctx, "DROP TABLE r, "+one.table); err != nil {
			return err
		}
	}
	return nil
}
