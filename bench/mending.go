package main

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"proudsieve/client"
	"proudsieve/service/records"
)

// sixSteps is a fix plan of what stewards do most: texts, codes, rows that are there twice, one of several, gaps, and the
// standard form.
const sixSteps = `fix_plan: six_steps
dataset: bench
steps:
  - {do: trim, columns: [station, crew, remark], reason: Stray spaces.}
  - {do: map_codes, columns: [parameter], reason: Other spellings.}
  - {do: remove_equal_rows, reason: Twice.}
  - {do: keep_one, columns: [id], survivor: largest_value, by: received, ties: earliest_row, reason: The latest counts.}
  - {do: set_missing, columns: [value], where: value > 990, reason: Out of range.}
  - {do: standard_form, reason: For everybody.}
`

// mendedRows is how many rows the table has that is put right.
const mendedRows = 2_000_000

// of is so many rows or bytes, or a tenth of them where it has to be quick.
func (b *bench) of(many int) int {
	if b.quick {
		return many / 10
	}
	return many
}

// mending compares a fix plan of six steps, with the audit of the table that it makes, with the audit of the table that
// arrived. A preview is the same work.
func (b *bench) mending(ctx context.Context) error {
	path, plan, into := filepath.Join(b.directory, "mended.csv"), filepath.Join(b.directory, "plan.yaml"), filepath.Join(b.directory, "cleaned.csv")
	if err := generate(path, b.of(mendedRows)); err != nil {
		return err
	}
	defer os.Remove(path)
	if err := os.WriteFile(plan, []byte(sixSteps), 0o600); err != nil {
		return err
	}
	var audit, applied measured
	if err := b.inTurn([]measuring{
		{&audit, func() (measured, error) { return sift(path, b.book, 2) }},
		{&applied, func() (measured, error) {
			return command("fix-plan", "try", path, "--rules", b.book, "--plan", plan, "--into", into, "--workers", "2", "--json")
		}},
	}); err != nil {
		return err
	}
	bar("fix plan of six steps, 2 million rows, against one audit", applied.took.Seconds()/audit.took.Seconds(), "times as long", 3, false)
	bar("peak memory of it", float64(applied.memory)/(1<<20), "MiB", 512, false)
	figure("fix plan of six steps, two workers", applied, b.of(mendedRows))
	return b.serving(ctx, path, b.previewing)
}

// inTheService compares what is asked of a table of 2 million rows in the service with an audit of it there, that with an audit
// without any service, and the upload with the digest of the file.
func (b *bench) inTheService(ctx context.Context) error {
	path := filepath.Join(b.directory, "asked.csv")
	if err := generate(path, b.of(mendedRows)); err != nil {
		return err
	}
	defer os.Remove(path)
	bare, err := best(min(b.rounds, 3), func() (measured, error) { return command("sift", path, "--rules", b.book, "--json", "--workers", "2") })
	if err != nil {
		return err
	}
	digested, err := best(min(b.rounds, 3), func() (measured, error) {
		started := time.Now()
		f, err := os.Open(path)
		if err != nil {
			return measured{}, err
		}
		defer f.Close()
		_, err = io.Copy(sha256.New(), f)
		return measured{took: time.Since(started)}, err
	})
	if err != nil {
		return err
	}
	return b.serving(ctx, path, func(c *client.Client, table int64) error {
		bar("upload, against the digest of the file", b.uploaded.Seconds()/digested.took.Seconds(), "times as long", 1.2, false)
		if err := b.questioning(ctx, c, table, bare); err != nil {
			return err
		}
		return b.pagesOfFormats(ctx, c)
	})
}

// previewing compares previews of the plan, and of one with another last step, with the audit of the table that arrived, as
// jobs of the service.
func (b *bench) previewing(c *client.Client, table int64) error {
	ctx := context.Background()
	job := func(start func() (*records.Job, error)) func() (measured, error) {
		return func() (measured, error) {
			j, err := start()
			if err == nil {
				j, err = c.Follow(ctx, j.ID, nil)
			}
			if err != nil {
				return measured{}, err
			}
			return measured{took: j.EndedAt.Sub(*j.StartedAt)}, nil
		}
	}
	round, plan := 0, ""
	var audit, first, again measured
	if err := b.inTurn([]measuring{
		{&audit, job(func() (*records.Job, error) { return c.StartAudit(ctx, table) })},
		{&first, job(func() (*records.Job, error) {
			round++ // another plan from its first step on, of which nothing is known
			plan = strings.Replace(sixSteps, "Stray spaces.", fmt.Sprintf("Stray spaces (look %d).", round), 1)
			return c.PreviewFix(ctx, table, client.PreviewedBody{Source: plan})
		})},
		{&again, job(func() (*records.Job, error) {
			return c.PreviewFix(ctx, table, client.PreviewedBody{Source: strings.Replace(plan, "value > 990", "value > 980", 1)})
		})},
	}); err != nil {
		return err
	}
	bar("preview of the six steps, against the audit", first.took.Seconds()/audit.took.Seconds(), "times as long", 3, false)
	bar("preview again, with one of them changed", again.took.Seconds()/audit.took.Seconds(), "times as long", 1.5, false)
	return nil
}
