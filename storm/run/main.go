// Command run lets a storm blow over a service of its own: make storm.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"time"

	"proudsieve/storm"
)

func main() {
	o := storm.Options{Out: os.Stdout}
	flag.StringVar(&o.Program, "program", "bin/proudsieve", "the built program")
	flag.IntVar(&o.Kills, "kills", 170, "kills under work")
	flag.IntVar(&o.FirstStarts, "first-starts", 30, "first starts that are cut off")
	flag.IntVar(&o.Callers, "callers", 4, "people who work at the same time")
	flag.DurationVar(&o.Between, "between", 2*time.Second, "the longest pause between two kills")
	flag.Uint64Var(&o.Seed, "seed", 1, "of everything that is random")
	flag.BoolVar(&o.Bucket, "bucket", false, "three nodes whose files are in a bucket of a server that fails now and then, in place of two on one directory")
	flag.StringVar(&o.Earlier, "earlier", "", "the built program of the release before, on which the nodes begin")
	longest := flag.Duration("longest", 60*time.Minute, "how long it may take")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, *longest)
	defer cancel()
	if err := blow(ctx, o); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func blow(ctx context.Context, o storm.Options) error {
	directory, err := os.MkdirTemp("", "proudsieve-storm-")
	if err != nil {
		return err
	}
	if err := os.Chmod(directory, 0o711); err != nil { // the database's user has to enter it
		return err
	}
	o.Directory = directory
	if o.Program, err = filepath.Abs(o.Program); err != nil {
		return err
	}
	if o.Earlier != "" {
		if o.Earlier, err = filepath.Abs(o.Earlier); err != nil {
			return err
		}
	}
	started := time.Now()
	r, err := storm.Run(ctx, o)
	fmt.Printf("seed %d, %s: kills %v, starts %d, accepted %v\n", o.Seed, time.Since(started).Round(time.Second),
		r.Kills, r.StartsTried, r.Accepted)
	fmt.Printf("jobs given up after %s; the last job ended %s after the last kill; files left after the sweep: %d\n",
		plural(r.GivenUp), r.SlowestEnd.Round(time.Millisecond), r.FilesLeft)
	fmt.Printf("letters and events: %d arrived, %d of them came again under the same key\n", r.Told, r.ToldAgain)
	for _, text := range r.Wrong {
		fmt.Println("wrong: " + text)
	}
	if err != nil || len(r.Wrong) > 0 {
		return errors.Join(err, fmt.Errorf("%d things are wrong; what is left is in %s", len(r.Wrong), directory))
	}
	fmt.Println("nothing is lost, doubled or stuck, and every start came up")
	return os.RemoveAll(directory)
}

func plural(n int) string { return fmt.Sprintf("five starts each: %d", n) }
