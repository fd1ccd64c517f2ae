// Command run shows tables judged where they lie, on three servers of ClickHouse beside the demo: make demo-sharded.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"proudsieve/client"
	"proudsieve/demo/sharded"
	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/service"
	"proudsieve/service/records"
)

func main() {
	program := flag.String("program", "bin/proudsieve", "the built program")
	listen := flag.String("listen", "127.0.0.1:7305", "where the service listens")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := show(ctx, *program, *listen); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func show(ctx context.Context, program, listen string) error {
	directory, err := os.MkdirTemp("", "proudsieve-sharded-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(directory)
	if err := os.Chmod(directory, 0o711); err != nil { // the database's user has to enter it
		return err
	}
	fmt.Println("Starting three servers of ClickHouse, and making the readings …")
	shards := filepath.Join(directory, "servers")
	if err := os.Mkdir(shards, 0o700); err != nil {
		return err
	}
	servers, end, err := enginetest.Launch(ctx, shards, sharded.Servers)
	if err != nil {
		return err
	}
	defer end()
	for i := range sharded.Servers {
		if err := servers.Run(ctx, i, sharded.Statements(i)...); err != nil {
			return err
		}
	}
	data := filepath.Join(directory, "data")
	up := exec.Command(program, "up", "--demo", "--data", data, "--listen", listen)
	says, err := up.StdoutPipe()
	if err != nil {
		return err
	}
	up.Stderr = os.Stderr
	up.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for this program, which ends it in order
	if err := up.Start(); err != nil {
		return err
	}
	loaded, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		pass(says, loaded)
		ended <- up.Wait()
	}()
	select {
	case <-ctx.Done():
		err = ctx.Err()
	case err = <-ended:
		return fmt.Errorf("the service ended: %w", err)
	case <-loaded:
		err = judge(ctx, servers.Nodes[0], "http://"+listen, data)
	}
	if err == nil {
		select {
		case <-ctx.Done():
		case err = <-ended:
			return err
		}
	}
	return errors.Join(err, up.Process.Signal(syscall.SIGTERM), <-ended)
}

// judge declares the database and the dataset, has the table judged, and says what to look at.
func judge(ctx context.Context, from engine.Database, server, data string) error {
	token, err := os.ReadFile(service.TokenFile(data))
	if err != nil {
		return err
	}
	admin := &client.Client{Server: server, Token: strings.TrimSpace(string(token))}
	declared := client.NewDatabase{Name: "gauges", Engine: from.Engine, Host: from.Host, Port: from.Port, Database: "vale", Login: from.User, TimeoutMinutes: 10}
	if _, err := admin.AddDatabase(ctx, declared); err != nil {
		return err
	}
	if _, err := admin.Declare(ctx, "rulebooks", []byte(sharded.Rulebook())); err != nil {
		return err
	}
	began, err := admin.AddFetch(ctx, "gauge_network", records.NewFetch{Relation: records.Relation{Database: "gauges", Schema: "vale", Table: "readings", InPlace: true}})
	if err != nil {
		return err
	}
	job, err := admin.Follow(ctx, began.Job.ID, nil)
	if err != nil {
		return err
	}
	if job.ResultTable == nil {
		return fmt.Errorf("job %d made no delivery", job.ID)
	}
	if _, err := admin.AuditOf(ctx, *job.ResultTable, nil); err != nil {
		return err
	}
	say(os.Stdout, server, *job.ResultTable)
	return nil
}

func say(out io.Writer, server string, table int64) {
	fmt.Fprintf(out, "\nThe readings of three servers were judged where they lie: %s/tables/%d\nWhat was planted among them:\n", server, table)
	for _, one := range sharded.All {
		fmt.Fprintf(out, "  %-16s %2d rows  %s\n", one.Rule, one.Rows, one.Says)
	}
	fmt.Fprintln(out, "Everything is gone when this ends: Ctrl-C.")
}

// pass prints what the service says, and closes loaded with the last line of its start.
func pass(says io.Reader, loaded chan struct{}) {
	for in := bufio.NewScanner(says); in.Scan(); {
		fmt.Println(in.Text())
		if in.Text() == "Ctrl-C stops it." {
			close(loaded)
		}
	}
}
