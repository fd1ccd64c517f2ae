package service_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"proudsieve/client"
	"proudsieve/service"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// onASmallDisk starts a service whose files lie on a file system of so many bytes.
func onASmallDisk(t *testing.T, size string) *servicetest.Running {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("needs to mount a small file system")
	}
	small := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+size, "tmpfs", small).
		CombinedOutput(); err != nil {
		t.Skipf("a small file system cannot be mounted here: %v: %s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", small).Run() })
	return servicetest.Start(t, func(o *service.Options) { o.Directory = small })
}

func TestAFullDisk(t *testing.T) {
	t.Parallel()
	r := onASmallDisk(t, "600k")
	declare(t, r.Steward, "rulebooks", book)
	_, err := r.Steward.Deliver(ctx, "samples", "f.csv", records.SourceNotes{},
		strings.NewReader("sample,value\n"+strings.Repeat("S1,1\n", 400_000)))
	refused(t, "a full disk", err, http.StatusInsufficientStorage, "The disk of the service is full; nothing was kept")
	if found := keptFiles(t, r.Directory); len(found) != 0 {
		t.Errorf("left behind: %v", found)
	}
	d := deliver(t, r.Steward, "samples", "sample,value\nS1,1\n")
	if a := audited(t, r.Steward, d.Table.ID); !a.HasPassed() {
		t.Errorf("afterwards a small delivery does not pass: %+v", a.Audit)
	}
}

// A fix plan or a merge for which the disk is too small leaves nothing, says so, and is done once there is room.
func TestFixPlansAndMergesOnAFullDisk(t *testing.T) {
	t.Parallel()
	r := onASmallDisk(t, "8m")
	declare(t, r.Steward, "rulebooks", book)
	declare(t, r.Steward, "fix-plans", "fix_plan: as_it_is\ndataset: samples\nsteps:\n"+
		"  - {do: trim, columns: [sample], reason: Stray spaces.}\n")
	declare(t, r.Steward, "merges", "merge: all\nstack: [samples]\n")
	var rows strings.Builder
	random := rand.New(rand.NewPCG(1, 2)) // digits that do not pack
	rows.WriteString("sample,value\n")
	for i := range 20_000 {
		fmt.Fprintf(&rows, " S%d,%d\n", i, random.Uint64N(1e12))
	}
	d := deliver(t, r.Steward, "samples", rows.String())
	audited(t, r.Steward, d.Table.ID)
	filler := filepath.Join(r.Directory, "filler")
	for _, asked := range []struct {
		what string
		ask  func() (*records.Job, error)
	}{
		{"a fix plan", func() (*records.Job, error) {
			return r.Steward.ApplyFix(ctx, d.Table.ID, client.PlannedBody{FixPlan: "as_it_is"})
		}},
		{"a merge", func() (*records.Job, error) { return r.Steward.RunMerge(ctx, "all", client.RunBody{}) }},
	} {
		fill(t, filler)
		before := keptFiles(t, r.Directory)
		job, err := asked.ask()
		if err != nil {
			t.Fatal(err)
		}
		_, err = r.Steward.Follow(ctx, job.ID, nil)
		var failed *client.JobFailed
		if !errors.As(err, &failed) || !strings.Contains(failed.Error(), "The disk of the service is full; nothing was kept. Free some space") {
			t.Errorf("%s on a full disk: %v", asked.what, err)
		}
		if after := keptFiles(t, r.Directory); !slices.Equal(after, before) {
			t.Errorf("%s left files behind: %v, before %v", asked.what, after, before)
		}
		if err := os.Remove(filler); err != nil {
			t.Fatal(err)
		}
		job, err = asked.ask()
		if a := audited(t, r.Steward, madeBy(t, r, job, err).ID); a.Rows != 20_000 {
			t.Errorf("%s, once there is room: %+v", asked.what, a.Audit)
		}
	}
}

// fill writes a file until its disk has no more room.
func fill(t *testing.T, path string) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	for err == nil {
		_, err = f.Write(make([]byte, 64<<10))
	}
	if !errors.Is(err, syscall.ENOSPC) {
		t.Fatal(err)
	}
}
