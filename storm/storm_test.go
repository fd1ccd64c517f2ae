package storm

import (
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// The short form of make storm.
func TestNothingIsLostDoubledOrStuckInAShortStorm(t *testing.T) {
	directory, err := os.MkdirTemp("", "proudsieve-storm-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(directory) })
	if err := os.Chmod(directory, 0o711); err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(directory, "proudsieve")
	if out, err := exec.Command("go", "build", "-o", program, "proudsieve/cmd/proudsieve").
		CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	r, err := Run(ctx, Options{Program: program, Directory: directory, Seed: 3, Kills: 8, FirstStarts: 2, Callers: 3,
		Between: time.Second, Out: io.Discard})
	if err != nil || len(r.Wrong) > 0 {
		t.Fatalf("%v, %v\n%+v", r.Wrong, err, r)
	}
	if r.Accepted["delivery"] == 0 || r.Accepted["job"] == 0 {
		t.Errorf("nobody worked: %+v", r)
	}
	if r.Told == 0 {
		t.Errorf("nobody was told: %+v", r)
	}
}
