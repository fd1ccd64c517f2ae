package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"proudsieve/browser"
	"proudsieve/client"
	"proudsieve/service/records"
)

const (
	wideColumns = 60
	wideRows    = 50_000
)

// wide takes a table of many columns in through the service and returns its number.
func (b *bench) wide(ctx context.Context, c *client.Client) (int64, error) {
	path := filepath.Join(b.directory, "wide.csv")
	if err := generateChannels(path); err != nil {
		return 0, err
	}
	in, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	if _, err := c.Declare(ctx, "rulebooks", []byte("dataset: wide\ncolumns: [{name: id, required: true}]\nkeys: [{id: one_row, columns: [id]}]\n")); err != nil {
		return 0, err
	}
	d, err := c.Deliver(ctx, "wide", "wide.csv", records.SourceNotes{}, in)
	if err != nil {
		return 0, err
	}
	_, err = c.AuditOf(ctx, d.Table.ID, nil)
	return d.Table.ID, err
}

func generateChannels(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	r := rand.New(rand.NewPCG(60, 12))
	fmt.Fprint(w, "id")
	for c := range wideColumns - 1 {
		fmt.Fprintf(w, ",channel_%02d", c)
	}
	for i := range wideRows {
		fmt.Fprintf(w, "\n%d", i)
		for c := range wideColumns - 1 {
			switch {
			case r.IntN(20) == 0:
				fmt.Fprint(w, ",")
			case c%3 == 0:
				fmt.Fprintf(w, ",%s", []string{"Alder", "Bram", "Coll", "Dunn"}[r.IntN(4)])
			default:
				fmt.Fprintf(w, ",%.2f", r.NormFloat64()*10)
			}
		}
	}
	return errors.Join(w.Flush(), f.Close())
}

// seen is what a page did to whoever waited for it.
type seen struct {
	Task  float64 // the longest task, in milliseconds
	Shift float64 // by how much what was there moved, without a hand at work (Layout Instability)
}

// noted collects long tasks and shifts, also those of before it is asked.
const noted = `new Promise((done) => { let task = 0, shift = 0;
	new PerformanceObserver((l) => l.getEntries().forEach((e) => { task = Math.max(task, e.duration) })).observe({ type: "longtask", buffered: true });
	new PerformanceObserver((l) => l.getEntries().forEach((e) => { if (!e.hadRecentInput) shift += e.value })).observe({ type: "layout-shift", buffered: true });
	setTimeout(() => done({ Task: task, Shift: shift }), 800); })`

// browsing opens pages in a browser, as a person would who comes in the morning: nothing is in its cache.
func (b *bench) browsing(ctx context.Context, c *client.Client, long int64) error {
	wide, err := b.wide(ctx, c)
	if err != nil {
		return err
	}
	tab, stop, err := browser.Start(ctx)
	if errors.Is(err, browser.ErrNotInstalled) {
		fmt.Println("the console is not measured:", err)
		return nil
	}
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(browser.Width, browser.Height),
		chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, network.SetCacheDisabled, network.SetCacheDisabledParams{CacheDisabled: true})
			return err
		}),
		chromedp.Navigate(c.Server), chromedp.WaitVisible(chromedp.CSS("#token")),
		chromedp.SendKeys(chromedp.CSS("#token"), c.Token), chromedp.Click(chromedp.CSS(`button[type="submit"]`)),
		chromedp.WaitVisible(chromedp.CSS("main h1"))); err != nil {
		return err
	}
	first, err := best(b.rounds, func() (measured, error) {
		started := time.Now()
		err := chromedp.Do(tab, chromedp.Navigate(c.Server+"/"), chromedp.WaitVisible(chromedp.CSS(`section[aria-label="Datasets"] td`)))
		return measured{took: time.Since(started)}, err
	})
	if err != nil {
		return err
	}
	bar("first view of the console, nothing in the cache", first.took.Seconds(), "s", 1, false)
	script, err := chromedp.Run(tab, chromedp.Evaluate[float64](
		`performance.getEntriesByType("resource").filter((e) => e.initiatorType === "script" || e.name.endsWith(".js")).reduce((n, e) => n + e.encodedBodySize, 0) / 1000`))
	if err != nil {
		return err
	}
	bar("script for it, as it is sent", script, "kB", 300, false)
	for _, page := range []struct{ what, path, await, then string }{
		{fmt.Sprintf("overview of %d columns", wideColumns), fmt.Sprintf("/tables/%d", wide), "main tbody tr", ""},
		{fmt.Sprintf("rows of %d columns, to the last", wideColumns), fmt.Sprintf("/tables/%d?view=rows", wide), `[aria-label="Rows"] tbody tr`,
			`(() => { const g = document.querySelector('[aria-label="Rows"]'); g.scrollLeft = g.scrollWidth; })()`},
		{fmt.Sprintf("rows of %d, to the middle and the end", b.rows), fmt.Sprintf("/tables/%d?view=rows", long), `[aria-label="Rows"] tbody tr`,
			`(async () => { const g = document.querySelector('[aria-label="Rows"]'); for (const part of [0.5, 0.9, 0.1, 1]) { g.scrollTop = g.scrollHeight * part; await new Promise((r) => setTimeout(r, 200)); } })()`},
	} {
		steps := []chromedp.Action[chromedp.Void]{chromedp.Navigate(c.Server + page.path), chromedp.WaitVisible(chromedp.CSS(page.await)),
			chromedp.Sleep(500 * time.Millisecond)}
		if page.then != "" {
			steps = append(steps, chromedp.Evaluate[chromedp.Void](page.then), chromedp.Sleep(1500*time.Millisecond))
		}
		if err := chromedp.Do(tab, steps...); err != nil {
			return err
		}
		got, err := chromedp.Run(tab, chromedp.Evaluate[seen](noted, chromedp.EvalAwaitPromise))
		if err != nil {
			return err
		}
		bar(page.what+": longest task", got.Task, "ms", 200, false)
		bar(page.what+": shift", got.Shift, "", 0.1, false)
	}
	return nil
}
