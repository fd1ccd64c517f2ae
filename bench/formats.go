package main

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/zstd"

	"proudsieve/client"
	"proudsieve/core/audit"
	"proudsieve/core/export"
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/service/records"
)

// formatRows is how many rows the table has that is read in every format.
const formatRows = 200_000

// inFormats are the others, and how fast, in rows and in times of CSV, a table in each is to be read.
var inFormats = []struct {
	ending string
	times  float64
}{{".jsonl", 0.4}, {".parquet", 1}, {".csv.gz", 0.8}, {".csv.zst", 0.8}, {".xlsx", 0.1}}

// ofFormats compares profiles of one table in several formats.
func (b *bench) ofFormats(ctx context.Context) error {
	var plain measured
	path, err := b.inEveryFormat(ctx)
	if err != nil {
		return err
	}
	if plain, err = best(min(b.rounds, 3), func() (measured, error) { return sift(path+".csv", "", 2) }); err != nil {
		return err
	}
	figure("profile of a table as .csv", plain, b.of(formatRows))
	for _, f := range inFormats {
		var again, other measured
		if err := (&bench{rounds: min(b.rounds, 3)}).inTurn([]measuring{
			{&again, func() (measured, error) { return sift(path+".csv", "", 2) }},
			{&other, func() (measured, error) { return sift(path+f.ending, "", 2) }},
		}); err != nil {
			return err
		}
		times := f.times
		if unpack := unpackers[filepath.Ext(f.ending)]; unpack != nil { // nobody reads it faster than it can be unpacked
			unpacked, err := best(min(b.rounds, 3), func() (measured, error) { return unpacking(path+f.ending, unpack) })
			if err != nil {
				return err
			}
			times = min(times, again.took.Seconds()/unpacked.took.Seconds())
		}
		bar("profile of it as "+f.ending, again.took.Seconds()/other.took.Seconds(), "times as fast", times, true)
	}
	return nil
}

// unpackers unpack what is packed.
var unpackers = map[string]func(io.Reader) (io.Reader, error){
	".gz": func(in io.Reader) (io.Reader, error) { return gzip.NewReader(in) },
	".zst": func(in io.Reader) (io.Reader, error) {
		return zstd.NewReader(in, zstd.WithDecoderConcurrency(1))
	},
}

// unpacking measures the unpacking of a file alone.
func unpacking(path string, unpack func(io.Reader) (io.Reader, error)) (measured, error) {
	started := time.Now()
	f, err := os.Open(path)
	if err != nil {
		return measured{}, err
	}
	defer f.Close()
	text, err := unpack(f)
	if err == nil {
		_, err = io.Copy(io.Discard, text)
	}
	return measured{took: time.Since(started)}, err
}

// inEveryFormat writes a table in each format, and returns the path without the endings.
func (b *bench) inEveryFormat(ctx context.Context) (string, error) {
	path := filepath.Join(b.directory, "format")
	m := &mixes[1]
	if _, err := os.Stat(path + ".xlsx"); err == nil {
		return path, nil
	}
	k, r := m.kind(), rand.New(rand.NewPCG(5, 5))
	f, err := os.Create(path + ".csv")
	if err != nil {
		return "", err
	}
	for row := -1; row < b.of(formatRows); row++ {
		line := ""
		for c := range k.columns {
			if c > 0 {
				line += ","
			}
			if row < 0 {
				line += fmt.Sprintf("c%d", c)
			} else {
				line += k.cell(r, row, c)
			}
		}
		if _, err := f.WriteString(line + "\n"); err != nil {
			return "", errors.Join(err, f.Close())
		}
	}
	if err := f.Close(); err != nil {
		return "", err
	}
	open := func(offset int64) (io.ReadCloser, error) {
		f, err := os.Open(path + ".csv")
		if err == nil {
			_, err = f.Seek(offset, io.SeekStart)
		}
		return f, err
	}
	source, err := intake.Open(ctx, open, intake.Reading{Dates: []string{"dd/MM/yyyy"}}.WithDefaults())
	if err != nil {
		return "", err
	}
	defer source.Close()
	book, err := rulebook.Parse([]byte("dataset: mix\nreading: {dates: [dd/MM/yyyy]}\ncolumns: [{name: c0}]\n"))
	if err == nil {
		book, err = audit.WithOpen(ctx, book, source)
	}
	if err != nil {
		return "", err
	}
	for _, one := range inFormats {
		format, packing := export.ByName(path + one.ending)
		file, err := export.Measure(ctx, source, book, &export.Asked{Format: format, Packing: packing, Mixed: true, Exact: true, Title: "table", Workers: 2})
		if err != nil {
			return "", err
		}
		out, err := os.Create(path + one.ending)
		if err != nil {
			return "", err
		}
		if err := errors.Join(file.Write(ctx, out), out.Close()); err != nil {
			return "", err
		}
	}
	return path, nil
}

// pagesOfFormats asks for pages of rows, anywhere, of a delivery in each format; the first one opens it.
func (b *bench) pagesOfFormats(ctx context.Context, c *client.Client) error {
	path, err := b.inEveryFormat(ctx)
	if err != nil {
		return err
	}
	if _, err := c.Declare(ctx, "rulebooks", []byte("dataset: formats\nreading: {dates: [dd/MM/yyyy]}\ncolumns: [{name: c0}]\n")); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(7, 9))
	for _, one := range inFormats {
		f, err := os.Open(path + one.ending)
		if err != nil {
			return err
		}
		d, err := c.Deliver(ctx, "formats", "format"+one.ending, records.SourceNotes{}, f)
		_ = f.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", one.ending, err)
		}
		if _, err := c.AuditOf(ctx, d.Table.ID, nil); err != nil {
			return err
		}
		slowest := time.Duration(0)
		for i := range 20 {
			offset := r.IntN(b.of(formatRows) - 100)
			if i == 0 {
				offset = b.of(formatRows) - 100
			}
			started := time.Now()
			if _, err := c.Call(ctx, "GET", fmt.Sprintf(pageOfRows, d.Table.ID, offset), nil); err != nil {
				return err
			}
			if i > 0 {
				slowest = max(slowest, time.Since(started))
			}
		}
		bar("slowest page of rows of "+one.ending+", once opened", slowest.Seconds()*1000, "ms", 50, false)
	}
	return nil
}

// askedOfRows are questions asked of a table of 2 million rows, in audits of that table.
var askedOfRows = []struct {
	name, path string
	audits     float64
}{
	{"rows for which a condition holds", "rows?where=" + url.QueryEscape("value > 899.5 AND station <> 'AV-001'"), 0.5},
	{"rows with a text", "rows?find=000199", 1},
	{"rows in order", "rows?sort=value", 1},
	{"groups of two columns", "groups?columns=station&columns=sampled", 1.5},
	{"keys", "keys", 3},
	{"correlations", "correlations", 1.5},
	{"codes of a column", "codes?column=station", 0.3},
	{"tally of a column", "tally?by=station&measure=mean%20value", 1},
}

// questioning measures questions of a table of the service; each is asked once, since answers are kept.
func (b *bench) questioning(ctx context.Context, c *client.Client, table int64, bare measured) error {
	audited, err := best(min(b.rounds, 3), func() (measured, error) {
		j, err := c.StartAudit(ctx, table)
		if err == nil {
			j, err = c.Follow(ctx, j.ID, nil)
		}
		if err != nil {
			return measured{}, err
		}
		return measured{took: j.EndedAt.Sub(*j.StartedAt)}, nil
	})
	if err != nil {
		return err
	}
	bar("an audit through the service, against one without", audited.took.Seconds()/bare.took.Seconds(), "times as long", 1.1, false)
	for _, q := range askedOfRows {
		started := time.Now()
		if _, err := c.Call(ctx, "GET", fmt.Sprintf("/tables/%d/", table)+q.path, nil); err != nil {
			return fmt.Errorf("%s: %w", q.name, err)
		}
		took := measured{took: time.Since(started)}
		bar(q.name+", against the audit", took.took.Seconds()/audited.took.Seconds(), "times as long", q.audits, false)
	}
	return nil
}
