package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"proudsieve/client"
	"proudsieve/postgres"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

const (
	pagesAsked    = 200
	requestsASec  = 200
	secondsAsked  = 5
	pageOfRows    = "/tables/%d/rows?limit=100&offset=%d"
	rareCondition = "value > 899.9"
)

// serving starts a service and takes a table in through it.
func (b *bench) serving(ctx context.Context, table string, ask func(c *client.Client, table int64) error) error {
	directory, err := os.MkdirTemp(b.directory, "service-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(directory)
	if err := errors.Join(os.Chmod(b.directory, 0o711), os.Chmod(directory, 0o711)); err != nil {
		return err
	}
	database, err := postgres.Start(ctx, postgres.Options{Directory: filepath.Join(directory, "postgres"),
		Passing: true})
	if err != nil {
		return err
	}
	defer func() { _ = database.Stop() }()
	running, err := service.Start(ctx, service.Options{DatabaseURL: database.URL(), Directory: directory,
		Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer func() { _ = running.Stop() }()
	token, err := os.ReadFile(service.TokenFile(directory))
	if err != nil {
		return err
	}
	c := &client.Client{Server: running.URL(), Token: strings.TrimSpace(string(token))}
	if _, err := c.Declare(ctx, "rulebooks", []byte(rules)); err != nil {
		return err
	}
	in, err := os.Open(table)
	if err != nil {
		return err
	}
	defer in.Close()
	started := time.Now()
	delivered, err := c.Deliver(ctx, "bench", "table.csv", records.SourceNotes{}, in)
	if err != nil {
		return err
	}
	b.uploaded = time.Since(started)
	if _, err := c.AuditOf(ctx, delivered.Table.ID, nil); err != nil {
		return err
	}
	fmt.Printf("%-58s %8.2f s, and its audit is there after %.2f s\n", "upload to the service", b.uploaded.Seconds(),
		time.Since(started).Seconds())
	return ask(c, delivered.Table.ID)
}

// paging asks for pages of the rows of the table, and for lists.
func (b *bench) paging(ctx context.Context, c *client.Client, table int64) error {
	if err := b.pages(ctx, c, table); err != nil {
		return err
	}
	least, err := best(3, func() (measured, error) { return lists(ctx, c, table) })
	if err != nil {
		return err
	}
	bar(fmt.Sprintf("99 of 100 lists, at %d requests a second", requestsASec), least.took.Seconds()*1000, "ms", 20,
		false)
	return nil
}

func (b *bench) pages(ctx context.Context, c *client.Client, table int64) error {
	r := rand.New(rand.NewPCG(1, 2))
	var slowest, slowestRare time.Duration
	ask := func(path string) (time.Duration, error) {
		started := time.Now()
		raw, err := c.Call(ctx, "GET", path, nil)
		page, err := client.Decode[api.RowsPage](&raw, err)
		if err == nil && len(page.Rows) == 0 {
			err = fmt.Errorf("%s has no rows", path)
		}
		return time.Since(started), err
	}
	for i := range pagesAsked {
		offset := r.IntN(b.rows - 100)
		if i == 0 {
			offset = b.rows - 100 // the last one first
		}
		took, err := ask(fmt.Sprintf(pageOfRows, table, offset))
		if err != nil {
			return err
		}
		slowest = max(slowest, took)
	}
	first, err := ask(fmt.Sprintf(pageOfRows, table, 0) + "&where=" + strings.ReplaceAll(rareCondition, " ", "%20"))
	if err != nil {
		return err
	}
	for range pagesAsked / 4 {
		took, err := ask(fmt.Sprintf(pageOfRows, table, r.IntN(b.rows/20_000+1)) + "&where=" +
			strings.ReplaceAll(rareCondition, " ", "%20"))
		if err != nil {
			return err
		}
		slowestRare = max(slowestRare, took)
	}
	bar(fmt.Sprintf("slowest of %d pages of rows, anywhere in the table", pagesAsked), slowest.Seconds()*1000, "ms", 50,
		false)
	bar("slowest page of scattered rows for which a condition holds", slowestRare.Seconds()*1000, "ms", 50, false)
	fmt.Printf("%-58s %8.2f s\n", "finding those rows, the first time", first.Seconds())
	return nil
}

// lists asks for lists at a steady rate and returns what 99 of 100 answers took at most.
func lists(ctx context.Context, c *client.Client, table int64) (measured, error) {
	paths := []string{"/datasets", "/datasets/bench/tables", "/audits", "/issues", "/jobs", "/certificates", "/history",
		fmt.Sprintf("/tables/%d", table)}
	var (
		mutex sync.Mutex
		took  []time.Duration
		wrong error
		group sync.WaitGroup
	)
	ticker := time.NewTicker(time.Second / requestsASec)
	defer ticker.Stop()
	for i := range requestsASec * secondsAsked {
		<-ticker.C
		group.Go(func() {
			started := time.Now()
			err := get(ctx, c, paths[i%len(paths)])
			mutex.Lock()
			defer mutex.Unlock()
			took = append(took, time.Since(started))
			if err != nil {
				wrong = err
			}
		})
	}
	group.Wait()
	slices.Sort(took)
	return measured{took: took[len(took)*99/100]}, wrong
}

func get(ctx context.Context, c *client.Client, path string) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Server+api.Prefix+path, nil)
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+c.Token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err := io.Copy(io.Discard, response.Body); err != nil {
		return err
	}
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answers %s", path, response.Status)
	}
	return nil
}
